"""Frames moved back one by one, or all that jump; what moved is told by what was painted, or by an area."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field

from brae.core.assets.base import ExchangeFile, Query, Viewed
from brae.core.assets.sprite.described import SpriteFile
from brae.core.assets.sprite.looking import as_shown
from brae.core.assets.sprite.matching import OWN_REMEDIES, arranged, as_painted, drifts, painted_back, settled
from brae.core.assets.sprite.sprite import Picture
from brae.core.assets.texture.files import write_image
from brae.core.errors import FormatError, NotFoundError
from brae.core.sprites.drift import MOST, Followed, follow

_Side = Annotated[int, Field(ge=0, le=16_384)]


class AreaQuery(Query):
    """An area of a frame of the edit, in pixels of the canvas."""

    frame: Annotated[int, Field(ge=0, le=10_000)]
    x: _Side
    y: _Side
    width: Annotated[int, Field(ge=1, le=16_384)]
    height: Annotated[int, Field(ge=1, le=16_384)]


class FollowedView(BaseModel):
    """Where the area lies in a frame, and how far it is off the others."""

    frame: int
    x: int
    y: int
    dx: float
    dy: float
    sure: float
    jumps: bool


class Settling(BaseModel):
    """Which frames are moved back: some, or all that jump; by an area where one is given."""

    model_config = ConfigDict(extra="forbid")

    frames: Annotated[str, Field(pattern=r"^(\d{1,5}(,\d{1,5})*)?$", max_length=6000)] = ""
    frame: Annotated[int, Field(ge=0, le=10_000)] = 0
    x: _Side = 0
    y: _Side = 0
    width: _Side = 0
    height: _Side = 0


def followed(viewed: Viewed[SpriteFile], query: AreaQuery, around: object) -> list[FollowedView]:
    """An area of the edit followed through the frames of its sequences."""
    found = _follow(viewed, query.frame, (query.x, query.y, query.width, query.height))
    return [
        FollowedView(
            frame=one.frame, x=one.x, y=one.y, dx=round(one.off[0], 2), dy=round(one.off[1], 2), sure=one.sure,
            jumps=one.jumps,
        )
        for one in found
    ]  # fmt: skip


def _cells(viewed: Viewed[SpriteFile]) -> tuple[Sequence[Picture], list[Picture]]:
    if viewed.edit is None:
        raise NotFoundError("There is no edit whose frames could be moved.")
    shown, version = as_shown(viewed.original, viewed.edit), viewed.version
    if version is not None and set(version.remedies) <= set(OWN_REMEDIES):
        # As the person painted them: colours that the palette has not yet are not lost.
        painted = as_painted(viewed.original, version)
        if len(painted) == len(shown):
            return viewed.original.cells, painted
    return viewed.original.cells, shown


def _follow(viewed: Viewed[SpriteFile], frame: int, box: tuple[int, int, int, int]) -> list[Followed]:
    if viewed.edit is None:
        raise NotFoundError("There is no edit in which an area could be followed.")
    sprite, edit = viewed.original.sprite, viewed.edit.sprite
    before = [sprite.on_canvas(number) for number in range(len(sprite.frames))]
    after = [edit.on_canvas(number, sprite.canvas) for number in range(min(len(before), len(edit.frames)))]
    if len(before) > MOST:
        raise FormatError(f"An area is followed through {MOST} frames at most; this sprite has {len(before):,}.")
    if frame >= len(after):
        raise NotFoundError(f"There is no frame {frame}.", expected=f"0 to {len(after) - 1}")
    try:
        return follow(before[: len(after)], after, frame, box)
    except ValueError as error:
        raise FormatError(f"The area cannot be followed: {error}.", expected="a part of the figure") from error


def _corner(original: SpriteFile, number: int) -> tuple[int, int]:
    """Where a frame as an edit has it lies on the canvas."""
    if original.sheet is None:
        return 0, 0
    frame, canvas = original.sprite.frames[number], original.sprite.canvas
    return frame.x - canvas.left, frame.y - canvas.top


def settle(viewed: Viewed[SpriteFile], query: Settling, given: ExchangeFile | None) -> tuple[ExchangeFile, str]:
    """The edit with frames moved back, as a sheet."""
    before, cells = _cells(viewed)
    wanted = {int(number) for number in query.frames.split(",") if number}
    moved = []
    if query.width and query.height:
        box = (query.width, query.height)
        for one in _follow(viewed, query.frame, (query.x, query.y, *box)):
            if one.frame in wanted or (not wanted and one.jumps):
                right, down = -round(one.off[0]), -round(one.off[1])
                left, top = _corner(viewed.original, one.frame)
                here = (max(one.x - left, 0), max(one.y - top, 0), *box)
                cells[one.frame] = painted_back(before[one.frame], cells[one.frame], right, down, here)
                moved.append(one.frame)
    else:
        for told in drifts(viewed.original, cells):
            if told.frame in wanted or (not wanted and told.jumps):
                cells[told.frame] = settled(before[told.frame], cells[told.frame], told)
                moved.append(told.frame)
    if not moved:
        raise NotFoundError("None of these frames moved.", expected="frames that are off the others")
    words = f"frame {moved[0]}" if len(moved) == 1 else f"{len(moved)} frames"
    return ExchangeFile("settled.png", write_image(arranged(viewed.original, cells))), f"{words} moved back"
