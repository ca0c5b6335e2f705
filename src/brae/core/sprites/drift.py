"""How far the frames of an edit moved: each laid on its original to a part of a pixel.

By cross-correlation of outlines, its peak refined by an upsampled discrete Fourier transform (M. Guizar-Sicairos
et al., "Efficient subpixel image registration algorithms", 2008).
"""

from __future__ import annotations

import os
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from brae.core.sprites.frames import Picture

Floats = np.ndarray[Any, np.dtype[np.float32]]
#: how far around the best place a better one is looked for, and by which parts of a pixel: coarsely, then finely
_FINER = ((1.5, 0.1), (0.1, 0.02))
#: below this likeness (of 1) a place is a guess
SURE = 0.5
#: frames that are worth the time it takes
MOST = 512
#: pixels by which a frame has to be off the others to jump
JUMP = 0.5
#: pixels that a frame may be off and still count as where it was
_STILL = 0.1
#: pixels around what was painted in which the figure is looked at
_AROUND = 6.0
#: likeness from which on an area is found
_FOUND = 0.8
#: likeness from which on a figure moved as one piece
_AS_ONE = 0.97
#: channels' numbers that have to differ for a pixel to be painted over
_DIFFERS = 8


@dataclass(frozen=True)
class Shift:
    """How far one picture lies from another, in pixels to the right and down; how alike they are there, 0 to 1."""

    dx: float
    dy: float
    sure: float


NOWHERE = Shift(0.0, 0.0, 0.0)


@dataclass(frozen=True)
class Drift:
    """One frame: how far it moved as a whole, and what was painted on it; and whether either jumps."""

    frame: int
    whole: Shift
    #: what was painted: how far it moved on the figure, against the frame where most was painted
    painted: Shift | None
    jumps: bool
    #: how far it is off most of the others, in pixels to the right and down
    off: tuple[float, float] = (0.0, 0.0)

    @property
    def by(self) -> Shift:
        """What it is off by: what was painted on it, or all of it where that cannot be told."""
        return self.whole if self.painted is None or self.painted.sure < SURE else self.painted

    @property
    def all_of_it(self) -> bool:
        """Whether all of the frame is off; else what was painted on it."""
        return self.by is self.whole


def drift(originals: Sequence[Picture], edits: Sequence[Picture]) -> list[Drift]:
    """Every frame of an edit against its original; pictures of uint8 (height, width, 4), pairs of the same size."""
    if len(originals) != len(edits):
        raise ValueError("an original for each edit")
    crop = _drawn([*originals, *edits])
    originals, edits = [one[crop] for one in originals], [one[crop] for one in edits]
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        shown = list(pool.map(_outline, originals))
        whole = list(pool.map(_between, shown, pool.map(_outline, edits)))
    # Where the whole frame moved, every edge of it differs: what was painted cannot be told from it.
    layers = [
        _painted(before, after) if np.hypot(moved.dx, moved.dy) < _STILL else None
        for before, after, moved in zip(originals, edits, whole, strict=True)
    ]
    painted = _on_the_figure(shown, layers)
    usual = [_middle([one for one in shifts if one.sure >= SURE]) for shifts in (whole, _those(painted))]
    found = []
    for number, (moved, part) in enumerate(zip(whole, painted, strict=True)):
        jumps = moved.sure >= SURE and _far(moved, usual[0])
        if part is not None and part.sure >= SURE:
            jumps = jumps or _far(part, usual[1])
        told = Drift(number, moved, part, jumps)
        middle = usual[0] if told.all_of_it else usual[1]
        found.append(replace(told, off=(told.by.dx - middle[0], told.by.dy - middle[1])))
    return found


def _drawn(pictures: Sequence[Picture]) -> tuple[slice, slice]:
    """The rows and columns in which any picture shows something, where all have the same sides."""
    if len({one.shape for one in pictures}) != 1:
        return np.s_[:, :]
    seen = np.zeros(pictures[0].shape[:2], bool)
    for one in pictures:
        seen |= one[..., 3] > 0
    rows, columns = np.flatnonzero(seen.any(axis=1)), np.flatnonzero(seen.any(axis=0))
    return np.s_[rows[0] : rows[-1] + 1, columns[0] : columns[-1] + 1] if len(rows) else np.s_[:, :]


def _those(shifts: Sequence[Shift | None]) -> list[Shift]:
    return [one for one in shifts if one is not None]


def _middle(shifts: Sequence[Shift]) -> tuple[float, float]:
    if not shifts:
        return 0.0, 0.0
    return float(np.median([one.dx for one in shifts])), float(np.median([one.dy for one in shifts]))


def _far(one: Shift, usual: tuple[float, float]) -> bool:
    return bool(np.hypot(one.dx - usual[0], one.dy - usual[1]) >= JUMP)


