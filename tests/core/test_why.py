"""A proof that fails says what was written and what stood there, and the line that would explain it.

The layouts of the cookbook are made wrong on purpose, in the ways in which people get them wrong; what is proposed
is taken, and must lead to a proof. The archives are written by the families' own writers.
"""

from __future__ import annotations

import re
from dataclasses import replace

import pytest

from brae.core.containers.evidence import judge
from brae.core.errors import FormatError
from brae.core.structure.workshop import mend
from tests.core.families import BY_NAME, Family, members_for

#: a layout, what is changed in it, and the field in which the proof fails
WRONG = [
    ("footer", "is: offset(entries)", "is: offset(data)"),
    ("footer", "is: count(entries)", "is: size(entries)"),
    ("middle", "is: size(names)", "is: count(entries)"),
    ("middle", "is: size(entries)", "is: size(entries) - 12"),
    ("middle", "is: offset(names)", "is: end(names)"),
    ("bundle", "is: size(names)", "is: size(names) - 3"),
    ("checks", "kind: sha1", "kind: xxh64"),
    ("checks", "kind: xor16le, over: stored", "kind: crc16-arc, over: stored"),
    ("checks", "kind: fletcher32", "kind: adler32"),
    ("checks", "over: {from: 36}", "over: {from: 40}"),
    ("checks", "over: [count, entries]", "over: [entries]"),
    ("blocks-counted", "is: (stored_size + 511) // 512", "is: (stored_size + 1023) // 1024"),
    ("blocks-counted", "is: end_offset", "is: offset"),
]


def _wrong(family: Family, right: str, wrong: str) -> tuple[str, Family]:
    assert right in family.layout, f"{family.name} does not say '{right}'"
    text = family.layout.replace(right, wrong, 1)
    return text, replace(family, layout=text)


@pytest.mark.parametrize(("name", "right", "wrong"), WRONG)
def test_what_is_proposed_leads_to_a_proof(name: str, right: str, wrong: str) -> None:
    family = BY_NAME[name]
    files = family.write(members_for(family))
    text, broken = _wrong(family, right, wrong)
    proof, _ = judge(broken.open(files))
    assert not proof.exact
    assert proof.remedy is not None, proof.reason
    assert proof.field is not None
    mended = mend(text, proof.field, proof.remedy)
    again, _ = judge(replace(family, layout=mended).open(files))
    assert again.exact, again.reason


def test_both_values_are_told_in_hex_and_as_numbers() -> None:
    family = BY_NAME["middle"]
    files = family.write(members_for(family))
    _, broken = _wrong(family, "is: size(names)", "is: size(names) + 2")
    proof, _ = judge(broken.open(files))
    assert proof.field == "names_size"
    assert proof.wrote is not None
    assert proof.stood is not None
    wrote, stood = int(proof.wrote.replace(" ", ""), 16), int(proof.stood.replace(" ", ""), 16)
    assert wrote == stood + 2
    words = proof.reason or ""
    assert f"({wrote:,})" in words
    assert f"({stood:,})" in words
    assert proof.stood.upper() in words
    assert re.search(r"differs from the original at \d+, in names_size\.", words)


def test_a_records_field_is_named_with_its_record() -> None:
    family = BY_NAME["blocks-counted"]
    files = family.write(members_for(family))
    _, broken = _wrong(family, "is: (stored_size + 511) // 512", "is: (stored_size + 511) // 512 + 1")
    proof, _ = judge(broken.open(files))
    assert re.fullmatch(r"\w+\[\d+\]\.\w+|.*record.*", proof.field or ""), proof.field


def test_what_nothing_explains_has_no_line() -> None:
    family = BY_NAME["middle"]
    files = family.write(members_for(family))
    data = bytearray(files["main"])
    at = data.index(b"MIDL")
    data[at + 16 : at + 20] = b"\x7f\xff\x12\x34"  # the names' size: nothing that is there
    _, broken = _wrong(family, "is: size(names)", "is: count(entries)")
    text = broken.layout.replace("size: names_size", "count: 9")
    proof, _ = judge(replace(family, layout=text).open({"main": bytes(data)}))
    assert not proof.exact
    assert proof.remedy is None


def test_only_a_line_that_says_something_is_changed() -> None:
    text = BY_NAME["middle"].layout
    with pytest.raises(FormatError, match="no line"):
        mend(text, "magic", "is: 4")
    with pytest.raises(FormatError, match="no line"):
        mend(text, "nothing_there", "is: 4")
