"""Cube maps, arrays and volumes as one sheet; textures without a header; levels made by hand."""

from __future__ import annotations

import io

import numpy as np
import pytest
from PIL import Image

from brae.core.assets.texture import dds, described, formats
from brae.core.assets.texture.encode import encode_levels, encode_like, split_sheet
from brae.core.assets.texture.files import read_raw, read_texture
from brae.core.assets.texture.texture import Header
from brae.core.errors import FormatError, LimitError
from brae.core.layouts.library import Library
from brae.core.layouts.load import parse as parse_layout

SHAPES = [("cube", 6, 1), ("array", 3, 1), ("volume", 1, 5)]


def _sheet(header: Header) -> np.ndarray:
    rng = np.random.default_rng(3)
    small = rng.integers(0, 256, (2 * header.pictures(), 2, 4), np.uint8)
    sheet = np.asarray(Image.fromarray(small).resize((header.width, header.height * header.pictures())))
    result = sheet.copy()
    result[..., 3] = 255
    return result


@pytest.mark.parametrize("shape", SHAPES, ids=lambda shape: shape[0])
@pytest.mark.parametrize("pixel_format", [formats.BC1, formats.BC7, formats.BGRA8], ids=lambda form: form.name)
def test_a_dds_of_several_pictures(shape: tuple, pixel_format: formats.PixelFormat) -> None:
    """Only the pictures that were painted change, at every level; the rest keeps its bytes."""
    name, surfaces, depth = shape
    header = Header("dds", pixel_format, 16, 16, 5, shape=name, surfaces=surfaces, depth=depth)
    levels, _, _ = encode_levels(_sheet(header), header)
    data = dds.write(header, levels)
    texture = dds.read(data)
    assert (texture.header.shape, texture.header.pictures()) == (name, header.pictures())
    assert texture.rewrite(texture.header, texture.levels) == data
    assert encode_like(texture.picture(), texture, texture.recipe()).data == data
    painted = texture.picture().copy()
    painted[16 : 16 + 4, 0:4] = (250, 10, 20, 255)
    result = dds.read(encode_like(painted, texture, texture.recipe()).data)
    before, after = (split_sheet(one.picture(), header) for one in (texture, result))
    changed = [not np.array_equal(a, b) for a, b in zip(before, after, strict=True)]
    assert changed == [index == 1 for index in range(header.pictures())]


def test_faces_lie_one_behind_the_other() -> None:
    """Microsoft, "DDS File Layout for Cubic Environment Maps": each face with all its levels before the next."""
    header = Header("dds", formats.get("l8"), 2, 2, 2, shape="cube", surfaces=6)
    sheet = np.repeat(np.arange(6, dtype=np.uint8), 2)[:, None, None] * np.ones((1, 2, 4), np.uint8)
    sheet[..., 3] = 255
    levels, _, _ = encode_levels(sheet, header)
    assert list(dds.write(header, levels)[128:]) == [face for face in range(6) for _ in range(5)]


def test_pillow_reads_the_first_face() -> None:
    header = Header("dds", formats.BC1, 16, 16, 1, shape="cube", surfaces=6)
    levels, _, _ = encode_levels(_sheet(header), header)
    data = dds.write(header, levels)
    theirs = np.asarray(Image.open(io.BytesIO(data)).convert("RGBA"))
    assert np.array_equal(dds.read(data).picture()[:16], theirs)


def test_a_sheet_of_the_wrong_height_is_refused() -> None:
    header = Header("dds", formats.BGRA8, 16, 16, 1, shape="cube", surfaces=6)
    with pytest.raises(FormatError, match="6 pictures"):
        split_sheet(np.zeros((97, 16, 4), np.uint8), header)
    with pytest.raises(LimitError):
        Header("dds", formats.BGRA8, 16, 16, 1, surfaces=4000).check()


