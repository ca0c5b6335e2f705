"""How an edit to the members reaches the records that speak of them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal, NamedTuple

import numpy as np

from brae.core.errors import LayoutError
from brae.core.layouts import links, sums
from brae.core.layouts.chunks import Chunks, both
from brae.core.layouts.directory import (
    Directory,
    folder_numbers,
    group_owners,
    names_before,
    split_names,
)
from brae.core.layouts.edits import Edits, MemberChange, NewMember
from brae.core.layouts.expressions import evaluate
from brae.core.layouts.fields import Leaf
from brae.core.layouts.groups import Groups, Types
from brae.core.layouts.parts import ChunksPart, MembersPart, NamesPart, Records, TreePart
from brae.core.layouts.read import Parsed
from brae.core.layouts.rows import FixedRows, Ints, Rows, encode, encode_record, named, walk
from brae.core.layouts.segments import Copy, New, Ranges, Segment, body_segments
from brae.core.layouts.trees import Growth, Tree
from brae.core.sources import ByteSource


class Inner(NamedTuple):
    """A part that lies among the members: where, and what its place is a multiple of."""

    start: int
    end: int
    align: int
    name: str


class Slots:
    """The room between each member and the next, or another part that lies among them (``inner``).

    Raises LayoutError where members overlap without being the same bytes.
    """

    def __init__(self, found: Directory, start: int, end: int, inner: Sequence[Inner] = ()) -> None:
        self._found, self._end = found, end
        offsets, sizes = found.offsets, found.stored
        full = sizes > 0
        self._starts, first, self._counts = np.unique(offsets[full], return_index=True, return_counts=True)
        self._aligns = found.aligns[full][first] if len(found.aligns) else np.ones(len(first), np.int64)
        ends = np.zeros_like(self._starts)
        np.maximum.at(ends, np.searchsorted(self._starts, offsets[full]), (offsets + sizes)[full])
        if inner:
            places = np.searchsorted(self._starts, [one.start for one in inner])
            self._starts = np.insert(self._starts, places, [one.start for one in inner])
            ends = np.insert(ends, places, [one.end for one in inner])
            self._aligns = np.insert(self._aligns, places, [one.align for one in inner])
            self._counts = np.insert(self._counts, places, 1)
        if len(self._starts) and self._starts[0] < start:
            place = int(self._starts[0])
            raise LayoutError(f"A member lies at {place}, before the members' area.", offset=place)
        if np.any(self._starts[1:] < ends[:-1]):
            place = int(self._starts[1:][self._starts[1:] < ends[:-1]][0])
            raise LayoutError(f"Members overlap at {place}.", offset=place)

    def shared(self, index: int) -> bool:
        """Whether another member has the same bytes."""
        place = int(np.searchsorted(self._starts, self._found.offsets[index]))
        return place < len(self._starts) and bool(self._counts[place] > 1)

    def next(self, index: int, occupied: bool = True) -> tuple[int, int]:
        """Where the next member begins (or the area ends), and what that place is a multiple of.

        A member without data (not ``occupied``) may lie where the next one begins.
        """
        side: Literal["left", "right"] = "right" if occupied else "left"
        after = int(np.searchsorted(self._starts, self._found.offsets[index], side))
        wall = self._found.walls[self._found.numbers[index]] if self._found.walls else self._end
        if after < len(self._starts) and self._starts[after] < wall:
            return int(self._starts[after]), int(self._aligns[after])
        return wall, self._found.part.align

    def after(self, place: int) -> tuple[int, int]:
        """What begins behind a place (or where the area ends), and what that is a multiple of."""
        number = int(np.searchsorted(self._starts, place, "right"))
        if number < len(self._starts):
            return int(self._starts[number]), int(self._aligns[number])
        return self._end, self._found.part.align

    def fits(self, index: int, length: int) -> bool:
        """Whether so many bytes can take a member's place without anything else moving."""
        found = self._found
        old_next, align = self.next(index)
        start = int(found.offsets[index])
        if length > old_next - start:
            return False
        if found.table is None:
            return length == int(found.stored[index])
        summed = found.part if isinstance(found.part, MembersPart) else None
        sized = summed is not None and summed.size is not None
        if not (found.leaf("stored-size") or found.leaf("end-offset") or sized):
            return length == int(found.stored[index])
        if found.leaf("offset") is None and (summed is None or summed.offset is None):
            return start + length + (-(start + length) % align) == old_next
        return True


