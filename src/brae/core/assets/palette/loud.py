"""Colours by which an entry is known wherever it is drawn: in the game, and to tell which ones a picture uses."""

from __future__ import annotations

import colorsys
from typing import Any

import numpy as np

from brae.core.assets.palette.palette import Entries, PaletteFile
from brae.core.errors import LimitError

#: of a turn: neighbours get hues far apart (the golden angle)
_TURN = 0.381966
#: saturation and value in turns
_LEVELS = ((1.0, 1.0), (0.75, 0.7), (0.5, 1.0), (1.0, 0.55))


def loud(file: PaletteFile) -> Entries:
    """Entries in loud colours, each different from all others once it is stored; alpha is as it was.

    Raises LimitError where the format of an entry has fewer colours than the palette has entries.
    """
    result = file.entries.copy()
    taken: set[tuple[int, ...]] = set()
    number = 0
    for index in range(len(result)):
        while True:
            colour = _colour(number)
            number += 1
            one = np.array([[*colour, result[index, 3]]], np.uint8)
            stored = tuple(file.stored(one)[0, :3].tolist())
            if stored not in taken:
                break
            if number > 16 * len(result) + 65_536:
                raise LimitError(
                    f"{file.part.format} has no {len(result):,} colours that are told apart.",
                    expected="fewer entries",
                )
        taken.add(stored)
        result[index, :3] = stored
    return result


def _colour(number: int) -> tuple[int, int, int]:
    saturation, value = _LEVELS[number % len(_LEVELS)]
    # Rounds through all hues get a little darker, so that no two are the same.
    value -= 0.4 * ((number // 1024) % 16) / 16
    red, green, blue = colorsys.hsv_to_rgb(number * _TURN % 1, saturation, value)
    return round(red * 255), round(green * 255), round(blue * 255)


def used(picture: np.ndarray[Any, Any], entries: Entries) -> set[int]:
    """Which entries a picture, uint8 (height, width, 4), is drawn with that was made with ``loud`` ones."""
    flat = picture.reshape(-1, 4)
    flat = np.unique(flat[flat[:, 3] > 0][:, :3], axis=0)
    index_of = {tuple(entry): index for index, entry in enumerate(entries[:, :3].tolist())}
    return {index_of[colour] for colour in map(tuple, flat.tolist()) if colour in index_of}
