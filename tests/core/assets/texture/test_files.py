"""Pixel formats, mips, DDS, files and encoding, against libraries and published values."""

from __future__ import annotations

import io
import struct

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra import numpy as arrays
from PIL import Image

from brae.core.assets.texture import dds, formats
from brae.core.assets.texture.encode import encode_like, encode_new
from brae.core.assets.texture.files import HEAD, read_image, read_raw, read_texture, sniff_texture, write_image
from brae.core.assets.texture.formats import PixelFormat
from brae.core.assets.texture.images import ImageFile, image_type
from brae.core.assets.texture.texture import Header
from brae.core.catalogue import describe
from brae.core.errors import BraeError, FormatError, LimitError, UnknownFormatError
from brae.core.layouts.library import Library
from brae.core.layouts.load import parse as parse_layout
from brae.demo import LAYOUTS, desktop

ALL = formats.all_formats()
every_format = pytest.mark.parametrize("pixel_format", ALL, ids=lambda form: form.name)
pictures = st.tuples(st.integers(1, 13), st.integers(1, 13)).flatmap(
    lambda sides: arrays.arrays(np.uint8, (*sides, 4), elements=st.integers(0, 255))
)


# ---- DDS

NOT_IN_DDS = {form.name for form in ALL if form.name.endswith("-be")}
NOT_IN_DDS |= {"index8", "index4", "index4-high", "rgb16", "rgb16f", "l16f", "la16", "la16f"}
UNKNOWN_TO_PILLOW = {"a8", "bc4s", "bc7", "yuyv", "uyvy", "r11g11b10f", "rgb9e5", "l16"}
UNKNOWN_TO_PILLOW |= {form.name for form in ALL if isinstance(form, formats.Swizzled)}
UNKNOWN_TO_PILLOW |= {f"{order}{kind}" for order in ("r", "rg", "rgb", "rgba") for kind in ("16", "16f", "32f")}


def test_dds_sizes_of_the_guide() -> None:
    """Microsoft's programming guide: 4 + 124 bytes, 20 more with DX10; level sizes by its formula."""
    assert dds.HEADER.itemsize == 128
    assert dds.HEADER.itemsize + dds.DX10.itemsize == 148
    picture = np.full((256, 512, 4), 200, np.uint8)
    assert len(encode_new(picture, formats.BC3, None)) == 174_928
    assert formats.chain_size(formats.BC3, 512, 256, 10) == 174_928 - 128
    assert len(encode_new(picture, formats.BC1, 1, dx10=True)) == 148 + 512 * 256 // 2


def test_dds_flags_of_the_guide() -> None:
    """Required flags CAPS, HEIGHT, WIDTH, PIXELFORMAT; MIPMAPCOUNT and COMPLEX | MIPMAP caps with levels."""
    for levels, flags, caps in ((1, 0x1007 | 0x80000, 0x1000), (7, 0x1007 | 0x80000 | 0x20000, 0x401008)):
        head = np.frombuffer(dds.write_header(Header("dds", formats.BC1, 64, 64, levels)), dds.HEADER)[0]
        assert (int(head["flags"]), int(head["caps"][0])) == (flags, caps)
        assert int(head["pitch_or_linear_size"]) == 64 * 64 // 2
    head = np.frombuffer(dds.write_header(Header("dds", formats.BGRA8, 64, 64, 1)), dds.HEADER)[0]
    assert (int(head["flags"]), int(head["pf_flags"]), int(head["pitch_or_linear_size"])) == (0x100F, 0x41, 256)


