"""Pixels without a header: what is proposed, and that anything may be asked."""

from __future__ import annotations

from itertools import product

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from brae.core.assets.texture import formats
from brae.core.assets.texture.encode import encode_levels
from brae.core.assets.texture.files import read_raw
from brae.core.assets.texture.formats import Storage
from brae.core.assets.texture.guess import PaletteAt, propose, thumbnail
from brae.core.assets.texture.guess.looks import busiest
from brae.core.assets.texture.guess.order import warmth
from brae.core.assets.texture.texture import Header
from brae.core.layouts.storage import Tile
from brae.demo import art
from tests.core.assets.texture.bare import MEASURED, TUNED_ON, bare, indexed, photographs


@pytest.fixture(scope="module")
def rock() -> np.ndarray:
    return np.ascontiguousarray(art.rock(np.random.default_rng(11), 256))


def _bytes(picture: np.ndarray, pixel_format: formats.PixelFormat, levels: int) -> bytes:
    header = Header("raw", pixel_format, picture.shape[1], picture.shape[0], levels)
    data, _, _ = encode_levels(picture, header)
    return b"".join(data)


@pytest.mark.parametrize("levels", [1, 9])
@pytest.mark.parametrize("name", ["bc1", "bc3", "bc4", "bc5", "bc6h", "bc7", "rgba8", "rgb8"])
def test_format_sides_and_levels_are_found(name: str, levels: int, rock: np.ndarray) -> None:
    wide = np.ascontiguousarray(rock[:128])
    picture = rock if levels == 9 else wide
    data = _bytes(picture, formats.get(name), levels)
    # Which of red and blue comes first is a guess, and both are there.
    best = next(guess for guess in propose(data)[:2] if guess.format == name)
    assert (best.width, best.height, best.levels) == (256, picture.shape[0], levels)
    assert best.order_guessed == (name in ("rgba8", "rgb8"))
    assert ("is a guess" in best.words) == best.order_guessed
    texture = read_raw(data, best.header(data), best.offset)
    assert texture.rewrite(texture.header, texture.levels) == data
    assert max(thumbnail(data, best).shape[:2]) <= 128


def test_odd_sides_are_found(rock: np.ndarray) -> None:
    small = np.asarray(Image.fromarray(rock).resize((120, 84)))
    best = propose(_bytes(np.ascontiguousarray(small), formats.BC1, 1))[0]
    assert (best.format, best.width, best.height) == ("bc1", 120, 84)


def test_tiles_are_found(rock: np.ndarray) -> None:
    tiled = formats.stored(formats.RGBA8, Storage(tiles=(Tile(columns=8, rows=8),)))
    best = propose(_bytes(rock, tiled, 1))[0]
    assert (best.format, best.width, best.height) in (("rgba8", 256, 256), ("bgra8", 256, 256))
    assert best.storage == Storage(tiles=(Tile(columns=8, rows=8),))


def test_a_palette_before_its_indices_is_found(rock: np.ndarray) -> None:
    few = np.asarray(Image.fromarray(rock).convert("RGB").quantize(64))
    colours = np.array(Image.fromarray(rock).convert("RGB").quantize(64).getpalette(), np.uint8)[:192].reshape(
        64, 3
    )
    # Numbers in no order, as an old program hands them out.
    order = np.random.default_rng(2).permutation(256)
    entries = np.zeros((256, 4), np.uint8)
    entries[order[:64], :3], entries[:, 3] = colours, 255
    blobs = np.kron(few[::8, ::8], np.ones((8, 8), np.uint8))
    data = entries.tobytes() + order.astype(np.uint8)[blobs].tobytes()
    best = next(guess for guess in propose(data)[:2] if guess.palette == PaletteAt(at=0, format="rgba8"))
    assert (best.format, best.width, best.height, best.offset) == ("index8", 256, 256, 1024)
    assert np.array_equal(read_raw(data, best.header(data), 1024).picture(), entries[order.astype(np.uint8)[blobs]])


@given(st.binary(max_size=3000))
def test_any_bytes_may_be_asked_about(data: bytes) -> None:
    for guess in propose(data):
        assert 0 <= guess.fit <= 1
        assert thumbnail(data, guess).ndim == 3


def test_real_pictures_are_understood() -> None:
    """scikit-image's photographs, packed by etcpak and numpy: nothing was tuned on these. The bench has more."""
    items = list(bare(photographs(MEASURED), 48, 2026))
    found = [[one.fits(guess) for guess in propose(one.data)[:3]] for one in items]
    assert np.mean([any(hits[:1]) for hits in found]) >= 0.9
    assert np.mean([any(hits) for hits in found]) >= 0.97


@pytest.mark.parametrize("rows", [range(0, 32), range(112, 144), range(224, 256)])
def test_what_is_nearly_empty_is_looked_at_where_something_is(rows: range, rock: np.ndarray) -> None:
    picture = np.zeros_like(rock)
    picture[rows] = rock[rows]
    data = picture.tobytes()
    first = busiest(data, 4, 1 << 12)
    assert rows[0] * 1024 - 4096 < first < (rows[-1] + 1) * 1024
    best = propose(data)[0]
    assert (best.format, best.width, best.height) in (("rgba8", 256, 256), ("bgra8", 256, 256))


