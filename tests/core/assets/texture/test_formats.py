"""Every registered pixel format: sizes, second encoding, kept blocks, quality, errors; each against its source."""

from __future__ import annotations

import struct

import imagecodecs
import numpy as np
import pytest
import texture2ddecoder
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra import numpy as arrays
from PIL import Image

from brae.core.assets.texture import formats
from brae.core.assets.texture.formats import How, PixelFormat, Storage
from brae.core.assets.texture.formats.channels import Channels, PackedBits, grey_of
from brae.core.assets.texture.formats.indexed import Indexed
from brae.core.assets.texture.formats.yuv import Pairs
from brae.core.errors import FormatError, LimitError, TruncatedError
from brae.core.layouts.storage import Tile

ALL = formats.all_formats()
every_format = pytest.mark.parametrize("pixel_format", ALL, ids=lambda form: form.name)
pictures = st.tuples(st.integers(1, 13), st.integers(1, 13)).flatmap(
    lambda sides: arrays.arrays(np.uint8, (*sides, 4), elements=st.integers(0, 255))
)


def _psnr(a: np.ndarray, b: np.ndarray) -> float:
    error = np.mean((a.astype(float) - b) ** 2)
    return 99.0 if error == 0 else float(10 * np.log10(255**2 / error))


@given(st.sampled_from(ALL), pictures)
def test_sizes_and_second_encoding(pixel_format: PixelFormat, picture: np.ndarray) -> None:
    """Any sides from 1 x 1 work, and what was decoded encodes to the same pixels again."""
    height, width = picture.shape[:2]
    data = pixel_format.encode(picture)
    assert len(data) == pixel_format.size(width, height)
    decoded = pixel_format.decode(data, width, height)
    assert decoded.shape == picture.shape
    assert formats.precision_of(decoded) == pixel_format.precision
    if isinstance(pixel_format, Channels) and "l" not in pixel_format.holds:
        held = ["rgba".index(channel) for channel in pixel_format.holds]
        assert np.array_equal(decoded[..., held], picture[..., held])
    if pixel_format.block != (4, 4) and not isinstance(pixel_format, Pairs):
        assert np.array_equal(pixel_format.decode(pixel_format.encode(decoded), width, height), decoded)
    if pixel_format.alpha == "none":
        assert (formats.shown(decoded)[..., 3] == 255).all()


def _unused(pixel_format: PixelFormat, size: int) -> np.ndarray:
    """The bits of a block's bytes that hold nothing."""
    if isinstance(pixel_format, Channels):
        return np.array([255 * (channel == "X") for channel in pixel_format.order], np.uint8)
    if isinstance(pixel_format, PackedBits):
        bits = "".join(("1" if channel == "X" else "0") * many for channel, many in pixel_format.fields)
        return np.frombuffer(int(bits, 2).to_bytes(size, "big" if pixel_format.big else "little"), np.uint8)
    return np.zeros(size, np.uint8)


@given(st.sampled_from(ALL), pictures, st.data())
def test_kept_blocks_keep_their_bytes(pixel_format: PixelFormat, picture: np.ndarray, draw: st.DataObject) -> None:
    height, width = picture.shape[:2]
    rows, columns = formats.blocks_of(pixel_format, width, height)
    changed = draw.draw(arrays.arrays(bool, (rows, columns)))
    size = pixel_format.size(width, height)
    old = draw.draw(st.binary(min_size=size, max_size=size))
    mixed = pixel_format.encode(picture, How(keep=old, changed=changed))
    new = np.frombuffer(pixel_format.encode(picture), np.uint8).reshape(rows, columns, -1)
    before = np.frombuffer(old, np.uint8).reshape(rows, columns, -1)
    # A game may read what is said to be unused: it stays everywhere.
    unused = _unused(pixel_format, new.shape[-1])
    new = new & ~unused | before & unused
    assert np.array_equal(
        np.frombuffer(mixed, np.uint8).reshape(rows, columns, -1), np.where(changed[..., None], new, before)
    )


@given(st.sampled_from([one for one in ALL if one.block == (4, 4)]), st.data())
def test_a_block_does_not_depend_on_those_beside_it(pixel_format: PixelFormat, draw: st.DataObject) -> None:
    """Few values, extreme ones among them: where two ways to say a block are as good, the same one is taken."""
    few = st.sampled_from([0, 1, 12, 13, 254, 255])
    picture = draw.draw(arrays.arrays(np.uint8, (4, 24, 4), elements=few))
    together = pixel_format.encode(picture)
    alone = [pixel_format.encode(np.ascontiguousarray(picture[:, x : x + 4])) for x in range(0, 24, 4)]
    assert together == b"".join(alone)


