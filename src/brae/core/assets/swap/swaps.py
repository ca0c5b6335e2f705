"""A swap list by its layout: its records or lines, and others in their place; the same keep their bytes."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from brae.core.assets.text import text as texts
from brae.core.assets.text.text import Text
from brae.core.errors import FormatError, LimitError
from brae.core.layouts.heads import alike
from brae.core.layouts.model import Layout
from brae.core.layouts.parts import TablePart
from brae.core.layouts.read import Parsed, parse
from brae.core.layouts.rows import encode_record, named
from brae.core.layouts.swaps import SwapsPart
from brae.core.layouts.write import Model, compose
from brae.core.sources import MAIN, BytesSource

#: swaps of one list, characters of a name in it
_MOST, _LONGEST = 100_000, 400
COLUMNS = ("object", "old", "new")


@dataclass(frozen=True)
class Swap:
    """``new`` stands in for ``old`` on ``object``, or everywhere ("")."""

    object: str
    old: str
    new: str


@dataclass(frozen=True)
class SwapList:
    """A list's file as it was read: a text, or records."""

    layout: Layout
    swaps: tuple[Swap, ...]
    data: bytes
    text: Text | None = None
    parsed: Parsed | None = None

    @property
    def part(self) -> SwapsPart:
        """What the layout says of it."""
        return self.layout.only(SwapsPart)  # type: ignore[no-any-return]

    @property
    def has_objects(self) -> bool:
        """Whether a swap can be of one object only."""
        if self.parsed is None:
            return "object" in self.part.holes
        return _table(self.parsed, self.part).column("swap-object") is not None

    def rewrite(self, swaps: Sequence[Swap]) -> bytes:
        """The file with other swaps. FormatError where one cannot be stored so."""
        for one in swaps:
            _check(self, one)
        if self.text is not None:
            return self._lines(self.text, swaps).encode()
        assert self.parsed is not None
        return self._records(self.parsed, swaps)

    def _said(self, one: Swap) -> dict[str, str]:
        return {"object": one.object or self.part.everywhere, "old": one.old, "new": one.new}

    def _lines(self, text: Text, swaps: Sequence[Swap]) -> Text:
        said = [(line, end, _swap(self.part, line)) for line, end in text.lines]
        places = [number for number, (_, _, swap) in enumerate(said) if swap is not None]
        old = {swap: line for line, _, swap in reversed(said) if swap is not None}
        new = [old.get(one) or self.part.written(self._said(one)) for one in swaps]
        ends = text.line_end or "\n"
        lines: list[tuple[str, str]] = []
        rest = iter(new)
        for number, (line, end, swap) in enumerate(said):
            if swap is None:
                lines.append((line, end))
                continue
            if (here := next(rest, None)) is not None:
                lines.append((here, end))
            if number == places[-1]:
                lines += [(one, ends) for one in rest]
        if not places:
            lines += [(one, ends) for one in rest]
        # Only the last line may be without an end.
        lines = [
            (line, end or ends) if place < len(lines) - 1 else (line, end)
            for place, (line, end) in enumerate(lines)
        ]
        return text.of_lines(lines)

    def _records(self, parsed: Parsed, swaps: Sequence[Swap]) -> bytes:
        part = _table(parsed, self.part)
        if isinstance(part.count, int) and len(swaps) != len(self.swaps):
            raise FormatError(f"This file always has {len(self.swaps)} swaps, not {len(swaps)}.")
        table = parsed.tables[part.name].copy()
        common = alike(part, table)
        more = len(swaps) - len(table)
        if more > 0:
            table.insert_all(np.full(more, len(table)), [encode_record(part, table.endian, common)] * more)
        elif more < 0:
            table.keep(np.arange(len(swaps)))
        before = (*self.swaps, *[None] * max(len(swaps) - len(self.swaps), 0))
        for row, (one, was) in enumerate(zip(swaps, before, strict=False)):
            if one == was:
                continue
            for key, value in self._said(one).items():
                leaf = part.column(f"swap-{key}")
                if leaf is None:
                    continue
                raw = named(leaf, value, table.endian)[leaf.field]
                assert isinstance(raw, bytes)
                if leaf.column.width and len(raw) > leaf.column.width:
                    raise FormatError(f"'{value}' is too long: {leaf.column.width} bytes are there for it.")
                table.put_raw(leaf.field, row, raw)
        return b"".join(compose(parsed, model=Model({}, {}, {part.name: table})).read(MAIN))


