"""Encoding one channel as BC4 does, which BC3 does for its alpha and BC5 twice: two ends and six steps between
them, or four steps and the exact extremes.

Source: Microsoft, "Texture Block Compression in Direct3D 11", BC4 and BC5.
"""

from __future__ import annotations

import numpy as np

from brae.core.assets.texture.kernels.kinds import corner, flat_word
from brae.core.assets.texture.kernels.lanes import (
    BASE,
    CODE,
    COUNT,
    CROSS,
    END,
    ERROR,
    HALF,
    HIGH,
    HUGE,
    INDEX,
    LANES,
    LOW,
    MASK,
    MEAN,
    ONE,
    OWN,
    PIXEL,
    SLOPE,
    SPREAD,
    SQUARES,
    SUM,
    TOTAL,
    TRY,
    ZERO,
    copy,
    f4,
    fill,
    load,
    pick,
    solve_channel,
    solve_row,
)
from brae.core.compiled import inlined, kernel, step

#: the place of the channel that is worked on
VALUE = 3
TOP = f4(255)
SEVEN = OWN  # error of the best seven steps
#: rows of the workspace
ROWS = OWN + 1
#: decoders round each step down: on average it loses this much
ROUNDED_OFF = f4(0.35)


@step
def extent(W):
    """END: the least and the greatest value that counts; COUNT, MEAN and SPREAD about it."""
    fill(W, COUNT, 1, ZERO)
    fill(W, MEAN + VALUE, 1, ZERO)
    fill(W, LOW, 1, HUGE)
    fill(W, HIGH, 1, -HUGE)
    fill(W, SPREAD, 1, ZERO)
    for k in range(16):
        for i in range(LANES):
            m, value = W[(MASK + k) * LANES + i], W[(PIXEL + 16 * VALUE + k) * LANES + i]
            W[COUNT * LANES + i] += m
            W[(MEAN + VALUE) * LANES + i] += m * value
            W[SPREAD * LANES + i] += m * value * value
            W[LOW * LANES + i] = min(W[LOW * LANES + i], value if m > ZERO else HUGE)
            W[HIGH * LANES + i] = max(W[HIGH * LANES + i], value if m > ZERO else -HUGE)
    for i in range(LANES):
        count = W[COUNT * LANES + i]
        mean = W[(MEAN + VALUE) * LANES + i] / max(count, ONE)
        W[(MEAN + VALUE) * LANES + i] = mean
        W[SPREAD * LANES + i] -= count * mean * mean
        W[(END + VALUE) * LANES + i] = W[LOW * LANES + i] if count > ZERO else ZERO
        W[(END + 4 + VALUE) * LANES + i] = W[HIGH * LANES + i] if count > ZERO else ZERO


@step
def slope(W, last):
    """SLOPE and BASE for the ends: the place of a value is the whole part of ``value * SLOPE + BASE``."""
    for i in range(LANES):
        first = W[(END + VALUE) * LANES + i]
        width = W[(END + 4 + VALUE) * LANES + i] - first
        slope = width * last / max(width * width, f4(1e-9))
        W[SLOPE * LANES + i] = slope
        W[BASE * LANES + i] = HALF - slope * first


@inlined
def place_of(W, k, i, last):
    """Which of ``last + 1`` places between the ends is nearest to value ``k`` of lane ``i``."""
    t = W[BASE * LANES + i] + W[(PIXEL + 16 * VALUE + k) * LANES + i] * W[SLOPE * LANES + i]
    return f4(np.int32(min(max(t, ZERO), last)))


@step
def assign(W, last):
    """Give each value the nearest place between the ends; SOLVE and CROSS are what least squares needs."""
    slope(W, last)
    fill(W, SUM, 2, ZERO)
    fill(W, CROSS + VALUE, 1, ZERO)
    for k in range(16):
        for i in range(LANES):
            weight = place_of(W, k, i, last) * W[(MASK + k) * LANES + i]
            W[SUM * LANES + i] += weight
            W[SQUARES * LANES + i] += weight * weight
            W[(CROSS + VALUE) * LANES + i] += weight * W[(PIXEL + 16 * VALUE + k) * LANES + i]
    unit = ONE / last
    for i in range(LANES):
        both, squares = W[SUM * LANES + i] * unit, W[SQUARES * LANES + i] * unit * unit
        W[(CROSS + VALUE) * LANES + i] = (
            W[(CROSS + VALUE) * LANES + i] * unit - both * W[(MEAN + VALUE) * LANES + i]
        )
        solve_row(W, i, both, squares)