@every_format
def test_short_data_is_refused(pixel_format: PixelFormat) -> None:
    with pytest.raises(TruncatedError):
        pixel_format.decode(b"\0" * (pixel_format.size(9, 9) - 1), 9, 9)
    for sides in ((0, 4), (4, 70000)):
        with pytest.raises(LimitError):
            pixel_format.decode(b"", *sides)


@every_format
def test_quality_on_a_picture(pixel_format: PixelFormat, photo: np.ndarray) -> None:
    if isinstance(pixel_format, Indexed):
        return  # as good as its palette
    decoded = formats.shown(pixel_format.decode(pixel_format.encode(photo), 96, 64))
    shown = photo[..., 3] == 255
    least, wanted = 30.0 if isinstance(pixel_format, Pairs) else 33.0, photo
    if isinstance(pixel_format, PackedBits):
        # A step of 1 / (2^n - 1) is off by a twelfth of its square on average: 10.8 + 6.02 n dB.
        least = min(45, 10.8 + 6.02 * min(bits for name, bits in pixel_format.fields if name in "RGBL") - 2)
    if "l" in pixel_format.holds and pixel_format.precision == "8":
        wanted = np.repeat(grey_of(photo)[..., None], 3, axis=2)
    elif "l" in pixel_format.holds:
        wide = formats.as_precision(photo, pixel_format.precision).astype(np.float64)[..., :3] @ [
            0.2126,
            0.7152,
            0.0722,
        ]
        grey = np.repeat(wide[..., None], 4, axis=2).astype(
            formats.as_precision(photo, pixel_format.precision).dtype
        )
        wanted = formats.shown(grey)
    held = ["rgb".index(channel) for channel in pixel_format.holds if channel in "rgb"]
    held = [0, 1, 2] if "l" in pixel_format.holds else held
    if held:
        assert _psnr(wanted[shown][:, held], decoded[shown][:, held]) > least
    if pixel_format.alpha == "full":
        bits = dict(getattr(pixel_format, "fields", ())).get("A", 4 if pixel_format is formats.BC2 else 8)
        assert _psnr(photo[..., 3], decoded[..., 3]) > min(45, 6.02 * bits + 2)


# ---- depths


@given(arrays.arrays(np.uint8, (3, 5, 4)))
def test_depths_give_8_bits_back(picture: np.ndarray) -> None:
    for depth in ("16", "float"):
        assert np.array_equal(formats.as_precision(formats.as_precision(picture, depth), "8"), picture)


@given(arrays.arrays(np.uint16, (3, 5, 4)))
def test_floats_give_16_bits_back(picture: np.ndarray) -> None:
    assert np.array_equal(formats.as_precision(formats.as_precision(picture, "float"), "16"), picture)


def test_exposure_doubles_the_light() -> None:
    light = np.full((1, 1, 4), 0.2, np.float32)
    brighter = np.full((1, 1, 4), 0.8, np.float32)
    assert np.array_equal(formats.shown(light, 2.0)[..., :3], formats.shown(brighter)[..., :3])


# ---- small floats


@pytest.mark.parametrize(
    ("bits", "value"),
    [(0x000, 0.0), (0x3C0, 1.0), (0x400, 2.0), (0x7BF, 65024.0), (0x001, 2.0**-20), (0x040, 2.0**-14)],
)
def test_eleven_bit_floats(bits: int, value: float) -> None:
    """Direct3D 11 functional specification, 3.1.3: 5 bits of exponent of bias 15, 6 bits behind it, no sign."""
    picture = formats.R11G11B10F.decode(struct.pack("<I", bits), 1, 1)
    assert picture[0, 0, 0] == value
    assert struct.unpack("<I", formats.R11G11B10F.encode(picture))[0] & 0x7FF == bits


def test_shared_exponent() -> None:
    """EXT_texture_shared_exponent: 0.5 with exponent 15 is 256 / 512; the greatest value is 65,408."""
    white = formats.RGB9E5.encode(np.full((1, 1, 4), 1.0, np.float32))
    assert struct.unpack("<I", white)[0] == (16 << 27) | (256 << 18) | (256 << 9) | 256
    high = formats.RGB9E5.decode(formats.RGB9E5.encode(np.full((1, 1, 4), 1e9, np.float32)), 1, 1)
    assert high[0, 0, 0] == 65408


