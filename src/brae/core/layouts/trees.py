"""Folder trees: folders with their files and their folders in them, in one block of bytes."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from typing import NamedTuple

import numpy as np

from brae.core.errors import FormatError, LayoutError, LimitError, TruncatedError
from brae.core.layouts.fields import Column, Leaf
from brae.core.layouts.parts import TreePart
from brae.core.layouts.records import Records
from brae.core.layouts.rows import (
    LARGEST_NOTES,
    Bytes,
    Ints,
    VariableRows,
    encode_record,
    frozen,
    named,
    program,
)


class Tree:
    """A folder tree: its files, its folders, and who lies in which folder (-1: none)."""

    def __init__(self, files: VariableRows, folders: VariableRows, parents: Ints, owners: Ints) -> None:
        self.files, self.folders, self.parents, self.owners = files, folders, parents, owners

    @property
    def tops(self) -> int:
        """How many folders lie in no other one."""
        return int((self.parents < 0).sum())

    def copy(self) -> Tree:
        """The same tree over a block of its own, to be changed."""
        block = self.files.bytes_.copy()
        return Tree(self.files.sharing(block), self.folders.sharing(block), self.parents, self.owners)


def walk_tree(part: TreePart, endian: str, data: Bytes, folders: int) -> tuple[Tree, int]:
    """A tree at the beginning of ``data``, with so many folders at the top; and where it ends."""
    from brae.core.layouts import kernels as k

    data = frozen(data)
    files, heads = program(part.record, endian), program(part.folder, endian)
    names = [column.field for column in part.folder]
    roles = {column.role: names.index(column.field) for column in part.folder if column.role}
    arguments = (
        data, folders, heads, files, roles["file-count"], roles["folder-count"], part.order == "files-first",
    )  # fmt: skip
    empty1, empty2, empty3 = np.empty(0, np.int64), np.empty((0, 0), np.int64), np.empty((0, 0, 2), np.int64)
    none = (empty1, empty3, empty2, empty1, empty1, empty3, empty2, empty1)
    folder_count, file_count, end, reason = k.walk_tree(*arguments, *none)
    if reason == k.DEEP:
        raise LimitError(f"The folders are nested more than {k.DEEPEST} deep.", offset=end)
    if reason != k.WHOLE:
        raise TruncatedError(
            "The folder tree is cut short.",
            offset=end,
            remedy="The file is damaged, or the layout does not fit it.",
        )
    if (folder_count * len(heads) + file_count * len(files)) * 24 > LARGEST_NOTES:
        raise LimitError(f"{file_count} files in {folder_count} folders are more than is sensible.")

    def room(count: int, width: int) -> tuple[Ints, Ints, Ints, Ints]:
        return (
            np.empty(count + 1, np.int64), np.empty((count, width, 2), np.int64),
            np.empty((count, width), np.int64), np.empty(count, np.int64),
        )  # fmt: skip

    head_room, file_room = room(folder_count, len(heads)), room(file_count, len(files))
    k.walk_tree(*arguments, *head_room, *file_room)
    block = data[:end].copy()
    file_rows = VariableRows(part.leaves, part.record, endian, block, *file_room[:3])
    head_leaves = [Leaf(column, column) for column in part.folder]
    head_rows = VariableRows(head_leaves, part.folder, endian, block, *head_room[:3])
    return Tree(file_rows, head_rows, head_room[3], file_room[3]), end


class Growth:
    """A tree that gets files, and folders for them, or loses files: its block is put together and walked anew."""

    def __init__(self, tree: Tree, part: TreePart, endian: str) -> None:
        self.tree, self._part, self._endian = tree, part, endian
        self._top = tree.tops
        self._files, self._folders = (
            next(column.field for column in part.folder if column.role == role)
            for role in ("file-count", "folder-count")
        )
        if any(column.type == "varint" for column in part.folder):
            raise LayoutError("Folders whose numbers have a variable length cannot get members or lose any yet.")

    def remove(self, rows: Iterable[int]) -> None:
        """Take files out, by their numbers; the folders stay."""
        gone = np.array(sorted(rows), np.int64)
        self._count(self._files, self.tree.owners[gone], -1)
        order = self._order()
        block, kept, position = self.tree.files.bytes_.tobytes(), [], 0
        for rank in order.files[gone].tolist():
            kept.append(block[position : int(order.starts[rank])])
            position = int(order.starts[rank + 1])
        self._renew(b"".join([*kept, block[position:]]))

    def add(self, files: Sequence[tuple[str, bytes]]) -> Ints:
        """Put records into folders, each behind the others there; returns their numbers.

        Folders are made where there are none.
        """
        numbers = self._with_folders(path for path, _ in files)
        owners = np.array([numbers[path] for path, _ in files], np.int64)
        order, tree = self._order(), self.tree
        # Behind a folder's own files; else before its folders, or behind all that is in them.
        after = order.folders.copy() if self._part.order == "files-first" else order.last.copy()
        np.maximum.at(after, tree.owners[tree.owners >= 0], order.files[tree.owners >= 0])
        self._count(self._files, owners, 1)
        # Where several end at one place, what goes into the innermost comes first.
        places = self._insert(order.starts[after[owners] + 1], [record for _, record in files], -owners)
        return np.searchsorted(self.tree.files.starts[: len(self.tree.files)], places)

    def _with_folders(self, wanted: Iterable[str]) -> dict[str, int]:
        """The number of every folder by its path, with those that are wanted."""
        column = next((column for column in self._part.folder if column.role == "name"), None)
        if column is None:
            raise LayoutError("Folders without names cannot get new members.")
        known = self._paths(column)
        # Each with those that it lies in, in the order in which they are first wanted.
        paths = dict.fromkeys(path[: cut.start()] for path in wanted for cut in re.finditer("/|$", path))
        paths = {path: None for path in paths if path not in known}
        heads = self._part.model_copy(update={"record": self._part.folder})
        for depth in sorted({path.count("/") for path in paths}):
            new = [path for path in paths if path.count("/") == depth]
            if not depth and self._part.folders is not None:
                known = self._with_tops(column, heads, new)
                continue
            above = [path.rpartition("/")[0] for path in new]
            if any(path not in known for path in above):
                raise LayoutError(f"The archive has no folder '{new[0]}' at the top, and none can be added there.")
            parents, order, tree = np.array([known[path] for path in above]), self._order(), self.tree
            after = order.last.copy() if self._part.order == "files-first" else order.folders.copy()
            if self._part.order == "folders-first":
                held = tree.parents >= 0
                np.maximum.at(after, tree.parents[held], order.last[held])
            names = (named(Leaf(column, column), path.rpartition("/")[2], self._endian) for path in new)
            records = [encode_record(heads, self._endian, values) for values in names]
            self._count(self._folders, parents, 1)
            self._insert(order.starts[after[parents] + 1], records, np.zeros(len(new), np.int64))
            known = self._paths(column)
            if lost := next((path for path in new if path not in known), None):
                raise LayoutError(f"The archive's folders cannot be called '{lost}'.")
        return known

    def _with_tops(self, column: Column, heads: Records, new: Sequence[str]) -> dict[str, int]:
        """Folders more at the top, behind all others."""
        records = [
            encode_record(heads, self._endian, named(Leaf(column, column), path, self._endian)) for path in new
        ]
        self._top += len(new)
        end = np.full(len(new), len(self.tree.files.bytes_), np.int64)
        self._insert(end, records, np.zeros(len(new), np.int64))
        return self._paths(column)

    def _paths(self, column: Column) -> dict[str, int]:
        texts = [text.replace(column.slash, "/") for text in self.tree.folders.texts(column.field)]
        if self._part.folders is None:
            texts[0] = ""
        return {path: number for number, path in enumerate(joined(self.tree.parents, texts))}

    def _order(self) -> _Order:
        tree = self.tree
        files, folders = tree.files.starts[: len(tree.files)], tree.folders.starts[: len(tree.folders)]
        starts = np.concatenate([files, folders])
        ranks = np.empty(len(starts), np.int64)
        ranks[np.argsort(starts, kind="stable")] = np.arange(len(starts))
        own, heads = ranks[: len(files)], ranks[len(files) :]
        last = heads.copy()
        held = tree.owners >= 0
        np.maximum.at(last, tree.owners[held], own[held])
        # A folder stands before those in it, so the innermost are known first.
        for folder in range(len(last) - 1, -1, -1):
            if tree.parents[folder] >= 0:
                last[tree.parents[folder]] = max(last[tree.parents[folder]], last[folder])
        return _Order(np.append(np.sort(starts), len(tree.files.bytes_)), own, heads, last)

    def _count(self, field: str, folders: Ints, by: int) -> None:
        counts = self.tree.folders.numbers(field)
        np.add.at(counts, folders, by)
        self.tree.folders.put(field, slice(None), counts)

    def _insert(self, places: Ints, records: Sequence[bytes], first: Ints) -> Ints:
        """Put records into the block; where each begins now. At one place they go by ``first``, then as given."""
        order = np.lexsort((first, places))
        lengths = np.array([len(records[number]) for number in order.tolist()], np.int64)
        begins = np.empty(len(records), np.int64)
        begins[order] = places[order] + np.cumsum(lengths) - lengths
        block, pieces, position = self.tree.files.bytes_.tobytes(), [], 0
        for number in order.tolist():
            pieces += [block[position : int(places[number])], records[number]]
            position = int(places[number])
        self._renew(b"".join([*pieces, block[position:]]))
        return begins

    def _renew(self, block: bytes) -> None:
        again, _ = walk_tree(self._part, self._endian, np.frombuffer(block, np.uint8), self._top)
        self.tree.files.become(again.files)
        self.tree.folders.become(again.folders)
        self.tree.parents, self.tree.owners = again.parents, again.owners


class _Order(NamedTuple):
    """All records of a tree, in order: where each begins and the block ends, and who is which."""

    starts: Ints
    #: of each file and each folder its place in the order; of each folder that of the last record of all in it
    files: Ints
    folders: Ints
    last: Ints


def joined(parents: Ints, names: Iterable[str]) -> list[str]:
    """Each folder's path, from its own name and its parent's place in the list (-1: none).

    Raises FormatError where folders lie in each other.
    """
    texts, above = list(names), parents.tolist()
    paths: list[str | None] = [None] * len(texts)
    for start in range(len(texts)):
        chain, at = [], start
        while at >= 0 and paths[at] is None:
            chain.append(at)
            if len(chain) > 256:
                raise FormatError(f"Folder {start} lies in itself, or more than 256 deep.")
            at = above[at]
        prefix = (paths[at] or "") if at >= 0 else ""
        for one in reversed(chain):
            prefix = f"{prefix}/{texts[one]}" if prefix else texts[one]
            paths[one] = prefix
    return [path or "" for path in paths]
