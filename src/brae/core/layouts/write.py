"""From values back to bytes, by the same description.

The result of a rebuild is not bytes but *segments*: ranges to copy from the original, and new bytes. So an
archive of gigabytes is planned and proved without being read or written as a whole.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from brae.core.errors import LayoutError
from brae.core.layouts import checksums, expressions
from brae.core.layouts.model import FieldPart, MembersPart, NamesPart, PixelsPart, Range, TablePart
from brae.core.layouts.read import Parsed, encode_value, member_ranges
from brae.core.sources import ByteSource, FileSource, chunks


@dataclass(frozen=True)
class Copy:
    """Bytes that stay as they are in the original."""

    offset: int
    length: int


@dataclass(frozen=True)
class New:
    """Bytes that are written anew."""

    data: bytes

    @property
    def length(self) -> int:
        return len(self.data)


Segment = Copy | New


@dataclass
class Composed:
    """What a rebuild gives: for each file its segments in order, from the start."""

    sources: dict[str, ByteSource]
    segments: dict[str, list[Segment]] = field(default_factory=dict)

    def size(self, file: str) -> int:
        """How many bytes a file will have."""
        return sum(segment.length for segment in self.segments[file])

    def read(self, file: str) -> Iterator[bytes]:
        """A file's new bytes, piece by piece."""
        for segment in self.segments[file]:
            if isinstance(segment, New):
                yield segment.data
            else:
                yield from chunks(self.sources[file], segment.offset, segment.length)

    def fingerprint(self, file: str) -> str:
        """A hash of what the file is made of; equal for equal changes to the same original."""
        digest = hashlib.sha256()
        for segment in self.segments[file]:
            part = segment.data if isinstance(segment, New) else f"{segment.offset}+{segment.length}".encode()
            digest.update(f"{type(segment).__name__}:{len(part)}:".encode() + part)
        return digest.hexdigest()

    def changes(self, file: str) -> Iterator[tuple[int, bytes]]:
        """Offsets and new bytes wherever the file differs from the original, at equal positions.

        Only for a result of the original's own size in which nothing moves (a patch in place).
        """
        offset = 0
        for segment in self.segments[file]:
            if isinstance(segment, New):
                yield from differing_ranges(self.sources[file], offset, segment.data)
            else:
                assert segment.offset == offset, "a patch moves nothing"
            offset += segment.length

    def first_difference(self, file: str) -> int | None:
        """The first offset at which the file differs from the original, or None."""
        source, offset = self.sources[file], 0
        for segment in self.segments[file]:
            if isinstance(segment, New):
                same = min(segment.length, max(source.size - offset, 0))
                for start, _ in differing_ranges(source, offset, segment.data[:same]):
                    return start
                if same < segment.length:
                    return source.size
            elif segment.offset != offset:
                # Moved bytes may still be equal; comparing them is what decides.
                for part in chunks(source, segment.offset, segment.length):
                    same = min(len(part), max(source.size - offset, 0))
                    for start, _ in differing_ranges(source, offset, part[:same]):
                        return start
                    if same < len(part):
                        return source.size
                    offset += len(part)
                continue
            offset += segment.length
        return offset if offset < source.size else None


def differing_ranges(source: ByteSource, offset: int, data: bytes) -> Iterator[tuple[int, bytes]]:
    """The runs of ``data`` that differ from the source at ``offset``; runs closer than 64 bytes are one."""
    if not data:
        return
    new = np.frombuffer(data, np.uint8)
    old = np.frombuffer(source.read(offset, len(data)), np.uint8)
    places = np.flatnonzero(new != old)
    if not len(places):
        return
    for run in np.split(places, np.flatnonzero(np.diff(places) > 64) + 1):
        yield offset + int(run[0]), data[run[0] : run[-1] + 1]


@dataclass(frozen=True)
class MemberChange:
    """A member's new bytes: as stored in the archive, and unpacked."""

    stored: bytes
    real: bytes


def compose(
    parsed: Parsed,
    members: dict[int, MemberChange] | None = None,
    *,
    in_place: bool = False,
    pixels: bytes | None = None,
    values: dict[str, int] | None = None,
) -> Composed:
    """Everything written anew, with changed ``members`` (by index), or new ``pixels`` and header ``values``.

    Regions keep their order, the unknown bytes between them and their alignment; counts, sizes, offsets and
    checksums follow. With ``in_place`` nothing moves: every changed member must fit its slot.
    """
    return _Composer(parsed, members or {}, in_place, pixels, values or {}).run()


