"""Which windows of a screenshot pictures explain best, and points that are alike."""

from __future__ import annotations

import numpy as np

from brae.core.compiled import inlined, kernel, step


@kernel
def best_windows(dots, means, powers, masks, area, energy, spread, floor, scores, places):
    """How well each pattern explains each window at its best gain; the best window of each pattern.

    ``dots``: float32 (patterns, windows), sums of weight x pattern x window over pixels and colours. ``means``:
    float32 (3, masks, windows), weighted sums of each colour of the windows. ``powers``: float32 (masks, windows),
    of their squares. ``masks``: int64 (patterns), the mask of each, those of one mask one behind the other.
    ``area``, ``energy``, ``spread``: float32 (patterns), sums of the weights, of the pattern's squares, of those
    about its mean. ``floor``: variance of a window below which it shows nothing. Writes ``scores`` float32
    (patterns), 0 at least, and ``places`` int64 (patterns). See ``explained`` for the measure.
    """
    n, count = dots.shape
    # In steps of which each becomes vectors: several times as fast as the best one sought on the way, or as all of
    # them within one function.
    varies, line = np.empty(count, np.float32), np.empty(count, np.float32)
    keys = line.view(np.int32)
    for k in range(n):
        row = masks[k]
        if k == 0 or row != masks[k - 1]:
            _vary(means[:, row], powers[row], area[k], floor * area[k], varies)
        _explain(dots[k], powers[row], varies, energy[k], spread[k], line)
        place = _largest(keys)
        places[k], scores[k] = place, line[place]


@step
def _vary(means, powers, area, least, out):
    """How much each window varies, seen through a mask: ``least`` at least."""
    for at in range(len(out)):
        total = means[0, at] ** 2 + means[1, at] ** 2 + means[2, at] ** 2
        out[at] = max(powers[at] - total / area, least)


@step
def _explain(dots, powers, varies, energy, spread, out):
    """How well a pattern explains each window, 0 at least."""
    for at in range(len(out)):
        out[at] = max(explained(dots[at], powers[at], varies[at], energy, spread), np.float32(0))


@step
def _largest(keys):
    """Where the largest of floats is, by their bits.

    The largest of floats is not sought in vectors; the bits of those from 0 on are whole numbers in the same order.
    """
    # Not from 0 on: a nought may have a sign, whose bits are less.
    best, none = keys[0], np.int32(2**31 - 1)
    for at in range(len(keys)):
        best = max(best, keys[at])
    place = none
    for at in range(len(keys)):
        place = min(place, np.int32(at) if keys[at] == best else none)
    return place


@kernel
def cut(picture, places, side, out):
    """Windows of a picture, one behind the other.

    ``picture``: float32 (height, width x 3). ``places``: int64 (n, 2), row and column of their top left corners.
    Writes ``out`` float32 (n, side * side * 3).
    """
    line = side * 3
    for k in range(len(places)):
        top, left = places[k, 0], 3 * places[k, 1]
        for row in range(side):
            for at in range(line):
                out[k, row * line + at] = picture[top + row, left + at]


@kernel
def nearest(products, base, scores, places):
    """The largest products of each row, kept beside those of earlier columns.

    ``products``: float32 (n, columns), whose first column has the number ``base``. Changed: ``scores`` float32
    (n, so many), -1 or more and the least of them first, and ``places`` int64 (n, so many), the numbers.
    """
    rows, columns = products.shape
    most = scores.shape[1]
    for row in range(rows):
        least = scores[row, 0]
        for column in range(columns):
            score = products[row, column]
            if score > least:
                at = 0
                while at + 1 < most and scores[row, at + 1] < score:
                    scores[row, at], places[row, at] = scores[row, at + 1], places[row, at + 1]
                    at += 1
                scores[row, at], places[row, at] = score, base + column
                least = scores[row, 0]


@inlined
def explained(dot, power, varies, energy, spread):
    """1 where a window is the pattern times one gain, 0 where only the mean colours agree, else less.

    The gain is what a light does: 0.45 to 1.25.
    """
    # A plain 1 or 2 would make all of it double, and half as fast.
    one, two = np.float32(1), np.float32(2)
    gain = min(max(dot / max(energy, one), np.float32(0.45)), np.float32(1.25))
    rest = power - gain * (two * dot - gain * energy)
    return one - rest / (varies + gain * gain * spread)


