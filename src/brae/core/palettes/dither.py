"""Pictures in a palette with patterns between two of its colours: by choice, and never where it would flicker."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np

from brae.core.palettes.best import SEEN, Colours, Mapper, Numbers, Palette, Way

Dither = Literal["none", "diffused", "ordered"]


def _bayer(power: int) -> np.ndarray[Any, np.dtype[np.float64]]:
    """Thresholds between 0 and 1 (B. E. Bayer, "An optimum method for two-level rendition", 1973)."""
    table = np.zeros((1, 1))
    for _ in range(power):
        table = np.block([[4 * table, 4 * table + 2], [4 * table + 3, 4 * table + 1]])
    return np.asarray((table + 0.5) / table.size)


_THRESHOLDS = _bayer(3)


class Ditherer:
    """Pictures one after the other, such as the frames of a figure.

    Areas of one colour stay of one colour. Where a picture shows the same as the last one of its size, it gets the
    same entries, so that nothing flickers that does not move.
    """

    def __init__(self, palette: Palette, how: Dither, way: Way = "as seen") -> None:
        self._mapper, self._how = Mapper(palette, way), how
        self._last: dict[tuple[int, ...], tuple[Colours, Numbers]] = {}

    def mapped(self, picture: Colours) -> Numbers:
        """Each pixel's entry, (height, width), of a picture uint8 (height, width, 3 or 4)."""
        found = self._mapper.mapped(picture)
        if self._how == "none":
            return found
        plain = _flat(picture)
        if picture.shape[-1] == 4:
            plain |= picture[..., 3] < SEEN
        made = self._ordered(picture, found) if self._how == "ordered" else self._diffused(picture, plain)
        found = np.where(plain, found, made)
        last = self._last.get(picture.shape)
        if last is not None:
            found = np.where(_surrounded((picture == last[0]).all(axis=-1)), last[1], found)
        self._last[picture.shape] = (picture, found)
        return found

    def _ordered(self, picture: Colours, found: Numbers) -> Numbers:
        """The nearest entry, or the one beyond the pixel's colour: as often as that is near."""
        points = self._mapper.points(picture)
        entries = self._mapper.entries
        near = self._mapper.places(found)
        beyond = self._mapper.nearest(2 * points - entries[near])
        way = entries[beyond] - entries[near]
        length = (way**2).sum(axis=-1)
        part = ((points - entries[near]) * way).sum(axis=-1) / np.maximum(length, 1e-12)
        height, width = part.shape
        rows, columns = -(-height // 8), -(-width // 8)
        thresholds = np.tile(_THRESHOLDS, (rows, columns))[:height, :width]
        return np.where((length > 0) & (part > thresholds), self._mapper.usable[beyond], found)

    def _diffused(self, picture: Colours, plain: np.ndarray[Any, np.dtype[np.bool_]]) -> Numbers:
        from brae.core.palettes.kernels import diffuse

        nearest = np.zeros(plain.shape, np.int64)
        diffuse(self._mapper.points(picture).copy(), self._mapper.entries, plain, nearest)
        return self._mapper.usable[nearest]


def _flat(picture: Colours) -> np.ndarray[Any, np.dtype[np.bool_]]:
    """Pixels that have the colour of all their neighbours."""
    same = np.ones(picture.shape[:2], bool)
    for axis in (0, 1):
        step = (np.diff(picture.astype(np.int16), axis=axis) == 0).all(axis=-1)
        before, after = ([(0, 0), (0, 0)] for _ in range(2))
        before[axis], after[axis] = (1, 0), (0, 1)
        same &= np.pad(step, before, constant_values=True) & np.pad(step, after, constant_values=True)
    return same


def _surrounded(same: np.ndarray[Any, np.dtype[np.bool_]]) -> np.ndarray[Any, np.dtype[np.bool_]]:
    """Where it is so of a pixel and of all its eight neighbours."""
    padded = np.pad(same, 1, constant_values=True)
    height, width = same.shape
    around = [padded[y : y + height, x : x + width] for y in range(3) for x in range(3)]
    return np.asarray(np.logical_and.reduce(around))