@every_format
@pytest.mark.parametrize("dx10", [False, True])
def test_dds_undoes_itself_and_pillow_reads_it(pixel_format: PixelFormat, dx10: bool, photo: np.ndarray) -> None:
    try:
        data = encode_new(photo, pixel_format, None, dx10=dx10)
    except UnknownFormatError as error:
        assert dx10 or pixel_format.name in NOT_IN_DDS, error
        return
    assert pixel_format.name not in NOT_IN_DDS
    texture = dds.read(data)
    assert (texture.header.format.name, texture.header.levels) == (pixel_format.name, 7)
    assert texture.rewrite(texture.header, texture.levels) == data
    if pixel_format.name == "al44":
        return  # Pillow takes its eight bits for grey alone
    try:
        theirs = np.asarray(Image.open(io.BytesIO(data)).convert("RGBA"))
    except (NotImplementedError, OSError):
        # Numbers that Pillow does not know; most are compared by their 128-byte header instead.
        assert dx10 or pixel_format.name in UNKNOWN_TO_PILLOW
        return
    if pixel_format.precision == "8":
        assert np.array_equal(texture.picture(), theirs)


def test_pillow_writes_dds_that_we_read(photo: np.ndarray) -> None:
    stream = io.BytesIO()
    Image.fromarray(photo).save(stream, "DDS")
    assert np.array_equal(dds.read(stream.getvalue()).picture(), photo)


def test_unknown_dds_formats_are_named() -> None:
    head = bytearray(dds.write_header(Header("dds", formats.BC1, 8, 8, 1)))
    head[84:88] = b"QXQX"
    with pytest.raises(UnknownFormatError, match="QXQX"):
        dds.read(bytes(head) + b"\0" * 64)
    with pytest.raises(LimitError):
        dds.read(dds.write_header(Header("dds", formats.BC1, 8, 8, 9)) + b"\0" * 400)


@pytest.mark.parametrize(
    ("code", "order"),
    [
        (b"RXGB", "xgbr"),
        (b"xGBR", "xgbr"),
        (b"xGxR", "xgxr"),
        (b"RxBG", "rxbg"),
        (b"RBxG", "rbxg"),
        (b"RGxB", "rgxb"),
    ],
)
def test_swizzled_normal_maps_are_read_as_what_they_mean(code: bytes, order: str, photo: np.ndarray) -> None:
    """Pillow writes and reads the stored channels of BC3; the codes are common practice, no source."""
    stored = np.full_like(photo, 0)
    for place, channel in enumerate(order):
        stored[..., place] = 0 if channel == "x" else photo[..., "rgb".index(channel)]
    stream = io.BytesIO()
    Image.fromarray(stored).save(stream, "DDS", pixel_format="DXT5")
    theirs = np.asarray(Image.open(io.BytesIO(stream.getvalue())).convert("RGBA"))
    data = stream.getvalue().replace(b"DXT5", code, 1)
    texture = dds.read(data)
    picture = texture.picture()
    for channel in texture.header.format.holds:
        assert np.array_equal(picture[..., "rgb".index(channel)], theirs[..., order.index(channel)])
    assert (picture[..., 3] == 255).all()
    again = encode_like(picture, texture, texture.recipe())
    assert again.data == data
    changed = picture.copy()
    changed[8:16, 8:24, :3] = 255 - changed[8:16, 8:24, :3]
    edit = texture.again(encode_like(changed, texture, texture.recipe()).data)
    assert edit.header.format is texture.header.format
    for channel in texture.header.format.holds:
        away = edit.picture()[..., "rgb".index(channel)].astype(int) - changed[..., "rgb".index(channel)]
        assert np.abs(away)[8:16, 8:24].mean() < 14


@given(
    st.sampled_from([form for form in ALL if form.name not in NOT_IN_DDS]),
    st.integers(0, 170),
    st.binary(min_size=1, max_size=8),
    st.integers(0, 400),
)
def test_mutated_dds_gives_a_result_or_a_clear_error(
    pixel_format: PixelFormat, at: int, junk: bytes, cut: int
) -> None:
    data = bytearray(encode_new(np.full((8, 12, 4), 77, np.uint8), pixel_format, None))
    data[at : at + len(junk)] = junk
    data = data[: len(data) - cut]
    try:
        texture = dds.read(bytes(data))
        assert texture.picture().shape[2] == 4
    except BraeError as error:
        assert error.message


# ---- files


def test_bitmap_size() -> None:
    """A 24-bit 256 x 256 bitmap is 196,662 bytes (common practice, no source)."""
    assert len(write_image(np.zeros((256, 256, 4), np.uint8), "bmp")) == 196_662


