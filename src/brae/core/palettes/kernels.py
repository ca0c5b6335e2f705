"""The nearest colour of a palette, and the error of each pixel passed on to its neighbours."""

from __future__ import annotations

import numpy as np

from brae.core.compiled import kernel


@kernel
def diffuse(points, entries, plain, nearest):
    """Error diffusion from left to right and back (R. Floyd and L. Steinberg, 1976: 7, 3, 5 and 1 sixteenths).

    ``points``: float32 (height, width, 3), changed. ``entries``: float32 (count, 3). ``plain``: bool (height,
    width), pixels that take no part: they neither pass anything on nor get it. ``nearest``: int64 (height, width),
    gets the entry of each other pixel.
    """
    height, width = plain.shape
    for y in range(height):
        forward = y % 2 == 0
        step = 1 if forward else -1
        for column in range(width):
            x = column if forward else width - 1 - column
            if plain[y, x]:
                continue
            best, least = 0, np.float32(np.inf)
            for entry in range(len(entries)):
                a = points[y, x, 0] - entries[entry, 0]
                b = points[y, x, 1] - entries[entry, 1]
                c = points[y, x, 2] - entries[entry, 2]
                apart = a * a + b * b + c * c
                if apart < least:
                    best, least = entry, apart
            nearest[y, x] = best
            for part in range(3):
                error = (points[y, x, part] - entries[best, part]) / np.float32(16)
                for dy, dx, share in ((0, step, 7), (1, -step, 3), (1, 0, 5), (1, step, 1)):
                    row, other = y + dy, x + dx
                    if row < height and 0 <= other < width and not plain[row, other]:
                        points[row, other, part] += error * np.float32(share)


@kernel
def nearest_of(points, entries, order, found, apart):
    """Each point's nearest entry, the first of several, and the square of how far it is.

    ``points``: float32 (n, 3). ``entries``: float32 (count, 3), in the order of their first coordinate; ``order``:
    int64, what number each of them has. Writes ``found`` int64 (n) and ``apart`` float32 (n). From the point's own
    place entries are tried outwards, until the first coordinate alone is further away than the best.
    """
    count = len(entries)
    for n in range(len(points)):
        x, y, z = points[n, 0], points[n, 1], points[n, 2]
        low, high = 0, count
        while low < high:
            middle = (low + high) // 2
            if entries[middle, 0] < x:
                low = middle + 1
            else:
                high = middle
        down, up = low - 1, low
        best, least = count, np.float32(np.inf)
        while down >= 0 or up < count:
            if down >= 0:
                a = x - entries[down, 0]
                if a * a > least:
                    down = -1
                else:
                    b, c = y - entries[down, 1], z - entries[down, 2]
                    distance = a * a + b * b + c * c
                    if distance < least or (distance == least and order[down] < best):
                        best, least = order[down], distance
                    down -= 1
            if up < count:
                a = entries[up, 0] - x
                if a * a > least:
                    up = count
                else:
                    b, c = y - entries[up, 1], z - entries[up, 2]
                    distance = a * a + b * b + c * c
                    if distance < least or (distance == least and order[up] < best):
                        best, least = order[up], distance
                    up += 1
        found[n] = best
        apart[n] = least
