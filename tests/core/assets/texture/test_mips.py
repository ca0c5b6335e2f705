"""Mip levels: sizes, light, filters, directions, cut-outs."""

from __future__ import annotations

import numpy as np
import pytest
from benchmarks.normals import pictures
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from brae.core.assets.texture import formats, mips
from brae.core.assets.texture.chain import Explained, explain
from brae.core.assets.texture.encode import encode_like
from brae.core.assets.texture.formats.precision import linear_to_srgb, srgb_to_linear
from brae.core.assets.texture.mips import MipRule, make_levels, taps
from brae.core.assets.texture.texture import looks_like_normals
from tests.core.assets.texture.chains import FILTERS, chained


def test_light_of_srgb_values() -> None:
    """IEC 61966-2-1: the linear part, its end, the middle and the ends; 188 is half of the light."""
    assert srgb_to_linear(0.0) == 0
    assert srgb_to_linear(1.0) == pytest.approx(1)
    assert srgb_to_linear(0.04045) == pytest.approx(0.0031308, abs=1e-6)
    assert srgb_to_linear(0.5) == pytest.approx(0.21404114, abs=1e-7)
    assert linear_to_srgb(srgb_to_linear(np.linspace(0, 1, 99))) == pytest.approx(np.linspace(0, 1, 99))
    board = np.zeros((8, 8, 4), np.uint8)
    board[..., 3] = 255
    board[::2, ::2, :3] = board[1::2, 1::2, :3] = 255
    assert (make_levels(board, 2)[1][..., :3] == 188).all()
    assert (make_levels(board, 2, MipRule("data"))[1][..., :3] == 128).all(), "numbers are not light"
    assert (make_levels(formats.as_precision(board, "16"), 2)[1][..., :3] // 257 == 187).all()
    assert make_levels(formats.as_precision(board, "float"), 2)[1][..., :3] == pytest.approx(0.5)


@pytest.mark.parametrize("filter_", ["box", "kaiser", "lanczos"])
def test_levels_are_halved_down_to_one(filter_: mips.Filter) -> None:
    picture = np.full((20, 37, 4), 90, np.uint8)
    levels = make_levels(picture, formats.full_chain(37, 20), MipRule(filter=filter_))
    assert [level.shape[:2] for level in levels] == [(20, 37), (10, 18), (5, 9), (2, 4), (1, 2), (1, 1)]
    assert all((level == 90).all() for level in levels), "an even picture stays even at odd sides"


@given(st.integers(1, 40), st.integers(1, 40), st.sampled_from(["box", "kaiser", "lanczos"]), st.booleans())
def test_weights_sum_to_one(old: int, new: int, filter_: mips.Filter, wrap: bool) -> None:
    if new > old:
        old, new = new, old
    places, weights = taps(old, new, filter_, wrap)
    assert weights.sum(axis=1) == pytest.approx(1, abs=1e-5)
    assert places.min() >= 0
    assert places.max() < old


def test_lanczos_is_pillows() -> None:
    """The same filter of three lobes, in the middle of a picture, where no edge plays a part."""
    rng = np.random.default_rng(5)
    grey = rng.random((64, 64)).astype(np.float32)
    theirs = np.asarray(Image.fromarray(grey, "F").resize((32, 32), Image.Resampling.LANCZOS))
    mine = mips.resample(np.repeat(grey[..., None], 4, axis=2), 32, 32, "lanczos")[..., 0]
    assert mine[6:-6, 6:-6] == pytest.approx(theirs[6:-6, 6:-6], abs=1e-4)


def test_filters_keep_more_than_the_box() -> None:
    """A pattern of few pixels keeps more of its contrast by the sharper filters."""
    x = np.arange(64)
    wave = np.rint(127.5 + 100 * np.sin(x * 2 * np.pi / 6)).astype(np.uint8)
    picture = np.repeat(np.repeat(wave[None, :, None], 64, 0), 4, 2)
    picture[..., 3] = 255
    contrast = {
        name: float(make_levels(picture, 2, MipRule("data", name))[1][8:-8, 8:-8, 0].std())
        for name in ("box", "kaiser", "lanczos")
    }
    assert contrast["box"] < contrast["kaiser"]
    assert contrast["box"] < contrast["lanczos"]


def test_clear_pixels_do_not_bleed() -> None:
    picture = np.zeros((4, 4, 4), np.uint8)
    picture[:, :2] = (200, 100, 50, 255)
    picture[:, 2:] = (0, 255, 0, 0)
    assert make_levels(picture, 3)[2][0, 0].tolist() == [200, 100, 50, 128]


def test_edges_wrap_or_not() -> None:
    picture = np.zeros((16, 16, 4), np.uint8)
    picture[..., 3] = 255
    picture[:, -1, :3] = 255
    alone = make_levels(picture, 2, MipRule("data", "kaiser"))[1]
    around = make_levels(picture, 2, MipRule("data", "kaiser", wrap=True))[1]
    assert alone[:, 0, 0].max() == 0
    assert around[:, 0, 0].max() > 0


def test_directions_stay_one_long() -> None:
    bumps = np.zeros((16, 16, 4), np.uint8)
    bumps[..., 3] = 255
    bumps[:, ::2, :3], bumps[:, 1::2, :3] = (217, 128, 217), (38, 128, 217)
    plain = make_levels(bumps, 3, MipRule("data"))[2][..., :3] / 127.5 - 1
    unit = make_levels(bumps, 3, MipRule("normal"))[2][..., :3] / 127.5 - 1
    assert np.linalg.norm(plain, axis=2).max() < 0.8
    assert np.linalg.norm(unit, axis=2) == pytest.approx(1, abs=0.01)


def test_leaves_do_not_vanish_in_the_distance() -> None:
    """As much of a cut-out is left at every level as at the first, where plain averages lose it."""
    rng = np.random.default_rng(8)
    leaves = np.full((128, 128, 4), 80, np.uint8)
    leaves[..., 3] = 0
    for _ in range(130):
        y, x = rng.integers(0, 124, 2)
        leaves[y : y + 3, x : x + 4, 3] = 255
    wanted = float((leaves[..., 3] >= 128).mean())
    plain, kept = (make_levels(leaves, 5, MipRule(kind)) for kind in ("colour", "cut-out"))
    for level in (2, 3, 4):
        left = float((kept[level][..., 3] >= 128).mean())
        assert abs(left - wanted) < 0.35 * wanted
        assert abs(left - wanted) <= abs(float((plain[level][..., 3] >= 128).mean()) - wanted)


def test_slices_of_a_volume_are_averaged_in_pairs() -> None:
    slices = [np.full((2, 2, 4), value, np.uint8) for value in (10, 30, 50, 70, 90)]
    halved = mips.halve_depth(slices, MipRule("data"))
    assert [int(one[0, 0, 0]) for one in halved] == [20, 70]


@pytest.mark.parametrize("seed", [31, 32])
def test_normal_maps_that_nothing_names_are_told_by_their_pixels(seed: int) -> None:
    """Maps of photographs' slopes and photographs of scikit-image, packed by five formats, any alpha."""
    told = [(normal, looks_like_normals(picture)) for normal, picture in pictures(40, seed)]
    assert sum(normal == said for normal, said in told) >= 0.97 * len(told)
    assert not any(said for normal, said in told if not normal)


def test_what_is_not_seen_does_not_count() -> None:
    bumps = pictures(1, 5)[1][1].copy()
    bumps[..., 3] = 255
    bumps[: len(bumps) // 2] = 0
    assert looks_like_normals(bumps)
    assert not looks_like_normals(np.full((8, 8, 4), 255, np.uint8))


@pytest.mark.parametrize("content", ["colour", "data", "normal"])
@pytest.mark.parametrize("clear", [False, True])
def test_bands_of_large_pictures_make_the_same_levels(
    content: mips.Content, clear: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    rng = np.random.default_rng(3)
    picture = rng.integers(0, 256, (1536, 24, 4), dtype=np.uint8)
    picture[..., 3] = np.where(rng.random((1536, 24)) < 0.5, 0, 200) if clear else 255
    picture[600:700, :, 3] = 0 if clear else 255
    whole = make_levels(picture, 11, MipRule(content))
    monkeypatch.setattr(mips, "_LARGE", 0)
    banded = make_levels(picture, 11, MipRule(content))
    assert [one.shape for one in banded] == [one.shape for one in whole]
    assert all(np.array_equal(one, other) for one, other in zip(banded, whole, strict=True))


def test_what_the_games_own_levels_were_made_with_is_told() -> None:
    """Levels by Pillow's filters of light or of stored numbers, packed by etcpak; the bench has more of them."""
    named, same = [], []
    for one in chained(40, 11):
        recipe = one.texture.recipe()
        named.append((recipe.filter, recipe.linear) == (one.filter, one.linear))
        made, right = (
            make_levels(one.texture.picture(), 2, MipRule("colour", filter_, False, linear))[1].astype(float)
            for filter_, linear in ((recipe.filter, recipe.linear), (one.filter, one.linear))
        )
        same.append(np.sqrt(((made - right) ** 2).mean()) < 0.5)
    assert np.mean(named) >= 0.85
    assert np.mean(same) >= 0.9


def test_an_edit_gets_levels_like_the_originals() -> None:
    one = next(
        each for each in chained(20, 11) if each.form == "rgba8" and not each.linear and each.filter == "lanczos"
    )
    picture = one.texture.picture().copy()
    picture[64:128, 64:128, :3] = 255 - picture[64:128, 64:128, :3]
    recipe = one.texture.recipe()
    made = one.texture.again(encode_like(picture, one.texture, recipe).data)
    own = np.asarray(Image.fromarray(picture[..., :3]).resize((128, 128), Image.Resampling.LANCZOS)).astype(int)
    assert np.abs(made.picture(1)[..., :3] - own).max() <= 1, "Pillow makes the same level of the edit"
    assert encode_like(one.texture.picture(), one.texture, recipe).data == b"".join(one.texture.levels)


def test_flat_and_tiny_levels_tell_nothing() -> None:
    flat = [np.full((side, side, 4), 90, np.uint8) for side in (64, 32, 16)]
    assert explain(flat, "colour") == Explained(MipRule("colour"), 0.0)
    tiny = [np.zeros((side, side, 4), np.uint8) for side in (8, 4)]
    assert explain(tiny, "data") == Explained(MipRule("data"), 0.0)


@pytest.mark.parametrize("filter_", ["triangle", "cubic", "lanczos", "box"])
def test_filters_are_pillows(filter_: mips.Filter) -> None:
    rng = np.random.default_rng(4)
    picture = np.full((64, 48, 4), 255, np.uint8)
    picture[..., :3] = rng.integers(0, 256, (64, 48, 3))
    ours = make_levels(picture, 2, MipRule("data", filter_))[1][..., :3].astype(int)
    # As floats, since Pillow rounds between its two passes; what overshoots is cut.
    planes = [Image.fromarray(picture[..., c].astype(np.float32)) for c in range(3)]
    resized = np.stack([np.asarray(one.resize((24, 32), FILTERS[filter_])) for one in planes], axis=-1)
    theirs = np.rint(resized.clip(0, 255)).astype(int)
    # Pillow weighs what is beyond the edge as nothing, Brae repeats the last pixel.
    inner = slice(4, -4)
    assert np.abs(ours - theirs)[inner, inner].max() <= 1