def test_pixels_without_a_header(photo: np.ndarray) -> None:
    header = Header("raw", formats.BC3, 96, 64, 3)
    levels, _, _ = encode_levels(photo, header)
    data = b"\x01\x02" + b"".join(levels) + b"behind"
    texture = read_raw(data, header, 2)
    assert texture.rewrite(texture.header, texture.levels) == data
    assert encode_like(texture.picture(), texture, texture.recipe()).data == data


def test_a_level_made_by_hand(photo: np.ndarray) -> None:
    """It is stored as it was painted, and no other level with it."""
    header = Header("dds", formats.BGRA8, 96, 64, 7)
    levels, _, _ = encode_levels(photo, header)
    texture = dds.read(dds.write(header, levels))
    own = np.full((16, 24, 4), (0, 255, 0, 255), np.uint8)
    result = dds.read(encode_like(texture.picture(), texture, texture.recipe(), replaced={2: own}).data)
    assert np.array_equal(result.picture(2), own)
    assert [a == b for a, b in zip(result.levels, texture.levels, strict=True)] == [True, True] + [False] + [
        True
    ] * 4
    with pytest.raises(LimitError, match="Level 2"):
        encode_like(texture.picture(), texture, texture.recipe(), replaced={2: own[:8]})


def test_another_format_by_choice(photo: np.ndarray) -> None:
    texture = dds.read(dds.write(Header("dds", formats.BC1, 96, 64, 1), [formats.BC1.encode(photo)]))
    recipe = texture.recipe().model_copy(update={"format": "bc7"})
    assert dds.read(encode_like(photo, texture, recipe).data).header.format.name == "bc7"


PALETTED = """
layout: old-sprite
title: A sprite of an older console
kind: texture
parts:
  - {field: magic, type: bytes, length: 2, value: "SP"}
  - {field: width, type: u8}
  - {field: height, type: u8}
  - {field: kind, type: u8, values: {1: index8, 2: index4}}
  - {field: levels, type: u8}
  - {bytes: colours, size: 32}
  - pixels: data
    facts: {width: width, height: height, format: kind, mips: levels}
    storage: {tiles: [{columns: 8, rows: 4}]}
    palette: {of: colours, format: argb1555}
    smallest_first: true
"""


def test_a_layout_with_palette_tiles_and_levels_from_the_smallest() -> None:
    layout = parse_layout(PALETTED)
    rng = np.random.default_rng(6)
    palette = rng.integers(0, 1 << 16, 16, np.uint16) | 0x8000
    index = rng.integers(0, 16, (8, 16), np.uint8)
    tiles = index.reshape(2, 4, 2, 8).swapaxes(1, 2).reshape(-1)
    small = np.arange(32, dtype=np.uint8) % 16
    data = b"SP" + bytes([16, 8, 1, 2]) + palette.astype("<u2").tobytes() + small.tobytes() + tiles.tobytes()
    library = Library()
    library.add(layout)
    texture = read_texture(data, library)
    colours = formats.get("argb1555").decode(palette.astype("<u2").tobytes(), 16, 1)[0]
    assert np.array_equal(texture.picture(), colours[index])
    assert texture.picture(1).shape == (4, 8, 4)
    assert texture.rewrite(texture.header, texture.levels) == data
    assert encode_like(texture.picture(), texture, texture.recipe()).data == data
    edit = texture.picture().copy()
    edit[0, 9] = colours[3]
    changed = encode_like(edit, texture, texture.recipe()).data
    assert [at for at in range(len(data)) if data[at] != changed[at] and at >= 70] == [38 + 32 + 32 + 1]
    with pytest.raises(FormatError):
        described.read(parse_layout(PALETTED.replace("index8", "bc1")), data)


def test_a_palette_that_is_no_part_is_a_fault_of_the_layout() -> None:
    from brae.core.errors import BraeError

    with pytest.raises(BraeError, match="no part 'bytes'"):
        parse_layout(PALETTED.replace("of: colours", "of: width"))
