"""Records in memory: whole columns at a time, out of the block of bytes in which they lie.

Records of one fixed size are a numpy structured array over the block. Others are found by one compiled walk,
which notes where each column's content begins and ends; a number is then gathered from, and scattered to, these
places. Either way a change alters the block itself, so whatever no column explains stays.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from brae.core.errors import FormatError, LayoutError, LimitError, TruncatedError
from brae.core.layouts.digits import BASES, as_text, numbers_of
from brae.core.layouts.fields import Column, Leaf, Value
from brae.core.layouts.parts import Until
from brae.core.layouts.records import Records, shifts

Ints = np.ndarray[Any, np.dtype[np.int64]]
Bytes = np.ndarray[Any, np.dtype[np.uint8]]
#: no place in a file, and no size, is beyond this many units
_FAR = 1 << 62
#: what the walk notes about a table may take this many bytes
LARGEST_NOTES = 1 << 31


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


def decode(raw: bytes, encoding: str, endian: str) -> str:
    """Text in one of the language's encodings; bytes that are no text of it are kept, to be written back."""
    if encoding == "utf-16":
        codec = "utf-16-le" if endian == "little" else "utf-16-be"
        return raw.decode(codec, "surrogatepass" if len(raw) % 2 == 0 else "replace")
    return raw.decode(encoding, "surrogateescape")


def encode(text: str, encoding: str, endian: str) -> bytes:
    """The inverse; FormatError where the encoding has no such character."""
    codec = encoding if encoding != "utf-16" else "utf-16-le" if endian == "little" else "utf-16-be"
    try:
        return text.encode(codec, "surrogatepass" if encoding == "utf-16" else "surrogateescape")
    except UnicodeEncodeError as error:
        raise FormatError(f"'{text}' has a character that {encoding} does not have.") from error


