"""FLAC (RFC 9639) without its header, as games keep it, and streams that do not say how long they are."""

from __future__ import annotations

import struct
from collections.abc import Iterator

from brae.core.errors import FormatError
from brae.core.layouts.checksums import Crc, checksum

_MARK = b"fLaC"
#: a block of metadata that is the only one, and the size of STREAMINFO (RFC 9639, 8.1 and 8.2)
_ONLY, _INFO = b"\x80\0\0\x22", 34
#: where the length stands in a file: the last 36 bits of eight bytes
_LENGTH = 18
#: the checksum of a frame's header (RFC 9639, 9.1.8)
_HEADER = Crc(width=8, poly=0x07, init=0, reflect=False, xor_out=0)
_UNKNOWN = 1 << 60


def headed(frames: bytes, rate: int, channels: int, bits: int, samples: int) -> bytes:
    """Frames as a file; ``samples`` of each channel, 0 where nobody knows."""
    packed = rate << 44 | (channels - 1) << 41 | (bits - 1) << 36 | samples
    info = struct.pack(">HH", 16, 65535) + bytes(6) + packed.to_bytes(8, "big") + bytes(16)
    return _MARK + _ONLY + info + frames


def frames_of(file: bytes) -> bytes:
    """What stands behind a file's blocks of metadata."""
    at, last = len(_MARK), False
    while not last and at + 4 <= len(file):
        last = bool(file[at] & 0x80)
        at += 4 + int.from_bytes(file[at + 1 : at + 4], "big")
    return file[at:]


def frames_at(data: bytes, at: int = 0) -> Iterator[tuple[int, int, int]]:
    """Where each frame begins, its first sample and how many it has: by its mark, number and header's checksum."""
    first, fixed = 0, 0
    while (at := data.find(b"\xff", at)) >= 0:
        head = _header(data, at)
        if head is not None:
            number, size, end = head
            if data[at + 1] & 1:
                begins = number
            else:  # of frames of one size the number counts frames
                begins, fixed = number * (fixed or size), fixed or size
            if begins == first:
                yield at, begins, size
                first, at = begins + size, end
        at += 1


def _header(data: bytes, at: int) -> tuple[int, int, int] | None:
    """A frame's number, its samples and where its header ends (RFC 9639, 9.1); None where there is none."""
    if at + 6 > len(data) or data[at + 1] & 0xFE != 0xF8 or data[at + 3] & 1:
        return None
    number, end = _number(data, at + 4)
    code, rate = data[at + 2] >> 4, data[at + 2] & 15
    if number < 0 or code == 0 or rate == 15:
        return None
    more = {6: 1, 7: 2}.get(code, 0)
    size = int.from_bytes(data[end : end + more], "big") + 1 if more else 192 if code == 1 else 0
    size = size or (576 << (code - 2) if code < 6 else 256 << (code - 8))
    end += more + {12: 1, 13: 2, 14: 2}.get(rate, 0)
    if end >= len(data) or checksum(_HEADER, [data[at:end]]) != data[end]:
        return None
    return number, size, end


def _number(data: bytes, at: int) -> tuple[int, int]:
    """A number as UTF-8 writes code points, and where it ends; -1 where it is none."""
    first = data[at]
    if first < 0x80:
        return first, at + 1
    size = 8 - (first ^ 0xFF).bit_length()
    more = data[at + 1 : at + size]
    if not 2 <= size <= 7 or len(more) < size - 1 or any(byte >> 6 != 2 for byte in more):
        return -1, at
    value = first & (1 << (7 - size)) - 1
    for byte in more:
        value = value << 6 | byte & 0x3F
    return value, at + size


def with_length(file: bytes, found: int) -> bytes:
    """A file that says how many samples it has, where ``found`` (libsndfile's word for it) is none.

    FormatError where it holds none.
    """
    if found < _UNKNOWN or file[: len(_MARK)] != _MARK:
        return file
    count = 0
    for _, begins, size in frames_at(file, len(file) - len(frames_of(file))):
        count = begins + size
    if not count:
        raise FormatError("There is no sample in this FLAC stream.")
    packed = int.from_bytes(file[_LENGTH : _LENGTH + 8], "big") >> 36 << 36 | count
    return file[:_LENGTH] + packed.to_bytes(8, "big") + file[_LENGTH + 8 :]
