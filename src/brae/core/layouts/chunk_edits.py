"""Chunks with edits: new data in place of the old, chunks put in and taken out, and what holds them told of it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from typing import NamedTuple

import numpy as np

from brae.core.errors import LayoutError
from brae.core.layouts import sums
from brae.core.layouts.chunks import Chunks, both
from brae.core.layouts.directory import Directory, common_packing
from brae.core.layouts.edits import Edits, MemberChange, NewMember
from brae.core.layouts.fields import Leaf
from brae.core.layouts.heads import alike
from brae.core.layouts.members import describe_member
from brae.core.layouts.parts import ChunksPart
from brae.core.layouts.rows import Rows, encode_record, named, rows_of
from brae.core.layouts.segments import Copy, New, Ranges, Segment, body_segments, parts
from brae.core.sources import ByteSource, BytesSource


def chunk_room(part: ChunksPart, found: Chunks, chunk: int, end: int) -> tuple[int, int]:
    """Where a chunk's data with its padding ends, and where what holds it ends."""
    parent = int(found.parents[chunk])
    limit = end if parent < 0 else int(found.starts[parent] + found.sizes[parent])
    data_end = found.ends(chunk)
    return min(data_end + -data_end % part.align, limit), limit


class _Event(NamedTuple):
    """New bytes for a range of the original; what is put in between belongs to a ``holder`` (-1: none)."""

    begin: int
    stop: int
    data: list[Segment]
    holder: int | None = None


def _line(found: Chunks, chunk: int) -> list[int]:
    """A chunk, what holds it, and so on outwards; nothing for -1."""
    line = []
    while chunk >= 0:
        line.append(chunk)
        chunk = int(found.parents[chunk])
    return line


def compose_chunks(
    part: ChunksPart, found: Chunks, rows: Rows, directory: Directory, edits: Edits, start: int, end: int,
    in_place: bool, source: ByteSource,
) -> tuple[list[Segment], int]:  # fmt: skip
    """The chunks with edits: changed data, its record, the sizes of whatever holds it; how many more there are."""
    size_leaf = part.column("stored-size")
    assert size_leaf is not None
    if part.named_by and (edits.added or edits.removed):
        raise LayoutError("Chunks that are named by the one before them cannot be added or removed yet.")
    fill = bytes([part.fill])
    events: list[_Event] = []
    insertions: list[tuple[int, int, _Event]] = []
    grown: Counter[int] = Counter()
    touched: set[int] = set()

    def grow(chunk: int, delta: int) -> None:
        grown.update(dict.fromkeys(_line(found, int(found.parents[chunk])), delta))

    for index in sorted(edits.changed.keys() | edits.removed):
        chunk = int(directory.rows[index])
        begin = int(found.starts[chunk])
        padded, _ = chunk_room(part, found, chunk, end)
        if index in edits.removed:
            events.append(_Event(int(found.heads[chunk]), padded, []))
            grow(chunk, int(found.heads[chunk]) - padded)
            continue
        change = edits.changed[index]
        # A last chunk without its padding stays without it.
        unpadded = padded < found.ends(chunk) + -found.ends(chunk) % part.align
        length = len(change.stored) + found.tail
        padding = 0 if unpadded else -(begin + length) % part.align
        length += padding
        if in_place and length != padded - begin:
            raise LayoutError(f"{len(change.stored)} bytes do not fit the chunk's {padded - begin} exactly.")
        grow(chunk, length - (padded - begin))
        describe_member(directory, rows, chunk, change)
        behind = _behind(part, found, rows, chunk, change, found.tails.record(chunk) if found.tails else b"")
        events.append(_Event(begin, padded, [*body_segments(change.stored), New(behind + fill * padding)]))
        touched.add(chunk)
    newcomers = _Newcomers(part, found, rows, directory, start, end)
    for holder, data in newcomers.events(edits.added):
        place, line = newcomers.place(holder), _line(found, holder)
        grown.update(dict.fromkeys(line, sum(piece.length for piece in data)))
        insertions.append((place, -len(line), _Event(place, place, data, holder)))
    for chunk, delta in grown.items():
        rows.put(size_leaf.field, chunk, int(found.sizes[chunk]) + delta)
    # Where several end at one place, what goes into the innermost comes first.
    events = [event for _, _, event in sorted(insertions, key=lambda one: one[:2])] + events
    checked = [leaf for leaf in part.leaves if leaf.meant.checksum is not None]
    holders = set(grown)
    for chunk in touched if checked else ():
        holders.update(_line(found, int(found.parents[chunk])))
    # Chunks lie behind what holds them, so the innermost is written first: its record is in the outer one's bytes.
    block = rows.block()
    for chunk in sorted(holders | touched, reverse=True):
        if chunk in holders and checked:
            _check_holder(found, rows, chunk, checked, events, source)
            block = rows.block()
        head = block[rows.start(chunk) : rows.start(chunk + 1)]
        events.append(_Event(int(found.heads[chunk]), int(found.starts[chunk]), [New(head)]))
    return _between(events, start, end), newcomers.made - len(edits.removed)


