"""Many blocks side by side: the one shape that every block encoder has.

A *group* is LANES blocks of 4 x 4 pixels. Everything known about them lies in one flat float32 workspace of rows,
row r of lane i at ``W[r * LANES + i]``, and every inner loop runs over the lanes, so that the compiler turns it
into vector instructions. Loops over pixels or channels stay outside it. A row is named by a constant below.

The steps are those of every end-point encoder: the line through the pixels (principal axis), indices for given
ends, the best ends for given indices (least squares), and again. What differs between formats is how ends are
quantised and written, which each format does for itself.

``weights`` (float32, 4) is what an error of each channel costs; a channel of weight 0 is left out.
"""

from __future__ import annotations

import numpy as np

from brae.core.assets.texture.kernels.kinds import corner
from brae.core.compiled import inlined, specialised, step

LANES = 64
f4 = np.float32
ZERO, ONE, HALF, TWO, HUGE = f4(0), f4(1), f4(0.5), f4(2), f4(1e30)

# ---- rows of the workspace
PIXEL = 0  # 64 rows: channel * 16 + pixel
MASK = 64  # 16 rows: 1 where the pixel counts, else 0
MEAN = 80  # 4 rows
MOMENT = 84  # 10 rows: second moments about the mean: rr rg rb ra gg gb ga bb ba aa
AXIS = 100  # 4 rows
LOW, HIGH = 104, 105  # the extent along the axis
COUNT, SPREAD = 106, 107  # pixels that count, and the sum of their squared distances from the mean
END = 108  # 8 rows: first end's channels, second end's
LINE = 116  # 8 rows: where the outermost pixels lie along the axis, from the mean
SLOPE = 124  # 4 rows: projects a pixel on the way from the first end to the second
BASE, WEIGHT = 128, 129  # its offset; the weight of one pixel
SUM, SQUARES = 130, 131  # of weights and of their squares
CROSS = 132  # 4 rows: weight x (channel - mean)
CODE = 136  # 8 rows: the best quantised ends so far
ERROR = 144  # their squared error
TRY = 145  # 8 rows: quantised ends being tried
TOTAL = 153  # their squared error
SOLVE = 154  # 4 rows: A, B, C of the least squares and the inverse determinant
INDEX = 158  # 16 rows: the place of each pixel between the ends
OWN = 174  # rows from here on are the format's own


@step
def load(picture, blocks, first, channel, place, channels, W):
    """The pixels of up to LANES blocks, numbers in ``blocks`` from ``first`` on; returns how many there are.

    ``picture`` is uint32 (height, width), R in the lowest byte. Beyond an edge its last pixels are repeated. So
    many ``channels`` from ``channel`` on come to the rows of channel ``place`` and those behind it.
    """
    height, width = picture.shape
    across = np.int32((width + 3) >> 2)
    count = min(LANES, blocks.size - first)
    top, left, words = np.empty(LANES, np.int64), np.empty(LANES, np.int64), np.empty(LANES, np.uint32)
    for i in range(LANES):
        top[i], left[i] = corner(blocks[first + min(i, count - 1)], across)
    for k in range(16):
        for i in range(LANES):
            words[i] = picture[min(top[i] + (k >> 2), height - 1), min(left[i] + (k & 3), width - 1)]
        for c in range(channels):
            row, shift = (PIXEL + 16 * ((place + c) & 3) + k) * LANES, np.uint32(8 * (channel + c))
            for i in range(LANES):
                W[row + i] = f4(np.int32((words[i] >> shift) & np.uint32(255)))
    return count


@inlined
def pick(condition, yes, no):
    """One of two values, both of which are there: a choice between two loads would be a branch, and no vector."""
    return yes if condition else no


@specialised
def fill(W, row, rows, value):
    """Set rows to one value."""
    for at in range(row * LANES, (row + rows) * LANES):
        W[at] = value


@specialised
def copy(W, source, target, rows):
    """Copy rows."""
    for at in range(rows * LANES):
        W[target * LANES + at] = W[source * LANES + at]


