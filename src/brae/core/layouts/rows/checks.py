"""Rows out of a block, and whether they hold what they have to."""

from __future__ import annotations

import numpy as np

from brae.core.errors import FormatError
from brae.core.layouts.records import Records
from brae.core.layouts.rows.base import Rows
from brae.core.layouts.rows.fixed import FixedRows
from brae.core.layouts.rows.strings import encode
from brae.core.layouts.rows.variable import walk


def rows_of(part: Records, endian: str, block: bytes, count: int) -> Rows:
    """So many records that are a block, to be changed; TruncatedError or FormatError where they are not."""
    if part.fixed:
        return FixedRows(part, endian, block).copy()
    return walk(part, endian, np.frombuffer(block, np.uint8), count, None)[0]


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