def _check(held: SwapList, one: Swap) -> None:
    for value in (one.object, one.old, one.new):
        if len(value) > _LONGEST or "\n" in value or "\r" in value:
            raise FormatError("A name in a swap list is on one line, and not endless.")
    if not one.old.strip() or not one.new.strip():
        raise FormatError("A swap says what is replaced, and by what.")
    if one.object and not held.has_objects:
        raise FormatError(f"This list swaps everywhere: it cannot say '{one.object}'.")
    if held.text is not None and _swap(held.part, held.part.written(held._said(one))) != one:
        raise FormatError(f"'{one.old}' and '{one.new}' cannot be written in one line of this list.")


def _table(parsed: Parsed, part: SwapsPart) -> TablePart:
    found = parsed.regions[part.of or ""].part
    assert isinstance(found, TablePart)
    return found


def _swap(part: SwapsPart, line: str) -> Swap | None:
    """What a line says; None where it is no swap."""
    plain = line.strip()
    if not plain or any(plain.startswith(one) for one in part.comments) or len(line) > 4 * _LONGEST:
        return None
    found = part.pattern.fullmatch(line)
    if found is None:
        return None
    said = found.groupdict()
    where = said.get("object", "")
    return Swap("" if where == part.everywhere else where, said["old"], said["new"])


def read(layout: Layout, data: bytes) -> SwapList:
    """A swap list by its layout. Raises one of Brae's errors where the file cannot be one."""
    part: SwapsPart = layout.only(SwapsPart)
    if part.line is not None:
        text = texts.read(data) if data else Text("", "utf-8")
        swaps = tuple(one for line, _ in text.lines if (one := _swap(part, line)) is not None)
        return SwapList(layout, _few(swaps), data, text=text)
    parsed = parse(layout, {MAIN: BytesSource(data)})
    table, records = parsed.tables[part.of or ""], _table(parsed, part)

    def column(role: str) -> list[str]:
        leaf = records.column(role)
        return [""] * len(table) if leaf is None else table.texts(leaf.field)

    rows = zip(column("swap-object"), column("swap-old"), column("swap-new"), strict=True)
    found = tuple(Swap("" if where == part.everywhere else where, old, new) for where, old, new in rows)
    return SwapList(layout, _few(found), data, parsed=parsed)


def _few(swaps: tuple[Swap, ...]) -> tuple[Swap, ...]:
    if len(swaps) > _MOST:
        raise LimitError(f"{len(swaps):,} swaps are more than a list has.")
    return swaps


def to_csv(swaps: Sequence[Swap]) -> bytes:
    """The swaps as a table for an editor: RFC 4180, in UTF-8."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n")
    writer.writerow(COLUMNS)
    writer.writerows((one.object, one.old, one.new) for one in swaps)
    return out.getvalue().encode()


def from_csv(data: bytes) -> tuple[Swap, ...]:
    """The same back. FormatError where it is no such table."""
    try:
        rows = list(csv.reader(io.StringIO(data.decode("utf-8-sig"), newline="")))
    except (UnicodeDecodeError, csv.Error) as error:
        raise FormatError(f"This is no table of swaps: {error}.", expected="CSV in UTF-8") from None
    rows = [row for row in rows if any(cell.strip() for cell in row)]
    head = [cell.strip().lower() for cell in rows[0]] if rows else []
    if not {"old", "new"} <= set(head):
        raise FormatError("The first line of a table of swaps names its columns.", expected=", ".join(COLUMNS))
    if len(rows) - 1 > _MOST:
        raise LimitError(f"{len(rows) - 1:,} swaps are more than a list has.")
    found = []
    for number, row in enumerate(rows[1:], 2):
        if len(row) < len(head):
            raise FormatError(f"Line {number} has {len(row)} cells, not {len(head)}.")
        cells = dict(zip(head, (cell.strip() for cell in row), strict=False))
        found.append(Swap(cells.get("object", ""), cells["old"], cells["new"]))
    return tuple(found)
