"""How pictures that bytes show look: whether neighbours are alike, and levels made of one another.

Common practice, no source.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from brae.core.assets.texture import formats
from brae.core.assets.texture.formats import Picture, PixelFormat
from brae.core.assets.texture.guess.guess import Guess
from brae.core.assets.texture.mips import resample
from brae.core.assets.texture.texture import Header

#: what is looked at: as many bytes of the first level
LOOK = 1 << 17
#: and of those so many blocks for each width
_SAMPLE = 1 << 12
#: levels of this side are compared with the next
_COMPARED = 128
_Floats = np.ndarray[Any, np.dtype[np.float32]]


def _distance(a: _Floats, b: _Floats) -> float:
    """How far pixels lie apart on the average; the root makes one hard edge count less than many soft ones."""
    return float(np.sqrt(np.abs(a - b).sum(axis=-1)).mean())


def middle(data: bytes, step: int, most: int = LOOK) -> bytes:
    """Some bytes from the middle of the largest level, from a multiple of ``step`` on: there is most to be seen."""
    start = max(0, (len(data) * 3 // 4 - most) // 2) // step * step
    return data[start : start + most // step * step]


def strip(pixel_format: PixelFormat, data: bytes) -> _Floats:
    """Some blocks, one after another: (blocks, rows, columns, 4)."""
    rows, columns = pixel_format.block
    step = formats.LARGEST_SIDE // columns
    parts = []
    at = 0
    data = middle(data, pixel_format.block_bytes)
    total = len(data) // pixel_format.block_bytes
    while at < total:
        many = min(step, total - at)
        piece = data[at * pixel_format.block_bytes : (at + many) * pixel_format.block_bytes]
        picture = formats.shown(pixel_format.decode(piece, many * columns, rows)).astype(np.float32)
        parts.append(picture.reshape(rows, many, columns, 4).swapaxes(0, 1))
        at += many
    blocks = np.concatenate(parts)
    blocks[..., :3] *= blocks[..., 3:] / 255
    return blocks


def chance(edges: _Floats) -> float:
    """How far any two edges lie apart."""
    return _distance(edges, edges[np.random.default_rng(0).permutation(len(edges))])


def _alike(near: float, far: float) -> float:
    """How much more alike neighbours are than any two: 0 not at all, 1 wholly."""
    return max(0.0, 1 - (near + 0.05) / (far + 0.05)) if far > 0.02 else 0.0


def likeness(blocks: _Floats) -> float:
    """How alike blocks are to the next."""
    if len(blocks) < 8:
        return 0.0
    return _alike(_distance(blocks[:-1, :, -1], blocks[1:, :, 0]), chance(blocks[:, :, -1]))


def rows_fit(blocks: _Floats, across: int, far: float) -> float:
    """How alike they are to those below, for rows of so many; ``far``: to any."""
    if across >= len(blocks):
        return 0.0
    some = slice(0, max(_SAMPLE, 2 * across))
    return _alike(_distance(blocks[:-across, -1][some], blocks[across:, 0][some]), far)


def second_level(header: Header, data: bytes) -> float:
    """How well a level is the one before it at half the size: 0 not at all, 1 wholly.

    Of large textures smaller levels are compared; they tell as much.
    """
    level, start = 0, 0
    while level + 2 < header.levels and min(header.sides(level)) > _COMPARED:
        start += header.level_size(level)
        level += 1
    size, next_size = header.level_size(level), header.level_size(level + 1)
    first = formats.shown(header.format.decode(data[start : start + size], *header.sides(level))).astype(np.float32)
    behind = data[start + size : start + size + next_size]
    second = formats.shown(header.format.decode(behind, *header.sides(level + 1)))
    made = resample(np.ascontiguousarray(first), *header.sides(level + 1))
    away = float(np.abs(made - second).mean())
    shuffled = second.reshape(-1, 4)[np.random.default_rng(0).permutation(second.size // 4)].reshape(second.shape)
    chance = float(np.abs(made - shuffled).mean())
    return max(0.0, 1 - (away + 0.5) / (chance + 0.5)) if chance > 0.5 else 0.5


def thumbnail(data: bytes, guess: Guess, side: int = 128) -> Picture:
    """What the bytes look like by a guess, at most ``side`` pixels each way (8 bits)."""
    head = guess.header(data)
    level = 0
    start = guess.offset
    while level + 1 < head.levels and max(head.sides(level)) > 2 * side:
        start += head.level_size(level)
        level += 1
    part = data[start : start + head.level_size(level)]
    seen = formats.shown(head.format.decode(part, *head.sides(level)))
    scale = max(1, -(-max(seen.shape[:2]) // side))
    return np.ascontiguousarray(seen[::scale, ::scale])
