"""Folder trees: folders with their files and their folders in them, in one block of bytes."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from brae.core.errors import FormatError, LimitError, TruncatedError
from brae.core.layouts.fields import Leaf
from brae.core.layouts.parts import TreePart
from brae.core.layouts.rows import LARGEST_NOTES, Bytes, Ints, VariableRows, frozen, program


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
