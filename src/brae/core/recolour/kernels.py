"""What became of colours, looked up for every pixel.

Pixels are read as numbers of 32 bits: on machines that Numba supports red is the lowest byte, alpha the highest.
"""

from __future__ import annotations

import numpy as np

from brae.core.compiled import kernel, step

_COLOUR, _ALPHA, _KNOWN = np.uint32(0xFFFFFF), np.uint32(0xFF000000), np.uint32(1 << 24)


@step
def _stored(light):
    light = min(max(light, np.float32(0)), np.float32(1))
    if light <= np.float32(0.0031308):
        return light * np.float32(12.92)
    return np.float32(1.055) * light ** np.float32(1 / 2.4) - np.float32(0.055)


@kernel
def to_lab(stored, cones, lab, result):
    """sRGB numbers as Oklab, float32 (n, 3); ``cones`` and ``lab``: the published matrices, float32 (3, 3)."""
    for n in range(len(stored)):
        light = np.empty(3, np.float32)
        for part in range(3):
            value = stored[n, part]
            if value <= np.float32(0.04045):
                light[part] = value / np.float32(12.92)
            else:
                light[part] = ((value + np.float32(0.055)) / np.float32(1.055)) ** np.float32(2.4)
        root = np.empty(3, np.float32)
        for part in range(3):
            root[part] = np.cbrt(cones[part, 0] * light[0] + cones[part, 1] * light[1] + cones[part, 2] * light[2])
        for part in range(3):
            result[n, part] = lab[part, 0] * root[0] + lab[part, 1] * root[1] + lab[part, 2] * root[2]


@step
def _light_of(l, a, b, lab, cones, light):  # noqa: E741
    first = lab[0, 0] * l + lab[0, 1] * a + lab[0, 2] * b
    second = lab[1, 0] * l + lab[1, 1] * a + lab[1, 2] * b
    third = lab[2, 0] * l + lab[2, 1] * a + lab[2, 2] * b
    first, second, third = first * first * first, second * second * second, third * third * third
    fits = True
    for part in range(3):
        light[part] = cones[part, 0] * first + cones[part, 1] * second + cones[part, 2] * third
        fits &= np.float32(-1e-4) <= light[part] <= np.float32(1 + 1e-4)
    return fits


@kernel
def from_lab(lab, back, cones, result):
    """The inverse, by the inverse matrices. What sRGB has not loses colour until it has it, to a thousandth."""
    light = np.empty(3, np.float32)
    for n in range(len(lab)):
        l, a, b = lab[n, 0], lab[n, 1], lab[n, 2]  # noqa: E741
        if not _light_of(l, a, b, back, cones, light):
            l = min(max(l, np.float32(0)), np.float32(1))  # noqa: E741
            least, most = np.float32(0), np.float32(1)
            for _ in range(10):
                middle = (least + most) / np.float32(2)
                if _light_of(l, a * middle, b * middle, back, cones, light):
                    least = middle
                else:
                    most = middle
            _light_of(l, a * least, b * least, back, cones, light)
        for part in range(3):
            result[n, part] = _stored(light[part])


@kernel
def missing_in(pixels, known, keys):
    """The colours of ``pixels`` that ``known`` has not into ``keys`` (uint32, as many as pixels), neighbours once.

    Returns how many there are.
    """
    count, last = 0, _KNOWN
    for n in range(len(pixels)):
        key = pixels[n] & _COLOUR
        if key != last and known[key] == 0:
            keys[count] = key
            count += 1
        last = key
    return count


@kernel
def look_up(pixels, known, result):
    """Writes into ``result`` what ``known`` has for the colours of ``pixels``; alpha stays.

    Both uint32 (n). ``known``: uint32 (1 << 24), the new colour by the old one, plus 1 << 24; 0 where it is not
    known yet. Returns whether there is one that is not.
    """
    all_of_them = _KNOWN
    for n in range(len(pixels)):
        pixel = pixels[n]
        new = known[pixel & _COLOUR]
        all_of_them &= new
        result[n] = (new & _COLOUR) | (pixel & _ALPHA)
    return all_of_them == 0
