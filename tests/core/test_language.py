"""The words of the layout language one by one: what they mean, and what is refused with which reason."""

from __future__ import annotations

import re
import struct
import zlib
from pathlib import Path

import lz4.block
import numpy as np
import pytest

from brae.core.assets.texture.files import read_texture
from brae.core.assets.texture.texture import with_sides
from brae.core.containers.described import Archive, open_archive
from brae.core.errors import BraeError, FormatError, LayoutError, LimitError, TruncatedError
from brae.core.layouts.edits import Edits, NewMember
from brae.core.layouts.library import Library, companions, open_sources
from brae.core.layouts.load import parse
from brae.core.layouts.model import Layout
from brae.core.layouts.obfuscation import Step, hide
from brae.core.layouts.read import parse as read
from brae.core.layouts.segments import Composed
from brae.core.sources import BytesSource
from tests.core.families import BY_NAME, members_for


def layout(parts: str, more: str = "") -> Layout:
    """An archive layout of these parts."""
    return parse(f"layout: test\ntitle: Test\nkind: archive\n{more}parts:\n{parts}")


def opened(described: Layout, data: bytes) -> Archive:
    """An archive of one file."""
    return open_archive(described, {"main": BytesSource(data)})


def written(composed: Composed) -> bytes:
    """The main file of a result."""
    return b"".join(composed.read("main"))


TABLE = """
  - {field: count, type: u16, is: count(list)}
  - table: list
    count: count
    record: [{field: at, type: u16, role: offset}, {field: size, type: u16, role: stored-size}]
  - {members: data, of: list}
"""


def table(*members: bytes) -> bytes:
    """A file of the layout TABLE."""
    at = 2 + 4 * len(members)
    rows = b""
    for data in members:
        rows += struct.pack("<HH", at, len(data))
        at += len(data)
    return struct.pack("<H", len(members)) + rows + b"".join(members)


# ---- numbers


@pytest.mark.parametrize("endian", ["little", "big"])
@pytest.mark.parametrize("width", [24, 40, 48, 56])
def test_odd_widths_with_and_without_a_sign(endian: str, width: int) -> None:
    order = "little" if endian == "little" else "big"
    described = layout(
        f"  - {{field: above, type: u{width}}}\n  - {{field: below, type: i{width}}}\n"
        f"  - {{field: count, type: u8, is: count(list)}}\n"
        f"  - table: list\n    count: count\n    record:\n"
        f"      - {{field: at, type: u{width}, role: offset}}\n"
        f"      - {{field: size, type: u{width}, role: stored-size}}\n"
        f"      - {{field: odd, type: i{width}}}\n"
        "  - {members: data, of: list}\n",
        f"endian: {endian}\n",
    )
    size = width // 8
    head = ((1 << width) - 2).to_bytes(size, order) + (-7).to_bytes(size, order, signed=True) + b"\x01"
    row = (len(head) + 3 * size).to_bytes(size, order) + (3).to_bytes(size, order) + b"\xff" * size
    archive = opened(described, head + row + b"abc")
    assert (archive.parsed.values["above"], archive.parsed.values["below"]) == ((1 << width) - 2, -7)
    assert archive.parsed.tables["list"].numbers("odd").tolist() == [-1]
    assert archive.prove().exact
    again = opened(described, written(archive.rebuild({0: archive.pack(0, b"longer")})))
    assert again.read(0) == b"longer"


def test_values_that_outgrow_their_field_are_refused() -> None:
    archive = opened(layout(TABLE), table(b"a", b"b"))
    with pytest.raises(LayoutError, match="too large for 'size'|too large for 'at'"):
        archive.rebuild({0: archive.pack(0, bytes(70_000))})


def test_bits_keep_their_neighbours() -> None:
    family = BY_NAME["bits"]
    members = members_for(family)
    archive = family.open(family.write(members))
    again = opened(family.described, written(archive.rebuild({2: archive.pack(2, b"new" * 300)})))
    before, after = archive.parsed.tables["entries"], again.parsed.tables["entries"]
    assert after.raw("flags").tolist() == before.raw("flags").tolist() == [number % 16 for number in range(9)]
    assert after.raw("packing").tolist() == before.raw("packing").tolist()
    assert after.numbers("sector").tolist() != before.numbers("sector").tolist()


