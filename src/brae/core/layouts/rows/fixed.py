"""Records of one fixed size."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from brae.core.layouts.fields import Column
from brae.core.layouts.records import Records
from brae.core.layouts.rows.base import ALL, Bytes, Ints, Rows, Some, joined, to_bytes, to_integers
from brae.core.layouts.rows.strings import decode, trimmed


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
        whole = joined(self.array.tobytes(), places * self.array.dtype.itemsize, records)
        self.array = np.frombuffer(whole, self.array.dtype).copy()

    def raw_bytes(self, column: Column, rows: Some = ALL) -> Bytes:
        values = self.array[column.field][rows]
        return np.frombuffer(np.ascontiguousarray(values).tobytes(), np.uint8).reshape(-1, column.width)

    def _integers(self, column: Column, rows: Some = ALL) -> np.ndarray[Any, Any]:
        values = self.array[column.field][rows]
        if values.dtype.kind != "V":
            return values
        return to_integers(self.raw_bytes(column, rows), column, self.endian)

    def _store(self, column: Column, where: Ints | slice, numbers: np.ndarray[Any, Any]) -> None:
        values = self.array[column.field]
        if values.dtype.kind != "V":
            values[where] = numbers.astype(values.dtype)
            return
        old = np.ascontiguousarray(values[where]).view(np.uint8).reshape(-1, column.width)
        numbers = np.broadcast_to(numbers, len(old))
        values[where] = np.ascontiguousarray(to_bytes(numbers, column, self.endian, old)).view(values.dtype)[:, 0]

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
