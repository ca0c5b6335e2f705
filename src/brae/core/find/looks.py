"""How pictures are compared: made small, without their colours' hue and brightness, and against what lies behind.

Clear pixels have no colour that anybody sees, and what lies under them comes back in a screenshot as whatever was
behind: so a picture with alpha is compared in several guises, on black, on white and as stored.
"""

from __future__ import annotations

from typing import Any

import cv2
import numpy as np

#: float32, 0 to 255
Rgb = np.ndarray[Any, np.dtype[Any]]
#: uint8
Rgba = np.ndarray[Any, np.dtype[np.uint8]]
Array = np.ndarray[Any, Any]

#: sides of what is kept to look at again, of what is correlated with parts, and of what is compared as a whole
LOOK, PART, WHOLE = 64, 24, 16
#: standard deviation, in levels of 255, below which an area shows nothing
FLAT = 4.0
#: and below which even a whole picture shows nothing: sand and grass are nearly flat
BARE = 0.8
_LUMA = np.array([0.299, 0.587, 0.114], np.float32)  # ITU-R BT.601
# Numbers of a thousand small pictures are not worth the threads that OpenCV would start for each.
cv2.setNumThreads(1)


def to_png(rgba: Rgba) -> bytes:
    """A picture as a PNG file."""
    done, data = cv2.imencode(".png", cv2.cvtColor(np.ascontiguousarray(rgba), cv2.COLOR_RGBA2BGRA))
    assert done
    return bytes(data)


def guises(rgba: Rgba) -> list[Rgb]:
    """A picture as it may be seen: float32 (height, width, 3), 0 to 255."""
    colour = rgba[..., :3].astype(np.float32)
    if rgba[..., 3].min() >= 250:
        return [colour]
    alpha = rgba[..., 3:].astype(np.float32) / 255
    return [colour * alpha, colour * alpha + 255 * (1 - alpha), colour]


def resized(picture: Array, width: int, height: int) -> Array:
    """A picture in another size; averaged where it gets smaller."""
    smaller = picture.shape[0] >= height and picture.shape[1] >= width
    return np.asarray(
        cv2.resize(picture, (width, height), interpolation=cv2.INTER_AREA if smaller else cv2.INTER_LINEAR)
    )


def fitted(picture: Array, side: int) -> Array:
    """A picture whose longer side is ``side``, in its proportions (as far as whole pixels allow, 4 at least)."""
    height, width = picture.shape[:2]
    scale = side / max(height, width)
    return resized(picture, max(4, round(width * scale)), max(4, round(height * scale)))


def value_of(picture: Rgb) -> Array:
    """The largest of the three colours, as in HSV: float32, without the last axis."""
    return np.maximum(np.maximum(picture[..., 0], picture[..., 1]), picture[..., 2])


def planes(picture: Rgb) -> Array:
    """What stays when colours change: float32 (..., 4, height, width) of (..., height, width, 3).

    Value and chroma do not change with the hue (HSV), luma not with a turn of the chroma plane; edges stay in all.
    """
    value = value_of(picture)
    lowest = np.minimum(np.minimum(picture[..., 0], picture[..., 1]), picture[..., 2])
    edges = np.zeros_like(value)
    edges[..., :-1, :] = np.abs(np.diff(value, axis=-2))
    edges[..., :-1] += np.abs(np.diff(value, axis=-1))
    return np.stack([picture @ _LUMA, value, value - lowest, edges], axis=-3)


def units(flat: Array, least: float = FLAT) -> Array:
    """Planes (n, pixels) less their mean and of unit length; 0 where one varies by no more than ``least``."""
    centred = flat - flat.mean(-1, keepdims=True)
    spread = np.sqrt((centred * centred).mean(-1, keepdims=True))
    scaled = centred / np.maximum(spread * np.sqrt(flat.shape[-1]), 1e-6)
    return np.where(spread > least, scaled, 0).astype(np.float32)