def test_png_is_pillows(photo: np.ndarray) -> None:
    data = write_image(photo)
    assert np.array_equal(np.asarray(Image.open(io.BytesIO(data))), photo)
    assert np.array_equal(read_image(data).picture, photo)
    assert Image.open(io.BytesIO(write_image(photo, alpha=False))).mode == "RGB"
    quick = Image.open(io.BytesIO(write_image(photo, quick=True)))
    assert np.array_equal(np.asarray(quick), photo)


@pytest.mark.parametrize(
    ("mode", "kind", "alpha", "bits"),
    [
        ("RGB", "PNG", False, 8),
        ("RGBA", "PNG", True, 8),
        ("P", "GIF", False, 8),
        ("RGB", "BMP", False, 8),
        ("RGB", "JPEG", False, 8),
        ("LA", "PNG", True, 8),
        ("RGBA", "TIFF", True, 8),
        ("RGBA", "WEBP", True, 8),
        ("I;16", "PNG", False, 16),
        ("1", "PNG", False, 8),
    ],
)
def test_what_editors_save_is_read(mode: str, kind: str, alpha: bool, bits: int) -> None:
    stream = io.BytesIO()
    gray = Image.linear_gradient("L").resize((20, 10))
    image = Image.fromarray(np.asarray(gray).astype(np.uint16) * 257) if mode == "I;16" else gray.convert(mode)
    if alpha:
        image.putalpha(gray)
    image.save(stream, kind, **({"lossless": True} if kind == "WEBP" else {}))
    found = read_image(stream.getvalue())
    assert isinstance(found, ImageFile)
    assert (found.type, found.has_alpha, found.bits) == (kind.lower(), alpha, bits)
    assert found.picture.shape == (10, 20, 4)
    if mode in ("RGB", "LA") and kind == "PNG":
        assert np.array_equal(found.picture[..., 0], np.asarray(gray))
    if mode == "I;16":
        assert np.array_equal(found.picture[..., 0], np.asarray(gray).astype(np.uint16) * 257)


@pytest.mark.parametrize("cut", [0, 1, 8, 30, 60, 200])
def test_half_saved_pictures_are_refused(cut: int, photo: np.ndarray) -> None:
    with pytest.raises(BraeError):
        read_image(write_image(photo)[:cut])


@given(
    st.binary(max_size=300),
    st.sampled_from(
        [
            b"",
            b"\x89PNG\r\n\x1a\n",
            b"BM",
            b"GIF89a",
            b"\xff\xd8\xff\xe0",
            b"II*\0",
            b"RIFF\x20\0\0\0WEBP",
            b"DDS |\0\0\0",
        ]
    ),
)
def test_any_bytes_are_a_picture_or_a_clear_error(junk: bytes, magic: bytes) -> None:
    try:
        assert read_image(magic + junk).picture.ndim == 3
    except BraeError as error:
        assert error.message


def test_huge_pictures_are_refused_before_they_are_decoded() -> None:
    head = bytearray(write_image(np.zeros((1, 1, 4), np.uint8)))
    head[16:24] = (100_000).to_bytes(4, "big") * 2
    with pytest.raises((LimitError, FormatError)):
        read_image(bytes(head))


# ---- the game's own textures


@pytest.mark.parametrize("name", ["bc1", "bc3", "bgra8", "bgr8"])
@pytest.mark.parametrize("bottom_up", [False, True])
@pytest.mark.parametrize("levels", [None, 1, 3])
def test_what_comes_back_untouched_is_equal_to_the_byte(
    name: str, bottom_up: bool, levels: int | None, photo: np.ndarray, library: Library
) -> None:
    data = desktop.ptx(photo, name, levels, bottom_up=bottom_up, stamp=5)
    texture = read_texture(data, library)
    assert texture.header == sniff_texture(data[:HEAD], library)
    recipe = texture.recipe()
    assert (recipe.width, recipe.height, recipe.format, recipe.size) == (96, 64, name, len(data))
    assert recipe.orientation == ("bottom-up" if bottom_up else "top-down")
    again = read_image(write_image(texture.picture(), alpha=texture.header.format.alpha != "none"))
    encoded = encode_like(again.picture, texture, recipe)
    assert encoded.data == data
    assert encoded.kept == encoded.blocks > 0