@given(arrays.arrays(np.float32, (2, 3, 4), elements=st.floats(0, 60000, width=32)))
def test_float_formats_are_near_and_never_clipped_to_white(light: np.ndarray) -> None:
    for name, part in (("rgba16f", 2.0**-11), ("r11g11b10f", 2.0**-6), ("rgb32f", 0.0)):
        pixel_format = formats.get(name)
        again = pixel_format.decode(pixel_format.encode(light), 3, 2)[..., :3]
        assert (np.abs(again - light[..., :3]) <= light[..., :3] * part + 2.0**-14).all(), name
    shared = formats.RGB9E5.decode(formats.RGB9E5.encode(light), 3, 2)[..., :3]
    step = light[..., :3].max(axis=2, keepdims=True) / 256
    assert (np.abs(shared - light[..., :3]) <= step + 2.0**-24).all()


def test_half_floats_are_numpys() -> None:
    values = np.array([[0.1, 1, 65504, -2.5]], np.float32).reshape(1, 1, 4)
    assert formats.get("rgba16f").encode(values) == values.astype("<f2").tobytes()


# ---- palettes and pairs


def test_indices_are_looked_up_and_found_again() -> None:
    entries = np.array([[9, 8, 7, 255], [0, 0, 0, 0], [200, 100, 0, 255], [9, 8, 7, 255]], np.uint8)
    for name, stored in (("index4", 0x21), ("index4-high", 0x12)):
        indexed = formats.get(name).with_palette(entries)  # type: ignore[attr-defined]
        picture = indexed.decode(bytes([stored, 0x03 if name == "index4" else 0x30]), 3, 1)[:, :3]
        assert np.array_equal(picture[0], entries[[1, 2, 3]])
        assert indexed.encode(picture)[0] == stored, "of two equal entries the first is taken"
    with pytest.raises(FormatError):
        formats.INDEX8.with_palette(np.empty((0, 4), np.uint8))


def test_a_palette_of_clear_and_opaque_entries_has_binary_alpha() -> None:
    assert formats.INDEX8.with_palette(np.array([[0, 0, 0, 0], [1, 1, 1, 255]], np.uint8)).alpha == "binary"
    assert formats.INDEX8.alpha == "none"


def test_studio_range_of_yuv() -> None:
    """Microsoft, "About YUV Video": white is Y 235, black Y 16, both without colour (U = V = 128)."""
    for value, luma in ((255, 235), (0, 16)):
        grey = np.full((1, 2, 4), value, np.uint8)
        grey[..., 3] = 255
        assert formats.YUYV.encode(grey) == bytes([luma, 128, luma, 128])
        assert formats.UYVY.encode(grey) == bytes([128, luma, 128, luma])
        assert np.array_equal(formats.YUYV.decode(bytes([luma, 128, luma, 128]), 2, 1), grey)


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
        (formats.BC7, 7, 24, "RGBA"),
    ):
        mine = pixel_format.decode(blocks, width, 4)
        theirs = np.asarray(Image.frombytes(mode, (width, 4), blocks, "bcn", number).convert("RGBA"))
        assert np.array_equal(mine, theirs)


def _with_mode(blocks: bytes, mode: int) -> bytes:
    """BC7 blocks of a mode: as many zero bits as its number, then a one."""
    data = np.frombuffer(blocks, np.uint8).reshape(-1, 16).copy()
    data[:, 0] = (data[:, 0] & (0xFF << (mode + 1) & 0xFF)) | (1 << mode)
    return data.tobytes()


@pytest.mark.parametrize("mode", range(8))
@given(st.binary(min_size=16 * 6, max_size=16 * 6))
def test_all_eight_modes_of_bc7(mode: int, blocks: bytes) -> None:
    data = _with_mode(blocks, mode)
    mine = formats.BC7.decode(data, 24, 4)
    assert np.array_equal(mine, np.asarray(Image.frombytes("RGBA", (24, 4), data, "bcn", 7)))
    theirs = np.frombuffer(texture2ddecoder.decode_bc7(data, 24, 4), np.uint8).reshape(4, 24, 4)
    assert np.array_equal(mine, theirs[..., [2, 1, 0, 3]])


