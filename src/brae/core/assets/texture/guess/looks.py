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
#: the largest level of a chain is this share of it
_LARGEST_LEVEL = 0.75
#: so many pieces of so many bytes tell where most changes; every pixel format repeats itself after 48
_PIECES, _PIECE, _PERIOD = 1 << 12, 256, 48
#: how much more has to change at an end than in the middle, and the share of bytes that is as good as nothing
_ASIDE, _NOTHING = 0.1, 0.001
_ALL = (0.0, 1.0)
#: neighbours of which nothing can be told
_TOO_FEW = 8
#: levels of this side are compared with the next
_COMPARED = 128
_Floats = np.ndarray[Any, np.dtype[np.float32]]


def _distance(a: _Floats, b: _Floats) -> float:
    """How far pixels lie apart on the average; the root makes one hard edge count less than many soft ones."""
    return float(np.sqrt(np.abs(a - b).sum(axis=-1)).mean())


def busiest(data: bytes, step: int, most: int = LOOK, within: tuple[float, float] = (0.0, _LARGEST_LEVEL)) -> int:
    """Where, between two shares of the bytes, those ``most`` begin that change oftenest; a multiple of ``step``.

    What is empty looks the same in every format: where nothing changes between the two, all of the bytes are asked.
    Where all changes alike, it is the middle.
    """
    first, last = (int(len(data) * share) for share in within)
    if last - first <= most:
        return first // step * step
    raw = np.frombuffer(data, np.uint8, last - first, first)
    # Of more than so many pieces some are looked at.
    every = max(1, (last - first) // (_PIECE * _PIECES))
    pieces = raw[: len(raw) // (_PIECE * every) * _PIECE * every].reshape(-1, _PIECE * every)[:, :_PIECE]
    changes = (pieces[:, _PERIOD:] != pieces[:, :-_PERIOD]).mean(axis=1)
    wide = max(1, round(most / (_PIECE * every)))
    sums = np.concatenate([[0.0], np.cumsum(changes)])
    starts = np.arange(max(1, len(changes) - wide + 1))
    share = (sums[np.minimum(starts + wide, len(changes))] - sums[starts]) / wide
    if share.max() < _NOTHING and within != _ALL:
        return busiest(data, step, most, _ALL)
    aside = np.abs(np.linspace(-1, 1, len(starts))) * _ASIDE
    start = first + int((share * (1 - aside)).argmax()) * _PIECE * every
    return min(start, last - most) // step * step


def middle(data: bytes, step: int, most: int = LOOK) -> bytes:
    """Some bytes of the largest level, from a multiple of ``step`` on, where most is to be seen."""
    start = busiest(data, step, most)
    return data[start : start + most // step * step]


def _alike(near: float, far: float) -> float:
    """How much more alike neighbours are than any two: 0 not at all, 1 wholly."""
    return max(0.0, 1 - (near + 0.05) / (far + 0.05)) if far > 0.02 else 0.0


class Strip:
    """Some blocks, one after another, as pixels; of those that are the same nothing is asked, as empty parts look
    alike in any format."""

    def __init__(self, pixel_format: PixelFormat, data: bytes) -> None:
        step, data = pixel_format.block_bytes, middle(data, pixel_format.block_bytes)
        raw = np.frombuffer(data[: len(data) // step * step], np.uint8).reshape(-1, step)
        #: what blocks that are the same have in common
        self._same = raw @ np.random.default_rng(0).random(step)
        self._blocks = self._pixels(pixel_format, data)
        edges = self._blocks[np.concatenate([[True], self._same[1:] != self._same[:-1]])][:, -1]
        #: how far any two edges lie apart
        self._chance = _distance(edges, edges[np.random.default_rng(0).permutation(len(edges))])

    @staticmethod
    def _pixels(pixel_format: PixelFormat, data: bytes) -> _Floats:
        """(blocks, rows, columns, 4)"""
        rows, columns = pixel_format.block
        step = formats.LARGEST_SIDE // columns
        parts = []
        total = len(data) // pixel_format.block_bytes
        for at in range(0, total, step):
            many = min(step, total - at)
            piece = data[at * pixel_format.block_bytes : (at + many) * pixel_format.block_bytes]
            picture = formats.shown(pixel_format.decode(piece, many * columns, rows)).astype(np.float32)
            parts.append(picture.reshape(rows, many, columns, 4).swapaxes(0, 1))
        blocks = np.concatenate(parts)
        blocks[..., :3] *= blocks[..., 3:] / 255
        return blocks

    def across(self) -> float:
        """How alike blocks are to the next."""
        other = np.nonzero(self._same[1:] != self._same[:-1])[0]
        if len(other) < _TOO_FEW:
            return 0.0
        return _alike(_distance(self._blocks[other, :, -1], self._blocks[other + 1, :, 0]), self._chance)

    def down(self, across: int) -> float:
        """How alike they are to those below, for rows of so many."""
        below = self._same[across:][: max(_SAMPLE, 2 * across)]
        other = np.nonzero(below != self._same[: len(below)])[0]
        if len(other) == 0:
            return 0.0
        return _alike(_distance(self._blocks[other, -1], self._blocks[other + across, 0]), self._chance)


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