def test_only_painted_blocks_change(photo: np.ndarray, library: Library) -> None:
    data = desktop.ptx(photo, "bc3", None)
    texture = read_texture(data, library)
    picture = texture.picture().copy()
    picture[20:24, 40:44] = (1, 2, 3, 255)
    encoded = encode_like(picture, texture, texture.recipe())
    result = read_texture(encoded.data, library)
    old = np.frombuffer(texture.levels[0], np.uint8).reshape(16, 24, 16)
    new = np.frombuffer(result.levels[0], np.uint8).reshape(16, 24, 16)
    assert np.argwhere((old != new).any(axis=2)).tolist() == [[5, 10]]
    assert encoded.blocks - encoded.kept == 7, "one block of each of the seven levels"
    assert np.abs(result.picture()[20:24, 40:44].astype(int) - (1, 2, 3, 255)).max() <= 1, "a flat block"


def test_other_sides_get_their_own_chain(photo: np.ndarray, library: Library) -> None:
    texture = read_texture(desktop.ptx(photo, "bc1", None), library)
    encoded = encode_like(np.repeat(np.repeat(photo, 2, 0), 2, 1), texture, texture.recipe())
    result = read_texture(encoded.data, library)
    assert (result.header.width, result.header.height, result.header.levels) == (192, 128, 8)


@given(st.integers(0, 30), st.binary(min_size=1, max_size=6), st.integers(0, 3000))
def test_mutated_textures_give_a_result_or_a_clear_error(at: int, junk: bytes, cut: int) -> None:
    data = bytearray(desktop.ptx(np.full((16, 16, 4), 9, np.uint8), "bc3", None))
    data[at : at + len(junk)] = junk
    library = Library.of([LAYOUTS])
    try:
        assert read_texture(bytes(data[: len(data) - cut]), library).picture().shape[2] == 4
    except BraeError as error:
        assert error.message


BARE = """
layout: bare-icons
title: Icons without a magic, known by their names
kind: texture
match: {names: ["icon_*.raw"]}
parts:
  - {field: width, type: u16}
  - {field: height, type: u16}
  - {pixels: data, facts: {width: width, height: height, format: bgra8}}
"""


def test_a_texture_without_a_magic_is_known_by_its_name(library: Library) -> None:
    library.add(parse_layout(BARE))
    data = struct.pack("<HH", 2, 1) + bytes([3, 2, 1, 255, 6, 5, 4, 0])
    for name in ("icon_oar.raw", "pictures/ICON_oar.RAW"):
        assert read_texture(data, library, name).picture().tolist() == [[[1, 2, 3, 255], [4, 5, 6, 0]]]
        assert sniff_texture(data, library, name) == read_texture(data, library, name).header
    assert sniff_texture(data, library, "pictures/oar.raw") is None
    item = describe(data, library, label="icon_oar.raw", name="icon_oar.raw", stored=12, real=12, packer="none")
    assert (item.kind, item.container, item.facts["width"]) == ("texture", "bare-icons", 2)


def test_image_type_goes_by_the_bytes() -> None:
    assert image_type(b"\x89PNG\r\n\x1a\nrest") == "png"
    assert image_type(b"RIFF\0\0\0\0WAVE") is None


# ---- pictures of more than 8 bits, and the other open formats


@pytest.mark.parametrize("kind", ["png", "tiff"])
@pytest.mark.parametrize("alpha", [True, False])
def test_16_bits_survive(kind: str, alpha: bool) -> None:
    picture = np.random.default_rng(1).integers(0, 65536, (9, 13, 4), np.uint16)
    picture[..., 3] = picture[..., 3] if alpha else 65535
    found = read_image(write_image(picture, kind, alpha=alpha))
    assert (found.bits, found.type, found.has_alpha) == (16, kind, alpha)
    assert np.array_equal(found.picture, picture)