def test_sectors_that_do_not_come_out_even_are_refused() -> None:
    described = layout(
        TABLE.replace("role: offset}", "role: offset, unit: 4}").replace("of: list}", "of: list, align: 2}")
    )
    data = struct.pack("<HHHHH", 2, 3, 1, 4, 1) + b"\0\0" + b"a\0\0\0b\0"
    archive = opened(described, data)
    assert [archive.read(0), archive.read(1)] == [b"a", b"b"]
    with pytest.raises(LayoutError, match="multiple"):
        archive.rebuild({0: archive.pack(0, b"aaaaaa")})


# ---- strings


@pytest.mark.parametrize(
    ("words", "raw"),
    [
        ("{field: title, type: string, prefix: u8}", b"\x04pier"),
        ("{field: title, type: string, prefix: u16, end: nul}", b"\x05\0pier\0"),
        (
            "{field: title, type: string, prefix: u8, encoding: utf-16, unit: 2}",
            b"\x04" + "pier".encode("utf-16-le"),
        ),
        ("{field: title, type: string, end: nul, encoding: utf-16}", "pier\0".encode("utf-16-le")),
        ("{field: title, type: string, length: 6}", b"pier\0\0"),
    ],
)
def test_strings_of_a_header(words: str, raw: bytes) -> None:
    described = layout(f"  - {words}\n" + TABLE.replace("{field: count", "{field: count, align: 1"))
    body = table(b"one", b"two")
    rows = np.frombuffer(body, "<u2", 4, 2).copy()
    rows[0::2] += len(raw)
    data = raw + body[:2] + rows.tobytes() + body[10:]
    archive = opened(described, data)
    assert archive.prove().exact
    assert archive.parsed.texts["title"] == raw
    assert [archive.read(0), archive.read(1)] == [b"one", b"two"]


def test_names_in_other_encodings_are_kept_to_the_byte() -> None:
    family = BY_NAME["folders"]
    members = [("潮/灯台.x", b"tower"), ("潮/舟.x", b"boat")]
    archive = family.open(family.write(members))
    assert archive.names == ["潮/灯台.x", "潮/舟.x"]
    assert archive.prove().exact
    odd = bytearray(family.write(members)["main"])
    odd[odd.index("舟".encode("shift-jis"))] = 0xFF
    broken = opened(family.described, bytes(odd))
    assert broken.prove().exact, "a name that is no text of its encoding is no reason not to rebuild"


# ---- what follows from what


def test_a_size_may_span_several_parts() -> None:
    described = layout("""
  - {field: directory, type: u32, is: end(names) - start(list)}
  - {field: unpacked, type: u32, is: real_size(data)}
  - {field: count, type: u16, is: count(list)}
  - table: list
    count: count
    record: [{field: name, type: u16, role: name-offset}, {field: size, type: u16, role: stored-size}]
  - {names: names, size: directory - count * 4}
  - {members: data, of: list}
""")
    names = b"oar\0sail\0"
    data = struct.pack("<IIHHHHH", 8 + len(names), 5, 2, 0, 2, 4, 3) + names + b"ab" + b"cde"
    archive = opened(described, data)
    assert archive.names == ["oar", "sail"]
    assert archive.prove().exact
    added = NewMember("jib", archive.pack_new("jib", b"fghi"))
    again = opened(described, written(archive.rebuild(Edits(added=[added], removed={0}))))
    assert (again.names, [again.read(0), again.read(1)]) == (["sail", "jib"], [b"cde", b"fghi"])
    assert again.parsed.values["unpacked"] == 7
    assert again.prove().exact


def test_a_file_of_fixed_size_stays_so() -> None:
    family = BY_NAME["fixed-size"]
    members = members_for(family)
    archive = family.open(family.write(members))
    assert len(written(archive.rebuild({0: archive.pack(0, bytes([1]) * 5000)}))) == 1 << 16
    with pytest.raises(LayoutError, match="fixed size of 65536"):
        archive.rebuild({0: archive.pack(0, bytes([1]) * 70_000)})


def test_hashed_names_come_from_the_layout_a_list_or_the_game(tmp_path: Path) -> None:
    family = BY_NAME["hashed"]
    members = [("ui/stamp.x", b"1"), ("UI/Boat.x", b"2"), ("secret/thing.x", b"3")]
    (tmp_path / "mine.yaml").write_text(family.layout)
    (tmp_path / "cook-hashed.names.txt").write_text("ui/boat.x\n\nui/none.x\n")
    library = Library.of([tmp_path])
    described = library.get("cook-hashed")
    source = {"main": BytesSource(family.write(members)["main"])}
    found = {
        archive_name: data
        for archive in [open_archive(described, source, library.known_names(described))]
        for archive_name, data in zip(archive.names, [archive.read(k) for k in range(3)], strict=True)
    }
    assert found["ui/stamp.x"] == b"1"
    assert found["ui/boat.x"] == b"2"
    (unknown,) = [name for name in found if name.startswith("#")]
    assert found[unknown] == b"3"
    named = open_archive(described, source, ["SECRET/THING.X"])
    assert "SECRET/THING.X" in named.names


