"""Sprites as pictures: one frame, all of them, a sequence that plays; and what a player needs to know."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from PIL import Image
from pydantic import Field

from brae.core.assets.base import NoWords, Preview, Query, Viewed
from brae.core.assets.sprite import matching
from brae.core.assets.sprite.described import SpriteFile
from brae.core.assets.sprite.sprite import Picture, Sprite, sheet_of
from brae.core.assets.texture.files import write_image
from brae.core.errors import NotFoundError
from brae.core.sprites.moving import written
from brae.core.sprites.view import FramesView, FrameView, RunView, StepView


class SpriteQuery(Query):
    """What can be asked of a sprite's preview: a frame, all frames in cells, or a sequence as a moving picture."""

    which: Literal["original", "edit"] = "original"
    view: Literal["frame", "cells", "sheet", "play"] = "frame"
    frame: Annotated[int, Field(ge=0, le=10_000)] = 0
    sequence: Annotated[int, Field(ge=0, le=10_000)] = 0
    #: longest side; larger ones are made smaller by whole numbers, so that pixels stay pixels
    side: Annotated[int, Field(ge=16, le=8192)] = 8192

    @property
    def small(self) -> bool:
        return self.which == "original" and self.view == "frame" and self.side <= 320


def frames_of(viewed: Viewed[SpriteFile], query: NoWords, around: object) -> FramesView:
    """The frames and sequences of the original, and what an edit did to each frame."""
    sprite, canvas = viewed.original.sprite, viewed.original.sprite.canvas
    frames = [
        FrameView(x=one.x - canvas.left, y=one.y - canvas.top, width=one.width, height=one.height, ms=one.ms)
        for one in sprite.frames
    ]
    if viewed.edit is not None and len(viewed.edit.sprite.frames) == len(frames):
        before = viewed.original.cells
        after = as_shown(viewed.original, viewed.edit)
        for view, a, b in zip(frames, before, after, strict=True):
            view.painted = not np.array_equal(a, b)
        for one in matching.drifts(viewed.original, after):
            frames[one.frame].drifted(one)
    runs = [
        RunView(
            name=run.name, steps=[StepView(frame=s.frame, ms=s.ms) for s in run.steps], loop=run.loop, next=run.next
        )
        for run in sprite.sequences
    ]
    return FramesView(
        width=canvas.width, height=canvas.height, columns=sprite.columns,
        sheet_width=sprite.columns * canvas.width,
        sheet_height=-(-len(frames) // sprite.columns) * canvas.height,
        anchor_x=-canvas.left, anchor_y=-canvas.top, frames=frames, sequences=runs,
    )  # fmt: skip


def as_shown(original: SpriteFile, edit: SpriteFile) -> list[Picture]:
    """An edit's frames on the original's canvas; what lies beyond it is cut off."""
    if original.sheet is not None:
        return [one.picture for one in edit.sprite.frames]
    return [edit.sprite.on_canvas(number, original.sprite.canvas) for number in range(len(edit.sprite.frames))]


def shown(viewed: Viewed[SpriteFile], query: SpriteQuery) -> Preview:
    """A preview as a PNG; a sequence as an APNG, which plays by itself."""
    edited = query.which == "edit" and viewed.edit is not None
    file = viewed.edit if edited and viewed.edit is not None else viewed.original
    like = viewed.original.sprite
    cell = {number: file.sprite.on_canvas(number, like.canvas) for number in _wanted(file.sprite, query)}
    if query.view == "play":
        steps = file.sprite.sequences[query.sequence].steps
        pictures = [fitted(cell[step.frame], query.side) for step in steps] or [np.zeros((1, 1, 4), np.uint8)]
        return Preview(written(pictures, [step.ms for step in steps] or [100], ".apng"), "image/png")
    if query.view == "sheet" and file.sheet is not None:
        return Preview(
            write_image(fitted(matching.arranged(file, file.cells), query.side), quick=True), "image/png"
        )
    if query.view in ("cells", "sheet"):
        picture = sheet_of(
            [cell[number] for number in sorted(cell)] or [np.zeros((1, 1, 4), np.uint8)], like.columns
        )
    else:
        picture = cell[query.frame]
    return Preview(write_image(fitted(picture, query.side), quick=True), "image/png")


def _wanted(sprite: Sprite, query: SpriteQuery) -> list[int]:
    """The frames that a view shows. Raises NotFoundError for one that there is not."""
    if query.view in ("cells", "sheet"):
        return list(range(len(sprite.frames)))
    if query.view == "play":
        if query.sequence >= len(sprite.sequences):
            raise NotFoundError(
                f"There is no sequence {query.sequence}.", expected=f"0 to {len(sprite.sequences) - 1}"
            )
        return sorted({step.frame for step in sprite.sequences[query.sequence].steps})
    if query.frame >= len(sprite.frames):
        raise NotFoundError(f"There is no frame {query.frame}.", expected=f"0 to {len(sprite.frames) - 1}")
    return [query.frame]


def fitted(picture: Picture, side: int) -> Picture:
    """A picture whose longer side is at most ``side``: smaller by a whole number, each pixel the mean of those."""
    by = -(-max(picture.shape[:2]) // side)
    if by <= 1:
        return picture
    width, height = max(1, picture.shape[1] // by), max(1, picture.shape[0] // by)
    return np.asarray(Image.fromarray(picture).resize((width, height), Image.Resampling.BOX))
