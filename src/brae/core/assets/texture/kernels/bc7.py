"""BC7 blocks: eight modes of one to three subsets, decoded all, encoded in modes 1, 3, 4, 5, 6 and 7.

Source: Microsoft, "BC7 Format" and "BC7 Format Mode Reference".
"""

from __future__ import annotations

import numpy as np

from brae.core.assets.texture.kernels.kinds import flat_word
from brae.core.assets.texture.kernels.lanes import (
    CODE,
    COUNT,
    CROSS,
    END,
    ERROR,
    HALF,
    HUGE,
    INDEX,
    LANES,
    MASK,
    MEAN,
    ONE,
    PIXEL,
    SOLVE,
    SPREAD,
    TOTAL,
    TRY,
    TWO,
    ZERO,
    assign,
    f4,
    fill,
    keep_better,
    line,
    load,
    means,
    pick,
    start,
)
from brae.core.assets.texture.kernels.partitions import ANCHORS, SHORTER, SUBSETS, WEIGHTS
from brae.core.assets.texture.kernels.subsets import RANK, mask_subset, rank_partitions
from brae.core.assets.texture.kernels.subsets import ROWS as OWN
from brae.core.compiled import inlined, kernel, step

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


# ---- decoding -------------------------------------------------------------------------------------------


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


# ---- encoding -------------------------------------------------------------------------------------------

CANDIDATE = OWN  # 16 rows: quantised ends of two subsets
CANDIDATE_ERROR = OWN + 16
BEST = OWN + 17  # 16 rows: those of the best candidate so far
BEST_ERROR, BEST_WAY, BEST_SHAPE = OWN + 33, OWN + 34, OWN + 35  # shape: the partition, or the rotation
OPAQUE, BINARY = OWN + 36, OWN + 37  # whether all alpha is 255; whether it is 0 or 255 only, and both
HALF_ERRORS = OWN + 38  # 4 rows: error by the p-bits of both ends
HALVES = OWN + 42  # 16 rows: codes by channel, end and p-bit
ALPHA_COST = OWN + 58  # squared error of leaving alpha at 255
FINAL = OWN + 59  # 5 rows: bits of colour and alpha ends, their greatest indices, whether alpha shares the colour's
ALPHA_INDEX = OWN + 64  # 16 rows
WIDE = OWN + 80  # 16 rows: the best ends as 8-bit values
#: rows of the workspace
ROWS = OWN + 96

#: what FINAL holds for each way; way 8 is mode 4 with its indices exchanged, the others are the modes
FINALS = np.zeros((9, 5), np.float32)
FINALS[1] = [7, 7, 7, 7, 0]
FINALS[3] = [8, 8, 3, 3, 0]
FINALS[4] = [5, 6, 3, 7, 0]
FINALS[5] = [7, 8, 3, 3, 0]
FINALS[6] = [8, 8, 15, 15, 1]
FINALS[7] = [6, 6, 3, 3, 1]
FINALS[8] = [5, 6, 7, 3, 0]
#: how p-bits are shared
NO_P, P_EACH, P_SHARED = 0, 1, 2
ALL, COLOUR, ALPHA, NOTHING = 0, 1, 2, -1
#: for each way and part (subset, or colour and alpha): greatest index, bits of ends with their p-bit, how those are
#: shared, which channels it fits
PARTS = np.zeros((9, 2, 4), np.int64)
PARTS[1] = [7, 7, P_SHARED, COLOUR]
PARTS[3] = [3, 8, P_EACH, COLOUR]
PARTS[4] = [[3, 5, NO_P, COLOUR], [7, 6, NO_P, ALPHA]]
PARTS[5] = [[3, 7, NO_P, COLOUR], [3, 8, NO_P, ALPHA]]
PARTS[6] = [15, 8, P_EACH, ALL]
PARTS[7] = [3, 6, P_EACH, ALL]
PARTS[8] = [[7, 5, NO_P, COLOUR], [3, 6, NO_P, ALPHA]]


