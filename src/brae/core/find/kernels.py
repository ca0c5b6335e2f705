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
    for k in range(n):
        best = np.float32(-1)
        for y in range(height - h + 1):
            for x in range(width - w + 1):
                dot = np.float32(0)
                total = np.float32(0)
                squares = np.float32(0)
                for row in range(h):
                    for column in range(w):
                        value = images[k, y + row, x + column]
                        dot += value * pattern[row, column]
                        total += value
                        squares += value * value
                spread = squares - total * total / count
                if spread > floor * floor * count:
                    score = dot / np.sqrt(spread)
                    if score > best:
                        best = score
                        places[k, 0] = y
                        places[k, 1] = x
        scores[k] = best
