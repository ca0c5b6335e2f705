"""Sources, addresses, expressions, checksums, packers, layouts as text."""

from __future__ import annotations

import time
import zlib
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from brae.core import addresses, compression
from brae.core.assets.folders import member_paths
from brae.core.errors import BraeError, FormatError, LayoutError, TruncatedError
from brae.core.layouts import checksums, expressions
from brae.core.layouts.load import parse
from brae.core.layouts.model import Layout
from brae.core.sources import BytesSource, FileSource, OverlaySource, SliceSource
from brae.demo import LAYOUTS

# ---- sources


@given(st.binary(max_size=300), st.integers(-5, 310), st.integers(-5, 310))
def test_every_source_reads_exactly_or_refuses(data: bytes, offset: int, length: int) -> None:
    whole = BytesSource(b"before" + data + b"after")
    for source in (BytesSource(data), SliceSource(whole, 6, len(data)), OverlaySource(BytesSource(data), [])):
        if offset >= 0 and length >= 0 and offset + length <= len(data):
            assert source.read(offset, length) == data[offset : offset + length]
        else:
            with pytest.raises(TruncatedError):
                source.read(offset, length)


@given(st.binary(min_size=1, max_size=200), st.data())
def test_overlay_is_the_patched_bytes(data: bytes, draw: st.DataObject) -> None:
    start = draw.draw(st.integers(0, len(data) - 1))
    new = draw.draw(st.binary(max_size=len(data) - start))
    source = OverlaySource(BytesSource(data), [(start, new)])
    expected = data[:start] + new + data[start + len(new) :]
    assert source.read(0, len(data)) == expected
    low = draw.draw(st.integers(0, len(data)))
    assert source.read(low, len(data) - low) == expected[low:]


def test_file_source_reads_at_offsets(tmp_path: Path) -> None:
    path = tmp_path / "file"
    path.write_bytes(bytes(range(256)))
    with FileSource(path) as source:
        assert (source.size, source.read(250, 6)) == (256, bytes(range(250, 256)))
        with pytest.raises(TruncatedError):
            source.read(250, 7)


# ---- addresses

any_name = st.text(max_size=40) | st.sampled_from(
    [
        "..",
        "../../etc/passwd",
        "/etc/passwd",
        "C:\\boot.ini",
        "a//b",
        "a/./b",
        "con",
        "nul.txt",
        "x@2",
        "%41",
        "a\0b",
        "",
    ]
)


@given(any_name)
def test_quoting_a_name_undoes_itself(name: str) -> None:
    level = addresses.quote(name)
    assert addresses.unquote(level) == name
    assert addresses.SEPARATOR not in level


@given(st.lists(any_name, max_size=20))
def test_no_two_members_share_an_address(names: list[str]) -> None:
    levels = addresses.labels_of(names)
    assert len(set(levels)) == len(names)
    assert [addresses.unquote(level) for level in levels] == names


@given(st.lists(any_name, max_size=20))
def test_member_paths_stay_below_their_folder(names: list[str]) -> None:
    paths = member_paths(addresses.labels_of(names))
    root = Path("/exchange/project")
    for path in paths:
        assert not path.startswith("/")
        assert not set(path.split("/")) & {"", ".", ".."}
        assert not set('\0<>"|?*:\\') & set(path)
        assert root in (root / path).parents
    folded = [path.casefold() for path in paths]
    assert len(set(folded)) == len(folded), "letter case clashes are told apart"
    assert not any(other.startswith(f"{path}/") for path in folded for other in folded)


def test_windows_device_names_are_quoted() -> None:
    """Microsoft, "Naming Files, Paths, and Namespaces": reserved names, trailing dots and spaces."""
    assert addresses.safe_path("con") == "%63on"
    assert addresses.safe_path("a/NUL.txt") == "a/%4EUL.txt"
    assert addresses.safe_path("dot.") == "dot%2E"


# ---- expressions


@pytest.mark.parametrize(
    ("text", "value"),
    [
        ("count * 24 + 16", 88),
        ("(count + 1) // 2", 2),
        ("size % 7", 2),
        ("size >> 1 & 15", 2),
        ("12", 12),
        ("size - count", 97),
    ],
)
def test_expressions(text: str, value: int) -> None:
    assert expressions.evaluate(text, {"count": 3, "size": 100}) == value


@pytest.mark.parametrize(
    "text",
    [
        "2 ** 99",
        "__import__('os')",
        "a.b",
        "count(1)",
        "[1]",
        "1.5",
        "'x'",
        "1 if 1 else 2",
        "x := 3",
        "1 <<",
        "1" * 300,
        "",
    ],
)
def test_expressions_are_only_sums(text: str) -> None:
    with pytest.raises(LayoutError):
        expressions.evaluate(text, {"a": 1, "count": 2})


def test_expressions_are_bounded() -> None:
    with pytest.raises(LayoutError, match="64 bits"):
        expressions.evaluate("a * a * a", {"a": 1 << 40})
    with pytest.raises(LayoutError, match="cannot be worked out"):
        expressions.evaluate("1 // a", {"a": 0})
    with pytest.raises(LayoutError, match="not known"):
        expressions.evaluate("missing", {})


# ---- checksums and packers


