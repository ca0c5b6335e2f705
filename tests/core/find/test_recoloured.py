"""What is explained by a turn of the hue and one brightness, beside Pillow's own HSV."""

from __future__ import annotations

import numpy as np
import pytest
from PIL import Image

from brae.core.find.pictures import Kept, shown_of
from brae.core.find.recoloured import explained_by

from .photos import Picture, pieces

SIDE = 32


def turned(rgb: Picture, hue: int, brightness: float) -> Picture:
    """Another hue (of 256) by Pillow, and another brightness."""
    hsv = np.asarray(Image.fromarray(rgb).convert("HSV")).copy()
    hsv[..., 0] += np.uint8(hue)
    return (np.asarray(Image.fromarray(hsv, "HSV").convert("RGB")) * brightness).clip(0, 255).astype(np.uint8)


def disc(rgba: Picture) -> Picture:
    """A disc cut out of a picture."""
    across = np.linspace(-1, 1, rgba.shape[0])
    return np.dstack([rgba[..., :3], np.where(np.hypot(*np.meshgrid(across, across)) < 0.8, 255, 0)]).astype(
        np.uint8
    )


def explained(own: Picture, area: Picture, *, cost: float = 0.0) -> float:
    scores = np.zeros((1, 1), np.float32)
    small = np.asarray(Image.fromarray(area).resize((SIDE, SIDE), Image.Resampling.BOX)).astype(np.float32)
    explained_by(shown_of(Kept.of(own).picture(), SIDE)[None], small[None], np.float32(cost), scores)
    return float(scores[0, 0])


@pytest.mark.parametrize(("hue", "brightness"), [(0, 1.0), (90, 1.0), (200, 0.6), (128, 1.5), (30, 0.5)])
@pytest.mark.parametrize("behind", [(0, 0, 0), (255, 255, 255), (128, 128, 128), (40, 200, 90)])
def test_any_hue_and_brightness_over_any_background_is_explained(
    hue: int, brightness: float, behind: tuple[int, int, int]
) -> None:
    own, other = disc(pieces()["coffee-0-192"]), disc(pieces()["astronaut-0-192"])
    seen = np.where(own[..., 3:] > 0, turned(own[..., :3], hue, brightness), np.uint8(behind))
    assert explained(own, seen) > max(0.95, explained(other, seen) + 0.05)


def test_a_turn_of_the_hue_costs_what_is_said() -> None:
    own = pieces()["coffee-0-192"]
    opposite = turned(own[..., :3], 128, 1.0)
    assert explained(own, opposite) - explained(own, opposite, cost=0.1) == pytest.approx(0.2, abs=0.01)
    assert explained(own, own[..., :3]) == pytest.approx(explained(own, own[..., :3], cost=0.1), abs=0.001)


def test_what_shows_nothing_is_explained_by_nothing() -> None:
    clear = np.zeros((SIDE, SIDE, 4), np.uint8)
    assert explained(clear, pieces()["coffee-0-192"][..., :3]) <= 0.01
