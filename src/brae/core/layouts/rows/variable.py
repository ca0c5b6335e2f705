"""Records of variable size, found by a walk over the bytes in which they lie."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from brae.core.errors import FormatError, LayoutError, LimitError, TruncatedError
from brae.core.layouts.digits import BASES
from brae.core.layouts.fields import Column, Leaf
from brae.core.layouts.parts import Until
from brae.core.layouts.records import Records
from brae.core.layouts.rows.base import ALL, Bytes, Ints, Rows, Some, joined, to_bytes, to_integers
from brae.core.layouts.rows.made import varint
from brae.core.layouts.rows.strings import trimmed

#: what the walk notes about a table may take this many bytes
LARGEST_NOTES = 1 << 31


def program(columns: Sequence[Column], endian: str) -> Ints:
    """A record's columns as the compiled walk reads them (see ``kernels``)."""
    from brae.core.layouts import kernels as k

    rows = []
    names = [column.field for column in columns]
    for column in columns:
        unit, big, add = max(column.unit, column.character), int(column.order(endian) == "big"), 0
        source = -1
        if column.type == "varint":
            kind, width = k.VARINT, 0
        elif column.type in BASES:
            kind, width, unit = k.DIGITS, column.width, BASES[column.type]
        elif column.type not in ("string", "bytes"):
            kind, width = k.FIXED, column.width
        elif column.prefix is not None:
            kind, width, add = k.PREFIXED, int(column.prefix[1:]) // 8, column.add
        elif isinstance(column.length, str):
            kind, width, source, add = k.COUNTED, 0, names.index(column.length), column.add
        elif column.length is not None:
            kind, width = k.FIXED, column.length
        else:
            kind, width, unit = k.NUL, 0, column.character
        rows.append([kind, width, unit, source, big, add])
    return np.array(rows, np.int64)


class VariableRows(Rows):
    """Records found by a walk over their block; several tables may share one block (a tree does)."""

    def __init__(
        self, leaves: Sequence[Leaf], columns: Sequence[Column], endian: str, block: Bytes, starts: Ints,
        spans: Ints, values: Ints, part: Records | None = None,
    ) -> None:  # fmt: skip
        super().__init__(leaves, endian)
        self.columns, self.bytes_, self.starts, self.spans, self.values = columns, block, starts, spans, values
        self.index = {column.field: place for place, column in enumerate(columns)}
        self.part = part
        #: whether numbers of variable length were changed that are not in the bytes yet
        self._unsettled = False

    def __len__(self) -> int:
        return len(self.spans)

    def copy(self) -> VariableRows:
        self._settle()
        return VariableRows(
            list(self.leaf.values()), self.columns, self.endian, self.bytes_.copy(), self.starts, self.spans,
            self.values.copy(), self.part,
        )  # fmt: skip

    def sharing(self, block: Bytes) -> VariableRows:
        """The same records over a changed copy of their block."""
        return VariableRows(
            list(self.leaf.values()), self.columns, self.endian, block, self.starts, self.spans, self.values.copy()
        )

    def become(self, other: VariableRows) -> None:
        """The records of another walk."""
        self.bytes_, self.starts, self.spans, self.values = other.bytes_, other.starts, other.spans, other.values

    def block(self) -> bytes:
        self._settle()
        return self.bytes_.tobytes()

    def place(self, row: int, field: str) -> int:
        self._settle()
        return int(self.spans[row, self.index[self.leaf[field].column.field], 0])

    def start(self, row: int) -> int:
        self._settle()
        return int(self.starts[row])

    def span(self, row: int, field: str) -> tuple[int, int]:
        self._settle()
        begin, end = self.spans[row, self.index[field]].tolist()
        return begin, end

    def record(self, row: int) -> bytes:
        self._settle()
        return self.bytes_[self.starts[row] : self.starts[row + 1]].tobytes()

    def describe(self, inside: int) -> str:
        self._settle()
        row = int(np.searchsorted(self.starts[: len(self)], inside, "right")) - 1
        if row < 0:
            return ""
        for place, column in enumerate(self.columns):
            if self.spans[row, place, 0] <= inside < self.spans[row, place, 1]:
                return f"[{row}].{column.field}"
        return f"[{row}]"

    def raw_bytes(self, column: Column, rows: Some = ALL) -> Bytes:
        begins = self.spans[rows, self.index[column.field], 0]
        found: Bytes = self.bytes_[begins[:, None] + np.arange(column.width)]
        return found

    def _integers(self, column: Column, rows: Some = ALL) -> np.ndarray[Any, Any]:
        if column.type == "varint":
            return self.values[rows, self.index[column.field]].astype(np.uint64)
        return to_integers(self.raw_bytes(column, rows), column, self.endian)

    def _store(self, column: Column, where: Ints | slice, numbers: np.ndarray[Any, Any]) -> None:
        place = self.index[column.field]
        if column.type == "varint":
            if self.part is None and np.any(self.values[where, place] != numbers):
                raise LayoutError("Numbers of variable length can only change in a plain table.")
            self.values[where, place] = numbers
            self._unsettled = True
            return
        begins = self.spans[where, place, 0]
        places = begins[:, None] + np.arange(column.width)
        new = np.broadcast_to(numbers, begins.shape)
        self.bytes_[places] = to_bytes(new, column, self.endian, self.bytes_[places])

    def _settle(self) -> None:
        """Numbers of another length move what follows: records are put together when their bytes are needed."""
        if not self._unsettled:
            return
        self._unsettled = False
        varying = [place for place, column in enumerate(self.columns) if column.type == "varint"]
        pieces, position = [], 0
        for spans, values in zip(self.spans[:, varying].tolist(), self.values[:, varying].tolist(), strict=True):
            for (low, high), value in zip(spans, values, strict=True):
                pieces += [self.bytes_[position:low].tobytes(), varint(value)]
                position = high
        self._renew(b"".join([*pieces, self.bytes_[position:].tobytes()]), len(self))

    def _renew(self, block: bytes, count: int) -> None:
        assert self.part is not None
        whole = np.frombuffer(block, np.uint8).copy()
        again, _ = walk(self.part, self.endian, whole, count, None)
        # What ends the table stands behind its records.
        again.bytes_ = whole
        self.bytes_, self.starts, self.spans, self.values = again.bytes_, again.starts, again.spans, again.values

    def keep(self, rows: Ints) -> None:
        self._settle()
        if self.part is None:
            raise LayoutError("Members cannot be added to a folder tree or removed from it yet.")
        tail = self.bytes_[int(self.starts[len(self)]) :].tobytes()
        pieces = [self.bytes_[self.starts[row] : self.starts[row + 1]].tobytes() for row in rows]
        self._renew(b"".join(pieces) + tail, len(rows))

    def insert_all(self, places: Ints, records: Sequence[bytes]) -> None:
        self._settle()
        if self.part is None:
            raise LayoutError("Members cannot be added to a folder tree or removed from it yet.")
        whole = joined(self.bytes_.tobytes(), self.starts[places], records)
        self._renew(whole, len(self) + len(records))

    def put_raw(self, field: str, row: int, data: bytes) -> None:
        place = self.index[self.leaf[field].column.field]
        begin, end = self.spans[row, place]
        self.bytes_[begin:end] = np.frombuffer(data[: end - begin].ljust(int(end - begin), b"\0"), np.uint8)

    def content(self, field: str, row: int) -> bytes:
        column = self.leaf[field].column
        begin, end = self.spans[row, self.index[column.field]]
        raw = self.bytes_[begin:end].tobytes()
        fixed = isinstance(column.length, int) or (column.prefix is not None and column.end == "nul")
        return trimmed(raw, column.character) if column.type == "string" and fixed else raw

    def texts(self, field: str) -> list[str]:
        column = self.leaf[field].column
        if isinstance(column.length, int) or column.character > 1 or (column.prefix and column.end):
            return super().texts(field)
        whole = self.bytes_.tobytes()
        encoding = column.encoding
        if whole.isascii():
            # One character a byte, so the whole is decoded once.
            text = whole.decode("ascii")
            return [text[begin:end] for begin, end in self.spans[:, self.index[column.field]].tolist()]
        return [
            whole[begin:end].decode(encoding, "surrogateescape")
            for begin, end in self.spans[:, self.index[column.field]].tolist()
        ]


