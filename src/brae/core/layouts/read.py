"""From bytes to values: walks a layout's parts over the files it describes."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np

from brae.core.errors import BraeError, FormatError, LayoutError, LimitError, TruncatedError
from brae.core.layouts import expressions
from brae.core.layouts.model import (
    MAIN,
    BytesPart,
    FieldPart,
    Layout,
    MembersPart,
    NamesPart,
    Part,
    PixelsPart,
    TablePart,
)
from brae.core.sources import ByteSource

#: A directory, a block of names or unknown bytes may be this large; beyond it a count is taken for damage.
LARGEST_PART = 1 << 30


@dataclass(frozen=True)
class Region:
    """Where a part lies: ``start`` to ``end`` (exclusive) of ``file``."""

    part: Part
    file: str
    start: int
    end: int


@dataclass
class Parsed:
    """A file (or a set of files) read by a layout.

    ``values`` are the numbers of header fields by name, ``texts`` their strings and bytes; ``tables`` are
    structured arrays, one record a row.
    """

    layout: Layout
    sources: Mapping[str, ByteSource]
    regions: dict[str, Region] = field(default_factory=dict)
    values: dict[str, int] = field(default_factory=dict)
    texts: dict[str, bytes] = field(default_factory=dict)
    tables: dict[str, np.ndarray[Any, Any]] = field(default_factory=dict)

    def content(self, name: str) -> bytes:
        """The bytes of a part as they are in the file."""
        region = self.regions[name]
        return self.sources[region.file].read(region.start, region.end - region.start)

    def describe(self, file: str, offset: int) -> str:
        """Which field a byte belongs to, in words."""
        for name, region in self.regions.items():
            if region.file == file and region.start <= offset < region.end:
                if isinstance(region.part, TablePart):
                    size = region.part.dtype(self.layout.endian).itemsize
                    record, inside = divmod(offset - region.start, size)
                    dtype = region.part.dtype(self.layout.endian)
                    for column in region.part.record:
                        form, start = dtype.fields[column.field][:2]  # type: ignore[index]
                        if start <= inside < start + form.itemsize:
                            return f"{name}[{record}].{column.field}"
                    return f"{name}[{record}]"
                return name
        return "bytes that no part explains"


def first_value(role: str, parsed: Parsed) -> tuple[FieldPart, int] | None:
    """The header field that plays a texture's ``role``, and its number."""
    for part in parsed.layout.parts:
        if isinstance(part, FieldPart) and part.role == role:
            return part, parsed.values[part.field]
    return None


def parse(layout: Layout, sources: Mapping[str, ByteSource]) -> Parsed:
    """Read every part except the members' and the pixels' own bytes.

    Raises TruncatedError, FormatError or LimitError with the offset, before anything large is allocated.
    """
    parsed = Parsed(layout, sources)
    parsed.values["file_size"] = sources[MAIN].size
    for name in layout.files:
        if name not in sources:
            raise FormatError(
                f"The file '{layout.files[name]}' that belongs to this one is missing.",
                remedy="Put it beside this file; both are needed.",
            )
        parsed.values[f"{name}_size"] = sources[name].size
    cursors: dict[str, int | None] = dict.fromkeys([MAIN, *layout.files], 0)
    for part in layout.parts:
        start = _start(part, parsed, cursors[part.file])
        try:
            end = _read_part(part, parsed, start)
        except BraeError as error:
            error.message = f"{part.name}: {error.message}"
            raise
        cursors[part.file] = end
    _end_members(parsed)
    return parsed


def _start(part: Part, parsed: Parsed, cursor: int | None) -> int:
    if part.at is not None:
        start = expressions.evaluate(part.at, parsed.values)
    elif cursor is None:
        raise LayoutError(f"'{part.name}' lies behind members and needs 'at'.")
    else:
        start = cursor + (-cursor % part.align)
    if not 0 <= start <= parsed.sources[part.file].size:
        raise TruncatedError(
            f"{part.name} should lie at {start}, outside the file.",
            offset=min(max(start, 0), parsed.sources[part.file].size),
            expected=f"an offset up to {parsed.sources[part.file].size}",
        )
    return start


def _read_part(part: Part, parsed: Parsed, start: int) -> int | None:
    source = parsed.sources[part.file]
    if isinstance(part, MembersPart):
        parsed.regions[part.name] = Region(part, part.file, start, start)
        return None
    if isinstance(part, PixelsPart):
        size = source.size - start if part.size is None else _size(part.size, parsed, start)
        parsed.regions[part.name] = Region(part, part.file, start, min(start + size, source.size))
        return start + size
    if isinstance(part, FieldPart):
        return _read_field(part, parsed, start)
    if isinstance(part, TablePart):
        dtype = part.dtype(parsed.layout.endian)
        count = _size(part.count, parsed, start, "records")
        size = count * dtype.itemsize
        _check_fits(size, source, start, f"{count} records of {dtype.itemsize} bytes")
        table = np.frombuffer(source.read(start, size), dtype)
        parsed.tables[part.name] = table
    else:
        assert isinstance(part, BytesPart | NamesPart)
        size = _size(part.size, parsed, start)
        _check_fits(size, source, start, f"{size} bytes")
    parsed.regions[part.name] = Region(part, part.file, start, start + size)
    return start + size