@step
def means(W):
    """COUNT and MEAN."""
    fill(W, COUNT, 1, ZERO)
    fill(W, MEAN, 4, ZERO)
    for k in range(16):
        for i in range(LANES):
            m = W[(MASK + k) * LANES + i]
            W[COUNT * LANES + i] += m
            W[MEAN * LANES + i] += m * W[(PIXEL + k) * LANES + i]
            W[(MEAN + 1) * LANES + i] += m * W[(PIXEL + 16 + k) * LANES + i]
            W[(MEAN + 2) * LANES + i] += m * W[(PIXEL + 32 + k) * LANES + i]
            W[(MEAN + 3) * LANES + i] += m * W[(PIXEL + 48 + k) * LANES + i]
    for c in range(4):
        for i in range(LANES):
            W[(MEAN + c) * LANES + i] /= max(W[COUNT * LANES + i], ONE)


@step
def moments(W, weights):
    """MOMENT about the mean, and SPREAD."""
    fill(W, MOMENT, 10, ZERO)
    for k in range(16):
        for i in range(LANES):
            m = W[(MASK + k) * LANES + i]
            x = W[(PIXEL + k) * LANES + i] - W[MEAN * LANES + i]
            y = W[(PIXEL + 16 + k) * LANES + i] - W[(MEAN + 1) * LANES + i]
            z = W[(PIXEL + 32 + k) * LANES + i] - W[(MEAN + 2) * LANES + i]
            w = W[(PIXEL + 48 + k) * LANES + i] - W[(MEAN + 3) * LANES + i]
            W[MOMENT * LANES + i] += m * x * x
            W[(MOMENT + 1) * LANES + i] += m * x * y
            W[(MOMENT + 2) * LANES + i] += m * x * z
            W[(MOMENT + 3) * LANES + i] += m * x * w
            W[(MOMENT + 4) * LANES + i] += m * y * y
            W[(MOMENT + 5) * LANES + i] += m * y * z
            W[(MOMENT + 6) * LANES + i] += m * y * w
            W[(MOMENT + 7) * LANES + i] += m * z * z
            W[(MOMENT + 8) * LANES + i] += m * z * w
            W[(MOMENT + 9) * LANES + i] += m * w * w
    p, q, r, s = weights[0], weights[1], weights[2], weights[3]
    for i in range(LANES):
        colour = p * W[MOMENT * LANES + i] + q * W[(MOMENT + 4) * LANES + i] + r * W[(MOMENT + 7) * LANES + i]
        W[SPREAD * LANES + i] = colour + s * W[(MOMENT + 9) * LANES + i]


@step
def principal_axis(W, weights):
    """AXIS: the direction of the greatest spread, by power iteration from the row of the greatest moment."""
    p, q, r, s = weights[0], weights[1], weights[2], weights[3]
    for i in range(LANES):
        xx, xy, xz = W[MOMENT * LANES + i], W[(MOMENT + 1) * LANES + i], W[(MOMENT + 2) * LANES + i]
        xw, yy, yz = W[(MOMENT + 3) * LANES + i], W[(MOMENT + 4) * LANES + i], W[(MOMENT + 5) * LANES + i]
        yw, zz, zw = W[(MOMENT + 6) * LANES + i], W[(MOMENT + 7) * LANES + i], W[(MOMENT + 8) * LANES + i]
        ww = W[(MOMENT + 9) * LANES + i]
        # Channels that cost nothing may hold the greatest moment: they must not be the start.
        x, y, z, w, most = xx, xy, xz, xw, xx * p
        more = yy * q > most
        x, y, z, w, most = (
            xy if more else x,
            yy if more else y,
            yz if more else z,
            yw if more else w,
            max(yy * q, most),
        )
        more = zz * r > most
        x, y, z, w, most = (
            xz if more else x,
            yz if more else y,
            zz if more else z,
            zw if more else w,
            max(zz * r, most),
        )
        more = ww * s > most
        x, y, z, w = xw if more else x, yw if more else y, zw if more else z, ww if more else w
        for _ in range(4):
            x, y, z, w = x * p, y * q, z * r, w * s
            t, u = xx * x + xy * y + xz * z + xw * w, xy * x + yy * y + yz * z + yw * w
            v, o = xz * x + yz * y + zz * z + zw * w, xw * x + yw * y + zw * z + ww * w
            scale = ONE / max(max(max(abs(t), abs(u)), max(abs(v), abs(o))), f4(1e-12))
            x, y, z, w = t * scale, u * scale, v * scale, o * scale
        W[AXIS * LANES + i] = x
        W[(AXIS + 1) * LANES + i] = y
        W[(AXIS + 2) * LANES + i] = z
        W[(AXIS + 3) * LANES + i] = w


