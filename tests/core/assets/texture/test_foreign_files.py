"""Textures and pictures as other programs write them; each check names who wrote it or the rule it follows."""

from __future__ import annotations

import io
import struct

import numpy as np
import pytest
import tifffile
from PIL import Image, ImageOps

from brae.core.assets.texture import dds, formats, ktx2
from brae.core.assets.texture.encode import encode_levels, encode_like
from brae.core.assets.texture.files import read_image, read_texture, sniff_texture, write_image, write_texture
from brae.core.assets.texture.mips import MipRule, with_third
from brae.core.assets.texture.sheet import match
from brae.core.assets.texture.texture import Header
from brae.core.layouts.library import Library

NORMAL = MipRule("normal")


def _texture(name: str, picture: np.ndarray, levels: int = 4) -> bytes:
    header = Header("dds", formats.get(name), picture.shape[1], picture.shape[0], levels)
    return write_texture(header, encode_levels(picture, header, rule=NORMAL)[0], dx10=True)


# ---- levels of directions of which two components are stored


@pytest.mark.parametrize("name", ["bc5", "bc5s", "rg8", "rg16"])
@pytest.mark.parametrize("blue", [0, 128, 255])
def test_levels_of_two_channel_normals_know_the_third(name: str, blue: int) -> None:
    """A uniform direction stays itself at every level, whatever stands in blue (closed form: z from x and y)."""
    picture = np.zeros((32, 32, 4), np.uint8)
    picture[..., 0], picture[..., 1], picture[..., 2], picture[..., 3] = 166, 153, blue, 255
    texture = read_texture(_texture(name, picture), Library())
    for level in range(4):
        shown = texture.shown(level)[..., :2].astype(int)
        assert np.abs(shown - (166, 153)).max() <= 1, f"level {level}: {shown[0, 0]}"
    changed = texture.picture().copy()
    most = 255 if changed.dtype == np.uint8 else 65535
    changed[0:4, 0:4, 0] = most * 200 // 255
    recipe = texture.recipe().model_copy(update={"content": "normal"})
    again = texture.again(encode_like(changed, texture, recipe).data, {})
    shown = again.shown(1)[..., :2].astype(int)
    assert np.abs(shown[4:] - (166, 153)).max() <= 1
    assert 185 <= shown[0, 0, 0] <= 203


def test_the_third_component_is_what_makes_a_direction_one_long() -> None:
    rng = np.random.default_rng(4)
    directions = rng.normal(size=(20, 20, 3)).astype(np.float32)
    directions[..., 2] = np.abs(directions[..., 2])
    directions /= np.linalg.norm(directions, axis=2, keepdims=True)
    picture = np.ones((20, 20, 4), np.float32)
    picture[..., :3] = directions * 0.5 + 0.5
    hidden = picture.copy()
    hidden[..., 2] = 0
    assert np.abs(with_third(hidden)[..., 2] - picture[..., 2]).max() < 1e-3


# ---- DDS headers that say less than there is


@pytest.mark.parametrize("flags", [0, 0x1007, 0x1007 | 0x80000])
@pytest.mark.parametrize("name", ["bc1", "bc3", "bgra8"])
def test_a_mip_count_without_its_flag_holds_where_the_bytes_are_there(name: str, flags: int) -> None:
    """Microsoft's DDS guide: writers must set DDSD_MIPMAPCOUNT, and readers must not rely on it."""
    rng = np.random.default_rng(2)
    picture = rng.integers(0, 256, (64, 64, 4), np.uint8)
    header = Header("dds", formats.get(name), 64, 64, 7)
    whole = bytearray(write_texture(header, encode_levels(picture, header)[0]))
    struct.pack_into("<I", whole, 8, flags)
    data = bytes(whole)
    texture = read_texture(data, Library())
    assert texture.header.levels == 7
    sniffed = sniff_texture(data[:512], Library(), "x.dds", len(data))
    assert sniffed is not None
    assert sniffed.levels == 7
    assert texture.rewrite(texture.header, texture.levels) == data, "the header is kept as it is"
    changed = texture.picture().copy()
    changed[:32, :32, :3] = 0
    made = encode_like(changed, texture, texture.recipe()).data
    assert made[:128] == data[:128]
    assert len(made) == len(data)
    last = slice(len(data) - len(texture.levels[-1]), len(data))
    assert made[last] != data[last], "the smallest level has changed as well"
    one = data[: 128 + header.format.size(64, 64)]
    assert read_texture(one, Library()).header.levels == 1, "there are bytes for one level only"


