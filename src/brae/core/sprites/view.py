"""What plays frames on a page: where each lies in a picture, how long it is shown, how far an edit moved it."""

from __future__ import annotations

from pydantic import BaseModel

from brae.core.sprites.drift import Drift


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

    def drifted(self, one: Drift) -> None:
        """Say how far the frame of the edit is off the others."""
        self.dx, self.dy = round(one.off[0], 2), round(one.off[1], 2)
        self.sure, self.jumps = one.by.sure, one.jumps


class StepView(BaseModel):
    """A frame of a sequence, and how long it is shown there."""

    frame: int
    ms: int


class RunView(BaseModel):
    """A sequence."""

    name: str
    steps: list[StepView]
    loop: bool
    #: the number of the sequence that follows
    next: int | None = None


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