@step
def line(W, weights):
    """LINE: the principal axis of the pixels that count, as far as they reach."""
    means(W)
    moments(W, weights)
    principal_axis(W, weights)
    fill(W, LOW, 1, HUGE)
    fill(W, HIGH, 1, -HUGE)
    p, q, r, s = weights[0], weights[1], weights[2], weights[3]
    for k in range(16):
        for i in range(LANES):
            x, y = W[(PIXEL + k) * LANES + i], W[(PIXEL + 16 + k) * LANES + i]
            z, w = W[(PIXEL + 32 + k) * LANES + i], W[(PIXEL + 48 + k) * LANES + i]
            t = p * W[AXIS * LANES + i] * (x - W[MEAN * LANES + i])
            t += q * W[(AXIS + 1) * LANES + i] * (y - W[(MEAN + 1) * LANES + i])
            t += r * W[(AXIS + 2) * LANES + i] * (z - W[(MEAN + 2) * LANES + i])
            t += s * W[(AXIS + 3) * LANES + i] * (w - W[(MEAN + 3) * LANES + i])
            counts = W[(MASK + k) * LANES + i] > ZERO
            W[LOW * LANES + i] = min(W[LOW * LANES + i], t if counts else HUGE)
            W[HIGH * LANES + i] = max(W[HIGH * LANES + i], t if counts else -HUGE)
    for i in range(LANES):
        x, y = W[AXIS * LANES + i], W[(AXIS + 1) * LANES + i]
        z, w = W[(AXIS + 2) * LANES + i], W[(AXIS + 3) * LANES + i]
        unit = (ONE if W[COUNT * LANES + i] > ZERO else ZERO) / max(
            p * x * x + q * y * y + r * z * z + s * w * w, f4(1e-12)
        )
        W[LOW * LANES + i] *= unit
        W[HIGH * LANES + i] *= unit
    for c in range(4):
        for i in range(LANES):
            W[(LINE + c) * LANES + i] = W[LOW * LANES + i] * W[(AXIS + c) * LANES + i]
            W[(LINE + 4 + c) * LANES + i] = W[HIGH * LANES + i] * W[(AXIS + c) * LANES + i]


@step
def start(W, first, second):
    """END: the line's ends, each at a part of its distance from the mean."""
    for c in range(4):
        for i in range(LANES):
            W[(END + c) * LANES + i] = W[(MEAN + c) * LANES + i] + first * W[(LINE + c) * LANES + i]
            W[(END + 4 + c) * LANES + i] = W[(MEAN + c) * LANES + i] + second * W[(LINE + 4 + c) * LANES + i]


@step
def slopes(W, weights, last):
    """SLOPE and BASE for the ends: the place of a pixel is the whole part of ``pixel . SLOPE + BASE``."""
    p, q, r, s = weights[0], weights[1], weights[2], weights[3]
    for i in range(LANES):
        x = W[(END + 4) * LANES + i] - W[END * LANES + i]
        y = W[(END + 5) * LANES + i] - W[(END + 1) * LANES + i]
        z = W[(END + 6) * LANES + i] - W[(END + 2) * LANES + i]
        w = W[(END + 7) * LANES + i] - W[(END + 3) * LANES + i]
        scale = last / max(p * x * x + q * y * y + r * z * z + s * w * w, f4(1e-9))
        x, y, z, w = x * p * scale, y * q * scale, z * r * scale, w * s * scale
        W[SLOPE * LANES + i] = x
        W[(SLOPE + 1) * LANES + i] = y
        W[(SLOPE + 2) * LANES + i] = z
        W[(SLOPE + 3) * LANES + i] = w
        base = HALF - x * W[END * LANES + i] - y * W[(END + 1) * LANES + i]
        W[BASE * LANES + i] = base - z * W[(END + 2) * LANES + i] - w * W[(END + 3) * LANES + i]


