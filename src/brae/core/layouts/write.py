"""From values back to bytes, by the same description."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterator, Sequence
from typing import Literal

import numpy as np

from brae.core.errors import LayoutError
from brae.core.layouts import checksums, expressions, links
from brae.core.layouts.directory import Directory, alignments
from brae.core.layouts.directory import directory as directory_of
from brae.core.layouts.edits import Edits
from brae.core.layouts.fields import FieldPart, Hidden, Leaf, Range
from brae.core.layouts.members import Inner, Slots, compose_chunks, describe_member, inner_of, restructure
from brae.core.layouts.model import Numbered
from brae.core.layouts.obfuscation import hide
from brae.core.layouts.parts import ChunksPart, MembersPart, NamesPart, PixelsPart, Records, StreamPart, shifts
from brae.core.layouts.read import Parsed, encode_value
from brae.core.layouts.rows import Ints, Rows
from brae.core.layouts.segments import Composed, Copy, New, Segment, body_segments, parts
from brae.core.layouts.streams import BlockSource, Made, packed_again, resize, written
from brae.core.layouts.trees import Tree
from brae.core.sources import MAIN, ByteSource, chunks


def compose(
    parsed: Parsed,
    directory: Directory | None = None,
    edits: Edits | None = None,
    *,
    in_place: bool = False,
    pixels: bytes | None = None,
    values: dict[str, int] | None = None,
) -> Composed:
    """Everything written anew, with ``edits`` to the members, or new ``pixels`` and header ``values``.

    Regions keep their order, the unknown bytes between them and their alignment; counts, sizes, offsets and
    checksums follow. With ``in_place`` nothing moves: every changed member must fit its slot.
    """
    if directory is None and parsed.layout.content is not None:
        directory = directory_of(parsed)
    composer = _Composer(parsed, directory, edits or Edits(), in_place, pixels, values or {})
    for _ in range(_MOST_ROUNDS):
        result = composer.run()
        if not composer.grown:
            return result
        if in_place:
            raise LayoutError("A record would have another length, so everything behind it would move.")
    raise LayoutError("The sizes of the records do not settle: numbers of variable length depend on each other.")


def _fixed(part: object) -> bool:
    """Whether members begin at a fixed place: where everything is empty, what a field locates comes behind them."""
    return isinstance(part, MembersPart) and part.at is not None and not expressions.field_names(part.at)


#: a table whose numbers have a variable length may move what its numbers say, so it is written again
_MOST_ROUNDS = 8


class _Composer:
    def __init__(
        self,
        parsed: Parsed,
        directory: Directory | None,
        edits: Edits,
        in_place: bool,
        pixels: bytes | None,
        values: dict[str, int],
    ) -> None:
        self.parsed, self.directory, self.edits, self.in_place = parsed, directory, edits, in_place
        self.pixels, self.new_values = pixels, values
        self.endian = parsed.layout.endian
        self.tables: dict[str, Rows] = {
            name: table.copy() for name, table in parsed.tables.items() if name not in parsed.trees
        }
        self.trees = {name: tree.copy() for name, tree in parsed.trees.items()}
        self.tables |= {name: tree.files for name, tree in self.trees.items()}
        #: parts whose content is already known before anything is laid out
        self.blocks: dict[str, bytes] = {}
        self.table = None if directory is None or directory.table is None else self._table_of(directory)
        #: the record of each member, and of each added one
        self.row_of = None if directory is None else directory.rows.copy()
        self.new_rows: list[int] = []
        self.grown = False
        #: where the members begin and end, as they will be
        self.member_spans = np.empty(0, np.int64), np.empty(0, np.int64)
        #: where in the block of names those of the added members begin
        self.name_places: list[int] = []
        structural = bool(edits.added or edits.removed)
        if directory is not None and edits.removed:
            links.check_removal(parsed, directory, edits.removed)
        if structural and not (directory is not None and isinstance(directory.part, ChunksPart)):
            assert directory is not None
            assert self.row_of is not None
            added = restructure(
                parsed, directory, edits, self.table, self.row_of, self.tables, self._tree_of(directory)
            )
            self.new_rows, self.name_places = added.rows, added.name_places
            self.blocks |= added.blocks

    def _tree_of(self, directory: Directory) -> Tree | None:
        return self.trees.get(getattr(directory.part, "of", None) or "")

    def _table_of(self, directory: Directory) -> Rows:
        part = directory.part
        return self.tables[part.name if isinstance(part, ChunksPart) else part.of or ""]

    def run(self) -> Composed:
        self.contents: dict[str, list[Segment]] = {}
        self.starts: dict[str, int] = {}
        #: bytes of members that lie around other parts, with those
        self.lengths: dict[str, int] = {}
        self.ends: dict[str, list[int]] = {}
        self.order: dict[str, list[tuple[str | None, list[Segment]]]] = {}
        # What is packed in blocks comes first: how many blocks there are tells how long their table is.
        streams = self.parsed.layout.streams
        self.blocks_made: dict[str, list[Made]] = {}
        for name, stream in streams.items():
            self._lay_out(name)
            self._pack_blocks(stream)
        sizes = {name: len(table.block()) for name, table in self.tables.items()}
        for file in self.parsed.sources:
            if file not in streams:
                self._lay_out(file)
        self._move_names()
        self.grown = any(len(table.block()) != sizes[name] for name, table in self.tables.items())
        for name, region in self.parsed.regions.items():
            if isinstance(region.part, FieldPart) and region.part.checksum is None:
                self._fill(name, self._field(region.part))
        for name, table in self.tables.items():
            if not isinstance(self.parsed.regions[name].part, ChunksPart):
                self._fill(name, table.block())
        self._fill_checksums()
        files = {name: source for name, source in self.parsed.sources.items() if name not in streams}
        composed = Composed(files, ends=self.ends)
        for file, pieces in self.order.items():
            if file in streams:
                continue
            composed.segments[file] = [piece for _, content in pieces for piece in content if piece.length]
        return composed

    def _fill(self, name: str, content: bytes) -> None:
        """Give a part its bytes, as the file has them."""
        part = self.parsed.regions[name].part
        assert isinstance(part, Hidden)
        self.contents[name][:] = [New(hide(part.obfuscation, content))]

    def _lay_out(self, file: str) -> None:
        """Give every region of a file its new start; what lies between regions is kept."""
        parsed = self.parsed
        source = parsed.sources[file]
        regions = sorted(
            (
                (region.start, region.end, not _fixed(region.part), index, name)
                for index, (name, region) in enumerate(parsed.regions.items())
                if region.file == file
            )
        )
        pieces: list[tuple[str | None, list[Segment]]] = []
        old_end = new_end = 0
        content_part = parsed.layout.content
        among = inner_of(parsed, content_part) if content_part is not None and content_part.file == file else []
        inner = {one.name for one in among}
        for start, *_, name in regions:
            region = parsed.regions[name]
            part = region.part
            if name in inner:
                continue  # it is laid out with the members between which it lies
            if start < old_end:
                raise LayoutError(f"'{name}' overlaps the part before it at {start}.", offset=start)
            # What counts from a place of its own begins there, whatever that is a multiple of.
            align = 1 if isinstance(part, MembersPart) and part.align_from != 0 else part.align
            gap = self._gap(source, old_end, start, new_end, align, part.fill)
            pieces.append((None, gap))
            new_start = new_end + sum(piece.length for piece in gap)
            self.starts[name] = new_start
            old_end = region.end
            if isinstance(part, MembersPart) and inner:
                laid = self._members_around(part, region.start, region.end, new_start, among)
                self.contents[name] = [piece for other, content in laid if other is None for piece in content]
                pieces += laid
                self.lengths[name] = sum(piece.length for _, content in laid for piece in content)
                new_end = new_start + self.lengths[name]
                continue
            content = self._content(name, new_start)
            self.contents[name] = content
            pieces.append((name, content))
            new_end = new_start + sum(piece.length for piece in content)
        pieces.append((None, self._rest(file, source, old_end, new_end)))
        self.order[file] = pieces

    def _rest(self, file: str, source: ByteSource, old_end: int, new_end: int) -> list[Segment]:
        """What lies behind the last part; in a file of fixed size, padding that takes up the difference."""
        rest = source.size - old_end
        if not self.parsed.layout.fixed_size or file != MAIN or new_end + rest == source.size:
            return [Copy(old_end, rest)]
        content = self.parsed.layout.content
        fill = bytes([content.fill if content is not None else 0])
        room = source.size - new_end
        if any(piece.strip(fill) for piece in chunks(source, old_end, rest)):
            raise LayoutError(
                "The file has a fixed size, and the bytes at its end are no padding to make room with."
            )
        if room < 0:
            raise LayoutError(
                f"The file has a fixed size of {source.size} bytes; {-room} more would be needed.",
                remedy="Make the changed members smaller.",
            )
        return [New(fill * room)]

    def _pack_blocks(self, part: StreamPart) -> None:
        """The blocks of a stream for what is to lie in it; its table has as many records from now on."""
        if self.in_place and (self.edits.changed or self.edits.added or self.edits.removed):
            raise LayoutError(f"The members lie in '{part.stream}', whose blocks are packed anew.")
        source = self.parsed.sources[part.stream]
        assert isinstance(source, BlockSource)
        pieces = [piece for _, content in self.order[part.stream] for piece in content if piece.length]
        begins, ends = self.member_spans

        def used(place: int, length: int) -> int:
            inside = (begins < place + length) & (ends > place)
            return int(np.minimum(ends[inside], place + length).max(initial=place)) - place

        self.blocks_made[part.stream] = packed_again(source.blocks, pieces, used)
        resize(self.tables[part.of], len(self.blocks_made[part.stream]))

    def _stream(self, part: StreamPart, new_start: int) -> list[Segment]:
        source = self.parsed.sources[part.stream]
        assert isinstance(source, BlockSource)
        base = expressions.evaluate(part.base, self._known_values())
        table, before = self.tables[part.of], self.parsed.tables[part.of]
        return written(source.blocks, table, before, self.blocks_made[part.stream], new_start, base)

    def _content(self, name: str, new_start: int) -> list[Segment]:
        region = self.parsed.regions[name]
        part = region.part
        if isinstance(part, StreamPart):
            return self._stream(part, new_start)
        if isinstance(part, MembersPart):
            ((_, content),) = self._members_around(part, region.start, region.end, new_start, [])
            return content
        if isinstance(part, ChunksPart):
            assert self.directory is not None
            assert self.parsed.chunks is not None
            return compose_chunks(
                part, self.parsed.chunks, self.tables[name], self.directory, self.edits, region.start, region.end,
                self.in_place, self.parsed.sources[part.file],
            )  # fmt: skip
        if isinstance(part, PixelsPart) and self.pixels is not None:
            return [New(hide(part.obfuscation, self.pixels))]
        if name in self.tables:
            return [New(bytes(len(self.tables[name].block())))]  # its place; the bytes come at the end
        if name in self.blocks:
            assert isinstance(part, Hidden)
            return [New(hide(part.obfuscation, self.blocks[name]))]
        return [Copy(region.start, region.end - region.start)]

    def _move_names(self) -> None:
        """Records that point into the file follow a block of names that moved."""
        for part in self.parsed.layout.parts:
            if not isinstance(part, NamesPart) or part.base is None:
                continue
            bases = [
                expressions.evaluate(part.base, values) for values in (self.parsed.values, self._known_values())
            ]
            shift = self.starts[part.name] - self.parsed.regions[part.name].start + bases[0] - bases[1]
            if not shift:
                continue
            for name, region in self.parsed.regions.items():
                leaf = region.part.column("name-offset") if isinstance(region.part, Records) else None
                if leaf is None:
                    continue
                old = self.parsed.tables[name].numbers(leaf.field)
                directory = self.directory
                if (
                    directory is not None
                    and directory.table is self.parsed.tables[name]
                    and self.row_of is not None
                ):
                    kept = self.row_of >= 0
                    self.tables[name].put(leaf.field, self.row_of[kept], old[directory.rows[kept]] + shift)
                    for row, place in zip(self.new_rows, self.name_places, strict=True):
                        self.tables[name].put(leaf.field, row, self.starts[part.name] - bases[1] + place)
                else:
                    self.tables[name].put(leaf.field, slice(None), old + shift)

    @staticmethod
    def _gap(
        source: ByteSource, old_end: int, old_next: int, new_end: int, align: int, fill: int,
        origins: tuple[int, int] = (0, 0),
    ) -> list[Segment]:  # fmt: skip
        """The bytes between two neighbours: padding is made anew, unknown bytes are kept before it.

        Alignment counts from ``origins``, the old and the new beginning of the file.
        """
        length, old_origin, new_origin = old_next - old_end, *origins
        plain = length == 0 or source.read(old_end, length) == bytes([fill]) * length
        if length == (old_origin - old_end) % align and plain:
            return [New(bytes([fill]) * ((new_origin - new_end) % align))]
        return [Copy(old_end, length), New(bytes([fill]) * ((new_origin - new_end - length) % align))]

    def _members_around(
        self, part: MembersPart, start: int, end: int, new_start: int, inner: Sequence[Inner]
    ) -> list[tuple[str | None, list[Segment]]]:
        """Lay out the members' area: unchanged runs are copied, changed members and their padding are new.

        Parts that lie among them (``inner``) are laid out where they come, each as a piece of its own.
        """
        found = self.directory
        assert found is not None
        source = self.parsed.sources[part.file]
        offsets, sizes = found.offsets, found.stored
        slots = Slots(found, start, end, inner)
        only_sizes = found.table is not None and found.leaf("offset") is None and part.offset is None
        sized = found.leaf("stored-size") or found.leaf("end-offset") or part.size is not None
        only_offsets = found.table is not None and not sized
        fill = bytes([part.fill])

        segments: list[Segment] = []
        laid: list[tuple[str | None, list[Segment]]] = [(None, segments)]
        if inner and only_sizes:
            raise LayoutError("Members whose places only their sizes tell cannot lie around other parts.")
        waiting = list(inner)
        position, shift = start, new_start - start
        new_offsets = offsets.copy()
        new_sizes = sizes.copy()
        boundaries, shifts = [np.int64(-1)], [shift]
        appended: list[int] = []
        # Numbered files each count their own bytes: where the present one began, and where it begins now.
        origins = self._origins(part)
        # Where only sizes tell the places, what is new lies where its record does.
        between = self._between(len(offsets)) if only_sizes else {}
        inserted: dict[int, int] = {}
        touched_here = self.edits.changed.keys() | self.edits.removed | between.keys()
        work = sorted(touched_here, key=lambda i: (int(offsets[i]), i))
        if part.align_by and work and not self.in_place:
            # Alignments differ, so each member behind the first change may need other padding.
            first = int(offsets[work[0]])
            own = set(work)
            work = [
                int(i) for i in np.lexsort((np.arange(len(offsets)), offsets)) if i in own or offsets[i] >= first
            ]
        for index in [*work, None]:
            while waiting and (index is None or waiting[0].start <= offsets[index]):
                one = waiting.pop(0)
                before = int((offsets + sizes)[offsets < one.start].max(initial=position))
                if shift != new_start - start and position <= before <= one.start:
                    # What lies before it may end elsewhere now, and the part begins at a place that it may have.
                    gap = self._gap(source, before, one.start, before + shift, one.align, part.fill)
                    segments += [Copy(position, before - position), *gap]
                    position, shift = one.start, before + shift + sum(piece.length for piece in gap) - one.start
                segments.append(Copy(position, one.start - position))
                self.starts[one.name] = one.start + shift
                content = self._content(one.name, one.start + shift)
                self.contents[one.name] = content
                segments = []
                laid += [(one.name, content), (None, segments)]
                position, length = one.end, sum(piece.length for piece in content)
                boundaries.append(np.int64(one.start))
                if length == one.end - one.start and shift == new_start - start:
                    shifts.append(shift)
                    continue
                # A part that moved or grew moves what follows it, to a place that it may have.
                old_next, align = slots.after(one.start)
                new_end = one.start + shift + length
                gap = self._gap(source, one.end, old_next, new_end, align, part.fill, origins)
                segments += gap
                position, shift = old_next, new_end + sum(piece.length for piece in gap) - old_next
                shifts.append(shift)
            if index is None:
                break
            if found.walls:
                origin = (0, *found.walls)[found.numbers[index]]
                origins = origins if origins[0] == origin else (origin, origin + shift)
            change = self.edits.changed.get(index)
            removed = index in self.edits.removed
            old_start, old_end = int(offsets[index]), int(offsets[index] + sizes[index])
            alone = sizes[index] > 0 and not slots.shared(index)
            if not alone and not (only_sizes and not removed):
                # Its data is another's too, or there is none: what is new goes behind all others.
                if change is not None:
                    if self.in_place or only_offsets or only_sizes:
                        raise LayoutError(
                            "This member has no data of its own, and these records cannot point elsewhere."
                        )
                    appended.append(index)
                continue
            old_next, align = slots.next(index, alone)
            segments.append(Copy(position, old_start - position))
            for new in between.get(index, ()):
                stored = self.edits.added[new].change.stored
                inserted[new] = old_start + shift
                padding = (origins[1] - old_start - shift - len(stored)) % part.align
                segments += [*body_segments(stored), New(fill * padding)]
                shift += len(stored) + padding
            if change is not None:
                segments += body_segments(change.stored)
                new_sizes[index] = len(change.stored)
            elif not removed:
                segments.append(Copy(old_start, old_end - old_start))
            length = 0 if removed else int(new_sizes[index])
            new_end = old_start + shift + length
            new_offsets[index] = old_start + shift
            if self.in_place:
                room = old_next - old_start
                if not slots.fits(index, length):
                    raise LayoutError(f"{length} bytes do not fit the slot of {room}.")
                segments.append(New(fill * max(old_end - old_start - length, 0)))
                position = max(old_end, old_start + length)
                continue
            last = old_next >= end or old_next in found.walls
            if last and not part.pad_last:
                align = 1
            if removed or (only_sizes and last):
                gap = [New(fill * ((origins[1] - new_end) % align))]
            else:
                gap = self._gap(source, old_end, old_next, new_end, align, part.fill, origins)
            segments += gap
            position = old_next
            shift = new_end + sum(piece.length for piece in gap) - old_next
            boundaries.append(np.int64(old_start))
            shifts.append(shift)
        segments.append(Copy(position, end - position))

        touched = np.zeros(len(offsets), bool)
        touched[work] = True
        # Members without data may point anywhere, and then they go on doing so.
        touched |= (sizes == 0) & ((offsets < start) | (offsets > end))
        moved = offsets + np.array(shifts)[np.searchsorted(np.array(boundaries), offsets, "left") - 1]
        new_offsets[~touched] = moved[~touched]
        new_end = end + shift
        old_walls = np.array([0, *found.walls], np.int64)
        walls = old_walls + np.array(shifts)[np.searchsorted(boundaries, old_walls) - 1]
        walls[0], file_origin = 0, int(walls[-2]) if found.walls else 0
        origin = file_origin or self._origins(part)[1]
        added_offsets: list[int] = []
        ends = new_end
        late = [number for number in range(len(self.edits.added)) if number not in inserted]
        if only_sizes:
            late.sort(key=lambda number: self.new_rows[number])
        added = [self.edits.added[number] for number in late]
        rest = [(self._align_of(part, new.name), new.change.stored, None) for new in added]
        for align, stored, index_or_none in [
            *((int(found.aligns[i]), self.edits.changed[i].stored, i) for i in appended),
            *rest,
        ]:
            segments.append(New(fill * ((origin - new_end) % align)))
            new_end += (origin - new_end) % align
            segments += body_segments(stored)
            if index_or_none is None:
                added_offsets.append(new_end)
            else:
                new_offsets[index_or_none], new_sizes[index_or_none] = new_end, len(stored)
            new_end += len(stored)
            ends = new_end
        inserted |= dict(zip(late, added_offsets, strict=True))
        added_offsets = [inserted[number] for number in range(len(self.edits.added))]
        if part.pad_last and (appended or rest):
            segments.append(New(fill * ((origin - new_end) % part.align)))
        begins = np.zeros(len(offsets), np.int64)
        if found.walls:
            numbers = found.numbers.copy()
            numbers[appended] = len(found.walls) - 1
            begins = walls[numbers]
            self._number_files(found, numbers)
            self.ends[part.file] = walls[1:-1].tolist()
        lengths = [len(new.change.stored) for new in self.edits.added]
        kept = [index for index in range(len(offsets)) if index not in self.edits.removed]
        begun = np.append(new_offsets[kept], added_offsets).astype(np.int64)
        self.member_spans = begun, begun + np.append(new_sizes[kept], lengths).astype(np.int64)
        self._describe_members(
            part, found, new_offsets - begins, new_sizes, [offset - file_origin for offset in added_offsets], ends
        )
        return laid

    def _between(self, count: int) -> dict[int, list[int]]:
        """Of each member before whose record new ones stand, which of the added ones those are, in order."""
        if self.row_of is None:
            return {}
        rows = [(int(self.row_of[index]), index) for index in range(count) if self.row_of[index] >= 0]
        rows.sort()
        found: dict[int, list[int]] = {}
        for row, number in sorted(zip(self.new_rows, range(len(self.new_rows)), strict=True)):
            place = bisect_left(rows, (row, -1))
            if place < len(rows):
                found.setdefault(rows[place][1], []).append(number)
        return found

    def _origins(self, part: MembersPart) -> tuple[int, int]:
        """Where alignment counts from, in the original and now."""
        if part.align_from == 0:
            return 0, 0
        return (
            expressions.evaluate(part.align_from, self.parsed.values),
            expressions.evaluate(part.align_from, self._known_values()),
        )

    def _number_files(self, found: Directory, numbers: Ints) -> None:
        """Tell the records in which of the numbered files each member lies."""
        leaf, numbered = found.leaf("file-number"), self.parsed.layout.files[found.part.file]
        assert leaf is not None
        assert self.table is not None
        assert self.row_of is not None
        assert isinstance(numbered, Numbered)
        kept = self.row_of >= 0
        self.table.put(leaf.field, self.row_of[kept], numbers[kept] + numbered.first)
        self.table.put(leaf.field, np.array(self.new_rows, np.int64), len(found.walls) - 1 + numbered.first)

    @staticmethod
    def _align_of(part: MembersPart, name: str) -> int:
        return int(alignments(part, [name])[0])

    def _describe_members(
        self, part: MembersPart, found: Directory, offsets: Ints, sizes: Ints, added: list[int], ends: int
    ) -> None:
        """Tell the records where everything lies now."""
        if self.table is None or self.row_of is None:
            return
        base = expressions.evaluate(part.base, self._known_values())
        at, end = found.leaf("offset"), found.leaf("end-offset")
        kept = self.row_of >= 0
        if at is not None:
            self.table.put(at.field, self.row_of[kept], offsets[kept] - base)
            for row, offset in zip(self.new_rows, added, strict=True):
                self.table.put(at.field, row, offset - base)
            if part.last_ends and len(self.table):
                self._put_end(part, found, at, offsets, sizes, base, ends)
        if end is not None:
            self.table.put(end.field, self.row_of[kept], (offsets + sizes)[kept] - base)
            for row, offset, new in zip(self.new_rows, added, self.edits.added, strict=True):
                self.table.put(end.field, row, offset + len(new.change.stored) - base)
        for index, change in self.edits.changed.items():
            describe_member(found, self.table, int(self.row_of[index]), change)
        for row, new in zip(self.new_rows, self.edits.added, strict=True):
            describe_member(found, self.table, row, new.change)
        self._put_followers(found, offsets - base, sizes, [offset - base for offset in added])

    def _put_followers(self, found: Directory, offsets: Ints, sizes: Ints, added: list[int]) -> None:
        """Write the records' fields that follow from their members, of all members: what is wrong shows."""
        records, table = found.records, self.table
        followers = [] if records is None else [leaf for leaf in records.leaves if leaf.meant.is_ is not None]
        if not followers or table is None or self.row_of is None:
            return
        kept = np.flatnonzero(self.row_of >= 0)
        real = found.real.copy()
        for index, change in self.edits.changed.items():
            real[index] = len(change.real)
        new = [one.change for one in self.edits.added]
        names = [*(found.names[index] for index in kept.tolist()), *(one.name for one in self.edits.added)]
        stored = np.append(sizes[kept], [len(change.stored) for change in new]).astype(np.int64)
        begins = np.append(offsets[kept], added).astype(np.int64)
        rows = np.append(self.row_of[kept], self.new_rows).astype(np.int64)
        facts = {
            "stored_size": stored,
            "real_size": np.append(real[kept], [len(change.real) for change in new]).astype(np.int64),
            "offset": begins,
            "end_offset": begins + stored,
            "index": rows,
            "name_length": np.array([len(name.encode("utf-8", "surrogateescape")) for name in names], np.int64),
        }
        for leaf in followers:
            assert leaf.meant.is_ is not None
            table.put(leaf.field, rows, expressions.evaluate_columns(leaf.meant.is_, facts, len(rows)))

    def _put_end(
        self, part: MembersPart, found: Directory, at: Leaf, offsets: Ints, sizes: Ints, base: int, ends: int
    ) -> None:
        assert self.table is not None
        old = int(self.parsed.tables[part.of or ""].numbers(at.field)[-1]) + base
        if self.edits.changed or self.edits.added or self.edits.removed:
            # Padding behind the last member counts as it did in the original.
            alive = np.ones(len(offsets), bool)
            alive[list(self.edits.removed)] = False
            end = max(int((offsets + sizes)[alive].max(initial=self.starts.get(part.name, 0))), ends)
            region = self.parsed.regions[part.name]
            padding = (self._origins(part)[1] - end) % part.align
            old = end + (padding if part.pad_last and old == region.end else 0)
        else:
            old += self.starts[part.name] - self.parsed.regions[part.name].start
        self.table.put(at.field, len(self.table) - 1, old - base)

    def _known_values(self) -> dict[str, int]:
        """Values for a ``base``, with fields that locate or measure a part as they will be."""
        values = dict(self.parsed.values)
        for other in self.parsed.layout.parts:
            if not isinstance(other, FieldPart) or other.is_ is None:
                continue
            if all(self._is_placed(*asked) for asked in expressions.calls(other.is_)):
                values[other.field] = expressions.evaluate(other.is_, values, self._ask)
        return values

    def _is_placed(self, function: str, name: str) -> bool:
        """Whether a question about a part can be answered while the others are still laid out."""
        if function in ("offset", "start"):
            return name in self.starts
        return function in ("size", "end", "count") and name in self.contents

    def _field(self, part: FieldPart) -> bytes:
        """The bytes of a header field, computed where the layout says from what."""
        number: int | None = self.new_values.get(part.field)
        if part.is_ is not None:
            number = expressions.evaluate(part.is_, self._known_values() | self.new_values, self._ask)
        raw = self.parsed.texts[part.field]
        pieces = {piece.field: piece for piece in part.bits or []}
        if pieces.keys() & self.new_values.keys():
            return self._bits(part, raw)
        if number is not None:
            stored, rest = divmod(number - part.add, part.unit)
            if rest:
                raise LayoutError(f"'{part.field}' counts units of {part.unit} bytes, and {number} is no multiple.")
            return encode_value(part, stored, self.endian)
        if part.value is not None:
            return encode_value(part, part.value, self.endian, len(raw))
        return raw

    def _ask(self, function: str, name: str) -> int:
        """What an expression asks about a part, as it is now."""
        if function == "count":
            return len(self.tables[name])
        if function == "size":
            return self._length(name)
        if function in ("offset", "start"):
            return self.starts[name]
        if function == "end":
            return self.starts[name] + self._length(name)
        if function == "real_size":
            return self._real_size()
        assert function == "file_size"
        return sum(piece.length for _, content in self.order[name] for piece in content)

    def _bits(self, part: FieldPart, raw: bytes) -> bytes:
        """A field some of whose bits have new values."""
        order: Literal["little", "big"] = "little" if self.endian == "little" else "big"
        number = int.from_bytes(raw, order)
        for piece, shift in shifts(part):
            if piece.field in self.new_values:
                stored = (self.new_values[piece.field] - piece.add) // piece.unit
                if not 0 <= stored < 1 << piece.bits:
                    raise LayoutError(f"{stored} does not fit the {piece.bits} bits of '{piece.field}'.")
                number = number & ~(((1 << piece.bits) - 1) << shift) | stored << shift
        return number.to_bytes(len(raw), order)

    def _length(self, name: str) -> int:
        if name in self.lengths:
            return self.lengths[name]
        return sum(piece.length for piece in self.contents[name])

    def _real_size(self) -> int:
        """The unpacked bytes of all members."""
        assert self.directory is not None
        real = {index: int(size) for index, size in enumerate(self.directory.real)}
        real |= {index: len(change.real) for index, change in self.edits.changed.items()}
        if min(real.values(), default=0) < 0:
            raise LayoutError(
                "The members' unpacked sizes are not known.", expected="the role real-size, or 'real'"
            )
        kept = sum(size for index, size in real.items() if index not in self.edits.removed)
        return kept + sum(len(new.change.real) for new in self.edits.added)

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
                self._fill(name, checksums.as_bytes(total, len(self.parsed.texts[name]), self.endian))

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
        size = sum(piece.length for _, content in self.order[part.file] for piece in content)
        values = self._known_values() | {"file_size": size}
        low = expressions.evaluate(covered.start, values)
        return low, size if covered.to is None else expressions.evaluate(covered.to, values)

    def _covered_bytes(self, part: FieldPart) -> Iterator[bytes]:
        assert part.checksum is not None
        if isinstance(part.checksum.over, list):
            for name in part.checksum.over:
                yield from parts(self.contents[name], self.parsed.sources[self.parsed.regions[name].file])
            return
        low, high = self._range(part)
        position = 0
        for _, content in self.order[part.file]:
            for data in parts(content, self.parsed.sources[part.file]):
                if position < high and position + len(data) > low:
                    yield data[max(low - position, 0) : high - position]
                position += len(data)