# ---- trees and chunks


def test_deep_and_endless_trees_are_refused() -> None:
    described = BY_NAME["tree"].described
    folder = b"d\0" + struct.pack("<HH", 0, 1)
    with pytest.raises(LimitError, match="deep"):
        opened(described, b"TREE" + struct.pack("<I", 2000) + folder * 300)
    with pytest.raises(TruncatedError, match="cut short"):
        opened(
            described, b"TREE" + struct.pack("<I", 30) + b"d\0" + struct.pack("<HH", 65535, 0) + b"f\0" + bytes(12)
        )


def test_folders_that_lie_in_each_other_are_refused() -> None:
    family = BY_NAME["folders"]
    data = bytearray(family.write([("a/b/c.x", b"1")])["main"])
    assert struct.unpack("<h", data[20:22]) == (-1,)
    data[20:22] = struct.pack("<h", 1)
    with pytest.raises(FormatError, match="lies in itself"):
        opened(family.described, bytes(data))


def test_chunks_that_say_too_much_are_refused_with_the_place() -> None:
    family = BY_NAME["chunks"]
    data = bytearray(family.write(members_for(family))["main"])
    data[12 + 4 : 12 + 8] = b"\0\xff\0\0"  # the first chunk inside ROOT
    with pytest.raises(TruncatedError, match="LIST") as caught:
        opened(family.described, bytes(data))
    assert caught.value.offset == 12
    nested = b"CHNK" + b"".join(struct.pack(">4sI", b"ROOT", (40 - k) * 8) for k in range(41))
    with pytest.raises(LimitError, match="nested"):
        opened(family.described, nested)


def test_a_chunk_goes_into_the_chunk_that_its_path_names() -> None:
    family = BY_NAME["chunks"]
    archive = family.open(family.write(members_for(family)))
    new = NewMember("ROOT/LIST/newc", archive.pack_new("newc", b"odd"))
    again = opened(family.described, written(archive.rebuild(Edits(added=[new]))))
    assert again.names.index("ROOT/LIST/newc") == sum(name.startswith("ROOT/LIST") for name in archive.names)
    assert again.prove().exact
    with pytest.raises(LayoutError, match="No chunk 'NONE'"):
        archive.rebuild(Edits(added=[NewMember("ROOT/NONE/newc", new.change)]))


def test_a_record_before_each_member_ends_where_it_says() -> None:
    family = BY_NAME["stream"]
    data = family.write(members_for(family))["main"]
    archive = opened(family.described, data + b"whatever follows the mark is kept")
    assert archive.prove().exact
    assert len(archive) == len(members_for(family))


# ---- packing


def test_a_real_size_that_nothing_says_is_found_by_unpacking() -> None:
    described = layout(TABLE.replace("of: list}", "of: list, compression: zlib}"))
    packed = [zlib.compress(b"tide " * count) for count in (3, 500)]
    archive = opened(described, table(*packed))
    assert archive.real_sizes.tolist() == [15, 2500]
    damaged = bytearray(table(*packed))
    damaged[-20] ^= 0xFF
    broken = opened(described, bytes(damaged))
    assert broken.real_sizes.tolist() == [15, -1]
    assert not broken.prove().exact


def test_stored_sizes_of_zero_may_mean_not_packed() -> None:
    described = layout("""
  - {field: count, type: u16, is: count(list)}
  - table: list
    count: count
    record:
      - {field: at, type: u16, role: offset}
      - {field: stored, type: u16, role: stored-size}
      - {field: real, type: u16, role: real-size}
  - {members: data, of: list, compression: zlib, unpacked: zero}
""")
    packed = zlib.compress(b"calm " * 40)
    data = struct.pack("<HHHHHHH", 2, 14, 0, 5, 19, len(packed), 200) + b"plain" + packed
    archive = opened(described, data)
    assert [archive.read(0), archive.read(1)] == [b"plain", b"calm " * 40]
    assert archive.prove().exact
    noise = np.random.default_rng(1).bytes(50)
    again = opened(described, written(archive.rebuild({1: archive.pack(1, noise)})))
    assert again.parsed.tables["list"].raw("stored").tolist() == [0, 0]
    assert again.read(1) == noise