@inlined
def code_near(value, p, unit, scale, most):
    """The code whose lowest bit is ``p`` (in steps of ``unit``) nearest to a value of 8 bits."""
    return f4(np.int32(min(max((value * scale - p) / unit + HALF, ZERO), most))) * unit + p


@inlined
def wide_code(code, up, down):
    """A code as a value of 8 bits: its high bits repeated in the low ones."""
    q = np.int32(code)
    return f4((q << up) | (q >> down))


@inlined
def pair_error(a, b, c, cross, x0, x1):
    """Squared error of two ends (about the mean) less what no ends can change."""
    return a * x0 * x0 + TWO * b * x0 * x1 + c * x1 * x1 + TWO * cross * (x0 - x1)


@step
def solve(W, weights, bits, sharing):
    """TRY, TOTAL and END: the best quantised ends for the places that ``assign`` gave."""
    unit = ONE if sharing == NO_P else TWO
    scale = f4((1 << bits) - 1) / f4(255)
    most = f4((1 << bits) - 1) if sharing == NO_P else f4((1 << (bits - 1)) - 1)
    one = ZERO if sharing == NO_P else ONE
    up, down = np.int32(8 - bits), np.int32(2 * bits - 8)
    fill(W, HALF_ERRORS, 4, ZERO)
    for channel in range(4):
        weight = weights[channel]
        for i in range(LANES):
            a, b, c = W[SOLVE * LANES + i], W[(SOLVE + 1) * LANES + i], W[(SOLVE + 2) * LANES + i]
            inverse, cross = W[(SOLVE + 3) * LANES + i], W[(CROSS + channel) * LANES + i]
            mean = W[(MEAN + channel) * LANES + i]
            v0, v1 = mean - (b + c) * inverse * cross, mean + (a + b) * inverse * cross
            z00, z01 = code_near(v0, ZERO, unit, scale, most), code_near(v0, one, unit, scale, most)
            z10, z11 = code_near(v1, ZERO, unit, scale, most), code_near(v1, one, unit, scale, most)
            x00, x01 = wide_code(z00, up, down) - mean, wide_code(z01, up, down) - mean
            x10, x11 = wide_code(z10, up, down) - mean, wide_code(z11, up, down) - mean
            W[HALF_ERRORS * LANES + i] += weight * pair_error(a, b, c, cross, x00, x10)
            W[(HALF_ERRORS + 1) * LANES + i] += weight * pair_error(a, b, c, cross, x00, x11)
            W[(HALF_ERRORS + 2) * LANES + i] += weight * pair_error(a, b, c, cross, x01, x10)
            W[(HALF_ERRORS + 3) * LANES + i] += weight * pair_error(a, b, c, cross, x01, x11)
            W[(HALVES + 4 * channel) * LANES + i] = z00
            W[(HALVES + 4 * channel + 1) * LANES + i] = z01
            W[(HALVES + 4 * channel + 2) * LANES + i] = z10
            W[(HALVES + 4 * channel + 3) * LANES + i] = z11
    for i in range(LANES):
        # An opaque pixel stays opaque: where alpha is among the channels its codes must be odd.
        forced = HUGE if weights[3] > ZERO and W[OPAQUE * LANES + i] > ZERO and sharing == P_EACH else ZERO
        apart = HUGE if sharing == P_SHARED else ZERO
        none, second = W[HALF_ERRORS * LANES + i] + forced, W[(HALF_ERRORS + 1) * LANES + i] + max(forced, apart)
        first, both = W[(HALF_ERRORS + 2) * LANES + i] + max(forced, apart), W[(HALF_ERRORS + 3) * LANES + i]
        least = min(min(none, second), min(first, both))
        p0 = min(first, both) < min(none, second)
        p1 = (both <= first) if p0 else (second < none)
        W[HALF_ERRORS * LANES + i] = ONE if p0 else ZERO
        W[(HALF_ERRORS + 1) * LANES + i] = ONE if p1 else ZERO
        W[TOTAL * LANES + i] = max(least + W[SPREAD * LANES + i], ZERO)
    for channel in range(4):
        for i in range(LANES):
            p0, p1 = W[HALF_ERRORS * LANES + i] > ZERO, W[(HALF_ERRORS + 1) * LANES + i] > ZERO
            z0 = pick(p0, W[(HALVES + 4 * channel + 1) * LANES + i], W[(HALVES + 4 * channel) * LANES + i])
            z1 = pick(p1, W[(HALVES + 4 * channel + 3) * LANES + i], W[(HALVES + 4 * channel + 2) * LANES + i])
            W[(TRY + channel) * LANES + i] = z0
            W[(TRY + 4 + channel) * LANES + i] = z1
            W[(END + channel) * LANES + i] = wide_code(z0, up, down)
            W[(END + 4 + channel) * LANES + i] = wide_code(z1, up, down)


