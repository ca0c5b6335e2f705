"""Where the members of an archive lie after an edit, and what their records say of it."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from brae.core.errors import LayoutError
from brae.core.layouts import expressions
from brae.core.layouts.directory import Directory, alignments
from brae.core.layouts.edits import Edits
from brae.core.layouts.fields import Leaf
from brae.core.layouts.heads import outer, with_heads
from brae.core.layouts.members import Inner, Slots, describe_member
from brae.core.layouts.model import Numbered
from brae.core.layouts.parts import MembersPart
from brae.core.layouts.read import Parsed
from brae.core.layouts.reading import RecordValues
from brae.core.layouts.rows import Ints, Rows
from brae.core.layouts.segments import Copy, New, Segment, body_segments
from brae.core.sources import ByteSource


def gap_between(
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


@dataclass
class Placing:
    """The members' area with edits: laid out, and told to the records."""

    parsed: Parsed
    directory: Directory
    edits: Edits
    in_place: bool
    #: the members' records, to be changed; the record of each member (-1: taken out), and of each added one
    table: Rows | None
    row_of: Ints | None
    new_rows: Sequence[int]
    #: the header's values as they will be, as far as that is known
    _known: Callable[[], Mapping[str, int]]
    #: gives another part that lies among the members its place, and returns what it holds
    _content: Callable[[str, int], list[Segment]]
    #: where parts begin now
    starts: Mapping[str, int]
    #: all records, as they will be
    tables: Mapping[str, Rows]
    #: where numbered files end now
    ends: dict[str, list[int]] = field(default_factory=dict)
    #: where the members begin and end now
    spans: tuple[Ints, Ints] = field(default_factory=lambda: (np.empty(0, np.int64), np.empty(0, np.int64)))

    @cached_property
    def _outer(self) -> Directory:
        return outer(self.directory)

    @cached_property
    def _laid(self) -> Edits:
        return with_heads(self.directory, self.edits)

    def lay_out(
        self, part: MembersPart, start: int, end: int, new_start: int, inner: Sequence[Inner]
    ) -> list[tuple[str | None, list[Segment]]]:
        """Lay out the members' area: unchanged runs are copied, changed members and their padding are new.

        Parts that lie among them (``inner``) are laid out where they come, each as a piece of its own.
        """
        found, edits = self._outer, self._laid
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
        between = self._between() if only_sizes else {}
        inserted: dict[int, int] = {}
        touched_here = edits.changed.keys() | edits.removed | between.keys()
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
                    gap = gap_between(source, before, one.start, before + shift, one.align, part.fill)
                    segments += [Copy(position, before - position), *gap]
                    position, shift = one.start, before + shift + sum(piece.length for piece in gap) - one.start
                segments.append(Copy(position, one.start - position))
                content = self._content(one.name, one.start + shift)
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
                gap = gap_between(source, one.end, old_next, new_end, align, part.fill, origins)
                segments += gap
                position, shift = old_next, new_end + sum(piece.length for piece in gap) - old_next
                shifts.append(shift)
            if index is None:
                break
            if found.walls:
                origin = (0, *found.walls)[found.numbers[index]]
                origins = origins if origins[0] == origin else (origin, origin + shift)
            change = edits.changed.get(index)
            removed = index in edits.removed
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
                stored = edits.added[new].change.stored
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
                gap = gap_between(source, old_end, old_next, new_end, align, part.fill, origins)
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
        late = [number for number in range(len(edits.added)) if number not in inserted]
        if only_sizes:
            late.sort(key=lambda number: self.new_rows[number])
        added = [edits.added[number] for number in late]
        rest = [(self._align_of(part, new.name), new.change.stored, None) for new in added]
        for align, stored, index_or_none in [
            *((int(found.aligns[i]), edits.changed[i].stored, i) for i in appended),
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
        added_offsets = [inserted[number] for number in range(len(edits.added))]
        if part.pad_last and (appended or rest):
            segments.append(New(fill * ((origin - new_end) % part.align)))
        begins = np.zeros(len(offsets), np.int64)
        if found.walls:
            numbers = found.numbers.copy()
            numbers[appended] = len(found.walls) - 1
            begins = walls[numbers]
            self._number_files(found, numbers)
            self.ends[part.file] = walls[1:-1].tolist()
        stays = np.ones(len(offsets), bool)
        stays[list(edits.removed)] = False
        lengths = [len(new.change.stored) for new in edits.added]
        begun = np.append(new_offsets[stays], added_offsets).astype(np.int64)
        self.spans = begun, begun + np.append(new_sizes[stays], lengths).astype(np.int64)
        self._describe_members(
            part, found, new_offsets - begins, new_sizes, [offset - file_origin for offset in added_offsets], ends
        )
        return laid

    def _between(self) -> dict[int, list[int]]:
        """Of each member before whose record new ones stand, which of the added ones those are, in order."""
        found: dict[int, list[int]] = {}
        if self.row_of is None or not self.new_rows:
            return found
        members = np.flatnonzero(self.row_of >= 0)
        members = members[np.argsort(self.row_of[members], kind="stable")]
        for number in np.argsort(self.new_rows, kind="stable").tolist():
            place = int(np.searchsorted(self.row_of[members], self.new_rows[number]))
            if place < len(members):
                found.setdefault(int(members[place]), []).append(number)
        return found

    def _origins(self, part: MembersPart) -> tuple[int, int]:
        """Where alignment counts from, in the original and now."""
        if part.align_from == 0:
            return 0, 0
        return (
            expressions.evaluate(part.align_from, self.parsed.values),
            expressions.evaluate(part.align_from, self._known()),
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
        base = expressions.evaluate(part.base, self._known())
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
            for row, offset, new in zip(self.new_rows, added, self._laid.added, strict=True):
                self.table.put(end.field, row, offset + len(new.change.stored) - base)
        for index, change in self.edits.changed.items():
            describe_member(found, self.table, int(self.row_of[index]), change)
        for row, new in zip(self.new_rows, self.edits.added, strict=True):
            describe_member(found, self.table, row, new.change)
        self._put_followers(
            self.directory,
            offsets - base,
            sizes - (found.stored - self.directory.stored),
            [offset - base for offset in added],
        )

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
            # Anew for each: one may be made of those before it.
            values = RecordValues(self.parsed, table, rows, facts, self.tables, self._known())
            table.put(leaf.field, rows, expressions.evaluate_columns(leaf.meant.is_, values, len(rows)))

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