@kernel
def settle(patterns, scene, corners, scores):
    """Move the corners of patterns in a scene until each explains best what lies there.

    ``patterns``: float32 (n, side, side, 4), colours and weights. ``scene``: float32 (height, width, 3).
    ``corners``: float64 (n, 8), x and y in pixels of the scene, clockwise from the top left; changed. Writes
    ``scores`` (n).
    """
    moved = np.empty(8)
    for k in range(len(patterns)):
        here = corners[k]
        best = _explains(patterns[k], scene, here)
        length, rounds = 0.14, 0
        while length > 0.008 and rounds < 16:
            rounds += 1
            better = False
            for way in range(16):
                _moved(here, way // 2, length if way % 2 else -length, moved)
                score = _explains(patterns[k], scene, moved)
                if score > best + 1e-4:
                    best = score
                    here[:] = moved
                    better = True
            if not better:
                length *= 0.5
        scores[k] = best


@step
def _moved(corners, way, length, out):
    """A quadrangle shifted, enlarged, turned, stretched, sheared or tilted (two ways) by a share of its size."""
    x = (corners[0] + corners[2] + corners[4] + corners[6]) / 4
    y = (corners[1] + corners[3] + corners[5] + corners[7]) / 4
    size = np.sqrt(
        abs(
            (corners[4] - corners[0]) * (corners[7] - corners[3])
            - (corners[6] - corners[2]) * (corners[5] - corners[1])
        )
        / 2
    )
    for corner in range(4):
        a, b = corners[2 * corner] - x, corners[2 * corner + 1] - y
        right = 1.0 if corner in (1, 2) else -1.0
        below = 1.0 if corner >= 2 else -1.0
        c, d = a, b
        if way == 0:
            c = a + length * size
        elif way == 1:
            d = b + length * size
        elif way == 2:
            c, d = a * (1 + length), b * (1 + length)
        elif way == 3:
            c, d = a - length * b, b + length * a
        elif way == 4:
            c, d = a * (1 + length), b / (1 + length)
        elif way == 5:
            c, d = a + length * b, b + length * a
        elif way == 6:
            c, d = a * (1 + length * below), b * (1 + length * below)
        else:
            c, d = a * (1 + length * right), b * (1 + length * right)
        out[2 * corner], out[2 * corner + 1] = c + x, d + y


@step
def _explains(pattern, scene, corners):
    """``explained`` of what a scene shows within four corners (square to quadrangle: Heckbert 1989); -9 outside."""
    side = len(pattern)
    height, width = scene.shape[0], scene.shape[1]
    x0, y0, x1, y1 = corners[0], corners[1], corners[2], corners[3]
    x2, y2, x3, y3 = corners[4], corners[5], corners[6], corners[7]
    right_x, below_x, all_x = x1 - x2, x3 - x2, x0 - x1 + x2 - x3
    right_y, below_y, all_y = y1 - y2, y3 - y2, y0 - y1 + y2 - y3
    whole = right_x * below_y - below_x * right_y
    if abs(whole) < 1e-6:
        return -9.0
    g = (all_x * below_y - below_x * all_y) / whole
    h = (right_x * all_y - all_x * right_y) / whole
    a, b = x1 - x0 + g * x1, x3 - x0 + h * x3
    d, e = y1 - y0 + g * y1, y3 - y0 + h * y3
    area = energy = dot = power = lost = 0.0
    m0 = m1 = m2 = i0 = i1 = i2 = 0.0
    one = np.uint64(1)
    for row in range(side):
        v = (row + 0.5) / side
        across0, down0, depth0 = b * v + x0, e * v + y0, h * v + 1
        for column in range(side):
            weight = pattern[row, column, 3]
            if weight < 0.02:
                continue
            u = (column + 0.5) / side
            depth = g * u + depth0
            if depth < 0.2:
                return -9.0
            near = 1 / depth
            x = (a * u + across0) * near - 0.5
            y = (d * u + down0) * near - 0.5
            if x < 0 or y < 0 or x > width - 1.001 or y > height - 1.001:
                lost += weight
                continue
            # Indices without a sign: else it is asked of each of the twelve whether it counts from the end.
            whole_x, whole_y = int(x), int(y)
            left, top = np.uint64(whole_x), np.uint64(whole_y)
            across, down = np.float32(x - whole_x), np.float32(y - whole_y)
            q3 = across * down
            q1, q2 = across - q3, down - q3
            q0 = 1 - across - q2
            right, below = left + one, top + one
            s0 = scene[top, left, 0] * q0 + scene[top, right, 0] * q1
            s0 += scene[below, left, 0] * q2 + scene[below, right, 0] * q3
            s1 = scene[top, left, 1] * q0 + scene[top, right, 1] * q1
            s1 += scene[below, left, 1] * q2 + scene[below, right, 1] * q3
            s2 = scene[top, left, 2] * q0 + scene[top, right, 2] * q1
            s2 += scene[below, left, 2] * q2 + scene[below, right, 2] * q3
            o0, o1, o2 = pattern[row, column, 0], pattern[row, column, 1], pattern[row, column, 2]
            area += weight
            energy += weight * (o0 * o0 + o1 * o1 + o2 * o2)
            dot += weight * (o0 * s0 + o1 * s1 + o2 * s2)
            power += weight * (s0 * s0 + s1 * s1 + s2 * s2)
            m0, m1, m2 = m0 + weight * o0, m1 + weight * o1, m2 + weight * o2
            i0, i1, i2 = i0 + weight * s0, i1 + weight * s1, i2 + weight * s2
    if area <= 2 * lost or area < 4:
        return -9.0
    spread = energy - (m0 * m0 + m1 * m1 + m2 * m2) / area
    total = i0 * i0 + i1 * i1 + i2 * i2
    varies = max(power - total / area, 48.0 * area)
    return explained(dot, power, varies, energy, spread)