@step
def fit(W, weights, last, bits, sharing, passes):
    """CODE and ERROR: ends for the pixels that count, of ``last + 1`` places between them."""
    line(W, weights)
    start(W, ONE, ONE)
    fill(W, ERROR, 1, HUGE)
    for _ in range(passes):
        assign(W, weights, last, f4(64))
        solve(W, weights, bits, sharing)
        keep_better(W)


@step
def candidate(W, part):
    """Take CODE as the ends of one part of the candidate."""
    row = (CANDIDATE + 8 * (part & 1)) * LANES
    for at in range(8 * LANES):
        W[row + at] = W[CODE * LANES + at]
    for i in range(LANES):
        before = ZERO if part == 0 else W[CANDIDATE_ERROR * LANES + i]
        W[CANDIDATE_ERROR * LANES + i] = before + W[ERROR * LANES + i]


@inlined
def extreme(W, row, i):
    """Whether both ends of a subset have the same alpha, 0 or 255, in six bits."""
    first, second = W[row * LANES + i], W[(row + 4) * LANES + i]
    return first == second and (first == ZERO or first == f4(63))


@step
def settle(W, way, shape):
    """Keep the candidate where it is better; ``shape``: the rank of a partition, or the rotation."""
    rank = (RANK + (shape & 3)) * LANES
    two, opaque = way == 1 or way == 3 or way == 7, way == 1 or way == 3
    for i in range(LANES):
        error = W[CANDIDATE_ERROR * LANES + i] + (W[ALPHA_COST * LANES + i] if opaque else ZERO)
        # Alpha of 0 and 255 only stays exact: modes 4 and 5 do it, and mode 7 where no subset has both.
        exact = way == 4 or way == 5 or way == 8
        kept = extreme(W, CANDIDATE + 3, i) and extreme(W, CANDIDATE + 11, i) and error < f4(65025)
        exact = (shape == 0) if exact else (way == 7 and kept)
        error = HUGE if W[BINARY * LANES + i] > ZERO and not exact else error
        better = error < W[BEST_ERROR * LANES + i]
        W[TOTAL * LANES + i] = ONE if better else ZERO
        W[BEST_ERROR * LANES + i] = pick(better, error, W[BEST_ERROR * LANES + i])
        W[BEST_WAY * LANES + i] = pick(better, f4(way), W[BEST_WAY * LANES + i])
        number = pick(two, W[rank + i], f4(shape))
        W[BEST_SHAPE * LANES + i] = pick(better, number, W[BEST_SHAPE * LANES + i])
    for r in range(16):
        for i in range(LANES):
            taken = W[TOTAL * LANES + i] > ZERO
            W[(BEST + r) * LANES + i] = pick(taken, W[(CANDIDATE + r) * LANES + i], W[(BEST + r) * LANES + i])


