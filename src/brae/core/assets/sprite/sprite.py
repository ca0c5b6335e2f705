"""A sprite: frames that stand on one canvas, how long each is shown, and sequences of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from math import ceil, sqrt
from typing import Any

import numpy as np

Picture = np.ndarray[Any, np.dtype[np.uint8]]
#: of one sprite: what is beyond is taken for damage
MOST_FRAMES, MOST_PIXELS = 10_000, 1 << 27
#: a sheet for an editor is at most so wide
_WIDEST = 4096


@dataclass(frozen=True, eq=False)
class Frame:
    """One frame: its pixels (uint8, height x width x 4), and where its top left corner lies from the anchor."""

    picture: Picture
    x: int = 0
    y: int = 0
    #: milliseconds
    ms: int = 100

    @property
    def width(self) -> int:
        """In pixels."""
        return int(self.picture.shape[1])

    @property
    def height(self) -> int:
        """In pixels."""
        return int(self.picture.shape[0])


@dataclass(frozen=True)
class Step:
    """A frame in a sequence, and how long it is shown there in milliseconds."""

    frame: int
    ms: int


@dataclass(frozen=True)
class Run:
    """Frames that follow each other, by their numbers."""

    name: str
    #: in the order in which they are shown
    steps: tuple[Step, ...]
    loop: bool = True
    #: the number of the sequence that is shown after it
    next: int | None = None


@dataclass(frozen=True)
class Canvas:
    """The rectangle around all frames, seen from the anchor."""

    left: int
    top: int
    width: int
    height: int


@dataclass(frozen=True)
class Sprite:
    """Frames and sequences; every sprite has at least one sequence."""

    frames: tuple[Frame, ...]
    sequences: tuple[Run, ...]

    @cached_property
    def canvas(self) -> Canvas:
        """What every frame fits on when the anchors lie on each other; at least one pixel."""
        left = min((one.x for one in self.frames), default=0)
        top = min((one.y for one in self.frames), default=0)
        right = max((one.x + one.width for one in self.frames), default=1)
        below = max((one.y + one.height for one in self.frames), default=1)
        return Canvas(left, top, max(1, right - left), max(1, below - top))

    def on_canvas(self, number: int, canvas: Canvas | None = None) -> Picture:
        """A frame where it stands on its own or another's canvas, clear around it; what lies beyond is cut off."""
        one, canvas = self.frames[number], canvas or self.canvas
        found = np.zeros((canvas.height, canvas.width, 4), np.uint8)
        x, y = one.x - canvas.left, one.y - canvas.top
        left, top = max(x, 0), max(y, 0)
        right, below = min(x + one.width, canvas.width), min(y + one.height, canvas.height)
        if right > left and below > top:
            found[top:below, left:right] = one.picture[top - y : below - y, left - x : right - x]
        return found

    @property
    def columns(self) -> int:
        """How many cells stand side by side on the sheet for an editor: about a square."""
        canvas, count = self.canvas, max(1, len(self.frames))
        square = ceil(sqrt(count * canvas.height / canvas.width))
        return max(1, min(count, square, _WIDEST // canvas.width))

    def sheet(self) -> Picture:
        """All frames on a sheet, each in a cell of the canvas's size, row by row."""
        return sheet_of([self.on_canvas(number) for number in range(len(self.frames))], self.columns)


def sheet_of(cells: Sequence[Picture], columns: int) -> Picture:
    """Pictures of one size beside and below each other, uint8 (height, width, 4)."""
    height, width = cells[0].shape[:2]
    rows = -(-len(cells) // columns)
    found = np.zeros((rows * height, columns * width, 4), np.uint8)
    for number, cell in enumerate(cells):
        y, x = number // columns * height, number % columns * width
        found[y : y + height, x : x + width] = cell
    return found


def cells_of(sheet: Picture, columns: int, width: int, height: int, count: int) -> list[Picture]:
    """The inverse."""
    places = [(number // columns * height, number % columns * width) for number in range(count)]
    return [np.ascontiguousarray(sheet[y : y + height, x : x + width]) for y, x in places]


def box_of(picture: Picture) -> tuple[int, int, int, int] | None:
    """The rectangle (x, y, right, below) in which something is drawn; None where nothing is."""
    seen = picture[..., 3] > 0
    rows, columns = np.flatnonzero(seen.any(axis=1)), np.flatnonzero(seen.any(axis=0))
    if not len(rows):
        return None
    return int(columns[0]), int(rows[0]), int(columns[-1]) + 1, int(rows[-1]) + 1
