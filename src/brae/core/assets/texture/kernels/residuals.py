"""How well pixels are foretold by those beside and above them: counts from which bits are worked out.

The foretelling is the median edge detector of JPEG-LS (ITU-T T.87, A.4.2): the left or upper neighbour at an edge,
left + upper - upper left elsewhere. A difference is counted by the number of bits of its magnitude.
"""

from __future__ import annotations

import numpy as np

from brae.core.compiled import inlined, kernel


@inlined
def foretold(left, up, corner):
    """The median edge detector."""
    low, high = min(left, up), max(left, up)
    return low if corner >= high else high if corner <= low else left + up - corner


@inlined
def magnitude(value):
    """Bits of a number without its sign."""
    value, bits = abs(value), 0
    while value:
        value >>= 1
        bits += 1
    return bits


@inlined
def wrapped(value, bits):
    """A difference of numbers of so many bits, which wrap."""
    half = 1 << (bits - 1)
    return ((value + half) & (2 * half - 1)) - half


@kernel
def count_residuals(numbers, width, bits, first, last, alone, beside):
    """Pixels ``first`` to ``last`` of ``numbers`` (uint8, pixels x channels); the first of them has all neighbours.

    ``alone`` (channels x 10) counts the differences of each channel by their magnitude; ``beside`` those of
    channels 0 and 2 less that of channel 1, where there are three: colours change together.
    """
    channels = numbers.shape[1]
    own = np.zeros(channels, np.int64)
    for i in range(first, last):
        for c in range(channels):
            left, up = np.int64(numbers[i - 1, c]), np.int64(numbers[i - width, c])
            guess = foretold(left, up, np.int64(numbers[i - width - 1, c]))
            own[c] = wrapped(np.int64(numbers[i, c]) - guess, bits[c])
            alone[c, magnitude(own[c])] += 1
        if channels >= 3:
            for c in range(0, 3, 2):
                other = own[1] >> max(0, bits[1] - bits[c])
                beside[c, magnitude(wrapped(own[c] - other, bits[c]))] += 1


@kernel
def count_ranks(indices, width, colours, first, last, step, counts):
    """The same for every ``step``-th palette index (uint8): the rank of its entry by the distance from the colour
    foretold.

    ``colours`` (int64, entries x 4); of equal ones that of a neighbour ranks first, then the first. ``counts``
    (10): by the bits of the rank.
    """
    for i in range(first, last, step):
        left, up, corner = indices[i - 1], indices[i - width], indices[i - width - 1]
        own, far = indices[i], np.int64(0)
        guess = np.empty(4, np.int64)
        for c in range(4):
            guess[c] = foretold(colours[left, c], colours[up, c], colours[corner, c])
            far += (colours[own, c] - guess[c]) ** 2
        rank = 0
        known = own in (left, up)
        for entry in range(colours.shape[0]):
            near = np.int64(0)
            for c in range(4):
                near += (colours[entry, c] - guess[c]) ** 2
            rank += near < far or (near == far and entry < own and not known)
        counts[magnitude(rank)] += 1
