"""Which sides and level counts explain a number of bytes."""

from __future__ import annotations

from collections.abc import Iterator
from functools import lru_cache

import numpy as np

from brae.core.assets.texture.formats import PixelFormat
from brae.core.assets.texture.formats.base import full_chain, level_sides

_SIDES = [2**power for power in range(2, 14)]
#: width, height, levels
Sides = tuple[int, int, int]


@lru_cache(maxsize=64)
def chains(block: tuple[int, int], block_bytes: int) -> dict[int, list[Sides]]:
    """For each number of bytes the sides (powers of two) and level counts that have it."""
    found: dict[int, list[Sides]] = {}
    for width in _SIDES:
        for height in _SIDES:
            size = 0
            if max(width, height) > 16 * min(width, height):
                continue
            for level in range(full_chain(width, height)):
                w, h = level_sides(width, height, level)
                size += -(-w // block[1]) * -(-h // block[0]) * block_bytes
                found.setdefault(size, []).append((width, height, level + 1))
    return found


def other_sides(pixel_format: PixelFormat, size: int) -> Iterator[Sides]:
    """Sides that are no powers of two: without levels, or with all of them."""
    rows, columns = pixel_format.block
    units = size // pixel_format.block_bytes
    if units * pixel_format.block_bytes != size:
        return
    for across in range(2, min(units, 4096 // columns) + 1):
        if units % across == 0 and across * columns <= 16 * (units // across) * rows <= 256 * across * columns:
            yield across * columns, units // across * rows, 1
    # The largest level is three quarters of a chain; rounding of the smaller ones moves that by a step.
    step = max(columns, 4)
    width = np.repeat(np.arange(step, 4097, step), 3)
    largest = units * rows * columns * 0.75
    height = (largest / width).astype(np.int64) // step * step + np.tile([-step, 0, step], len(width) // 3)
    fits = (height >= step) & (height <= 16 * width) & (width <= 16 * height)
    width, height = width[fits], height[fits]
    total, longest = np.zeros_like(width), np.maximum(width, height)
    for level in range(int(longest.max(initial=0)).bit_length()):
        across, down = (
            -(-np.maximum(side >> level, 1) // each) for side, each in ((width, columns), (height, rows))
        )
        total += np.where(longest >> level > 0, across * down, 0)
    for wide, high in zip(width[total == units].tolist(), height[total == units].tolist(), strict=True):
        yield wide, high, full_chain(wide, high)
