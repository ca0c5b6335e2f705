"""Pictures found by pictures, on photographs (scikit-image's) that were changed by Pillow and OpenCV."""

from __future__ import annotations

import itertools
from concurrent.futures import ThreadPoolExecutor
from functools import cache

import cv2
import numpy as np
import pytest
from PIL import Image

from brae.core.find import coarse, kernels, scenes, windows
from brae.core.find.coarse import Coarse
from brae.core.find.copies import COPY, copies_of, shows_the_same
from brae.core.find.correlation import LANES, beside, best_patterns
from brae.core.find.features import SIDE as LOOKED_AT
from brae.core.find.features import Features
from brae.core.find.likeness import search
from brae.core.find.looks import units
from brae.core.find.matches import SIDE, agreement
from brae.core.find.pictures import Kept, Pictures, Shown

from .photos import Picture, changed, cropped, in_a_scene, jpeg, opaque, pieces


@cache
def known() -> Pictures:
    names = list(pieces())
    return Pictures.of(names, [Shown.of(pieces()[name]) for name in names])


def first_of(query: Picture) -> str:
    return known().keys[search(known(), query, 1)[0].number]


def test_the_same_picture_is_found_whatever_was_done_to_its_size_and_colours() -> None:
    chance = np.random.default_rng(3)
    names = list(pieces())
    right = [first_of(changed(pieces()[name], chance)) == name for name in names]
    assert len(right) >= 40
    assert np.mean(right) >= 0.95


def test_what_is_nearly_flat_is_found_too() -> None:
    """Sand that varies by two levels (grain of its own, drawn here) among photographs, larger and brighter."""
    grain = np.random.default_rng(8).normal(0, 1, (12, 12))
    wide = cv2.resize(grain, (96, 96), interpolation=cv2.INTER_CUBIC)
    sand = opaque(np.clip(120 + 2.4 * wide[..., None] * np.ones(3), 0, 255).round().astype(np.uint8))
    assert 1 < sand[..., :3].std() < 4
    pictures = Pictures.of([*known().keys, "sand"], [*(Shown.of(one) for one in pieces().values()), Shown.of(sand)])
    query = cv2.resize(sand, (150, 150)).astype(np.float32)
    query[..., :3] *= 1.2
    found = search(pictures, query.clip(0, 255).astype(np.uint8), 1)
    assert pictures.keys[found[0].number] == "sand"
    assert search(pictures, opaque(np.full((40, 40, 3), 90, np.uint8)), 5) == [], "nothing shows nothing"


def test_a_part_is_found_with_its_place() -> None:
    chance = np.random.default_rng(4)
    right, off = [], []
    for name in list(pieces())[::2]:
        query, (left, top, width, height) = cropped(pieces()[name], chance)
        match = search(known(), query, 1)[0]
        right.append(known().keys[match.number] == name)
        if right[-1] and match.how == "part":
            corners = np.array(
                [[left, top], [left + width, top], [left + width, top + height], [left, top + height]]
            )
            off.append(np.abs(np.array(match.place) - corners).max())
    assert np.mean(right) >= 0.9
    assert len(off) >= 0.8 * len(right)
    assert np.median(off) < 0.05


def test_a_texture_in_a_screenshot_is_found_with_its_corners() -> None:
    chance = np.random.default_rng(5)
    names = [
        name for name in pieces() if name.split("-")[0] in ("astronaut", "chelsea", "coffee", "rocket", "camera")
    ]
    behind = np.tile(np.linspace(40, 200, 640).astype(np.uint8)[None, :, None], (480, 1, 3))
    right, off = [], []
    for name in names[::2]:
        query, corners = in_a_scene(pieces()[name], behind, chance)
        found = [match for match in search(known(), query, 5) if known().keys[match.number] == name]
        right.append(bool(found))
        if found and found[0].how == "inside":
            off.append(np.abs(np.array(found[0].place) - corners).max())
    assert np.mean(right) >= 0.7
    assert np.median(off) < 0.05


