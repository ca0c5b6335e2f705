"""How an edit to the members reaches the records that speak of them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal, NamedTuple

import numpy as np

from brae.core.errors import LayoutError
from brae.core.layouts import links, sums
from brae.core.layouts.directory import (
    Directory,
    common_packing,
    folder_numbers,
    group_owners,
    names_before,
    record_names,
    split_names,
)
from brae.core.layouts.edits import Edits, MemberChange, NewMember
from brae.core.layouts.expressions import evaluate
from brae.core.layouts.fields import Leaf
from brae.core.layouts.groups import Folders, Groups, Types
from brae.core.layouts.heads import alike
from brae.core.layouts.parts import ChunksPart, MembersPart, NamesPart, TreePart
from brae.core.layouts.read import Parsed
from brae.core.layouts.records import Records
from brae.core.layouts.rows import Ints, Rows, encode, encode_record, named
from brae.core.layouts.trees import Growth, Tree


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
    if records.column("id") is None and links.point_into(parsed, records):
        raise LayoutError("Records that are referred to by their places cannot be added or removed.")
    if records.column("name-offset") is None and isinstance(records, TreePart) and _block_of(parsed) is not None:
        raise LayoutError("Members whose names stand in a block cannot be added to a folder tree yet.")
    names = _Names(parsed, records)
    owners = group_owners(parsed, records)
    groups = Groups(parsed, records, tables, owners) if owners is not None else None
    growth = Growth(tree, records, table.endian) if tree is not None and isinstance(records, TreePart) else None
    folders = _folders(parsed, found, records, table, tables) if edits.added else None
    if edits.removed:
        gone = set(found.rows[sorted(edits.removed)].tolist())
        kept = np.array([row for row in range(len(table)) if row not in gone], np.int64)
        if growth is not None:
            growth.remove(gone)
        else:
            table.keep(kept)
            _repoint(records, table, kept)
        row_of[:] = [-1 if row in gone else int(np.searchsorted(kept, row)) for row in row_of.tolist()]
        names.remove(gone)
        if groups is not None:
            groups.keep(kept)
    result = Added()
    if edits.added:
        new = _New(parsed, found, records, table, tables, folders)
        if growth is not None:
            paths = [one.name.rpartition("/")[0] for one in edits.added]
            rows = growth.add(list(zip(paths, new.records(edits.added, inside=True), strict=True)))
            others = np.setdiff1d(np.arange(len(table)), rows)
            row_of[row_of >= 0] = others[row_of[row_of >= 0]]
            result.rows, result.name_places = rows.tolist(), [0] * len(rows)
        else:
            # Folders come first: the numbers that point to them are then known, and stay.
            members = np.array([groups.of(one.name)[0] for one in edits.added], np.int64) if groups else None
            if groups is not None:
                names.name_groups(groups)
            made = new.records(edits.added, inside=groups is not None)
            if groups is not None and members is not None:
                places, order = groups.places(members)
            else:
                places, order = new.places()
            table.insert_all(places, [made[number] for number in order.tolist()])
            row_of[row_of >= 0] += np.searchsorted(places, row_of[row_of >= 0], "right")
            put_at = np.empty(len(order), np.int64)
            put_at[order] = places + np.arange(len(places))
            result.rows = put_at.tolist()
            result.name_places = names.add(new.names, places, order)
    if groups is not None:
        groups.write()
    result.blocks = names.write(table, result)
    return result


def _block_of(parsed: Parsed) -> NamesPart | None:
    return next((part for part in parsed.layout.parts if isinstance(part, NamesPart)), None)


class _Names:
    """The block of names that the records' names stand in, if they do: pointed to, or in order."""

    def __init__(self, parsed: Parsed, records: Records) -> None:
        self._parsed, self._records = parsed, records
        self._part = block = _block_of(parsed)
        self._bytes = bytearray(parsed.content(block.name) if block is not None else b"")
        self._in_order: list[bytes] | None = None
        #: how many names come before those of the members
        self._before = 0
        if block is not None and block.in_order:
            self._in_order = split_names(bytes(self._bytes), block.encoding)
            self._before = names_before(parsed, block, records)
        self._end = bytes(2 if block is not None and block.encoding == "utf-16" else 1)

    def remove(self, gone: set[int]) -> None:
        """These records are gone."""
        if self._in_order is not None:
            self._in_order = [name for row, name in enumerate(self._in_order) if row - self._before not in gone]

    def name_groups(self, groups: Groups) -> None:
        """Put the names of folders that are new among those of the folders."""
        if self._in_order is None or self._part is None or not groups.named:
            return
        start = names_before(self._parsed, self._part, groups.part)
        for number, text in groups.named:
            self._in_order.insert(start + number, text)
            self._before += start <= self._before
        groups.named.clear()

    def add(self, names: Sequence[bytes], places: Ints, order: Ints) -> list[int]:
        """Names of new records, which lie at ``places`` in that ``order``; where each begins in the block."""
        if self._part is None:
            return [0] * len(names)
        if self._records.column("name-offset") is not None:
            end = b"" if self._records.column("name-length") else self._end
            starts = []
            for name in names:
                starts.append(len(self._bytes))
                self._bytes += name + end
            return starts
        if self._in_order is not None:
            merged, position = [], 0
            for place, number in zip((places + self._before).tolist(), order.tolist(), strict=True):
                merged += [*self._in_order[position:place], names[number]]
                position = place
            self._in_order = [*merged, *self._in_order[position:]]
        return [0] * len(names)

    def write(self, table: Rows, added: Added) -> dict[str, bytes]:
        """The block as it is now, with what points into it told."""
        block, pointer = self._part, self._records.column("name-offset")
        if block is None:
            return {}
        if self._in_order is not None:
            return {block.name: b"".join(name + self._end for name in self._in_order)}
        if pointer is not None and added.rows:
            base = 0
            if block.base is not None:
                base = self._parsed.regions[block.name].start - evaluate(block.base, self._parsed.values)
            table.put(pointer.field, np.array(added.rows, np.int64), np.array(added.name_places, np.int64) + base)
        return {block.name: bytes(self._bytes)}