def test_where_all_changes_alike_the_middle_is_looked_at() -> None:
    data = np.random.default_rng(3).bytes(1 << 20)
    assert abs(busiest(data, 16, 1 << 14) / (1 << 20) - 0.375) < 0.15


def test_pictures_that_are_hardly_larger_than_their_palettes() -> None:
    """Eighteen photographs of 32 x 32 (scikit-image), 256 colours by Pillow's median cut: 100 of 108 were right."""
    told = []
    for picture in photographs(TUNED_ON + MEASURED).values():
        small = np.asarray(Image.fromarray(picture).resize((32, 32), Image.Resampling.LANCZOS))
        for kind, place in product(("rgba8", "rgb8", "argb1555"), ("before", "behind")):
            data, _ = indexed(small, "index8", 1, place, kind)
            first = [one for one in propose(data)[:2] if one.palette is not None]
            at = 0 if place == "before" else 1024
            told.append(any((one.width, one.height, one.palette.at) == (32, 32, at) for one in first))
    assert sum(told) >= 95


def test_two_channels_are_not_one_that_is_twice_as_wide() -> None:
    picture = np.asarray(Image.fromarray(photographs(("cat",))["cat"]).resize((64, 96)))
    data = _bytes(np.ascontiguousarray(picture), formats.get("bc5"), 1)
    best = propose(data)[0]
    assert (best.format, best.width, best.height) == ("bc5", 64, 96)


def test_a_byte_that_looks_like_an_alpha_is_one(rock: np.ndarray) -> None:
    """Greys with a hard cut-out, and 4 bits of each of a drawing that nearly fills them."""
    cut = np.dstack([rock[..., 1], np.where(np.hypot(*np.mgrid[-1:1:256j, -1:1:256j]) < 0.8, 255, 0)])
    best = propose(cut.astype(np.uint8).tobytes())[0]
    assert (best.format, best.width, best.height) == ("la8", 256, 256)
    bits = rock.astype(np.uint16) >> 4
    packed = (15 << 12 | bits[..., 0] << 8 | bits[..., 1] << 4 | bits[..., 2]).astype("<u2").tobytes()
    assert propose(packed)[0].format in ("argb4444", "abgr4444")


def test_what_is_hardly_explained_keeps_its_order() -> None:
    fits = [one.fit for one in propose(np.random.default_rng(5).bytes(5000))]
    assert min(fits) > 0
    assert max(fits) < 0.05
    assert fits == sorted(fits, reverse=True)
    assert len(set(fits)) > len(fits) // 2


def test_colours_tell_red_from_blue_where_they_can() -> None:
    """Right on three of four photographs, and silent on a grey one (camera)."""
    pictures = photographs(TUNED_ON + MEASURED)
    told = {name: warmth(picture) for name, picture in pictures.items()}
    assert told["camera"] == 0
    some = [value for value in told.values() if value != 0]
    assert np.mean([value > 0 for value in some]) >= 0.75
    assert all(warmth(pictures[name][..., [2, 1, 0, 3]]) == pytest.approx(-value) for name, value in told.items())


def test_a_fourth_byte_that_is_always_0_follows_blue_green_and_red(rock: np.ndarray) -> None:
    """As in Windows bitmaps (RGBQUAD), in pixels and in a palette; nothing of it is shown as clear."""
    plain = np.ascontiguousarray(rock[..., [2, 1, 0, 3]])
    plain[..., 3] = 0
    best = propose(plain.tobytes())[0]
    assert (best.format, best.width, best.height) == ("bgrx8", 256, 256)
    assert np.array_equal(thumbnail(plain.tobytes(), best, 256)[..., :3], rock[..., :3])
    grey = np.repeat(plain[..., 1:2], 4, axis=2)
    grey[..., 3] = 0
    assert propose(grey.tobytes())[0].format == "rgbx8"
    # One pixel that is seen, anywhere, makes it an alpha.
    plain[201, 77, 3] = 255
    assert {one.format for one in propose(plain.tobytes())[:2]} == {"rgba8", "bgra8"}
    image = Image.fromarray(rock).convert("RGB").quantize(256)
    entries = np.zeros((256, 4), np.uint8)
    entries[:, :3] = np.array(image.getpalette(), np.uint8).reshape(-1, 3)[:, ::-1]
    best = propose(entries.tobytes() + np.asarray(image).tobytes())[0]
    assert (best.format, best.palette) == ("index8", PaletteAt(at=0, format="bgrx8"))


def test_a_palette_of_three_bytes_has_red_in_front() -> None:
    """Also where the colours speak for the other order (blue rocks)."""
    blue = np.asarray(Image.fromarray(photographs(("coffee",))["coffee"]).resize((128, 64)))[..., [2, 1, 0, 3]]
    assert warmth(blue) < 0
    data, _ = indexed(blue, "index8", 1, "before", "rgb8")
    assert [one.palette and one.palette.format for one in propose(data)[:2]] == ["rgb8", "bgr8"]