def test_levels_without_a_flag_are_read_as_pillow_reads_the_picture() -> None:
    """Pillow writes DDS files of one level; the first level stays the same with and without stated ones."""
    stream = io.BytesIO()
    Image.fromarray(np.random.default_rng(1).integers(0, 256, (16, 16, 4), np.uint8)).save(stream, "dds")
    assert dds.read(stream.getvalue()).header.levels == 1


# ---- pictures that say how they are to be turned


@pytest.mark.parametrize("turn", range(1, 9))
@pytest.mark.parametrize("kind", ["png", "jpeg", "webp", "tiff"])
def test_pictures_are_turned_as_they_say(kind: str, turn: int) -> None:
    """Written by Pillow with Exif's tag 274; upright is what Pillow's own exif_transpose gives."""
    pixels = np.zeros((48, 80, 3), np.uint8)
    pixels[:16, :24], pixels[32:, 56:] = (250, 30, 30), (30, 30, 250)
    image, stream = Image.fromarray(pixels), io.BytesIO()
    exif = image.getexif()
    exif[274] = turn
    more = {"lossless": True} if kind == "webp" else {"quality": 95} if kind == "jpeg" else {}
    image.save(stream, kind, **(more | ({"tiffinfo": {274: turn}} if kind == "tiff" else {"exif": exif.tobytes()})))
    opened = Image.open(io.BytesIO(stream.getvalue()))
    if kind == "tiff":
        opened.load()  # Pillow turns a TIFF when it loads it
        wanted = np.asarray(opened.convert("RGB"))
    else:
        wanted = np.asarray(ImageOps.exif_transpose(opened).convert("RGB"))
    found = read_image(stream.getvalue(), f"x.{kind}").picture[..., :3]
    assert found.shape == wanted.shape
    assert np.abs(found.astype(int) - wanted).max() <= (6 if kind == "jpeg" else 0)


