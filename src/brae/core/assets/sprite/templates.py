"""One sprite as the template of another: its frames laid over the other's, anchor on anchor."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from brae.core.assets.sprite.described import SpriteFile
from brae.core.assets.sprite.sprite import Canvas, Picture

By = Literal["number", "name"]


@dataclass(frozen=True, eq=False)
class Laid:
    """The frames of a sprite as an edit has them, those of a template among them."""

    cells: tuple[Picture, ...]
    #: frames that the template has not, which keep the original's picture
    missing: tuple[int, ...]
    #: frames on which the template's does not fit, so that something of it is cut off
    cut: tuple[int, ...]


def laid(original: SpriteFile, template: SpriteFile, by: By = "number") -> Laid:
    """A template's frames in the places of a sprite's: by their numbers, or by their sequences' names and steps."""
    source = _by_name(original, template) if by == "name" else _by_number(original, template)
    cells, missing, cut = list(original.cells), [], []
    for number, frame in enumerate(original.sprite.frames):
        if number not in source:
            missing.append(number)
            continue
        canvas = (
            Canvas(frame.x, frame.y, frame.width, frame.height)
            if original.sheet is not None
            else original.sprite.canvas
        )
        if not canvas.width or not canvas.height:
            missing.append(number)
            continue
        made = template.sprite.on_canvas(source[number], canvas)
        there = template.sprite.frames[source[number]].picture
        if int(np.count_nonzero(there[..., 3])) > int(np.count_nonzero(made[..., 3])):
            cut.append(number)
        cells[number] = made
    return Laid(tuple(cells), tuple(missing), tuple(cut))


def _by_number(original: SpriteFile, template: SpriteFile) -> dict[int, int]:
    return {number: number for number in range(min(len(original.sprite.frames), len(template.sprite.frames)))}


def _by_name(original: SpriteFile, template: SpriteFile) -> dict[int, int]:
    named = {run.name.casefold(): run for run in reversed(template.sprite.sequences)}
    found: dict[int, int] = {}
    for run in original.sprite.sequences:
        other = named.get(run.name.casefold())
        if other is not None:
            for mine, its in zip(run.steps, other.steps, strict=False):
                found.setdefault(mine.frame, its.frame)
    return found
