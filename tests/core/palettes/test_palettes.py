"""Palettes against Pillow's quantizer on the pictures that scikit-image ships; CIEDE2000 by scikit-image."""

from __future__ import annotations

import io
import struct

import numpy as np
import pytest
import skimage.data
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image
from scipy.ndimage import uniform_filter
from skimage.color import deltaE_ciede2000, rgb2lab

from brae.core.assets.palette.riff import read
from brae.core.errors import FormatError
from brae.core.palettes.best import Palette, Reserved, best, distinct, mapped, placed, storable
from brae.core.palettes.dither import Ditherer
from brae.core.palettes.files import described, indexed, written
from brae.core.palettes.loss import loss


def _picture(name: str) -> np.ndarray:
    return np.asarray(Image.fromarray(getattr(skimage.data, name)()).convert("RGB").resize((192, 192)))


PICTURES = [_picture(name) for name in ("astronaut", "coffee", "chelsea", "rocket")]


def _apart(one: np.ndarray, two: np.ndarray) -> np.ndarray:
    return deltaE_ciede2000(rgb2lab(one), rgb2lab(two))


@pytest.mark.parametrize("entries", [16, 64, 256])
@pytest.mark.parametrize("pictures", [*[[one] for one in PICTURES], PICTURES], ids=["a", "b", "c", "d", "all"])
def test_less_is_lost_than_by_a_known_quantizer(pictures: list[np.ndarray], entries: int) -> None:
    """Pillow: median cut with k-means, no dithering."""
    whole = np.concatenate(pictures)
    other = np.asarray(
        Image.fromarray(whole)
        .quantize(entries, Image.Quantize.MEDIANCUT, kmeans=3, dither=Image.Dither.NONE)
        .convert("RGB")
    )
    found = best(pictures, entries)
    ours = found.colours[mapped(whole, found)]
    assert _apart(whole, ours).mean() < _apart(whole, other).mean()
    if entries < 64:  # of few entries neither way of searching finds the best: see decision 0022
        return
    numbers = best(pictures, entries, way="numbers")
    squared = ((whole.astype(float) - numbers.colours[mapped(whole, numbers, "numbers")]) ** 2).mean()
    assert squared <= ((whole.astype(float) - other) ** 2).mean()


def test_patterns_keep_the_mean_of_a_gradient_and_leave_flat_areas_alone() -> None:
    """In the mean over its surroundings patterns are nearer to the original than the nearest entries."""
    ramp = np.repeat(
        np.repeat(np.linspace(0, 255, 128).astype(np.uint8)[None, :, None], 64, axis=0), 3, axis=2
    ).copy()
    ramp[:24, :24] = 90
    entries = np.array([[0] * 3, [64] * 3, [128] * 3, [192] * 3, [255] * 3], np.uint8)
    palette = Palette(entries, np.ones(5, bool))

    def off(how: str) -> float:
        made = entries[Ditherer(palette, how, "numbers").mapped(ramp)].astype(float)
        assert len(np.unique(made[1:23, 1:23])) == 1, "an area of one colour stays one"
        return float(np.abs(uniform_filter(made[..., 0] - ramp[..., 0], 8))[32:56, 8:-8].mean())

    plain = off("none")
    assert off("ordered") < plain / 3
    assert off("diffused") < plain / 4


@pytest.mark.parametrize("how", ["ordered", "diffused"])
def test_what_does_not_move_does_not_flicker(how: str) -> None:
    picture = PICTURES[0]
    other = picture.copy()
    other[10:20, 10:20] = PICTURES[1][10:20, 10:20]
    found = Ditherer(best([picture], 16), how)
    first, second = found.mapped(picture), found.mapped(other)
    away = np.ones(first.shape, bool)
    away[8:22, 8:22] = False
    assert np.array_equal(first[away], second[away])
    assert (first != second).any()


def test_what_is_not_seen_is_not_dithered() -> None:
    picture = np.dstack([PICTURES[0], np.full((192, 192), 255, np.uint8)])
    picture[:50, :, 3] = 0
    palette = best([picture], 16, Reserved({}, 0))
    for how in ("ordered", "diffused"):
        made = Ditherer(palette, how).mapped(picture)
        assert (made[:50] == 0).all()
        assert (made[50:] > 0).all()


def test_new_colours_go_where_the_entries_change_least() -> None:
    before = np.array([[0, 0, 0], [200, 10, 10], [10, 200, 10], [200, 10, 10], [90, 90, 90]], np.uint8)
    new = np.array([[20, 190, 20], [200, 10, 10], [250, 250, 250]], np.uint8)
    found = placed(before, new)
    assert found[1].tolist() == [200, 10, 10]
    assert found[2].tolist() == [20, 190, 20]
    assert {tuple(colour) for colour in found.tolist()} >= {tuple(colour) for colour in new.tolist()}
    assert int((found != before).any(axis=1).sum()) == 2
    assert np.array_equal(placed(before, new[:0]), before)
    random = np.random.default_rng(5)
    many = random.integers(0, 256, (20_000, 3), np.uint8)
    assert {*map(tuple, many[:9000].tolist())} <= {*map(tuple, placed(many[::-1].copy(), many[:9000]).tolist())}
    other = random.integers(0, 256, (9_000, 3), np.uint8)
    assert {*map(tuple, other.tolist())} <= {*map(tuple, placed(many, other).tolist())}


def test_few_colours_are_exact() -> None:
    picture = (np.arange(64, dtype=np.uint8).reshape(8, 8)[..., None] * np.array([3, 2, 1], np.uint8)).astype(
        np.uint8
    )
    found = best([picture], 64)
    assert (found.colours[mapped(picture, found)] == picture).all()
    assert loss(picture, found.colours[mapped(picture, found)])["mean"] == 0