def _painted(before: Picture, after: Picture) -> Picture | None:
    """What an edit has that its original has not, clear elsewhere; None where that is next to nothing."""
    apart = np.abs(before.astype(np.int16) - after).max(axis=-1) > _DIFFERS
    seen = apart & (after[..., 3] > 0)
    if seen.sum() < 4:
        return None
    layer = after.copy()
    layer[~seen] = 0
    return layer


def _on_the_figure(originals: Sequence[Floats], layers: Sequence[Picture | None]) -> list[Shift | None]:
    """How far what was painted moved from one frame to another, beyond what the figure under it did (outlines)."""
    sizes = [0 if layer is None else int((layer[..., 3] > 0).sum()) for layer in layers]
    first = int(np.argmax(sizes)) if sizes else 0
    reference = layers[first] if layers else None
    if reference is None:
        return [None] * len(layers)
    near, own_outline = _window(reference), _outline(reference)

    def moved(before: Floats, layer: Picture | None) -> Shift | None:
        if layer is None or layer.shape != reference.shape:
            return None
        return _beyond(_between(own_outline, _outline(layer)), originals[first], before, near)

    with ThreadPoolExecutor(os.cpu_count()) as pool:
        return list(pool.map(moved, originals, layers))


def _beyond(own: Shift, first: Floats, before: Floats, near: Floats) -> Shift:
    """What something on a figure moved beyond the figure itself, of which two outlines are given."""
    # A head nods while the feet stand: what is painted on it moves with it, else with the whole figure.
    figure = _between(first * near, before * near)
    if figure.sure < SURE or np.hypot(own.dx - figure.dx, own.dy - figure.dy) >= JUMP / 2:
        all_of_it = _between(first, before)
        figure = min(
            (figure, all_of_it),
            key=lambda one: np.hypot(own.dx - one.dx, own.dy - one.dy) if one.sure >= SURE else np.inf,
        )
    return Shift(own.dx - figure.dx, own.dy - figure.dy, min(own.sure, figure.sure))


@dataclass(frozen=True)
class Followed:
    """Where an area is found in a frame (its top left corner), and how far that is off most of the frames."""

    frame: int
    x: int
    y: int
    off: tuple[float, float]
    sure: float
    jumps: bool


def follow(
    originals: Sequence[Picture], edits: Sequence[Picture], frame: int, box: tuple[int, int, int, int]
) -> list[Followed]:
    """An area (x, y, width, height) of one frame of an edit looked for in all, beyond the figure's movement.

    Where something was painted in it, that alone is looked for.

    Pictures of uint8 (height, width, 4), all of the same size. Frames in which nothing is like it are left out.
    Raises ValueError where the area lies outside the frame, or where there is nothing in it.
    """
    import cv2

    x, y, width, height = box
    sides = edits[frame].shape
    if width < 1 or height < 1 or x < 0 or y < 0 or x + width > sides[1] or y + height > sides[0]:
        raise ValueError("the area lies outside the frame")
    crop = np.s_[y : y + height, x : x + width]
    area = edits[frame][crop]
    if not area[..., 3].any():
        raise ValueError("there is nothing in the area")
    marked = np.zeros(sides, np.uint8)
    marked[crop] = 255
    near, first = _window(marked), _outline(originals[frame])
    # Of what was painted there, if anything was: a rectangle around a hat has hair in it as well.
    layer = _painted(originals[frame][crop], area) if originals[frame].shape == sides else None
    counts = (layer if layer is not None else np.full_like(area, 255))[..., 3:] > 0
    weight = np.repeat(counts.astype(np.float32), 4, axis=2)
    area, pattern = np.where(counts, area, 0).astype(np.uint8), _seen(area)
    most = max(float((pattern**2 * weight).sum()), 1e-6)
    found: list[tuple[int, int, int, Shift]] = []
    for number, (before, after) in enumerate(zip(originals, edits, strict=True)):
        if after.shape != sides or before.shape != sides:
            continue
        if layer is not None and _painted(before, after) is None:
            continue  # what was painted on others is not on this one
        # How alike each place is, from 0 to 1; of two that are as good the nearer one.
        off = cv2.matchTemplate(_seen(after), pattern, cv2.TM_SQDIFF, mask=weight)
        alike = 1 - off / most
        away = np.hypot(*np.mgrid[-y : alike.shape[0] - y, -x : alike.shape[1] - x])
        best = np.unravel_index(int(np.argmax(alike - 0.001 * away)), alike.shape)
        top, left = int(best[0]), int(best[1])
        there = np.where(counts, after[top : top + height, left : left + width], 0).astype(np.uint8)
        finer = _between(_outline(area), _outline(there))
        if np.hypot(finer.dx, finer.dy) > 1:
            finer = Shift(0.0, 0.0, finer.sure)
        own = Shift(left - x + finer.dx, top - y + finer.dy, max(float(alike[best]), 0.0))
        if own.sure < _FOUND:
            continue
        shown = _outline(before)
        whole = _between(first, shown)
        if whole.sure >= _AS_ONE:
            moved = Shift(own.dx - whole.dx, own.dy - whole.dy, own.sure)
        else:
            moved = _beyond(own, first, shown, near)
        found.append((number, left, top, moved))
    usual = _middle([moved for *_, moved in found if moved.sure >= SURE])
    return [
        Followed(
            number, left, top, (moved.dx - usual[0], moved.dy - usual[1]), moved.sure,
            moved.sure >= SURE and _far(moved, usual),
        )
        for number, left, top, moved in found
    ]  # fmt: skip


