"""Numbers that are written as text in a field of fixed size, such as ``0001750`` and a zero byte."""

from __future__ import annotations

from typing import Any

import numpy as np

from brae.core.errors import FormatError, LayoutError

#: the types of such fields, and what their digits count in
BASES = {"octal": 8, "decimal": 10, "hex": 16}
_FAR = 1 << 62
_DIGITS = b"0123456789abcdef"
_VALUES = np.full(256, -1, np.int64)
for _place, _digit in enumerate(_DIGITS):
    _VALUES[_digit] = _place
    _VALUES[ord(chr(_digit).upper())] = _place

_LIST = _VALUES.tolist()

Ints = np.ndarray[Any, np.dtype[np.int64]]
Bytes = np.ndarray[Any, np.dtype[np.uint8]]


def numbers_of(raw: Bytes, base: int) -> Ints:
    """The numbers in fields of text, shape (n, width): spaces in front, then digits to the first other byte.

    A field without a digit is zero; what is too large for 64 bits is something beyond every file.
    """
    if len(raw) == 1:  # asked for member by member
        return np.array([_number(raw[0].tobytes(), base)], np.int64)
    result = np.zeros(len(raw), np.int64)
    begun, done = np.zeros(len(raw), bool), np.zeros(len(raw), bool)
    for column in raw.T:
        value = _VALUES[column]
        digit = (value >= 0) & (value < base) & ~done
        done |= ~digit & (begun | (column != ord(" ")))
        begun |= digit
        large = result > (_FAR - base) // base
        result = np.where(digit, np.where(large, _FAR, result * base + value), result)
    return result


def _number(raw: bytes, base: int) -> int:
    found = 0
    for value in map(_LIST.__getitem__, raw.lstrip(b" ")):
        if not 0 <= value < base:
            break
        found = min(found * base + value, _FAR)
    return found


def as_text(numbers: Ints, old: Bytes, base: int) -> Bytes:
    """The fields with other numbers, written the way the ``old`` ones are: same padding, same ending.

    A field of zero bytes gets digits with zeros in front, and one zero byte behind them. Raises LayoutError where
    one has too few digits.
    """
    result = old.copy()
    other = (numbers_of(old, base) != numbers) | ~old.any(axis=1)
    for row in np.flatnonzero(other).tolist():
        result[row] = np.frombuffer(_written(int(numbers[row]), old[row].tobytes(), base), np.uint8)
    return result


def _written(number: int, old: bytes, base: int) -> bytes:
    digits = {8: "o", 10: "d", 16: "x"}[base]
    text = format(number, digits).encode()
    body = old.rstrip(b"\0 ")
    end = old[len(body) :] if body else b"\0"
    if any(65 <= byte <= 70 for byte in body):
        text = text.upper()
    room = len(old) - len(end)
    if len(text) > room:
        raise LayoutError(f"{number} has more digits than a field of {len(old)} bytes.")
    return text.rjust(room, b" " if body.startswith(b" ") else b"0") + end


def number_of(raw: bytes, base: int, offset: int) -> int:
    """One such number; FormatError where what stands there is none."""
    if not raw.strip(b" \0"):
        return 0
    try:
        return int(raw.partition(b"\0")[0].strip(), base)
    except ValueError as error:
        raise FormatError(f"'{raw.decode('latin-1')}' is no number.", offset=offset) from error
