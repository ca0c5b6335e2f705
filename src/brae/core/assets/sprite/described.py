"""Sprites by their layouts: from a file to frames, and back with those that changed."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np

from brae.core.assets.base import Fetch
from brae.core.assets.facts import Value
from brae.core.assets.sprite.runs import Coding, Mask, Raw
from brae.core.assets.sprite.sprite import MOST_FRAMES, MOST_PIXELS, Frame, Picture, Run, Sprite, Step
from brae.core.assets.texture import described as textures
from brae.core.assets.texture import formats
from brae.core.assets.texture.formats import Indexed, PixelFormat
from brae.core.assets.texture.texture import TextureFile
from brae.core.errors import FormatError, LimitError, TruncatedError
from brae.core.layouts.directory import record_names
from brae.core.layouts.expressions import evaluate
from brae.core.layouts.fields import Leaf
from brae.core.layouts.frames import FramesPart, Sequences
from brae.core.layouts.model import Layout
from brae.core.layouts.parts import TablePart
from brae.core.layouts.read import Parsed, parse
from brae.core.layouts.records import Records
from brae.core.layouts.rows import Rows, rows_of
from brae.core.sources import MAIN, BytesSource

#: of one sprite: what is beyond is taken for damage
MOST_STEPS = 100_000
#: milliseconds of a frame of which nothing is said
_USUAL = 100
Ints = np.ndarray[Any, np.dtype[np.int64]]


@dataclass(frozen=True, eq=False)
class Stored:
    """Where a frame's data lie in the part's bytes (``start`` to ``end``), and what they hold."""

    start: int
    #: behind the record in front of the pixels
    pixels: int
    end: int
    #: the pixels as they are stored, and which of them are drawn
    raw: Raw
    drawn: Mask


@dataclass(frozen=True, eq=False)
class SpriteFile:
    """A sprite's file as it was read."""

    layout: Layout
    name: str
    sprite: Sprite
    size: int
    parsed: Parsed
    fetch: Fetch
    #: the picture that the frames are cut out of, and where each lies in it (x, y, width, height, turned)
    sheet: TextureFile | None = None
    places: tuple[tuple[int, int, int, int, bool], ...] = ()
    #: else: what is stored of each frame, and the format of its pixels
    stored: tuple[Stored, ...] = ()
    format: PixelFormat | None = None

    @property
    def part(self) -> FramesPart:
        """What the layout says of the frames."""
        return self.layout.only(FramesPart)  # type: ignore[no-any-return]

    @cached_property
    def cells(self) -> list[Picture]:
        """The frames as an edit has them: on the canvas, or as they lie in the sheet; not to be painted on."""
        if self.sheet is not None:
            return [one.picture for one in self.sprite.frames]
        return [self.sprite.on_canvas(number) for number in range(len(self.sprite.frames))]

    @property
    def palette(self) -> np.ndarray[Any, np.dtype[np.uint8]] | None:
        """The colours of its indices (n x 4); None where it has none."""
        own = self.sheet.header.format if self.sheet is not None else self.format
        own = getattr(own, "inner", own)
        return own.palette if isinstance(own, Indexed) else None

    def can_say(self, role: str) -> bool:
        """Whether each frame has a field of its own for something."""
        return Columns(self.parsed, self.part, None).find(role) is not None


def read(layout: Layout, data: bytes, name: str, fetch: Fetch) -> SpriteFile:
    """A sprite by its layout. Raises one of Brae's errors where the file cannot be one."""
    parsed = parse(layout, {MAIN: BytesSource(data)})
    part: FramesPart = layout.only(FramesPart)
    if part.own:
        return _read_own(layout, data, name, fetch, parsed, part)
    sheet = textures.read(layout, data, name, fetch)
    picture = formats.as_precision(sheet.picture(), "8")
    places = _grid(parsed, part) if part.grid is not None else _rectangles(parsed, part)
    for number, (x, y, width, height, turned) in enumerate(places):
        w, h = (height, width) if turned else (width, height)
        if x < 0 or y < 0 or x + w > picture.shape[1] or y + h > picture.shape[0]:
            raise FormatError(
                f"Frame {number} ends outside the sheet of {picture.shape[1]} x {picture.shape[0]} pixels.",
                expected=f"at most {picture.shape[1]} x {picture.shape[0]}",
            )
    _check_pixels(sum(width * height for _, _, width, height, _ in places))
    columns = Columns(parsed, part, None)
    frames = _framed([cut(picture, place, part.turned) for place in places], columns, part)
    sprite = _bounded(Sprite(frames, _sequences(parsed, part, frames)))
    return SpriteFile(layout, name, sprite, len(data), parsed, fetch, sheet, tuple(places))


