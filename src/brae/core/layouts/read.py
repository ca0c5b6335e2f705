"""From bytes to values: walks a layout's parts over the files it describes."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any, TypeVar

import numpy as np

from brae.core.errors import BraeError, FormatError, LayoutError, LimitError, TruncatedError
from brae.core.layouts import expressions
from brae.core.layouts.areas import AreasPart
from brae.core.layouts.chunks import Chunks, walk_chunks
from brae.core.layouts.digits import BASES, as_text, number_of
from brae.core.layouts.fields import BytesPart, FieldPart, Hidden, Value
from brae.core.layouts.frames import FramesPart
from brae.core.layouts.geometry import IndicesPart, SkeletonPart, VerticesPart
from brae.core.layouts.materials import MaterialPart
from brae.core.layouts.model import Layout
from brae.core.layouts.obfuscation import reveal, with_keys
from brae.core.layouts.parts import (
    ChunksPart,
    MembersPart,
    NamesPart,
    Part,
    StreamPart,
    TablePart,
    TreePart,
)
from brae.core.layouts.pixels import ColoursPart, PixelsPart
from brae.core.layouts.records import Records, resolved, shifts
from brae.core.layouts.rows import Bytes, FixedRows, Rows, check_constants, decode, encode, rows_of, trimmed, walk
from brae.core.layouts.streams import BlockSource, Described, blocks_of
from brae.core.layouts.swaps import SwapsPart
from brae.core.layouts.tracks import TrackPart
from brae.core.layouts.trees import Tree, walk_tree
from brae.core.sources import MAIN, ByteSource

#: A directory, a block of names or unknown bytes may be this large; beyond it a count is taken for damage.
LARGEST_PART = 1 << 30
#: the same for records of variable size, which are walked one by one
_LARGEST_WALK = 1 << 28
_FIRST_LOOK = 1 << 16
#: what a part's numbers may be where fields of the header say them
_LARGEST_NUMBER = {"align": 1 << 24, "record_size": 65536}
T = TypeVar("T")


@dataclass(frozen=True)
class Region:
    """Where a part lies: ``start`` to ``end`` (exclusive) of ``file``.

    The records of a table may lie at several places; these begin with the byte ``first`` of its records.
    """

    part: Part
    file: str
    start: int
    end: int
    first: int = 0
    #: of several places, which of them
    number: int = 0

    @property
    def origin(self) -> int:
        """Where the table's first record would lie, if all lay together."""
        return self.start - self.first


@dataclass
class Parsed:
    """A file (or a set of files) read by a layout.

    ``values`` are the numbers of header fields by name, as they are meant; ``texts`` the fields' bytes;
    ``tables`` the records of tables, trees and chunks.
    """

    layout: Layout
    #: its files, and those that are made of packed blocks
    sources: dict[str, ByteSource]
    regions: dict[str, Region] = field(default_factory=dict)
    values: dict[str, int] = field(default_factory=dict)
    texts: dict[str, bytes] = field(default_factory=dict)
    tables: dict[str, Rows] = field(default_factory=dict)
    trees: dict[str, Tree] = field(default_factory=dict)
    chunks: Chunks | None = None

    def keys(self, name: str) -> list[str]:
        """The regions of a part: one, or of ``separate`` records one for each folder, in the folders' order."""
        return [key for key, region in self.regions.items() if region.part.name == name]

    def place(self, name: str, inside: int) -> int:
        """Where in its file a byte of a table's records lies."""
        region = max(
            (self.regions[key] for key in self.keys(name) if self.regions[key].first <= inside),
            key=lambda one: (one.first, one.end),
        )
        return region.origin + inside

    def content(self, name: str) -> bytes:
        """The bytes of a part as they are meant (without obfuscation)."""
        region = self.regions[name]
        raw = self.sources[region.file].read(region.start, region.end - region.start)
        return reveal(region.part.obfuscation, raw) if isinstance(region.part, Hidden) else raw

    def describe(self, file: str, offset: int) -> str:
        """Which field a byte belongs to, in words."""
        for name, region in self.regions.items():
            if region.file == file and region.start <= offset < region.end:
                if self.chunks is not None and isinstance(region.part, ChunksPart):
                    return f"{name}{self.chunks.describe(offset)}"
                table = self.tables.get(region.part.name)
                return name if table is None else f"{region.part.name}{table.describe(offset - region.origin)}"
        return "bytes that no part explains"


