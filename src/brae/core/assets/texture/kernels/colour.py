"""Encoding the colour blocks of BC1, BC2 and BC3: two ends of 5:6:5 bits and two steps (or one) between them.

Source: Microsoft, "Texture Block Compression in Direct3D 11", BC1 to BC3.
"""

from __future__ import annotations

import numpy as np

from brae.core.assets.texture.kernels.kinds import flat_word
from brae.core.assets.texture.kernels.lanes import (
    CODE,
    END,
    ERROR,
    HALF,
    HUGE,
    INDEX,
    LANES,
    MASK,
    MEAN,
    ONE,
    OWN,
    PIXEL,
    SPREAD,
    TOTAL,
    TRY,
    ZERO,
    assign,
    copy,
    f4,
    fill,
    keep_better,
    line,
    load,
    pick,
    places,
    solve_channel,
    start,
    widen,
)
from brae.core.compiled import inlined, kernel, step

HIDDEN = OWN  # how many pixels of a block are clear
TURNED, EQUAL = OWN + 1, OWN + 2  # whether the ends change places, whether they are equal
THREE = OWN + 3  # error of the best block of three colours
#: rows of the workspace
ROWS = OWN + 4
MOST5, MOST6 = f4(31), f4(63)
#: decoders round steps down; of a third, floats lose what a hundredth makes good
ROUNDS = f4(0.01)
#: the code of each place between the ends, two bits each, in blocks of four and of three colours
FOUR_CODES, THREE_CODES = np.uint32(0b01_11_10_00), np.uint32(0b01_10_00)


@step
def wide_ends(W, row):
    """END: the codes of a row and those behind it as values of 8 bits."""
    for c in range(3):
        bits = np.int32(6 if c == 1 else 5)
        for i in range(LANES):
            W[(END + c) * LANES + i] = widen(W[(row + c) * LANES + i], bits)
            W[(END + 4 + c) * LANES + i] = widen(W[(row + 4 + c) * LANES + i], bits)


@step
def shown_error(W, weights, last):
    """TOTAL: the squared error of the ends as a decoder shows them, every pixel at its nearest place."""
    places(W, weights, last)
    fill(W, TOTAL, 1, ZERO)
    whole = ONE / last
    for k in range(16):
        for c in range(3):
            weight = weights[c]
            for i in range(LANES):
                first, second = W[(END + c) * LANES + i], W[(END + 4 + c) * LANES + i]
                way = W[(INDEX + k) * LANES + i]
                off = (
                    f4(np.int32((first * (last - way) + second * way) * whole + ROUNDS))
                    - W[(PIXEL + 16 * c + k) * LANES + i]
                )
                W[TOTAL * LANES + i] += W[(MASK + k) * LANES + i] * weight * off * off


@step
def polish(W, weights, last, rounds):
    """CODE: the codes of each channel one more or less, one after another, where that shows less error."""
    if rounds == 0:
        return
    wide_ends(W, CODE)
    shown_error(W, weights, last)
    copy(W, TOTAL, ERROR, 1)
    for _ in range(rounds):
        for move in range(24):
            channel, way = move >> 3, move & 7
            most = MOST6 if channel == 1 else MOST5
            # The first end, the second, both along, both apart.
            first = ZERO if way >> 1 == 1 else ONE
            second = ZERO if way >> 1 == 0 else -ONE if way >> 1 == 3 else ONE
            sign = ONE if way & 1 else -ONE
            copy(W, CODE, TRY, 8)
            for i in range(LANES):
                one, two = W[(TRY + channel) * LANES + i], W[(TRY + 4 + channel) * LANES + i]
                W[(TRY + channel) * LANES + i] = min(max(one + sign * first, ZERO), most)
                W[(TRY + 4 + channel) * LANES + i] = min(max(two + sign * second, ZERO), most)
            wide_ends(W, TRY)
            shown_error(W, weights, last)
            keep_better(W)


@step
def search(W, weights, last, starts, passes, rounds):
    """CODE and INDEX: the best quantised ends found from several starts, and the places of pixels."""
    line(W, weights)
    fill(W, ERROR, 1, HUGE)
    for s in range(starts.shape[0]):
        start(W, starts[s, 0], starts[s, 1])
        for _ in range(passes):
            assign(W, weights, last, last)
            copy(W, SPREAD, TOTAL, 1)
            for c in range(3):
                solve_channel(W, c, weights[c], 6 if c == 1 else 5, MOST6 if c == 1 else MOST5)
            keep_better(W)
    polish(W, weights, last, rounds)
    wide_ends(W, CODE)
    places(W, weights, last)


@inlined
def packed565(W, row, i):
    """The 16-bit colour of an end."""
    r, g, b = W[row * LANES + i], W[(row + 1) * LANES + i], W[(row + 2) * LANES + i]
    return (np.uint32(r) << np.uint32(11)) | (np.uint32(g) << np.uint32(5)) | np.uint32(b)


@step
def use_tables(W, tables):
    """CODE and INDEX of blocks of one colour: the pairs of ends whose first step comes nearest, by channel."""
    for i in range(LANES):
        if W[SPREAD * LANES + i] < HALF:
            for c in range(3):
                value = np.int32(W[(MEAN + c) * LANES + i] + HALF) & 255
                W[(CODE + c) * LANES + i] = f4(tables[c & 1, value, 0])
                W[(CODE + 4 + c) * LANES + i] = f4(tables[c & 1, value, 1])
            for k in range(16):
                W[(INDEX + k) * LANES + i] = ONE


