"""Packed streams: read to their own end, with bounded work; what they unpack to is counted, not kept."""

from __future__ import annotations

import bz2
import lzma
import struct
import zlib
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import lz4.frame
import zstandard

from brae.core.signs.view import View

#: bytes of a stream that are read at a time: few at first, as most that look like one are none
_FIRST, _PIECE = 512, 1 << 16
#: bytes that a stream may become, and at least has to
MOST, LEAST = 1 << 28, 16
_FAULTS = (
    zlib.error,
    OSError,
    EOFError,
    lzma.LZMAError,
    ValueError,
    RuntimeError,
    zstandard.ZstdError,
    MemoryError,
)


@dataclass
class Budget:
    """Bytes that may be unpacked in vain before signs that are this weak are passed over."""

    left: int

    def spend(self, amount: int) -> None:
        """Count bytes that led to nothing."""
        self.left -= amount


@dataclass(frozen=True)
class Stream:
    """Where a stream ends, and how many bytes it unpacks to."""

    length: int
    real: int


def _run(view: View, unpacker: Any, budget: Budget, *, bounded: bool = True) -> Stream | None:
    """Read a stream to its end with one of the libraries' unpackers."""
    at, real, piece = 0, 0, _FIRST
    try:
        while not unpacker.eof:
            data = view.read(at, piece)
            if not data:
                break
            at += len(data)
            while True:
                out = unpacker.decompress(data, _PIECE) if bounded else unpacker.decompress(data)
                real += len(out)
                if real > MOST:
                    budget.spend(real)
                    return None
                data = getattr(unpacker, "unconsumed_tail", b"")
                if unpacker.eof or (
                    not data and (not bounded or getattr(unpacker, "needs_input", len(out) < _PIECE))
                ):
                    break
            piece = _PIECE
    except _FAULTS:
        budget.spend(real + 64)
        return None
    if not unpacker.eof or real < LEAST:
        budget.spend(real + 64)
        return None
    return Stream(at - len(unpacker.unused_data), real)


def zlib_stream(view: View, budget: Budget) -> Stream | None:
    """zlib (RFC 1950), whose checksum tells it from chance."""
    head = view.read(0, 3)
    if len(head) < 3 or (head[0] << 8 | head[1]) % 31 or head[2] & 6 == 6:
        return None
    return _run(view, zlib.decompressobj(15), budget)


def gzip_stream(view: View, budget: Budget) -> Stream | None:
    """gzip (RFC 1952)."""
    head = view.read(0, 4)
    return _run(view, zlib.decompressobj(31), budget) if len(head) == 4 and head[3] < 32 else None


def bzip2_stream(view: View, budget: Budget) -> Stream | None:
    """bzip2: after the level the first block's mark."""
    head = view.read(0, 10)
    if head[4:10] != b"1AY&SY" or not b"1" <= head[3:4] <= b"9":
        return None
    return _run(view, bz2.BZ2Decompressor(), budget)


def xz_stream(view: View, budget: Budget) -> Stream | None:
    """xz (The .xz File Format 1.1)."""
    return _run(view, lzma.LZMADecompressor(lzma.FORMAT_XZ, memlimit=MOST), budget)


def lzma_stream(view: View, budget: Budget) -> Stream | None:
    """LZMA alone (lzma-file-format.txt): properties, a dictionary of a power of two or one and a half, size."""
    head = view.numbers("<BIQ", 0)
    if head is None:
        return None
    _, words, size = head
    power = 1 << max(words.bit_length() - 1, 0)
    if words < 1 << 12 or words not in (power, power + power // 2) or (size != (1 << 64) - 1 and size > MOST):
        return None
    return _run(view, lzma.LZMADecompressor(lzma.FORMAT_ALONE, memlimit=MOST), budget)


def zstd_stream(view: View, budget: Budget) -> Stream | None:
    """Zstandard (RFC 8878)."""
    return _run(view, zstandard.ZstdDecompressor(max_window_size=MOST).decompressobj(), budget, bounded=False)


def lz4_stream(view: View, budget: Budget) -> Stream | None:
    """LZ4 frame (LZ4 Frame Format 1.6)."""
    head = view.read(4, 2)
    if len(head) < 2 or head[0] >> 6 != 1 or head[0] & 2 or head[1] & 0x8F or head[1] >> 4 < 4:
        return None
    return _run(view, lz4.frame.LZ4FrameDecompressor(), budget)


@dataclass(frozen=True)
class ZipEntry:
    """An entry of a ZIP archive by its local record."""

    name: str
    #: of the record, before the data
    head: int
    stored: int
    real: int
    packer: str
    #: of all of it, a descriptor behind the data included
    length: int


_ZIP_PACKERS = {0: "none", 8: "deflate", 12: "bzip2", 93: "zstd"}


def zip_entry(view: View, budget: Budget) -> ZipEntry | None:
    """A ZIP entry (APPNOTE 4.3.7), also where its sizes follow behind the data (4.3.9)."""
    head = view.numbers("<4s5H3I2H", 0)
    if head is None or head[1] & 0xFF > 63 or head[2] & 1 or head[3] not in _ZIP_PACKERS or not 0 < head[9] < 1024:
        return None
    raw = view.read(30, head[9])
    try:
        name = raw.decode("utf-8" if head[2] & 0x800 else "cp437")
    except UnicodeDecodeError:
        return None
    begin, stored, real = 30 + head[9] + head[10], int(head[7]), int(head[8])
    if not name.isprintable() or name.endswith("/") or len(raw) < head[9]:
        return None
    length = begin + stored
    if head[2] & 8 and not stored:
        if head[3] != 8:
            return None
        found = _run(View(view.source, view.start + begin), zlib.decompressobj(-15), budget)
        if found is None:
            return None
        stored, real = found.length, found.real
        tail = view.read(begin + stored, 16)
        length = begin + stored + (16 if tail[:4] == b"PK\7\10" else 12)
        sums = struct.unpack("<2I", tail[8:16] if tail[:4] == b"PK\7\10" else tail[4:12]) if len(tail) == 16 else ()
        if sums != (stored, real):
            return None
    if length > view.size or not stored:
        return None
    return ZipEntry(name, begin, stored, real, _ZIP_PACKERS[head[3]], length)


Unstream = Callable[[View, Budget], Stream | None]
