"""BC6H blocks: three half floats a pixel, fourteen modes of one or two subsets.

Values are worked on as the format's own integers: a half float's bits (its magnitude's, with its sign, where the
format is signed) times 64/31 (32/31). They grow as the logarithm of the light, so errors count as they are seen.

Source: Microsoft, "BC6H Format"; Khronos Data Format Specification 1.3, "BC6H".
"""

from __future__ import annotations

import re

import numpy as np

from brae.core.assets.texture.kernels.bc7 import stream_at
from brae.core.assets.texture.kernels.bc7_encode import put
from brae.core.assets.texture.kernels.bc7_fit import pair_error
from brae.core.assets.texture.kernels.lanes import (
    CROSS,
    END,
    HALF,
    HUGE,
    LANES,
    MASK,
    MEAN,
    ONE,
    PIXEL,
    SOLVE,
    SPREAD,
    TOTAL,
    ZERO,
    assign,
    f4,
    fill,
    line,
    means,
    pick,
    start,
)
from brae.core.assets.texture.kernels.partitions import ANCHORS, SHORTER, SUBSETS, WEIGHTS
from brae.core.assets.texture.kernels.subsets import RANK, mask_subset, rank_partitions
from brae.core.assets.texture.kernels.subsets import ROWS as OWN
from brae.core.compiled import inlined, kernel, step

# For each mode: its number and how many bits that has, the bits of the first end, of the others, and the
# fields in their order. Ends of the first subset are w and x, of the second y and z;
# "gy3-0" stands for bits 3 to 0 of y's green, the lowest first, "rw10-11" for those that are stored highest first.
_MODES = """
00 2 10 5,5,5 gy4 by4 bz4 rw9-0 gw9-0 bw9-0 rx4-0 gz4 gy3-0 gx4-0 bz0 gz3-0 bx4-0 bz1 by3-0 ry4-0 bz2 rz4-0 bz3 d4-0
01 2 7 6,6,6 gy5 gz4 gz5 rw6-0 bz0 bz1 by4 gw6-0 by5 bz2 gy4 bw6-0 bz3 bz5 bz4 rx5-0 gy3-0 gx5-0 gz3-0 bx5-0 by3-0 ry5-0 rz5-0 d4-0
02 5 11 5,4,4 rw9-0 gw9-0 bw9-0 rx4-0 rw10 gy3-0 gx3-0 gw10 bz0 gz3-0 bx3-0 bw10 bz1 by3-0 ry4-0 bz2 rz4-0 bz3 d4-0
06 5 11 4,5,4 rw9-0 gw9-0 bw9-0 rx3-0 rw10 gz4 gy3-0 gx4-0 gw10 gz3-0 bx3-0 bw10 bz1 by3-0 ry3-0 bz0 bz2 rz3-0 gy4 bz3 d4-0
0a 5 11 4,4,5 rw9-0 gw9-0 bw9-0 rx3-0 rw10 by4 gy3-0 gx3-0 gw10 bz0 gz3-0 bx4-0 bw10 by3-0 ry3-0 bz1 bz2 rz3-0 bz4 bz3 d4-0
0e 5 9 5,5,5 rw8-0 by4 gw8-0 gy4 bw8-0 bz4 rx4-0 gz4 gy3-0 gx4-0 bz0 gz3-0 bx4-0 bz1 by3-0 ry4-0 bz2 rz4-0 bz3 d4-0
12 5 8 6,5,5 rw7-0 gz4 by4 gw7-0 bz2 gy4 bw7-0 bz3 bz4 rx5-0 gy3-0 gx4-0 bz0 gz3-0 bx4-0 bz1 by3-0 ry5-0 rz5-0 d4-0
16 5 8 5,6,5 rw7-0 bz0 by4 gw7-0 gy5 gy4 bw7-0 gz5 bz4 rx4-0 gz4 gy3-0 gx5-0 gz3-0 bx4-0 bz1 by3-0 ry4-0 bz2 rz4-0 bz3 d4-0
1a 5 8 5,5,6 rw7-0 bz1 by4 gw7-0 by5 gy4 bw7-0 bz5 bz4 rx4-0 gz4 gy3-0 gx4-0 bz0 gz3-0 bx5-0 by3-0 ry4-0 bz2 rz4-0 bz3 d4-0
1e 5 6 6,6,6 rw5-0 gz4 bz0 bz1 by4 gw5-0 gy5 by5 bz2 gy4 bw5-0 gz5 bz3 bz5 bz4 rx5-0 gy3-0 gx5-0 gz3-0 bx5-0 by3-0 ry5-0 rz5-0 d4-0
03 5 10 10,10,10 rw9-0 gw9-0 bw9-0 rx9-0 gx9-0 bx9-0
07 5 11 9,9,9 rw9-0 gw9-0 bw9-0 rx8-0 rw10 gx8-0 gw10 bx8-0 bw10
0b 5 12 8,8,8 rw9-0 gw9-0 bw9-0 rx7-0 rw10-11 gx7-0 gw10-11 bx7-0 bw10-11
0f 5 16 4,4,4 rw9-0 gw9-0 bw9-0 rx3-0 rw10-15 gx3-0 gw10-15 bx3-0 bw10-15
"""  # noqa: E501
#: the value number that stands for the partition; the others are 3 * end + channel
PARTITION = 12


