"""Every type of value, in either order of bytes; textures whose layout says things once for all."""

from __future__ import annotations

import struct

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from brae.core.assets.said import check
from brae.core.assets.texture import dds, formats
from brae.core.assets.texture.described import read as read_described
from brae.core.assets.texture.encode import encode_like
from brae.core.errors import FormatError, LayoutError, UnknownFormatError
from brae.core.layouts.digits import BASES, as_text, number_of, numbers_of
from brae.core.layouts.load import parse as parse_layout
from brae.core.layouts.read import parse
from brae.core.layouts.write import compose
from brae.core.sources import MAIN, BytesSource

NUMBERS = {
    "u8": (200, "B"), "i8": (-7, "b"), "u16": (50_000, "H"), "i16": (-300, "h"), "u32": (4_000_000_000, "I"),
    "i32": (-70_000, "i"), "u64": (2**63 + 5, "Q"), "i64": (-(2**40), "q"), "f32": (0.5, "f"), "f64": (-1e9, "d"),
}  # fmt: skip


@pytest.mark.parametrize("endian", ["little", "big"])
def test_every_scalar(endian: str) -> None:
    parts = "".join(f"- {{field: v_{name}, type: {name}}}\n" for name in NUMBERS)
    layout = parse_layout(
        f"layout: all\ntitle: All\nkind: archive\nendian: {endian}\nparts:\n{parts}"
        "- {field: title, type: string, end: nul, length: 40}\n"
        "- {field: tag, type: string, length: v_u8 - 192, encoding: latin-1}\n"
        "- {field: count, type: u16, align: 4, is: count(list)}\n"
        "- {table: list, count: count, record: [{field: at, type: u16, role: offset},"
        " {field: n, type: u16, role: stored-size}]}\n"
        "- {members: data, of: list}\n"
    )
    sign = "<" if endian == "little" else ">"
    data = b"".join(struct.pack(sign + code, value) for value, code in NUMBERS.values())
    data += b"a title\0" + b"\xe9" * 8
    data += bytes(-len(data) % 4)
    data += struct.pack(sign + "HHH", 1, len(data) + 6, 3) + b"abc"
    parsed = parse(layout, {MAIN: BytesSource(data)})
    for name, (value, _) in NUMBERS.items():
        if name[0] in "ui":
            assert parsed.values[f"v_{name}"] == value
    assert (parsed.texts["title"], parsed.texts["tag"]) == (b"a title\0", b"\xe9" * 8)
    assert b"".join(compose(parsed).read(MAIN)) == data
    with pytest.raises(FormatError, match="No zero byte"):
        parse(layout, {MAIN: BytesSource(data.replace(b"a title\0", b"x" * 8).replace(b"\0", b"\1"))})


PLAIN = """
layout: plain
title: Sides only; the rest holds for every texture of the game
kind: texture
endian: big
parts:
  - {field: magic, type: u32, value: 0x50494331}
  - {field: height, type: u32}
  - {field: width, type: u32}
  - {field: size, type: u32, is: size(pixels)}
  - {pixels: pixels, align: 32, facts: {width: width, height: height, format: bc1, rows: bottom-up}}
"""


