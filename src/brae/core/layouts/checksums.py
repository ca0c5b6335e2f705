"""Checksums, found by name: functions from bytes and a running value to a running value."""

from __future__ import annotations

import zlib
from collections.abc import Callable, Iterable

import numpy as np


def _sum(dtype: str) -> Callable[[bytes, int], int]:
    width = np.dtype(dtype).itemsize
    mask = (1 << 32) - 1

    def add(data: bytes, value: int) -> int:
        # A tail shorter than a word counts as if zeros followed it (common practice, no source).
        data += bytes(-len(data) % width)
        return (value + int(np.frombuffer(data, dtype).sum(dtype=np.uint64))) & mask

    return add


#: name -> (update, first value, bytes of a word). CRC-32 is RFC 1952 section 8, Adler-32 RFC 1950 section 8.2.
_KINDS: dict[str, tuple[Callable[[bytes, int], int], int, int]] = {
    "crc32": (zlib.crc32, 0, 1),
    "adler32": (zlib.adler32, 1, 1),
    "sum8": (_sum("u1"), 0, 1),
    "sum16le": (_sum("<u2"), 0, 2),
    "sum16be": (_sum(">u2"), 0, 2),
    "sum32le": (_sum("<u4"), 0, 4),
    "sum32be": (_sum(">u4"), 0, 4),
}


def names() -> list[str]:
    """The names a layout may use."""
    return list(_KINDS)


def checksum(kind: str, parts: Iterable[bytes]) -> int:
    """The checksum over ``parts`` joined; a field keeps as many low bits of it as it has."""
    update, value, width = _KINDS[kind]
    tail = b""
    for part in parts:
        part = tail + part
        whole = len(part) - len(part) % width
        value = update(part[:whole], value)
        tail = part[whole:]
    return update(tail, value) if tail else value