def _seen(picture: Picture) -> Floats:
    """Colours as they are seen, with alpha: float32 (height, width, 4), 0 to 1."""
    numbers = picture.astype(np.float32) / np.float32(255)
    numbers[..., :3] *= numbers[..., 3:]
    return np.asarray(numbers, np.float32)


def _window(layer: Picture) -> Floats:
    """A soft window around what is painted on a frame: 1 on it, falling to 0 some pixels further."""
    seen = layer[..., 3] > 0
    sides = []
    for axis, length in ((1, layer.shape[0]), (0, layer.shape[1])):
        places = np.flatnonzero(seen.any(axis=axis))
        away = np.maximum(np.maximum(places[0] - np.arange(length), np.arange(length) - places[-1]), 0)
        sides.append(np.clip(1 - away / _AROUND, 0, 1))
    return np.outer(sides[0], sides[1]).astype(np.float32)


def shift(before: Picture, after: Picture) -> Shift:
    """How far ``after`` lies from ``before``, uint8 (height, width, 4) of the same size."""
    return _between(_outline(before), _outline(after))


def _between(before: Floats, after: Floats) -> Shift:
    """How far one outline lies from another."""
    one, two = _cropped(before, after)
    power = float(np.sqrt((one**2).sum() * (two**2).sum()))
    if power == 0:
        return NOWHERE
    if np.array_equal(one, two):
        return Shift(0.0, 0.0, 1.0)
    # Twice the size, so that nothing comes in again on the other side; a multiple of 32 is quickly transformed.
    height, width = (2 * side + -2 * side % 32 for side in one.shape)
    cross = np.fft.rfft2(two, (height, width)) * np.conj(np.fft.rfft2(one, (height, width)))
    map_ = np.fft.irfft2(cross, (height, width))
    peak = np.unravel_index(int(np.argmax(map_)), map_.shape)
    dy, dx = (float(at if at < side // 2 else at - side) for at, side in zip(peak, map_.shape, strict=True))
    # The finer maps by two products of matrices each, instead of a transform fifty times as large. Of the half of
    # the spectrum that is the mirror image, every column but the first and the last stands for two.
    rows, columns = np.fft.fftfreq(height), np.fft.rfftfreq(width)
    cross[:, 1:-1] *= 2
    highest = 0.0
    for reach, part in _FINER:
        steps = np.arange(-reach, reach + part / 2, part)
        down = np.exp(2j * np.pi * np.outer(dy + steps, rows))
        right = np.exp(2j * np.pi * np.outer(dx + steps, columns))
        fine = (down @ cross @ right.T).real / map_.size
        best = np.unravel_index(int(np.argmax(fine)), fine.shape)
        dy, dx, highest = dy + float(steps[best[0]]), dx + float(steps[best[1]]), float(fine[best])
    return Shift(round(dx, 2) + 0.0, round(dy, 2) + 0.0, round(min(highest / power, 1.0), 3))


def _cropped(one: Floats, two: Floats) -> tuple[Floats, Floats]:
    """The part of both in which either shows something: most of a frame is empty."""
    seen = (one > 0) | (two > 0)
    rows, columns = np.flatnonzero(seen.any(axis=1)), np.flatnonzero(seen.any(axis=0))
    if not len(rows):
        return one, two
    part = np.s_[rows[0] : rows[-1] + 1, columns[0] : columns[-1] + 1]
    return one[part], two[part]


def _outline(picture: Picture) -> Floats:
    """How fast alpha and lightness change at each pixel: what an eye takes for the shape."""
    alpha = picture[..., 3] * np.float32(1 / 255)
    light = (picture[..., 0].astype(np.uint16) + picture[..., 1] + picture[..., 2]) * np.float32(1 / 765) * alpha
    total = np.zeros(alpha.shape, np.float32)
    for layer, weight in ((alpha, 1.0), (light, 0.5)):
        padded = np.pad(layer, 1)
        across, along = padded[1:-1, 2:] - padded[1:-1, :-2], padded[2:, 1:-1] - padded[:-2, 1:-1]
        total += np.sqrt(across * across + along * along) * np.float32(weight)
    return total
