"""What plays frames on a page: where each lies in a picture, how long it is shown, how far an edit moved it."""

from __future__ import annotations

from collections.abc import Sequence
from statistics import median

from pydantic import BaseModel

from brae.core.sprites.drift import SURE, Drift, Shift


class FrameView(BaseModel):
    """A frame: where it lies on the canvas, in pixels, and how long it is shown in milliseconds."""

    x: int
    y: int
    width: int
    height: int
    ms: int
    #: of the edit: whether it was painted on, how far it is off the others, and whether that jumps
    painted: bool = False
    dx: float | None = None
    dy: float | None = None
    sure: float | None = None
    jumps: bool = False


class StepView(BaseModel):
    """A frame of a sequence, and how long it is shown there."""

    frame: int
    ms: int


class RunView(BaseModel):
    """A sequence."""

    name: str
    steps: list[StepView]
    loop: bool


class FramesView(BaseModel):
    """What plays frames: cells of one size, so many side by side, in the order of the frames."""

    width: int
    height: int
    columns: int
    #: the picture that the cells lie in
    sheet_width: int
    sheet_height: int
    #: where the anchor lies in a cell
    anchor_x: int = 0
    anchor_y: int = 0
    frames: list[FrameView]
    sequences: list[RunView]


def usual(shifts: Sequence[Shift]) -> tuple[float, float]:
    """Where most of some frames lie, in pixels to the right and down."""
    sure = [one for one in shifts if one.sure >= SURE]
    if not sure:
        return 0.0, 0.0
    return median(one.dx for one in sure), median(one.dy for one in sure)


def off(one: Drift, whole: tuple[float, float], painted: tuple[float, float]) -> tuple[float, float, bool]:
    """How far a frame is off the others, right and down, and whether all of it is (else what was painted on it)."""
    all_of_it = one.painted is None or one.painted.sure < SURE
    moved = one.whole if one.painted is None or all_of_it else one.painted
    middle = whole if all_of_it else painted
    return moved.dx - middle[0], moved.dy - middle[1], all_of_it
