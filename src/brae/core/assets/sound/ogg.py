"""Packets in the pages of an Ogg file (RFC 3533), one stream, both ways."""

from __future__ import annotations

import struct
from collections.abc import Iterable, Sequence

from brae.core.errors import FormatError
from brae.core.layouts.checksums import Crc, checksum

#: the checksum of a page (RFC 3533, 6)
_PAGE = Crc(width=32, poly=0x04C11DB7, init=0, reflect=False, xor_out=0)
_HEAD = struct.Struct("<4sBBqIIIB")
_FIRST, _LAST, _GOES_ON = 2, 4, 1
#: bytes of packets from which on a page is closed, so that a player finds its place
_FULL = 4096


def serial_of(data: bytes) -> int:
    """The number of its stream."""
    return int.from_bytes(data[14:18], "little") if data[:4] == b"OggS" else 1


def packets_of(data: bytes, most: int | None = None) -> list[bytes]:
    """The packets of the first stream in it, or the first so many. FormatError where a page is cut off."""
    found: list[bytes] = []
    serial, at, piece = serial_of(data), 0, bytearray()
    while data[at : at + 4] == b"OggS" and at + 27 <= len(data) and (most is None or len(found) < most):
        segments = data[at + 26]
        lacing = data[at + 27 : at + 27 + segments]
        place, stop = at + 27 + segments, at + 27 + segments + sum(lacing)
        if stop > len(data):
            raise FormatError("A page of this Ogg file is cut off.", offset=at)
        if int.from_bytes(data[at + 14 : at + 18], "little") == serial:
            for size in lacing:
                piece += data[place : place + size]
                place += size
                if size < 255:
                    found.append(bytes(piece))
                    piece.clear()
        at = stop
    return found[:most]


def last_position(data: bytes) -> int:
    """The position (granule) that the last page gives: its samples, of Opus at 48 kHz."""
    at = data.rfind(b"OggS")
    return int(_HEAD.unpack_from(data, at)[3]) if 0 <= at <= len(data) - 27 else 0


def file_of(headers: Sequence[bytes], packets: Iterable[bytes], positions: Iterable[int], serial: int = 1) -> bytes:
    """A file of one stream: its first header alone on a page, then packets with the position after each."""
    pages = _Pages(serial)
    pages.put(headers[0], 0)
    pages.close()
    for header in headers[1:]:
        pages.put(header, 0)
    pages.close()
    for packet, position in zip(packets, positions, strict=True):
        if pages.waiting >= _FULL:
            pages.close()
        pages.put(packet, position)
    return pages.end()


def numbered(data: bytes, serial: int) -> bytes:
    """A file with another stream number: encoders draw it by chance, and the same sound is to be the same."""
    result, at = bytearray(data), 0
    while data[at : at + 4] == b"OggS":
        segments = data[at + 26]
        size = 27 + segments + sum(data[at + 27 : at + 27 + segments])
        struct.pack_into("<I", result, at + 14, serial)
        _sum(result, at, size)
        at += size
    return bytes(result)


def with_headers(data: bytes, headers: Sequence[bytes]) -> bytes:
    """A file whose first packets are these instead; its pages behind them keep what they hold.

    The packets behind the headers begin on a page of their own (Vorbis I, A.2; RFC 7845, 3).
    """
    at, seen = 0, 0
    while seen < len(headers) and data[at : at + 4] == b"OggS":
        segments = data[at + 26]
        lacing = data[at + 27 : at + 27 + segments]
        seen += sum(size < 255 for size in lacing)
        at += 27 + segments + sum(lacing)
    front = _Pages(serial_of(data))
    for number, header in enumerate(headers):
        front.put(header, 0)
        if not number:
            front.close()
    front.close()
    behind, number = bytearray(data[at:]), front.number
    place = 0
    while behind[place : place + 4] == b"OggS":
        segments = behind[place + 26]
        size = 27 + segments + sum(behind[place + 27 : place + 27 + segments])
        struct.pack_into("<I", behind, place + 18, number)
        _sum(behind, place, size)
        number += 1
        place += size
    return bytes(front.out) + bytes(behind)


class _Pages:
    def __init__(self, serial: int) -> None:
        self.serial, self.number = serial, 0
        self.out = bytearray()
        self._lacing, self._body = bytearray(), bytearray()
        self._position, self._goes_on, self._last = -1, False, 0

    @property
    def waiting(self) -> int:
        return len(self._body)

    def put(self, packet: bytes, position: int) -> None:
        lacing = bytes([255]) * (len(packet) // 255) + bytes([len(packet) % 255])
        at = 0
        for place, size in enumerate(lacing):
            if len(self._lacing) == 255:
                self.close(goes_on=place > 0)
            self._lacing.append(size)
            self._body += packet[at : at + size]
            at += size
        self._position = position

    def close(self, *, goes_on: bool = False, last: bool = False) -> None:
        if not self._lacing and not last:
            return
        flags = (_GOES_ON if self._goes_on else 0) | (_FIRST if self.number == 0 else 0) | (_LAST if last else 0)
        at = len(self.out)
        self.out += _HEAD.pack(b"OggS", 0, flags, self._position, self.serial, self.number, 0, len(self._lacing))
        self.out += self._lacing + self._body
        _sum(self.out, at, len(self.out) - at)
        self.number += 1
        self._lacing, self._body = bytearray(), bytearray()
        self._position, self._goes_on = -1, goes_on

    def end(self) -> bytes:
        self.close(last=True)
        return bytes(self.out)


def _sum(data: bytearray, at: int, size: int) -> None:
    """Write a page's checksum."""
    struct.pack_into("<I", data, at + 22, 0)
    total = checksum(_PAGE, [bytes(data[at : at + size])])
    assert isinstance(total, int)
    struct.pack_into("<I", data, at + 22, total)
