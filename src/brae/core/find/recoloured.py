"""How much of an area a picture explains whose hue was turned and whose brightness was changed as a whole.

In HSV, and in what image editors do by it, a turn of the hue leaves the largest and the smallest of the three
colours of a pixel as they are, and a change of the brightness multiplies both until they reach 255. Where the
picture is clear, one colour is seen that nobody knows beforehand: the one that leaves least unexplained is taken.
"""

from __future__ import annotations

import numpy as np

from brae.core.compiled import kernel, step

#: brightness is looked for from half to twice, then around the best in ever smaller steps (octaves)
_COARSE, _ROUNDS = 1 / 3, 4
#: what the colours count beside the largest and the smallest
_COLOURS = 0.3


@kernel
def explained_by(patterns, areas, turned, scores):
    """What each picture explains of each area: 1 is all of it, 0 no more than one colour would.

    ``patterns``: float32 (n, side, side, 4), colours from 0 to 255 and alpha from 0 to 1. ``areas``: float32
    (m, side, side, 3). ``turned``: float32, what half of the largest turn of the hue takes away. Writes ``scores``
    float32 (n, m).
    """
    side = patterns.shape[1]
    pixels = side * side
    own = np.empty((pixels, 5), np.float32)
    seen = np.empty((pixels, 4), np.float32)
    for m in range(len(areas)):
        for at in range(pixels):
            _told(areas[m, at // side, at % side], seen[at])
        total = _varies(seen)
        for n in range(len(patterns)):
            for at in range(pixels):
                pixel = patterns[n, at // side, at % side]
                _told(pixel, own[at])
                own[at, 4] = pixel[3]
            scores[n, m] = _explained(own, seen, total, turned)


@step
def _told(pixel, out):
    """The largest and the smallest colour, and the colour as a complex number (the hexagon of HSV)."""
    red, green, blue = pixel[0], pixel[1], pixel[2]
    out[0] = max(red, green, blue)
    out[1] = min(red, green, blue)
    out[2] = red - np.float32(0.5) * (green + blue)
    out[3] = np.float32(0.8660254) * (green - blue)


@step
def _varies(seen):
    """The sum of squares about the mean."""
    total = 0.0
    for plane in range(4):
        mean = seen[:, plane].mean()
        total += (_COLOURS if plane > 1 else 1.0) * ((seen[:, plane] - mean) ** 2).sum()
    return max(total, 1e-3)


@step
def _explained(own, seen, total, turned):
    best, gain = np.inf, 1.0
    for number in range(-3, 4):
        tried = 2.0 ** (_COARSE * number)
        rest = _rest(own, seen, tried)
        if rest < best:
            best, gain = rest, tried
    length = _COARSE / 2
    for _ in range(_ROUNDS):
        for tried in (gain * 2.0**-length, gain * 2.0**length):
            rest = _rest(own, seen, tried)
            if rest < best:
                best, gain = rest, tried
        length /= 2
    left, turn = _colours(own, seen, gain)
    return 1 - (best + _COLOURS * left) / total - turned * (1 - turn)


@step
def _rest(own, seen, gain):
    """What is left of the largest and the smallest, over the background with which that is least."""
    left = 0.0
    for plane in range(2):
        cross = power = clear = 0.0
        for at in range(len(own)):
            alpha = own[at, 4]
            less = seen[at, plane] - min(255.0, gain * own[at, plane]) * alpha
            power += less * less
            cross += less * (1 - alpha)
            clear += (1 - alpha) * (1 - alpha)
        behind = min(max(cross / clear, 0.0), 255.0) if clear > 1 else 0.0
        left += power - 2 * behind * cross + behind * behind * clear
    return left


@step
def _colours(own, seen, gain):
    """What one turn of the hue leaves of the colours, and the cosine of that turn."""
    back_a = back_b = clear = 0.0
    for at in range(len(own)):
        share = max(0.0, 1 - 4 * own[at, 4])
        back_a += seen[at, 2] * share
        back_b += seen[at, 3] * share
        clear += share
    if clear > 1:
        back_a, back_b = back_a / clear, back_b / clear
    along = across = its = mine = 0.0
    for at in range(len(own)):
        alpha = own[at, 4]
        length = own[at, 0] - own[at, 1]
        # What is brightened beyond 255 loses its colour.
        shown = min(255.0, gain * own[at, 0]) - min(255.0, gain * own[at, 1])
        scale = alpha * shown / length if length > 0.5 else 0.0
        a, b = own[at, 2] * scale, own[at, 3] * scale
        c, d = seen[at, 2] - back_a * (1 - alpha), seen[at, 3] - back_b * (1 - alpha)
        along += a * c + b * d
        across += a * d - b * c
        mine += a * a + b * b
        its += c * c + d * d
    dot = np.sqrt(along * along + across * across)
    return max(its + mine - 2 * dot, 0.0), (along / dot if dot > 1e-3 else 1.0)