# ---- obfuscation


def test_a_hidden_texture_is_read_and_written() -> None:
    described = parse("""
layout: hidden-texture
title: Hidden
kind: texture
parts:
  - {field: magic, type: bytes, length: 2, value: "HT", obfuscation: [{xor: 7}]}
  - field: sides
    type: u16
    bits:
      - {field: width, bits: 8}
      - {field: height, bits: 8, add: 1}
  - {pixels: data, facts: {width: width, height: height, format: rgb565}, obfuscation: [{xor: "key"}]}
""")
    library = Library()
    library.add(described)
    pixels = np.arange(12, dtype="<u2").tobytes()
    data = bytes(byte ^ 7 for byte in b"HT") + struct.pack("<BB", 4, 2) + hide([Step(xor="key")], pixels)
    texture = read_texture(data, library)
    assert (texture.header.width, texture.header.height, texture.levels) == (4, 3, [pixels])
    assert texture.rewrite(texture.header, texture.levels) == data
    small = texture.rewrite(with_sides(texture.header, 1, 2, 1), [pixels[:4]])
    assert small[2:4] == struct.pack("<BB", 1, 1)
    with pytest.raises(LayoutError, match="does not fit"):
        texture.rewrite(with_sides(texture.header, 300, 3, 1), [pixels])


# ---- what a layout may not say


@pytest.mark.parametrize(
    ("parts", "reason"),
    [
        ("  - {table: list, record: [{field: a, type: u8}]}\n", "one of count, size and until"),
        ("  - {table: list, count: 1, record: [{field: a, type: u8}, {field: a, type: u8}]}\n", "two fields"),
        ("  - {table: list, count: 1, record: [{field: a, type: string, length: b}]}\n", "no field before it"),
        ("  - {table: list, until: {field: b}, record: [{field: a, type: u8}]}\n", "'until' speaks of 'b'"),
        ("  - {table: list, count: 1, record: [{field: a, type: u32, role: name-hash}]}\n", "needs 'hash'"),
        ("  - {table: list, count: 1, record: [{field: a, type: u8, bits: [{field: b, bits: 9}]}]}\n", "more than"),
        ("  - {field: a, type: varint}\n", "for the fields of a record"),
        ("  - {field: a, type: string, length: 3, prefix: u8}\n", "not both"),
        ("  - {field: a, type: u8, obfuscation: [{xor: 1, swap: 2}]}\n", "one of xor"),
        ("  - {tree: t, folder: [{field: n, type: u8}], record: [{field: a, type: u8}]}\n", "file-count"),
        ("  - {chunks: c, record: [{field: tag, type: u32, role: name}]}\n", "stored-size"),
        (TABLE + "  - {members: more, of: list}\n", "one part 'members' or 'chunks'"),
        (TABLE.replace("of: list}", "of: list, compression: magic}"), "no packer 'magic'"),
        (TABLE.replace("of: list}", "of: list, where: {kind: 1}}"), "'where' speaks of 'kind'"),
        (TABLE.replace("of: list}", "of: list, last_ends: true}"), "'last_ends' is for tables"),
        (TABLE.replace("is: count(list)", "is: count(data)"), "which is no table"),
        (
            "  - {table: t, count: 1, record: [{field: n, type: u8}, {field: a, type: string, length: n // 2}]}\n",
            "cannot be turned round",
        ),
        (
            "  - {table: t, count: 1, record: [{field: n, type: u8}, {field: m, type: u8}, "
            "{field: a, type: string, length: n + m}]}\n",
            "one field at most",
        ),
        ("  - {table: t, count: 1, record: [{field: a, type: octal}]}\n", "needs a length from 1 to 64"),
        ("  - {table: t, count: 1, record: [{field: a, type: u8, is: offset - b.c}]}\n", "is made of 'b.c'"),
        (
            "  - {table: t, count: 1, record: [{field: a, type: u8, value: 1, role: offset}]}\n",
            "one of value, role",
        ),
        (
            "  - {table: t, count: 1, record: [{field: a, type: u32, checksum: {kind: crc32, over: [size]}}]}\n",
            "which the record does not have",
        ),
        ("  - {table: t, count: 1, separate: true, record: [{field: a, type: u8}]}\n", "'separate' is for records"),
        (
            "  - {chunks: c, record: [{field: s, type: u32, role: stored-size}], "
            "behind: [{field: t, type: string, end: nul}]}\n",
            "a fixed size each",
        ),
        (
            TABLE.replace("of: list}", "of: list, head: [{field: a, type: u32, role: offset}]}"),
            "what it can say is",
        ),
        (
            "  - {field: n, type: u16, is: folders(t)}\n  - {table: t, size: 1, record: [{field: a, type: u8}]}",
            "which is no tree",
        ),
    ],
)
def test_what_makes_no_sense_is_an_error_with_its_line(parts: str, reason: str) -> None:
    with pytest.raises(LayoutError, match=reason) as caught:
        layout(parts)
    assert caught.value.line