@step
def exchange_alpha(W, channel):
    """Let alpha and a colour channel change places (the rotation of modes 4 and 5)."""
    row = (PIXEL + 16 * (channel & 3)) * LANES
    for at in range(16 * LANES):
        value = W[row + at]
        W[row + at] = W[(PIXEL + 48) * LANES + at]
        W[(PIXEL + 48) * LANES + at] = value


@step
def look_at_alpha(W):
    """OPAQUE, BINARY and ALPHA_COST; MASK names the pixels that are not clear."""
    fill(W, OPAQUE, 2, ONE)
    fill(W, ALPHA_COST, 1, ZERO)
    for k in range(16):
        for i in range(LANES):
            alpha = W[(PIXEL + 48 + k) * LANES + i]
            W[OPAQUE * LANES + i] = pick(alpha == f4(255), W[OPAQUE * LANES + i], ZERO)
            W[BINARY * LANES + i] = pick((alpha == f4(255)) | (alpha == ZERO), W[BINARY * LANES + i], ZERO)
            W[ALPHA_COST * LANES + i] += (f4(255) - alpha) * (f4(255) - alpha)
            W[(MASK + k) * LANES + i] = ONE if alpha > ZERO else ZERO
    for i in range(LANES):
        W[BINARY * LANES + i] -= W[OPAQUE * LANES + i]


@step
def fill_clear(W):
    """Give clear pixels the mean colour of those that MASK names, where there are any."""
    for c in range(3):
        for k in range(16):
            for i in range(LANES):
                hidden = (W[(MASK + k) * LANES + i] == ZERO) & (W[COUNT * LANES + i] > ZERO)
                value = W[(PIXEL + 16 * c + k) * LANES + i]
                W[(PIXEL + 16 * c + k) * LANES + i] = pick(hidden, W[(MEAN + c) * LANES + i], value)


@inlined
def rounded(end, way, weight):
    """A value between two ends as a decoder rounds it."""
    return f4(np.int32(end + way * weight + HALF))


@inlined
def wide_end(W, row, i, second):
    """A WIDE row of the subset that the pixel is in."""
    return pick(second, W[(row + 8) * LANES + i], W[row * LANES + i])


@inlined
def place_error(x, y, z, w, a, b, c, d, p, q, r, t, alpha_shares, place, last):
    """Squared error of a pixel at a place between two ends, as a decoder rounds it."""
    weight = f4(np.int32(place * f4(64) / last + HALF)) * f4(1 / 64)
    e, f = rounded(a, p, weight) - x, rounded(b, q, weight) - y
    g, h = rounded(c, r, weight) - z, rounded(d, t, weight) - w
    return e * e + f * f + g * g + alpha_shares * h * h


@inlined
def alpha_error(w, d, t, place, last):
    """The same of alpha alone."""
    off = rounded(d, t, f4(np.int32(place * f4(64) / last + HALF)) * f4(1 / 64)) - w
    return off * off


@step
def prepare_places(W):
    """FINAL, MASK, WIDE and the rotation of the best candidates; whether one has places of its own for alpha."""
    apart = False
    for i in range(LANES):
        way, shape = np.int64(W[BEST_WAY * LANES + i]), np.int64(W[BEST_SHAPE * LANES + i])
        for column in range(5):
            W[(FINAL + column) * LANES + i] = FINALS[way, column]
        two = way == 1 or way == 3 or way == 7
        for k in range(16):
            W[(MASK + k) * LANES + i] = ONE if two and SUBSETS[2, shape & 63, k] > 0 else ZERO
        if way == 4 or way == 5 or way == 8:
            apart = True
            rotation = shape & 3
            if rotation > 0:
                for k in range(16):
                    at = (PIXEL + 16 * (rotation - 1) + k) * LANES + i
                    value = W[at]
                    W[at] = W[(PIXEL + 48 + k) * LANES + i]
                    W[(PIXEL + 48 + k) * LANES + i] = value
    for r in range(16):
        bits_row = FINAL + 1 if r % 4 == 3 else FINAL
        for i in range(LANES):
            bits = np.int32(W[bits_row * LANES + i])
            W[(WIDE + r) * LANES + i] = wide_code(
                W[(BEST + r) * LANES + i], np.int32(8) - bits, bits + bits - np.int32(8)
            )
    return apart


