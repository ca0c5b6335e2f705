"""Pieces of the photographs that scikit-image ships, and what becomes of a picture on its way to a screenshot.

Drawn by Pillow and OpenCV; nothing of the search is used here.
"""

from __future__ import annotations

import io
from functools import cache

import cv2
import numpy as np
import skimage.data
from PIL import Image

Picture = np.ndarray
NAMES = ("astronaut", "chelsea", "coffee", "rocket", "camera", "coins", "gravel", "grass", "hubble_deep_field")
SIDE = 192


@cache
def pieces() -> dict[str, Picture]:
    """Tiles of 192 x 192 that show something, RGBA."""
    found = {}
    for name in NAMES:
        colour = opaque_of(getattr(skimage.data, name)())[..., :3]
        for top in range(0, colour.shape[0] - SIDE + 1, SIDE):
            for left in range(0, colour.shape[1] - SIDE + 1, SIDE):
                tile = colour[top : top + SIDE, left : left + SIDE]
                if tile.std() > 20:
                    found[f"{name}-{top}-{left}"] = opaque(tile)
    return found


def opaque(rgb: Picture) -> Picture:
    """The same with alpha 255."""
    return np.dstack([rgb, np.full(rgb.shape[:2], 255, np.uint8)])


def opaque_of(whole: Picture) -> Picture:
    """A photograph, grey or in colours, as RGBA."""
    return opaque(np.repeat(whole[..., None], 3, axis=2) if whole.ndim == 2 else whole[..., :3])


def jpeg(rgb: Picture, quality: int) -> Picture:
    """Written as JPEG and read again."""
    stream = io.BytesIO()
    Image.fromarray(rgb).save(stream, "JPEG", quality=quality)
    return np.asarray(Image.open(stream).convert("RGB"))


def changed(rgba: Picture, chance: np.random.Generator) -> Picture:
    """The whole picture in another size, hue and brightness, perhaps mirrored, as a JPEG of quality 40."""
    image = Image.fromarray(on_grey(rgba))
    scale = 2 ** chance.uniform(-2, 2)
    image = image.resize((max(12, round(image.width * scale)), max(12, round(image.height * scale))))
    hsv = np.asarray(image.convert("HSV")).copy()
    hsv[..., 0] += np.uint8(chance.integers(256))
    rgb = np.asarray(Image.fromarray(hsv, "HSV").convert("RGB")) * chance.uniform(0.6, 1.5)
    rgb = rgb.clip(0, 255).astype(np.uint8)
    rgb = rgb[:: chance.choice([-1, 1]), :: chance.choice([-1, 1])]
    return opaque(jpeg(np.ascontiguousarray(rgb), 40))


def cropped(rgba: Picture, chance: np.random.Generator) -> tuple[Picture, tuple[float, float, float, float]]:
    """A quarter of the picture in some proportions and another size, and where it was: left, top, width, height."""
    ratio = 2 ** chance.uniform(-0.5, 0.5)
    high, wide = rgba.shape[:2]
    height, width = round(high / 2 / ratio), round(wide / 2 * ratio)
    top, left = int(chance.integers(high - height + 1)), int(chance.integers(wide - width + 1))
    scale = 2 ** chance.uniform(-1, 1)
    part = Image.fromarray(on_grey(rgba)[top : top + height, left : left + width])
    part = part.resize((max(16, round(width * scale)), max(16, round(height * scale))))
    place = (left / wide, top / high, width / wide, height / high)
    return opaque(jpeg(np.asarray(part), 75)), place


def on_grey(rgba: Picture) -> Picture:
    """What is seen of a picture on a mid grey, RGB."""
    alpha = rgba[..., 3:] / np.float32(255)
    return (rgba[..., :3] * alpha + 128 * (1 - alpha)).round().astype(np.uint8)


def in_a_scene(
    rgba: Picture, behind: Picture, chance: np.random.Generator, share: float = 0.75
) -> tuple[Picture, Picture]:
    """The picture in perspective and lit from one side, in a screenshot of 640 x 480; and its corners there.

    ``share``: of its sides, as it is drawn.
    """
    scene = np.asarray(Image.fromarray(behind).convert("RGB").resize((640, 480))).astype(np.float32)
    high, wide = rgba.shape[:2]
    x, y = chance.uniform((120, 120), (520, 360))
    turn = chance.uniform(-0.4, 0.4)
    square = np.array([[-1, -1], [1, -1], [1, 1], [-1, 1]]) * [wide, high] * share / 2
    square = square * (1 + chance.uniform(-0.12, 0.12, (4, 1)))
    turned = square @ np.array([[np.cos(turn), np.sin(turn)], [-np.sin(turn), np.cos(turn)]])
    corners = (turned + np.array([x, y])).astype(np.float32)
    # OpenCV's warping does not average: as a renderer takes the level that fits, the picture is made small first.
    small = np.asarray(Image.fromarray(rgba).resize((max(2, round(wide * share)), max(2, round(high * share)))))
    flat = np.array([[0, 0], [small.shape[1], 0], small.shape[1::-1], [0, small.shape[0]]], np.float32)
    placed = cv2.getPerspectiveTransform(flat, corners)
    drawn = cv2.warpPerspective(small, placed, (640, 480), flags=cv2.INTER_LINEAR).astype(np.float32)
    light = np.linspace(0.6, 1.1, 640)[None, :, None]
    alpha = drawn[..., 3:] / 255
    rgb = drawn[..., :3] * light * alpha + scene * (1 - alpha)
    return opaque(jpeg(rgb.clip(0, 255).astype(np.uint8), 85)), corners / np.array([640, 480])
