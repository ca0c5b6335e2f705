"""Sprites by their layouts, the way back: a file with other frames."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from brae.core.assets.sprite.described import Columns, Ints, SpriteFile, head_rows, under
from brae.core.assets.sprite.runs import Coding, Mask, Raw
from brae.core.assets.sprite.sprite import Frame
from brae.core.assets.texture.formats import How, PixelFormat
from brae.core.errors import FormatError
from brae.core.layouts.expressions import evaluate
from brae.core.layouts.rows import Rows
from brae.core.layouts.write import Model, compose
from brae.core.sources import MAIN


def rewrite(file: SpriteFile, frames: Sequence[Frame]) -> bytes:
    """The file with other frames, as many as before; those that are the same keep their bytes.

    Raises FormatError or LayoutError where a frame cannot be stored so.
    """
    return b"".join(compose(file.parsed, model=_Writer(file, frames).model()).read(MAIN))


class _Writer:
    """The bytes of the frames' part and of their records, for other frames."""

    def __init__(self, file: SpriteFile, frames: Sequence[Frame]) -> None:
        if len(frames) != len(file.sprite.frames):
            raise FormatError(
                f"{len(frames)} frames, and the file has {len(file.sprite.frames)}.", expected="as many as before"
            )
        self.file, self.frames, self.part = file, frames, file.part
        self.parsed = file.parsed
        self.big = file.layout.endian == "big"
        self.coding = Coding.of(self.part.runs) if self.part.runs is not None else None
        self.columns = Columns(self.parsed, self.part, None)
        content = self.parsed.content(self.part.name)
        self.content = content
        self.heads = head_rows(
            file.layout, self.part, [content[one.start : one.pixels] for one in file.stored]
        )  # fmt: skip
        self.tables: dict[str, Rows] = {}
        if self.part.of is not None:
            self.tables[self.part.of] = self.parsed.tables[self.part.of].copy()

    def model(self) -> Model:
        """What ``compose`` needs."""
        for number in range(len(self.frames)):
            self._say(number)
        if self.file.sheet is not None:
            return Model({}, {}, self.tables)
        changed = [self._differs(number) for number in range(len(self.frames))]
        if not any(changed) and not any(self._head(number) for number in range(len(self.frames))):
            return Model({}, {}, self.tables)
        block, offsets, sizes = self._laid_out(changed)
        if self.columns.table is not None and self.part.of is not None:
            table = self.tables[self.part.of]
            for role, numbers in (("offset", offsets), ("stored-size", sizes)):
                leaf = self.columns.table.column(role)
                if leaf is not None and not np.array_equal(table.numbers(leaf.field), numbers):
                    table.put(leaf.field, np.arange(len(self.frames)), numbers)
        return Model({self.part.name: block}, {}, self.tables)

    def _differs(self, number: int) -> bool:
        old, new = self.file.sprite.frames[number], self.frames[number]
        if self.part.over == "frame before" and number and self._differs_before(number):
            return True
        return old.picture.shape != new.picture.shape or not np.array_equal(old.picture, new.picture)

    def _differs_before(self, number: int) -> bool:
        old, new = self.file.sprite.frames[number - 1], self.frames[number - 1]
        return old.picture.shape != new.picture.shape or not np.array_equal(old.picture, new.picture)

    def _say(self, number: int) -> None:
        """A frame's own numbers: its sides, its place, how long it is shown."""
        old, new = self.file.sprite.frames[number], self.frames[number]
        if (new.width, new.height) != (old.width, old.height):
            self._put("frame-width", number, new.width)
            self._put("frame-height", number, new.height)
        for axis, moved in (("x", new.x - old.x), ("y", new.y - old.y)):
            if not moved:
                continue
            role, sign = (f"canvas-{axis}", 1) if self.file.can_say(f"canvas-{axis}") else (f"anchor-{axis}", -1)
            self._put(role, number, self._get(role, number) + sign * moved)
        if new.ms != old.ms:
            self._put("duration", number, max(1, round(new.ms / self.part.tick)))

    def _rows(self, role: str) -> tuple[Rows, str]:
        found = self.columns.find(role)
        if found is None:
            raise FormatError(f"A frame of this file has no number for its {role}, so it cannot be another.")
        records, leaf = found
        if records is self.columns.table:
            assert self.part.of is not None
            return self.tables[self.part.of], leaf.field
        assert self.heads is not None
        return self.heads, leaf.field

    def _get(self, role: str, number: int) -> int:
        rows, field = self._rows(role)
        return int(rows.numbers(field)[number])

    def _put(self, role: str, number: int, value: int) -> None:
        rows, field = self._rows(role)
        rows.put(field, number, value)

    def _laid_out(self, changed: Sequence[bool]) -> tuple[bytes, Ints, Ints]:
        """All frames' data in their order in the file, with what lies between them, and where each is now."""
        stored = self.file.stored
        region = self.parsed.regions[self.part.name]
        base = evaluate(self.part.base, self.parsed.values)
        spans = sorted({(one.start, one.end) for one in stored})
        for (_, end), (start, _) in zip(spans, spans[1:], strict=False):
            if start < end:
                raise FormatError(
                    "Two frames share some of their bytes, so none can be changed by itself.",
                    offset=region.start + start,
                )
        out = bytearray()
        offsets = np.zeros(len(stored), np.int64)
        sizes = np.array([one.end - one.start for one in stored], np.int64)
        users: dict[tuple[int, int], list[int]] = {}
        for number, one in enumerate(stored):
            users.setdefault((one.start, one.end), []).append(number)
        behind = 0
        apart: list[int] = []
        for start, end in spans:
            moved = len(out) != behind
            gap = self.content[behind:start]
            if moved:
                # What lies between is kept, as far as it is no mere alignment.
                gap = gap if len(gap) >= self.part.align else bytes(-(region.start + len(out)) % self.part.align)
            out += gap
            own = users[start, end]
            first = own[0]
            data = (
                self._data(first, changed[first])
                if changed[first] or self._head(first)
                else self.content[start:end]
            )
            place = len(out)
            out += data
            for number in own:
                same = number == first or self._alike(first, number)
                if same:
                    offsets[number], sizes[number] = place, len(data)
                else:
                    apart.append(number)
            behind = end
        out += self.content[behind:]
        for number in apart:
            out += bytes(-(region.start + len(out)) % self.part.align)
            data = self._data(number, True)
            offsets[number], sizes[number] = len(out), len(data)
            out += data
        return bytes(out), offsets + region.start - base, sizes

    def _alike(self, first: int, number: int) -> bool:
        """Whether two frames can go on having the same bytes."""
        a, b = self.frames[first], self.frames[number]
        if self.heads is not None and self.heads.record(first) != self.heads.record(number):
            return False
        return a.picture.shape == b.picture.shape and np.array_equal(a.picture, b.picture)

    def _head(self, number: int) -> bool:
        """Whether the record in front of a frame's pixels says something else than before."""
        if self.heads is None:
            return False
        one = self.file.stored[number]
        return self.heads.record(number) != self.content[one.start : one.pixels]

    def _data(self, number: int, changed: bool) -> bytes:
        """A frame as it is stored: the record in front, and its pixels."""
        old, new = self.file.stored[number], self.frames[number]
        if not changed:
            data = self.content[old.pixels : old.end]
            return data if self.heads is None else self.heads.record(number) + data
        pixels, drawn = self._pixels(number)
        if self.coding is not None:
            data = self.coding.encode(pixels, drawn, self.big)
        else:
            rest = self.content[old.pixels + old.raw.size : old.end]
            data = pixels.tobytes() + (rest if new.picture.shape[:2] == old.drawn.shape else b"")
        leaf = self.part.heads.column("stored-size") if self.part.heads is not None else None
        if self.heads is None:
            return data
        if leaf is not None:
            self.heads.put(leaf.field, number, len(data))
        return self.heads.record(number) + data

    def _pixels(self, number: int) -> tuple[Raw, Mask]:
        """A frame's pixels as they are stored: those that are as before keep their numbers."""
        file, old, new = self.file, self.file.stored[number], self.frames[number]
        pixel_format = file.format
        assert pixel_format is not None
        height, width = new.picture.shape[:2]
        step = pixel_format.block_bytes
        if not height or not width:
            return np.zeros((height, width, step), np.uint8), np.zeros((height, width), np.bool_)
        how = How()
        before = file.sprite.frames[number].picture
        if before.shape == new.picture.shape and old.drawn.all():
            changed = (before != new.picture).any(axis=-1)
            how = how.keeping(old.raw.tobytes(), _by_block(changed, pixel_format))
        raw = np.frombuffer(pixel_format.encode(new.picture, how), np.uint8).reshape(height, -1, step).copy()
        drawn = np.ones((height, width), np.bool_)
        if self._skips:
            drawn = new.picture[..., 3] > 0
            if before.shape == new.picture.shape:
                kept = (before == new.picture).all(axis=-1) & old.drawn
                raw[kept] = old.raw[kept]
                drawn |= kept
        if self.part.over == "frame before" and number:
            below = under(self.frames[number - 1], new)
            drawn = (new.picture != below).any(axis=-1)
            if (drawn & (new.picture[..., 3] == 0)).any():
                raise FormatError(
                    f"Frame {number} is clear where the frame before is not, and this file cannot say so.",
                    remedy="Draw something there, or clear it in the frame before too.",
                )
        return raw, drawn

    @property
    def _skips(self) -> bool:
        return self.part.runs is not None and any(one.skip is not None for one in self.part.runs.codes)


def _by_block(changed: np.ndarray[Any, Any], pixel_format: PixelFormat) -> np.ndarray[Any, Any]:
    from brae.core.assets.texture.mips import reduce_blocks

    return reduce_blocks(changed, pixel_format.block)
