"""The numbers that sums over a record may read: its own, the header's, those of records that it points to."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from functools import partial

import numpy as np

from brae.core.layouts.fields import Leaf
from brae.core.layouts.read import Parsed
from brae.core.layouts.records import Records
from brae.core.layouts.rows import Ints, Rows

#: what a number that points to no record reads there: no place and no size
_NOTHING = -1


class RecordValues(Mapping[str, Ints]):
    """Columns by name, one number a record, worked out when they are read.

    ``own`` come before all others; ``tables`` and ``header`` are those of the file unless they are given.
    """

    def __init__(
        self,
        parsed: Parsed,
        table: Rows,
        rows: Ints,
        own: Mapping[str, Ints] | None = None,
        tables: Mapping[str, Rows] | None = None,
        header: Mapping[str, int] | None = None,
    ) -> None:
        self._parsed, self._table, self._rows = parsed, table, rows
        self._tables = parsed.tables if tables is None else tables
        self._found: dict[str, Ints] = dict(own or {})
        self._makers: dict[str, Callable[[], Ints]] = {}
        for name, number in (parsed.values if header is None else header).items():
            self._makers[name] = partial(np.full, len(rows), number, np.int64)
        for name, leaf in table.leaf.items():
            if leaf.column.number_like:
                self._makers[name] = partial(self._own, name)
                self._makers |= self._referenced(leaf)

    def _own(self, name: str) -> Ints:
        return self._table.numbers(name)[self._rows]

    def _referenced(self, leaf: Leaf) -> Mapping[str, Callable[[], Ints]]:
        if leaf.meant.table is None or leaf.meant.table not in self._tables:
            return {}
        other = self._tables[leaf.meant.table]
        return {
            f"{leaf.field}.{name}": partial(self._of_other, leaf, other, name)
            for name, one in other.leaf.items()
            if one.column.number_like
        }

    def _of_other(self, leaf: Leaf, other: Rows, name: str) -> Ints:
        """A field of the records that this one's numbers point to."""
        numbers, values = self._table.raw(leaf.field)[self._rows].astype(np.int64), other.numbers(name)
        region = self._parsed.regions[leaf.meant.table or ""]
        assert isinstance(region.part, Records)
        identity = region.part.column("id")
        known = np.arange(len(other)) if identity is None else other.raw(identity.field).astype(np.int64)
        if not len(known):
            return np.full(len(numbers), _NOTHING, np.int64)
        order = np.argsort(known, kind="stable")
        at = np.minimum(np.searchsorted(known[order], numbers), len(known) - 1)
        return np.where(known[order][at] == numbers, values[order[at]], _NOTHING)

    def __getitem__(self, name: str) -> Ints:
        if name not in self._found:
            self._found[name] = self._makers[name]()
        return self._found[name]

    def __iter__(self) -> Iterator[str]:
        return iter({**self._found, **self._makers})

    def __len__(self) -> int:
        return len({**self._found, **self._makers})

    def __contains__(self, name: object) -> bool:
        return name in self._found or name in self._makers