def _folders(
    parsed: Parsed, found: Directory, records: Records, table: Rows, tables: Mapping[str, Rows]
) -> Folders | None:
    """The folders that the members' records point to; None where none does so by a number."""
    leaf = records.column("folder")
    if leaf is not None and leaf.column.number_like and leaf.meant.table is not None:
        part = parsed.regions[leaf.meant.table].part
        assert isinstance(part, Records)
        return Folders(part, tables[leaf.meant.table], folder_numbers(parsed, leaf))
    if records.column("parent") is None:
        return None
    identity, original = records.column("id"), parsed.tables[records.name]  # type: ignore[attr-defined]
    paths = record_names(parsed, records, original, ())
    rows = np.setdiff1d(np.arange(len(paths)), found.rows)
    numbers = rows if identity is None else original.raw(identity.field).astype(np.int64)[rows]
    known = {paths[row]: number for row, number in zip(rows.tolist(), numbers.tolist(), strict=True)}
    return Folders(records, table, known, rows)


def _repoint(records: Records, table: Rows, kept: Ints) -> None:
    """Records that point to each other by their places go on doing so where some are gone."""
    parent = records.column("parent")
    if parent is None or records.column("id") is not None:
        return
    stored = table.raw(parent.field).astype(np.int64)
    at = np.minimum(np.searchsorted(kept, stored), max(len(kept) - 1, 0))
    inside = (kept[at] == stored) if len(kept) else np.zeros(len(stored), bool)
    moved = np.where(inside, at, stored) * parent.meant.unit + parent.meant.add
    if inside.any():
        table.put(parent.field, np.flatnonzero(inside), moved[inside])


def _stored_number(leaf: Leaf, number: int) -> int:
    stored, rest = divmod(number - leaf.meant.add, leaf.meant.unit)
    if rest or stored < 0:
        raise LayoutError(f"{number} cannot be said by '{leaf.field}'.")
    return stored


