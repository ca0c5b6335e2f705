"""Where a small picture fits best in each of many others."""

from __future__ import annotations

import numpy as np

from brae.core.compiled import kernel


@kernel
def best_places(images, pattern, floor, scores, places):
    """The best normalised cross-correlation of ``pattern`` in each of ``images``, and its place.

    ``images``: float32 (n, height, width). ``pattern``: float32 (h, w), mean 0 and of unit length. ``floor``: the
    standard deviation below which a part of an image shows nothing. Writes ``scores`` float32 (n) and ``places``
    int32 (n, 2): row and column.
    """
    n, height, width = images.shape
    h, w = pattern.shape
    count = np.float32(h * w)
    # Sums over everything above and to the left: a window's own sums are four of them.
    sums = np.zeros((height + 1, width + 1), np.float64)
    powers = np.zeros((height + 1, width + 1), np.float64)
    for k in range(n):
        for y in range(height):
            line = np.float64(0)
            power = np.float64(0)
            for x in range(width):
                value = np.float64(images[k, y, x])
                line += value
                power += value * value
                sums[y + 1, x + 1] = sums[y, x + 1] + line
                powers[y + 1, x + 1] = powers[y, x + 1] + power
        best = np.float32(-1)
        for y in range(height - h + 1):
            for x in range(width - w + 1):
                total = sums[y + h, x + w] - sums[y, x + w] - sums[y + h, x] + sums[y, x]
                squares = powers[y + h, x + w] - powers[y, x + w] - powers[y + h, x] + powers[y, x]
                spread = np.float32(squares - total * total / count)
                if spread > floor * floor * count:
                    dot = np.float32(0)
                    for row in range(h):
                        for column in range(w):
                            dot += images[k, y + row, x + column] * pattern[row, column]
                    score = dot / np.sqrt(spread)
                    if score > best:
                        best = score
                        places[k, 0] = y
                        places[k, 1] = x
        scores[k] = best
