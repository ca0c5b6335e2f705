"""The colour difference of two pictures, pixel by pixel.

Source: G. Sharma, W. Wu, E. N. Dalal, "The CIEDE2000 Color-Difference Formula" (Color Research and Application 30,
2005); L*a*b* of the D65 white point (CIE 15), sRGB primaries (IEC 61966-2-1).
"""

from __future__ import annotations

import math

import numpy as np

from brae.core.compiled import kernel, step


@step
def lab_root(t):
    """The function of CIE 15 that L*, a* and b* are made of."""
    return t ** (1.0 / 3.0) if t > 216.0 / 24389.0 else (24389.0 / 27.0 * t + 16.0) / 116.0


@step
def lab_of(r, g, b):
    """L*, a*, b* of linear light R, G, B from 0 to 1."""
    x = lab_root((0.4124564 * r + 0.3575761 * g + 0.1804375 * b) / 0.95047)
    y = lab_root(0.2126729 * r + 0.7151522 * g + 0.0721750 * b)
    z = lab_root((0.0193339 * r + 0.1191920 * g + 0.9503041 * b) / 1.08883)
    return 116.0 * y - 16.0, 500.0 * (x - y), 200.0 * (y - z)


@step
def hue_angle(a, b):
    """The hue in radians, 0 to 2 pi; 0 where there is none."""
    if a == 0.0 and b == 0.0:
        return 0.0
    angle = math.atan2(b, a)
    return angle + 2.0 * math.pi if angle < 0.0 else angle


@step
def ciede2000(l1, a1, b1, l2, a2, b2):
    """The difference of two colours in L*, a*, b*."""
    mean_chroma = 0.5 * (math.sqrt(a1 * a1 + b1 * b1) + math.sqrt(a2 * a2 + b2 * b2))
    seventh = mean_chroma**7
    stretch = 1.5 - 0.5 * math.sqrt(seventh / (seventh + 25.0**7))
    a1, a2 = a1 * stretch, a2 * stretch
    c1, c2 = math.sqrt(a1 * a1 + b1 * b1), math.sqrt(a2 * a2 + b2 * b2)
    h1, h2 = hue_angle(a1, b1), hue_angle(a2, b2)
    turn, mean_hue = h2 - h1, h1 + h2
    if c1 * c2 == 0.0:
        turn = 0.0
    else:
        if abs(h1 - h2) > math.pi:
            mean_hue += 2.0 * math.pi if mean_hue < 2.0 * math.pi else -2.0 * math.pi
            turn += -2.0 * math.pi if turn > math.pi else 2.0 * math.pi
        mean_hue *= 0.5
    lightness, chroma, hue = l2 - l1, c2 - c1, 2.0 * math.sqrt(c1 * c2) * math.sin(0.5 * turn)
    mean_l, mean_c = 0.5 * (l1 + l2), 0.5 * (c1 + c2)
    t = 1.0 - 0.17 * math.cos(mean_hue - math.pi / 6.0) + 0.24 * math.cos(2.0 * mean_hue)
    t += 0.32 * math.cos(3.0 * mean_hue + math.pi / 30.0) - 0.20 * math.cos(4.0 * mean_hue - 63.0 * math.pi / 180.0)
    away = (mean_hue * 180.0 / math.pi - 275.0) / 25.0
    seventh = mean_c**7
    rotation = -math.sin(math.pi / 3.0 * math.exp(-away * away)) * 2.0 * math.sqrt(seventh / (seventh + 25.0**7))
    middle = (mean_l - 50.0) * (mean_l - 50.0)
    sl = 1.0 + 0.015 * middle / math.sqrt(20.0 + middle)
    sc, sh = 1.0 + 0.045 * mean_c, 1.0 + 0.015 * mean_c * t
    x, y, z = lightness / sl, chroma / sc, hue / sh
    return math.sqrt(max(x * x + y * y + z * z + rotation * y * z, 0.0))


@kernel
def differences(first, last, one, two, light, out):
    """CIEDE2000 of 8-bit pixels for rows ``first`` to ``last``; ``light``: linear light of the 256 values.

    Pixels that are clear in both count as equal; otherwise alpha is left to others.
    """
    for y in range(first, last):
        for x in range(one.shape[1]):
            out[y, x] = np.float32(0)
            same = True
            for c in range(3):
                same &= one[y, x, c] == two[y, x, c]
            if same or (one[y, x, 3] == 0 and two[y, x, 3] == 0):
                continue
            l1, a1, b1 = lab_of(light[one[y, x, 0]], light[one[y, x, 1]], light[one[y, x, 2]])
            l2, a2, b2 = lab_of(light[two[y, x, 0]], light[two[y, x, 1]], light[two[y, x, 2]])
            out[y, x] = np.float32(ciede2000(l1, a1, b1, l2, a2, b2))


@kernel
def lab_differences(one, two, out):
    """The same for rows of L*, a*, b* (n x 3, float64)."""
    for row in range(out.size):
        out[row] = ciede2000(one[row, 0], one[row, 1], one[row, 2], two[row, 0], two[row, 1], two[row, 2])
