"""Pixels without a header: what is proposed, and that anything may be asked."""

from __future__ import annotations

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
from brae.core.assets.texture.guess.order import warmth
from brae.core.assets.texture.texture import Header
from brae.core.layouts.storage import Tile
from brae.demo import art
from tests.core.assets.texture.bare import MEASURED, TUNED_ON, bare, photographs


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
    assert np.mean([any(hits[:1]) for hits in found]) >= 0.85
    assert np.mean([any(hits) for hits in found]) >= 0.9


def test_colours_tell_red_from_blue_where_they_can() -> None:
    """Right on three of four photographs, and silent on a grey one (camera)."""
    pictures = photographs(TUNED_ON + MEASURED)
    told = {name: warmth(picture) for name, picture in pictures.items()}
    assert told["camera"] == 0
    some = [value for value in told.values() if value != 0]
    assert np.mean([value > 0 for value in some]) >= 0.75
    assert all(warmth(pictures[name][..., [2, 1, 0, 3]]) == pytest.approx(-value) for name, value in told.items())