@inlined
def place_of(W, k, i, last):
    """Which of ``last + 1`` places between the ends is nearest to pixel ``k`` of lane ``i``."""
    t = W[BASE * LANES + i] + W[(PIXEL + k) * LANES + i] * W[SLOPE * LANES + i]
    t += W[(PIXEL + 16 + k) * LANES + i] * W[(SLOPE + 1) * LANES + i]
    t += W[(PIXEL + 32 + k) * LANES + i] * W[(SLOPE + 2) * LANES + i]
    t += W[(PIXEL + 48 + k) * LANES + i] * W[(SLOPE + 3) * LANES + i]
    return f4(np.int32(min(max(t, ZERO), last)))


@inlined
def weight_of(W, k, i, last, stride, unit):
    """The weight of that place, 0 where the pixel does not count."""
    return f4(np.int32(place_of(W, k, i, last) * stride + HALF)) * unit * W[(MASK + k) * LANES + i]


@inlined
def four_pixels(W, row, i, e, f, g, h):
    """The weighted sum of four rows."""
    low = e * W[row * LANES + i] + f * W[(row + 1) * LANES + i]
    return low + g * W[(row + 2) * LANES + i] + h * W[(row + 3) * LANES + i]


@inlined
def solve_row(W, i, both, squares):
    """SOLVE of a lane, from the sum of the weights and of their squares."""
    a, b = W[COUNT * LANES + i] - TWO * both + squares, both - squares
    W[SOLVE * LANES + i] = a
    W[(SOLVE + 1) * LANES + i] = b
    W[(SOLVE + 2) * LANES + i] = squares
    W[(SOLVE + 3) * LANES + i] = ONE / max(a * squares - b * b, f4(1e-6))


@step
def assign(W, weights, last, steps):
    """Give each pixel the nearest of ``last + 1`` places between the ends, and sum up what least squares needs.

    The weight of place i is round(i * steps / last) / steps. Fills SOLVE, and CROSS about the mean.
    """
    slopes(W, weights, last)
    fill(W, SUM, 2, ZERO)
    fill(W, CROSS, 4, ZERO)
    stride, unit = steps / last, ONE / steps
    # Four pixels at a time, so that the sums go to memory and back a quarter as often.
    for k in range(0, 16, 4):
        for i in range(LANES):
            e = weight_of(W, k, i, last, stride, unit)
            f = weight_of(W, k + 1, i, last, stride, unit)
            g = weight_of(W, k + 2, i, last, stride, unit)
            h = weight_of(W, k + 3, i, last, stride, unit)
            W[SUM * LANES + i] += e + f + g + h
            W[SQUARES * LANES + i] += e * e + f * f + g * g + h * h
            W[CROSS * LANES + i] += four_pixels(W, PIXEL + k, i, e, f, g, h)
            W[(CROSS + 1) * LANES + i] += four_pixels(W, PIXEL + 16 + k, i, e, f, g, h)
            W[(CROSS + 2) * LANES + i] += four_pixels(W, PIXEL + 32 + k, i, e, f, g, h)
            W[(CROSS + 3) * LANES + i] += four_pixels(W, PIXEL + 48 + k, i, e, f, g, h)
    for c in range(4):
        for i in range(LANES):
            W[(CROSS + c) * LANES + i] -= W[SUM * LANES + i] * W[(MEAN + c) * LANES + i]
    for i in range(LANES):
        both, squares = W[SUM * LANES + i], W[SQUARES * LANES + i]
        solve_row(W, i, both, squares)


@step
def places(W, weights, last):
    """INDEX of every pixel: 0 at the first of the ends, ``last`` at the second."""
    slopes(W, weights, last)
    for k in range(16):
        for i in range(LANES):
            W[(INDEX + k) * LANES + i] = place_of(W, k, i, last)