def inner_of(parsed: Parsed, part: MembersPart | ChunksPart) -> list[Inner]:
    """The parts that lie among the members, in their order."""
    own = parsed.regions[part.name]
    if not isinstance(part, MembersPart):
        return []
    return sorted(
        Inner(region.start, region.end, region.part.align, name)
        for name, region in parsed.regions.items()
        if region.file == own.file
        and name != part.name
        and own.start <= region.start
        and region.end <= own.end
        and region.start < own.end
    )


def describe_member(found: Directory, table: Rows, row: int, change: MemberChange) -> None:
    """Tell a member's record its new sizes and checksums."""
    assert found.records is not None
    for leaf in found.records.leaves:
        role = leaf.meant.role
        if role == "stored-size":
            zero = change.plain and found.part.unpacked == "zero"
            table.put(leaf.field, row, 0 if zero else len(change.stored))
        elif role == "real-size":
            table.put(leaf.field, row, len(change.real))
    bodies = {"stored": change.stored, "real": change.real}
    # What covers fields of the record comes when these are known.
    checked = [leaf for leaf in found.records.leaves if leaf.meant.checksum is not None]
    for leaf in sorted(checked, key=sums.of_fields):
        sums.put(leaf, table, row, sums.total_of(leaf, table, row, bodies))


# ---- adding and removing ------------------------------------------------------------------------------------


@dataclass
class Added:
    """The new records' numbers, where their names begin in the block of names, and the new blocks of names."""

    rows: list[int] = field(default_factory=list)
    name_places: list[int] = field(default_factory=list)
    blocks: dict[str, bytes] = field(default_factory=dict)