def trimmed(raw: bytes, character: int) -> bytes:
    """A string of fixed length without what follows its first zero."""
    if character == 1:
        return raw.partition(b"\0")[0]
    units = np.frombuffer(raw[: len(raw) // 2 * 2], np.uint16)
    zeros = np.flatnonzero(units == 0)
    return raw[: 2 * int(zeros[0])] if len(zeros) else raw


def _to_integers(raw: Bytes, column: Column, endian: str) -> np.ndarray[Any, Any]:
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


def _to_bytes(numbers: np.ndarray[Any, Any], column: Column, endian: str, old: Bytes) -> Bytes:
    """Numbers as (n, width) bytes, in the place of ``old`` ones."""
    if column.type in BASES:
        return as_text(numbers.astype(np.int64), old, BASES[column.type])
    wide = np.ascontiguousarray(numbers.astype(np.int64 if numbers.dtype.kind == "i" else np.uint64))
    raw = wide.view(np.uint64).astype("<u8").view(np.uint8).reshape(-1, 8)[:, : column.width]
    return raw if column.order(endian) == "little" else raw[:, ::-1]


# ---- records of one fixed size ----------------------------------------------------------------------------


class FixedRows(Rows):
    """A numpy structured array."""

    def __init__(self, part: Records, endian: str, block: bytes) -> None:
        super().__init__(part.leaves, endian)
        self.part = part
        self.array = np.frombuffer(block, part.dtype(endian))
        #: the record that ends the table, which is none of its records
        self.mark = b""

    def __len__(self) -> int:
        return len(self.array)

    def copy(self) -> FixedRows:
        result = FixedRows(self.part, self.endian, b"")
        result.array, result.mark = self.array.copy(), self.mark
        return result

    def block(self) -> bytes:
        return self.array.tobytes() + self.mark

    def _inside(self, field: str) -> int:
        return int(self.array.dtype.fields[self.leaf[field].column.field][1])  # type: ignore[index]

    def place(self, row: int, field: str) -> int:
        return row * self.array.dtype.itemsize + self._inside(field)

    def start(self, row: int) -> int:
        return row * self.array.dtype.itemsize

    def span(self, row: int, field: str) -> tuple[int, int]:
        form, inside = self.array.dtype.fields[field][:2]  # type: ignore[index]
        begin = row * self.array.dtype.itemsize + inside
        return begin, begin + form.itemsize

    def record(self, row: int) -> bytes:
        return self.array[row : row + 1].tobytes()

    def describe(self, inside: int) -> str:
        row, rest = divmod(inside, self.array.dtype.itemsize)
        if row >= len(self.array):
            return " (the record that ends it)"
        for column in self.part.record:
            form, start = self.array.dtype.fields[column.field][:2]  # type: ignore[index]
            if start <= rest < start + form.itemsize:
                return f"[{row}].{column.field}"
        return f"[{row}]"

    def keep(self, rows: Ints) -> None:
        self.array = self.array[rows]

    def insert_all(self, places: Ints, records: Sequence[bytes]) -> None:
        # Joined as bytes: numpy would turn the numbers into the machine's own byte order.
        whole = _joined(self.array.tobytes(), places * self.array.dtype.itemsize, records)
        self.array = np.frombuffer(whole, self.array.dtype).copy()

    def raw_bytes(self, column: Column, rows: Some = ALL) -> Bytes:
        values = self.array[column.field][rows]
        return np.frombuffer(np.ascontiguousarray(values).tobytes(), np.uint8).reshape(-1, column.width)

    def _integers(self, column: Column, rows: Some = ALL) -> np.ndarray[Any, Any]:
        values = self.array[column.field][rows]
        if values.dtype.kind != "V":
            return values
        return _to_integers(self.raw_bytes(column, rows), column, self.endian)

    def _store(self, column: Column, where: Ints | slice, numbers: np.ndarray[Any, Any]) -> None:
        values = self.array[column.field]
        if values.dtype.kind != "V":
            values[where] = numbers.astype(values.dtype)
            return
        old = np.ascontiguousarray(values[where]).view(np.uint8).reshape(-1, column.width)
        numbers = np.broadcast_to(numbers, len(old))
        values[where] = np.ascontiguousarray(_to_bytes(numbers, column, self.endian, old)).view(values.dtype)[:, 0]

    def put_raw(self, field: str, row: int, data: bytes) -> None:
        column = self.leaf[field].column
        width = self.array.dtype[column.field].itemsize
        self.array[column.field][row : row + 1] = np.frombuffer(
            data[:width].ljust(width, b"\0"), self.array.dtype[column.field]
        )

    def content(self, field: str, row: int) -> bytes:
        column = self.leaf[field].column
        raw = self.array[column.field][row : row + 1].tobytes()
        return trimmed(raw, column.character) if column.type == "string" else raw

    def texts(self, field: str) -> list[str]:
        column = self.leaf[field].column
        if column.type != "string" or column.character > 1:
            return super().texts(field)
        raw, width = np.ascontiguousarray(self.array[column.field]).tobytes(), column.width
        return [
            decode(raw[at : at + width].partition(b"\0")[0], column.encoding, self.endian)
            for at in range(0, len(raw), width)
        ]


# ---- records of variable size -----------------------------------------------------------------------------


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
        return _to_integers(self.raw_bytes(column, rows), column, self.endian)

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
        self.bytes_[places] = _to_bytes(new, column, self.endian, self.bytes_[places])

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
        whole = _joined(self.bytes_.tobytes(), self.starts[places], records)
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


def _joined(block: bytes, places: Ints, pieces: Sequence[bytes]) -> bytes:
    """A block with each piece put in at its place, which are in order."""
    found, position = [], 0
    for place, piece in zip(places.tolist(), pieces, strict=True):
        found += [block[position:place], piece]
        position = place
    return b"".join([*found, block[position:]])


def rows_of(part: Records, endian: str, block: bytes, count: int) -> Rows:
    """So many records that are a block, to be changed; TruncatedError or FormatError where they are not."""
    if part.fixed:
        return FixedRows(part, endian, block).copy()
    return walk(part, endian, np.frombuffer(block, np.uint8), count, None)[0]


def varint(number: int) -> bytes:
    """An unsigned LEB128 number (DWARF debugging information format, appendix C)."""
    result = bytearray()
    while True:
        more = number > 127
        result.append((number & 127) | (128 if more else 0))
        number >>= 7
        if not more:
            return bytes(result)


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


def named(leaf: Leaf, name: str, endian: str) -> dict[str, int | bytes]:
    """What a new record says of its name: its bytes, and their number where another field counts them."""
    column = leaf.column
    raw = encode(name.replace("/", column.slash), column.encoding, endian)
    values: dict[str, int | bytes] = {leaf.field: raw}
    if isinstance(column.length, str):
        values[column.length] = (len(raw) - column.add) // max(column.unit, column.character)
    return values


def encode_record(part: Records, endian: str, values: dict[str, int | bytes]) -> bytes:
    """A new record: values by field (numbers as they are stored; strings as bytes); what is not given is zero."""
    result = bytearray()
    numbers: dict[str, int] = {}
    for column in part.record:
        value = values.get(column.field, 0 if column.number_like else b"")
        if column.bits is not None:
            value = 0
            for piece, shift in shifts(column):
                given = values.get(piece.field, 0)
                assert isinstance(given, int)
                value |= (given & ((1 << piece.bits) - 1)) << shift
        result += _encode_value(column, value, endian, numbers)
        if isinstance(value, int):
            numbers[column.field] = value
    return bytes(result).ljust(part.record_size or 0, b"\0")


def _encode_value(column: Value, value: int | bytes, endian: str, numbers: dict[str, int]) -> bytes:
    if column.type in ("f32", "f64") and not value:
        return bytes(column.width)
    if isinstance(value, int):
        if column.type == "varint":
            return varint(value)
        if not column.number_like:
            return bytes(column.width)
        if column.type in BASES:
            blank = np.zeros((1, column.width), np.uint8)
            return as_text(np.array([value]), blank, BASES[column.type]).tobytes()
        try:
            return value.to_bytes(column.width, column.order(endian), signed=column.type[0] == "i")
        except OverflowError as error:
            raise LayoutError(f"{value} does not fit a '{column.type}'.") from error
    end = b"\0" * column.character if column.end else b""
    if column.prefix is not None:
        body = value + end
        length, rest = divmod(len(body) - column.add, max(column.unit, column.character))
        width = int(column.prefix[1:]) // 8
        if rest or length < 0 or length >> 8 * width:
            raise LayoutError(f"A string of {len(body)} bytes does not fit its length in front.")
        return length.to_bytes(width, column.order(endian)) + body
    if isinstance(column.length, int):
        if len(value) > column.length:
            raise LayoutError(f"A name of {len(value)} bytes is longer than its field of {column.length}.")
        return value.ljust(column.length, b"\0")
    if isinstance(column.length, str):
        length = numbers[column.length] * max(column.unit, column.character) + column.add
        if length != len(value):
            raise LayoutError("A name's length does not fit the field that holds it.")
        return value
    return value + end


def check_constants(records: Records, rows: Rows, name: str) -> None:
    """FormatError where a record has another value than the only one that it may have."""
    for column in records.record:
        if column.value is None or not len(rows):
            continue
        if isinstance(column.value, int):
            wrong = np.flatnonzero(rows.raw(column.field) != column.value)
        else:
            raw = encode(column.value, "latin-1" if column.type == "bytes" else column.encoding, rows.endian)
            only = np.frombuffer(raw.ljust(column.width, b"\0"), np.uint8)
            wrong = np.flatnonzero((rows.raw_bytes(column) != only).any(axis=1))
            if column.type == "string":  # behind its end there may be anything
                wrong = np.array([r for r in wrong.tolist() if rows.content(column.field, r) != raw], np.int64)
        if len(wrong):
            row = int(wrong[0])
            raise FormatError(
                f"{name}[{row}].{column.field} is not {column.value!r}.",
                expected=repr(column.value),
                remedy="The file is damaged, or the layout does not fit it.",
            )
