"""KTX2 files: header fields, descriptors, supercompression, kept bytes, damage."""

from __future__ import annotations

import struct
import zlib

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from brae.core.assets.texture import formats, ktx2
from brae.core.assets.texture.encode import encode_levels, encode_like, encode_new
from brae.core.assets.texture.formats import PixelFormat
from brae.core.assets.texture.texture import Header
from brae.core.errors import BraeError, UnknownFormatError

KNOWN = [form for form in formats.all_formats() if form.name in ktx2._VK]


@pytest.mark.parametrize("pixel_format", KNOWN, ids=lambda form: form.name)
@pytest.mark.parametrize("scheme", ["none", "zstd", "zlib"])
def test_undoes_itself(pixel_format: PixelFormat, scheme: str, photo: np.ndarray) -> None:
    data = encode_new(photo, pixel_format, None, container="ktx2", scheme=scheme)
    texture = ktx2.read(data)
    assert (texture.header.format.name, texture.header.levels) == (pixel_format.name, 7)
    plain = ktx2.read(encode_new(photo, pixel_format, None, container="ktx2"))
    assert texture.levels == plain.levels
    assert texture.rewrite(texture.header, texture.levels) == data
    assert encode_like(texture.picture(), texture, texture.recipe()).data == data


def test_header_fields_of_the_specification(photo: np.ndarray) -> None:
    """KTX 2.0, section 3: identifier, vkFormat, typeSize, sides, counts, then offsets; levels smallest first in the
    file, uncompressed ones aligned to the least common multiple of block size and 4."""
    data = encode_new(photo, formats.BC1, None, container="ktx2")
    assert data[:12] == bytes([0xAB, 0x4B, 0x54, 0x58, 0x20, 0x32, 0x30, 0xBB, 0x0D, 0x0A, 0x1A, 0x0A])
    assert struct.unpack_from("<9I", data, 12) == (133, 1, 96, 64, 0, 0, 1, 7, 0)
    index = [struct.unpack_from("<3Q", data, 80 + 24 * level) for level in range(7)]
    assert [entry[0] for entry in index] == sorted((entry[0] for entry in index), reverse=True)
    assert all(offset % 8 == 0 and size == real for offset, size, real in index)
    assert index[0][0] + index[0][1] == len(data)


def test_descriptor_of_an_srgb_colour_block() -> None:
    """Khronos Data Format 1.3: KHR_DF_MODEL_BC7 is 134, sRGB transfer 2, BT.709 primaries 1, 4 x 4 texels."""
    found = ktx2.descriptor(formats.BC7, True)
    assert struct.unpack_from("<IIHH", found) == (44, 0, 2, 40)
    assert list(found[12:24]) == [134, 1, 2, 0, 3, 3, 0, 0, 16, 0, 0, 0]
    assert struct.unpack_from("<HBB", found, 28) == (0, 127, 0)


def test_descriptor_of_plain_bytes() -> None:
    """RGBSDA is model 1, alpha is channel 15, and in sRGB alpha alone is linear (qualifier 0x10)."""
    found = ktx2.descriptor(formats.RGBA8, True)
    samples = [struct.unpack_from("<HBB4xII", found, 28 + 16 * k) for k in range(4)]
    assert [(offset, bits + 1, kind) for offset, bits, kind, _, _ in samples] == [
        (0, 8, 0),
        (8, 8, 1),
        (16, 8, 2),
        (24, 8, 31),
    ]
    assert {upper for *_, upper in samples} == {255}


def test_keys_values_and_untouched_levels_are_kept(photo: np.ndarray) -> None:
    header = Header("ktx2", formats.BC3, 96, 64, 7)
    levels, _, _ = encode_levels(photo, header)
    pair = b"KTXwriter\0by hand\0"
    values = struct.pack("<I", len(pair)) + pair + b"\0" * (-len(pair) % 4)
    # Packed in a way that Brae would not choose itself.
    packed = {0: zlib.compress(levels[0], 1)}
    data = ktx2.write(header, levels, scheme="zlib", values=values, packed=packed)
    texture = ktx2.read(data)
    assert texture.rewrite(texture.header, texture.levels) == data
    changed = [*texture.levels[:1], bytes(len(levels[1])), *texture.levels[2:]]
    again = texture.rewrite(texture.header, changed)
    assert values in again
    assert packed[0] in again
    assert ktx2.read(again).levels == changed


@pytest.mark.parametrize(("shape", "surfaces", "depth"), [("cube", 6, 1), ("array", 3, 1), ("volume", 1, 4)])
def test_several_pictures(shape: str, surfaces: int, depth: int) -> None:
    rng = np.random.default_rng(1)
    header = Header("ktx2", formats.RGBA8, 8, 8, 3, shape=shape, surfaces=surfaces, depth=depth)  # type: ignore[arg-type]
    sheet = rng.integers(0, 256, (8 * header.pictures(), 8, 4), np.uint8)
    levels, _, _ = encode_levels(sheet, header)
    texture = ktx2.read(ktx2.write(header, levels))
    assert (texture.header.shape, texture.header.surfaces, texture.header.depth) == (shape, surfaces, depth)
    assert np.array_equal(texture.picture(), sheet)


def test_unknown_numbers_are_named(photo: np.ndarray) -> None:
    data = bytearray(encode_new(photo, formats.BC1, None, container="ktx2"))
    data[12:16] = (157).to_bytes(4, "little")
    with pytest.raises(UnknownFormatError, match="VkFormat 157"):
        ktx2.read(bytes(data))


@given(
    st.integers(0, 250), st.binary(min_size=1, max_size=9), st.integers(0, 300), st.sampled_from(["none", "zstd"])
)
def test_any_damage_is_a_result_or_a_clear_error(at: int, junk: bytes, cut: int, scheme: str) -> None:
    data = bytearray(
        encode_new(np.full((8, 12, 4), 77, np.uint8), formats.BC1, None, container="ktx2", scheme=scheme)
    )
    data[at : at + len(junk)] = junk
    try:
        assert ktx2.read(bytes(data[: len(data) - cut])).picture().shape[2] == 4
    except BraeError as error:
        assert error.message
