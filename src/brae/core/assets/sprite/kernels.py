"""Loops over the runs of which frames are made."""

from __future__ import annotations

import numpy as np
from numba import njit

#: what a control byte does
SKIP, COPY, FILL, END_ROW, END_FRAME = range(5)
#: what is wrong with runs
SHORT, UNKNOWN, BEYOND, _DONE = 1, 2, 3, 4


@njit(cache=True)
def _number(data: np.ndarray, at: int, width: int, big: bool) -> int:
    value = 0
    for k in range(width):
        value |= int(data[at + k]) << (8 * (width - 1 - k) if big else 8 * k)
    return value


@njit(cache=True)
def _row(
    data: np.ndarray,
    at: int,
    limit: int,
    first: int,
    count: int,
    form: np.ndarray,
    big: bool,
    step: int,
    ends: bool,
    bounded: bool,
    out: np.ndarray,
    drawn: np.ndarray,
) -> tuple[int, int]:
    """Pixels ``first`` and on, ``count`` of them; where the runs end, and what is wrong (0: nothing).

    ``form``: of each control byte what it does, how many pixels, whether the number behind counts, and its bytes.
    ``ends``: a code ends the row, not its width. ``bounded``: ``limit`` does.
    """
    x = 0
    while True:
        if bounded:
            if at >= limit:
                return at, 0
        elif not ends and x >= count:
            return at, 0
        if at >= limit:
            return at, SHORT
        code = data[at]
        what, pixels, counts, behind = form[code, 0], form[code, 1], form[code, 2], form[code, 3]
        if what < 0:
            return at, UNKNOWN
        at += 1
        if at + behind > limit:
            return at, SHORT
        if behind:
            pixels += counts * _number(data, at, behind, big)
            at += behind
        if what == END_FRAME:
            return at, _DONE
        if what == END_ROW:
            return at, 0
        if x + pixels > count:
            return at, BEYOND
        if what == COPY:
            if at + pixels * step > limit:
                return at, SHORT
            for k in range(pixels * step):
                out[(first + x) * step + k] = data[at + k]
            at += pixels * step
        elif what == FILL:
            if at + step > limit:
                return at, SHORT
            for p in range(pixels):
                for k in range(step):
                    out[(first + x + p) * step + k] = data[at + k]
            at += step
        if what != SKIP:
            for p in range(pixels):
                drawn[first + x + p] = True
        x += pixels


@njit(cache=True)
def decode(
    data: np.ndarray,
    start: int,
    rows: int,
    columns: int,
    form: np.ndarray,
    big: bool,
    step: int,
    by_rows: bool,
    ends: bool,
    length: int,
    counts_itself: bool,
    offsets: int,
    out: np.ndarray,
    drawn: np.ndarray,
) -> tuple[int, int]:
    """A frame's pixels (``step`` bytes each) and which are drawn; where its data end, and what is wrong there."""
    if not by_rows:
        at, wrong = _row(data, start, len(data), 0, rows * columns, form, big, step, ends, False, out, drawn)
        return at, 0 if wrong == _DONE else wrong
    at, furthest = start, start + offsets * rows
    if furthest > len(data):
        return start, SHORT
    for y in range(rows):
        limit, bounded = len(data), False
        if offsets:
            at = start + _number(data, start + y * offsets, offsets, big)
        if length:
            if at + length > len(data):
                return at, SHORT
            size = _number(data, at, length, big) - (length if counts_itself else 0)
            at += length
            if size < 0 or at + size > len(data):
                return at, SHORT
            limit, bounded = at + size, True
        at, wrong = _row(data, at, limit, y * columns, columns, form, big, step, ends, bounded, out, drawn)
        if wrong == _DONE:
            return max(furthest, at), 0
        if wrong:
            return at, wrong
        if bounded:
            at = limit
        furthest = max(furthest, at)
    return furthest, 0


@njit(cache=True)
def _written(
    out: np.ndarray, at: int, what: int, pixels: int, best: np.ndarray, far: np.ndarray, big: bool
) -> tuple[int, int]:
    """A code for at most so many pixels, put at a place; where it ends, and for how many it is (0: none)."""
    most = best.shape[2] - 1
    short = best[what, 0, min(pixels, most)]
    if far[what, 0] >= 0 and pixels >= far[what, 1] and pixels > short:
        many = min(pixels, far[what, 1] + far[what, 2])
        if many > short:
            out[at] = far[what, 0]
            behind, width = many - far[what, 1], far[what, 3]
            for k in range(width):
                out[at + 1 + k] = behind >> (8 * (width - 1 - k) if big else 8 * k) & 255
            return at + 1 + width, many
    if short:
        out[at] = best[what, 1, short]
        return at + 1, short
    return at, 0


@njit(cache=True)
def encode(
    pixels: np.ndarray,
    drawn: np.ndarray,
    best: np.ndarray,
    far: np.ndarray,
    big: bool,
    trailing: bool,
    out: np.ndarray,
) -> int:
    """Runs of pixels (n, bytes) as ``decode`` reads them; how many bytes, or -1 where no code can say them.

    ``best``: of each thing to do, for at most so many pixels, how many one code says, and which; ``far``: the code
    with a number behind it, what it counts from, the largest number, and its bytes. ``trailing``: whether what is
    not drawn at the end is said.
    """
    count, step = pixels.shape
    at, x, end = 0, 0, count
    if not trailing:
        while end and not drawn[end - 1]:
            end -= 1
    while x < end:
        many = 0
        if not drawn[x]:
            run = 1
            while x + run < end and not drawn[x + run]:
                run += 1
            at, many = _written(out, at, SKIP, run, best, far, big)
            if many:
                x += many
                continue
        run = 1
        while x + run < end and drawn[x + run] == drawn[x] and (pixels[x + run] == pixels[x]).all():
            run += 1
        if run >= 3:
            at, many = _written(out, at, FILL, run, best, far, big)
            if many:
                for k in range(step):
                    out[at + k] = pixels[x, k]
                at += step
                x += many
                continue
        # As they are, up to what is not drawn or to three alike.
        run = 1
        while x + run < end and drawn[x + run] == drawn[x]:
            alike = x + run + 2 < end
            for other in range(1, 3):
                if alike and not (pixels[x + run] == pixels[x + run + other]).all():
                    alike = False
            if alike and best[FILL, 0, min(3, best.shape[2] - 1)] > 0:
                break
            run += 1
        at, many = _written(out, at, COPY, run, best, far, big)
        if many == 0:
            return -1
        for p in range(many):
            for k in range(step):
                out[at + p * step + k] = pixels[x + p, k]
        at += many * step
        x += many
    return at
