"""Tar archives (POSIX.1-2017, pax; and the older ustar and GNU forms), read by the standard library."""

from __future__ import annotations

import tarfile

from brae.core.containers.base import Entry, Listed
from brae.core.containers.opened import Standard, begins, register
from brae.core.errors import FormatError, LayoutError
from brae.core.layouts.edits import Edits, MemberChange
from brae.core.layouts.segments import Composed, Copy, New, Segment, body_segments
from brae.core.sources import MAIN, ByteSource, SourceFile

_BLOCK = 512
#: GNU tar writes this many bytes at a time
_RECORD = 10240


def _up(size: int, unit: int = _BLOCK) -> int:
    return -(-size // unit) * unit


def _header(raw: bytes, size: int) -> bytes:
    """A header block with a new size: twelve octal digits at 124, and the checksum at 148 (POSIX ustar)."""
    block = bytearray(raw)
    if size >= 8**11:
        raise LayoutError("A tar header cannot hold so large a size.")
    block[124:136] = f"{size:011o}".encode() + block[135:136]
    block[148:156] = b" " * 8
    block[148:156] = f"{sum(block):06o}".encode() + b"\0 "
    return bytes(block)


class Tar(Listed):
    """A tar archive."""

    def __init__(self, source: ByteSource) -> None:
        try:
            with tarfile.open(fileobj=SourceFile(source), mode="r:") as archive:
                infos = [info for info in archive.getmembers() if info.isreg() and not info.issparse()]
        except (tarfile.TarError, ValueError, EOFError, OverflowError) as error:
            raise FormatError(f"The tar archive is damaged ({error}).") from error
        for info in infos:
            if info.offset_data + info.size > source.size:
                raise FormatError("The tar archive is cut short.", offset=info.offset_data)
        self._infos = infos
        entries = [Entry(info.name, info.offset_data, info.size, info.size) for info in infos]
        super().__init__("Tar archive", source, entries)

    def slot(self, index: int) -> int:
        return _up(self.entries[index].stored)

    def fits(self, index: int, length: int) -> bool:
        return _up(length) == self.slot(index)

    def pack_new(self, name: str, real: bytes, level: int | None = None) -> MemberChange:
        return MemberChange(real, real, True)

    def compose(self, edits: Edits, *, in_place: bool) -> Composed:
        source, position = self.sources[MAIN], 0
        segments: list[Segment] = []
        for index, (info, entry) in enumerate(zip(self._infos, self.entries, strict=True)):
            end = min(_up(entry.offset + entry.stored), source.size)
            if index in edits.removed:
                segments.append(Copy(position, info.offset - position))
            elif index in edits.changed:
                if "size" in info.pax_headers:
                    raise LayoutError(f"'{info.name}' has its size in a pax header: it is not changed yet.")
                body = edits.changed[index].stored
                head = entry.offset - _BLOCK
                segments += [
                    Copy(position, head - position),
                    New(_header(source.read(head, _BLOCK), len(body))),
                    *body_segments(body),
                    New(bytes(_up(len(body)) - len(body))),
                ]
            else:
                continue
            position = end
        last = max((_up(entry.offset + entry.stored) for entry in self.entries), default=0)
        last = min(last, source.size)
        segments.append(Copy(position, max(last - position, 0)))
        for new in edits.added:
            info = tarfile.TarInfo(new.name)
            info.size, info.mode = len(new.change.stored), 0o644
            segments += [
                New(info.tobuf(tarfile.GNU_FORMAT)),
                *body_segments(new.change.stored),
                New(bytes(_up(info.size) - info.size)),
            ]
        segments.append(Copy(max(last, position), source.size - max(last, position)))
        size = sum(segment.length for segment in segments)
        if source.size % _RECORD == 0:
            segments.append(New(bytes(_up(size, _RECORD) - size)))
        return Composed(dict(self.sources), {MAIN: segments})


register(
    Standard("tar", "Tar archive", lambda source: begins(source, b"ustar", 257), lambda source, name: Tar(source))
)
