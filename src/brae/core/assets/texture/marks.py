"""Test colours: they show in the game which texture is where, how it is laid on, and which level is used."""

from __future__ import annotations

from typing import Literal

import numpy as np
from PIL import Image, ImageDraw, ImageFont

from brae.core.assets.texture.formats import Picture
from brae.core.assets.texture.texture import TextureFile

Mark = Literal["levels", "flat", "checker"]
MARKS: dict[Mark, str] = {
    "levels": "each mip level in a colour of its own",
    "flat": "one colour that nothing else has",
    "checker": "squares with their places on them",
}
#: far apart for most eyes, light and dark by turns
_COLOURS = np.array(
    [
        (230, 70, 60), (40, 90, 200), (250, 210, 60), (110, 40, 130), (120, 220, 200), (130, 70, 20),
        (250, 150, 190), (20, 110, 60), (245, 245, 240), (70, 70, 80), (180, 230, 90), (240, 130, 30),
    ],
    np.uint8,
)  # fmt: skip
_FLAT = (255, 0, 200)
_SQUARES = 8


def marked(original: TextureFile, mark: Mark) -> tuple[Picture, dict[int, Picture]]:
    """A picture in the place of a texture's, and its mip levels where they are to differ; alpha stays as it is.

    8 bits a channel, shape (height, width, 4), several pictures one below the other.
    """
    if mark == "levels":
        levels = [
            _plain(original.shown(level), _COLOURS[level % len(_COLOURS)]) for level in range(len(original.levels))
        ]
        return levels[0], dict(enumerate(levels[1:], 1))
    shown = original.shown()
    if mark == "flat":
        return _plain(shown, np.array(_FLAT, np.uint8)), {}
    one = _checker(original.header.width, original.header.height)
    return _plain(shown, np.tile(one, (original.header.pictures(), 1, 1))), {}


def _plain(shown: Picture, colours: np.ndarray) -> Picture:
    """The picture in other colours; what is clear stays as it is, colour and all."""
    solid = shown[..., 3:] > 0
    return np.concatenate([np.where(solid, colours, shown[..., :3]), shown[..., 3:]], axis=2).astype(np.uint8)


def _checker(width: int, height: int) -> Picture:
    """Squares by columns A, B, C ... and rows 1, 2, 3 ..., warm to the right and cold downwards."""
    side = max(max(width, height) // _SQUARES, 1)
    x, y = np.meshgrid(np.arange(width), np.arange(height))
    odd = ((x // side + y // side) % 2).astype(np.float32)
    ground = np.stack([90 + 130 * x / width, np.full(x.shape, 110.0), 90 + 130 * y / height], axis=2)
    image = Image.fromarray((ground * (0.55 + 0.45 * odd[..., None])).astype(np.uint8))
    if side >= 12:
        draw, font = ImageDraw.Draw(image), ImageFont.load_default(size=side * 0.42)
        for column in range(-(-width // side)):
            for row in range(-(-height // side)):
                place = (side * (column + 0.5), side * (row + 0.5))
                draw.text(place, f"{chr(65 + column % 26)}{row + 1}", fill=(255, 255, 255), font=font, anchor="mm")
    return np.asarray(image)
