"""What blocks are, so that each kind gets the work that it needs and whole groups of lanes need the same."""

from __future__ import annotations

import numpy as np

from brae.core.compiled import inlined, kernel, step

#: of one colour, opaque, clear or opaque by the pixel, soft
FLAT, SOLID, CUT, SOFT = 0, 1, 2, 3
ALPHA, CLEAR_OR_FULL = np.uint32(0xFF000000), np.uint32(0xFE)


@inlined
def soft_bits(pixel):
    """1 and 256 where a pixel is clear or opaque; only other values have bits between."""
    return (pixel >> np.uint32(24)) + np.uint32(1)


@inlined
def kind_of(differ, every, soft):
    """The kind of a block, from what its pixels have in common."""
    solid, hard = every >= ALPHA, (soft & CLEAR_OR_FULL) == np.uint32(0)
    return FLAT if differ == np.uint32(0) else SOLID if solid else CUT if hard else SOFT


@kernel
def classify(first, last, picture, kinds):
    """Tell in ``kinds`` (uint8, rows x columns of blocks) what the blocks of rows ``first`` to ``last`` are.

    ``picture`` is uint32 (height, width), R in the lowest byte.
    """
    height, width = picture.shape
    whole, across = width >> 2, kinds.shape[1]
    differ, every, soft = np.empty(across, np.uint32), np.empty(across, np.uint32), np.empty(across, np.uint32)
    for by in range(first, last):
        for bx in range(across):
            differ[bx], every[bx], soft[bx] = np.uint32(0), np.uint32(0xFFFFFFFF), np.uint32(0)
        top = picture[by * 4]
        for y in range(4):
            # Beyond an edge the last pixels are repeated, which changes nothing here.
            row = picture[min(by * 4 + y, height - 1)]
            for bx in range(whole):
                p, q, r, s = row[4 * bx], row[4 * bx + 1], row[4 * bx + 2], row[4 * bx + 3]
                word = top[4 * bx]
                differ[bx] |= (p ^ word) | (q ^ word) | (r ^ word) | (s ^ word)
                every[bx] &= p & q & r & s
                soft[bx] |= soft_bits(p) | soft_bits(q) | soft_bits(r) | soft_bits(s)
            for x in range(whole * 4, width):
                pixel = row[x]
                differ[whole] |= pixel ^ top[whole * 4]
                every[whole] &= pixel
                soft[whole] |= soft_bits(pixel)
        for bx in range(across):
            kinds[by, bx] = kind_of(differ[bx], every[bx], soft[bx])


@kernel
def sort_by_kind(blocks, kinds, sorted_blocks, counts):
    """``blocks`` in the order of their ``kinds`` (by number of block), and how many there are of each (4)."""
    for at in range(blocks.size):
        counts[kinds[blocks[at]]] += 1
    places = np.zeros(4, np.int64)
    for kind in range(1, 4):
        places[kind] = places[kind - 1] + counts[kind - 1]
    for at in range(blocks.size):
        block = blocks[at]
        kind = kinds[block]
        sorted_blocks[places[kind]] = block
        places[kind] += 1


@step
def corner(block, across):
    """The first row and column of a block, of which ``across`` (int32) stand side by side."""
    # One division of 32 bits: those of 64 are slow, and there is a block every 16 pixels.
    row = np.int32(block) // across
    return np.int64(row) * 4, np.int64(np.int32(block) - row * across) * 4


@step
def flat_word(picture, block):
    """The colour of a block of one colour."""
    top, left = corner(block, np.int32((picture.shape[1] + 3) >> 2))
    return picture[top, left]
