"""What rows of either sort can do: columns as numbers and strings, taken out and put in."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from brae.core.errors import LayoutError
from brae.core.layouts.digits import BASES, as_text, numbers_of
from brae.core.layouts.fields import Column, Leaf
from brae.core.layouts.rows.strings import decode

Ints = np.ndarray[Any, np.dtype[np.int64]]
Bytes = np.ndarray[Any, np.dtype[np.uint8]]
#: no place in a file, and no size, is beyond this many units
_FAR = 1 << 62
#: which records: all, or some by their numbers
Some = slice | Ints
ALL = slice(None)


class Rows:
    """The records of a table."""

    def __init__(self, leaves: Sequence[Leaf], endian: str) -> None:
        self.endian = endian
        self.leaf = {leaf.field: leaf for leaf in leaves}

    def __len__(self) -> int:
        raise NotImplementedError

    def copy(self) -> Rows:
        """The same records, to be changed."""
        raise NotImplementedError

    def block(self) -> bytes:
        """The records' bytes."""
        raise NotImplementedError

    def place(self, row: int, field: str) -> int:
        """Where a value lies in the block."""
        raise NotImplementedError

    def start(self, row: int) -> int:
        """Where a record begins in the block."""
        raise NotImplementedError

    def span(self, row: int, field: str) -> tuple[int, int]:
        """Where a whole column's bytes begin and end in the block, without a length in front or an end mark."""
        raise NotImplementedError

    def record(self, row: int) -> bytes:
        """The bytes of one record."""
        raise NotImplementedError

    def describe(self, inside: int) -> str:
        """Which record and field a byte of the block belongs to, such as ``[3].size``."""
        raise NotImplementedError

    def keep(self, rows: Ints) -> None:
        """Only these records stay, in this order."""
        raise NotImplementedError

    def insert(self, at: int, record: bytes) -> None:
        """Put a record before the one at ``at``."""
        self.insert_all(np.array([at], np.int64), [record])

    def insert_all(self, places: Ints, records: Sequence[bytes]) -> None:
        """Put each record before the one that is at its place now; ``places`` are in order."""
        raise NotImplementedError

    def raw_bytes(self, column: Column, rows: Some = ALL) -> Bytes:
        """The bytes of a column of fixed width, shape (records, width)."""
        raise NotImplementedError

    def _integers(self, column: Column, rows: Some = ALL) -> np.ndarray[Any, Any]:
        """A column's numbers as they are stored."""
        raise NotImplementedError

    def _store(self, column: Column, where: Ints | slice, numbers: np.ndarray[Any, Any]) -> None:
        raise NotImplementedError

    def raw(self, field: str, rows: Some = ALL) -> np.ndarray[Any, Any]:
        """The numbers of a field as they are stored, of whatever integer type."""
        leaf = self.leaf[field]
        if not leaf.column.number_like:
            raise LayoutError(f"'{field}' is not a whole number.")
        numbers = self._integers(leaf.column, rows)
        if leaf.whole:
            return numbers
        pieces: np.ndarray[Any, Any] = (numbers.astype(np.uint64) >> np.uint64(leaf.shift)) & np.uint64(
            (1 << leaf.bits) - 1
        )
        return pieces

    def numbers(self, field: str, rows: Some = ALL) -> Ints:
        """The numbers of a field as they are meant: times the unit, plus what is added (int64).

        What cannot be a place or a size becomes -1 or something beyond every file.
        """
        meant = self.leaf[field].meant
        raw = self.raw(field, rows)
        result: Ints
        if raw.dtype.kind == "u" and raw.dtype.itemsize == 8:
            result = np.minimum(raw, np.uint64(_FAR // meant.unit)).astype(np.int64)
        else:
            result = np.minimum(raw.astype(np.int64), _FAR // meant.unit)
        if meant.unit != 1:
            result *= meant.unit
        if meant.add:
            result += meant.add
        return result

    def put(self, field: str, where: Ints | slice | int, meant_numbers: Any) -> None:
        """Store numbers as they are meant; LayoutError where one does not fit the field."""
        leaf = self.leaf[field]
        rows = np.array([where]) if isinstance(where, int) else where
        values = np.atleast_1d(np.asarray(meant_numbers, np.int64)) - leaf.meant.add
        if leaf.meant.unit != 1:
            if np.any(values % leaf.meant.unit):
                raise LayoutError(
                    f"'{field}' counts units of {leaf.meant.unit} bytes; a value is no multiple of it."
                )
            values = values // leaf.meant.unit
        bits = leaf.bits or 63
        signed = leaf.whole and leaf.column.type[0] == "i"
        low, high = (-(1 << bits - 1), (1 << bits - 1) - 1) if signed else (0, (1 << min(bits, 63)) - 1)
        if np.any(values > high) or np.any(values < low):
            raise LayoutError(
                f"A value is too large for '{field}': the archive would grow beyond its format.",
                expected=f"{low * leaf.meant.unit + leaf.meant.add} to {high * leaf.meant.unit + leaf.meant.add}",
            )
        if not leaf.whole:
            mask = np.uint64(((1 << bits) - 1) << leaf.shift)
            old = self._integers(leaf.column, rows).astype(np.uint64)
            stored = (old & ~mask) | (values.astype(np.uint64) << np.uint64(leaf.shift))
            self._store(leaf.column, rows, stored)
        else:
            self._store(leaf.column, rows, values)

    def put_raw(self, field: str, row: int, data: bytes) -> None:
        """Store the bytes of a column of fixed width."""
        raise NotImplementedError

    def content(self, field: str, row: int) -> bytes:
        """The bytes of a column in one record, without padding or end mark."""
        raise NotImplementedError

    def texts(self, field: str) -> list[str]:
        """A column's strings."""
        column = self.leaf[field].column
        return [decode(self.content(field, row), column.encoding, self.endian) for row in range(len(self))]


def to_integers(raw: Bytes, column: Column, endian: str) -> np.ndarray[Any, Any]:
    """(n, width) bytes as numbers."""
    if column.type in BASES:
        return numbers_of(raw, BASES[column.type])
    width = column.width
    wide = np.zeros((len(raw), 8), np.uint8)
    wide[:, :width] = raw if column.order(endian) == "little" else raw[:, ::-1]
    numbers = wide.view("<u8")[:, 0]
    if column.type[0] == "i":
        shift = np.int64(64 - 8 * width)
        return (numbers.view(np.int64) << shift) >> shift
    return numbers


def to_bytes(numbers: np.ndarray[Any, Any], column: Column, endian: str, old: Bytes) -> Bytes:
    """Numbers as (n, width) bytes, in the place of ``old`` ones."""
    if column.type in BASES:
        return as_text(numbers.astype(np.int64), old, BASES[column.type])
    wide = np.ascontiguousarray(numbers.astype(np.int64 if numbers.dtype.kind == "i" else np.uint64))
    raw = wide.view(np.uint64).astype("<u8").view(np.uint8).reshape(-1, 8)[:, : column.width]
    return raw if column.order(endian) == "little" else raw[:, ::-1]


def joined(block: bytes, places: Ints, pieces: Sequence[bytes]) -> bytes:
    """A block with each piece put in at its place, which are in order."""
    found, position = [], 0
    for place, piece in zip(places.tolist(), pieces, strict=True):
        found += [block[position:place], piece]
        position = place
    return b"".join([*found, block[position:]])