def restructure(
    parsed: Parsed, found: Directory, edits: Edits, table: Rows | None, row_of: Ints, tables: Mapping[str, Rows],
    tree: Tree | None = None,
) -> Added:  # fmt: skip
    """Take records out of a table and put new ones in; ``row_of`` follows (-1 for those taken out).

    Raises LayoutError where the structure does not allow it.
    """
    records = found.records
    if table is None or records is None:
        raise LayoutError("This file holds one member only; none can be added or removed.")
    if records.column("parent") is not None:
        raise LayoutError("Records that point to each other cannot be added or removed yet.")
    if records.column("id") is None and links.point_into(parsed, records):
        raise LayoutError("Records that are referred to by their places cannot be added or removed.")
    result = Added()
    block = next((part for part in parsed.layout.parts if isinstance(part, NamesPart)), None)
    names = parsed.content(block.name) if block is not None else b""
    in_order = split_names(names, block.encoding) if block is not None and block.in_order else None
    before = names_before(parsed, block, records) if block is not None and in_order is not None else 0
    owners = group_owners(parsed, records)
    groups = Groups(parsed, records, tables, owners) if owners is not None else None
    ending = records.column("extension")
    types = Types(parsed, ending, tables) if ending is not None and ending.column.number_like else None
    growth = Growth(tree, records, table.endian) if tree is not None and isinstance(records, TreePart) else None
    grown: list[tuple[str, bytes]] = []
    if edits.removed:
        gone = set(found.rows[sorted(edits.removed)].tolist())
        kept = np.array([row for row in range(len(table)) if row not in gone], np.int64)
        if growth is not None:
            growth.remove(gone)
        else:
            table.keep(kept)
        row_of[:] = [-1 if row in gone else int(np.searchsorted(kept, row)) for row in row_of.tolist()]
        if in_order is not None:
            in_order = [name for row, name in enumerate(in_order) if row - before not in gone]
        if groups is not None:
            groups.keep(kept)
    for new in edits.added:
        group, inside = groups.of(new.name) if groups is not None else (-1, new.name)
        if growth is not None:
            path, _, inside = new.name.rpartition("/")
        if groups is not None and in_order is not None and block is not None:
            start = names_before(parsed, block, groups.part) if groups.named else 0
            for number, text in groups.named:
                in_order.insert(start + number, text)
                before += start <= before
            groups.named.clear()
        values, name = _new_values(parsed, found, records, table, new, inside, types)
        own = records.column("record-length")
        if own is not None:
            values[own.field] = _stored_number(own, len(encode_record(records, table.endian, values)))
        if growth is not None:
            if block is not None:
                raise LayoutError("Members whose names stand in a block cannot be added to a folder tree yet.")
            grown.append((path, encode_record(records, table.endian, values)))
            continue
        at = groups.insert(group) if groups is not None else _insertion(found, records, table, values)
        pointer = records.column("name-offset")
        if block is not None and pointer is not None:
            result.name_places.append(len(names))
            names += name if records.column("name-length") else name + bytes(2 if block.encoding == "utf-16" else 1)
        elif in_order is not None:
            in_order.insert(before + at, name)
        result.name_places += [0] * (len(result.rows) + 1 - len(result.name_places))
        table.insert(at, encode_record(records, table.endian, values))
        row_of[row_of >= at] += 1
        result.rows = [row + (row >= at) for row in result.rows] + [at]
    if groups is not None:
        groups.write()
    if growth is not None and grown:
        rows = growth.add(grown)
        others = np.setdiff1d(np.arange(len(table)), rows)
        row_of[row_of >= 0] = others[row_of[row_of >= 0]]
        result.rows, result.name_places = rows.tolist(), [0] * len(rows)
    if block is not None:
        if in_order is not None:
            end = bytes(2 if block.encoding == "utf-16" else 1)
            names = b"".join(name + end for name in in_order)
        pointer = records.column("name-offset")
        if pointer is not None:
            base = 0
            if block.base is not None:
                base = parsed.regions[block.name].start - evaluate(block.base, parsed.values)
            for row, place in zip(result.rows, result.name_places, strict=True):
                table.put(pointer.field, row, place + base)
        result.blocks[block.name] = names
    return result


def _stored_number(leaf: Leaf, number: int) -> int:
    stored, rest = divmod(number - leaf.meant.add, leaf.meant.unit)
    if rest or stored < 0:
        raise LayoutError(f"{number} cannot be said by '{leaf.field}'.")
    return stored


def _new_values(
    parsed: Parsed, found: Directory, records: Records, table: Rows, new: NewMember, name: str, types: Types | None
) -> tuple[dict[str, int | bytes], bytes]:
    """The stored values of a new record, which calls its member ``name``, and that as the block of names has it."""
    values: dict[str, int | bytes] = {}
    if new.name in found.names:
        raise LayoutError(f"There is a member '{new.name}' already.")
    ending = records.column("extension")
    if ending is not None:
        name, _, end = name.rpartition(".")
        if types is not None:
            values[ending.field] = types.number(end)
        else:
            values[ending.field] = encode(end, ending.column.encoding, table.endian)
    folder = records.column("folder")
    if folder is not None:
        path, _, name = name.rpartition("/")
        values[folder.field] = _folder_value(parsed, folder, path, table.endian)
    raw = b""
    inline, hashed, pointer = records.column("name"), records.column("name-hash"), records.column("name-offset")
    block = next((part for part in parsed.layout.parts if isinstance(part, NamesPart)), None)
    if inline is not None:
        values |= named(inline, name, table.endian)
    elif block is not None and (pointer is not None or block.in_order):
        raw = encode(name.replace("/", block.slash), block.encoding, table.endian)
        length = records.column("name-length")
        if length is not None:
            values[length.field] = _stored_number(length, len(raw))
    if hashed is not None and hashed.meant.hash is not None:
        values[hashed.field] = int(hashed.meant.hash.of([new.name])[0]) & ((1 << hashed.bits) - 1)
    identity = records.column("id")
    if identity is not None:
        values[identity.field] = int(table.raw(identity.field).max(initial=0)) + 1
    packing = records.column("compression")
    if packing is not None:
        values[packing.field] = new.packing if new.packing is not None else common_packing(found) or 0
    if parsed.layout.content is not None and getattr(parsed.layout.content, "where", None):
        for name_of, wanted in parsed.layout.content.where.items():  # type: ignore[union-attr]
            values[name_of] = wanted[0] if isinstance(wanted, list) else wanted
    return values, raw


