"""Which grid a sheet has, told by the picture alone: between cells little crosses, and in a cell much does.

Common practice, no source; how often it is right is measured on sheets that were put together of other people's
sprites.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from brae.core.sprites.frames import MOST, Picture

_Array = np.ndarray[Any, Any]
#: sides of a cell
_LEAST, _MOST_CELLS = 8, 128
#: pixels this alike go on across a border
_ALIKE = 24
#: what a side that is no multiple of eight counts less; what the whole sheet as one cell is worth
_ODD, _WHOLE = 0.06, 0.3
#: how much borders count beside repetition; what each larger side counts for a smaller one that fits nearly as well
_BORDERS, _SMALLER, _NEARLY = 0.8, 0.04, 0.15
_TOLD = 5
_LINES = 256


@dataclass(frozen=True)
class Cells:
    """A grid: the sides of a cell in pixels, how many there are, and how well it fits, 0 to 1."""

    width: int
    height: int
    count: int
    fit: float

    @property
    def words(self) -> str:
        """As the command line takes it."""
        return f"{self.width}x{self.height}"


def proposed(sheet: Picture) -> list[Cells]:
    """The likeliest grids of a sheet, uint8 (height, width, 4), best first; empty where it seems to have none."""
    height, width = sheet.shape[:2]
    # Of large sheets some lines tell as much as all.
    rows, columns = (slice(None, None, max(1, side // _LINES)) for side in (height, width))
    across = _sides(sheet[rows], _drawn(sheet[rows]), width)
    turned = sheet[:, columns].swapaxes(0, 1)
    down = _sides(turned, _drawn(turned), height)
    found = []
    for wide, fit_w in across:
        for high, fit_h in down:
            count = (width // wide) * (height // high)
            if not 2 <= count <= MOST or max(wide, high) > 4 * min(wide, high):
                continue
            square = 0.05 if wide == high else 0.0
            found.append(Cells(wide, high, count, float(np.clip(min(fit_w, fit_h) + square, 0, 1))))
    found.sort(key=lambda one: -one.fit)
    return found[:_TOLD]


def _drawn(sheet: Picture) -> _Array:
    """Where something is drawn: what is not clear; of a sheet without alpha, what is not its commonest colour."""
    alpha = sheet[..., 3] > 0
    if not alpha.all():
        return np.asarray(alpha)
    words = np.ascontiguousarray(sheet).view("<u4")[..., 0]
    colours, counts = np.unique(words, return_counts=True)
    common = int(np.argmax(counts))
    if counts[common] < words.size // 10:
        return np.ones(words.shape, bool)
    return np.asarray(words != colours[common])


def _sides(sheet: Picture, drawn: _Array, length: int) -> list[tuple[int, float]]:
    """The likeliest sides of cells along the second axis, with how well they fit."""
    goes_on = _crossings(sheet, drawn)
    if not len(goes_on):
        return [(length, 0.5)]
    usual = float(goes_on.mean()) + 1e-9
    profile = _profile(sheet, drawn)
    fits: dict[int, float] = {}
    for side in range(_LEAST, length // 2 + 1):
        if length % side or length // side > _MOST_CELLS:
            continue
        borders = 1 - float(goes_on[side - 1 :: side].mean()) / usual
        # Smooth columns are alike at any small distance, and those of several cells at each; half a cell is not.
        again = max(0.0, _repeats(profile, side) - _repeats(profile, side // 2))
        fits[side] = _BORDERS * borders + (1 - _BORDERS) * again - (_ODD if side % 8 else 0.0)
    # Several cells together fit as one does, so the smaller ones are meant where they fit nearly as well.
    found = [
        (
            side,
            fit
            + _SMALLER * sum(other % side == 0 and fit > fits[other] - _NEARLY for other in fits if other != side),
        )
        for side, fit in fits.items()
    ]
    if length >= _LEAST:
        found.append((length, _WHOLE))
    found.sort(key=lambda one: -one[1])
    return [one for one in found if one[1] > found[0][1] - 0.4][:6]


def _profile(sheet: Picture, drawn: _Array) -> _Array:
    """What is in each column: how much of it is drawn, and how light that is; (columns, 2)."""
    light = sheet[..., :3].mean(axis=-1) / 255 * drawn
    return np.stack([drawn.mean(axis=0), light.mean(axis=0)], axis=1)


def _repeats(profile: _Array, side: int) -> float:
    """How alike columns are to those a cell further, as a correlation; 0 to 1."""
    here, there = profile[:-side] - profile.mean(axis=0), profile[side:] - profile.mean(axis=0)
    power = float(np.sqrt((here**2).sum() * (there**2).sum()))
    return max(0.0, float((here * there).sum()) / power) if power > 1e-9 else 0.0


def _crossings(sheet: Picture, drawn: _Array) -> _Array:
    """For each pair of neighbouring columns the share of rows in which what is drawn goes on."""
    both = drawn[:, :-1] & drawn[:, 1:]
    apart = np.abs(sheet[:, 1:, :3].astype(np.int16) - sheet[:, :-1, :3]).max(axis=-1)
    return np.asarray((both & (apart < _ALIKE)).mean(axis=0))
