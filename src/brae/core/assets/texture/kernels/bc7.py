"""BC7 blocks: eight modes of one to three subsets, decoded.

Source: Microsoft, "BC7 Format" and "BC7 Format Mode Reference".
"""

from __future__ import annotations

import numpy as np

from brae.core.assets.texture.kernels.partitions import SHORTER, SUBSETS, WEIGHTS
from brae.core.compiled import kernel, step

#: for each mode: subsets, bits of partition, rotation and index selection, of both kinds of ends, p-bits for each
#: end, p-bits for each subset, bits of the first and the second index
MODES = np.array(
    [
        [3, 4, 0, 0, 4, 0, 1, 0, 3, 0],
        [2, 6, 0, 0, 6, 0, 0, 1, 3, 0],
        [3, 6, 0, 0, 5, 0, 0, 0, 2, 0],
        [2, 6, 0, 0, 7, 0, 1, 0, 2, 0],
        [1, 0, 2, 1, 5, 6, 0, 0, 2, 3],
        [1, 0, 2, 0, 7, 8, 0, 0, 2, 2],
        [1, 0, 0, 0, 7, 7, 1, 0, 4, 0],
        [2, 6, 0, 0, 5, 5, 1, 0, 2, 0],
    ],
    np.int64,
)


@step
def bits_at(low, high, position, count):
    """``count`` bits (at most 32) of a block of 128, from ``position`` on."""
    if count == 0:
        return np.uint32(0)
    mask = (np.uint64(1) << np.uint64(count)) - np.uint64(1)
    if position >= 64:
        return np.uint32((high >> np.uint64(position - 64)) & mask)
    value = low >> np.uint64(position)
    if position + count > 64:
        value |= high << np.uint64(64 - position)
    return np.uint32(value & mask)


@step
def read_ends(low, high, position, mode, ends):
    """The ends of every subset as 8-bit channels; returns where the indices begin."""
    subsets, colour_bits, alpha_bits = MODES[mode, 0], MODES[mode, 4], MODES[mode, 5]
    count = 2 * subsets
    for c in range(3):
        for e in range(count):
            ends[e, c] = bits_at(low, high, position, colour_bits)
            position += colour_bits
    for e in range(count):
        ends[e, 3] = bits_at(low, high, position, alpha_bits)
        position += alpha_bits
    each, shared = MODES[mode, 6] > 0, MODES[mode, 7] > 0
    extra = 1 if each or shared else 0
    for e in range(count):
        if extra:
            p = bits_at(low, high, position, 1)
            position += 1 if each or e % 2 == 1 else 0
            for c in range(4):
                ends[e, c] = (ends[e, c] << np.uint32(1)) | p
        for c in range(4):
            width = (alpha_bits if c == 3 else colour_bits) + extra
            wide = ends[e, c] << np.uint32(8 - width)
            ends[e, c] = wide | (wide >> np.uint32(width))
        if alpha_bits == 0:
            ends[e, 3] = np.uint32(255)
    return position


@step
def between(a, b, weight):
    """Two values at once, 16 bits apart, ``weight`` 64ths of the way between two ends."""
    mixed = (np.uint32(64) - weight) * a + weight * b + np.uint32(0x200020)
    return (mixed >> np.uint32(6)) & np.uint32(0xFF00FF)


@step
def stream_at(low, high, position):
    """The 64 bits from ``position`` (1 to 127) on."""
    if position >= 64:
        return high >> np.uint64(position - 64)
    return (low >> np.uint64(position)) | (high << np.uint64(64 - position))


@step
def decode_block(low, high, ends, pixels):
    """The sixteen pixels of a block; one of no mode is black.

    The specification wants it clear; libraries show it opaque, and no encoder writes it.
    """
    mode = 0
    while mode < 8 and ((low >> np.uint64(mode)) & np.uint64(1)) == 0:
        mode += 1
    if mode > 7:
        pixels[:] = np.uint32(0xFF000000)
        return
    subsets, first_bits, second_bits = MODES[mode, 0], MODES[mode, 8], MODES[mode, 9]
    position = mode + 1
    partition = bits_at(low, high, position, MODES[mode, 1])
    rotation = bits_at(low, high, position + MODES[mode, 1], MODES[mode, 2])
    selection = bits_at(low, high, position + MODES[mode, 1] + MODES[mode, 2], MODES[mode, 3])
    position += MODES[mode, 1] + MODES[mode, 2] + MODES[mode, 3]
    position = read_ends(low, high, position, mode, ends)
    for e in range(2 * subsets):
        ends[e, 4] = ends[e, 0] | (ends[e, 2] << np.uint32(16))
        ends[e, 5] = ends[e, 1] | (ends[e, 3] << np.uint32(16))
    stream = stream_at(low, high, position)
    if second_bits:
        decode_separate(stream, high, first_bits, second_bits, rotation, selection, ends, pixels)
        return
    for k in range(16):
        bits = np.uint64(first_bits) - np.uint64(SHORTER[subsets, partition, k])
        weight = WEIGHTS[first_bits, stream & ((np.uint64(1) << bits) - np.uint64(1))]
        stream >>= bits
        e = np.uint64(2) * np.uint64(SUBSETS[subsets, partition, k])
        f = e + np.uint64(1)
        red_blue = between(ends[e, 4], ends[f, 4], weight)
        pixels[k] = red_blue | (between(ends[e, 5], ends[f, 5], weight) << np.uint32(8))


@step
def decode_separate(stream, high, first_bits, second_bits, rotation, selection, ends, pixels):
    """The pixels of modes 4 and 5, where alpha has indices of its own and may have changed places with a colour."""
    other = high >> np.uint64(65 - 16 * second_bits)
    for k in range(16):
        bits = np.uint64(first_bits - (1 if k == 0 else 0))
        weight = WEIGHTS[first_bits, stream & ((np.uint64(1) << bits) - np.uint64(1))]
        stream >>= bits
        bits = np.uint64(second_bits - (1 if k == 0 else 0))
        alpha_weight = WEIGHTS[second_bits, other & ((np.uint64(1) << bits) - np.uint64(1))]
        other >>= bits
        if selection:
            weight, alpha_weight = alpha_weight, weight
        red_blue = between(ends[0, 4], ends[1, 4], weight)
        r, b = red_blue & np.uint32(255), red_blue >> np.uint32(16)
        g = between(ends[0, 5], ends[1, 5], weight) & np.uint32(255)
        a = between(ends[0, 5], ends[1, 5], alpha_weight) >> np.uint32(16)
        if rotation == 1:
            r, a = a, r
        elif rotation == 2:
            g, a = a, g
        elif rotation == 3:
            b, a = a, b
        pixels[k] = r | (g << np.uint32(8)) | (b << np.uint32(16)) | (a << np.uint32(24))


@kernel
def decode_bc7(first, last, blocks, out):
    """Decode block rows ``first`` to ``last`` of ``blocks`` (uint32, four a block) into ``out`` (uint32, h x w)."""
    height, width = out.shape
    across = (width + 3) >> 2
    ends, pixels = np.zeros((6, 6), np.uint32), np.empty(16, np.uint32)
    for by in range(first, last):
        for bx in range(across):
            at = (by * across + bx) * 4
            low = np.uint64(blocks[at]) | (np.uint64(blocks[at + 1]) << np.uint64(32))
            high = np.uint64(blocks[at + 2]) | (np.uint64(blocks[at + 3]) << np.uint64(32))
            decode_block(low, high, ends, pixels)
            for y in range(min(4, height - by * 4)):
                for x in range(min(4, width - bx * 4)):
                    out[by * 4 + y, bx * 4 + x] = pixels[4 * y + x]