def test_what_holds_for_every_texture(photo: np.ndarray) -> None:
    layout = parse_layout(PLAIN)
    picture = photo.copy()
    picture[..., 3] = 255
    pixels = formats.BC1.encode(np.ascontiguousarray(picture[::-1]))
    data = struct.pack(">IIII", 0x50494331, 64, 96, len(pixels) + 5) + bytes(16) + pixels + b"extra"
    texture = read_described(layout, data)
    assert (texture.header.width, texture.header.levels, texture.header.orientation) == (96, 1, "bottom-up")
    assert np.abs(texture.picture().astype(int) - picture).mean() < 6, "shown the right way up"
    assert encode_like(texture.picture(), texture, texture.recipe()).data == data, "what lies behind is kept"
    smaller = encode_like(texture.picture()[:32, :32], texture, texture.recipe()).data
    assert struct.unpack_from(">IIII", smaller) == (0x50494331, 32, 32, 32 * 32 // 2 + 5)
    assert smaller.endswith(b"extra")


def test_numbers_without_a_meaning_are_named(photo: np.ndarray) -> None:
    text = PLAIN.replace("format: bc1", "format: size").replace("is: size(pixels)", "values: {1: bc1}")
    with pytest.raises(UnknownFormatError, match="what format 7 is"):
        read_described(parse_layout(text), struct.pack(">IIII", 0x50494331, 4, 4, 7) + bytes(40))
    with pytest.raises(LayoutError, match="do not say the texture's width") as caught:
        parse_layout(PLAIN.replace("width: width, ", ""), check=check)
    assert caught.value.line is not None
    wide = PLAIN.replace("width: width", "width: {of: width, values: {4: wide}}")
    with pytest.raises(LayoutError, match="'width' cannot be so: a whole number is wanted, not 'wide'"):
        parse_layout(wide, check=check)
    with pytest.raises(FormatError, match="width: a whole number is wanted, not 'wide'"):
        read_described(parse_layout(wide), struct.pack(">IIII", 0x50494331, 4, 4, 8) + bytes(40))
    with pytest.raises(LayoutError, match="has one part"):
        parse_layout(PLAIN.replace("kind: texture", "kind: archive"))


def test_a_dds_keeps_what_its_header_holds(photo: np.ndarray) -> None:
    """Words in the reserved fields, a level count of zero, bytes behind the pixels: all as it was."""
    from brae.core.assets.texture.encode import encode_new

    data = bytearray(encode_new(photo, formats.BC3, 1))
    data[32:44] = b"made by hand"
    data += b"behind"
    texture = dds.read(bytes(data))
    assert encode_like(texture.picture(), texture, texture.recipe()).data == bytes(data)
    painted = texture.picture().copy()
    painted[:8, 40:48] = (255, 0, 0, 255)
    result = encode_like(painted, texture, texture.recipe()).data
    assert len(result) == len(data)
    assert result[:128] == bytes(data[:128])
    assert result != bytes(data)


# ---- numbers written as text


@given(
    st.lists(st.integers(0, 8**11 - 1), min_size=1, max_size=9), st.sampled_from(["octal", "decimal", "hex"]),
    st.sampled_from(["zeros", "spaces"]), st.sampled_from([b"\0", b" ", b"\0 "]), st.data(),
)  # fmt: skip
def test_numbers_in_digits_are_what_python_reads_and_keep_their_look(
    numbers: list[int], kind: str, front: str, end: bytes, data: st.DataObject
) -> None:
    form = {"octal": "o", "decimal": "d", "hex": "X"}[kind]

    def written(number: int) -> bytes:
        text = format(number, form)
        return (text.rjust(14, " ") if front == "spaces" else text.rjust(14, "0")).encode() + end

    width = 14 + len(end)
    raw = np.frombuffer(b"".join(map(written, numbers)), np.uint8).reshape(-1, width)
    base = BASES[kind]
    assert numbers_of(raw, base).tolist() == numbers
    assert [number_of(row.tobytes(), base, 0) for row in raw] == numbers
    others = data.draw(st.lists(st.integers(0, 8**11 - 1), min_size=len(numbers), max_size=len(numbers)))
    again = as_text(np.array(others), raw, base)
    for row, (before, number) in enumerate(zip(numbers, others, strict=True)):
        # One that has no letter says nothing of their case.
        same = again[row].tobytes() == written(number)
        assert same or again[row].tobytes().lower() == written(number).lower()
        assert same or not any(sign in "ABCDEF" for sign in format(before, "X"))


def test_a_number_with_too_many_digits_is_refused() -> None:
    with pytest.raises(LayoutError, match="more digits than a field of 4"):
        as_text(np.array([8**3]), np.frombuffer(b"001\0", np.uint8).reshape(1, 4), 8)
    with pytest.raises(FormatError, match="is no number"):
        number_of(b"12x4", 10, 7)
