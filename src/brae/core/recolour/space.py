"""Colours as they are seen: Oklab (B. Ottosson, "A perceptual color space for image processing", 2020)."""

from __future__ import annotations

from typing import Any

import numpy as np

Floats = np.ndarray[Any, np.dtype[np.float32]]

#: linear sRGB to the cone responses, and their cube roots to lightness, green-red and blue-yellow; as published
_TO_CONES = np.array(
    [
        [0.4122214708, 0.5363325363, 0.0514459929],
        [0.2119034982, 0.6806995451, 0.1073969566],
        [0.0883024619, 0.2817188376, 0.6299787005],
    ]
)
_TO_LAB = np.array(
    [
        [0.2104542553, 0.7936177850, -0.0040720468],
        [1.9779984951, -2.4285922050, 0.4505937099],
        [0.0259040371, 0.7827717662, -0.8086757660],
    ]
)
_CONES, _LAB = _TO_CONES.astype(np.float32), _TO_LAB.astype(np.float32)
_FROM_LAB = np.linalg.inv(_TO_LAB).astype(np.float32)
_FROM_CONES = np.linalg.inv(_TO_CONES).astype(np.float32)


def to_light(stored: Floats) -> Floats:
    """sRGB numbers of 0 to 1 as light (IEC 61966-2-1)."""
    high = ((np.maximum(stored, 0.04045) + 0.055) / 1.055) ** 2.4
    return np.where(stored <= 0.04045, stored / 12.92, high).astype(np.float32)


def to_stored(light: Floats) -> Floats:
    """Light as sRGB numbers; what is out of reach is cut off."""
    light = np.clip(light, 0, 1)
    low = light <= 0.0031308
    return np.where(low, light * 12.92, 1.055 * np.maximum(light, 0.0031308) ** (1 / 2.4) - 0.055).astype(
        np.float32
    )


def to_lab(stored: Floats) -> Floats:
    """sRGB numbers (..., 3) as Oklab: lightness of 0 to 1, green to red, blue to yellow."""
    from brae.core.recolour import kernels

    flat = np.ascontiguousarray(stored, np.float32).reshape(-1, 3)
    result = np.empty_like(flat)
    kernels.to_lab(flat, _CONES, _LAB, result)
    return result.reshape(stored.shape)


def from_lab(lab: Floats) -> Floats:
    """Oklab as sRGB numbers. Colours that sRGB does not have lose colour until it has them; hue and light stay."""
    from brae.core.recolour import kernels

    flat = np.ascontiguousarray(lab, np.float32).reshape(-1, 3)
    result = np.empty_like(flat)
    kernels.from_lab(flat, _FROM_LAB, _FROM_CONES, result)
    return result.reshape(lab.shape)


def hue_of(lab: Floats) -> Floats:
    """Degrees of 0 to 360; of grey any."""
    return np.asarray(np.degrees(np.arctan2(lab[..., 2], lab[..., 1])) % 360, np.float32)


def chroma_of(lab: Floats) -> Floats:
    """How far a colour is from grey."""
    return np.asarray(np.hypot(lab[..., 1], lab[..., 2]), np.float32)
