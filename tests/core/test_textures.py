"""Pixel formats, mips, DDS, files and encoding, against libraries and published values."""

from __future__ import annotations

import io
import struct

import numpy as np
import pytest
import texture2ddecoder
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra import numpy as arrays
from PIL import Image

from brae.core.catalogue import describe
from brae.core.errors import BraeError, FormatError, LimitError, TruncatedError, UnknownFormatError
from brae.core.layouts.library import Library
from brae.core.layouts.load import parse as parse_layout
from brae.core.textures import dds, formats, mips
from brae.core.textures.encode import encode_like, encode_new
from brae.core.textures.files import (
    HEAD,
    ImageFile,
    image_type,
    read_dds,
    read_image,
    read_texture,
    sniff_texture,
    write_image,
)
from brae.core.textures.formats import PixelFormat
from brae.core.textures.formats.channels import Channels, PackedBits, grey_of
from brae.demo import LAYOUTS, desktop

ALL = formats.all_formats()
every_format = pytest.mark.parametrize("pixel_format", ALL, ids=lambda form: form.name)
pictures = st.tuples(st.integers(1, 13), st.integers(1, 13)).flatmap(
    lambda sides: arrays.arrays(np.uint8, (*sides, 4), elements=st.integers(0, 255))
)


def _psnr(a: np.ndarray, b: np.ndarray) -> float:
    error = np.mean((a.astype(float) - b) ** 2)
    return 99.0 if error == 0 else float(10 * np.log10(255**2 / error))


# ---- every registered format


@given(st.sampled_from(ALL), pictures)
def test_sizes_and_second_encoding(pixel_format: PixelFormat, picture: np.ndarray) -> None:
    """Any sides from 1 x 1 work, and what was decoded encodes to the same pixels again."""
    height, width = picture.shape[:2]
    data = pixel_format.encode(picture)
    assert len(data) == formats.level_size(pixel_format, width, height)
    decoded = pixel_format.decode(data, width, height)
    assert decoded.shape == picture.shape
    if pixel_format.block == 1:
        if isinstance(pixel_format, Channels) and "l" not in pixel_format.holds:
            held = ["rgba".index(channel) for channel in pixel_format.holds]
            assert np.array_equal(decoded[..., held], picture[..., held])
        assert np.array_equal(pixel_format.decode(pixel_format.encode(decoded), width, height), decoded)
    if pixel_format.alpha == "none":
        assert (decoded[..., 3] == 255).all()


@given(st.sampled_from(ALL), pictures, st.data())
def test_kept_blocks_keep_their_bytes(pixel_format: PixelFormat, picture: np.ndarray, draw: st.DataObject) -> None:
    height, width = picture.shape[:2]
    rows, columns = formats.blocks_of(pixel_format, width, height)
    changed = draw.draw(arrays.arrays(bool, (rows, columns)))
    old = draw.draw(
        st.binary(
            min_size=rows * columns * pixel_format.block_bytes, max_size=rows * columns * pixel_format.block_bytes
        )
    )
    mixed = pixel_format.encode(picture, keep=old, changed=changed)
    new = np.frombuffer(pixel_format.encode(picture), np.uint8).reshape(rows, columns, -1)
    before = np.frombuffer(old, np.uint8).reshape(rows, columns, -1)
    assert np.array_equal(
        np.frombuffer(mixed, np.uint8).reshape(rows, columns, -1), np.where(changed[..., None], new, before)
    )


@every_format
def test_short_data_is_refused(pixel_format: PixelFormat) -> None:
    with pytest.raises(TruncatedError):
        pixel_format.decode(b"\0" * (formats.level_size(pixel_format, 9, 9) - 1), 9, 9)
    for sides in ((0, 4), (4, 70000)):
        with pytest.raises(LimitError):
            pixel_format.decode(b"", *sides)


@every_format
def test_quality_on_a_picture(pixel_format: PixelFormat, photo: np.ndarray) -> None:
    decoded = pixel_format.decode(pixel_format.encode(photo), 96, 64)
    shown = photo[..., 3] == 255
    least, wanted = 33.0, photo
    if isinstance(pixel_format, PackedBits):
        # A step of 1 / (2^n - 1) is off by a twelfth of its square on average: 10.8 + 6.02 n dB.
        least = min(45, 10.8 + 6.02 * min(bits for name, bits in pixel_format.fields if name in "RGBL") - 2)
    if "l" in pixel_format.holds:
        wanted = np.repeat(grey_of(photo)[..., None], 3, axis=2)
    held = ["rgb".index(channel) for channel in pixel_format.holds if channel in "rgb"]
    held = [0, 1, 2] if "l" in pixel_format.holds else held
    if held:
        assert _psnr(wanted[shown][:, held], decoded[shown][:, held]) > least
    if pixel_format.alpha == "full":
        bits = dict(getattr(pixel_format, "fields", ())).get("A", 4 if pixel_format is formats.BC2 else 8)
        assert _psnr(photo[..., 3], decoded[..., 3]) > min(45, 6.02 * bits + 2)


