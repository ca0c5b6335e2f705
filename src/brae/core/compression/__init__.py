"""Packers, found by name. A packer is a pair that undoes itself, with the settings a recipe keeps."""

from __future__ import annotations

import zlib
from dataclasses import dataclass
from typing import Protocol

from brae.core.errors import FormatError, LimitError

#: No member may unpack to more than this (a game's largest textures are far below it).
LARGEST_MEMBER = 1 << 30


class Packer(Protocol):
    """Packs and unpacks whole members."""

    name: str
    #: the settings to try, likeliest first, when the original's own are to be found out
    levels: tuple[int, ...]

    def pack(self, data: bytes, level: int) -> bytes:
        """Pack ``data`` with one of ``levels``."""
        ...

    def unpack(self, data: bytes, size: int) -> bytes:
        """Unpack to exactly ``size`` bytes, or raise FormatError."""
        ...

    def unpack_start(self, data: bytes, length: int) -> bytes:
        """At most the first ``length`` unpacked bytes, to look at a header without the rest."""
        ...


@dataclass(eq=False)
class Stored:
    """Members kept as they are."""

    name: str = "none"
    levels: tuple[int, ...] = (0,)

    def pack(self, data: bytes, level: int) -> bytes:
        return data

    def unpack(self, data: bytes, size: int) -> bytes:
        if len(data) != size:
            raise FormatError(f"A member kept unpacked has {len(data)} bytes.", expected=f"{size} bytes")
        return data

    def unpack_start(self, data: bytes, length: int) -> bytes:
        return data[:length]


@dataclass(eq=False)
class Deflate:
    """zlib streams (RFC 1950) and raw deflate (RFC 1951)."""

    name: str
    window: int
    levels: tuple[int, ...] = (6, 9, 1, 8, 7, 5, 4, 3, 2)

    def pack(self, data: bytes, level: int) -> bytes:
        packer = zlib.compressobj(level, zlib.DEFLATED, self.window)
        return packer.compress(data) + packer.flush()

    def unpack(self, data: bytes, size: int) -> bytes:
        if size > LARGEST_MEMBER:
            raise LimitError(f"A member says it unpacks to {size} bytes; the limit is {LARGEST_MEMBER}.")
        unpacker = zlib.decompressobj(self.window)
        try:
            # One byte more than announced is enough to notice an expansion bomb.
            result = unpacker.decompress(data, size + 1)
        except zlib.error as error:
            raise FormatError(f"The packed bytes are damaged ({error}).") from error
        if len(result) != size:
            more = "more than " if len(result) > size else ""
            raise FormatError(
                f"The packed bytes unpack to {more}{min(len(result), size)} bytes.", expected=f"{size} bytes"
            )
        if not unpacker.eof and unpacker.decompress(unpacker.unconsumed_tail, 1):
            raise FormatError(f"The packed bytes go on after {size} bytes.", expected="the end of the stream")
        if not unpacker.eof:
            raise FormatError("The packed bytes stop before their end mark.")
        return result

    def unpack_start(self, data: bytes, length: int) -> bytes:
        try:
            return zlib.decompressobj(self.window).decompress(data, length)
        except zlib.error:
            return b""


_PACKERS: dict[str, Packer] = {}


def register(packer: Packer) -> Packer:
    """Make a packer known by its name."""
    _PACKERS[packer.name] = packer
    return packer


register(Stored())
register(Deflate("zlib", window=15))
register(Deflate("deflate", window=-15))


def names() -> list[str]:
    """The names a layout may use."""
    return list(_PACKERS)


def get(name: str) -> Packer:
    """The packer of that name; FormatError where there is none."""
    if name not in _PACKERS:
        raise FormatError(f"There is no packer '{name}'.", expected=f"one of {', '.join(_PACKERS)}")
    return _PACKERS[name]


def find_level(packer: Packer, packed: bytes, real: bytes) -> int | None:
    """The level at which ``packer`` makes exactly ``packed`` out of ``real``, or None."""
    return next((level for level in packer.levels if packer.pack(real, level) == packed), None)
