"""The part of a sprite: its frames, cut out of one picture or stored each by itself, and its sequences."""

from __future__ import annotations

from functools import cached_property
from typing import Annotated, Literal

from pydantic import Field, model_validator

from brae.core.layouts import expressions
from brae.core.layouts.fields import Column, Expression, Hidden, Name, Strict
from brae.core.layouts.pixels import PaletteOf
from brae.core.layouts.records import Fact, Records

#: what a field of a frame's record, or of the head in front of its data, can be
FRAME_ROLES = (
    "frame-x", "frame-y", "frame-width", "frame-height", "frame-turned", "canvas-x", "canvas-y", "anchor-x",
    "anchor-y", "duration", "offset", "stored-size",
)  # fmt: skip
Width = Literal["u8", "u16", "u32"]


class Grid(Strict):
    """Cells of one size, row by row."""

    columns: Expression
    rows: Expression
    width: Expression = Field(description="pixels of a cell")
    height: Expression
    count: Expression | None = Field(None, description="how many of the cells are frames; without it, all")
    margin: Annotated[int, Field(ge=0, le=4096)] = Field(0, description="pixels around all cells")
    spacing: Annotated[int, Field(ge=0, le=4096)] = Field(0, description="pixels between cells")


class Code(Strict):
    """What control bytes ``from`` to ``to`` say: how many pixels, as a sum over ``code`` (and ``next``)."""

    first: Annotated[int, Field(alias="from", ge=0, le=255)]
    to: Annotated[int, Field(ge=0, le=255)] | None = Field(None, description="without it, that byte alone")
    skip: Expression | None = Field(None, description="so many pixels are not drawn")
    copy_: Expression | None = Field(None, alias="copy", description="so many pixels follow")
    fill: Expression | None = Field(None, description="one pixel follows, and is drawn so many times")
    end: Literal["row", "frame"] | None = Field(None, description="here a row ends, or all of the frame")
    next: Literal["u8", "u16"] | None = Field(None, description="a number behind the code, 'next' in the sums")

    @property
    def last(self) -> int:
        """The last byte that says so."""
        return self.first if self.to is None else self.to

    @property
    def count(self) -> Expression | None:
        """How many pixels."""
        return next((one for one in (self.skip, self.copy_, self.fill) if one is not None), None)

    @model_validator(mode="after")
    def _one(self) -> Code:
        said = [one for one in (self.skip, self.copy_, self.fill, self.end) if one is not None]
        if len(said) != 1:
            raise ValueError("a code does one of skip, copy, fill and end")
        if self.last < self.first:
            raise ValueError(f"codes go from {self.first} up to {self.last}")
        known = {"code"} | ({"next"} if self.next is not None else set())
        missing = expressions.field_names(self.count) - known if self.count is not None else set()
        if missing:
            raise ValueError(f"'{sorted(missing)[0]}' is no number of a code; {', '.join(sorted(known))} are")
        for code in {self.first, self.last}:
            counts = [self.pixels(code, behind) for behind in (0, 1, 2)]
            if counts[0] < 0 or counts[1] - counts[0] not in (0, 1) or counts[2] - counts[1] not in (0, 1):
                raise ValueError(
                    f"code {code} counts {counts[0]} pixels: a sum of 0 or more, with 'next' added once"
                )
        return self

    def pixels(self, code: int, behind: int = 0) -> int:
        """How many pixels a control byte means, with that number behind it."""
        return 0 if self.count is None else expressions.evaluate(self.count, {"code": code, "next": behind})


class Runs(Strict):
    """Frames stored run by run: a control byte, then what it says; pixels that are not drawn take none."""

    codes: Annotated[list[Code], Field(min_length=1, max_length=64)]
    row_length: Width | None = Field(None, description="before each row: its bytes")
    row_length_counts: bool = Field(False, description="that number counts itself")
    row_offsets: Width | None = Field(
        None,
        description="before all rows: where each begins, from the beginning of the frame's data (behind 'head')",
    )

    @model_validator(mode="after")
    def _sound(self) -> Runs:
        seen: set[int] = set()
        for one in self.codes:
            own = set(range(one.first, one.last + 1))
            if own & seen:
                raise ValueError(f"code {min(own & seen)} is said twice")
            seen |= own
        if not any(one.copy_ is not None for one in self.codes):
            raise ValueError("runs need a code that copies pixels")
        if self.row_length is not None and self.row_offsets is not None:
            raise ValueError("rows have a length each, or an offset each")
        return self

    @property
    def by_rows(self) -> bool:
        """Whether no run goes on in the next row."""
        ends = any(one.end == "row" for one in self.codes)
        return ends or self.row_length is not None or self.row_offsets is not None