# ---- block compression


@given(st.binary(min_size=16 * 6, max_size=16 * 6))
def test_bc_blocks_decode_as_pillow_does(blocks: bytes) -> None:
    """Bit-identical to Pillow for any bytes, punch-through alpha and BC3's four colours included."""
    for pixel_format, number, width, mode in (
        (formats.BC1, 1, 48, "RGBA"),
        (formats.BC2, 2, 24, "RGBA"),
        (formats.BC3, 3, 24, "RGBA"),
        (formats.BC4, 4, 48, "L"),
        (formats.BC5, 5, 24, "RGB"),
    ):
        mine = pixel_format.decode(blocks, width, 4)
        theirs = np.asarray(Image.frombytes(mode, (width, 4), blocks, "bcn", number).convert("RGBA"))
        assert np.array_equal(mine, theirs)


def test_bc_blocks_decode_as_a_second_library_does(photo: np.ndarray) -> None:
    """texture2ddecoder answers in BGRA; it loses punch-through alpha, so only opaque blocks are compared."""
    opaque = photo.copy()
    opaque[..., 3] = 255
    for pixel_format, decode in (
        (formats.BC1, texture2ddecoder.decode_bc1),
        (formats.BC3, texture2ddecoder.decode_bc3),
    ):
        source = opaque if pixel_format is formats.BC1 else photo
        data = pixel_format.encode(source)
        theirs = np.frombuffer(decode(data, 96, 64), np.uint8).reshape(64, 96, 4)[..., [2, 1, 0, 3]]
        difference = np.abs(pixel_format.decode(data, 96, 64).astype(int) - theirs)
        if pixel_format is formats.BC3:
            # It also reads BC3 blocks with c0 <= c1 by the three-colour rule; ours are written with c0 > c1.
            ends = np.frombuffer(data, "<u2").reshape(-1, 8)[:, 4:6]
            flat = np.repeat(np.repeat((ends[:, 0] <= ends[:, 1]).reshape(16, 24), 4, 0), 4, 1)
            difference = difference[~flat]
        assert difference.max() <= 1, "libraries round the steps between two colours differently by one"


def test_opaque_stays_opaque_and_clear_stays_clear(photo: np.ndarray) -> None:
    opaque = photo.copy()
    opaque[..., 3] = 255
    for pixel_format in (formats.BC1, formats.BC3):
        assert (pixel_format.decode(pixel_format.encode(opaque), 96, 64)[..., 3] == 255).all()
    hard = photo.copy()
    hard[..., 3] = np.where(photo[..., 3] > 100, 255, 0)
    for pixel_format in (formats.BC1, formats.BC3):
        assert np.array_equal(pixel_format.decode(pixel_format.encode(hard), 96, 64)[..., 3], hard[..., 3])
    assert (formats.BC1.decode(formats.BC1.encode(hard, clear=False), 96, 64)[..., 3] == 255).all()


@given(st.tuples(*[st.integers(0, 255)] * 3))
def test_flat_blocks_are_as_near_as_the_format_allows(colour: tuple[int, int, int]) -> None:
    """No pair of ends comes nearer to a flat colour: every pair of 5- and 6-bit values is tried."""
    flat = np.full((4, 4, 4), 255, np.uint8)
    flat[..., :3] = colour
    found = np.abs(formats.BC1.decode(formats.BC1.encode(flat), 4, 4)[0, 0, :3].astype(int) - colour)
    for channel, bits in enumerate((5, 6, 5)):
        steps = np.arange(1 << bits)
        wide = (steps << (8 - bits)) | (steps >> (2 * bits - 8))
        third = (2 * wide[:, None] + wide) // 3
        best = min(np.abs(wide - colour[channel]).min(), np.abs(third - colour[channel]).min())
        assert found[channel] <= best + 1


# ---- mips


def test_light_of_srgb_values() -> None:
    """IEC 61966-2-1: the linear part, its end, the middle and the ends; 188 is half of the light."""
    assert mips.srgb_to_linear(0.0) == 0
    assert mips.srgb_to_linear(1.0) == pytest.approx(1)
    assert mips.srgb_to_linear(0.04045) == pytest.approx(0.0031308, abs=1e-6)
    assert mips.srgb_to_linear(0.5) == pytest.approx(0.21404114, abs=1e-7)
    assert mips.linear_to_srgb(mips.srgb_to_linear(np.linspace(0, 1, 99))) == pytest.approx(np.linspace(0, 1, 99))
    board = np.zeros((8, 8, 4), np.uint8)
    board[..., 3] = 255
    board[::2, ::2, :3] = board[1::2, 1::2, :3] = 255
    assert (mips.make_levels(board, 2)[1][..., :3] == 188).all()


def test_levels_are_halved_down_to_one() -> None:
    picture = np.full((20, 37, 4), 90, np.uint8)
    levels = mips.make_levels(picture, formats.full_chain(37, 20))
    assert [level.shape[:2] for level in levels] == [(20, 37), (10, 18), (5, 9), (2, 4), (1, 2), (1, 1)]
    assert all((level == 90).all() for level in levels), "an even picture stays even at odd sides"