def _read_field(part: FieldPart, parsed: Parsed, start: int) -> int:
    source = parsed.sources[part.file]
    if part.end == "nul":
        longest = part.length if isinstance(part.length, int) else 4096
        raw = source.read(start, min(longest, source.size - start))
        if b"\0" not in raw:
            raise FormatError("No zero byte ends the string.", offset=start)
        raw = raw[: raw.index(b"\0") + 1]
    elif part.type in ("string", "bytes"):
        assert part.length is not None
        size = _size(part.length, parsed, start)
        _check_fits(size, source, start, f"{size} bytes")
        raw = source.read(start, size)
    else:
        raw = source.read(start, part.dtype(parsed.layout.endian).itemsize)
        number = np.frombuffer(raw, part.dtype(parsed.layout.endian))[0]
        if part.type[0] in "ui":
            parsed.values[part.field] = int(number)
    parsed.texts[part.field] = raw
    if part.value is not None and raw != encode_value(part, part.value, parsed.layout.endian, len(raw)):
        raise FormatError(
            f"The bytes are {raw[:16].hex(' ')}.",
            offset=start,
            expected=repr(part.value),
            remedy="This file is of another format, or of another version of it.",
        )
    parsed.regions[part.name] = Region(part, part.file, start, start + len(raw))
    return start + len(raw)


def encode_value(part: FieldPart, value: int | str, endian: str, length: int | None = None) -> bytes:
    """A field's value as bytes; FormatError where it does not fit."""
    if isinstance(value, str):
        encoding = "latin-1" if part.type == "bytes" else part.encoding
        return value.encode(encoding).ljust(length or 0, b"\0")
    dtype = part.dtype(endian)
    if dtype.kind == "f":
        return np.array(value, dtype).tobytes()
    order: Literal["little", "big"] = "little" if endian == "little" else "big"
    try:
        return int(value).to_bytes(dtype.itemsize, order, signed=dtype.kind == "i")
    except OverflowError as error:
        raise FormatError(f"{value} does not fit the field '{part.field}' ({part.type}).") from error


def _size(expression: int | str, parsed: Parsed, start: int, unit: str = "bytes") -> int:
    size = expressions.evaluate(expression, parsed.values)
    if size < 0:
        raise FormatError(f"The number of {unit} is {size}.", offset=start, expected="zero or more")
    return size


def _check_fits(size: int, source: ByteSource, start: int, what: str) -> None:
    if start + size > source.size:
        raise TruncatedError(
            f"{what} were announced, but only {source.size - start} bytes follow.",
            offset=start,
            remedy="The file is cut short, or its header is damaged: fetch it again from the game.",
        )
    if size > LARGEST_PART:
        raise LimitError(f"{what} are more than the {LARGEST_PART} bytes that are sensible.", offset=start)


def _end_members(parsed: Parsed) -> None:
    """Give the members' region its end: behind the last member, with its padding."""
    part: MembersPart | None = parsed.layout.only(MembersPart)
    if part is None:
        return
    offsets, sizes = member_ranges(parsed, part)
    region = parsed.regions[part.name]
    end = int((offsets + sizes).max(initial=region.start))
    limit = min(
        [
            r.start
            for r in parsed.regions.values()
            if r.file == part.file and r.start >= max(end, 1) and r.part is not part
        ]
        + [parsed.sources[part.file].size]
    )
    if part.pad_last:
        end = max(min(end + (-end % part.align), limit), end)
    parsed.regions[part.name] = Region(part, part.file, region.start, end)


def member_ranges(parsed: Parsed, part: MembersPart) -> tuple[np.ndarray[Any, Any], np.ndarray[Any, Any]]:
    """Absolute offsets and stored sizes (int64) of a table's members.

    Raises FormatError where a record's numbers are beyond the file.
    """
    table = parsed.tables[part.of]
    table_part = parsed.regions[part.of].part
    assert isinstance(table_part, TablePart)
    base = expressions.evaluate(part.base, parsed.values)
    columns = []
    for role in ("offset", "stored-size"):
        column = table_part.column(role)
        assert column is not None
        raw = table[column.field]
        if raw.dtype.kind not in "ui":
            raise LayoutError(f"'{column.field}' is not a whole number, so it cannot be the {role}.")
        bad = np.flatnonzero(
            (raw < 0) | (raw > np.array(1 << 62).astype(raw.dtype)) if raw.dtype.itemsize == 8 else raw < 0
        )
        if len(bad):
            raise FormatError(
                f"{part.of}[{bad[0]}].{column.field} is {raw[bad[0]]}.", expected="a place in the file"
            )
        columns.append(raw.astype(np.int64))
    offsets, sizes = columns[0] + base, columns[1]
    size = parsed.sources[part.file].size
    bad = np.flatnonzero((offsets < 0) | (offsets + sizes > size))
    if len(bad):
        first = int(bad[0])
        raise TruncatedError(
            f"{part.of}[{first}] says its data is {sizes[first]} bytes at {offsets[first]}, outside the file.",
            offset=parsed.regions[part.of].start + first * table.dtype.itemsize,
            expected=f"an end up to {size}",
            remedy="The directory is damaged or the data file is cut short: fetch both again from the game.",
        )
    return offsets, sizes