@step
def final_places(W):
    """INDEX of every pixel: of the two places around its projection the better."""
    for k in range(16):
        for i in range(LANES):
            second = W[(MASK + k) * LANES + i] > ZERO
            last, shares = W[(FINAL + 2) * LANES + i], W[(FINAL + 4) * LANES + i]
            x, y = W[(PIXEL + k) * LANES + i], W[(PIXEL + 16 + k) * LANES + i]
            z, w = W[(PIXEL + 32 + k) * LANES + i], W[(PIXEL + 48 + k) * LANES + i]
            a, b = wide_end(W, WIDE, i, second), wide_end(W, WIDE + 1, i, second)
            c, d = wide_end(W, WIDE + 2, i, second), wide_end(W, WIDE + 3, i, second)
            p, q = wide_end(W, WIDE + 4, i, second) - a, wide_end(W, WIDE + 5, i, second) - b
            r, t = wide_end(W, WIDE + 6, i, second) - c, wide_end(W, WIDE + 7, i, second) - d
            along = (x - a) * p + (y - b) * q + (z - c) * r + shares * (w - d) * t
            place = along * last / max(p * p + q * q + r * r + shares * t * t, f4(1e-6))
            low = f4(np.int32(min(max(place, ZERO), last - ONE)))
            low_error = place_error(x, y, z, w, a, b, c, d, p, q, r, t, shares, low, last)
            high_error = place_error(x, y, z, w, a, b, c, d, p, q, r, t, shares, low + ONE, last)
            W[(INDEX + k) * LANES + i] = low + ONE if high_error < low_error else low


@step
def final_alpha_places(W):
    """ALPHA_INDEX of every pixel, where alpha has ends of its own (modes 4 and 5), in the second subset's place."""
    for k in range(16):
        for i in range(LANES):
            w, last = W[(PIXEL + 48 + k) * LANES + i], W[(FINAL + 3) * LANES + i]
            d = W[(WIDE + 11) * LANES + i]
            t = W[(WIDE + 15) * LANES + i] - d
            low = f4(np.int32(min(max((w - d) * last * t / max(t * t, f4(1e-6)), ZERO), last - ONE)))
            low_error, high_error = alpha_error(w, d, t, low, last), alpha_error(w, d, t, low + ONE, last)
            W[(ALPHA_INDEX + k) * LANES + i] = low + ONE if high_error < low_error else low


@step
def put(words, position, count, value):
    """Add ``count`` bits to a block of two 64-bit words; returns the position behind them."""
    value = np.uint64(value)
    if position < 64:
        words[0] |= value << np.uint64(position)
        if position + count > 64:
            words[1] |= value >> np.uint64(64 - position)
    else:
        words[1] |= value << np.uint64(position - 64)
    return position + count


@step
def turn(codes, first, second, low, high):
    """Exchange two ends' channels from ``low`` to ``high``."""
    for c in range(low, high):
        codes[first + c], codes[second + c] = codes[second + c], codes[first + c]


@step
def put_indices(words, position, indices, bits, subsets, partition):
    """The indices of a block, each anchor's without its highest bit."""
    stream, length = np.uint64(0), 0
    for k in range(16):
        stream |= np.uint64(indices[k]) << np.uint64(length)
        length += bits - SHORTER[subsets, partition, k]
    return put(words, position, length, stream)


@step
def anchored(indices, codes, bits, subsets, partition, low, high):
    """Make the highest bit of every anchor's index zero, by exchanging the ends of its subset."""
    for subset in range(subsets):
        if indices[ANCHORS[subsets, partition, subset]] >> (bits - 1):
            for k in range(16):
                if SUBSETS[subsets, partition, k] == subset:
                    indices[k] = (1 << bits) - 1 - indices[k]
            turn(codes, 8 * subset, 8 * subset + 4, low, high)