def test_clear_pixels_do_not_bleed() -> None:
    picture = np.zeros((4, 4, 4), np.uint8)
    picture[:, :2] = (200, 100, 50, 255)
    picture[:, 2:] = (0, 255, 0, 0)
    level = mips.make_levels(picture, 3)[2]
    assert level[0, 0].tolist() == [200, 100, 50, 128]


@given(arrays.arrays(bool, st.tuples(st.integers(1, 30), st.integers(1, 30))))
def test_a_changed_pixel_reaches_every_level(mask: np.ndarray) -> None:
    """Whoever paints a pixel changes the levels that are made of it, and the mask knows all of those places."""
    rng = np.random.default_rng(3)
    before = rng.integers(0, 256, (*mask.shape, 4), np.uint8)
    after = before.copy()
    after[mask] ^= 0x80
    count = formats.full_chain(mask.shape[1], mask.shape[0])
    masks = mips.changed_levels(mask, count)
    for level, (old, new) in enumerate(
        zip(mips.make_levels(before, count), mips.make_levels(after, count), strict=True)
    ):
        assert not ((old != new).any(axis=2) & ~masks[level]).any()


# ---- DDS


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
        head = np.frombuffer(dds.write_header(formats.BC1, 64, 64, levels), dds.HEADER)[0]
        assert (int(head["flags"]), int(head["caps"][0])) == (flags, caps)
        assert int(head["pitch_or_linear_size"]) == 64 * 64 // 2
    head = np.frombuffer(dds.write_header(formats.BGRA8, 64, 64, 1), dds.HEADER)[0]
    assert (int(head["flags"]), int(head["pf_flags"]), int(head["pitch_or_linear_size"])) == (0x100F, 0x41, 256)


@every_format
@pytest.mark.parametrize("dx10", [False, True])
def test_dds_undoes_itself_and_pillow_reads_it(pixel_format: PixelFormat, dx10: bool, photo: np.ndarray) -> None:
    try:
        data = encode_new(photo, pixel_format, None, dx10=dx10)
    except UnknownFormatError as error:
        assert dx10 or pixel_format.name.endswith("-be"), error
        return
    texture = read_dds(data)
    assert (texture.header.format.name, texture.header.levels) == (pixel_format.name, 7)
    assert texture.write(texture.levels, 96, 64) == data
    if pixel_format.name == "al44":
        return  # Pillow takes its eight bits for grey alone
    try:
        theirs = np.asarray(Image.open(io.BytesIO(data)).convert("RGBA"))
    except NotImplementedError:
        # Numbers that Pillow does not know; most are compared by their 128-byte header instead.
        assert dx10 or pixel_format.name == "a8"
        return
    assert np.array_equal(texture.picture(), theirs)


def test_pillow_writes_dds_that_we_read(photo: np.ndarray) -> None:
    stream = io.BytesIO()
    Image.fromarray(photo).save(stream, "DDS")
    assert np.array_equal(read_dds(stream.getvalue()).picture(), photo)


def test_unknown_dds_formats_are_named() -> None:
    head = bytearray(dds.write_header(formats.BC1, 8, 8, 1))
    head[84:88] = b"RXGB"
    with pytest.raises(UnknownFormatError, match="RXGB"):
        read_dds(bytes(head) + b"\0" * 64)
    with pytest.raises(LimitError):
        read_dds(dds.write_header(formats.BC1, 8, 8, 9) + b"\0" * 400)


@given(
    st.sampled_from([form for form in ALL if not form.name.endswith("-be")]),
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
        texture = read_dds(bytes(data))
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
    if mode in ("RGB", "LA", "I;16") and kind == "PNG":
        assert np.array_equal(found.picture[..., 0], np.asarray(gray))


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
pixel_format: bgra8
parts:
  - {field: width, type: u16, role: width}
  - {field: height, type: u16, role: height}
  - {pixels: data}
"""


def test_a_texture_without_a_magic_is_known_by_its_name(library: Library) -> None:
    library.add(parse_layout(BARE))
    data = struct.pack("<HH", 2, 1) + bytes([3, 2, 1, 255, 6, 5, 4, 0])
    for name in ("icon_oar.raw", "pictures/ICON_oar.RAW"):
        assert read_texture(data, library, name).picture().tolist() == [[[1, 2, 3, 255], [4, 5, 6, 0]]]
        assert sniff_texture(data, library, name) == read_texture(data, library, name).header
    assert sniff_texture(data, library, "pictures/oar.raw") is None
    item = describe(data, library, level="icon_oar.raw", name="icon_oar.raw", stored=12, real=12, packer="none")
    assert (item.kind, item.container, item.width) == ("texture", "bare-icons", 2)


def test_image_type_goes_by_the_bytes() -> None:
    assert image_type(b"\x89PNG\r\n\x1a\nrest") == "png"
    assert image_type(b"RIFF\0\0\0\0WAVE") is None