# ---- ends of one channel as plain codes (BC1 to BC5; BC7 and BC6H quantise in their own ways)


@inlined
def widen(code, bits):
    """The 8-bit value of a code of 4 to 8 bits: its high bits repeated in the low ones."""
    q = np.int32(code)
    return f4((q << (np.int32(8) - bits)) | (q >> (bits + bits - np.int32(8))))


@inlined
def better_pair(a, b, c, cross, mean, bits, t0, t1, best0, best1, best):
    """The pair of codes with the lower squared error (less what no ends can change): the one tried or the best."""
    x0, x1 = widen(t0, bits) - mean, widen(t1, bits) - mean
    error = a * x0 * x0 + TWO * b * x0 * x1 + c * x1 * x1 + TWO * cross * (x0 - x1)
    better = error < best
    return t0 if better else best0, t1 if better else best1, min(error, best)


@inlined
def quantised_pair(a, b, c, inverse, cross, mean, bits, most, scale):
    """The best pair of codes (0 to ``most``) of one channel, and its error as in ``better_pair``.

    The exact solution of the least squares is rounded, and the eight neighbours are tried too.
    """
    q0 = f4(np.int32(min(max((mean - (b + c) * inverse * cross) * scale + HALF, ZERO), most)))
    q1 = f4(np.int32(min(max((mean + (a + b) * inverse * cross) * scale + HALF, ZERO), most)))
    down0, up0, down1, up1 = max(q0 - ONE, ZERO), min(q0 + ONE, most), max(q1 - ONE, ZERO), min(q1 + ONE, most)
    n0, n1, error = better_pair(a, b, c, cross, mean, bits, q0, q1, q0, q1, HUGE)
    n0, n1, error = better_pair(a, b, c, cross, mean, bits, down0, down1, n0, n1, error)
    n0, n1, error = better_pair(a, b, c, cross, mean, bits, down0, q1, n0, n1, error)
    n0, n1, error = better_pair(a, b, c, cross, mean, bits, down0, up1, n0, n1, error)
    n0, n1, error = better_pair(a, b, c, cross, mean, bits, q0, down1, n0, n1, error)
    n0, n1, error = better_pair(a, b, c, cross, mean, bits, q0, up1, n0, n1, error)
    n0, n1, error = better_pair(a, b, c, cross, mean, bits, up0, down1, n0, n1, error)
    n0, n1, error = better_pair(a, b, c, cross, mean, bits, up0, q1, n0, n1, error)
    return better_pair(a, b, c, cross, mean, bits, up0, up1, n0, n1, error)


@step
def solve_channel(W, channel, weight, bits, most):
    """TRY and END of a channel, the best for the indices of ``assign``; the error is added to TOTAL."""
    c, bits = channel & 3, np.int32(bits)
    scale = most / f4(255) if bits < np.int32(8) else ONE
    for i in range(LANES):
        q0, q1, error = quantised_pair(
            W[SOLVE * LANES + i],
            W[(SOLVE + 1) * LANES + i],
            W[(SOLVE + 2) * LANES + i],
            W[(SOLVE + 3) * LANES + i],
            W[(CROSS + c) * LANES + i],
            W[(MEAN + c) * LANES + i],
            bits,
            most,
            scale,
        )
        W[(TRY + c) * LANES + i] = q0
        W[(TRY + 4 + c) * LANES + i] = q1
        W[(END + c) * LANES + i] = widen(q0, bits)
        W[(END + 4 + c) * LANES + i] = widen(q1, bits)
        W[TOTAL * LANES + i] += weight * error


@step
def keep_better(W):
    """Take the tried codes where their error is lower."""
    for r in range(8):
        for i in range(LANES):
            better = W[TOTAL * LANES + i] < W[ERROR * LANES + i]
            W[(CODE + r) * LANES + i] = pick(better, W[(TRY + r) * LANES + i], W[(CODE + r) * LANES + i])
    for i in range(LANES):
        W[ERROR * LANES + i] = min(W[ERROR * LANES + i], W[TOTAL * LANES + i])
