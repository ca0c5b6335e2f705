"""Folder trees: folders with their files and their folders in them, in one block of bytes."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from brae.core.errors import FormatError, LayoutError, LimitError, TruncatedError
from brae.core.layouts.fields import Leaf
from brae.core.layouts.parts import TreePart
from brae.core.layouts.rows import (
    LARGEST_NOTES,
    Bytes,
    Ints,
    VariableRows,
    encode,
    encode_record,
    frozen,
    program,
)


class Tree:
    """A folder tree: its files, its folders, and who lies in which folder (-1: none)."""

    def __init__(self, files: VariableRows, folders: VariableRows, parents: Ints, owners: Ints) -> None:
        self.files, self.folders, self.parents, self.owners = files, folders, parents, owners

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
        self._top = int((tree.parents < 0).sum())
        self._files, self._folders = (
            next(column.field for column in part.folder if column.role == role)
            for role in ("file-count", "folder-count")
        )
        if any(column.type == "varint" for column in part.folder):
            raise LayoutError("Folders whose numbers have a variable length cannot get members or lose any yet.")

    def remove(self, rows: Iterable[int]) -> None:
        """Take files out, by their numbers; the folders stay."""
        for row in sorted(rows, reverse=True):
            self._count(self._files, int(self.tree.owners[row]), -1)
            places = self._places()
            at = places.index((int(self.tree.files.starts[row]), False, row))
            self._renew(self._start(places, at), self._start(places, at + 1), b"")

    def insert(self, folder: str, record: bytes) -> int:
        """Put a file into a folder, which is made where there is none, behind its others; returns its number."""
        owner = self._folder(folder)
        mine = np.flatnonzero(self.tree.owners == owner)
        places = self._places()
        if len(mine):
            after = places.index((int(self.tree.files.starts[mine[-1]]), False, int(mine[-1])))
        elif self._part.order == "files-first":
            after = places.index((int(self.tree.folders.starts[owner]), True, owner))
        else:
            after = self._last(places, owner)
        self._count(self._files, owner, 1)
        place = self._start(places, after + 1)
        self._renew(place, place, record)
        return int(np.searchsorted(self.tree.files.starts[: len(self.tree.files)], place))

    def _paths(self) -> list[str]:
        column = next((column for column in self._part.folder if column.role == "name"), None)
        texts = self.tree.folders.texts(column.field) if column else []
        if column is None:
            raise LayoutError("Folders without names cannot get new members.")
        if self._part.folders is None:
            texts[0] = ""
        return joined(self.tree.parents, [text.replace(column.slash, "/") for text in texts])

    def _folder(self, path: str) -> int:
        paths = self._paths()
        if path in paths:
            return paths.index(path)
        above, _, name = path.rpartition("/")
        if not above and "" not in paths:
            raise LayoutError(f"The archive has no folder '{path}' at the top, and none can be added there.")
        parent = self._folder(above)
        column = next(column for column in self._part.folder if column.role == "name")
        heads = self._part.model_copy(update={"record": self._part.folder})
        raw = encode(name, column.encoding, self._endian)
        record = encode_record(heads, self._endian, {column.field: raw})
        places = self._places()
        after = self._last(places, parent)
        if self._part.order == "folders-first":
            own = np.flatnonzero(self.tree.parents == parent)
            head = places.index((int(self.tree.folders.starts[parent]), True, parent))
            after = self._last(places, int(own[-1])) if len(own) else head
        self._count(self._folders, parent, 1)
        place = self._start(places, after + 1)
        self._renew(place, place, record)
        return self._paths().index(path)

    def _places(self) -> list[tuple[int, bool, int]]:
        """Where each record begins, whether it is a folder's, and its number; in order."""
        tree = self.tree
        files = [(int(start), False, row) for row, start in enumerate(tree.files.starts[: len(tree.files)])]
        heads = [(int(start), True, row) for row, start in enumerate(tree.folders.starts[: len(tree.folders)])]
        return sorted(files + heads)

    def _start(self, places: list[tuple[int, bool, int]], number: int) -> int:
        return places[number][0] if number < len(places) else len(self.tree.files.bytes_)

    def _last(self, places: list[tuple[int, bool, int]], folder: int) -> int:
        """The last record of all that lies in a folder, however deep."""
        at = places.index((int(self.tree.folders.starts[folder]), True, folder))
        while at + 1 < len(places):
            _, is_folder, row = places[at + 1]
            holder = row if is_folder else int(self.tree.owners[row])
            while holder >= 0 and holder != folder:
                holder = int(self.tree.parents[holder])
            if holder != folder:
                break
            at += 1
        return at

    def _count(self, field: str, folder: int, by: int) -> None:
        folders = self.tree.folders
        folders.put(field, folder, int(folders.numbers(field)[folder]) + by)

    def _renew(self, begin: int, end: int, between: bytes) -> None:
        block = self.tree.files.bytes_.tobytes()
        whole = np.frombuffer(block[:begin] + between + block[end:], np.uint8)
        again, _ = walk_tree(self._part, self._endian, whole, self._top)
        self.tree.files.become(again.files)
        self.tree.folders.become(again.folders)
        self.tree.parents, self.tree.owners = again.parents, again.owners


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
