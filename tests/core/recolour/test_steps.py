"""Colour steps: Oklab by its published pairs, each step by its definition, and what all of them leave alone."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np
import pytest
import skimage.data
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from brae.core.recolour import files
from brae.core.recolour.files import Changer
from brae.core.recolour.space import chroma_of, from_lab, hue_of, to_lab, to_stored
from brae.core.recolour.steps import CHANGES, Steps, apply, numbers_of

PHOTO = np.dstack([skimage.data.astronaut()[:64, 200:264] / np.float32(255), np.ones((64, 64), np.float32)])


def _none(name: str) -> Any:
    raise AssertionError(name)


def _after(picture: np.ndarray, *steps: dict[str, Any], load: Any = _none) -> np.ndarray:
    return apply(Steps.model_validate({"steps": list(steps)}), picture.astype(np.float32), load)


@pytest.mark.parametrize(
    ("xyz", "lab"),
    [
        ((0.950, 1.000, 1.089), (1.000, 0.000, 0.000)),
        ((1.000, 0.000, 0.000), (0.450, 1.236, -0.019)),
        ((0.000, 1.000, 0.000), (0.922, -0.671, 0.263)),
        ((0.000, 0.000, 1.000), (0.153, -1.415, -0.449)),
    ],
)
def test_oklab_by_its_published_pairs(xyz: tuple[float, ...], lab: tuple[float, ...]) -> None:
    """Ottosson 2020, "Table of example XYZ and Oklab pairs"; XYZ to linear sRGB by IEC 61966-2-1."""
    from brae.core.recolour import space

    to_rgb = np.array([[3.2406, -1.5372, -0.4986], [-0.9689, 1.8758, 0.0415], [0.0557, -0.2040, 1.0570]])
    cones = np.cbrt(space._TO_CONES @ to_rgb @ np.array(xyz))
    assert np.abs(space._TO_LAB @ cones - lab).max() < 0.006


@pytest.mark.parametrize(
    ("colour", "lab"),
    [("#ff0000", (0.628, 0.225, 0.126)), ("#00ff00", (0.866, -0.234, 0.179)), ("#ffffff", (1, 0, 0))],
)
def test_oklab_of_primaries(colour: str, lab: tuple[float, ...]) -> None:
    """CSS Color 4, its examples of oklab(): red 62.8 % 0.225 0.126 and lime 86.64 % -0.234 0.179."""
    assert np.abs(to_lab(numbers_of(colour)) - lab).max() < 0.001


@given(st.lists(st.floats(0, 1, width=32), min_size=3, max_size=3))
def test_oklab_there_and_back(colour: list[float]) -> None:
    here = np.array([colour], np.float32)
    assert np.abs(from_lab(to_lab(here)) - here).max() < 0.002


def test_what_srgb_does_not_have_keeps_hue_and_light() -> None:
    lab = np.array([[0.6, 0.4, 0.1], [0.5, -0.3, -0.3]], np.float32)
    found = to_lab(from_lab(lab))
    assert np.abs(found[:, 0] - lab[:, 0]).max() < 0.01
    assert np.abs(hue_of(found) - hue_of(lab)).max() < 1
    assert (chroma_of(found) < chroma_of(lab)).all()


ANY = [
    {"hue": 120}, {"saturation": 0.3}, {"lightness": -0.2}, {"levels": {"black": 0.1, "gamma": 1.4}},
    {"curve": [[0, 0], [0.4, 0.7], [1, 1]], "of": "light"}, {"tint": "#8a4b2c"}, {"gradient": ["#012", "#fed"]},
    {"hues": {"from": [0, 90], "to": 200}}, {"colours": {"#000": "#fff"}},
    {"palettes": {"from": "a.pal", "to": "b.pal"}}, {"like": "other.png"},
]  # fmt: skip


def test_there_is_one_of_each() -> None:
    assert [next(iter(step)) for step in ANY] == list(CHANGES)


@pytest.mark.parametrize("step", ANY, ids=lambda step: str(next(iter(step))))
@given(data=st.data())
def test_every_step_keeps_alpha_shape_and_range(step: dict[str, Any], data: st.DataObject) -> None:
    pixels = data.draw(st.lists(st.lists(st.integers(0, 255), min_size=4, max_size=4), min_size=1, max_size=6))
    picture = np.array([pixels], np.uint8) / np.float32(255)
    before = picture.copy()
    found = _after(picture, step, load=lambda _: PHOTO)
    assert (picture == before).all()
    assert found.shape == picture.shape
    assert (found[..., 3] == picture[..., 3]).all()
    assert ((found >= -1e-3) & (found <= 1.001)).all()
    # none of it is the original, to the last bit
    assert (_after(picture, step | {"amount": 0}, load=lambda _: PHOTO) == picture).all()
    nowhere = step | {"mask": {"alpha": [0, 1], "inverted": True}}
    assert (_after(picture, nowhere, load=lambda _: PHOTO) == picture).all()


def test_hues_turn_and_greys_stay() -> None:
    turned = _after(PHOTO, {"hue": 90})
    # where sRGB has the turned colour, its hue is 90 degrees on and its light the same
    before, after = to_lab(PHOTO[..., :3]), to_lab(turned[..., :3])
    coloured = (chroma_of(before) > 0.05) & (np.abs(chroma_of(before) - chroma_of(after)) < 0.002)
    assert coloured.mean() > 0.2
    apart = (hue_of(after) - hue_of(before))[coloured] % 360
    assert np.abs(apart - 90).max() < 4
    assert np.abs(before[..., 0] - after[..., 0]).max() < 0.02
    grey = np.full((2, 2, 4), 0.4, np.float32)
    assert np.abs(_after(grey, {"hue": 90}, {"hues": {"from": [0, 360], "to": 10}}) - grey).max() < 0.002
    assert np.abs(_after(PHOTO, {"hue": 360}) - PHOTO).max() < 0.003


def test_levels_and_curves_by_their_formulas() -> None:
    how = {"black": 0.2, "white": 0.8, "gamma": 2.0, "darkest": 0.1, "lightest": 0.9}
    wanted = 0.1 + 0.8 * np.sqrt(np.clip((PHOTO[..., :3] - 0.2) / 0.6, 0, 1))
    assert np.abs(_after(PHOTO, {"levels": how})[..., :3] - wanted).max() < 1e-4
    wanted = np.interp(PHOTO[..., :3], [0, 0.5, 1], [0, 0.25, 1])
    assert np.abs(_after(PHOTO, {"curve": [[0, 0], [0.5, 0.25], [1, 1]]})[..., :3] - wanted).max() < 1e-5
    # in light: half of the light is 188 of 255 (IEC 61966-2-1)
    white = np.ones((1, 1, 4), np.float32)
    halved = _after(white, {"levels": {"lightest": 0.5}, "of": "light"})
    assert round(float(halved[0, 0, 0]) * 255) == 188 == round(float(to_stored(np.float32(0.5))) * 255)


def test_a_gradient_has_its_ends_and_goes_by_light() -> None:
    strip = np.zeros((1, 3, 4), np.float32)
    strip[0, :, :3] = np.array([0, 0.5, 1])[:, None]
    found = _after(strip, {"gradient": ["#102030", "#f0e0d0"]})[0, :, :3]
    assert np.abs(found[[0, 2]] - [numbers_of("#102030"), numbers_of("#f0e0d0")]).max() < 0.004
    light = to_lab(found)[:, 0]
    assert light[0] < light[1] < light[2]


def test_hues_change_only_where_they_are_meant() -> None:
    colours = np.ones((1, 3, 4), np.float32)
    colours[0, :, :3] = [numbers_of(one) for one in ("#c03020", "#2040c0", "#808080")]
    found = _after(colours, {"hues": {"from": [0, 60], "to": 142, "soft": 5}})
    assert abs(hue_of(to_lab(found[0, :1, :3]))[0] - 142) < 3
    assert (found[0, 1:] == colours[0, 1:]).all()
    # over 360: red lies between 350 and 40
    again = _after(colours, {"hues": {"from": [350, 400], "to": 142, "soft": 5}})
    assert np.abs(again - found).max() < 1e-6


def test_exact_colours_and_masks() -> None:
    colours = np.ones((1, 2, 4), np.float32)
    colours[0, :, :3] = [numbers_of("#123456"), numbers_of("#123457")]
    found = _after(colours, {"colours": {"#123456": "#abcdef"}})
    assert (found[0, 0, :3] == numbers_of("#abcdef")).all()
    assert (found[0, 1] == colours[0, 1]).all()
    half = np.zeros((2, 2, 4), np.float32)
    half[:, 0] = 1
    whole = np.full((2, 2, 4), 0.5, np.float32)
    masked = _after(whole, {"lightness": 0.3, "mask": {"picture": "m.png"}}, load=lambda _: half)
    assert (masked[:, 1] == whole[:, 1]).all()
    assert (masked[:, 0, :3] > whole[:, 0, :3]).all()
    dark = _after(PHOTO, {"saturation": 0, "mask": {"light": [0, 0.3], "soft": 0}})
    changed = (dark != PHOTO).any(axis=-1)
    assert changed.any()
    assert to_lab(PHOTO[..., :3])[..., 0][changed].max() <= 0.3 + 1e-4


def test_each_colour_of_a_palette_becomes_the_one_at_its_place() -> None:
    before = np.array(
        [[[0, 0, 0, 255], [200, 40, 30, 255], [9, 9, 9, 255], [200, 40, 30, 255]]], np.uint8
    ) / np.float32(255)
    after = np.array(
        [[[1, 2, 3, 255], [30, 40, 200, 255], [5, 5, 5, 255], [77, 77, 77, 255]]], np.uint8
    ) / np.float32(255)
    picture = np.array([[[200, 40, 30, 128], [201, 40, 30, 255], [0, 0, 0, 0]]], np.uint8) / np.float32(255)
    step = {"palettes": {"from": "a", "to": "b"}}
    found = _after(picture, step, load={"a": before, "b": after}.__getitem__)
    assert np.round(found * 255).astype(int).tolist() == [[[30, 40, 200, 128], [201, 40, 30, 255], [1, 2, 3, 0]]]
    short = _after(picture, step, load={"a": before, "b": after[:, :1]}.__getitem__)
    assert np.round(short * 255).astype(int).tolist() == [[[200, 40, 30, 128], [201, 40, 30, 255], [1, 2, 3, 0]]]


def test_like_takes_mean_and_spread() -> None:
    other = np.dstack([skimage.data.coffee()[:64, :64] / np.float32(255), np.ones((64, 64), np.float32)])
    found = to_lab(_after(PHOTO, {"like": "x"}, load=lambda _: other)[..., :3])
    wanted = to_lab(other[..., :3])
    assert np.abs(found.mean(axis=(0, 1)) - wanted.mean(axis=(0, 1))).max() < 0.03


@pytest.mark.parametrize(
    "step",
    [
        {}, {"hue": 1, "tint": "#fff"}, {"tint": "red"}, {"saturation": -1}, {"curve": [[0, 0], [0, 1]]},
        {"levels": {"black": 0.5, "white": 0.5}}, {"gradient": ["#fff"]}, {"hue": 3, "mask": {"hue": [1, 2]}},
    ],
)  # fmt: skip
def test_what_is_no_step_is_refused(step: dict[str, Any]) -> None:
    with pytest.raises(ValidationError):
        Steps.model_validate({"steps": [step]})


@pytest.mark.parametrize("step", ANY, ids=lambda step: str(next(iter(step))))
def test_colours_looked_up_are_those_worked_out(step: dict[str, Any]) -> None:
    """By several threads at once, with colours that some of the pictures share."""
    steps = Steps.model_validate({"steps": [step]})
    random = np.random.default_rng(4)
    pictures = [random.integers(0, 256, (40, 50, 4), np.uint8) for _ in range(6)]
    pictures += [np.ascontiguousarray(picture[::-1]) for picture in pictures]
    changer = Changer(steps, lambda _: PHOTO)
    with ThreadPoolExecutor(4) as pool:
        made = list(pool.map(changer.changed, pictures))
    for picture, result in zip(pictures, made, strict=True):
        worked = apply(steps, (picture / np.float32(255)).astype(np.float32), lambda _: PHOTO)
        assert np.array_equal(result[..., 3], picture[..., 3])
        # float32 differs in its last bit with the shape of an array.
        assert np.abs(result[..., :3] - worked[..., :3] * 255.0).max() <= 0.51


def test_a_colour_that_failed_is_worked_out_again() -> None:
    """Out of memory or ended while new colours were worked out: the next picture is not drawn with nothing."""
    changer = Changer(Steps.model_validate({"steps": [{"hue": 40}]}), lambda _: PHOTO)
    picture = np.full((4, 4, 4), 90, np.uint8)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(files, "apply", _fails)
        with pytest.raises(MemoryError):
            changer.changed(picture)
    assert np.abs(changer.changed(picture).astype(int) - 90).max() <= 1


def _fails(*arguments: object) -> None:
    raise MemoryError
