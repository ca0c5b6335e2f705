"""Two hundred pictures in three sizes whose mask, frame and shading are known: art out of shipped photographs.

Written from the other side than what it tests: each size is painted by closed formulas, in the order of a painter.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import skimage.data
from PIL import Image

#: names of the sizes with their sides, width and height
SIDES = {"large": (128, 96), "small": (64, 48), "icon": (32, 24)}
_PHOTOGRAPHS = ("astronaut", "chelsea", "coffee", "rocket", "hubble_deep_field", "immunohistochemistry", "retina")


@dataclass(frozen=True)
class Stamp:
    """A picture at one size, 8 bits."""

    name: str
    size: str
    pixels: np.ndarray


def art(number: int) -> np.ndarray:
    """A piece of a photograph, three times as large as the largest size."""
    random = np.random.default_rng(number)
    photograph = getattr(skimage.data, _PHOTOGRAPHS[number % len(_PHOTOGRAPHS)])()[..., :3]
    height, width = photograph.shape[:2]
    side = int(random.integers(150, min(height, width * 3 // 4)))
    top, left = int(random.integers(0, height - side + 1)), int(random.integers(0, width - side * 4 // 3 + 1))
    piece = photograph[top : top + side, left : left + side * 4 // 3]
    if random.random() < 0.5:
        piece = piece[:, ::-1]
    return np.asarray(Image.fromarray(piece).resize((384, 288), Image.Resampling.LANCZOS))


def drawn(number: int) -> np.ndarray:
    """A drawing: fields of colour that have nothing to do with those of the others."""
    random = np.random.default_rng(9000 + number)
    y, x = np.mgrid[0:288, 0:384]
    pixels = np.empty((288, 384, 3))
    pixels[:] = random.random(3)
    for _ in range(40):
        centre, sides, turn = random.random(2) * (288, 384), random.random(2) * 70 + 8, random.random() * np.pi
        down, across = y - centre[0], x - centre[1]
        u, v = across * np.cos(turn) + down * np.sin(turn), down * np.cos(turn) - across * np.sin(turn)
        pixels[(u / sides[0]) ** 2 + (v / sides[1]) ** 2 < 1] = random.random(3)
    return np.round(pixels * 255).astype(np.uint8)


def over(what: str, size: str) -> tuple[np.ndarray, np.ndarray]:
    """Shadow and light that lie over every picture of a size, (height, width) each.

    ``curve``: darker in a curve, lit from above; ``gloss``: darker towards the edges, a patch of gloss over a sixth
    of the picture; ``corner``: a shadow in a corner; ``below``: lit from below, darker to the right; ``none``.
    """
    width, height = SIDES[size]
    x, y = np.meshgrid((np.arange(width) + 0.5) / width, (np.arange(height) + 0.5) / height)
    strength, weak = {"large": (0.45, 0.25), "small": (0.35, 0.15), "icon": (0.5, 0.3)}[size]
    if what == "curve":
        dark = 1 - strength * np.clip((x - 0.2) ** 2 + (y - 0.15) ** 2, 0, 1)
        return dark, weak * np.clip(1 - 3 * y, 0, 1) ** 2
    if what == "gloss":
        dark = 1 - strength * np.clip(((x - 0.5) ** 2 + (y - 0.5) ** 2) * 1.6, 0, 1)
        return dark, weak * np.exp(-(((x - 0.3) / 0.2) ** 2) - ((y - 0.25) / 0.17) ** 2)
    if what == "corner":
        return 1 - strength / (1 + np.exp(-10 * (x + y - 1.2))), 0 * x
    if what == "below":
        return 1 - strength / 2 * x, (weak + 0.05) * np.clip(2 * y - 1, 0, 1)
    return np.ones_like(x), 0 * x


def painted(number: int, size: str, source: Callable[[int], np.ndarray] = art, what: str = "curve") -> np.ndarray:
    """The art at a size: with shadow and light, framed, with round corners."""
    width, height = SIDES[size]
    pixels = np.asarray(Image.fromarray(source(number)).resize((width, height), Image.Resampling.BOX)) / 255
    x, y = np.meshgrid((np.arange(width) + 0.5) / width, (np.arange(height) + 0.5) / height)
    dark, light = over(what, size)
    pixels = (pixels * dark[..., None]) * (1 - light[..., None]) + light[..., None]
    if size == "large":
        edge = np.minimum(np.minimum(x, 1 - x) * width, np.minimum(y, 1 - y) * height) < 4
        pixels[edge] = (0.85, 0.8, 0.7)
    corner = np.maximum(np.abs(x - 0.5) * width - width / 2 + 6, 0) ** 2
    corner = corner + np.maximum(np.abs(y - 0.5) * height - height / 2 + 6, 0) ** 2
    alpha = np.clip(6.5 - np.sqrt(corner), 0, 1)
    return np.round(np.dstack([pixels, alpha]) * 255).astype(np.uint8)


def stamps(count: int = 67, source: Callable[[int], np.ndarray] = art, what: str = "curve") -> list[Stamp]:
    """The originals of all sizes."""
    return [
        Stamp(f"stamp_{number:02}", size, painted(number, size, source, what))
        for size in SIDES
        for number in range(count)
    ]