def _check_pixels(pixels: int) -> None:
    if pixels > MOST_PIXELS:
        raise LimitError("The frames have more pixels than a sprite has.", expected=f"at most {MOST_PIXELS:,}")


def _bounded(sprite: Sprite) -> Sprite:
    """A sprite whose frames, each on the canvas of all, can be held in memory. Raises LimitError for others."""
    canvas = sprite.canvas
    if canvas.width * canvas.height * len(sprite.frames) > MOST_PIXELS:
        raise LimitError(
            f"The frames' anchors lie so far apart that each needs {canvas.width:,} x {canvas.height:,} pixels.",
            expected=f"at most {MOST_PIXELS:,} pixels for {len(sprite.frames):,} frames",
        )
    return sprite


def cut(picture: Picture, place: tuple[int, int, int, int, bool], way: str) -> Picture:
    """A frame out of a sheet, upright."""
    x, y, width, height, turned = place
    if not turned:
        return np.ascontiguousarray(picture[y : y + height, x : x + width])
    return np.ascontiguousarray(np.rot90(picture[y : y + width, x : x + height], 1 if way == "right" else -1))


def paste(picture: Picture, place: tuple[int, int, int, int, bool], way: str, frame: Picture) -> None:
    """The inverse, into a sheet."""
    x, y, width, height, turned = place
    if not turned:
        picture[y : y + height, x : x + width] = frame
    else:
        picture[y : y + width, x : x + height] = np.rot90(frame, -1 if way == "right" else 1)


class Columns:
    """What the records of frames say, and the records in front of their pixels; else what is so for all."""

    def __init__(self, parsed: Parsed, part: FramesPart, heads: Rows | None) -> None:
        self.parsed, self.part, self.heads = parsed, part, heads
        table = parsed.regions[part.of].part if part.of is not None else None
        self.table = table if isinstance(table, TablePart) else None

    def find(self, role: str) -> tuple[Records, Leaf] | None:
        """The records that have a field for a role, and that field: the table's first."""
        for records in (self.table, self.part.heads):
            leaf = records.column(role) if records is not None else None
            if records is not None and leaf is not None:
                return records, leaf
        return None

    def numbers(self, role: str, count: int, usual: int | None = None) -> Ints:
        """A number for each frame; FormatError where neither a field nor a fact says it and nothing is usual."""
        found = self.find(role)
        if found is not None:
            records, leaf = found
            if records is self.table:
                assert self.part.of is not None
                return self.parsed.tables[self.part.of].numbers(leaf.field)[:count]
            if self.heads is not None:
                return self.heads.numbers(leaf.field)
        fact = role.removeprefix("frame-").replace("-", "_")
        value = textures.value_of(self.parsed, fact, self.part.facts[fact]) if fact in self.part.facts else usual
        if value is None or isinstance(value, str):
            raise FormatError(f"The layout says no {role} of these frames.")
        return np.full(count, int(value), np.int64)


def _count_of(parsed: Parsed, part: FramesPart) -> int:
    assert part.of is not None
    count = len(parsed.tables[part.of])
    if count > MOST_FRAMES:
        raise LimitError(f"{count:,} frames are more than a sprite has.", expected=f"at most {MOST_FRAMES:,}")
    return count