@step
def fit(W, last, low_first):
    """CODE, ERROR and INDEX: the best ends for ``last`` steps between them, in the order of their mode."""
    extent(W)
    fill(W, ERROR, 1, HUGE)
    for _ in range(3):
        assign(W, last)
        copy(W, SPREAD, TOTAL, 1)
        solve_channel(W, VALUE, ONE, 8, TOP)
        for i in range(LANES):
            better = W[TOTAL * LANES + i] < W[ERROR * LANES + i]
            first, second = (CODE + VALUE) * LANES + i, (CODE + 4 + VALUE) * LANES + i
            W[first] = pick(better, W[(TRY + VALUE) * LANES + i], W[first])
            W[second] = pick(better, W[(TRY + 4 + VALUE) * LANES + i], W[second])
            W[ERROR * LANES + i] = min(W[ERROR * LANES + i], W[TOTAL * LANES + i])
    for i in range(LANES):
        first, second = W[(CODE + VALUE) * LANES + i], W[(CODE + 4 + VALUE) * LANES + i]
        low, high = min(first, second), max(first, second)
        W[(CODE + VALUE) * LANES + i] = W[(END + VALUE) * LANES + i] = low if low_first else high
        W[(CODE + 4 + VALUE) * LANES + i] = W[(END + 4 + VALUE) * LANES + i] = high if low_first else low
    slope(W, last)
    for k in range(16):
        for i in range(LANES):
            W[(INDEX + k) * LANES + i] = place_of(W, k, i, last)


@step
def pack(W, last, bias, bits):
    """``bits`` of every lane: the ends as bytes, then three bits a pixel."""
    for i in range(LANES):
        first, second = (
            np.int32(W[(CODE + VALUE) * LANES + i]) - bias,
            np.int32(W[(CODE + 4 + VALUE) * LANES + i]) - bias,
        )
        bits[i] = np.uint64(first & np.int32(255)) | (np.uint64(second & np.int32(255)) << np.uint64(8))
    extremes = last == f4(5)
    for k in range(16):
        shift = np.uint64(16 + 3 * k)
        for i in range(LANES):
            place, value = W[(INDEX + k) * LANES + i], W[(PIXEL + 16 * VALUE + k) * LANES + i]
            code = ZERO if place == ZERO else ONE if place == last else place + ONE
            # Equal ends mean four steps, whose last codes are the extremes.
            code = ZERO if W[(CODE + VALUE) * LANES + i] == W[(CODE + 4 + VALUE) * LANES + i] else code
            code = f4(6) if extremes & (value < ONE) else f4(7) if extremes & (value >= TOP) else code
            bits[i] |= np.uint64(np.int32(code)) << shift


@step
def raise_values(W):
    """Move values up by what rounding loses."""
    for at in range(16 * LANES):
        W[(PIXEL + 16 * VALUE) * LANES + at] += ROUNDED_OFF


@kernel
def flat_channel(first, last, picture, blocks, channel, is_signed, out, stride, offset):
    """Blocks ``first`` to ``last``, in each of which the channel has one value."""
    bias = np.uint32(128 if is_signed else 0)
    for at in range(first, last):
        value = (flat_word(picture, blocks[at]) >> np.uint32(8 * channel)) - bias & np.uint32(255)
        target = blocks[at] * stride + offset
        out[target], out[target + 1] = value | (value << np.uint32(8)), np.uint32(0)


@kernel
def hard_channel(first, last, picture, blocks, channel, out, stride, offset):
    """Blocks ``first`` to ``last``, in which the channel is 0 or 255: exactly so, by the codes of the extremes."""
    height, width = picture.shape
    across = np.int32((width + 3) >> 2)
    for at in range(first, last):
        top, left = corner(blocks[at], across)
        bits = np.uint64(0)
        for k in range(16):
            pixel = picture[min(top + (k >> 2), height - 1), min(left + (k & 3), width - 1)]
            full = (pixel >> np.uint32(8 * channel + 7)) & np.uint32(1)
            bits |= np.uint64(np.uint32(6) + full) << np.uint64(16 + 3 * k)
        # The ends, 0 and 0, mean four steps and the extremes.
        target = blocks[at] * stride + offset
        out[target], out[target + 1] = np.uint32(bits & np.uint64(0xFFFFFFFF)), np.uint32(bits >> np.uint64(32))


@kernel
def encode_channel(first, last, picture, blocks, channel, is_signed, out, stride, offset):
    """Groups ``first`` to ``last`` of ``blocks``: a channel of the picture; signed values are 0 to 255 about 128.

    The words of block b are ``out[b * stride + offset]`` and the one behind it.
    """
    W = np.zeros(ROWS * LANES, f4)
    bits = np.empty(LANES, np.uint64)
    bias = np.int32(128 if is_signed else 0)
    for group in range(first, last):
        at = group * LANES
        count = load(picture, blocks, at, channel, VALUE, 1, W)
        raise_values(W)
        fill(W, MASK, 16, ONE)
        # Both for every block: four steps fit some values that are not extreme, and what a block becomes must not
        # depend on whether one beside it has extremes.
        for mode in range(2):
            steps = f4(7 if mode == 0 else 5)
            fit(W, steps, mode == 1)
            pack(W, steps, bias, bits)
            for i in range(count):
                if mode == 0 or W[ERROR * LANES + i] < W[SEVEN * LANES + i]:
                    target = blocks[at + i] * stride + offset
                    out[target] = np.uint32(bits[i] & np.uint64(0xFFFFFFFF))
                    out[target + 1] = np.uint32(bits[i] >> np.uint64(32))
            copy(W, ERROR, SEVEN, 1)
            for row in range(16 * LANES):
                value = W[(PIXEL + 16 * VALUE) * LANES + row]
                W[MASK * LANES + row] = ZERO if (value < ONE) | (value >= TOP) else ONE
