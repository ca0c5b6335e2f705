"""What became of colours, looked up for every pixel.

Pixels are read as numbers of 32 bits: on the machines that Numba supports red is the lowest byte, alpha the highest.
"""

from __future__ import annotations

import numpy as np

from brae.core.compiled import kernel

_COLOUR, _ALPHA, _KNOWN = np.uint32(0xFFFFFF), np.uint32(0xFF000000), np.uint32(1 << 24)


@kernel
def missing_in(pixels, known, keys):
    """The colours of ``pixels`` that ``known`` has not, each once, into ``keys`` (uint32, as many as pixels).

    They are marked in ``known`` as asked for, with 1. Returns how many there are.
    """
    count = 0
    for n in range(len(pixels)):
        key = pixels[n] & _COLOUR
        if known[key] == 0:
            known[key] = 1
            keys[count] = key
            count += 1
    return count


@kernel
def look_up(pixels, known, result):
    """Writes into ``result`` what ``known`` has for the colours of ``pixels``; alpha stays.

    Both uint32 (n). ``known``: uint32 (1 << 24), the new colour by the old one, plus 1 << 24; less where it is not
    known yet. Returns whether there is one that is not.
    """
    all_of_them = _KNOWN
    for n in range(len(pixels)):
        pixel = pixels[n]
        new = known[pixel & _COLOUR]
        all_of_them &= new
        result[n] = (new & _COLOUR) | (pixel & _ALPHA)
    return all_of_them == 0