def _tables() -> tuple[np.ndarray, np.ndarray]:
    modes, fields = np.zeros((14, 8), np.int64), np.full((14, 82, 2), -1, np.int64)
    for row, text in enumerate(_MODES.split("\n")[1:-1]):
        number, width, first, differences, *names = text.split()
        position = int(width)
        for name in names:
            found = re.fullmatch(r"(d|[rgb][wxyz])(\d+)(?:-(\d+))?", name)
            assert found is not None
            what, high, low = found[1], int(found[2]), int(found[3] or found[2])
            value = PARTITION if what == "d" else 3 * "wxyz".index(what[1]) + "rgb".index(what[0])
            bits = range(low, high + 1) if low <= high else range(low, high - 1, -1)
            for bit in bits:
                fields[row, position] = value, bit
                position += 1
        by_channel = [int(part) for part in differences.split(",")]
        plain = number in ("1e", "03")
        modes[row] = int(number, 16), int(width), int(first), *by_channel, 0 if plain else 1, position
    return modes, fields


#: for each mode: number, bits of the number, bits of the first end, bits of R, G and B of the others, whether those
#: are differences, where the indices begin
#: for each mode and bit position before those: value and bit of it that lies there
MODES, FIELDS = _tables()
ONE_SUBSET = 10  # modes from here on have one
ROW_OF = np.full(32, -1, np.int64)
for _row in range(14):
    for _high in range(8 if MODES[_row, 1] == 2 else 1):
        ROW_OF[MODES[_row, 0] | (_high << 2)] = _row


# ---- decoding -------------------------------------------------------------------------------------------


@step
def unquantised(code, bits, is_signed):
    """The 16-bit value (17 with its sign) of an end of ``bits`` bits."""
    if bits >= 15 + (1 if is_signed else 0) or code == 0:
        return code
    size = -code if code < 0 else code
    if is_signed:
        wide = 0x7FFF if size >= (1 << (bits - 1)) - 1 else ((size << 15) + 0x4000) >> (bits - 1)
        return -wide if code < 0 else wide
    return 0xFFFF if size == (1 << bits) - 1 else ((size << 15) + 0x4000) >> (bits - 1)


@step
def sign_extended(value, bits):
    """A number of ``bits`` bits in two's complement."""
    return value - (1 << bits) if (value >> (bits - 1)) & 1 else value


@step
def half_of(value, is_signed):
    """The bits of the half float of an interpolated value."""
    if is_signed:
        return 0x8000 | ((-value * 31) >> 5) if value < 0 else (value * 31) >> 5
    return (value * 31) >> 6


