"""Encoding one channel as BC4 does, which BC3 does for its alpha and BC5 twice: two ends and six steps between
them, or four steps and the exact extremes.

Source: Microsoft, "Texture Block Compression in Direct3D 11", BC4 and BC5.
"""

from __future__ import annotations

import numpy as np

from brae.core.textures.kernels.compiled import kernel, step
from brae.core.textures.kernels.lanes import (
    CODE,
    COUNT,
    END,
    ERROR,
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
    SPREAD,
    TOTAL,
    ZERO,
    assign,
    copy,
    f4,
    fill,
    keep_better,
    load,
    means,
    places,
    solve_channel,
)

#: the channel that is worked on, whichever one of the picture's it was
VALUE = 3
TOP = f4(255)
SEVEN = OWN  # error of the best seven steps
#: rows of the workspace
ROWS = OWN + 1
#: decoders round each step down: on average it loses this much
ROUNDED_OFF = f4(0.35)


@step
def extent(W):
    """END: the least and the greatest value that counts; SPREAD about the mean."""
    means(W)
    fill(W, LOW, 1, HUGE)
    fill(W, HIGH, 1, -HUGE)
    fill(W, SPREAD, 1, ZERO)
    for k in range(16):
        for i in range(LANES):
            counts, value = W[(MASK + k) * LANES + i] > ZERO, W[(PIXEL + 16 * VALUE + k) * LANES + i]
            away = value - W[(MEAN + VALUE) * LANES + i]
            W[LOW * LANES + i] = min(W[LOW * LANES + i], value if counts else HUGE)
            W[HIGH * LANES + i] = max(W[HIGH * LANES + i], value if counts else -HUGE)
            W[SPREAD * LANES + i] += away * away if counts else ZERO
    for i in range(LANES):
        some = W[COUNT * LANES + i] > ZERO
        W[(END + VALUE) * LANES + i] = W[LOW * LANES + i] if some else ZERO
        W[(END + 4 + VALUE) * LANES + i] = W[HIGH * LANES + i] if some else ZERO


@step
def fit(W, weights, last, low_first):
    """CODE, ERROR and INDEX: the best ends for ``last`` steps between them, in the order of their mode."""
    extent(W)
    fill(W, ERROR, 1, HUGE)
    for _ in range(3):
        assign(W, weights, last, last)
        copy(W, SPREAD, TOTAL, 1)
        solve_channel(W, VALUE, ONE, 8, TOP)
        keep_better(W)
    for i in range(LANES):
        first, second = W[(CODE + VALUE) * LANES + i], W[(CODE + 4 + VALUE) * LANES + i]
        low, high = min(first, second), max(first, second)
        W[(CODE + VALUE) * LANES + i] = W[(END + VALUE) * LANES + i] = low if low_first else high
        W[(CODE + 4 + VALUE) * LANES + i] = W[(END + 4 + VALUE) * LANES + i] = high if low_first else low
    places(W, weights, last)


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
            code = f4(6) if extremes and value < ONE else f4(7) if extremes and value >= TOP else code
            bits[i] |= np.uint64(np.int32(code)) << shift


@step
def take_channel(W, channel):
    """Move a channel to its place of work, moved up by what rounding loses; whether it has an extreme value."""
    some = False
    source = (PIXEL + 16 * (channel & 3)) * LANES
    for at in range(16 * LANES):
        value = W[source + at]
        some |= (value == ZERO) | (value == TOP)
        W[(PIXEL + 16 * VALUE) * LANES + at] = value + ROUNDED_OFF
    return some


@step
def write_flat(W, bias, blocks, first, count, out, stride, offset):
    """Where every block of the group has one value only (as opaque alpha has): write them and answer True."""
    away = ZERO
    for k in range(1, 16):
        for i in range(LANES):
            away += abs(W[(PIXEL + 16 * VALUE + k) * LANES + i] - W[(PIXEL + 16 * VALUE) * LANES + i])
    if away > ZERO:
        return False
    for i in range(count):
        value = np.uint32((np.int32(W[(PIXEL + 16 * VALUE) * LANES + i]) - bias) & 255)
        at = blocks[first + i] * stride + offset
        out[at] = value | (value << np.uint32(8))
        out[at + 1] = np.uint32(0)
    return True


@kernel
def encode_channel(first, last, picture, blocks, channel, is_signed, out, stride, offset):
    """Groups ``first`` to ``last`` of ``blocks``: a channel of the picture; signed values are 0 to 255 about 128.

    The words of block b are ``out[b * stride + offset]`` and the one behind it.
    """
    W = np.zeros(ROWS * LANES, f4)
    weights = np.zeros(4, f4)
    weights[VALUE] = ONE
    bits = np.empty(LANES, np.uint64)
    bias = np.int32(128 if is_signed else 0)
    for group in range(first, last):
        at = group * LANES
        count = load(picture, blocks, at, W)
        some_extreme = take_channel(W, channel)
        fill(W, MASK, 16, ONE)
        if write_flat(W, bias, blocks, at, count, out, stride, offset):
            continue
        for mode in range(2 if some_extreme else 1):
            steps = f4(7 if mode == 0 else 5)
            fit(W, weights, steps, mode == 1)
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