def test_clear_margins_count_for_nothing_and_the_place_is_all_of_it() -> None:
    """A small piece in a corner of a large clear sheet, drawn in a scene in full size, and at a third of it."""
    sheet = np.zeros((192, 160, 4), np.uint8)
    sheet[8:104, 56:152] = cv2.resize(pieces()["coffee-0-192"], (96, 96), interpolation=cv2.INTER_AREA)
    pictures = Pictures.of(["sheet", *known().keys], [Shown.of(sheet), *map(Shown.of, pieces().values())])
    np.testing.assert_allclose(pictures.boxes[0], [56 / 160, 8 / 192, 152 / 160, 104 / 192], atol=0.03)
    assert (pictures.boxes[1:] == [0, 0, 1, 1]).all(), "what is opaque is kept as it is"
    behind = np.tile(np.linspace(40, 200, 640).astype(np.uint8)[None, :, None], (480, 1, 3))
    for share in (1.0, 0.33):
        query, corners = in_a_scene(sheet, behind, np.random.default_rng(4), share)
        found = {pictures.keys[match.number]: match for match in search(pictures, query, 5)}
        assert "sheet" in found, share
        assert np.abs(np.array(found["sheet"].place) - corners).max() < 0.05


def test_windows_are_cut_as_numpy_sees_them() -> None:
    picture = np.random.default_rng(3).uniform(0, 255, (20, 31, 3)).astype(np.float32)
    places = np.array([[0, 0], [12, 23], [5, 9]])
    out = np.empty((3, 8 * 8 * 3), np.float32)
    kernels.cut(picture.reshape(20, -1), places, 8, out)
    every = np.lib.stride_tricks.sliding_window_view(picture, (8, 8, 3))[:, :, 0]
    np.testing.assert_array_equal(out, every[places[:, 0], places[:, 1]].reshape(3, -1))


@pytest.mark.parametrize("clear", [False, True], ids=["solid", "clear in part"])
def test_each_pattern_is_explained_as_numpy_has_it(clear: bool) -> None:
    """The least squares' gain within its bounds, what it leaves over the variances of both, in double precision."""
    chance = np.random.default_rng(8)
    patterns, areas = chance.uniform(0, 255, (7, 16, 3)), chance.uniform(0, 255, (50, 16, 3))
    areas[:5] = 0.8 * patterns[:5]
    masks = np.array([0, 1, 1, 2, 2, 2, 3]) if clear else np.zeros(7, np.int64)
    weights = chance.uniform(0.2, 1, (4, 16))[masks] if clear else np.ones((7, 16))
    expected = np.empty((7, 50))
    for (one, own), (other, shown) in itertools.product(enumerate(patterns), enumerate(areas)):
        weight = weights[one][:, None]
        gain = np.clip((weight * own * shown).sum() / (weight * own**2).sum(), 0.45, 1.25)
        varies = [(weight * (it - np.average(it, 0, weights[one])) ** 2).sum() for it in (shown, own)]
        least = 48 * weight.sum()
        left = (weight * (shown - gain * own) ** 2).sum()
        expected[one, other] = max(0, 1 - left / (max(varies[0], least) + gain**2 * varies[1]))
    its = np.unique(masks, return_index=True)[1]
    sums = np.einsum("pi,wic->cpw", weights[its], areas)
    powers = np.einsum("pi,wic->pw", weights[its], areas**2)
    energy = (weights[..., None] * patterns**2).sum((1, 2))
    spread = energy - ((weights[..., None] * patterns).sum(1) ** 2).sum(1) / weights.sum(1)
    scores, places = np.empty(7, np.float32), np.zeros(7, np.int64)
    dots = np.einsum("pi,pic,wic->pw", weights, patterns, areas)
    given = [np.ascontiguousarray(one, np.float32) for one in (dots, sums, powers, weights.sum(1), energy, spread)]
    given.insert(3, masks)
    kernels.best_windows(*given, np.float32(48), scores, places)
    np.testing.assert_array_equal(places, expected.argmax(1))
    np.testing.assert_allclose(scores, expected.max(1), atol=1e-3)
    assert (places[:5] == np.arange(5)).all()
    # Where nothing is explained at all, there is a place all the same.
    given[0], given[1] = -given[0], np.zeros_like(given[1])
    kernels.best_windows(*given, np.float32(48), scores, places)
    assert (scores == 0).all()
    assert ((places >= 0) & (places < 50)).all()


