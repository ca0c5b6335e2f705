"""Tables that others speak of: folders that count their files, types of files. What new members need is added."""

from __future__ import annotations

from collections.abc import Collection, Mapping

import numpy as np

from brae.core.errors import LayoutError
from brae.core.layouts.directory import folder_numbers, group_paths
from brae.core.layouts.fields import Encoding, Leaf
from brae.core.layouts.heads import alike
from brae.core.layouts.parts import NamesPart, TablePart
from brae.core.layouts.read import Parsed
from brae.core.layouts.records import Records
from brae.core.layouts.rows import Ints, Rows, encode, encode_record, named

#: what a record may have whose meaning for a new one nobody knows
_UNKNOWN = ("parent", "folder", "name-hash", "name-offset", "name-length", "extension", "record-length", "offset")


def new_record(
    part: Records, table: Rows, name: str, follows: Encoding | None, worked_out: Collection[str] = ()
) -> tuple[bytes, bytes | None]:
    """A record called ``name`` for a table, and that name for a block of names where it stands there (``follows``).

    The roles ``worked_out`` are given their numbers later. Raises LayoutError where a record has more to say than a
    name and numbers that are worked out.
    """
    called = getattr(part, "name", "")
    unknown = next((role for role in _UNKNOWN if role not in worked_out and part.column(role)), None)
    inline, identity = part.column("name"), part.column("id")
    if unknown is not None or (inline is None) == (follows is None) or (inline and inline.column.number_like):
        raise LayoutError(
            f"'{name}' is not among '{called}', and its records say too much for a new one to be made.",
            remedy="Add it to one that is there.",
        )
    values = alike(part, table)
    if identity is not None:
        values[identity.field] = int(table.raw(identity.field).astype(np.int64).max(initial=-1)) + 1
    if inline is None:
        assert follows is not None
        return encode_record(part, table.endian, values), encode(name, follows, table.endian)
    return encode_record(part, table.endian, values | named(inline, name, table.endian)), None


class Types:
    """Words that numbers of a record stand for, in a table of their own."""

    def __init__(self, parsed: Parsed, leaf: Leaf, tables: Mapping[str, Rows]) -> None:
        self._numbers = folder_numbers(parsed, leaf)
        self._part = self._table = None
        if leaf.meant.table is not None:
            self._table, self._part = tables[leaf.meant.table], parsed.regions[leaf.meant.table].part

    def number(self, word: str) -> int:
        """The number of a word; a record more where the table has none of it."""
        if word not in self._numbers:
            if self._table is None:
                known = ", ".join(self._numbers)
                raise LayoutError(f"The layout has no number for '{word}'.", expected=known)
            assert isinstance(self._part, TablePart)
            record, _ = new_record(self._part, self._table, word, None)
            self._table.insert(len(self._table), record)
            identity, last = self._part.column("id"), len(self._table) - 1
            self._numbers[word] = last if identity is None else int(self._table.raw(identity.field)[last])
        return self._numbers[word]


def nowhere(leaf: Leaf, table: Rows, known: Collection[int]) -> int:
    """What a number that points to records holds where it points to none: as in others, else all ones."""
    stored = table.raw(leaf.field).astype(np.int64)
    outside = stored[~np.isin(stored, list(known))]
    if len(outside):
        values, counts = np.unique(outside, return_counts=True)
        return int(values[counts.argmax()])
    if leaf.whole and leaf.column.type[0] == "i":
        return -1
    return (1 << min(leaf.bits or 32, 62)) - 1


class Folders:
    """Folders in a table, each of which may lie in another one; those that new members need are added behind them.

    They may have a table of their own, or be records among the members' (``mixed``: the rows that are folders).
    """

    def __init__(self, part: Records, table: Rows, paths: Mapping[str, int], mixed: Ints | None = None) -> None:
        #: the number that stands for each folder
        self._numbers = dict(paths)
        self._part, self._table, self._mixed = part, table, mixed
        self._parent, self._identity = part.column("parent"), part.column("id")

    def make(self, path: str) -> None:
        """Have a folder, also one that is new."""
        if path:
            self.number(path)

    def pointing(self, leaf: Leaf, path: str, table: Rows) -> int:
        """What a record's field holds that points to a folder; at the top it points to none."""
        if path in self._numbers or path:
            return self.number(path)
        return nowhere(leaf, table, self._numbers.values())

    def number(self, path: str) -> int:
        """The number that stands for a folder; LayoutError where there is none and none can be made."""
        if path not in self._numbers:
            self._numbers[path] = self._made(path)
        return self._numbers[path]

    def _made(self, path: str) -> int:
        part, table = self._part, self._table
        inline = part.column("name")
        unknown = next((role for role in _UNKNOWN if role != "parent" and part.column(role) is not None), None)
        if inline is None or inline.column.number_like or (unknown is not None and self._mixed is None):
            raise LayoutError(
                f"There is no folder '{path}', and the records of folders say too much for a new one to be made.",
                remedy="Add it to a folder that is there.",
            )
        like = table
        if self._mixed is not None:
            if not len(self._mixed):
                raise LayoutError(f"There is no folder '{path}', and no other one to make it like.")
            like = table.copy()
            like.keep(self._mixed)
        values = alike(part, like)
        inside = path
        if self._parent is not None:
            above, _, inside = path.rpartition("/")
            known = self._numbers.values()
            values[self._parent.field] = self.number(above) if above else nowhere(self._parent, table, known)
        if self._mixed is not None:
            for role in ("offset", "stored-size", "real-size", "compression"):
                leaf = part.column(role)
                if leaf is not None:  # a folder has no data; what others say there is said again
                    values[leaf.field] = int(like.raw(leaf.field)[0])
        values |= named(inline, inside, table.endian)
        number = len(table)
        if self._identity is not None:
            number = int(table.raw(self._identity.field).astype(np.int64).max(initial=-1)) + 1
            values[self._identity.field] = number
        table.insert(len(table), encode_record(part, table.endian, values))
        return number