def test_a_table_without_its_end_is_refused() -> None:
    described = BY_NAME["ending"].described
    with pytest.raises(TruncatedError, match="No record ends"):
        opened(described, b"ENDS" + struct.pack("<I", 8) + bytes(320))
    prefixed = BY_NAME["prefixed"].described
    with pytest.raises(BraeError):
        opened(prefixed, b"PREF" + struct.pack("<I", 9) + b"\x05name")


def test_parts_name_the_bytes_they_explain() -> None:
    family = BY_NAME["inline"]
    archive = family.open(family.write(members_for(family)))
    parsed = read(family.described, {"main": archive.parsed.sources["main"]})
    first = len(members_for(family)[0][0]) + 1
    assert parsed.describe("main", 13) == "entries[0].name"
    assert parsed.describe("main", 12 + first) == "entries[0].offset"
    assert parsed.describe("main", 12 + first + 8) == "entries[1].name"


def test_references_are_followed_and_kept_whole() -> None:
    family = BY_NAME["linked"]
    members = [(name, name.encode() * 9) for name in ("hull", "mast", "sail", "flag")]
    archive = family.open(family.write(members))
    assert archive.references.tolist() == [[1, 0], [2, 1], [3, 2], [3, 0]]
    assert (archive.refers_to(3), archive.used_by(0)) == (["sail", "hull"], ["mast", "flag"])
    with pytest.raises(LayoutError, match="'mast' refers to it"):
        archive.rebuild(Edits(removed={0}))
    with pytest.raises(LayoutError, match="a table of links speaks of it"):
        archive.rebuild(Edits(removed={3}))
    added = NewMember("oar", archive.pack_new("oar", b"wood"))
    made = archive.rebuild(Edits(added=[added]))
    again = family.open({"main": b"".join(made.read("main"))})
    assert again.references.tolist() == archive.references.tolist()
    assert again.read(4) == b"wood"
    assert again.prove().exact


def test_numbered_files_grow_by_another_one() -> None:
    family = BY_NAME["cut"]
    members = [(f"name{k}", bytes([k]) * 60) for k in range(9)]
    files = family.write(members)
    archive = family.open(files)
    assert archive.file_of(8) == max(files)
    composed = archive.rebuild({8: archive.pack(8, b"more" * 200)})
    assert composed.segments.keys() > files.keys()
    assert {composed.size(file) for file in list(composed.segments)[:-1]} == {256}
    with pytest.raises(LayoutError, match="nothing left in it"):
        archive.rebuild({index: archive.pack(index, b"x") for index in range(9)})
    without = parse(family.layout.replace(", each: 256", ""))
    kept = open_archive(without, {name: BytesSource(data) for name, data in files.items()})
    made = kept.rebuild({0: kept.pack(0, b"more" * 200)})
    assert [made.size(file) for file in files][:-1] == [256] * (len(files) - 1)
    assert made.segments.keys() == files.keys()


def test_a_record_of_a_file_that_is_missing_says_which() -> None:
    family = BY_NAME["volumes"]
    files = family.write([("a", b"1"), ("bc", b"2")])
    del files["hold.2"]
    assert family.open(files).read(1) == b"2"
    del files["hold.1"]
    with pytest.raises(FormatError, match="file number 2, which is not there"):
        family.open(files)


def test_a_chunks_checksum_that_covers_something_else_is_not_guessed() -> None:
    family = BY_NAME["forms"]
    members = [("HOLD/DECK/aaaa", b"one"), ("HOLD/zzzz", b"two")]
    data = bytearray(family.write(members)["main"])
    data[12] ^= 1
    archive = family.open({"main": bytes(data)})
    with pytest.raises(LayoutError, match="covers something else"):
        archive.rebuild({1: archive.pack(1, b"three")})


