"""The workshop: a description as it grows, over the archives of every family."""

from __future__ import annotations

import math
import random
import struct

import pytest
from hypothesis import given
from hypothesis import strategies as st

from brae.core.containers.base import Proof
from brae.core.errors import BraeError, FormatError
from brae.core.layouts.load import lines_of_parts
from brae.core.sources import ByteSource, BytesSource
from brae.core.structure.workshop import beginning, entropy, find_bytes, look, say, window
from tests.core.families import BY_NAME, FAMILIES, Family, members_for

SOURCES: dict[str, dict[str, ByteSource]] = {
    family.name: {file: BytesSource(data) for file, data in family.write(members_for(family)).items()}
    for family in FAMILIES
}


@pytest.mark.parametrize("family", FAMILIES, ids=lambda family: family.name)
def test_every_byte_of_a_file_is_in_exactly_one_span(family: Family) -> None:
    sources = SOURCES[family.name]
    found = look(family.layout, sources)
    assert found.error is None
    assert found.proof == Proof(True, len(members_for(family)))
    assert found.members == len(members_for(family)) == len(found.rows)
    # Numbered files are seen as one.
    for file, spans in found.spans.items():
        size = sum(source.size for name, source in sources.items() if name.partition(".")[0] == file)
        assert [span.start for span in spans[1:]] == [span.end for span in spans[:-1]]
        assert (spans[0].start, spans[-1].end) == (0, size)
    assert all(0 < share <= 1 for share in found.explained.values())


