"""Weighted sums of neighbouring rows or columns: what every filter for mip levels comes down to."""

from __future__ import annotations

import numpy as np

from brae.core.compiled import kernel


@kernel
def combine_rows(first, last, source, indices, weights, out):
    """``out[y] = sum over k of weights[y, k] * source[indices[y, k]]`` for rows ``first`` to ``last``.

    ``source``: float32 (height, width * channels); ``indices`` and ``weights``: (rows, taps).
    """
    width, taps = source.shape[1], indices.shape[1]
    for y in range(first, last):
        for x in range(width):
            out[y, x] = np.float32(0)
        for k in range(taps):
            row, weight = indices[y, k], weights[y, k]
            if weight != np.float32(0):
                for x in range(width):
                    out[y, x] += weight * source[row, x]


@kernel
def combine_columns(first, last, source, indices, weights, out):
    """The same along x, four channels a pixel: ``source`` float32 (height, width, 4), for rows as above."""
    columns, taps = indices.shape
    for y in range(first, last):
        for x in range(columns):
            a = b = c = d = np.float32(0)
            for k in range(taps):
                column, weight = indices[x, k], weights[x, k]
                a += weight * source[y, column, 0]
                b += weight * source[y, column, 1]
                c += weight * source[y, column, 2]
                d += weight * source[y, column, 3]
            out[y, x, 0] = a
            out[y, x, 1] = b
            out[y, x, 2] = c
            out[y, x, 3] = d


@kernel
def to_light(first, last, picture, table, alphas, weigh, out):
    """8-bit pixels as floats by a table of 256 values; with ``weigh`` colour is multiplied by alpha."""
    for y in range(first, last):
        for x in range(picture.shape[1]):
            alpha = alphas[picture[y, x, 3]]
            factor = alpha if weigh else np.float32(1)
            out[y, x, 0] = table[picture[y, x, 0]] * factor
            out[y, x, 1] = table[picture[y, x, 1]] * factor
            out[y, x, 2] = table[picture[y, x, 2]] * factor
            out[y, x, 3] = alpha


@kernel
def to_bytes(first, last, light, plain, table, weigh, out):
    """Floats back as 8-bit pixels by a table of 65,536; where all is clear, the colour of ``plain``."""
    most = np.float32(65535)
    for y in range(first, last):
        for x in range(light.shape[1]):
            alpha = min(max(light[y, x, 3], np.float32(0)), np.float32(1))
            for c in range(3):
                value = light[y, x, c]
                if weigh:
                    value = value / light[y, x, 3] if light[y, x, 3] > np.float32(1e-6) else plain[y, x, c]
                value = min(max(value * most + np.float32(0.5), np.float32(0)), most)
                out[y, x, c] = table[np.int64(value)]
            out[y, x, 3] = np.uint8(alpha * np.float32(255) + np.float32(0.5))