def _folder_value(parsed: Parsed, leaf: Leaf, path: str, endian: str) -> int | bytes:
    column = leaf.column
    if not column.number_like:
        return encode(path.replace("/", column.slash), column.encoding, endian)
    numbers = folder_numbers(parsed, leaf)
    if path not in numbers:
        raise LayoutError(f"The archive has no folder '{path}', and folders cannot be added yet.")
    return numbers[path]


def common_packing(found: Directory) -> int | None:
    """The compression number that most members have."""
    if found.packing is None or not len(found.packing):
        return None
    return int(Counter(found.packing.tolist()).most_common(1)[0][0])


def _insertion(found: Directory, records: Records, table: Rows, values: dict[str, int | bytes]) -> int:
    """Where a new record goes: in order of hashes where they are in order, else behind the others."""
    end = len(table) - int(getattr(found.part, "last_ends", False))
    hashed = records.column("name-hash")
    if hashed is not None and end:
        stored = table.raw(hashed.field)[:end].astype(np.uint64)
        if np.all(stored[1:] >= stored[:-1]):
            wanted = values[hashed.field]
            assert isinstance(wanted, int)
            return int(np.searchsorted(stored, np.uint64(wanted), "right"))
    return end


# ---- chunks -------------------------------------------------------------------------------------------------


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
) -> list[Segment]:  # fmt: skip
    """The chunks with edits: changed data, its record, and the sizes of whatever holds it."""
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
    for new_member in edits.added:
        place, holder, one = _new_chunk(part, found, rows, directory, new_member, end)
        head = one.block()
        length = len(head) + len(new_member.change.stored) + found.tail
        padding = -(place + length) % part.align
        line = _line(found, holder)
        grown.update(dict.fromkeys(line, length + padding))
        behind = _behind(part, found, one, 0, new_member.change, bytes(found.tail))
        data = [New(head), *body_segments(new_member.change.stored), New(behind + fill * padding)]
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
    return _between(events, start, end)


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


def _new_chunk(
    part: ChunksPart, found: Chunks, rows: Rows, directory: Directory, new: NewMember, end: int
) -> tuple[int, int, Rows]:
    """Where a new chunk goes, the chunk that holds it (-1: none), and its record."""
    holder_name, _, name = new.name.rpartition("/")
    holder = -1
    if holder_name:
        holders = [chunk for chunk in np.flatnonzero(found.holds).tolist() if found.names[chunk] == holder_name]
        if not holders:
            raise LayoutError(f"No chunk '{holder_name}' holds chunks.")
        holder = holders[0]
    place = end if holder < 0 else int(found.starts[holder] + found.sizes[holder])
    if part.until is not None and holder < 0:
        last = int(found.heads[-1]) if len(found.heads) else end
        place = chunk_room(part, found, len(found.heads) - 1, end)[0] if len(found.heads) else last
    leaf = part.column("name")
    values: dict[str, int | bytes] = {}
    if leaf is not None:
        if leaf.column.number_like:
            values[leaf.field] = leaf.column.number(name)
        else:
            values[leaf.field] = encode(name.replace("/", leaf.column.slash), leaf.column.encoding, rows.endian)
    packing = part.column("compression")
    if packing is not None:
        values[packing.field] = new.packing if new.packing is not None else common_packing(directory) or 0
    raw = encode_record(part, rows.endian, values)
    one: Rows
    if part.fixed:
        one = FixedRows(part, rows.endian, raw).copy()
    else:
        one, _ = walk(part, rows.endian, np.frombuffer(raw, np.uint8), 1, None)
    describe_member(directory, one, 0, new.change)
    return place, holder, one


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