Direction = Literal["forward", "backward", "there and back"]


def _usual_directions() -> dict[int, Direction]:
    return {0: "forward", 1: "backward", 2: "there and back"}


class Sequences(Strict):
    """The table of a sprite's sequences: frames that follow each other, or steps of a table of their own."""

    of: Name = Field(
        description="roles first-frame and frame-count (or first-step and step-count), name, loop, direction, "
        "next-sequence"
    )
    directions: dict[int, Direction] = Field(
        default_factory=_usual_directions,
        description="what the numbers of a field with the role direction mean",
    )
    steps: Name | None = Field(None, description="the table of steps: role frame, and duration")


class FramesPart(Hidden):
    """A sprite's frames: rectangles of a picture (``sheet``), or pixels stored for each by itself."""

    frames: Name
    of: Name | None = Field(None, description="the table whose records are the frames")
    grid: Grid | None = Field(None, description="instead: cells of one size")
    sheet: Name | None = Field(None, description="the part 'pixels' that the frames are cut out of")
    turned: Literal["left", "right"] = Field(
        "right", description="how frames whose role frame-turned is not 0 are turned in the sheet, by 90 degrees"
    )
    base: Expression = Field(0, description="what the frames' offsets are counted from")
    size: Expression | None = Field(None, description="bytes of all frames; without it, to the end of the file")
    head: Annotated[list[Column], Field(max_length=50)] = Field(
        default_factory=list, description="a record in front of each frame's pixels"
    )
    facts: dict[Name, Fact] = Field(
        default_factory=dict,
        description="what is so for all frames: format, width, height, duration, anchor_x, anchor_y",
    )
    palette: PaletteOf | None = Field(None, description="colours of palette indices")
    runs: Runs | None = Field(None, description="how pixels are stored, if not one after the other")
    over: Literal["nothing", "frame before"] = Field(
        "nothing", description="what is seen where a frame draws nothing"
    )
    tick: Annotated[float, Field(gt=0, le=10_000)] = Field(
        1.0, description="milliseconds that a duration of 1 stands for"
    )
    sequences: Sequences | None = None

    @property
    def name(self) -> str:
        return self.frames

    @cached_property
    def heads(self) -> Records | None:
        """What stands in front of each frame's pixels, as records."""
        return Records(record=self.head) if self.head else None

    @property
    def own(self) -> bool:
        """Whether the frames' pixels lie in this part."""
        return self.sheet is None

    @model_validator(mode="after")
    def _sound(self) -> FramesPart:
        if (self.of is None) == (self.grid is None):
            raise ValueError("frames are told 'of' a table, or by a 'grid'")
        if self.grid is not None and self.sheet is None:
            raise ValueError("a 'grid' divides a 'sheet'")
        if self.sheet is not None:
            for key in ("head", "runs", "palette", "size"):
                if getattr(self, key):
                    raise ValueError(f"'{key}' is for frames that are stored each by itself; these have a 'sheet'")
        elif "format" not in self.facts:
            raise ValueError("frames that are stored each by itself need the fact 'format'")
        if odd := sorted(set(self.facts) - FACTS):
            raise ValueError(f"'{odd[0]}' is nothing of all frames; {', '.join(sorted(FACTS))} are")
        for column in self.head:
            if column.bits or not column.width or column.role not in (None, *FRAME_ROLES):
                raise ValueError(f"'{column.field}' stands in front of a frame: a number of a fixed size")
        return self


FACTS = {"format", "width", "height", "duration", "anchor_x", "anchor_y"}


def check_frames(part: FramesPart, table: Records | None, sequences: Records | None, steps: Records | None) -> None:
    """What frames are made of has to be said by something. Raises ValueError."""
    roles = {str(leaf.meant.role) for leaf in (table.leaves if table else ()) if leaf.meant.role}
    roles |= {str(column.role) for column in part.head if column.role}
    if part.own:
        for axis in ("width", "height"):
            if f"frame-{axis}" not in roles and axis not in part.facts:
                raise ValueError(f"'{part.name}' needs the role frame-{axis}, or the fact {axis}")
    elif part.of is not None:
        for role in ("frame-x", "frame-y", "frame-width", "frame-height"):
            if role not in roles:
                raise ValueError(f"the frames of '{part.of}' are rectangles, and need the role {role}")
    if sequences is not None:
        pair = ("first-step", "step-count") if steps is not None else ("first-frame", "frame-count")
        if sequences.column(pair[1]) is None:
            raise ValueError(f"the table of sequences needs the role {pair[1]}")
    if steps is not None and steps.column("frame") is None:
        raise ValueError("the table of steps needs the role frame")