@step
def write_separate(way, rotation, codes, indices, alphas, words):
    """A block of mode 4 or 5: alpha, or the channel in its place, has indices of its own."""
    mode, selection = 4 if way == 8 else way, 1 if way == 8 else 0
    bits = 3 if selection else 2
    alpha_bits = 3 if mode == 4 and not selection else 2
    anchored(indices, codes, bits, 1, 0, 0, 3)
    # The ends of alpha lie in the second subset's place.
    if alphas[0] >> (alpha_bits - 1):
        for k in range(16):
            alphas[k] = (1 << alpha_bits) - 1 - alphas[k]
        turn(codes, 8, 12, 3, 4)
    position = put(words, 0, mode + 1, 1 << mode)
    position = put(words, position, 2, rotation)
    if mode == 4:
        position = put(words, position, 1, selection)
    for c in range(3):
        position = put(words, position, MODES[mode, 4], codes[c])
        position = put(words, position, MODES[mode, 4], codes[4 + c])
    position = put(words, position, MODES[mode, 5], codes[11])
    position = put(words, position, MODES[mode, 5], codes[15])
    if selection:
        position = put_indices(words, position, alphas, alpha_bits, 1, 0)
        put_indices(words, position, indices, bits, 1, 0)
    else:
        position = put_indices(words, position, indices, bits, 1, 0)
        put_indices(words, position, alphas, alpha_bits, 1, 0)


@step
def write_shared(mode, shape, codes, indices, words):
    """A block of mode 1, 3, 6 or 7: one index for all channels, p-bits behind the ends."""
    subsets, bits = MODES[mode, 0], MODES[mode, 8]
    partition = shape if subsets == 2 else 0
    anchored(indices, codes, bits, subsets, partition, 0, 4)
    position = put(words, 0, mode + 1, 1 << mode)
    position = put(words, position, MODES[mode, 1], partition)
    for c in range(4):
        width = MODES[mode, 5] if c == 3 else MODES[mode, 4]
        if width > 0:
            for subset in range(subsets):
                position = put(words, position, width, codes[8 * subset + c] >> 1)
                position = put(words, position, width, codes[8 * subset + 4 + c] >> 1)
    for subset in range(subsets):
        position = put(words, position, 1, codes[8 * subset] & 1)
        if MODES[mode, 6] > 0:
            position = put(words, position, 1, codes[8 * subset + 4] & 1)
    put_indices(words, position, indices, bits, subsets, partition)


@step
def write_blocks(W, blocks, first, count, out):
    """The best candidate of each lane as a block of four words."""
    words = np.zeros(2, np.uint64)
    codes, indices, alphas = np.empty(16, np.int64), np.empty(16, np.int64), np.empty(16, np.int64)
    for i in range(count):
        words[:] = np.uint64(0)
        way, shape = np.int64(W[BEST_WAY * LANES + i]), np.int64(W[BEST_SHAPE * LANES + i])
        for k in range(16):
            codes[k] = np.int64(W[(BEST + k) * LANES + i])
            indices[k] = np.int64(W[(INDEX + k) * LANES + i])
            alphas[k] = np.int64(W[(ALPHA_INDEX + k) * LANES + i])
        if way == 4 or way == 5 or way == 8:
            write_separate(way, shape, codes, indices, alphas, words)
        else:
            write_shared(way, shape, codes, indices, words)
        at = blocks[first + i] * 4
        for half in range(2):
            out[at + 2 * half] = np.uint32(words[half] & np.uint64(0xFFFFFFFF))
            out[at + 2 * half + 1] = np.uint32(words[half] >> np.uint64(32))