def test_files_that_share_a_part_of_their_names(tmp_path: Path) -> None:
    family = BY_NAME["pieces"]
    files = family.write(members_for(family))
    (tmp_path / "world_1_dir.idx").write_bytes(files["main"])
    (tmp_path / "world_1_data.bin").write_bytes(files["body"])
    found = companions(family.described, tmp_path / "world_1_dir.idx")
    assert found["body"] == tmp_path / "world_1_data.bin"
    archive = open_archive(family.described, open_sources(family.described, tmp_path / "world_1_dir.idx"))
    assert archive.prove().exact
    # A name of another form is taken whole: what is not there is told when it is read.
    assert companions(family.described, tmp_path / "other.idx")["body"] == tmp_path / "other_data.bin"


@pytest.mark.parametrize(
    ("stem", "files", "words"),
    [
        ("{base}_dir", "{bse}_data.bin", "'{bse}_data.bin' holds something that is not known"),
        ("dir", "{base}.bin", "needs words in braces"),
        ("{base}{base}", "{base}.bin", "each once"),
        ("{base", "{base}.bin", "no pattern of a name"),
    ],
)
def test_pieces_of_names_that_cannot_be(stem: str, files: str, words: str) -> None:
    text = BY_NAME["pieces"].layout.replace('"{base}_dir"', f'"{stem}"').replace('"{base}_data.bin"', f'"{files}"')
    with pytest.raises(LayoutError, match=re.escape(words)):
        parse(text)


def test_a_chunk_that_names_the_next_is_no_member() -> None:
    family = BY_NAME["named"]
    members = members_for(family)
    archive = family.open(family.write(members))
    assert archive.names == [name for name, _ in members]
    with pytest.raises(LayoutError, match="cannot be added or removed"):
        archive.rebuild(Edits(removed={0}))
    text = family.layout.replace("    named_by: [NAME]\n", "    named_by: [NAME]\n    nest: {NAME: 0}\n")
    with pytest.raises(LayoutError, match="cannot be a name as well"):
        parse(text)


# ---- blocks that members share


LZ4_BLOCKS = """
layout: lz4-blocks
title: Bare LZ4 blocks, which do not say their own end
kind: archive
parts:
  - {field: total, type: u32}
  - {field: count, type: u16, is: count(blocks)}
  - {table: blocks, count: count, record: [{field: stored, type: u16, role: stored-size}]}
  - {table: files, count: 2, record: [{field: size, type: u32, role: stored-size}]}
  - {stream: body, of: blocks, block: 100, total: total, compression: lz4, obfuscation: [{xor: 7}]}
  - {members: data, file: body, of: files}
"""


def _lz4_blocks(first: bytes, second: bytes) -> bytes:
    whole = first + second
    blocks = [lz4.block.compress(whole[at : at + 100], store_size=False) for at in range(0, len(whole), 100)]
    head = struct.pack("<IH", len(whole), len(blocks)) + b"".join(struct.pack("<H", len(one)) for one in blocks)
    return head + struct.pack("<II", len(first), len(second)) + bytes(b ^ 7 for b in b"".join(blocks))


def test_blocks_of_members_that_share_them() -> None:
    """``total`` says how long the last block is; an edit packs only the blocks that it reaches (liblz4)."""
    first, second = b"gull and tern " * 21, b"skerry " * 30
    described = parse(LZ4_BLOCKS.replace("type: u32}", "type: u32, is: file_size(body)}", 1))
    archive = opened(described, _lz4_blocks(first, second))
    assert [archive.read(0), archive.read(1)] == [first, second]
    assert archive.prove().exact
    changed = b"skerry " * 29 + b"islands"
    made = written(archive.rebuild({1: archive.pack(1, changed)}))
    again = opened(described, made)
    assert [again.read(0), again.read(1)] == [first, changed]
    before, after = (one.parsed.tables["blocks"].raw("stored").tolist() for one in (archive, again))
    kept = (len(first) + len(second)) // 100 - 1
    assert after[:kept] == before[:kept]