@step
def decode_block(low, high, is_signed, values, halves):
    """The sixteen pixels (16 x 3, bits of half floats) of a block; one of no mode is all zero."""
    row = ROW_OF[low & np.uint64(31)]
    if row < 0:
        halves[:] = 0
        return
    values[:] = 0
    begin = MODES[row, 7]
    for position in range(MODES[row, 1], begin):
        bit = (low >> np.uint64(position)) if position < 64 else (high >> np.uint64(position - 64))
        values[FIELDS[row, position, 0]] |= np.int64(bit & np.uint64(1)) << FIELDS[row, position, 1]
    bits = MODES[row, 2]
    subsets = 1 if row >= ONE_SUBSET else 2
    for end in range(2 * subsets):
        for c in range(3):
            value = values[3 * end + c]
            if end > 0 and MODES[row, 6]:
                value = (values[c] + sign_extended(value, MODES[row, 3 + c])) & ((1 << bits) - 1)
            if is_signed:
                value = sign_extended(value, bits)
            values[13 + 3 * end + c] = unquantised(value, bits, is_signed)
            if end == 0:
                values[c] = value
    stream, index_bits = stream_at(low, high, begin), 4 if subsets == 1 else 3
    partition = values[PARTITION]
    for k in range(16):
        width = np.uint64(index_bits - SHORTER[subsets, partition, k])
        weight = np.int64(WEIGHTS[index_bits, stream & ((np.uint64(1) << width) - np.uint64(1))])
        stream >>= width
        at = 13 + 6 * SUBSETS[subsets, partition, k]
        for c in range(3):
            mixed = (values[at + c] * (64 - weight) + values[at + 3 + c] * weight + 32) >> 6
            halves[k, c] = half_of(mixed, is_signed)


@kernel
def decode_bc6h(first, last, blocks, is_signed, out):
    """Decode block rows into ``out`` (uint16, height x width x 3: the bits of half floats)."""
    height, width, _ = out.shape
    across = (width + 3) >> 2
    values, halves = np.zeros(25, np.int64), np.empty((16, 3), np.uint16)
    for by in range(first, last):
        for bx in range(across):
            at = (by * across + bx) * 4
            low = np.uint64(blocks[at]) | (np.uint64(blocks[at + 1]) << np.uint64(32))
            high = np.uint64(blocks[at + 2]) | (np.uint64(blocks[at + 3]) << np.uint64(32))
            decode_block(low, high, is_signed, values, halves)
            for y in range(min(4, height - by * 4)):
                for x in range(min(4, width - bx * 4)):
                    for c in range(3):
                        out[by * 4 + y, bx * 4 + x, c] = halves[4 * y + x, c]


# ---- encoding -------------------------------------------------------------------------------------------

FIT = OWN  # 2 x 16 rows, for each subset: A, B, C, spread, then mean, cross and both ends of three channels
TRIED = OWN + 32  # 12 rows: codes of both subsets' ends, 3 * end + channel
BEST = OWN + 44  # 12 rows
BEST_ERROR, BEST_MODE, BEST_SHAPE = OWN + 56, OWN + 57, OWN + 58
VALID = OWN + 59
#: rows of the workspace
ROWS = OWN + 60


