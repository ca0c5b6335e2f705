"""Tags of Ogg and FLAC files, and what they say of loops.

Comments: Vorbis I, 5; FLAC's blocks: RFC 9639, 8. That LOOPSTART with LOOPLENGTH or LOOPEND say in samples what is
played again and again is common practice, no source.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass

from brae.core.assets.sound import ogg, opus, vorbis
from brae.core.errors import FormatError

_START, _LENGTH, _END = b"LOOPSTART", b"LOOPLENGTH", b"LOOPEND"
#: kinds of FLAC's blocks
INFO, PLACES, COMMENT = 0, 3, 4


@dataclass(frozen=True)
class Comments:
    """A list of comments, what stands before it, and what behind it (a bit of Vorbis, padding of Opus)."""

    mark: bytes
    vendor: bytes
    lines: tuple[bytes, ...]
    rest: bytes

    @classmethod
    def of(cls, data: bytes, mark: int) -> Comments:
        """By its bytes, behind a mark of so many. FormatError where a length leads beyond the end."""
        try:
            at, vendor = _string(data, mark)
            (count,) = struct.unpack_from("<I", data, at)
            at += 4
            lines = []
            for _ in range(min(count, len(data))):
                at, line = _string(data, at)
                lines.append(line)
        except struct.error:
            raise FormatError("The tags of this sound are cut off.") from None
        return cls(data[:mark], vendor, tuple(lines), data[at:])

    def whole(self) -> bytes:
        """The inverse."""
        pieces = [struct.pack("<I", len(line)) + line for line in self.lines]
        head = self.mark + struct.pack("<I", len(self.vendor)) + self.vendor
        return b"".join([head, struct.pack("<I", len(self.lines)), *pieces, self.rest])

    def _numbers(self) -> dict[bytes, int]:
        found = {}
        for line in self.lines:
            name, _, value = line.partition(b"=")
            if name.upper() in (_START, _LENGTH, _END) and value.strip().isdigit() and len(value) < 16:
                found[name.upper()] = int(value)
        return found

    @property
    def loops(self) -> list[tuple[int, int]]:
        """First and last sample of what is played again and again, as they say it."""
        said = self._numbers()
        start = said.get(_START)
        if start is None:
            return []
        end = start + said[_LENGTH] - 1 if _LENGTH in said else said.get(_END)
        return [(start, end)] if end is not None and end > start else []

    def with_loop(self, loop: tuple[int, int]) -> Comments:
        """The same with other numbers where a loop is said."""
        values = {_START: loop[0], _LENGTH: loop[1] - loop[0] + 1, _END: loop[1]}
        lines = []
        for line in self.lines:
            name, _, value = line.partition(b"=")
            known = name.upper() in values and value.strip().isdigit()
            lines.append(name + b"=" + str(values[name.upper()]).encode() if known else line)
        return Comments(self.mark, self.vendor, tuple(lines), self.rest)


def _string(data: bytes, at: int) -> tuple[int, bytes]:
    (size,) = struct.unpack_from("<I", data, at)
    if at + 4 + size > len(data):
        raise struct.error
    return at + 4 + size, data[at + 4 : at + 4 + size]


def blocks_of(data: bytes) -> Iterator[tuple[int, bytes, int]]:
    """A FLAC file's blocks: what each is, what is in it, and where it ends."""
    at, last = 4, False
    while not last and at + 4 <= len(data):
        size = int.from_bytes(data[at + 1 : at + 4], "big")
        last = bool(data[at] & 0x80)
        at += 4 + size
        yield data[at - size - 4] & 0x7F, data[at - size : at], at


def comments_of(data: bytes) -> Comments | None:
    if data[:4] == b"fLaC":
        found = next((body for kind, body, _ in blocks_of(data) if kind == COMMENT), None)
        return None if found is None else Comments.of(found, 0)
    packets = ogg.packets_of(data, 2)
    if len(packets) < 2:
        return None
    mark = next((len(one) for one in (vorbis.COMMENTS, opus.TAGS) if packets[1].startswith(one)), None)
    return None if mark is None else Comments.of(packets[1], mark)


def loops_of(data: bytes) -> list[tuple[int, int]]:
    """What the tags of a FLAC or an Ogg file say of loops; none where they are damaged: it is heard anyway."""
    try:
        found = comments_of(data)
    except FormatError:
        return []
    return [] if found is None else found.loops