def parse(layout: Layout, sources: Mapping[str, ByteSource]) -> Parsed:
    """Read every part except the members' and the pixels' own bytes.

    Raises TruncatedError, FormatError or LimitError with the offset, before anything large is allocated.
    """
    parsed, error = parse_some(layout, sources)
    if error is not None:
        raise error
    return parsed


def parse_some(layout: Layout, sources: Mapping[str, ByteSource]) -> tuple[Parsed, BraeError | None]:
    """Read as many parts as can be read, and say what is wrong with the next one."""
    parsed = Parsed(layout, dict(sources))
    try:
        _parse(layout, sources, parsed)
    except BraeError as error:
        return parsed, error
    return parsed, None


def file_words(layout: Layout, source: ByteSource) -> dict[str, str]:
    """What fields of the header (of ``source``, the main file) say that other files are called.

    Raises FormatError where that is no name of a file beside this one: a header leads nowhere else.
    """
    found: dict[str, str] = {}
    if not layout.naming:
        return found
    parsed = Parsed(layout, {MAIN: source}, values={"file_size": source.size})
    cursor: int | None = 0
    for part in layout.parts:
        if len(found) == len(layout.naming):
            break
        cursor = _read_part(part, parsed, _start(part, parsed, cursor))
        if isinstance(part, FieldPart) and part.field in layout.naming:
            raw = parsed.texts[part.field][int(part.prefix[1:]) // 8 if part.prefix is not None else 0 :]
            word = decode(trimmed(raw, part.character), part.encoding, part.order(layout.endian))
            if word in ("", ".", "..") or any(sign in word for sign in "/\\:\0"):
                raise FormatError(
                    f"{part.field} says that another file is called '{word}', which is no name of one beside this.",
                    offset=parsed.regions[part.name].start,
                )
            found[part.field] = word
    return found


def _parse(layout: Layout, sources: Mapping[str, ByteSource], parsed: Parsed) -> None:
    parsed.values["file_size"] = sources[MAIN].size
    for name in layout.files:
        if name not in sources:
            raise FormatError(
                f"The file '{layout.files[name]}' that belongs to this one is missing.",
                remedy="Put it beside this file; both are needed.",
            )
        parsed.values[f"{name}_size"] = sources[name].size
    cursors: dict[str, int | None] = dict.fromkeys([MAIN, *layout.files], 0)
    for described in layout.parts:
        part = described
        steps = getattr(part, "obfuscation", None)
        if steps and any(step.fields for step in steps):
            part = part.model_copy(update={"obfuscation": with_keys(steps, parsed.values)})
        part = _with_lengths(part, parsed.values)
        start = _start(part, parsed, cursors[part.file])
        try:
            end = _read_part(part, parsed, start)
        except BraeError as error:
            error.message = f"{part.name}: {error.message}"
            raise
        cursors[part.file] = end
        if isinstance(part, StreamPart):
            cursors[part.stream] = 0


def _number(part: Part, key: str, sum_: str, values: Mapping[str, int]) -> int:
    """A part's number that is a sum over fields of the header."""
    number, least = expressions.evaluate(sum_, values), 1
    if key == "record_size" and isinstance(part, Records):
        least = max(sum(column.width for column in part.record), 1)
    if not least <= number <= _LARGEST_NUMBER[key]:
        raise FormatError(
            f"{part.name}: its {key} is {number}, as '{sum_}' says.",
            expected=f"{least} to {_LARGEST_NUMBER[key]:,}",
            remedy="The file is damaged, or the layout does not fit it.",
        )
    return number


def _with_lengths(part: Part, values: Mapping[str, int]) -> Part:
    """A part whose numbers and records' lengths are worked out as far as the header says them."""
    lists: dict[str, Any] = {key: _number(part, key, sum_, values) for key, sum_ in part.sums.items()}
    for key in ("record", "folder", "head"):
        record = getattr(part, key, None)
        if record and any(isinstance(column.length, str) for column in record):
            lists[key] = resolved(record, values)
    if not lists:
        return part
    copy = part.model_copy(update=lists)
    for cached in ("leaves", "heads", "whole"):
        copy.__dict__.pop(cached, None)
    return copy


def _start(part: Part, parsed: Parsed, cursor: int | None) -> int:
    if part.at is not None:
        start = expressions.evaluate(part.at, parsed.values)
    elif cursor is None:
        raise LayoutError(f"'{part.name}' lies behind members and needs 'at'.")
    else:
        origin = expressions.evaluate(part.align_from, parsed.values) if isinstance(part, MembersPart) else 0
        start = cursor + ((origin - cursor) % part.align)
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
        end = start
        if part.of is None:
            end = source.size if part.size is None else start + _size(part.size, parsed, start)
            _check_fits(end - start, source, start, f"{end - start} bytes")
        parsed.regions[part.name] = Region(part, part.file, start, end)
        return end if part.of is None else None
    if isinstance(part, StreamPart):
        table = parsed.regions[part.of]
        assert isinstance(table.part, TablePart)
        told = Described(parsed.tables[part.of], table.part, table.start, parsed.values, parsed.layout.packers)
        blocks = blocks_of(part, told, source, start, parsed.layout.total_of(part.stream))
        parsed.sources[part.stream] = BlockSource(blocks)
        parsed.values[f"{part.stream}_size"] = int(blocks.starts[-1])
        end = int((blocks.offsets + blocks.stored).max(initial=start))
        if part.pad_last:
            end = min(end + -end % part.align, source.size)
        parsed.regions[part.name] = Region(part, part.file, start, end)
        return end
    inside = isinstance(part, AreasPart | SkeletonPart | MaterialPart | TrackPart | SwapsPart)
    if inside or (isinstance(part, FramesPart) and not part.own):
        # What they are lies in a table, and in the picture that frames are cut out of.
        parsed.regions[part.name] = Region(part, part.file, start, start)
        return start
    if isinstance(part, PixelsPart | FramesPart):
        size = source.size - start if part.size is None else _size(part.size, parsed, start)
        if isinstance(part, FramesPart):
            _check_fits(size, source, start, f"{size} bytes")
        parsed.regions[part.name] = Region(part, part.file, start, min(start + size, source.size))
        return start + size
    if isinstance(part, VerticesPart | IndicesPart):
        number = _size(part.count, parsed, start, "vertices" if isinstance(part, VerticesPart) else "indices")
        size = number * part.width
        _check_fits(size, source, start, f"{number} of {part.width} bytes each")
        parsed.regions[part.name] = Region(part, part.file, start, start + size)
        return start + size
    if isinstance(part, FieldPart):
        return _read_field(part, parsed, start)
    if isinstance(part, TablePart):
        if part.separate:
            return _read_separate(part, parsed, start)
        size = _read_table(part, parsed, start)
    elif isinstance(part, TreePart):
        folders = 1 if part.folders is None else _size(part.folders, parsed, start, "folders")
        tree, size = _look(part, source, start, lambda data: walk_tree(part, parsed.layout.endian, data, folders))
        parsed.trees[part.name], parsed.tables[part.name] = tree, tree.files
    elif isinstance(part, ChunksPart):
        end = source.size if part.size is None else start + _size(part.size, parsed, start)
        _check_fits(end - start, source, start, f"{end - start} bytes", LARGEST_FILE)
        parsed.chunks = walk_chunks(part, parsed.layout.endian, source, start, end)
        parsed.tables[part.name] = parsed.chunks.rows
        size = parsed.chunks.end - start
    else:
        assert isinstance(part, BytesPart | NamesPart | ColoursPart)
        if isinstance(part, NamesPart) and part.count is not None:
            size = _names_size(part, parsed, start)
        else:
            assert part.size is not None
            size = _size(part.size, parsed, start)
        _check_fits(size, source, start, f"{size} bytes")
    if isinstance(part, TablePart):
        check_constants(part, parsed.tables[part.name], part.name)
    parsed.regions[part.name] = Region(part, part.file, start, start + size)
    return start + size


LARGEST_FILE = 1 << 62


def _read_separate(part: TablePart, parsed: Parsed, start: int) -> int:
    """Read the records of every folder where its own record says; returns where the last of them end."""
    groups = parsed.regions[part.grouped_by or ""].part
    assert isinstance(groups, TablePart)
    at, count = groups.column("offset"), groups.column("member-count")
    assert at is not None
    assert count is not None
    table, source, endian = parsed.tables[groups.name], parsed.sources[part.file], parsed.layout.endian
    places, counts = table.numbers(at.field), table.numbers(count.field)
    least = max(sum(column.width for column in part.record), part.record_size or 0, 1)
    blocks: list[bytes] = []
    first, end = 0, start
    for group, (place, number) in enumerate(zip(places.tolist(), counts.tolist(), strict=True)):
        if number < 0 or not 0 <= place <= source.size:
            raise TruncatedError(
                f"The records of {groups.name}[{group}] should lie at {place}, outside the file.",
                offset=parsed.place(groups.name, table.start(group)),
                expected=f"an offset up to {source.size}",
            )
        _check_fits(number * least, source, place, f"{number} records of at least {least} bytes")
        if part.fixed:
            size = number * part.dtype(endian).itemsize
        else:
            _, size = _look(part, source, place, lambda data: walk(part, endian, data, number, None))  # noqa: B023
        key = f"{part.name}#{group}" if group else part.name
        parsed.regions[key] = Region(part, part.file, place, place + size, first, group)
        blocks.append(reveal(part.obfuscation, source.read(place, size)))
        first, end = first + size, max(end, place + size)
        if first > LARGEST_PART:
            raise LimitError(f"The records are more than the {LARGEST_PART} bytes that are sensible.", offset=place)
    parsed.tables[part.name] = rows_of(part, endian, b"".join(blocks), int(counts.sum()))
    if not blocks:
        parsed.regions[part.name] = Region(part, part.file, start, start)
    check_constants(part, parsed.tables[part.name], part.name)
    return end


def _names_size(part: NamesPart, parsed: Parsed, start: int) -> int:
    """The bytes of a block of which only the number of names is known."""
    assert part.count is not None
    count, source = _size(part.count, parsed, start, "names"), parsed.sources[part.file]
    unit = 2 if part.encoding == "utf-16" else 1
    _check_fits(count * unit, source, start, f"{count} names")
    length = _FIRST_LOOK
    while True:
        room = min(length, source.size - start) // unit * unit
        data = np.frombuffer(reveal(part.obfuscation, source.read(start, room)), np.uint8)
        zeros = np.flatnonzero((data if unit == 1 else data.view(np.uint16)) == 0)
        if len(zeros) >= count:
            return int(zeros[count - 1] + 1) * unit if count else 0
        if start + room + unit > source.size:
            raise TruncatedError(f"{count} names were announced, but only {len(zeros)} follow.", offset=start)
        length *= 16
        if length > _LARGEST_WALK:
            raise LimitError(f"The names are more than the {_LARGEST_WALK} bytes that are sensible.", offset=start)


def _read_table(part: TablePart, parsed: Parsed, start: int) -> int:
    """Read the records of a table; returns its bytes."""
    source, endian = parsed.sources[part.file], parsed.layout.endian
    count = None if part.count is None else _size(part.count, parsed, start, "records")
    if not part.fixed:
        if part.size is not None:
            size = _size(part.size, parsed, start)
            _check_fits(size, source, start, f"{size} bytes", _LARGEST_WALK)
            data = np.frombuffer(reveal(part.obfuscation, source.read(start, size)), np.uint8)
            rows, _ = _placed(start, lambda: walk(part, endian, data, None, None))
            parsed.tables[part.name] = rows
            return size
        if count is not None:
            least = max(sum(column.width for column in part.record), part.record_size or 0, 1)
            _check_fits(count * least, source, start, f"{count} records of at least {least} bytes")
        rows, size = _look(part, source, start, lambda data: walk(part, endian, data, count, part.until))
        parsed.tables[part.name] = rows
        return size
    width = part.dtype(endian).itemsize
    mark = b""
    if part.size is not None:
        count = _size(part.size, parsed, start) // width
    elif part.until is not None:
        count, mark = _find_mark(part, parsed, source, start)
    assert count is not None
    size = count * width
    _check_fits(size, source, start, f"{count} records of {width} bytes")
    fixed = FixedRows(part, endian, reveal(part.obfuscation, source.read(start, size)))
    fixed.mark = mark
    parsed.tables[part.name] = fixed
    return size + len(mark)


def _find_mark(part: TablePart, parsed: Parsed, source: ByteSource, start: int) -> tuple[int, bytes]:
    """How many records of fixed size lie before the one that ends the table, and the bytes of that one."""
    endian, until = parsed.layout.endian, part.until
    assert until is not None
    dtype = part.dtype(endian)
    short = dtype.itemsize
    if not until.whole:
        form, begin = dtype.fields[until.field][:2]  # type: ignore[index]
        short = begin + form.itemsize
    batch, done = 1 << 14, 0
    while True:
        at = start + done * dtype.itemsize
        room = min(batch * dtype.itemsize, source.size - at)
        whole = room // dtype.itemsize
        raw = reveal(part.obfuscation, source.read(start, done * dtype.itemsize + room))[done * dtype.itemsize :]
        # The mark may be cut behind its field; what is missing counts as zeros.
        padded = raw[: (whole + 1) * dtype.itemsize].ljust((whole + 1) * dtype.itemsize, b"\0")
        rows = FixedRows(part, endian, padded)
        column = rows.leaf[until.field].column
        if column.number_like:
            hit = rows.raw(until.field) == (until.value or 0)
        else:
            hit = (rows.raw_bytes(column)[:, : column.character] == 0).all(axis=1)
        found = np.flatnonzero(hit)
        if len(found):
            first = int(found[0])
            if first * dtype.itemsize + short > len(raw):
                break
            begin = first * dtype.itemsize
            return done + first, raw[begin : begin + short]
        if at + room >= source.size:
            break
        done += whole
        batch *= 4
        if done * dtype.itemsize > LARGEST_PART:
            raise LimitError("No record ends the table within a sensible size.", offset=start)
    raise TruncatedError(
        f"No record ends the table: none has '{until.field}' as 'until' says.",
        offset=start,
        remedy="The file is cut short, or the layout does not fit it.",
    )


def _placed(start: int, work: Callable[[], T]) -> T:
    """Errors of a walk name places in its own data; the file's are what a person needs."""
    try:
        return work()
    except BraeError as error:
        if error.offset is not None:
            error.offset += start
        raise


def _look(part: Hidden, source: ByteSource, start: int, work: Callable[[Bytes], T]) -> T:
    """Do ``work`` on the bytes from ``start`` on, of which it takes as many as it needs."""
    length = _FIRST_LOOK
    while True:
        room = min(length, source.size - start)
        data = np.frombuffer(reveal(part.obfuscation, source.read(start, room)), np.uint8)
        try:
            return _placed(start, lambda: work(data))  # noqa: B023
        except TruncatedError:
            if start + room >= source.size:
                raise
        length *= 16
        if length > _LARGEST_WALK:
            raise LimitError(
                f"The records are more than the {_LARGEST_WALK} bytes that are sensible.", offset=start
            )


def _read_field(part: FieldPart, parsed: Parsed, start: int) -> int:
    source, endian = parsed.sources[part.file], parsed.layout.endian
    if part.prefix is not None:
        width = int(part.prefix[1:]) // 8
        head = reveal(part.obfuscation, source.read(start, width))
        size = int.from_bytes(head, part.order(endian))
        size = width + size * max(part.unit, part.character) + part.add
        if size < width:
            raise FormatError(f"A string of {size - width} bytes.", offset=start)
        _check_fits(size, source, start, f"{size} bytes")
        raw = source.read(start, size)
    elif part.end == "nul":
        longest = part.length if isinstance(part.length, int) else 4096
        raw = source.read(start, min(longest, source.size - start))
        plain = reveal(part.obfuscation, raw)
        step = part.character
        end = next((at for at in range(0, len(plain) - step + 1, step) if not any(plain[at : at + step])), None)
        if end is None:
            raise FormatError("No zero byte ends the string.", offset=start)
        raw = raw[: end + step]
    elif part.type in ("string", "bytes"):
        assert part.length is not None
        size = _size(part.length, parsed, start)
        _check_fits(size, source, start, f"{size} bytes")
        raw = source.read(start, size)
    else:
        raw = source.read(start, part.width)
    plain = reveal(part.obfuscation, raw)
    if part.number_like:
        if part.type in BASES:
            number = number_of(plain, BASES[part.type], start)
        else:
            number = int.from_bytes(plain, part.order(endian), signed=part.type[0] == "i")
        parsed.values[part.field] = number * part.unit + part.add
        for piece, shift in shifts(part):
            bits = (number >> shift) & ((1 << piece.bits) - 1)
            parsed.values[piece.field] = bits * piece.unit + piece.add
    parsed.texts[part.field] = plain
    if part.value is not None and plain != encode_value(part, part.value, endian, len(plain)):
        raise FormatError(
            f"The bytes are {plain[:16].hex(' ')}.",
            offset=start,
            expected=repr(part.value),
            remedy="This file is of another format, or of another version of it.",
        )
    parsed.regions[part.name] = Region(part, part.file, start, start + len(raw))
    return start + len(raw)


def encode_value(
    part: Value, value: int | str, endian: str, length: int | None = None, old: bytes | None = None
) -> bytes:
    """A field's value as bytes, a number as it is stored; FormatError where it does not fit.

    Digits are written the way the ``old`` ones are.
    """
    if isinstance(value, str):
        raw = value.encode("latin-1") if part.type == "bytes" else encode(value, part.encoding, endian)
        if part.prefix is not None:
            width = int(part.prefix[1:]) // 8
            body = raw + bytes(part.character if part.end else 0)
            counted = (len(body) - part.add) // max(part.unit, part.character)
            return counted.to_bytes(width, part.order(endian)) + body
        return raw.ljust(length or 0, b"\0")
    if part.type[0] == "f":
        return np.array(value, part.dtype(endian)).tobytes()
    if part.type in BASES:
        before = np.frombuffer((old or b"").ljust(part.width, b"\0"), np.uint8).reshape(1, -1)
        return as_text(np.array([value], np.int64), before, BASES[part.type]).tobytes()
    try:
        return int(value).to_bytes(part.width, part.order(endian), signed=part.type[0] == "i")
    except OverflowError as error:
        name = getattr(part, "field", part.type)
        raise FormatError(f"{value} does not fit the field '{name}' ({part.type}).") from error


def _size(expression: int | str, parsed: Parsed, start: int, unit: str = "bytes") -> int:
    size = expressions.evaluate(expression, parsed.values)
    if size < 0:
        raise FormatError(f"The number of {unit} is {size}.", offset=start, expected="zero or more")
    return size


def _check_fits(size: int, source: ByteSource, start: int, what: str, largest: int = LARGEST_PART) -> None:
    if start + size > source.size:
        raise TruncatedError(
            f"{what} were announced, but only {source.size - start} bytes follow.",
            offset=start,
            remedy="The file is cut short, or its header is damaged: fetch it again from the game.",
        )
    if size > largest:
        raise LimitError(f"{what} are more than the {largest} bytes that are sensible.", offset=start)
