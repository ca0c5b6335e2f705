"""A texture looked at as a sheet of frames: which grid it may have, and how far the frames of an edit moved."""

from __future__ import annotations

from typing import Annotated

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from brae.core.assets.base import Viewed
from brae.core.assets.texture.texture import TextureFile
from brae.core.sprites.drift import MOST, drift
from brae.core.sprites.frames import USUAL, Frame, grid
from brae.core.sprites.gridding import proposed
from brae.core.sprites.view import FramesView, FrameView, RunView, StepView

#: a larger picture is no sheet of frames, and takes long to be looked at
_LARGEST_SHEET = 4096


class SheetQuery(BaseModel):
    """The size of a cell, such as 32x48; without it, the likeliest."""

    model_config = ConfigDict(extra="forbid")

    cell: Annotated[str | None, Field(max_length=11)] = None


class GridView(BaseModel):
    """A grid that a sheet may have: the size of a cell, how many there are, and how well that fits, 0 to 1."""

    cell: str
    count: int
    fit: float


class SheetView(BaseModel):
    """Grids that a sheet may have, and its frames by the one that was chosen; none where there is no grid."""

    grids: list[GridView]
    frames: FramesView | None


def sheet(viewed: Viewed[TextureFile], query: SheetQuery, around: object) -> SheetView:
    """A texture's frames by a grid, and what an edit did to each."""
    head = viewed.original.header
    if head.pictures() > 1 or max(head.sides(0)) > _LARGEST_SHEET:
        return SheetView(grids=[], frames=None)
    picture = viewed.original.shown()
    grids = [GridView(cell=one.words, count=one.count, fit=round(one.fit, 3)) for one in proposed(picture)]
    cell = query.cell or (grids[0].cell if grids else None)
    if cell is None:
        return SheetView(grids=grids, frames=None)
    found = grid(picture, cell)
    frames = [FrameView(x=0, y=0, width=one.width, height=one.height, ms=USUAL) for one in found]
    if viewed.edit is not None and viewed.edit.header.sides(0) == head.sides(0):
        _compare(frames, found, picture, viewed.edit.shown())
    steps = [StepView(frame=number, ms=USUAL) for number in range(len(frames))]
    columns = picture.shape[1] // found[0].width
    runs = [RunView(name="all frames", steps=steps, loop=True)]
    # A sheet has often a sequence in each row.
    rows = range(0, len(frames), columns)
    if 1 < len(rows) <= 64 and columns > 1:
        runs += [RunView(name=f"row {n}", steps=steps[at : at + columns], loop=True) for n, at in enumerate(rows)]
    told = FramesView(
        width=found[0].width, height=found[0].height, columns=columns, sheet_width=picture.shape[1],
        sheet_height=picture.shape[0], frames=frames, sequences=runs,
    )  # fmt: skip
    return SheetView(grids=grids, frames=told)


def _compare(frames: list[FrameView], found: list[Frame], before: np.ndarray, after: np.ndarray) -> None:
    """What an edit did to each frame, and how far those that were painted on are off the others."""
    pairs = [(one.of(before), one.of(after)) for one in found]
    for view, (a, b) in zip(frames, pairs, strict=True):
        view.painted = not np.array_equal(a, b)
    if len(frames) <= MOST and any(view.painted for view in frames):
        for one in drift([a for a, _ in pairs], [b for _, b in pairs]):
            frames[one.frame].drifted(one)