def test_reserved_entries_stay_in_place_and_serve() -> None:
    reserved = Reserved({0: (255, 0, 255), 7: (12, 34, 56), 9: None}, transparent=255)
    found = best(PICTURES, 256, reserved)
    assert found.colours[0].tolist() == [255, 0, 255]
    assert found.colours[7].tolist() == [12, 34, 56]
    assert (found.usable[[0, 7]].tolist(), found.usable[[9, 255]].tolist()) == ([True, True], [False, False])
    seen = np.dstack([PICTURES[0], np.full((192, 192), 255, np.uint8)])
    seen[:50, :, 3] = 0
    seen[60, 0, :3] = (12, 34, 56)
    indices = mapped(seen, found)
    assert (indices[:50] == 255).all()
    assert not np.isin(indices[50:], [9, 255]).any()
    assert indices[60, 0] == 7


@pytest.mark.parametrize("depth", [(5, 5, 5), (5, 6, 5), (4, 4, 4), (6, 6, 6)])
def test_no_colour_that_the_format_does_not_have(depth: tuple[int, int, int]) -> None:
    found = best(PICTURES[:2], 64, depth=depth)
    steps = found.colours / 255 * np.array([(1 << bits) - 1 for bits in depth])
    assert (storable(found.colours, depth) == found.colours).all()
    assert np.abs(steps - np.round(steps)).max() < 0.2
    # rounded within the search, it is no worse than the best one rounded afterwards
    rounded = storable(best(PICTURES[:2], 64).colours, depth)
    after = Palette(rounded, np.ones(64, bool))
    whole = np.concatenate(PICTURES[:2])
    errors = [_apart(whole, one.colours[mapped(whole, one)]).mean() for one in (found, after)]
    assert errors[0] <= errors[1] * 1.02


def test_what_counts_more_loses_less() -> None:
    light, heavy = (best(PICTURES[:2], 24, weights=[1, weight]) for weight in (1, 50))
    errors = [_apart(PICTURES[1], one.colours[mapped(PICTURES[1], one)]).mean() for one in (light, heavy)]
    assert errors[1] < errors[0]


PIXELS = st.lists(st.tuples(*[st.integers(0, 255)] * 4), min_size=1, max_size=40)


@given(PIXELS, st.integers(1, 12), st.sets(st.integers(0, 11), max_size=4))
def test_any_picture_has_one(pixels: list[tuple[int, ...]], entries: int, kept: set[int]) -> None:
    picture = np.array([pixels], np.uint8)
    reserved = Reserved(dict.fromkeys([one for one in kept if one < entries], (1, 2, 3)))
    found = best([picture], entries, reserved)
    assert len(found) == entries
    if not found.usable.any():  # nothing is seen
        return
    indices = mapped(picture, found)
    assert found.usable[indices[picture[..., 3] >= 128]].all()
    colours, count = distinct([picture])
    assert count.sum() == (picture[..., 3] >= 128).sum()
    if len(colours) <= entries - len(reserved.taken()):
        seen = picture[..., 3] >= 128
        assert (found.colours[indices][seen] == picture[..., :3][seen]).all()


@pytest.mark.parametrize(
    ("entries", "reserved"),
    [(0, Reserved()), (70_000, Reserved()), (4, Reserved({4: None})), (4, Reserved({}, -1))],
)
def test_what_cannot_be_is_refused(entries: int, reserved: Reserved) -> None:
    with pytest.raises(FormatError):
        best(PICTURES[:1], entries, reserved)
    with pytest.raises(FormatError):
        mapped(PICTURES[0], Palette(np.zeros((2, 3), np.uint8), np.zeros(2, bool)))


def test_loss_by_scikit_image() -> None:
    found = best(PICTURES[:1], 16)
    after = found.colours[mapped(PICTURES[0], found)]
    apart, told = _apart(PICTURES[0], after), loss(PICTURES[0], after)
    assert told["mean"] == pytest.approx(apart.mean(), abs=0.02)
    assert told["p95"] == pytest.approx(np.percentile(apart, 95), abs=0.05)


def test_files_of_palettes() -> None:
    """RIFF PAL as published: 'data' holds LOGPALETTE, version 0x0300, then red, green, blue, flags."""
    found = best(PICTURES[:1], 20, Reserved({}, transparent=3))
    data = written(found, ".pal")
    assert data[:4] + data[8:16] == b"RIFFPAL data"
    assert struct.unpack_from("<IIHH", data, 4)[0] == len(data) - 8
    assert struct.unpack_from("<IHH", data, 16) == (4 + 80, 0x0300, 20)
    assert (read(data) == found.colours).all()
    image = Image.open(io.BytesIO(indexed(mapped(PICTURES[0], found), found)))
    assert (image.mode, image.info["transparency"]) == ("P", 3)
    assert (np.asarray(image.convert("RGB")) == found.colours[mapped(PICTURES[0], found)]).all()
    assert image.getpalette()[:60] == found.colours.ravel().tolist()
    assert described(found)[3]["use"] == "transparent"
    with pytest.raises(FormatError, match="not written as"):
        written(found, ".xyz")


@given(st.binary(max_size=60), st.integers(0, 100))
def test_damaged_palettes_are_clear_errors(noise: bytes, cut: int) -> None:
    whole = written(best(PICTURES[:1], 4), ".pal")
    for data in (noise, whole[:cut], b"RIFF" + noise, whole[:12] + noise, b"RIFF\0\0\0\0PAL data" + noise):
        try:
            found = read(data)
        except FormatError:
            continue
        assert found.shape[1] == 3
