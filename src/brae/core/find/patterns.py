"""Bytes that are looked for: hexadecimal with wildcards, texts and numbers in either order, in any bytes."""

from __future__ import annotations

import re
import struct
from collections.abc import Iterator

from brae.core.errors import FormatError
from brae.core.sources import ByteSource

#: bytes that are searched at once, and bytes of the longest pattern
_WINDOW, _LONGEST = 8 << 20, 4096
_HEX = re.compile(r"[0-9a-fA-F?]{2}")
_KINDS = {
    "u8": "B", "u16": "H", "u32": "I", "u64": "Q", "i8": "b", "i16": "h", "i32": "i", "i64": "q", "f32": "f",
    "f64": "d",
}  # fmt: skip


def pattern_of(text: str) -> re.Pattern[bytes]:
    """What is to be looked for, as written by a person.

    ``52 49 ?? 4?`` is hexadecimal (``?`` any digit), ``"RIFF"`` a text in UTF-8, ``u32:4096`` a number in either
    byte order. Raises FormatError for anything else.
    """
    text = text.strip()
    found = _number(text) or _text(text) or _hexadecimal(text)
    if found is None:
        raise FormatError(
            f"'{text[:60]}' is no pattern of bytes.",
            expected='hexadecimal such as 52 49 ?? 46, a "text" in quotes, or a number such as u32:4096',
        )
    return re.compile(found, re.DOTALL)


def _text(text: str) -> bytes | None:
    if len(text) < 3 or text[0] != '"' or text[-1] != '"':
        return None
    data = text[1:-1].encode("utf-8", "surrogateescape")
    if len(data) > _LONGEST:
        raise FormatError(f"The text is longer than {_LONGEST:,} bytes.")
    return re.escape(data)


def _number(text: str) -> bytes | None:
    kind, _, value = text.partition(":")
    if kind not in _KINDS or not value:
        return None
    try:
        number = float(value) if kind[0] == "f" else int(value, 0)
        both = [struct.pack(order + _KINDS[kind], number) for order in "<>"]
    except (ValueError, struct.error, OverflowError) as error:
        raise FormatError(f"'{value}' is no number that {kind} can hold.") from error
    return b"|".join(re.escape(one) for one in dict.fromkeys(both))


def _hexadecimal(text: str) -> bytes | None:
    digits = re.sub(r"[\s,]|0x", "", text)
    if not digits or len(digits) % 2 or len(digits) // 2 > _LONGEST:
        return None
    steps = []
    for start in range(0, len(digits), 2):
        pair = digits[start : start + 2]
        if not _HEX.fullmatch(pair):
            return None
        if pair == "??":
            steps.append(b".")
        elif "?" not in pair:
            steps.append(re.escape(bytes([int(pair, 16)])))
        else:
            hexadecimal = [f"{value:02x}" for value in range(256)]
            fits = [
                int(one, 16)
                for one in hexadecimal
                if all(a in "?" + b for a, b in zip(pair.lower(), one, strict=True))
            ]
            steps.append(b"[" + b"".join(re.escape(bytes([value])) for value in fits) + b"]")
    return None if all(step == b"." for step in steps) else b"".join(steps)


def places(source: ByteSource, pattern: re.Pattern[bytes]) -> Iterator[tuple[int, bytes]]:
    """Where a pattern stands in a source, also where one hit lies over another, and what stands there."""
    at = 0
    while at < source.size:
        data = source.read(at, min(_WINDOW + _LONGEST, source.size - at))
        start = 0
        while (found := pattern.search(data, start)) is not None and found.start() < _WINDOW:
            yield at + found.start(), found.group()
            start = found.start() + 1
        at += _WINDOW