def test_a_few_masks_stand_for_those_of_many_pictures(monkeypatch: pytest.MonkeyPatch) -> None:
    """Ellipses that nobody could tell apart at 4 x 4; the sums are NumPy's, in double precision."""
    monkeypatch.setattr(coarse, "_MASKS", 30)
    chance = np.random.default_rng(6)
    y, x = np.mgrid[:8, :8] / 7 - 0.5
    radii = chance.uniform(0.3, 0.8, (300, 2))
    weights = np.stack([np.clip(9 * (1 - np.hypot(x / wide, y / tall)), 0, 1) for wide, tall in radii])
    weights[::3] = 1
    weights = weights.reshape(300, 64).astype(np.float32)
    shown = chance.uniform(0, 255, (300, 64, 3)).astype(np.float32)
    found, again = (Coarse.of((shown * weights[..., None]).reshape(300, -1), weights).rough for _ in range(2))
    assert found.masks.shape == (30, 16)
    np.testing.assert_array_equal(found.masks, again.masks)
    own = weights.reshape(300, 4, 2, 4, 2).mean((2, 4)).reshape(300, 16)
    off = np.sqrt(((found.masks[found.which] - own) ** 2).mean())
    assert off < 0.25 * own.std(0).mean()
    assert found.masks[found.which[::3]].min() > 0.95
    mask = found.masks[found.which].astype(np.float64)
    colour = found.colours.reshape(300, 16, 3) / np.maximum(mask, 1e-9)[..., None]
    energy = (mask[..., None] * colour**2).sum((1, 2))
    np.testing.assert_allclose(found.energy, energy, rtol=1e-3)
    spread = energy - ((mask[..., None] * colour).sum(1) ** 2).sum(1) / mask.sum(1)
    np.testing.assert_allclose(found.spread, spread, rtol=1e-3)


def test_of_very_many_pictures_the_likely_ones_are_found_as_well(monkeypatch: pytest.MonkeyPatch) -> None:
    """The short way that very many pictures take, most of them clear in part; two searches at once tell what each
    tells by itself."""
    monkeypatch.setattr(windows, "MANY", 10)
    monkeypatch.setattr(windows, "_STAY", 15)
    monkeypatch.setattr(scenes, "MANY", 10)
    monkeypatch.setattr(coarse, "_MASKS", 8)
    chance = np.random.default_rng(5)
    y, x = np.mgrid[:192, :192] / 96 - 1
    its = {}
    for number, (name, piece) in enumerate(pieces().items()):
        clear = np.hypot(x / (0.7 + number % 5 / 10), y / (0.7 + number % 7 / 10)) > 1
        its[name] = np.dstack([piece[..., :3], np.where(clear & (number % 4 > 0), 0, 255).astype(np.uint8)])
    pictures = Pictures.of(list(its), [Shown.of(picture) for picture in its.values()])
    names = [name for name in its if name.split("-")[0] in ("astronaut", "chelsea", "coffee", "rocket")][::2]
    behind = np.tile(np.linspace(40, 200, 640).astype(np.uint8)[None, :, None], (480, 1, 3))
    queries = [in_a_scene(its[name], behind, chance)[0] for name in names]
    with ThreadPoolExecutor(2) as pool:
        found = list(pool.map(lambda query: search(pictures, query, 5), queries))
    assert len(pictures.coarse.rough.masks) == 8
    assert found[0] == search(pictures, queries[0], 5)
    right = [name in {list(its)[match.number] for match in some} for name, some in zip(names, found, strict=True)]
    assert np.mean(right) >= 0.7


def test_a_mirrored_picture_says_so() -> None:
    picture = pieces()["astronaut-0-192"]
    assert search(known(), np.ascontiguousarray(picture[:, ::-1]), 1)[0].flip == "sideways"
    assert search(known(), np.ascontiguousarray(picture[::-1]), 1)[0].flip == "upside down"
    match = search(known(), picture, 1)[0]
    assert (match.flip, match.how) == ("", "whole")
    assert match.score > 0.99


def test_clear_pixels_may_come_back_in_any_colour() -> None:
    """A disc cut out of a photograph, as it comes back on black, on white, and with what lay under it."""
    rgba = pieces()["coffee-0-192"].copy()
    across = np.linspace(-1, 1, rgba.shape[0])
    rgba[..., 3] = 255 * (np.hypot(*np.meshgrid(across, across)) < 0.8)
    pictures = Pictures.of(["disc", *known().keys], [Shown.of(rgba), *map(Shown.of, pieces().values())])
    alpha = rgba[..., 3:] / 255
    for behind in (0, 255):
        seen = opaque((rgba[..., :3] * alpha + behind * (1 - alpha)).astype(np.uint8))
        assert pictures.keys[search(pictures, seen, 1)[0].number] == "disc"
    assert pictures.keys[search(pictures, rgba, 1)[0].number] == "disc"


@pytest.mark.parametrize("shape", [(1, 1), (1, 300), (4000, 3), (2, 2), (64, 64)])
def test_what_shows_nothing_finds_nothing(shape: tuple[int, int]) -> None:
    for colour in (0, 128, 255):
        assert search(known(), np.full((*shape, 4), colour, np.uint8)) == []