@kernel
def flat_bc7(first, last, picture, blocks, ends, out):
    """Blocks ``first`` to ``last``, each of one colour, exactly so by mode 5.

    ``ends`` (256 x 2): for each value two ends of 7 bits whose first step it is.
    """
    words, known = np.zeros(2, np.uint64), np.uint32(0)
    for at in range(first, last):
        word, target = flat_word(picture, blocks[at]), blocks[at] * 4
        # Beside a block of one colour there is often another of the same.
        if at == first or word != known:
            known = word
            words[:] = np.uint64(0)
            position = put(words, put(words, 0, 6, 1 << 5), 2, 0)
            for c in range(3):
                value = (word >> np.uint32(8 * c)) & np.uint32(255)
                position = put(words, put(words, position, 7, ends[value, 0]), 7, ends[value, 1])
            alpha = word >> np.uint32(24)
            position = put(words, put(words, position, 8, alpha), 8, alpha)
            # The colour's index is 1 everywhere (of the first pixel one bit is stored), alpha's 0.
            put(words, position, 31, 0x2AAAAAAB)
        for half in range(2):
            out[target + 2 * half] = np.uint32(words[half] & np.uint64(0xFFFFFFFF))
            out[target + 2 * half + 1] = np.uint32(words[half] >> np.uint64(32))


@step
def try_way(W, weights, way, shape, passes):
    """One candidate: a partition of that rank (modes 1, 3, 7), a rotation (4, 5), or the whole block (6)."""
    two = way == 1 or way == 3 or way == 7
    for part in range(1 if way == 6 else 2):
        if two:
            mask_subset(W, shape, part == 1)
        last, bits, sharing, channels = (
            PARTS[way, part, 0],
            PARTS[way, part, 1],
            PARTS[way, part, 2],
            PARTS[way, part, 3],
        )
        fit(W, weights[channels], f4(last), bits, sharing, 1 if channels == ALPHA else passes)
        candidate(W, part)
    settle(W, way, shape)
    if two:
        fill(W, MASK, 16, ONE)


@kernel
def encode_bc7(first, last, picture, blocks, weights, passes, partitions, ways, out):
    """Groups ``first`` to ``last`` of ``blocks`` in modes 1, 3, 4, 5, 6 and 7 (0 and 2 win too seldom).

    ``weights`` (3 x 4): of all channels, of colour alone, of alpha. ``ways`` (n x 2): each way with the number
    of partitions or rotations it tries, way 8 being mode 4 with its indices exchanged. ``partitions``: how many are
    ranked; ``passes`` of least squares for each candidate.
    """
    W = np.zeros(ROWS * LANES, f4)
    for group in range(first, last):
        at = group * LANES
        count = load(picture, blocks, at, 0, 0, 4, W)
        look_at_alpha(W)
        means(W)
        fill_clear(W)
        fill(W, MASK, 16, ONE)
        fill(W, BEST_ERROR, 1, f4(3e30))
        opaque, some_opaque = True, False
        for i in range(count):
            opaque &= W[OPAQUE * LANES + i] > ZERO
            some_opaque |= W[OPAQUE * LANES + i] > ZERO
        ranked = NOTHING
        for row in range(ways.shape[0]):
            way, tries = ways[row, 0], ways[row, 1]
            if (
                (way == 7 and opaque)
                or ((way == 1 or way == 3) and not some_opaque)
                or ((way == 4 or way == 8) and opaque)
            ):
                continue
            wanted = ALL if way == 7 else COLOUR if way == 1 or way == 3 else NOTHING
            if wanted != NOTHING and wanted != ranked:
                means(W)
                rank_partitions(W, partitions, way == 7)
                ranked = wanted
            for shape in range(tries):
                turned = shape > 0 and (way == 4 or way == 5 or way == 8)
                if turned:
                    exchange_alpha(W, shape - 1)
                try_way(W, weights, way, shape, passes)
                if turned:
                    exchange_alpha(W, shape - 1)
        apart = prepare_places(W)
        final_places(W)
        if apart:
            final_alpha_places(W)
        write_blocks(W, blocks, at, count, out)
