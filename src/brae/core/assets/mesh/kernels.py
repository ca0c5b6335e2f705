"""Compiled loops over triangles. Numba is slow to import: only when a picture is asked for."""

from __future__ import annotations

from typing import Any

import numpy as np

from brae.core.compiled import kernel


@kernel
def shade(
    places: Any, normals: Any, corners: Any, colours: Any, light: Any, strength: Any, depth: Any, out: Any
) -> None:
    """Draw triangles into ``out`` (height, width, 4; uint8), nearest first by ``depth`` (height, width).

    ``places`` are in pixels, the third number towards one; ``colours`` one a triangle, 0 to 1. ``light``: the
    directions to the light and halfway to the eye; ``strength``: floor, highlight and exponent, as ``lighting`` has
    them. The back of a triangle is lit like its front.
    """
    floor, highlight, exponent = strength[0], strength[1], strength[2]
    height, width = depth.shape
    for t in range(len(corners)):
        a, b, c = corners[t, 0], corners[t, 1], corners[t, 2]
        ax, ay = places[a, 0], places[a, 1]
        bx, by = places[b, 0], places[b, 1]
        cx, cy = places[c, 0], places[c, 1]
        area = (bx - ax) * (cy - ay) - (cx - ax) * (by - ay)
        if area == 0.0:
            continue
        low_x = max(int(np.floor(min(ax, bx, cx))), 0)
        high_x = min(int(np.ceil(max(ax, bx, cx))), width - 1)
        low_y = max(int(np.floor(min(ay, by, cy))), 0)
        high_y = min(int(np.ceil(max(ay, by, cy))), height - 1)
        for y in range(low_y, high_y + 1):
            for x in range(low_x, high_x + 1):
                px, py = x + 0.5, y + 0.5
                one = ((bx - px) * (cy - py) - (cx - px) * (by - py)) / area
                two = ((cx - px) * (ay - py) - (ax - px) * (cy - py)) / area
                three = 1.0 - one - two
                if one < 0.0 or two < 0.0 or three < 0.0:
                    continue
                z = one * places[a, 2] + two * places[b, 2] + three * places[c, 2]
                if z <= depth[y, x]:
                    continue
                depth[y, x] = z
                nx = one * normals[a, 0] + two * normals[b, 0] + three * normals[c, 0]
                ny = one * normals[a, 1] + two * normals[b, 1] + three * normals[c, 1]
                nz = one * normals[a, 2] + two * normals[b, 2] + three * normals[c, 2]
                length = np.sqrt(nx * nx + ny * ny + nz * nz)
                facing = near = 0.0
                if length > 0.0:
                    side = -1.0 / length if nz < 0.0 else 1.0 / length
                    facing = max(side * (nx * light[0, 0] + ny * light[0, 1] + nz * light[0, 2]), 0.0)
                    near = max(side * (nx * light[1, 0] + ny * light[1, 1] + nz * light[1, 2]), 0.0)
                dull = floor + (1.0 - floor) * facing
                shine = highlight * near**exponent if facing > 0.0 and highlight > 0.0 else 0.0
                for k in range(3):
                    out[y, x, k] = min(255.0, (colours[t, k] * dull + shine) * 255.0 + 0.5)
                out[y, x, 3] = 255


@kernel
def joined(pairs: Any, number: int) -> Any:
    """The group of each of ``number`` things, by its first: ``pairs`` (shape (pairs, 2)) belong together."""
    parent = np.arange(number)
    for k in range(len(pairs)):
        a, b = pairs[k, 0], pairs[k, 1]
        while parent[a] != a:
            parent[a] = parent[parent[a]]
            a = parent[a]
        while parent[b] != b:
            parent[b] = parent[parent[b]]
            b = parent[b]
        if a < b:
            parent[b] = a
        else:
            parent[a] = b
    for k in range(number):
        root = k
        while parent[root] != root:
            root = parent[root]
        parent[k] = root
    return parent