@pytest.mark.parametrize(("kind", "part"), [("exr", 0.0), ("tiff", 0.0), ("hdr", 2.0**-7)])
def test_light_survives(kind: str, part: float) -> None:
    light = (2.0 ** np.random.default_rng(1).uniform(-3, 9, (9, 13, 4))).astype(np.float32)
    light[..., 3] = 1
    if kind == "hdr":
        light[..., :3] = light[..., :1]  # one exponent for three channels
    found = read_image(write_image(light, kind))
    assert found.bits == 32
    assert (np.abs(found.picture - light) <= light * part).all()


@pytest.mark.parametrize("kind", ["tga", "webp", "bmp"])
def test_other_open_formats_hold_8_bits_exactly(kind: str, photo: np.ndarray) -> None:
    found = read_image(write_image(photo, kind), f"x.{kind}")
    channels = 3 if kind == "bmp" else 4
    assert (found.type, found.has_alpha) == (kind, kind != "bmp")
    assert np.array_equal(found.picture[..., :channels], photo[..., :channels])


def test_run_length_tga_is_read(photo: np.ndarray) -> None:
    stream = io.BytesIO()
    Image.fromarray(photo).save(stream, "TGA", compression="tga_rle")
    assert np.array_equal(read_image(stream.getvalue()).picture, photo)
    old = stream.getvalue()[:-26]
    assert np.array_equal(read_image(old, "boat.tga").picture, photo), "the old kind has no mark at its end"
    with pytest.raises(UnknownFormatError):
        read_image(old)


def test_pictures_are_sniffed_as_they_are_read(photo: np.ndarray, library: Library) -> None:
    wide = formats.as_precision(photo, "16")
    light = formats.as_precision(photo, "float")
    for data in (
        write_image(photo),
        write_image(wide),
        write_image(photo, "bmp"),
        write_image(light, "hdr"),
        write_image(light, "exr"),
        write_image(light, "exr", alpha=False),
        write_image(photo, "ktx2"),
        write_image(photo, "dds"),
    ):
        texture = read_texture(data, library)
        head = sniff_texture(data[:HEAD], library)
        assert head is not None
        assert (head.width, head.height, head.container) == (96, 64, texture.header.container)
        assert head.format.name == texture.header.format.name


@given(
    st.binary(max_size=200),
    st.sampled_from([b"#?RADIANCE\n", b"\x76\x2f\x31\x01", b"\xabKTX 20\xbb\r\n\x1a\n", b"MM\0*\0\0\0\x08"]),
)
def test_any_bytes_of_the_wide_formats_are_a_clear_error(junk: bytes, magic: bytes) -> None:
    try:
        assert read_image(magic + junk).picture.ndim == 3
    except BraeError as error:
        assert error.message


@given(st.data())
def test_a_part_of_a_level_is_what_the_whole_shows(data: st.DataObject) -> None:
    """Over all formats: rows are decoded where they are needed only."""
    pixel_format = data.draw(st.sampled_from(list(formats.all_formats())))
    width, height = data.draw(st.integers(1, 40)), data.draw(st.integers(1, 40))
    orientation = data.draw(st.sampled_from(["top-down", "bottom-up"]))
    surfaces = data.draw(st.sampled_from([1, 1, 6]))
    header = Header("raw", pixel_format, width, height, 1, orientation, "array", surfaces)
    size = header.data_size
    stored = np.random.default_rng(size).bytes(size)
    texture = read_raw(stored, header)
    whole = read_raw(stored, header).picture()
    left, top = data.draw(st.integers(0, width - 1)), data.draw(st.integers(0, height * surfaces - 1))
    wide, high = data.draw(st.integers(1, width - left)), data.draw(st.integers(1, height * surfaces - top))
    part = texture.region(0, left, top, wide, high)
    assert np.array_equal(part, whole[top : top + high, left : left + wide], equal_nan=part.dtype == np.float32)
    with pytest.raises(LimitError):
        texture.region(0, left, top, width + 1, high)
