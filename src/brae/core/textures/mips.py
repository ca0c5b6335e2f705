"""Mipmaps: area averages in linear light, colours weighted by their alpha."""

from __future__ import annotations

from functools import cache
from typing import Any

import numpy as np

from brae.core.textures.formats import Picture, level_sides

Floats = np.ndarray[Any, np.dtype[np.float32]]


def srgb_to_linear(value: Any) -> Any:
    """Light of an sRGB value; both from 0 to 1 (IEC 61966-2-1)."""
    value = np.asarray(value)
    return np.where(value <= 0.04045, value / 12.92, ((value + 0.055) / 1.055) ** 2.4)


def linear_to_srgb(light: Any) -> Any:
    """The sRGB value of light; both from 0 to 1 (IEC 61966-2-1)."""
    light = np.asarray(light)
    return np.where(light <= 0.0031308, light * 12.92, 1.055 * np.maximum(light, 0) ** (1 / 2.4) - 0.055)


@cache
def _to_linear() -> Floats:
    table: Floats = srgb_to_linear(np.arange(256) / 255).astype(np.float32)
    return table


@cache
def _to_srgb() -> Picture:
    # 16 bits of light are enough to give every one of the 256 values back exactly.
    table: Picture = np.rint(linear_to_srgb(np.arange(65536) / 65535) * 255).astype(np.uint8)
    return table


def _halve_axis(values: Floats, size: int, axis: int) -> Floats:
    old = values.shape[axis]
    if old == size:
        return values
    values = np.moveaxis(values, axis, 0)
    if old == 2 * size:
        result = (values[0::2] + values[1::2]) * np.float32(0.5)
    else:
        # Each new pixel covers old / size old ones, with a part of those at its rims.
        edges = np.arange(size + 1) * (old / size)
        sums = np.concatenate([np.zeros_like(values[:1]), np.cumsum(values, axis=0, dtype=np.float64)])
        whole = np.minimum(edges.astype(int), old - 1)
        at_edges = sums[whole] + (edges - whole).reshape(-1, *[1] * (values.ndim - 1)) * values[whole]
        result = (np.diff(at_edges, axis=0) * (size / old)).astype(np.float32)
    return np.moveaxis(result, 0, axis)


def make_levels(picture: Picture, count: int) -> list[Picture]:
    """The picture and its mip levels, ``count`` in all, each half as wide and high as the one before.

    Colour is averaged as light, weighted by alpha, so that what is clear does not bleed into edges; where all
    is clear the plain average is kept.
    """
    levels = [picture]
    height, width = picture.shape[:2]
    if count <= 1:
        return levels
    alpha = picture[..., 3:].astype(np.float32) / np.float32(255)
    light = _to_linear()[picture[..., :3]]
    has_clear = bool((picture[..., 3] < 255).any())
    weighted, plain = np.concatenate([light * alpha, alpha], axis=2), light
    for level in range(1, count):
        new_width, new_height = level_sides(width, height, level)
        weighted = _halve_axis(_halve_axis(weighted, new_height, 0), new_width, 1)
        cover = weighted[..., 3:]
        colour = weighted[..., :3]
        if has_clear:
            plain = _halve_axis(_halve_axis(plain, new_height, 0), new_width, 1)
            colour = np.where(cover > 1e-6, colour / np.maximum(cover, 1e-6), plain)
        result = np.empty((new_height, new_width, 4), np.uint8)
        result[..., :3] = _to_srgb()[np.clip(colour * 65535 + 0.5, 0, 65535).astype(np.uint16)]
        result[..., 3] = np.rint(np.clip(cover[..., 0], 0, 1) * 255)
        levels.append(result)
    return levels


def reduce_mask(mask: np.ndarray[Any, Any], size: int, axis: int) -> np.ndarray[Any, Any]:
    """Which of ``size`` new places along an axis cover a true place of ``mask`` (bool)."""
    old = mask.shape[axis]
    if old == size:
        return mask
    mask = np.moveaxis(mask, axis, 0)
    counts = np.concatenate([np.zeros_like(mask[:1], np.int32), np.cumsum(mask, axis=0, dtype=np.int32)])
    low = np.arange(size) * old // size
    high = -(-(np.arange(size) + 1) * old // size)
    return np.moveaxis(counts[high] > counts[low], 0, axis)


def changed_levels(changed: np.ndarray[Any, Any], count: int) -> list[np.ndarray[Any, Any]]:
    """For each level which pixels depend on a changed pixel of the largest one (bool, height x width)."""
    height, width = changed.shape
    masks = [changed]
    for level in range(1, count):
        new_width, new_height = level_sides(width, height, level)
        masks.append(reduce_mask(reduce_mask(masks[-1], new_height, 0), new_width, 1))
    return masks


def reduce_blocks(mask: np.ndarray[Any, Any], block: int) -> np.ndarray[Any, Any]:
    """Which blocks of ``block`` x ``block`` pixels hold a true pixel (bool, block rows x block columns)."""
    if block == 1:
        return mask
    height, width = mask.shape
    padded = np.pad(mask, ((0, -height % block), (0, -width % block)))
    rows, columns = padded.shape[0] // block, padded.shape[1] // block
    return np.asarray(padded.reshape(rows, block, columns, block).any(axis=(1, 3)))