@step
def pack(W, last, ends, bits):
    """The two words of every lane. Blocks of four colours have the greater end first, of three the lesser."""
    four = last == f4(3)
    for i in range(LANES):
        first, second = packed565(W, CODE, i), packed565(W, CODE + 4, i)
        low, high = min(first, second), max(first, second)
        ends[i] = (high | (low << np.uint32(16))) if four else (low | (high << np.uint32(16)))
        bits[i] = np.uint32(0)
        W[TURNED * LANES + i] = f4(1) if (first < second) == four else f4(0)
        W[TURNED * LANES + i] = pick(first == second, ZERO, W[TURNED * LANES + i])
        # Equal ends mean three colours, where the last code would be clear.
        W[EQUAL * LANES + i] = f4(1) if four and first == second else f4(0)
    codes = FOUR_CODES if four else THREE_CODES
    for k in range(16):
        shift = np.uint32(2 * k)
        for i in range(LANES):
            place = W[(INDEX + k) * LANES + i]
            place = last - place if W[TURNED * LANES + i] > ZERO else place
            place = ZERO if W[EQUAL * LANES + i] > ZERO else place
            code = (codes >> (np.uint32(2) * np.uint32(np.int32(place)))) & np.uint32(3)
            code = np.uint32(3) if (not four) & (W[(MASK + k) * LANES + i] == ZERO) else code
            bits[i] |= code << shift


@step
def mask_visible(W, least, keep_hidden):
    """MASK: pixels whose alpha is at least ``least``, HIDDEN: how many of a block are not.

    With ``keep_hidden`` the pixels of a block that is wholly clear count nevertheless.
    """
    fill(W, HIDDEN, 1, f4(16))
    for k in range(16):
        for i in range(LANES):
            W[(MASK + k) * LANES + i] = ONE if W[(PIXEL + 48 + k) * LANES + i] >= least else ZERO
            W[HIDDEN * LANES + i] -= W[(MASK + k) * LANES + i]
    if keep_hidden:
        for k in range(16):
            for i in range(LANES):
                W[(MASK + k) * LANES + i] = max(
                    W[(MASK + k) * LANES + i], ONE if W[HIDDEN * LANES + i] == f4(16) else ZERO
                )


@step
def flat_block(word, tables):
    """The two words of a block of one colour."""
    r, g, b = (
        word & np.uint32(255),
        (word >> np.uint32(8)) & np.uint32(255),
        (word >> np.uint32(16)) & np.uint32(255),
    )
    one = (tables[0, r, 0] << 11) | (tables[1, g, 0] << 5) | tables[0, b, 0]
    two = (tables[0, r, 1] << 11) | (tables[1, g, 1] << 5) | tables[0, b, 1]
    ends = np.uint32(max(one, two)) | (np.uint32(min(one, two)) << np.uint32(16))
    # The step lies at the first end, code 2, or seen from the other at code 3; equal ends need code 0.
    return ends, np.uint32(0xAAAAAAAA) if one > two else np.uint32(0xFFFFFFFF) if one < two else np.uint32(0)


@kernel
def flat_colours(first, last, picture, blocks, least, punch, tables, out, stride, offset):
    """Blocks ``first`` to ``last``, each of one colour: ends whose first step comes nearest, from tables."""
    ends, bits, known = np.uint32(0), np.uint32(0), np.uint32(0)
    for at in range(first, last):
        word, target = flat_word(picture, blocks[at]), blocks[at] * stride + offset
        # Beside a block of one colour there is often another of the same.
        if at == first or word != known:
            known = word
            ends, bits = flat_block(word, tables)
            if punch and f4(word >> np.uint32(24)) < least:
                ends, bits = np.uint32(0), np.uint32(0xFFFFFFFF)
        out[target], out[target + 1] = ends, bits


@kernel
def encode_colour(
    first, last, picture, blocks, weights, starts, passes, rounds, either, least, punch, tables, out, stride, offset
):
    """Groups ``first`` to ``last`` of ``blocks``: their colours. Pixels of less alpha than ``least`` cost nothing.

    With ``punch`` such pixels become clear, in blocks of three colours; else all blocks have four, and one that is
    wholly clear keeps its colour. With ``either`` a block without such pixels has three where that errs less. The
    words of block b are ``out[b * stride + offset]`` and the one behind it.
    """
    W = np.zeros(ROWS * LANES, f4)
    ends, bits = np.empty(LANES, np.uint32), np.empty(LANES, np.uint32)
    for group in range(first, last):
        at = group * LANES
        count = load(picture, blocks, at, 0, 0, 4, W)
        mask_visible(W, least, not punch)
        some_hidden, some_whole = False, False
        for i in range(count):
            some_hidden |= W[HIDDEN * LANES + i] > ZERO
            some_whole |= W[HIDDEN * LANES + i] == ZERO
        for colours in range(3, 5):
            needless = colours == 3 and not (punch and some_hidden) and not (either and some_whole)
            if needless or (colours == 4 and punch and not some_whole):
                continue
            if colours == 4 and punch and some_hidden:
                fill(W, MASK, 16, ONE)
            search(W, weights, f4(colours - 1), starts, passes, rounds)
            if colours == 4:
                use_tables(W, tables)
            pack(W, f4(colours - 1), ends, bits)
            if colours == 3:
                copy(W, ERROR, THREE, 1)
            for i in range(count):
                whole = W[HIDDEN * LANES + i] == ZERO
                # What has one colour comes from tables of four.
                worse = W[ERROR * LANES + i] > W[THREE * LANES + i] and W[SPREAD * LANES + i] >= HALF
                four = not (either and worse) and (whole or not punch)
                if (colours == 4 and four) or (colours == 3 and ((punch and not whole) or (either and whole))):
                    target = blocks[at + i] * stride + offset
                    out[target], out[target + 1] = ends[i], bits[i]
