"""Records in memory: whole columns at a time, out of the block of bytes in which they lie.

Records of one fixed size are a numpy structured array over the block. Others are found by one compiled walk,
which notes where each column's content begins and ends; a number is then gathered from, and scattered to, these
places. Either way a change alters the block itself, so whatever no column explains stays.
"""

from brae.core.layouts.rows.base import ALL, Bytes, Ints, Rows, Some
from brae.core.layouts.rows.checks import check_constants, rows_of
from brae.core.layouts.rows.fixed import FixedRows
from brae.core.layouts.rows.made import encode_record, named, varint
from brae.core.layouts.rows.strings import decode, encode, trimmed
from brae.core.layouts.rows.variable import LARGEST_NOTES, VariableRows, frozen, program, walk

__all__ = [
    "ALL",
    "LARGEST_NOTES",
    "Bytes",
    "FixedRows",
    "Ints",
    "Rows",
    "Some",
    "VariableRows",
    "check_constants",
    "decode",
    "encode",
    "encode_record",
    "frozen",
    "named",
    "program",
    "rows_of",
    "trimmed",
    "varint",
    "walk",
]