def frozen(data: Bytes) -> Bytes:
    """A view that may not be written to: numba compiles for each kind, and one is enough."""
    view = data.view()
    view.flags.writeable = False
    return view


def walk(
    part: Records, endian: str, data: Bytes, count: int | None, until: Until | None
) -> tuple[VariableRows, int]:
    """Records of variable size at the beginning of ``data``: the rows, and where they end.

    Raises TruncatedError or FormatError where a record is cut, with its place in ``data``.
    """
    from brae.core.layouts import kernels as k

    data = frozen(data)
    columns = program(part.record, endian)
    own = part.column("record-length")
    names = [column.field for column in part.record]
    own_at = -1 if own is None else names.index(own.column.field)
    stop = -1 if until is None else names.index(until.field)
    arguments = (
        -1 if count is None else count, columns, part.record_size or 0,
        own_at, own.meant.add if own else 0, stop, until.value if until and until.value is not None else 0,
    )  # fmt: skip
    none = (np.empty(0, np.int64), np.empty((0, 0, 2), np.int64), np.empty((0, 0), np.int64))
    number, end, reason, column = k.walk(data, 0, *arguments, *none)
    if reason in (k.CUT, k.UNENDED):
        words = "No zero ends the string" if reason == k.UNENDED else "The record is cut short"
        raise TruncatedError(
            f"{words} in record {number}, field '{part.record[column].field}'.",
            offset=end,
            remedy="The file is cut short or damaged, or the layout does not fit it.",
        )
    if until is not None and reason != k.STOPPED:
        raise FormatError(f"No record ends the table: none has '{until.field}' as 'until' says.", offset=end)
    if number * len(columns) * 24 > LARGEST_NOTES:
        raise LimitError(f"{number} records of variable size are more than is sensible.")
    starts = np.empty(number + 1, np.int64)
    spans, values = np.empty((number, len(columns), 2), np.int64), np.empty((number, len(columns)), np.int64)
    k.walk(data, 0, *arguments, starts, spans, values)
    if until is not None:
        end = _end_of_mark(part, data, end, until, columns)
    rows = VariableRows(part.leaves, part.record, endian, data[:end].copy(), starts, spans, values, part)
    return rows, end


def _end_of_mark(part: Records, data: Bytes, at: int, until: Until, columns: Ints) -> int:
    """Where the record that ends a table ends itself."""
    from brae.core.layouts import kernels as k

    used = columns
    if not until.whole:
        used = columns[: [column.field for column in part.record].index(until.field) + 1]
    one = (np.empty(2, np.int64), np.empty((1, len(used), 2), np.int64), np.empty((1, len(used)), np.int64))
    least = (part.record_size or 0) if until.whole else 0
    _, end, reason, _ = k.walk(data, at, 1, used, least, -1, 0, -1, 0, *one)
    if reason != k.WHOLE:
        raise TruncatedError("The record that ends the table is cut short.", offset=at)
    return int(end)