def _between(events: list[_Event], start: int, end: int) -> list[Segment]:
    """What lies between two places of the original, with new bytes where events say so."""
    segments: list[Segment] = []
    position = start
    for event in sorted(events, key=lambda event: event[:2]):
        segments += [Copy(position, event.begin - position), *event.data]
        position = event.stop
    segments.append(Copy(position, end - position))
    return segments


def _check_holder(
    found: Chunks, rows: Rows, chunk: int, checked: list[Leaf], events: list[_Event], source: ByteSource
) -> None:
    """The checksums of a chunk that holds others, over all that it holds now.

    Raises LayoutError where the original's do not cover that: then nobody knows what they cover.
    """
    start, end = int(found.starts[chunk]), int(found.starts[chunk] + found.sizes[chunk])
    inside = [
        event
        for event in events
        if (
            start <= event.begin and event.stop <= end
            if event.holder is None
            else chunk in _line(found, event.holder)
        )
    ]
    for leaf in checked:
        if sums.of_fields(leaf) and set(sums.covered(leaf)).isdisjoint(sums.OF_MEMBER):
            sums.refresh([leaf], rows, [chunk])
            continue
        before, after = (
            Ranges(tuple(segments), source)
            for segments in ([Copy(start, end - start)], _between(inside, start, end))
        )
        held = sums.total_of(leaf, found.rows, chunk, {"stored": before, "real": before})
        if not sums.holds(leaf, found.rows, chunk, held):
            raise LayoutError(
                f"The checksum of '{found.names[chunk]}', which holds the changed chunk, covers something "
                "else than what it holds, so it cannot be written anew."
            )
        sums.put(leaf, rows, chunk, sums.total_of(leaf, rows, chunk, {"stored": after, "real": after}))


