"""References between the objects of a bundle: which member speaks of which."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import numpy as np

from brae.core.errors import LayoutError
from brae.core.layouts.directory import Directory
from brae.core.layouts.fields import Leaf
from brae.core.layouts.read import Parsed
from brae.core.layouts.records import Records
from brae.core.layouts.rows import Ints, Rows


def references(parsed: Parsed, found: Directory) -> Ints:
    """Pairs of members, of which the first refers to the second; shape (pairs, 2), in the order of the records.

    A number that is no member's refers to nothing.
    """
    if found.table is None or found.records is None:
        return np.empty((0, 2), np.int64)
    pairs = []
    for name, records, columns in _tables(parsed, found.records):
        table = parsed.tables[name]
        if records is found.records:
            owners = np.full(len(table), -1, np.int64)
            owners[found.rows] = np.arange(len(found.rows))
        else:
            owner = next((leaf for leaf in columns if leaf.meant.role == "owner"), None)
            if owner is None:
                continue
            owners = _members(found, table, owner)
        for leaf in columns:
            if leaf.meant.role == "reference":
                targets = _members(found, table, leaf)
                both = (owners >= 0) & (targets >= 0)
                pairs.append(np.stack([owners[both], targets[both]], axis=1))
    return np.concatenate(pairs) if pairs else np.empty((0, 2), np.int64)


def point_into(parsed: Parsed, records: Records) -> bool:
    """Whether anything refers to a table's records."""
    return any(True for _ in _tables(parsed, records))


def check_removal(parsed: Parsed, found: Directory, removed: Iterable[int]) -> None:
    """Raise LayoutError where something that stays refers to a member that is to go, or a table of links does."""
    gone = set(removed)
    if found.records is None:
        return
    own = found.records.name  # type: ignore[attr-defined]
    linked = any(name != own for name, _, _ in _tables(parsed, found.records))
    for owner, target in references(parsed, found).tolist():
        if target in gone and (owner not in gone or linked):
            raise LayoutError(
                f"'{found.names[target]}' cannot be taken out: '{found.names[owner]}' refers to it.",
                remedy="Take out what refers to it as well, or leave it.",
            )
        if owner in gone and linked:
            raise LayoutError(f"'{found.names[owner]}' cannot be taken out: a table of links speaks of it.")


def _tables(parsed: Parsed, records: Records) -> Iterator[tuple[str, Records, list[Leaf]]]:
    """Every table with fields that refer to ``records``, and those fields."""
    name = records.name  # type: ignore[attr-defined]
    for part in parsed.layout.parts:
        if isinstance(part, Records) and part.name in parsed.tables:
            leaves = [one for one in part.leaves if one.meant.table == name]
            if leaves := [one for one in leaves if one.meant.role in ("reference", "owner")]:
                yield part.name, part, leaves


def _members(found: Directory, table: Rows, leaf: Leaf) -> Ints:
    """The member that each record's number means; -1 for none."""
    assert found.table is not None
    numbers = table.raw(leaf.field).astype(np.int64)
    identity = found.leaf("id")
    own = found.rows if identity is None else found.table.raw(identity.field).astype(np.int64)[found.rows]
    order = np.argsort(own, kind="stable")
    at = np.minimum(np.searchsorted(own[order], numbers), max(len(own) - 1, 0))
    if not len(own):
        return np.full(len(numbers), -1, np.int64)
    hit = own[order][at] == numbers
    return np.where(hit, order[at], -1)