@pytest.mark.parametrize("shape", [(1, 1), (1, 300), (4000, 3), (2, 2), (300, 1)])
def test_pictures_of_any_shape_are_kept_and_searched_with(shape: tuple[int, int]) -> None:
    chance = np.random.default_rng(6)
    odd = chance.integers(0, 256, (*shape, 4), dtype=np.uint8)
    pictures = Pictures.of(["odd", "cat"], [Shown.of(odd), Shown.of(pieces()["chelsea-0-0"])])
    assert pictures.keys[search(pictures, pieces()["chelsea-0-0"], 1)[0].number] == "cat"
    search(pictures, odd)


def test_no_pictures_find_nothing() -> None:
    assert search(Pictures.of([], []), pieces()["chelsea-0-0"]) == []
    assert copies_of(Pictures.of([], [])) == []


def test_scores_never_rise_and_each_picture_comes_once() -> None:
    found = search(known(), cropped(pieces()["rocket-0-192"], np.random.default_rng(1))[0], 50)
    assert len({match.number for match in found}) == len(found) > 10
    assert all(one.score >= other.score for one, other in zip(found, found[1:], strict=False))


def test_what_is_kept_is_kept_exactly() -> None:
    features = Features.of(pieces()["gravel-0-0"])
    again = Features.from_bytes(features.to_bytes())
    assert len(again) == len(features) > 50
    assert np.array_equal(again.signs, features.signs)
    assert np.abs(again.points - features.points).max() < 1 / 65535
    small = Kept.of(pieces()["gravel-0-0"]).picture()
    assert (
        np.abs(
            small[..., :3] - cv2.resize(pieces()["gravel-0-0"], (64, 64), interpolation=cv2.INTER_AREA)[..., :3]
        ).max()
        <= 1
    )


def test_of_very_many_pictures_the_strongest_points_are_kept(monkeypatch: pytest.MonkeyPatch) -> None:
    from brae.core.find import pictures as module

    monkeypatch.setattr(module, "_POINTS", 60)
    shown = [Shown.of(pieces()[name]) for name in list(pieces())[:3]]
    few = Pictures.of(["a", "b", "c"], shown)
    assert [len(one) for one in few.features] == [20, 20, 20]
    assert all(
        np.array_equal(one.signs, whole.features.signs[:20]) for one, whole in zip(few.features, shown, strict=True)
    )
    finder = cv2.SIFT_create(nfeatures=150, contrastThreshold=0.02)
    grey = cv2.cvtColor(np.ascontiguousarray(pieces()[next(iter(pieces()))][..., :3]), cv2.COLOR_RGB2GRAY)
    best = max(
        finder.detect(cv2.resize(grey, (LOOKED_AT, LOOKED_AT), interpolation=cv2.INTER_AREA), None),
        key=lambda one: one.response,
    )
    assert np.abs(few.features[0].points[0] * LOOKED_AT - best.pt).max() < 3


