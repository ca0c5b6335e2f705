"""Bytes from a place on, read piece by piece."""

from __future__ import annotations

import struct
from typing import Any

from brae.core.sources import ByteSource

_PIECE = 1 << 16


class View:
    """A source from one place on; beyond its end there is nothing, and no error."""

    def __init__(self, source: ByteSource, start: int) -> None:
        self.source, self.start = source, start
        #: bytes from here to the source's end
        self.size = source.size - start
        self._at, self._held = 0, b""

    def read(self, at: int, length: int) -> bytes:
        """Bytes from a place, counted from the start; fewer where there are no more."""
        length = min(length, self.size - at)
        if at < 0 or length <= 0:
            return b""
        inside = at - self._at
        if inside >= 0 and inside + length <= len(self._held):
            return self._held[inside : inside + length]
        if length >= _PIECE:
            return self.source.read(self.start + at, length)
        self._at = at
        self._held = self.source.read(self.start + at, min(_PIECE, self.size - at))
        return self._held[:length]

    def numbers(self, form: str, at: int) -> tuple[Any, ...] | None:
        """Numbers of a struct format; None where the bytes end before."""
        size = struct.calcsize(form)
        data = self.read(at, size)
        return struct.unpack(form, data) if len(data) == size else None

    def find(self, what: bytes, at: int, most: int) -> int:
        """Where ``what`` next stands, at most so many bytes further; -1 where it does not."""
        end = min(self.size, at + most)
        while at < end:
            data = self.read(at, min(_PIECE, self.size - at))
            found = data.find(what)
            if found >= 0:
                return at + found
            if len(data) < _PIECE:
                return -1
            at += len(data) - len(what) + 1
        return -1
