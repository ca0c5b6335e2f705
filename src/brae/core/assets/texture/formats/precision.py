"""Pictures of 8 bits, of 16 bits and of floats, and the way between them.

8 and 16 bits are sRGB values, floats are light (IEC 61966-2-1): 1.0 is white, and there is more above it.
"""

from __future__ import annotations

from functools import cache
from typing import Any

import numpy as np

from brae.core.assets.texture.formats.base import Picture, Precision

Floats = np.ndarray[Any, np.dtype[np.float32]]
TYPES: dict[Precision, Any] = {"8": np.uint8, "16": np.uint16, "float": np.float32}


def precision_of(picture: Picture) -> Precision:
    """Which of the three a picture is."""
    return "8" if picture.dtype == np.uint8 else "16" if picture.dtype == np.uint16 else "float"


def white_of(picture: Picture) -> float:
    """The value of white, and of solid alpha."""
    return {"8": 255.0, "16": 65535.0, "float": 1.0}[precision_of(picture)]


def srgb_to_linear(value: Any) -> Any:
    """Light of an sRGB value; both from 0 to 1 (IEC 61966-2-1)."""
    value = np.asarray(value)
    return np.where(value <= 0.04045, value / 12.92, ((value + 0.055) / 1.055) ** 2.4)


def linear_to_srgb(light: Any) -> Any:
    """The sRGB value of light; both from 0 to 1 (IEC 61966-2-1)."""
    light = np.asarray(light)
    return np.where(light <= 0.0031308, light * 12.92, 1.055 * np.maximum(light, 0) ** (1 / 2.4) - 0.055)


@cache
def light_of_bytes() -> Floats:
    """Light of each of the 256 values."""
    table: Floats = srgb_to_linear(np.arange(256) / 255).astype(np.float32)
    return table


@cache
def bytes_of_light() -> Picture:
    """The 8-bit value of light in 65,535ths: enough to give every one of the 256 values back exactly."""
    table: Picture = np.rint(linear_to_srgb(np.arange(65536) / 65535) * 255).astype(np.uint8)
    return table


def as_precision(picture: Picture, precision: Precision) -> Picture:
    """A picture in another precision: the nearest value there is. Alpha is never light, and stays what it is."""
    have = precision_of(picture)
    if have == precision:
        return picture
    if have != "float" and precision != "float":
        if precision == "16":
            return picture.astype(np.uint16) * np.uint16(257)
        narrow: Picture = ((picture.astype(np.uint32) + 128) // 257).astype(np.uint8)
        return narrow
    if precision == "float":
        most = 255 if have == "8" else 65535
        result = np.empty(picture.shape, np.float32)
        result[..., 3] = picture[..., 3] / np.float32(most)
        colour = picture[..., :3]
        result[..., :3] = light_of_bytes()[colour] if have == "8" else srgb_to_linear(colour / np.float32(most))
        return result
    value = np.nan_to_num(picture, nan=0.0, posinf=1.0, neginf=0.0).clip(0, 1)
    most = 255 if precision == "8" else 65535
    value[..., :3] = linear_to_srgb(value[..., :3])
    return np.rint(value * most).astype(TYPES[precision])


def shown(picture: Picture, exposure: float = 0.0) -> Picture:
    """What a screen shows of a picture (8 bits); ``exposure`` in stops makes float data brighter or darker."""
    if exposure and precision_of(picture) == "float":
        picture = picture.copy()
        picture[..., :3] *= np.float32(2.0**exposure)
    return as_precision(picture, "8")