@pytest.mark.parametrize("number", [0, 1, 2, 6, 10, 14, 18, 22, 26, 30, 3, 7, 11, 15, 19, 31])
@pytest.mark.parametrize("pixel_format", [formats.BC6H, formats.BC6HS], ids=["unsigned", "signed"])
@given(st.binary(min_size=16 * 6, max_size=16 * 6))
def test_all_modes_of_bc6h(number: int, pixel_format: PixelFormat, blocks: bytes) -> None:
    """Half floats equal to imagecodecs' to the bit; 19 and 31 are reserved numbers, which decode to black."""
    data = np.frombuffer(blocks, np.uint8).reshape(-1, 16).copy()
    width = 2 if number < 2 else 5
    data[:, 0] = (data[:, 0] & (0xFF << width & 0xFF)) | number
    theirs = imagecodecs.bcn_decode(
        data.tobytes(), -6 if pixel_format is formats.BC6HS else 6, shape=(4, 24, 3)
    ).astype(np.float32)
    assert np.array_equal(pixel_format.decode(data.tobytes(), 24, 4)[..., :3], theirs, equal_nan=True)


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


@given(st.binary(min_size=16 * 6, max_size=16 * 6))
def test_signed_channels_are_pillows(blocks: bytes) -> None:
    theirs = np.asarray(Image.frombytes("RGB", (24, 4), blocks, "bcn", (5, "BC5S")).convert("RGBA"))
    assert np.array_equal(formats.BC5S.decode(blocks, 24, 4), theirs)
    first = np.frombuffer(blocks, np.uint8).reshape(-1, 2, 8)[:, 0].tobytes()
    assert np.array_equal(formats.BC4S.decode(first, 24, 4)[..., 0], theirs[..., 0])


# ---- order of storage


STORAGES = [
    Storage(tiles=(Tile(columns=8, rows=4),)),
    Storage(tiles=(Tile(columns=4, rows=4, order="columns"), Tile(columns=2, rows=2))),
    Storage(morton="x-first"),
    Storage(morton="y-first"),
    Storage(pitch=64),
    Storage(pitch=4),
    Storage(align=256),
]


@given(st.sampled_from(STORAGES), st.sampled_from(ALL), pictures)
def test_any_format_in_any_order(storage: Storage, pixel_format: PixelFormat, picture: np.ndarray) -> None:
    """Stored in another order it decodes to the same, keeps what lies in its padding, and undoes itself."""
    height, width = picture.shape[:2]
    tiled = formats.stored(pixel_format, storage)
    data = tiled.encode(picture)
    assert len(data) == tiled.size(width, height) >= pixel_format.size(width, height)
    plain = pixel_format.decode(pixel_format.encode(picture), width, height)
    assert np.array_equal(tiled.decode(data, width, height), plain)
    rows, columns = formats.blocks_of(pixel_format, width, height)
    old = bytes(byte ^ 0xA5 for byte in data)
    assert tiled.encode(picture, How(keep=old, changed=np.zeros((rows, columns), bool))) == old
    with pytest.raises(TruncatedError):
        tiled.decode(data[:-1], width, height)


def test_morton_order_of_a_small_square() -> None:
    """The order of interleaved bits, written out (G. M. Morton, 1966)."""
    grey = np.arange(16, dtype=np.uint8).reshape(4, 4)
    picture = np.dstack([grey] * 3 + [np.full((4, 4), 255, np.uint8)])
    stored = formats.stored(formats.get("l8"), Storage(morton="x-first")).encode(picture)
    assert list(stored) == [0, 1, 4, 5, 2, 3, 6, 7, 8, 9, 12, 13, 10, 11, 14, 15]
    wide = formats.stored(formats.get("l8"), Storage(morton="x-first"))
    assert list(wide.encode(picture[:2])) == [0, 1, 4, 5, 2, 3, 6, 7]


def test_micro_tiles_of_32_bytes() -> None:
    """4 x 4 pixels of 32 bits as two halves: alpha and red of all, green and blue of all (common practice)."""
    rng = np.random.default_rng(2)
    picture = rng.integers(0, 256, (4, 8, 4), np.uint8)
    storage = Storage(tiles=(Tile(columns=4, rows=4),), split=((0, 1), (2, 3)))
    data = np.frombuffer(formats.stored(formats.get("argb8"), storage).encode(picture), np.uint8)
    first = picture[:, :4].reshape(16, 4)
    assert np.array_equal(data[:32].reshape(16, 2), first[:, [3, 0]])
    assert np.array_equal(data[32:64].reshape(16, 2), first[:, [1, 2]])
    with pytest.raises(FormatError):
        formats.stored(formats.RGB8, storage)