def test_published_check_values() -> None:
    """CRC-32 and Adler-32 of "123456789": the catalogue of parametrised CRC algorithms; RFC 1950's rule by hand."""
    assert checksums.checksum("crc32", [b"123456789"]) == 0xCBF43926
    a, b = 1, 0
    for byte in b"123456789":
        a = (a + byte) % 65521
        b = (b + a) % 65521
    assert checksums.checksum("adler32", [b"123456789"]) == (b << 16 | a) == 0x091E01DE
    assert checksums.checksum("sum8", [b"\x01\x02\xff"]) == 258
    assert checksums.checksum("sum16le", [b"\x01\x02\x03"]) == 0x0201 + 3
    assert checksums.checksum("sum32be", [b"\0\0\0\1\0\0\0\2"]) == 3


@given(st.sampled_from(checksums.names()), st.binary(max_size=200), st.lists(st.integers(0, 200), max_size=4))
def test_checksums_do_not_depend_on_the_pieces(kind: str, data: bytes, cuts: list[int]) -> None:
    places = [0, *sorted(min(cut, len(data)) for cut in cuts), len(data)]
    parts = [data[low:high] for low, high in zip(places, places[1:], strict=False)]
    assert checksums.checksum(kind, parts) == checksums.checksum(kind, [data])


@given(st.sampled_from(compression.names()), st.binary(max_size=500), st.data())
def test_packers_undo_themselves(name: str, data: bytes, draw: st.DataObject) -> None:
    packer = compression.get(name)
    level = draw.draw(st.sampled_from(packer.levels))
    packed = packer.pack(data, level)
    assert packer.unpack(packed, len(data)) == data
    assert packer.unpack_start(packed, 64) == data[:64]
    assert compression.find_level(packer, packed, data) in packer.levels
    with pytest.raises(FormatError):
        packer.unpack(packed, len(data) + 1)


def test_packers_agree_with_zlib() -> None:
    data = b"herring " * 50
    assert compression.get("zlib").unpack(zlib.compress(data), 400) == data
    assert zlib.decompress(compression.get("deflate").pack(data, 6), -15) == data
    with pytest.raises(FormatError, match="damaged|unpack to"):
        compression.get("zlib").unpack(zlib.compress(data)[:-6], 400)


# ---- layouts as text

GOOD = (LAYOUTS / "kist.yaml").read_text()


@pytest.mark.parametrize(
    ("old", "new", "line_of", "words"),
    [
        ("type: u32, is: count", "type: u33, is: count", "type: u33", "u8"),
        ("kind: archive", "kind: arcive", "kind: arcive", "archive"),
        ("is: size(names)", "mesures: names", "mesures", "no key"),
        ("is: offset(names)", "is: offset(nams)", None, "nams"),
        ("count: count", "count: cuont", None, "cuont"),
        ("kind: crc32, over: real", "kind: crc31, over: real", "crc31", "crc31"),
        ("role: offset}", "role: ofset}", "ofset", "offset"),
        ("align: 32", "align: 0", "align: 0", "too small"),
        ("parts:", "parts: &x", None, None),
        ("title: Skerry", "layout: x\ntitle: Skerry", "layout: x", "twice"),
        ("- {members: cargo", "- {membres: cargo", "membres", "a part needs one of"),
    ],
)
def test_errors_name_the_line(old: str, new: str, line_of: str | None, words: str | None) -> None:
    text = GOOD.replace(old, new, 1)
    if words is None:
        assert isinstance(parse(text), Layout)  # an anchor that nothing refers to is harmless
        return
    with pytest.raises(LayoutError) as caught:
        parse(text, "mine.yaml")
    assert words in str(caught.value)
    assert caught.value.address == "mine.yaml"
    if line_of is not None:
        expected = next(number for number, line in enumerate(text.splitlines(), 1) if line_of in line)
        assert caught.value.line == expected


def test_references_are_refused_before_they_unfold() -> None:
    bomb = "a: &a [x, x, x, x, x, x, x, x, x]\n" + "".join(
        f"{chr(98 + k)}: &{chr(98 + k)} [{', '.join(['*' + chr(97 + k)] * 9)}]\n" for k in range(9)
    )
    started = time.monotonic()
    with pytest.raises(LayoutError, match="no references"):
        parse(bomb)
    assert time.monotonic() - started < 5


@given(
    st.text(max_size=200)
    | st.builds(lambda cut, junk: GOOD[:cut] + junk, st.integers(0, len(GOOD)), st.text(max_size=20))
)
def test_any_text_is_a_layout_or_a_clear_error(text: str) -> None:
    try:
        assert parse(text).parts
    except LayoutError as error:
        assert error.message


def test_the_published_schema_knows_every_word() -> None:
    """The JSON Schema in docs/ is made from the models; it accepts what the models accept."""
    schema = Layout.model_json_schema(by_alias=True)
    assert schema["additionalProperties"] is False
    assert set(schema["required"]) == {"layout", "title", "kind", "parts"}
    text = str(schema)
    assert all(word in text for word in [*checksums.names(), *compression.names(), "stored-size", "record_size"])


def test_errors_say_where_and_what_to_do() -> None:
    error = BraeError("It is odd.", address="a//b", offset=16, expected="even", remedy="Turn it.")
    assert str(error) == "a//b, offset 16 (0x10): It is odd. Expected even. Turn it."
    assert error.as_dict()["offset"] == 16