def _grid(parsed: Parsed, part: FramesPart) -> list[tuple[int, int, int, int, bool]]:
    assert part.grid is not None
    grid = part.grid
    columns, rows, width, height = (
        evaluate(one, parsed.values) for one in (grid.columns, grid.rows, grid.width, grid.height)
    )
    count = columns * rows if grid.count is None else evaluate(grid.count, parsed.values)
    if min(columns, rows, width, height) < 1 or not 0 <= count <= columns * rows:
        raise FormatError(f"A grid of {columns} x {rows} cells of {width} x {height} has no {count} frames.")
    if count > MOST_FRAMES:
        raise LimitError(f"{count:,} frames are more than a sprite has.", expected=f"at most {MOST_FRAMES:,}")
    places = ((number % columns, number // columns) for number in range(count))
    return [
        (grid.margin + x * (width + grid.spacing), grid.margin + y * (height + grid.spacing), width, height, False)
        for x, y in places
    ]


def _rectangles(parsed: Parsed, part: FramesPart) -> list[tuple[int, int, int, int, bool]]:
    count = _count_of(parsed, part)
    columns = Columns(parsed, part, None)
    roles = ("frame-x", "frame-y", "frame-width", "frame-height")
    x, y, width, height = (columns.numbers(role, count) for role in roles)
    turned = columns.numbers("frame-turned", count, 0) != 0
    return list(zip(x.tolist(), y.tolist(), width.tolist(), height.tolist(), turned.tolist(), strict=True))


def _framed(pictures: Sequence[Picture], columns: Columns, part: FramesPart) -> tuple[Frame, ...]:
    count = len(pictures)
    if part.grid is not None:
        x = y = np.zeros(count, np.int64)
    else:
        x = columns.numbers("canvas-x", count, 0) - columns.numbers("anchor-x", count, 0)
        y = columns.numbers("canvas-y", count, 0) - columns.numbers("anchor-y", count, 0)
    times = columns.numbers("duration", count, -1)
    return tuple(
        Frame(picture, int(left), int(top), _milliseconds(int(ms), part))
        for picture, left, top, ms in zip(pictures, x, y, times, strict=True)
    )


def _milliseconds(stored: int, part: FramesPart) -> int:
    return _USUAL if stored < 0 else min(max(1, round(stored * part.tick)), 655_350)


def _sequences(parsed: Parsed, part: FramesPart, frames: Sequence[Frame]) -> tuple[Run, ...]:
    """The sequences that the file tells; else all frames in order."""
    if part.sequences is None:
        return (Run("all frames", tuple(Step(number, one.ms) for number, one in enumerate(frames))),)
    told: Sequences = part.sequences
    table = parsed.tables[told.of]
    records = parsed.regions[told.of].part
    assert isinstance(records, TablePart)
    named = records.column("name") is not None
    names = record_names(parsed, records, table, ()) if named else [f"sequence {n}" for n in range(len(table))]
    first_role, count_role = ("first-step", "step-count") if told.steps else ("first-frame", "frame-count")
    counts = _of(records, table, count_role, None)
    firsts = _of(records, table, first_role, None) if records.column(first_role) else np.cumsum(counts) - counts
    loops = _of(records, table, "loop", 1) != 0
    times = _of(records, table, "duration", -1)
    ways, after = _of(records, table, "direction", 0), _of(records, table, "next-sequence", -1)
    directed = records.column("direction") is not None
    steps, own = _steps(parsed, told, len(frames))
    if counts.sum() > MOST_STEPS or (len(counts) and counts.min() < 0):
        raise LimitError(f"The sequences of {told.of} have {int(counts.sum()):,} steps.", expected="0 to 100,000")
    found = []
    for number, name in enumerate(names):
        first, last = int(firsts[number]), int(firsts[number] + counts[number])
        if first < 0 or last > len(steps):
            raise FormatError(
                f"The sequence '{name}' goes from {first} to {last - 1}, and there are {len(steps)}.",
                offset=parsed.place(told.of, table.start(number)),
            )
        each = []
        for place in range(first, last):
            frame = int(steps[place])
            if not 0 <= frame < len(frames):
                raise FormatError(f"The sequence '{name}' shows frame {frame}, and there are {len(frames)}.")
            said = max(int(own[place]), int(times[number]))
            each.append(Step(frame, frames[frame].ms if said < 0 else _milliseconds(said, part)))
        if directed:
            each = _directed(each, told, int(ways[number]), name)
        follows = int(after[number]) if 0 <= after[number] < len(table) else None
        found.append(Run(name, tuple(each), bool(loops[number]), follows))
    return tuple(found)


def _directed(steps: list[Step], told: Sequences, way: int, name: str) -> list[Step]:
    """Steps in the order in which they are shown."""
    direction = told.directions.get(way)
    if direction is None:
        known = ", ".join(map(str, sorted(told.directions)))
        raise FormatError(f"The sequence '{name}' has the direction {way}.", expected=f"one of {known}")
    if direction == "forward":
        return steps
    # There and back the ends are shown once.
    return steps[::-1] if direction == "backward" else [*steps, *steps[-2:0:-1]]


def _steps(parsed: Parsed, told: Sequences, frames: int) -> tuple[Ints, Ints]:
    """The frame that each step shows, and its own duration (-1: none)."""
    if told.steps is None:
        return np.arange(frames), np.full(frames, -1, np.int64)
    records = parsed.regions[told.steps].part
    assert isinstance(records, TablePart)
    table = parsed.tables[told.steps]
    return _of(records, table, "frame", None), _of(records, table, "duration", -1)


def _of(records: Records, table: Rows, role: str, usual: int | None) -> Ints:
    leaf = records.column(role)
    if leaf is None:
        assert usual is not None
        return np.full(len(table), usual, np.int64)
    return table.numbers(leaf.field)


# ---- frames that are stored each by itself ------------------------------------------------------------------


def _read_own(layout: Layout, data: bytes, name: str, fetch: Fetch, parsed: Parsed, part: FramesPart) -> SpriteFile:
    pixel_format = textures.with_palette(
        part.palette, parsed, _format(parsed, part), textures.elsewhere_of(part.palette, name, fetch)
    )
    if pixel_format.block[0] != 1 or (part.runs is not None and pixel_format.block != (1, 1)):
        raise FormatError(f"Frames of {pixel_format.title} cannot be stored so.")
    content = np.frombuffer(parsed.content(part.name), np.uint8)
    region = parsed.regions[part.name]
    count = _count_of(parsed, part)
    columns = Columns(parsed, part, None)
    wide = part.heads.dtype(layout.endian).itemsize if part.heads is not None else 0
    big = layout.endian == "big"
    starts, sizes = _places(parsed, part, columns, count, region.start)
    stored: list[Stored] = []
    heads: list[bytes] = []
    at, total = 0, 0
    shapes = _Shapes(columns, count, part)
    coding = Coding.of(part.runs) if part.runs is not None else None
    known: dict[int, Stored] = {}
    for number in range(count):
        start = int(starts[number]) if starts is not None else at + -(region.start + at) % part.align
        if not 0 <= start <= len(content):
            raise TruncatedError(f"Frame {number} begins outside the file.", offset=region.start + max(start, 0))
        head = content[start : start + wide].tobytes()
        if len(head) < wide:
            raise TruncatedError(f"Frame {number} is cut short.", offset=region.start + start)
        heads.append(head)
        width, height = shapes.of(number, head)
        total += width * height
        _check_pixels(total)
        one = known.get(start)
        if one is None or one.raw.shape[:2] != (height, width):
            one = _take(
                content, start, start + wide, width, height, pixel_format, coding, big, number, region.start
            )
        told = _told_by_head(layout, part, head)
        if told is not None:
            if not one.end <= start + wide + told <= len(content):
                raise FormatError(
                    f"Frame {number} is said to have {told} bytes, and has {one.end - one.pixels}.",
                    offset=region.start + start,
                )
            one = replace(one, end=start + wide + told)
        if sizes is not None:
            end = start + int(sizes[number])
            if end < one.end or end > len(content):
                raise FormatError(
                    f"Frame {number} is said to have {int(sizes[number])} bytes, and has {one.end - start}.",
                    offset=region.start + start,
                )
            one = replace(one, end=end)
        known[start] = one
        stored.append(one)
        at = one.end
    columns.heads = head_rows(layout, part, heads)
    pictures = [_shown(one, pixel_format) for one in stored]
    frames = _framed(pictures, columns, part)
    if part.over == "frame before":
        frames = _over(frames, stored)
    sprite = _bounded(Sprite(frames, _sequences(parsed, part, frames)))
    return SpriteFile(
        layout, name, sprite, len(data), parsed, fetch, stored=tuple(stored), format=pixel_format
    )  # fmt: skip


def head_rows(layout: Layout, part: FramesPart, heads: Sequence[bytes]) -> Rows | None:
    return rows_of(part.heads, layout.endian, b"".join(heads), len(heads)) if part.heads is not None else None


def _told_by_head(layout: Layout, part: FramesPart, head: bytes) -> int | None:
    """How many bytes of pixels the record in front of them says that there are."""
    leaf = part.heads.column("stored-size") if part.heads is not None else None
    if leaf is None:
        return None
    rows = head_rows(layout, part, [head])
    assert rows is not None
    return int(rows.numbers(leaf.field)[0])


class _Shapes:
    """The sides of each frame, as they are needed one after the other."""

    def __init__(self, columns: Columns, count: int, part: FramesPart) -> None:
        self.columns, self.part = columns, part
        self.all: list[Ints | None] = []
        for role in ("frame-width", "frame-height"):
            found = columns.find(role)
            own = found is not None and found[0] is not columns.table
            self.all.append(None if own else columns.numbers(role, count))

    def of(self, number: int, head: bytes) -> tuple[int, int]:
        """Width and height of a frame; ``head``: the record in front of its pixels."""
        rows = None
        sides = []
        for role, numbers in zip(("frame-width", "frame-height"), self.all, strict=True):
            if numbers is None:
                if rows is None:
                    rows = head_rows(self.columns.parsed.layout, self.part, [head])
                found = self.columns.find(role)
                assert rows is not None
                assert found is not None
                numbers, place = rows.numbers(found[1].field), 0
            else:
                place = number
            side = int(numbers[place])
            if not 0 <= side <= formats.LARGEST_SIDE:
                raise FormatError(f"Frame {number} has a side of {side}.", expected=f"0 to {formats.LARGEST_SIDE}")
            sides.append(side)
        return sides[0], sides[1]


def _format(parsed: Parsed, part: FramesPart) -> PixelFormat:
    named = textures.value_of(parsed, "format", part.facts["format"])
    return formats.get(str(named))


def _places(
    parsed: Parsed, part: FramesPart, columns: Columns, count: int, start: int
) -> tuple[Ints | None, Ints | None]:
    """Where each frame's data begin within the part, and how many bytes they are, as far as the records say."""
    found = []
    for role in ("offset", "stored-size"):
        leaf = columns.table.column(role) if columns.table is not None else None
        found.append(None if leaf is None else columns.numbers(role, count))
    offsets, sizes = found
    if offsets is not None:
        offsets = offsets + evaluate(part.base, parsed.values) - start
    return offsets, sizes


def _take(
    content: Raw,
    start: int,
    pixels: int,
    width: int,
    height: int,
    pixel_format: PixelFormat,
    coding: Coding | None,
    big: bool,
    number: int,
    origin: int,
) -> Stored:
    if coding is not None:
        try:
            raw, drawn, end = coding.decode(content, pixels, height, width, pixel_format.block_bytes, big)
        except FormatError as error:
            raise type(error)(f"Frame {number}: {error.message}", offset=origin + (error.offset or 0)) from None
        return Stored(start, pixels, end, raw, drawn)
    end = pixels + pixel_format.size(width, height)
    if end > len(content):
        raise TruncatedError(f"Frame {number} needs {end - pixels} bytes.", offset=origin + pixels)
    raw = (
        content[pixels:end].reshape(height, -1, pixel_format.block_bytes)
        if height
        else np.zeros((0, 0, 1), np.uint8)
    )
    return Stored(start, pixels, end, raw, np.ones((height, width), np.bool_))


def _shown(one: Stored, pixel_format: PixelFormat) -> Picture:
    height, width = one.drawn.shape
    if not height or not width:
        return np.zeros((height, width, 4), np.uint8)
    picture = formats.shown(pixel_format.decode(one.raw.tobytes(), width, height)).copy()
    # What is clear has one colour, whether it is not drawn or drawn in an entry that is clear.
    picture[~one.drawn | (picture[..., 3] == 0)] = 0
    return picture


def _over(frames: tuple[Frame, ...], stored: Sequence[Stored]) -> tuple[Frame, ...]:
    """Frames that leave out what is as in the one before, made whole where that one lies under them."""
    found: list[Frame] = []
    for number, one in enumerate(frames):
        if number:
            whole = under(found[-1], one)
            drawn = stored[number].drawn
            whole[drawn] = one.picture[drawn]
            one = replace(one, picture=whole)
        found.append(one)
    return tuple(found)


def under(before: Frame, one: Frame) -> Picture:
    """What of the frame before lies under this one's rectangle."""
    found = np.zeros((one.height, one.width, 4), np.uint8)
    left, top = max(one.x, before.x), max(one.y, before.y)
    right, below = (
        min(one.x + one.width, before.x + before.width),
        min(one.y + one.height, before.y + before.height),
    )
    if right > left and below > top:
        found[top - one.y : below - one.y, left - one.x : right - one.x] = before.picture[
            top - before.y : below - before.y, left - before.x : right - before.x
        ]
    return found


def sniffed(layout: Layout, parsed: Parsed) -> Mapping[str, Value]:
    """How many frames a header says, as far as its first bytes do."""
    part: FramesPart = layout.only(FramesPart)
    found: dict[str, Value] = {}
    if part.of is not None and part.of in parsed.tables:
        found["frames"] = len(parsed.tables[part.of])
    elif part.grid is not None and part.name in parsed.regions:
        found["frames"] = len(_grid(parsed, part))
    if part.sequences is not None and part.sequences.of in parsed.tables:
        found["sequences"] = len(parsed.tables[part.sequences.of])
    return found