@step
def load_halves(halves, blocks, first, is_signed, W):
    """The pixels of up to LANES blocks as the format's integers; ``halves``: uint16 (height, width, 3)."""
    height, width, _ = halves.shape
    across = (width + 3) >> 2
    count = min(LANES, blocks.size - first)
    for i in range(LANES):
        block = blocks[first + min(i, count - 1)]
        top, left = (block // across) * 4, (block % across) * 4
        for k in range(16):
            for c in range(3):
                bits = np.int64(halves[min(top + (k >> 2), height - 1), min(left + (k & 3), width - 1), c])
                size = f4(bits & 0x7FFF)
                if is_signed:
                    value = size * f4(32 / 31) * (f4(-1) if bits & 0x8000 else ONE)
                else:
                    value = ZERO if bits & 0x8000 else size * f4(64 / 31)
                W[(PIXEL + 16 * c + k) * LANES + i] = value
            W[(PIXEL + 48 + k) * LANES + i] = ZERO
    return count


@step
def fit_subset(W, weights, last, subset, passes):
    """FIT of a subset: ends that are not quantised yet, and what tells the error of any others."""
    line(W, weights)
    start(W, ONE, ONE)
    base = (FIT + 16 * (subset & 1)) * LANES
    for _ in range(passes):
        assign(W, weights, last, f4(64))
        for c in range(3):
            for i in range(LANES):
                a, b, d = W[SOLVE * LANES + i], W[(SOLVE + 1) * LANES + i], W[(SOLVE + 2) * LANES + i]
                scaled = W[(SOLVE + 3) * LANES + i] * W[(CROSS + c) * LANES + i]
                W[(END + c) * LANES + i] = W[(MEAN + c) * LANES + i] - (b + d) * scaled
                W[(END + 4 + c) * LANES + i] = W[(MEAN + c) * LANES + i] + (a + b) * scaled
    for i in range(LANES):
        W[base + i] = W[SOLVE * LANES + i]
        W[base + LANES + i] = W[(SOLVE + 1) * LANES + i]
        W[base + 2 * LANES + i] = W[(SOLVE + 2) * LANES + i]
        W[base + 3 * LANES + i] = W[SPREAD * LANES + i]
    for c in range(3):
        for i in range(LANES):
            W[base + (4 + c) * LANES + i] = W[(MEAN + c) * LANES + i]
            W[base + (7 + c) * LANES + i] = W[(CROSS + c) * LANES + i]
            W[base + (10 + c) * LANES + i] = W[(END + c) * LANES + i]
            W[base + (13 + c) * LANES + i] = W[(END + 4 + c) * LANES + i]


@inlined
def quantised(value, unit, most, is_signed):
    """The code of an end, 2^16 / 2^bits = ``unit`` apart."""
    size = f4(np.int32(min(abs(value) / unit, most)))
    low = -size if is_signed else ZERO
    return low if value < ZERO else size


@inlined
def widened(code, unit, most, top):
    """What a code stands for: the middle of its step, but for the least and the greatest."""
    size = abs(code)
    wide = ZERO if size == ZERO else top if size == most else (size + HALF) * unit
    wide = size if unit <= ONE else wide
    return -wide if code < ZERO else wide


@step
def try_mode(W, row, subsets, shape, is_signed):
    """Quantise FIT for a mode and keep it where its differences can be stored and its error is lower."""
    bits = MODES[row, 2]
    unit = f4(1 << (16 - bits))
    most = f4((1 << (bits - 1)) - 1) if is_signed else f4((1 << bits) - 1)
    top = f4(0x7FFF if is_signed else 0xFFFF)
    fill(W, TOTAL, 1, ZERO)
    fill(W, VALID, 1, ONE)
    for c in range(3):
        # Kept free of the outermost difference, so that the ends may change places.
        reach = f4((1 << (MODES[row, 3 + c] - 1)) - 1) if MODES[row, 6] else HUGE
        for subset in range(subsets):
            base = (FIT + 16 * (subset & 1)) * LANES
            target = (TRIED + 6 * (subset & 1) + c) * LANES
            for i in range(LANES):
                q0 = quantised(W[base + (10 + c) * LANES + i], unit, most, is_signed)
                q1 = quantised(W[base + (13 + c) * LANES + i], unit, most, is_signed)
                mean = W[base + (4 + c) * LANES + i]
                x0, x1 = widened(q0, unit, most, top) - mean, widened(q1, unit, most, top) - mean
                a, b, d = W[base + i], W[base + LANES + i], W[base + 2 * LANES + i]
                W[TOTAL * LANES + i] += pair_error(a, b, d, W[base + (7 + c) * LANES + i], x0, x1)
                W[target + i] = q0
                W[target + 3 * LANES + i] = q1
                w = W[(TRIED + c) * LANES + i]
                x = W[(TRIED + 3 + c) * LANES + i]
                far = max(max(abs(q0 - w), abs(q1 - w)), max(abs(q0 - x), abs(q1 - x)))
                W[VALID * LANES + i] = pick(far <= reach, W[VALID * LANES + i], ZERO)
    rank = (RANK + (shape & 3)) * LANES
    for i in range(LANES):
        spread = W[(FIT + 3) * LANES + i] + (W[(FIT + 19) * LANES + i] if subsets == 2 else ZERO)
        error = max(W[TOTAL * LANES + i] + spread, ZERO)
        better = W[VALID * LANES + i] > ZERO and error < W[BEST_ERROR * LANES + i]
        W[VALID * LANES + i] = ONE if better else ZERO
        W[BEST_ERROR * LANES + i] = pick(better, error, W[BEST_ERROR * LANES + i])
        W[BEST_MODE * LANES + i] = pick(better, f4(row), W[BEST_MODE * LANES + i])
        W[BEST_SHAPE * LANES + i] = pick(better, W[rank + i], W[BEST_SHAPE * LANES + i])
    for r in range(12):
        for i in range(LANES):
            taken = W[VALID * LANES + i] > ZERO
            W[(BEST + r) * LANES + i] = pick(taken, W[(TRIED + r) * LANES + i], W[(BEST + r) * LANES + i])


@step
def nearest_index(W, i, k, codes, base, index_bits):
    """The index whose value is nearest to a pixel; ``codes`` holds the widened ends from ``base`` on."""
    along, length = ZERO, f4(1e-6)
    for c in range(3):
        way = f4(codes[base + 3 + c] - codes[base + c])
        along += (W[(PIXEL + 16 * c + k) * LANES + i] - f4(codes[base + c])) * way
        length += way * way
    last = (1 << index_bits) - 1
    low = np.int64(min(max(along * f4(last) / length, ZERO), f4(last - 1)))
    best, error = low, HUGE
    for index in range(low, low + 2):
        weight, distance = np.int64(WEIGHTS[index_bits, index]), ZERO
        for c in range(3):
            mixed = (codes[base + c] * (64 - weight) + codes[base + 3 + c] * weight + 32) >> 6
            away = f4(mixed) - W[(PIXEL + 16 * c + k) * LANES + i]
            distance += away * away
        if distance < error:
            best, error = index, distance
    return best


@step
def write_block(W, i, is_signed, codes, indices, words):
    """The best candidate of a lane."""
    row, partition = np.int64(W[BEST_MODE * LANES + i]), np.int64(W[BEST_SHAPE * LANES + i])
    subsets, bits = 1 if row >= ONE_SUBSET else 2, MODES[row, 2]
    index_bits = 4 if subsets == 1 else 3
    partition = 0 if subsets == 1 else partition
    for value in range(6 * subsets):
        codes[value] = np.int64(W[(BEST + value) * LANES + i])
        codes[13 + value] = unquantised(codes[value], bits, is_signed)
    for k in range(16):
        indices[k] = nearest_index(W, i, k, codes, 13 + 6 * SUBSETS[subsets, partition, k], index_bits)
    for subset in range(subsets):
        if indices[ANCHORS[subsets, partition, subset]] >> (index_bits - 1):
            for k in range(16):
                if SUBSETS[subsets, partition, k] == subset:
                    indices[k] = (1 << index_bits) - 1 - indices[k]
            for c in range(6 * subset, 6 * subset + 3):
                codes[c], codes[c + 3] = codes[c + 3], codes[c]
    if MODES[row, 6]:
        for value in range(3, 6 * subsets):
            codes[value] -= codes[value % 3]
    codes[PARTITION] = partition
    put(words, 0, MODES[row, 1], MODES[row, 0])
    for position in range(MODES[row, 1], MODES[row, 7]):
        put(words, position, 1, (codes[FIELDS[row, position, 0]] >> FIELDS[row, position, 1]) & 1)
    position = MODES[row, 7]
    for k in range(16):
        position = put(words, position, index_bits - SHORTER[subsets, partition, k], indices[k])


@kernel
def encode_bc6h(first, last, halves, blocks, is_signed, weights, passes, tries, out):
    """Groups ``first`` to ``last`` of ``blocks`` in all modes; ``tries``: how many partitions are fitted."""
    W = np.zeros(ROWS * LANES, f4)
    words, codes, indices = np.zeros(2, np.uint64), np.zeros(26, np.int64), np.zeros(16, np.int64)
    for group in range(first, last):
        at = group * LANES
        count = load_halves(halves, blocks, at, is_signed, W)
        fill(W, MASK, 16, ONE)
        fill(W, BEST_ERROR, 1, HUGE)
        if tries > 0:
            means(W)
            rank_partitions(W, 32, 2, False)
        for attempt in range(tries + 1):
            subsets = 1 if attempt == 0 else 2
            for subset in range(subsets):
                if subsets == 2:
                    mask_subset(W, attempt - 1, 2, subset)
                fit_subset(W, weights, f4(15 if subsets == 1 else 7), subset, passes)
            for row in range(ONE_SUBSET if subsets == 1 else 0, 14 if subsets == 1 else ONE_SUBSET):
                try_mode(W, row, subsets, attempt - 1, is_signed)
        for i in range(count):
            words[:] = np.uint64(0)
            write_block(W, i, is_signed, codes, indices, words)
            target = blocks[at + i] * 4
            for half in range(2):
                out[target + 2 * half] = np.uint32(words[half] & np.uint64(0xFFFFFFFF))
                out[target + 2 * half + 1] = np.uint32(words[half] >> np.uint64(32))