@pytest.mark.parametrize("family", FAMILIES, ids=lambda family: family.name)
def test_a_description_that_is_cut_anywhere_is_read_as_far_as_it_goes(family: Family) -> None:
    lines = family.layout.strip("\n").split("\n")
    sources = SOURCES[family.name]
    for count in range(len(lines) + 1):
        found = look("\n".join(lines[:count]), sources)
        assert found.error is not None or found.proof is not None
        for source in sources.values():
            window("\n".join(lines[:count]), sources, "main", max(source.size // 2 - 20, 0), 64)


def test_an_error_names_its_line() -> None:
    text = BY_NAME["flat"].layout.replace(
        "- {field: count, type: u16, is: count(entries)}",
        "- {field: count, type: u16, is: count(entries), value: 3}",
    )
    found = look(text, SOURCES["flat"])
    assert found.error is not None
    assert found.error.line == lines_of_parts(text)[1]
    late = look(
        BY_NAME["flat"].layout.replace("length: 24, role: name", "length: 2400, role: name"), SOURCES["flat"]
    )
    assert late.error is not None
    assert late.error.line == lines_of_parts(BY_NAME["flat"].layout)[5]


def test_fields_lie_over_the_bytes_they_come_from() -> None:
    data, fields = window(BY_NAME["flat"].layout, SOURCES["flat"], "main", 0, 96)
    values = {one.name: (data[one.start : one.end], one.value) for one in fields if one.end <= 96}
    members = members_for(BY_NAME["flat"])
    assert values["magic"][0] == b"FLAT"
    assert values["count"] == (struct.pack(">H", len(members)), str(len(members)))
    assert values["entries[0].name"][1] == repr(members[0][0])
    raw, shown = values["entries[0].size"]
    assert int.from_bytes(raw, "big") == int(shown) == len(members[0][1])


def test_saying_what_bytes_are_until_it_is_proved() -> None:
    """From nothing to a proof: some bytes are said to be something, the table is written by hand."""
    rows = [(24, 5), (32, 7)]
    file = b"PIER" + struct.pack("<HH", 2, 0xBEEF) + b"".join(struct.pack("<II", *row) for row in rows)
    file += b"kelps" + bytes(3) + b"lobster" + bytes(1)
    sources: dict[str, ByteSource] = {"main": BytesSource(file)}
    text = beginning("x.pier", "Pier", None)
    first = look(text, sources)
    assert first.explained == {"main": 0.0}
    assert first.error is not None
    assert "where the members are" in first.error.message
    text = say(text, sources, "main", 0, 4, "magic", "magic")
    text = say(text, sources, "main", 4, 6, "number", "count")
    text = say(text, sources, "main", 6, 8, "bytes", "mark")
    assert look(text, sources).explained["main"] == pytest.approx(6 / len(file))
    text = text.replace("type: u16}", "type: u16, is: count(entries)}")
    text += (
        "  - table: entries\n    count: count\n    record:\n"
        "      - {field: offset, type: u32, role: offset}\n      - {field: size, type: u32, role: stored-size}\n"
        "  - {members: data, of: entries, align: 8}\n"
    )
    found = look(text, sources)
    assert found.error is None
    assert found.proof == Proof(True, 2)
    assert found.explained["main"] == pytest.approx(1 - 2 / len(file))
    assert [bytes.fromhex(row["head"]) for row in found.rows] == [b"kelps", b"lobster"]


def test_bytes_before_and_behind_are_put_in_order() -> None:
    sources: dict[str, ByteSource] = {"main": BytesSource(bytes(range(64)))}
    text = say(beginning("x", "X", None), sources, "main", 0, 4, "magic", "magic")
    text = say(text, sources, "main", 12, 16, "number", "size")
    assert "bytes: unknown_4, size: 8" in text
    with pytest.raises(FormatError, match="belong to 'size'"):
        say(text, sources, "main", 14, 18, "number", "other")
    with pytest.raises(FormatError, match="called 'size'"):
        say(text, sources, "main", 20, 24, "number", "size")
    with pytest.raises(FormatError, match="no number"):
        say(text, sources, "main", 20, 32, "number", "big_one")
    with pytest.raises(FormatError, match="no name"):
        say(text, sources, "main", 20, 24, "number", "two words")
    text = say(text, sources, "main", 16, 20, "text", "word")
    _, fields = window(text, sources, "main", 0, 64)
    shown = {one.name: (one.start, one.end) for one in fields}
    assert shown == {"magic": (0, 4), "unknown_4": (4, 12), "size": (12, 16), "word": (16, 20)}
    assert {one.name: one.value for one in fields}["size"] == str(int.from_bytes(bytes([12, 13, 14, 15]), "little"))


def test_entropy_is_shannons() -> None:
    """Shannon (1948): none for one value, 8 bits for equally many of all, 1 bit for two."""
    flat, two, even = bytes(4096), bytes([1, 2]) * 2048, bytes(range(256)) * 16
    assert entropy(BytesSource(flat + two + even), 3) == pytest.approx([0, 1, 8])
    noise = random.Random(1).randbytes(1 << 16)
    assert all(7.9 < bits <= math.log2(256) for bits in entropy(BytesSource(noise), 4))
    assert entropy(BytesSource(b""), 4) == []


@given(st.binary(max_size=3000), st.binary(min_size=1, max_size=3))
def test_bytes_are_found_wherever_they_stand(data: bytes, wanted: bytes) -> None:
    expected = [at for at in range(len(data)) if data.startswith(wanted, at)][:100]
    assert find_bytes(BytesSource(data), wanted) == expected


def test_bytes_across_the_border_of_two_reads_are_found() -> None:
    data = bytes((1 << 20) - 2) + b"skerry" + bytes(100)
    assert find_bytes(BytesSource(data), b"skerry") == [(1 << 20) - 2]


@given(st.text(max_size=200), st.integers(0, 200), st.integers(1, 12))
def test_any_text_is_looked_at_without_a_crash(text: str, start: int, length: int) -> None:
    sources: dict[str, ByteSource] = {"main": BytesSource(bytes(range(256)))}
    for whole in (text, f"layout: x\ntitle: x\nkind: archive\nparts:\n{text}"):
        found = look(whole, sources)
        assert found.spans["main"][-1].end == 256
        try:
            say(whole, sources, "main", start, start + length, "bytes", "word")
        except BraeError as error:
            assert len(str(error)) > 5