@pytest.mark.parametrize("turn", range(1, 9))
def test_a_wide_tiff_is_turned_as_it_says(turn: int) -> None:
    """Written by tifffile; the same turn of an 8-bit one, as Pillow loads it, says what is upright."""
    pixels = np.random.default_rng(3).integers(0, 256, (5, 9, 3), np.uint8)
    wide, narrow = io.BytesIO(), io.BytesIO()
    extra = [(274, "H", 1, turn, True)]
    tifffile.imwrite(wide, pixels.astype(np.uint16) * 257, photometric="rgb", extratags=extra)
    tifffile.imwrite(narrow, pixels, photometric="rgb", extratags=extra)
    found = read_image(wide.getvalue(), "x.tif").picture
    assert found.dtype == np.uint16
    with Image.open(io.BytesIO(narrow.getvalue())) as image:
        image.load()
        assert (found[..., :3] // 257 == np.asarray(image.convert("RGB"))).all()


@pytest.mark.parametrize("kind", ["contig", "separate"])
def test_planes_of_sixteen_bits_are_read(kind: str) -> None:
    """Written by tifffile, channel by channel or pixel by pixel."""
    pixels = np.random.default_rng(5).integers(0, 65536, (6, 11, 3), np.uint16)
    stream = io.BytesIO()
    stored = pixels if kind == "contig" else np.moveaxis(pixels, 2, 0)
    tifffile.imwrite(stream, stored, photometric="rgb", planarconfig=kind)
    found = read_image(stream.getvalue(), "x.tif").picture
    assert found.dtype == np.uint16
    assert (found[..., :3] == pixels).all()


# ---- small and odd ones


@pytest.mark.parametrize("alpha", [True, False])
@pytest.mark.parametrize("sides", [(1, 1), (1, 2), (2, 1), (1, 9)])
def test_pictures_of_one_pixel_in_sixteen_bits(sides: tuple[int, int], alpha: bool) -> None:
    """Read back by tifffile's sister library and by Pillow."""
    picture = np.random.default_rng(6).integers(0, 65536, (*sides, 4), np.uint16)
    if not alpha:
        picture[..., 3] = 65535
    data = write_image(picture, "png", alpha=alpha)
    assert (read_image(data).picture == picture).all()
    with Image.open(io.BytesIO(data)) as image:
        assert image.size == (sides[1], sides[0])
        image.load()


def test_a_pixel_that_is_no_number_in_one_channel_keeps_its_bits() -> None:
    """R11G11B10F: a NaN in green beside ordinary red and blue (Direct3D 11 functional specification)."""
    rng = np.random.default_rng(8)
    bits = rng.integers(0, 1 << 32, (16, 16), np.uint32)
    bits &= ~np.uint32(0x1F << 6 | 0x1F << 17 | 0x1F << 27)  # no infinities
    bits[3, 4] |= np.uint32(0x1F << 17 | 5 << 11)
    header = Header("dds", formats.get("r11g11b10f"), 16, 16, 1)
    data = write_texture(header, [bits.astype("<u4").tobytes()], dx10=True)
    texture = read_texture(data, Library())
    assert np.isnan(texture.picture()[3, 4, 1])
    assert encode_like(texture.picture(), texture, texture.recipe()).data == data


# ---- what nobody sees


def test_alpha_of_254_here_and_there_is_opaque_and_costs_nothing() -> None:
    """As BC7 encoders give it for opaque pictures; what comes back from an editor has 255 everywhere."""
    rng = np.random.default_rng(9)
    picture = rng.integers(0, 256, (64, 64, 4), np.uint8)
    picture[..., 3] = np.where(rng.random((64, 64)) < 0.4, 254, 255)
    header = Header("dds", formats.get("bgra8"), 64, 64, 1)
    texture = read_texture(write_texture(header, encode_levels(picture, header)[0]), Library())
    assert texture.recipe().alpha == "none"
    painted = texture.picture().copy()
    painted[..., 3] = 255
    sheet, encoded = match(read_image(write_image(painted)), texture, texture.recipe(), [])
    assert sheet.findings == []
    assert encoded.kept == encoded.blocks
    soft = painted.copy()
    soft[8:16, 8:16, 3] = 120
    sheet, encoded = match(read_image(write_image(soft)), texture, texture.recipe(), [])
    assert [finding.id for finding in sheet.findings] == ["alpha-gained"], "what is seen is told"
    assert encoded.blocks - encoded.kept == 64


@pytest.mark.parametrize("kind", ["png", "webp"])
def test_the_size_of_a_packed_picture_is_no_finding(kind: str) -> None:
    """A loose PNG in a plain folder has another size after every change."""
    picture = np.full((32, 32, 4), (90, 120, 30, 255), np.uint8)
    texture = read_texture(write_image(picture, kind, alpha=False), Library(), f"a.{kind}")
    picture[:16] = np.random.default_rng(1).integers(0, 256, (16, 32, 4), np.uint8)
    picture[..., 3] = 255
    sheet, encoded = match(read_image(write_image(picture)), texture, texture.recipe(), [])
    assert len(encoded.data) != texture.size
    assert sheet.findings == []


@pytest.mark.parametrize(("value", "upright"), [(b"rd", True), (b"ru", False), (None, True)])
def test_a_ktx2_file_says_where_its_rows_begin(value: bytes | None, upright: bool) -> None:
    """KTX 2.0, section 5.2: with KTXorientation "ru" the first row is the lowest."""
    picture = np.zeros((16, 16, 4), np.uint8)
    picture[:8], picture[..., 3] = 200, 255
    entry = b"KTXorientation\0" + (value or b"") + b"\0"
    values = struct.pack("<I", len(entry)) + entry + bytes(-len(entry) % 4) if value else b""
    other = b"KTXwriter\0somebody else\0"
    values += struct.pack("<I", len(other)) + other + bytes(-len(other) % 4)
    header = Header("ktx2", formats.get("rgba8"), 16, 16, 1)
    data = ktx2.write(header, [picture.tobytes()], values=values)
    texture = read_texture(data, Library())
    assert texture.header.orientation == ("top-down" if upright else "bottom-up")
    shown = texture.picture()
    assert shown[0 if upright else -1, 0, 0] == 200
    assert texture.rewrite(texture.header, texture.levels) == data
    sniffed = sniff_texture(data[:512], Library(), "x.ktx2", len(data))
    assert sniffed is not None
    assert sniffed.orientation == texture.header.orientation


# ---- pixel formats that headers say in another way


@pytest.mark.parametrize(
    ("number", "name"),
    [(27, "rgba8"), (30, "rgba8"), (70, "bc1"), (76, "bc3"), (82, "bc5"), (90, "bgra8"), (97, "bc7"), (57, "r16")],
)
def test_typeless_and_whole_numbers_are_shown_and_keep_their_number(number: int, name: str) -> None:
    """Numbers from Microsoft's DXGI_FORMAT enumeration; the same bytes as with the UNORM number."""
    picture = np.random.default_rng(2).integers(0, 256, (16, 16, 4), np.uint8)
    header = Header("dds", formats.get(name), 16, 16, 1)
    plain = write_texture(header, encode_levels(picture, header)[0], dx10=True)
    data = plain[:128] + struct.pack("<I", number) + plain[132:]
    texture, wanted = read_texture(data, Library()), read_texture(plain, Library())
    assert (texture.picture() == wanted.picture()).all()
    changed = texture.picture().copy()
    changed[:8] = changed[:8][::-1]
    made = encode_like(changed, texture, texture.recipe()).data
    assert made[:148] == data[:148]
    assert made != data


@pytest.mark.parametrize(
    ("flags", "bits", "masks", "pixels", "shown"),
    [
        (0x20000, 16, (0xFFFF, 0, 0, 0), struct.pack("<H", 0x8000), (128, 128, 128, 255)),
        (0x40, 32, (0xFFFF, 0xFFFF0000, 0, 0), struct.pack("<HH", 0xFFFF, 0x4000), (255, 64, None, 255)),
        (0x40, 16, (0xF00, 0xF0, 0xF, 0), struct.pack("<H", 0x0F80), (255, 136, 0, 255)),
        (0x41, 16, (0xE0, 0x1C, 3, 0xFF00), struct.pack("<H", 0x80FF), (255, 255, 255, 128)),
    ],
    ids=["L16", "G16R16", "X4R4G4B4", "A8R3G3B2"],
)
def test_masks_of_older_formats(
    flags: int, bits: int, masks: tuple[int, ...], pixels: bytes, shown: tuple[int | None, ...]
) -> None:
    """D3DFORMAT's own definitions (Microsoft): which bits hold what; values by hand."""
    header = Header("dds", formats.get("bgra8"), 4, 4, 1)
    head = bytearray(write_texture(header, [bytes(64)])[:128])
    struct.pack_into("<2I4s5I", head, 76, 32, flags, bytes(4), bits, *masks)
    struct.pack_into("<I", head, 20, 4 * bits // 8)
    data = bytes(head) + pixels * 16
    texture = read_texture(data, Library())
    found = texture.shown()[1, 2].tolist()
    assert all(want is None or abs(have - want) <= 1 for have, want in zip(found, shown, strict=True)), found
    assert texture.rewrite(texture.header, texture.levels) == data
