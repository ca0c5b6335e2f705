"""BC7: the two ends of each subset that fit a block best, in all eight modes.

Source: Microsoft, "BC7 Format" and "BC7 Format Mode Reference".
"""

from __future__ import annotations

import numpy as np

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
    pick,
    start,
)
from brae.core.assets.texture.kernels.partitions import SUBSETS
from brae.core.assets.texture.kernels.subsets import RANK
from brae.core.assets.texture.kernels.subsets import ROWS as OWN
from brae.core.compiled import inlined, step

CANDIDATE = OWN  # 24 rows: quantised ends of up to three subsets
CANDIDATE_ERROR = OWN + 24
BEST = OWN + 25  # 24 rows: those of the best candidate so far
BEST_ERROR, BEST_WAY, BEST_SHAPE = OWN + 49, OWN + 50, OWN + 51  # shape: the partition, or the rotation
OPAQUE, BINARY = OWN + 52, OWN + 53  # whether all alpha is 255; whether it is 0 or 255 only, and both
HALF_ERRORS = OWN + 54  # 4 rows: error by the p-bits of both ends
HALVES = OWN + 58  # 16 rows: codes by channel, end and p-bit
ALPHA_COST = OWN + 74  # squared error of leaving alpha at 255
FINAL = OWN + 75  # 5 rows: bits of colour and alpha ends, their greatest indices, whether alpha shares the colour's
ALPHA_INDEX = OWN + 80  # 16 rows
WIDE = OWN + 96  # 24 rows: the best ends as 8-bit values
#: rows of the workspace
ROWS = OWN + 120

#: what FINAL holds for each way; way 8 is mode 4 with its indices exchanged, the others are the modes
FINALS = np.zeros((9, 5), np.float32)
FINALS[0] = [5, 5, 7, 7, 0]
FINALS[1] = [7, 7, 7, 7, 0]
FINALS[2] = [5, 5, 3, 3, 0]
FINALS[3] = [8, 8, 3, 3, 0]
FINALS[4] = [5, 6, 3, 7, 0]
FINALS[5] = [7, 8, 3, 3, 0]
FINALS[6] = [8, 8, 15, 15, 1]
FINALS[7] = [6, 6, 3, 3, 1]
FINALS[8] = [5, 6, 7, 3, 0]
#: how p-bits are shared
NO_P, P_EACH, P_SHARED = 0, 1, 2
ALL, COLOUR, ALPHA, NOTHING = 0, 1, 2, -1
#: subsets of each way; 16 partitions are all that mode 0 has
WAY_SUBSETS = np.array([3, 2, 3, 2, 1, 1, 1, 2, 1], np.int64)
FEW_PARTITIONS = 16
#: for each way and part (subset, or colour and alpha): greatest index, bits of ends with their p-bit, how those are
#: shared, which channels it fits
PARTS = np.zeros((9, 3, 4), np.int64)
PARTS[0] = [7, 5, P_EACH, COLOUR]
PARTS[1] = [7, 7, P_SHARED, COLOUR]
PARTS[2] = [3, 5, NO_P, COLOUR]
PARTS[3] = [3, 8, P_EACH, COLOUR]
PARTS[4, :2] = [[3, 5, NO_P, COLOUR], [7, 6, NO_P, ALPHA]]
PARTS[5, :2] = [[3, 7, NO_P, COLOUR], [3, 8, NO_P, ALPHA]]
PARTS[6] = [15, 8, P_EACH, ALL]
PARTS[7] = [3, 6, P_EACH, ALL]
PARTS[8, :2] = [[7, 5, NO_P, COLOUR], [3, 6, NO_P, ALPHA]]


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
    row = (CANDIDATE + 8 * (part & 3)) * LANES
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
    divided, opaque = WAY_SUBSETS[way] > 1, way <= 3
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
        number = pick(divided, W[rank + i], f4(shape))
        W[BEST_SHAPE * LANES + i] = pick(better, number, W[BEST_SHAPE * LANES + i])
    for r in range(24):
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
def wide_end(W, row, i, subset):
    """A WIDE row of the subset that the pixel is in."""
    two = pick(subset == ONE, W[(row + 8) * LANES + i], W[row * LANES + i])
    return pick(subset == TWO, W[(row + 16) * LANES + i], two)


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
    """FINAL, WIDE, rotation and (in MASK) subsets of the best; whether one has places of its own for alpha."""
    apart = False
    for i in range(LANES):
        way, shape = np.int64(W[BEST_WAY * LANES + i]), np.int64(W[BEST_SHAPE * LANES + i])
        for column in range(5):
            W[(FINAL + column) * LANES + i] = FINALS[way, column]
        subsets = WAY_SUBSETS[way]
        for k in range(16):
            W[(MASK + k) * LANES + i] = f4(SUBSETS[subsets, shape & 63, k]) if subsets > 1 else ZERO
        if way == 4 or way == 5 or way == 8:
            apart = True
            rotation = shape & 3
            if rotation > 0:
                for k in range(16):
                    at = (PIXEL + 16 * (rotation - 1) + k) * LANES + i
                    value = W[at]
                    W[at] = W[(PIXEL + 48 + k) * LANES + i]
                    W[(PIXEL + 48 + k) * LANES + i] = value
    for r in range(24):
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
            subset = W[(MASK + k) * LANES + i]
            last, shares = W[(FINAL + 2) * LANES + i], W[(FINAL + 4) * LANES + i]
            x, y = W[(PIXEL + k) * LANES + i], W[(PIXEL + 16 + k) * LANES + i]
            z, w = W[(PIXEL + 32 + k) * LANES + i], W[(PIXEL + 48 + k) * LANES + i]
            a, b = wide_end(W, WIDE, i, subset), wide_end(W, WIDE + 1, i, subset)
            c, d = wide_end(W, WIDE + 2, i, subset), wide_end(W, WIDE + 3, i, subset)
            p, q = wide_end(W, WIDE + 4, i, subset) - a, wide_end(W, WIDE + 5, i, subset) - b
            r, t = wide_end(W, WIDE + 6, i, subset) - c, wide_end(W, WIDE + 7, i, subset) - d
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
