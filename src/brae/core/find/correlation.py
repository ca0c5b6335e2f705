"""Which of some patterns fits best anywhere in each of many small images: normalised cross-correlation."""

from __future__ import annotations

import numpy as np

from brae.core.compiled import kernel, step
from brae.core.find.looks import Array

#: images that lie side by side, pixel beside pixel: what is done with one is done with all of them in vectors
LANES = 16


def beside(images: Array) -> Array:
    """Images of one size, float32 (n, height, width), side by side: (blocks, height, width * LANES).

    Beyond the last of them all is 0.
    """
    n, height, width = images.shape
    blocks = -(-n // LANES)
    out = np.zeros((blocks * LANES, height, width), np.float32)
    out[:n] = images
    out = out.reshape(blocks, LANES, height, width).transpose(0, 2, 3, 1)
    return np.ascontiguousarray(out).reshape(blocks, height, width * LANES)


@kernel
def best_patterns(images, patterns, sizes, floor, scores, best):
    """How well each image has a part that one of some patterns fits, and which of them fits best.

    ``images``: as ``beside`` puts them. ``patterns``: float32 (m, at least height, at least width), each in the top
    left corner, of mean 0 and of unit length. ``sizes``: int64 (m, 2), height and width of each. ``floor``: the
    standard deviation below which a part of an image shows nothing. Writes ``scores`` float32 (blocks, LANES), -1
    where no part shows anything, and ``best`` int64 (blocks, LANES).
    """
    blocks, height, wide = images.shape
    # Sums over everything above and to the left: a part's own sums are four of them.
    sums = np.zeros((height + 1, wide + LANES), np.float64)
    powers = np.zeros((height + 1, wide + LANES), np.float64)
    total, power = np.empty(wide + LANES, np.float64), np.empty(wide + LANES, np.float64)
    line, spread = np.empty(wide, np.float32), np.empty(wide, np.float32)
    scores[:] = -1
    best[:] = 0
    for block in range(blocks):
        image = images[block]
        for y in range(height):
            _summed(image[y], sums[y], sums[y + 1], powers[y], powers[y + 1])
        for m in range(len(sizes)):
            h, w = sizes[m, 0], sizes[m, 1]
            if h > height or w * LANES > wide:
                continue
            there = line[: wide - (w - 1) * LANES]
            least = floor * floor * np.float32(h * w)
            for y in range(height - h + 1):
                there[:] = 0
                for row in range(h):
                    for column in range(w):
                        _added(there, image[y + row, column * LANES :], patterns[m, row, column])
                # One by one: of so many lines at once the compiler makes no vectors.
                _less(sums[y + h], sums[y], total)
                _less(powers[y + h], powers[y], power)
                right = w * LANES
                _spread(total, total[right:], power, power[right:], np.float64(h * w), spread[: len(there)])
                _scored(there, spread, least)
                _kept(there, m, scores[block], best[block])


@step
def _summed(line, above, sums, powers_above, powers):
    """Running sums of a line of pixels and of their squares, each image by itself, upon the lines above."""
    for at in range(len(line)):
        value = np.float64(line[at])
        # What is above without what is above and to the left is this column's share.
        sums[at + LANES] = sums[at] + above[at + LANES] - above[at] + value
        powers[at + LANES] = powers[at] + powers_above[at + LANES] - powers_above[at] + value * value


@step
def _added(out, line, value):
    for at in range(len(out)):
        out[at] += line[at] * value


@step
def _less(these, those, out):
    for at in range(len(out)):
        out[at] = these[at] - those[at]


@step
def _spread(total, total_right, power, power_right, count, out):
    """The sums of squares about the mean of parts, of running sums at their left and right ends."""
    for at in range(len(out)):
        whole = total_right[at] - total[at]
        out[at] = power_right[at] - power[at] - whole * whole / count


@step
def _scored(line, spread, least):
    """Products with a pattern become correlations, -1 where a part shows nothing."""
    for at in range(len(line)):
        score = line[at] / np.sqrt(max(spread[at], least))
        line[at] = score if spread[at] > least else np.float32(-1)


@step
def _kept(line, number, scores, best):
    for start in range(0, len(line), LANES):
        for lane in range(LANES):
            if line[start + lane] > scores[lane]:
                scores[lane], best[lane] = line[start + lane], number