@pytest.mark.parametrize("told", [True, False], ids=["with its total", "without"])
def test_a_plain_last_block_that_happens_to_unpack(told: bool) -> None:
    """RFC 1951, 3.2.4: these five bytes are a whole stream, of one stored block of no bytes."""
    family, content = BY_NAME["solid"], bytes.fromhex("010000ffff") + b"skerry!"
    described = family.described
    if not told:
        described = parse(family.layout.replace(", is: file_size(body)", ""))
    archive = opened(described, family.write([("a", content)])["main"])
    assert archive.read(0) == content
    assert archive.prove().exact


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        ("of: blocks,", "of: block,", "needs the table 'block' before it; did you mean 'blocks'"),
        ("block: 100, total: total, ", "", "needs 'block', or the role real-size"),
        ("stream: body", "stream: main", "is called like a file"),
        ("role: stored-size}]}\n  - {table: files", "about: x}]}\n  - {table: files", "with the role stored-size"),
        ("compression: lz4", "compression: lz5", "there is no packer 'lz5'"),
        ("members: data, file: body", "members: data, file: bodi", "'bodi', which 'files' does not name"),
        ("  - {members", "  - {bytes: more, file: body, size: 4}\n  - {members", "only members can"),
    ],
)
def test_what_a_stream_of_blocks_may_not_say(old: str, new: str, words: str) -> None:
    with pytest.raises(LayoutError, match=words):
        parse(LZ4_BLOCKS.replace(old, new))


def test_blocks_that_lie_are_errors() -> None:
    data = _lz4_blocks(b"gull and tern " * 21, b"skerry " * 30)
    layout = parse(LZ4_BLOCKS)
    with pytest.raises(FormatError, match="last block of 'body' would be"):
        opened(layout, struct.pack("<I", 9999) + data[4:])
    with pytest.raises(TruncatedError, match=r"blocks\[0\] says its block"):
        opened(layout, data[:6] + b"\xff\xff" + data[8:])


def test_folders_that_count_wrongly_are_named() -> None:
    grouped = BY_NAME["grouped"]
    data = bytearray(grouped.write(members_for(grouped))["main"])
    data[8 + 14 : 8 + 16] = b"\xff\x00"
    with pytest.raises(FormatError, match=r"folders\[0\] says that it has 255 records from 0 on"):
        grouped.open({"main": bytes(data)})


@pytest.mark.parametrize(
    ("family", "names"),
    [
        ("grouped", ["moor/new", "quay/more", "moor/and", "fell/last"]),
        ("name-list", ["moor/new", "quay/more", "moor/and", "fell/last"]),
        ("typed-files", ["new.xyz", "more.tex", "and.xyz", "last.abc"]),
    ],
)
def test_new_folders_and_types_come_with_new_members(family: str, names: list[str]) -> None:
    archive = BY_NAME[family].open(BY_NAME[family].write(members_for(BY_NAME[family])))
    before = dict(zip(archive.names, map(archive.read, range(len(archive))), strict=True))
    added = [NewMember(name, archive.pack_new(name, name.encode())) for name in names]
    made = written(archive.rebuild(Edits(added=added)))
    again = opened(archive.layout, made)
    assert again.prove().exact
    after = dict(zip(again.names, map(again.read, range(len(again))), strict=True))
    assert after == before | {name: name.encode() for name in names}


def test_a_folder_whose_record_says_more_cannot_be_made() -> None:
    text = BY_NAME["grouped"].layout.replace(
        "role: member-count}", "role: member-count}\n      - {field: up, type: u8, role: parent}"
    )
    data = struct.pack("<4sHH", b"GRUP", 1, 0) + struct.pack("<12sHHB", b"quay", 0, 0, 9)
    archive = opened(parse(text), data)
    with pytest.raises(LayoutError, match="'moor' is not among 'folders', and its records say too much"):
        archive.rebuild(Edits(added=[NewMember("moor/a", archive.pack_new("moor/a", b"x"))]))