class _Newcomers:
    """New chunks, and those that have to be made to hold them."""

    def __init__(
        self, part: ChunksPart, found: Chunks, rows: Rows, directory: Directory, start: int, end: int
    ) -> None:
        self.part, self.found, self.rows, self.directory = part, found, rows, directory
        self.start, self.end = start, end
        self._fill = bytes([part.fill])
        self.made = 0
        #: what all chunks say alike, and how most are packed
        self._common, self._packing = alike(part, rows), common_packing(directory)
        self._holders: dict[str, int] = {}
        for chunk in np.flatnonzero(found.holds).tolist():
            self._holders.setdefault(found.names[chunk], chunk)

    def events(self, added: Sequence[NewMember]) -> Iterator[tuple[int, list[Segment]]]:
        """What is put where: the chunk that holds it (-1: none), and its bytes."""
        groups: dict[tuple[int, str], list[tuple[list[str], NewMember]]] = {}
        for new in added:
            steps = new.name.split("/") if self.part.nest else [new.name]
            known = next((n for n in range(len(steps) - 1, 0, -1) if "/".join(steps[:n]) in self._holders), 0)
            holder = self._holders["/".join(steps[:known])] if known else -1
            groups.setdefault((holder, steps[known]), []).append((steps[known:], new))
        lengths: Counter[int] = Counter()
        for (holder, _), members in groups.items():
            place = self.place(holder) + lengths[holder]
            for data in self._made(members, place):
                lengths[holder] += sum(piece.length for piece in data)
                yield holder, data

    def place(self, holder: int) -> int:
        """Where what is new in a holder goes: behind all that it holds."""
        found = self.found
        if holder >= 0:
            return int(found.starts[holder] + found.sizes[holder])
        if self.part.until is None:
            return self.end
        tops = np.flatnonzero(found.parents < 0)
        return chunk_room(self.part, found, int(tops[-1]), self.end)[0] if len(tops) else self.start

    def _made(self, members: Sequence[tuple[list[str], NewMember]], place: int) -> Iterator[list[Segment]]:
        """Chunks of one name from ``place`` on: each member's own, or one that holds all that lie in it."""
        inside = [(steps, new) for steps, new in members if len(steps) > 1]
        for steps, new in members:
            if len(steps) == 1:
                data = self._chunk(new, steps[0], place)
                place += sum(piece.length for piece in data)
                yield data
        if inside:
            yield self._holder(inside[0][0][0], [(steps[1:], new) for steps, new in inside], place)

    def _holder(self, name: str, members: Sequence[tuple[list[str], NewMember]], place: int) -> list[Segment]:
        if name not in self.part.nest:
            raise LayoutError(
                f"No chunk '{name}' holds chunks.", expected=", ".join(self.part.nest) or "'nest' in the layout"
            )
        # Its own bytes before them: nobody says what they mean, so they are zero.
        pieces: list[Segment] = [New(bytes(self.part.nest[name]))]
        at = place + len(self._record(name, None).block()) + self.part.nest[name]
        by_name: dict[str, list[tuple[list[str], NewMember]]] = {}
        for one in members:
            by_name.setdefault(one[0][0], []).append(one)
        for some in by_name.values():
            for data in self._made(some, at):
                pieces += data
                at += sum(piece.length for piece in data)
        body = b"".join(parts(pieces, BytesSource(b"")))
        return self._chunk(NewMember(name, MemberChange(body, body)), name, place, holds=True)

    def _chunk(self, new: NewMember, name: str, place: int, *, holds: bool = False) -> list[Segment]:
        self.made += 1
        one = self._record(name, new.packing)
        describe_member(self.directory, one, 0, new.change)
        tail = b""
        if not holds:
            tail = _behind(self.part, self.found, one, 0, new.change, bytes(self.found.tail))
        head = one.block()
        length = len(head) + len(new.change.stored) + len(tail)
        padding = -(place + length) % self.part.align
        return [New(head), *body_segments(new.change.stored), New(tail + self._fill * padding)]

    def _record(self, name: str, packing: int | None) -> Rows:
        part, endian = self.part, self.rows.endian
        values = dict(self._common)
        leaf = part.column("name")
        if leaf is not None:
            if leaf.column.number_like:
                values[leaf.field] = leaf.column.number(name)
            else:
                values |= named(leaf, name, endian)
        packed = part.column("compression")
        if packed is not None:
            values[packed.field] = packing if packing is not None else self._packing or 0
        return rows_of(part, endian, encode_record(part, endian, values), 1)


def _behind(part: ChunksPart, found: Chunks, heads: Rows, row: int, change: MemberChange, old: bytes) -> bytes:
    """What stands behind a chunk's new data: fields that are kept, and checksums of the data and its record."""
    if part.tail is None:
        return b""
    whole = both(part, heads.endian, heads.record(row) + old)
    for leaf in part.tail.leaves:
        if leaf.meant.checksum is not None:
            bodies = {"stored": change.stored, "real": change.real}
            sums.put(leaf, whole, 0, sums.total_of(leaf, whole, 0, bodies))
    return whole.record(0)[-found.tail :]