class Groups:
    """Records in runs, each of a folder whose own record counts them."""

    def __init__(self, parsed: Parsed, records: Records, tables: Mapping[str, Rows], owners: Ints) -> None:
        assert isinstance(records, TablePart)
        self._separate = records.separate
        self._table = tables[records.grouped_by or ""]
        groups = parsed.regions[records.grouped_by or ""].part
        assert isinstance(groups, TablePart)
        self.part = groups
        block = next((part for part in parsed.layout.parts if isinstance(part, NamesPart)), None)
        #: whether the folders' names stand in a block, in order; those of new ones, with their places among them
        self._names_follow = block.encoding if block is not None and groups.name in block.of else None
        self.named: list[tuple[int, bytes]] = []
        self._first, self._count = groups.column("first-member"), groups.column("member-count")
        self._paths = {path: number for number, path in reversed(list(enumerate(group_paths(parsed, records))))}
        self._owners = owners
        # Folders in the order in which their records lie; an empty one before the one that begins where it would.
        filled = np.bincount(owners[owners >= 0], minlength=len(self._table)) > 0
        self._order = np.arange(len(filled))
        if self._first is not None:
            begins = self._table.numbers(self._first.field)
            self._order = np.lexsort((self._order, filled, begins))
        #: whether empty ones say where they would begin, too
        self._said = self._first is not None and all(
            int(begins[group]) == self._end_before(group) for group in np.flatnonzero(~filled).tolist()
        )

    def of(self, name: str) -> tuple[int, str]:
        """The folder of a new member, which is made where there is none, and the member's name in it."""
        folder, _, inside = name.rpartition("/")
        if folder not in self._paths:
            number = len(self._table)
            known = ("offset",) if self._separate else ()
            record, text = new_record(self.part, self._table, folder, self._names_follow, known)
            if text is not None:
                self.named.append((number, text))
            self._table.insert(number, record)
            self._paths[folder] = number
            self._order = np.append(self._order, number)
        return self._paths[folder], inside

    def keep(self, kept: Ints) -> None:
        """Only these records are left."""
        self._owners = self._owners[kept]

    def places(self, new: Ints) -> tuple[Ints, Ints]:
        """Where one more record of each of these folders goes, behind the folder's others.

        In the order in which they will lie: the places before anything is put in, and which of ``new`` each is.
        """
        rank = np.empty(len(self._order), np.int64)
        rank[self._order] = np.arange(len(self._order))
        ends = {group: self._end(group) for group in np.unique(new).tolist()}
        at = np.array([ends[group] for group in new.tolist()], np.int64)
        order = np.lexsort((rank[new], at))
        self._owners = np.insert(self._owners, at[order], new[order])
        return at[order], order

    def _end(self, group: int) -> int:
        """Where a folder's records end; of an empty one where those before it do."""
        mine = np.flatnonzero(self._owners == group)
        return int(mine[-1]) + 1 if len(mine) else self._end_before(group)

    def _end_before(self, group: int) -> int:
        """Where the records of the folders before one end."""
        earlier = self._order[: int(np.flatnonzero(self._order == group)[0])]
        before = np.flatnonzero(np.isin(self._owners, earlier))
        return int(before[-1]) + 1 if len(before) else 0

    def write(self) -> None:
        """Tell the folders' records how many they have, and where they begin."""
        assert self._count is not None
        counts = np.bincount(self._owners[self._owners >= 0], minlength=len(self._table))
        self._table.put(self._count.field, np.arange(len(counts)), counts)
        if self._first is not None:
            groups, firsts = np.unique(self._owners, return_index=True)
            self._table.put(self._first.field, groups[groups >= 0], firsts[groups >= 0])
            for group in np.flatnonzero(counts == 0).tolist() if self._said else ():
                self._table.put(self._first.field, group, self._end_before(group))