def test_how_well_patterns_fit_is_what_opencv_has() -> None:
    """OpenCV's normalised correlation (TM_CCOEFF_NORMED) of the same pictures, of which one is flat."""
    images = np.stack([cv2.resize(one[..., 1], (24, 21)) for one in pieces().values()]).astype(np.float32)
    images[5] = 90
    sizes = np.array([(3, 5), (8, 8), (20, 4), (21, 24), (22, 24)])
    patterns, expected = np.zeros((5, 22, 24), np.float32), np.full((5, len(images)), -1.0)
    for place, (height, width) in enumerate(sizes):
        pattern = cv2.resize(images[7] + 3 * images[9], (int(width), int(height)))
        patterns[place, :height, :width] = units(pattern.reshape(1, -1)).reshape(pattern.shape)
        if height <= 21:
            expected[place] = [cv2.matchTemplate(one, pattern, cv2.TM_CCOEFF_NORMED).max() for one in images]
    expected[:, 5] = -1
    blocks = beside(images)
    assert blocks.shape == (-(-len(images) // LANES), 21, 24 * LANES)
    for some in ([0], [1], [2], [3], [4], [0, 1, 2, 3, 4]):
        scores, best = np.empty((len(blocks), LANES), np.float32), np.empty((len(blocks), LANES), np.int64)
        best_patterns(blocks, patterns[some], sizes[some], np.float32(0.5), scores, best)
        np.testing.assert_allclose(scores.ravel()[: len(images)], expected[some].max(0), atol=1e-3)
        assert (scores.ravel()[len(images) :] == -1).all()
        told = expected[some][best.ravel()[: len(images)], np.arange(len(images))]
        np.testing.assert_allclose(told, expected[some].max(0), atol=1e-3)


def test_a_turn_of_the_hues_is_a_small_difference_or_none() -> None:
    """Turned by Pillow, halfway round; another photograph is another one in any hue."""
    coffee = Image.fromarray(pieces()["coffee-0-192"][..., :3])
    hsv = np.asarray(coffee.convert("HSV")).copy()
    hsv[..., 0] += 128
    blue = Image.fromarray(hsv, "HSV").convert("RGB")
    cat = Image.fromarray(pieces()["chelsea-0-192"][..., :3])
    plain, turned, other = (np.asarray(one.resize((SIDE, SIDE))).astype(np.float32) for one in (coffee, blue, cat))
    assert agreement(plain, turned) < COPY <= agreement(plain, turned, any_hue=True)
    assert agreement(plain, plain) >= COPY
    assert agreement(plain, other, any_hue=True) < 0.8


@pytest.mark.parametrize(("columns", "most"), [(5, 12), (12, 12), (300, 12), (300, 1)])
def test_the_largest_products_are_those_of_a_whole_sort(columns: int, most: int) -> None:
    """In two halves, as signs come, against numpy's sort of all at once."""
    products = np.random.default_rng(columns + most).uniform(-0.5, 1, (40, columns)).astype(np.float32)
    scores, places = np.full((40, most), -1, np.float32), np.zeros((40, most), np.int64)
    half = columns // 2
    kernels.nearest(np.ascontiguousarray(products[:, :half]), 0, scores, places)
    kernels.nearest(np.ascontiguousarray(products[:, half:]), half, scores, places)
    there = min(columns, most)
    expected = np.sort(products, axis=1)[:, -there:]
    np.testing.assert_array_equal(scores[:, -there:], expected)
    np.testing.assert_array_equal(np.take_along_axis(products, places[:, -there:], 1), expected)
    assert (scores[:, : most - there] == -1).all()


def test_a_picture_stored_forty_times_is_one_group() -> None:
    names = list(pieces())[:6]
    shown = [Shown.of(pieces()[name]) for name in names]
    white = Shown.of(np.full((64, 64, 4), 255, np.uint8))
    keys = [*names, *(f"again {k}" for k in range(39)), "white", "white too"]
    groups = copies_of(Pictures.of(keys, [*shown, *[shown[2]] * 39, white, white]))
    assert [(len(group.keys), group.exact) for group in groups] == [(40, True)]
    assert set(groups[0].keys) == {names[2], *(f"again {k}" for k in range(39))}


def test_copies_are_told_whatever_their_size_and_compression() -> None:
    names = ["chelsea-0-0", "coffee-192-192", "rocket-0-192"]
    chance = np.random.default_rng(8)
    pictures = dict(pieces())
    for name in names:
        half = cv2.resize(pictures[name], (96, 96), interpolation=cv2.INTER_AREA)
        noisy = half.astype(np.int16) + chance.integers(-3, 4, half.shape)
        pictures[f"copy of {name}"] = np.dstack([noisy[..., :3].clip(0, 255).astype(np.uint8), half[..., 3]])
    pictures["the very same"] = pictures[names[0]].copy()
    groups = copies_of(Pictures.of(list(pictures), [Shown.of(one) for one in pictures.values()]))
    assert {frozenset(group.keys) for group in groups} == {
        frozenset({names[0], f"copy of {names[0]}", "the very same"}),
        *(frozenset({name, f"copy of {name}"}) for name in names[1:]),
    }
    assert not any(group.exact for group in groups)


def test_another_digit_is_no_copy_and_another_size_is_one() -> None:
    for name in list(pieces())[::6]:
        picture = pieces()[name]
        half = cv2.resize(picture[..., :3], (96, 96), interpolation=cv2.INTER_AREA)
        assert shows_the_same(picture, opaque(jpeg(half, 60))), name
        assert shows_the_same(picture, picture)
        stamps = []
        for digit in ("1", "7"):
            stamp = np.ascontiguousarray(picture[..., :3])
            cv2.rectangle(stamp, (140, 10), (172, 52), (20, 20, 20), -1)
            cv2.putText(stamp, digit, (146, 44), cv2.FONT_HERSHEY_SIMPLEX, 1.1, (240, 240, 240), 3)
            stamps.append(opaque(stamp))
        assert not shows_the_same(*stamps), name
        white, clear = stamps[0].copy(), stamps[0].copy()
        white[:40, :40], clear[:40, :40] = 255, 0
        assert not shows_the_same(white, clear)