class _New:
    """New records: what all others say alike is worked out once."""

    def __init__(
        self, parsed: Parsed, found: Directory, records: Records, table: Rows, tables: Mapping[str, Rows],
        folders: Folders | None,
    ) -> None:  # fmt: skip
        self._parsed, self._found, self._part, self._table, self._folders = parsed, found, records, table, folders
        ending = records.column("extension")
        self._types = Types(parsed, ending, tables) if ending is not None and ending.column.number_like else None
        self._common, self._packing = alike(records, table), common_packing(found)
        self._taken = set(found.names)
        self._next = 0
        #: their names as the block of names has them, and their hashes as they are stored
        self.names: list[bytes] = []
        self._hashes: list[int] = []

    def records(self, added: Sequence[NewMember], *, inside: bool) -> list[bytes]:
        """A record for each; ``inside``: what lies in folders is called by the last part of its path."""
        if self._folders is not None:
            for new in added:  # a folder is a record, too: all of them stand before anything else is put in
                self._folders.make(self._path(new.name))
        identity = self._part.column("id")
        if identity is not None:
            self._next = int(self._table.raw(identity.field).astype(np.int64).max(initial=0)) + 1
        return [self._record(new, new.name.rpartition("/")[2] if inside else new.name) for new in added]

    def places(self) -> tuple[Ints, Ints]:
        """Where they go: in order of hashes where they are in order, else behind the others (see Groups.places)."""
        end = len(self._table) - int(getattr(self._found.part, "last_ends", False))
        hashed, number = self._part.column("name-hash"), len(self.names)
        if hashed is not None and end:
            stored = self._table.raw(hashed.field)[:end].astype(np.uint64)
            if np.all(stored[1:] >= stored[:-1]):
                own = np.array(self._hashes, np.uint64)
                order = np.argsort(own, kind="stable")
                return np.searchsorted(stored, own[order], "right"), order
        return np.full(number, end, np.int64), np.arange(number)

    def _path(self, name: str) -> str:
        """A member's folder; what stands behind the last point is its ending, where records have one."""
        if self._part.column("extension") is not None:
            name = name.rpartition(".")[0]
        return name.rpartition("/")[0]

    def _record(self, new: NewMember, name: str) -> bytes:
        """The record of a new member, which calls it ``name``."""
        records, table = self._part, self._table
        values = dict(self._common)
        if new.name in self._taken:
            raise LayoutError(f"There is a member '{new.name}' already.")
        self._taken.add(new.name)
        ending = records.column("extension")
        if ending is not None:
            name, _, end = name.rpartition(".")
            if self._types is not None:
                values[ending.field] = self._types.number(end)
            else:
                values[ending.field] = encode(end, ending.column.encoding, table.endian)
        folder, parent = records.column("folder"), records.column("parent")
        if folder is not None:
            path, _, name = name.rpartition("/")
            values[folder.field] = _folder_value(self._parsed, folder, path, table, self._folders)
        if parent is not None and self._folders is not None:
            path, _, name = name.rpartition("/")
            values[parent.field] = self._folders.pointing(parent, path, table)
        raw, inline, pointer = b"", records.column("name"), records.column("name-offset")
        block = _block_of(self._parsed)
        if inline is not None:
            values |= named(inline, name, table.endian)
        elif block is not None and (pointer is not None or block.in_order):
            raw = encode(name.replace("/", block.slash), block.encoding, table.endian)
            length = records.column("name-length")
            if length is not None:
                values[length.field] = _stored_number(length, len(raw))
        self.names.append(raw)
        hashed = records.column("name-hash")
        if hashed is not None and hashed.meant.hash is not None:
            number = int(hashed.meant.hash.of([new.name])[0]) & ((1 << hashed.bits) - 1)
            values[hashed.field] = number
            self._hashes.append(number)
        identity = records.column("id")
        if identity is not None:
            values[identity.field] = self._next
            self._next += 1
        packing = records.column("compression")
        if packing is not None:
            values[packing.field] = new.packing if new.packing is not None else self._packing or 0
        content = self._parsed.layout.content
        for name_of, wanted in content.where.items() if isinstance(content, MembersPart) else ():
            values[name_of] = wanted[0] if isinstance(wanted, list) else wanted
        own = records.column("record-length")
        if own is not None:
            values[own.field] = _stored_number(own, len(encode_record(records, table.endian, values)))
        return encode_record(records, table.endian, values)


def _folder_value(parsed: Parsed, leaf: Leaf, path: str, table: Rows, folders: Folders | None) -> int | bytes:
    column = leaf.column
    if not column.number_like:
        return encode(path.replace("/", column.slash), column.encoding, table.endian)
    if folders is not None:
        return folders.pointing(leaf, path, table)
    numbers = folder_numbers(parsed, leaf)
    if path not in numbers:
        raise LayoutError(f"The layout has no number for the folder '{path}'.", expected=", ".join(numbers))
    return numbers[path]
