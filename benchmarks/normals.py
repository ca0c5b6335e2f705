"""How often a normal map that nothing names is told from a colour picture, on pictures of a shipped set.

Heights and colours are photographs of scikit-image; the limits were set on one half of them, the other is reported.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np
import skimage.data
from PIL import Image, ImageFilter

from benchmarks.report import report
from brae.core.assets.texture import formats
from brae.core.assets.texture.encode import encode_levels
from brae.core.assets.texture.formats import Picture
from brae.core.assets.texture.texture import Header, looks_like_normals

_FOLDER = Path(str(skimage.data.__file__)).parent
HEIGHTS = ("brick.png", "grass.png", "text.png", "page.png")
COLOURS = ("coffee.png", "rocket.jpg", "hubble_deep_field.jpg", "ihc.png", "motorcycle_right.png", "logo.png")
FORMATS = ("bc1", "bc3", "bc7", "rgba8", "rgb565")
OPAQUE = ("bc1", "rgb565")


def _piece(name: str, mode: str, rng: np.random.Generator) -> Image.Image:
    with Image.open(_FOLDER / name) as image:
        picture = image.convert(mode)
    side = int(rng.choice([64, 128, 256]))
    cut = min(*picture.size, int(side * rng.uniform(1, 3)))
    left, top = (int(rng.integers(0, whole - cut + 1)) for whole in picture.size)
    return picture.crop((left, top, left + cut, top + cut)).resize((side, side), Image.Resampling.LANCZOS)


def _directions(rng: np.random.Generator) -> np.ndarray:
    """The slopes of a photograph taken as heights, more or less strong, green either way."""
    piece = _piece(str(rng.choice(HEIGHTS)), "L", rng)
    if rng.random() < 0.4:
        piece = piece.filter(ImageFilter.GaussianBlur(float(rng.uniform(0.5, 3))))
    height = np.asarray(piece).astype(float) / 255 * float(rng.choice([1, 2, 4, 8, 14]))
    across, down = (np.roll(height, -1, axis) - np.roll(height, 1, axis) for axis in (1, 0))
    found = np.stack([-across, down * float(rng.choice([1, -1])), np.ones_like(height)], axis=-1)
    found /= np.sqrt((found**2).sum(axis=-1, keepdims=True))
    return np.rint((found + 1) * 127.5).astype(np.uint8)


def _colours(rng: np.random.Generator) -> np.ndarray:
    """A photograph; some are tinted towards the blue of normal maps."""
    found = np.asarray(_piece(str(rng.choice(COLOURS)), "RGB", rng)).astype(float)
    chance = rng.random()
    if chance < 0.15:
        found *= [0.5, 0.5, 1.0]
    elif chance < 0.3:
        found = 0.6 * np.array([128, 128, 255]) + 0.4 * found
    return found.clip(0, 255).astype(np.uint8)


def pictures(count: int, seed: int) -> list[tuple[bool, Picture]]:
    """So many of both sorts, each packed and unpacked again, alpha opaque or holding something else."""
    rng = np.random.default_rng(seed)
    found = []
    for number in range(2 * count):
        rgb = _directions(rng) if number % 2 else _colours(rng)
        name = str(rng.choice(FORMATS))
        alpha = np.full(rgb.shape[:2], 255, np.uint8)
        if name not in OPAQUE and rng.random() < 0.5:
            alpha = rng.integers(0, 256, rgb.shape[:2]).astype(np.uint8) if rng.random() < 0.5 else rgb[..., 0]
        height, width = alpha.shape[:2]
        header = Header("raw", formats.get(name), width, height, 1)
        levels, _, _ = encode_levels(np.dstack([rgb, alpha]), header)
        found.append((bool(number % 2), header.format.decode(levels[0], width, height)))
    return found


def run() -> None:
    """All lines of this part."""
    told = [(normal, looks_like_normals(picture)) for normal, picture in pictures(200, 20_262)]
    right = sum(normal == said for normal, said in told) / len(told)
    false = sum(said for normal, said in told if not normal)
    report("normal maps and colours told apart, 200 of each", f"{right:.1%}", "97 %", right >= 0.97)
    report("colour pictures taken for normal maps, of 200", str(false), "0", false == 0)
