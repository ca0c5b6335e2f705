"""New records as bytes."""

from __future__ import annotations

import numpy as np

from brae.core.errors import LayoutError
from brae.core.layouts.digits import BASES, as_text
from brae.core.layouts.fields import Leaf, Value
from brae.core.layouts.records import Records, shifts
from brae.core.layouts.rows.strings import encode


def varint(number: int) -> bytes:
    """An unsigned LEB128 number (DWARF debugging information format, appendix C)."""
    result = bytearray()
    while True:
        more = number > 127
        result.append((number & 127) | (128 if more else 0))
        number >>= 7
        if not more:
            return bytes(result)


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