class _Composer:
    def __init__(
        self,
        parsed: Parsed,
        members: dict[int, MemberChange],
        in_place: bool,
        pixels: bytes | None,
        values: dict[str, int],
    ) -> None:
        self.parsed, self.members, self.in_place = parsed, members, in_place
        self.pixels, self.new_values = pixels, values
        self.endian = parsed.layout.endian
        self.tables = {name: table.copy() for name, table in parsed.tables.items()}
        self.contents: dict[str, list[Segment]] = {}
        self.starts: dict[str, int] = {}
        self.order: dict[str, list[tuple[str | None, list[Segment]]]] = {}

    def run(self) -> Composed:
        for file in self.parsed.sources:
            self._lay_out(file)
        self._move_names()
        for name, region in self.parsed.regions.items():
            if isinstance(region.part, FieldPart) and region.part.checksum is None:
                self.contents[name][:] = [New(self._field(region.part))]
        for name, table in self.tables.items():
            self.contents[name][:] = [New(table.tobytes())]
        self._fill_checksums()
        composed = Composed(dict(self.parsed.sources))
        for file, pieces in self.order.items():
            composed.segments[file] = [piece for _, content in pieces for piece in content if piece.length]
        return composed

    def _lay_out(self, file: str) -> None:
        """Give every region of a file its new start; what lies between regions is kept."""
        parsed = self.parsed
        source = parsed.sources[file]
        regions = sorted(
            (
                (region.start, index, name)
                for index, (name, region) in enumerate(parsed.regions.items())
                if region.file == file
            )
        )
        pieces: list[tuple[str | None, list[Segment]]] = []
        old_end = new_end = 0
        for start, _, name in regions:
            region = parsed.regions[name]
            part = region.part
            if start < old_end:
                raise LayoutError(f"'{name}' overlaps the part before it at {start}.", offset=start)
            gap = self._gap(source, old_end, start, new_end, part.align, part.fill)
            pieces.append((None, gap))
            new_start = new_end + sum(piece.length for piece in gap)
            self.starts[name] = new_start
            if isinstance(part, MembersPart):
                content = self._members(part, region.start, region.end, new_start)
            elif isinstance(part, PixelsPart) and self.pixels is not None:
                content = [New(self.pixels)]
            else:
                content = [Copy(start, region.end - start)]
            self.contents[name] = content
            pieces.append((name, content))
            old_end = region.end
            new_end = new_start + sum(piece.length for piece in content)
        pieces.append((None, [Copy(old_end, source.size - old_end)]))
        self.order[file] = pieces

    def _move_names(self) -> None:
        """Records that point into the file follow a block of names that moved."""
        for part in self.parsed.layout.parts:
            if not isinstance(part, NamesPart) or part.base is None:
                continue
            bases = [
                expressions.evaluate(part.base, values) for values in (self.parsed.values, self._known_values())
            ]
            shift = self.starts[part.name] - self.parsed.regions[part.name].start + bases[0] - bases[1]
            for region in self.parsed.regions.values():
                column = region.part.column("name-offset") if isinstance(region.part, TablePart) else None
                if column is not None and shift:
                    table = self.tables[region.part.name]
                    self._store(table, column.field, slice(None), table[column.field].astype(np.int64) + shift)

    @staticmethod
    def _gap(source: ByteSource, old_end: int, old_next: int, new_end: int, align: int, fill: int) -> list[Segment]:
        """The bytes between two neighbours: padding is made anew, unknown bytes are kept before it."""
        length = old_next - old_end
        if length == -old_end % align and (length == 0 or source.read(old_end, length) == bytes([fill]) * length):
            return [New(bytes([fill]) * (-new_end % align))]
        return [Copy(old_end, length), New(bytes([fill]) * (-(new_end + length) % align))]

    def _members(self, part: MembersPart, start: int, end: int, new_start: int) -> list[Segment]:
        """Lay out the members' area: unchanged runs are copied, changed members and their padding are new."""
        source = self.parsed.sources[part.file]
        offsets, sizes = member_ranges(self.parsed, part)
        table = self.tables[part.of]
        table_part = self.parsed.regions[part.of].part
        assert isinstance(table_part, TablePart)
        starts = np.unique(offsets[sizes > 0])
        ends = np.zeros_like(starts)
        np.maximum.at(ends, np.searchsorted(starts, offsets[sizes > 0]), (offsets + sizes)[sizes > 0])
        if len(starts) and starts[0] < start:
            raise LayoutError(f"A member lies at {starts[0]}, before the members' area.", offset=int(starts[0]))
        if np.any(starts[1:] < ends[:-1]):
            place = int(starts[1:][starts[1:] < ends[:-1]][0])
            raise LayoutError(f"Members overlap at {place}.", offset=place)

        segments: list[Segment] = []
        position, shift = start, new_start - start
        new_offsets = offsets.copy()
        boundaries, shifts = [np.int64(-1)], [shift]
        for index in sorted(self.members, key=lambda i: (int(offsets[i]), i)):
            change = self.members[index]
            old_start, old_end = int(offsets[index]), int(offsets[index] + sizes[index])
            shared = int(np.count_nonzero((offsets == old_start) & (sizes > 0))) > 1
            if shared or sizes[index] == 0:
                raise LayoutError(
                    "This member shares its data with another."
                    if shared
                    else "This member has no data of its own.",
                    remedy="It is left as it is; such members cannot be changed yet.",
                )
            after = int(np.searchsorted(starts, old_start, "right"))
            old_next = int(starts[after]) if after < len(starts) else end
            segments += [Copy(position, old_start - position), New(change.stored)]
            new_end = old_start + shift + len(change.stored)
            new_offsets[index] = old_start + shift
            if self.in_place:
                room = old_next - old_start
                if len(change.stored) > room:
                    raise LayoutError(f"{len(change.stored)} bytes do not fit the slot of {room}.")
                blank = max(old_end - old_start - len(change.stored), 0)
                segments.append(New(bytes([part.fill]) * blank))
                position = max(old_end, old_start + len(change.stored))
            else:
                last = after == len(starts)
                align = part.align if not last or part.pad_last else 1
                gap = self._gap(source, old_end, old_next, new_end, align, part.fill)
                segments += gap
                position = old_next
                shift = new_end + sum(piece.length for piece in gap) - old_next
                boundaries.append(np.int64(old_start))
                shifts.append(shift)
            self._describe_member(table_part, table, index, change)
        segments.append(Copy(position, end - position))

        untouched = np.ones(len(offsets), bool)
        untouched[list(self.members)] = False
        moved = offsets + np.array(shifts)[np.searchsorted(np.array(boundaries), offsets, "left") - 1]
        new_offsets[untouched] = moved[untouched]
        column = table_part.column("offset")
        assert column is not None
        base = expressions.evaluate(part.base, self._known_values())
        self._store(table, column.field, slice(None), new_offsets - base)
        return segments

    def _known_values(self) -> dict[str, int]:
        """Values for a ``base``, with fields that locate a part already at their new place."""
        values = dict(self.parsed.values)
        for other in self.parsed.layout.parts:
            if isinstance(other, FieldPart) and other.locates in self.starts:
                values[other.field] = self.starts[other.locates]
        return values

    def _describe_member(
        self, part: TablePart, table: np.ndarray[Any, Any], index: int, change: MemberChange
    ) -> None:
        for column in part.record:
            if column.role == "stored-size":
                self._store(table, column.field, index, len(change.stored))
            elif column.role == "real-size":
                self._store(table, column.field, index, len(change.real))
            elif column.checksum is not None:
                data = change.stored if column.checksum.over == "stored" else change.real
                total = checksums.checksum(column.checksum.kind, [data])
                bits = table[column.field].dtype.itemsize * 8
                self._store(table, column.field, index, total & ((1 << bits) - 1))

    @staticmethod
    def _store(table: np.ndarray[Any, Any], name: str, where: int | slice, value: Any) -> None:
        limits = np.iinfo(table[name].dtype)
        if np.any(np.asarray(value) > limits.max) or np.any(np.asarray(value) < limits.min):
            raise LayoutError(f"A value is too large for '{name}': the archive would grow beyond its format.")
        table[name][where] = value

    def _field(self, part: FieldPart) -> bytes:
        """The bytes of a header field, computed where the layout says from what."""
        number: int | None = self.new_values.get(part.field)
        if part.counts is not None:
            number = len(self.tables[part.counts])
        elif part.measures is not None:
            number = sum(piece.length for piece in self.contents[part.measures])
        elif part.locates is not None:
            number = self.starts[part.locates]
        elif part.measures_file is not None:
            number = sum(piece.length for _, content in self.order[part.measures_file] for piece in content)
        raw = self.parsed.texts[part.field]
        if number is not None:
            return encode_value(part, number, self.endian)
        if part.value is not None:
            return encode_value(part, part.value, self.endian, len(raw))
        return raw

    def _fill_checksums(self) -> None:
        """Header checksums, those that cover other checksums last."""
        waiting = {
            name: region.part
            for name, region in self.parsed.regions.items()
            if isinstance(region.part, FieldPart) and region.part.checksum is not None
        }
        for name in waiting:
            self.contents[name][:] = [New(bytes(len(self.parsed.texts[name])))]
        while waiting:
            ready = [name for name, part in waiting.items() if not (self._covered(part) & waiting.keys()) - {name}]
            if not ready:
                raise LayoutError(f"The checksums {', '.join(waiting)} cover each other.")
            for name in ready:
                part = waiting.pop(name)
                assert part.checksum is not None
                total = checksums.checksum(part.checksum.kind, self._covered_bytes(part))
                width = len(self.parsed.texts[name])
                self.contents[name][:] = [New(encode_value(part, total & ((1 << 8 * width) - 1), self.endian))]

    def _covered(self, part: FieldPart) -> set[str]:
        assert part.checksum is not None
        if isinstance(part.checksum.over, list):
            return set(part.checksum.over)
        low, high = self._range(part)
        return {
            name
            for name, start in self.starts.items()
            if self.parsed.regions[name].file == part.file
            and start < high
            and start + sum(piece.length for piece in self.contents[name]) > low
        }

    def _range(self, part: FieldPart) -> tuple[int, int]:
        assert part.checksum is not None
        assert isinstance(part.checksum.over, Range)
        covered = part.checksum.over
        low = expressions.evaluate(covered.start, self.parsed.values)
        if covered.to is not None:
            return low, expressions.evaluate(covered.to, self.parsed.values)
        return low, sum(piece.length for _, content in self.order[part.file] for piece in content)

    def _covered_bytes(self, part: FieldPart) -> Iterator[bytes]:
        assert part.checksum is not None
        if isinstance(part.checksum.over, list):
            for name in part.checksum.over:
                yield from self._bytes_of(self.contents[name], self.parsed.regions[name].file)
            return
        low, high = self._range(part)
        position = 0
        for _, content in self.order[part.file]:
            for data in self._bytes_of(content, part.file):
                if position < high and position + len(data) > low:
                    yield data[max(low - position, 0) : high - position]
                position += len(data)

    def _bytes_of(self, content: list[Segment], file: str) -> Iterator[bytes]:
        for piece in content:
            if isinstance(piece, New):
                yield piece.data
            else:
                yield from chunks(self.parsed.sources[file], piece.offset, piece.length)


def write_beside(
    composed: Composed,
    file: str,
    target: Path,
    progress: Callable[[int], None] | None = None,
    *,
    digest: bool = False,
) -> str:
    """Write one file of a result to ``target`` and flush it to the disk; ``progress`` is told how many bytes.

    Returns its SHA-256 where ``digest`` asks for it. Without it the operating system copies what is only copied.
    """
    total = hashlib.sha256()
    with target.open("wb", buffering=0) as stream:

        def put(data: bytes) -> None:
            view = memoryview(data)
            while view:
                view = view[stream.write(view) :]
            if digest:
                total.update(data)
            if progress:
                progress(len(data))

        for segment in composed.segments[file]:
            if isinstance(segment, New):
                put(segment.data)
                continue
            start, length = segment.offset, segment.length
            source = composed.sources[file]
            if not digest and isinstance(source, FileSource):
                copied = source.copy_to(stream.fileno(), start, length, progress)
                start, length = start + copied, length - copied
            for part in chunks(source, start, length):
                put(part)
        os.fsync(stream.fileno())
    return total.hexdigest() if digest else ""