@pytest.mark.parametrize("order", ["files-first", "folders-first"])
def test_folder_trees_grow_and_shrink_in_either_order(order: str) -> None:
    """A tree by hand, with a folder in a folder and an empty one; what is added makes the folders that it needs."""
    text = BY_NAME["tree"].layout.replace("  - tree: root\n", f"  - tree: root\n    order: {order}\n")
    text = text.replace(", compression: zlib", "").replace(
        "      - {field: real, type: u32, role: real-size}\n", ""
    )

    def file(name: str, at: int) -> bytes:
        return name.encode() + b"\0" + struct.pack("<II", at, 4)

    def folder(name: str, files: list[bytes], folders: list[bytes]) -> bytes:
        inside = [*files, *folders] if order == "files-first" else [*folders, *files]
        return name.encode() + b"\0" + struct.pack("<HH", len(files), len(folders)) + b"".join(inside)

    quay = folder("quay", [file("crate", 8)], [folder("shed", [file("oar", 16), file("rope", 24)], [])])
    tree = folder("", [file("map", 0)], [quay, folder("empty", [], [])])
    at = 8 + len(tree) + -(8 + len(tree)) % 8
    body = b"".join(word.ljust(8, b"\0") for word in (b"MAP.", b"CRAT", b"OAR.", b"ROPE"))
    archive = opened(parse(text), (b"TREE" + struct.pack("<I", at) + tree).ljust(at, b"\0") + body)
    assert archive.prove().exact
    before = dict(zip(archive.names, map(archive.read, range(len(archive))), strict=True))
    assert before == {"map": b"MAP.", "quay/crate": b"CRAT", "quay/shed/oar": b"OAR.", "quay/shed/rope": b"ROPE"}
    names = ["quay/shed/sail", "empty/bell", "empty/deep/gull", "quay/anchor", "new/one", "top"]
    added = [NewMember(name, archive.pack_new(name, name.encode())) for name in names]
    gone = archive.names.index("quay/shed/oar")
    again = opened(archive.layout, written(archive.rebuild(Edits(added=added, removed={gone}))))
    assert again.prove().exact
    after = dict(zip(again.names, map(again.read, range(len(again))), strict=True))
    del before["quay/shed/oar"]
    assert after == before | {name: name.encode() for name in names}


def test_a_new_folder_whose_name_is_counted_by_a_field() -> None:
    """``length`` with ``add``: what the field holds is less than the bytes by so many."""
    text = BY_NAME["grouped"].layout.replace(
        "      - {field: path, type: string, length: 12, role: name}\n",
        "      - {field: size, type: u8}\n      - {field: path, type: string, length: size, add: 2, role: name}\n",
    )
    assert "length: size" in text
    head = struct.pack("<4sHH", b"GRUP", 1, 1) + b"\x02quay" + struct.pack("<HH", 0, 1)
    data = head + struct.pack("<12sII", b"oar", len(head) + 20, 4) + b"OAR."
    archive = opened(parse(text), data)
    assert archive.names == ["quay/oar"]
    added = NewMember("moorings/buoy", archive.pack_new("moorings/buoy", b"BUOY"))
    again = opened(archive.layout, written(archive.rebuild(Edits(added=[added]))))
    assert (again.names, again.prove().exact) == (["quay/oar", "moorings/buoy"], True)
    assert again.parsed.tables["folders"].raw("size").tolist() == [2, 6]


# ---- another file's name, from the header


NAMING = parse("""
layout: naming
title: Naming
kind: archive
files: {data: "{where}.bin"}
parts:
  - {field: where, type: string, prefix: u8}
  - {field: size, type: u32, is: size(body)}
  - {members: body, file: data, size: size}
""")


@pytest.mark.parametrize(("sector", "record"), [(0, 31), (48, 8), (48, 0)])
def test_numbers_of_the_header_that_cannot_be_are_told(sector: int, record: int) -> None:
    family = BY_NAME["measured"]
    data = bytearray(family.write(members_for(family))["main"])
    data[4:8] = struct.pack("<HH", sector, record)
    with pytest.raises(FormatError, match=r"its (align|record_size) is \d+, as '(sector|record_bytes)' says"):
        family.open({"main": bytes(data)})


def test_a_field_names_the_data_file_beside_the_index(tmp_path: Path) -> None:
    (tmp_path / "any.idx").write_bytes(b"\5world" + struct.pack("<I", 3))
    (tmp_path / "world.bin").write_bytes(b"sea")
    found = companions(NAMING, tmp_path / "any.idx")
    assert found["data"] == tmp_path / "world.bin"
    archive = open_archive(NAMING, {name: BytesSource(path.read_bytes()) for name, path in found.items()})
    assert archive.read(0) == b"sea"
    assert archive.prove().exact


@pytest.mark.parametrize("word", ["../up", "/etc/x", "a\\b", "c:x", "", ".."])
def test_a_header_leads_to_no_other_folder(word: str, tmp_path: Path) -> None:
    (tmp_path / "any.idx").write_bytes(bytes([len(word)]) + word.encode() + struct.pack("<I", 3))
    with pytest.raises(FormatError, match="no name of one beside"):
        companions(NAMING, tmp_path / "any.idx")
