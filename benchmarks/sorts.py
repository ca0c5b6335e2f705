"""Six sorts of pictures on which encoders differ, 256 x 256 RGBA: of scikit-image's pictures, and drawn by code."""

from __future__ import annotations

import numpy as np
import skimage.data
from PIL import Image, ImageDraw

SIDE = 256
Picture = np.ndarray


def _photograph() -> Picture:
    coffee = Image.fromarray(skimage.data.coffee())
    return np.asarray(coffee.resize((SIDE, SIDE), Image.Resampling.LANCZOS))


def _flat_with_text(rng: np.random.Generator) -> Picture:
    image = Image.new("RGB", (SIDE, SIDE), (236, 230, 214))
    draw = ImageDraw.Draw(image)
    for _ in range(40):
        x, y = (int(v) for v in rng.integers(0, SIDE, 2))
        radius = int(rng.integers(6, 40))
        colour = tuple(int(v) for v in rng.integers(0, 256, 3))
        draw.ellipse((x - radius, y - radius, x + radius, y + radius), fill=colour)
    for _ in range(14):
        place = int(rng.integers(0, SIDE - 80)), int(rng.integers(0, SIDE - 12))
        draw.text(place, "Harbour 1897", fill=tuple(int(v) for v in rng.integers(0, 90, 3)))
    return np.asarray(image)


def _normals() -> Picture:
    height = np.asarray(Image.fromarray(skimage.data.gravel()).resize((SIDE, SIDE))).astype(float) / 255 * 6
    down, across = np.gradient(height)
    directions = np.stack([-across, -down, np.ones_like(height)], axis=-1)
    directions /= np.linalg.norm(directions, axis=-1, keepdims=True)
    return np.rint((directions * 0.5 + 0.5) * 255).astype(np.uint8)


def _gradient() -> Picture:
    y, x = np.mgrid[0:SIDE, 0:SIDE] / (SIDE - 1)
    return np.rint(np.stack([40 + 120 * x, 60 + 90 * y, 180 - 35 * (x + y)], axis=-1)).astype(np.uint8)


def _foliage(rng: np.random.Generator) -> Picture:
    grass = np.asarray(Image.fromarray(skimage.data.grass()).resize((SIDE, SIDE))).astype(float) / 255
    green = np.stack([grass * 90 + 20, grass * 150 + 40, grass * 50 + 10], axis=-1)
    rows, columns = np.mgrid[0:SIDE, 0:SIDE]
    leaves = np.zeros((SIDE, SIDE), bool)
    for _ in range(160):
        (x, y), turn = rng.integers(0, SIDE, 2), rng.uniform(0, np.pi)
        along = (columns - x) * np.cos(turn) + (rows - y) * np.sin(turn)
        beside = (rows - y) * np.cos(turn) - (columns - x) * np.sin(turn)
        leaves |= (along / 16) ** 2 + (beside / 6) ** 2 < 1
    return np.dstack([np.rint(green).astype(np.uint8), (leaves * 255).astype(np.uint8)])


def sorts() -> dict[str, Picture]:
    """The pictures by what they are."""
    rng = np.random.default_rng(5)
    opaque = {
        "photograph": _photograph(),
        "flat shapes with text": _flat_with_text(rng),
        "normal map": _normals(),
        "noise": np.clip(rng.normal(128, 50, (SIDE, SIDE, 3)), 0, 255).astype(np.uint8),
        "gradient": _gradient(),
    }
    whole = {name: np.dstack([one, np.full((SIDE, SIDE), 255, np.uint8)]) for name, one in opaque.items()}
    return whole | {"cut-out foliage": _foliage(rng)}
