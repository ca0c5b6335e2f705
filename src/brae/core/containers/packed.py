"""A lone packed file: one member, wrapped in a compression that names itself."""

from __future__ import annotations

import struct
import zlib
from collections.abc import Callable

from brae.core import compression
from brae.core.containers.base import Entry, Listed
from brae.core.containers.opened import Standard, begins, register
from brae.core.errors import BraeError, FormatError, LayoutError
from brae.core.layouts.edits import Edits, MemberChange
from brae.core.layouts.segments import Composed, Copy, New, body_parts, body_segments
from brae.core.sources import MAIN, ByteSource

_SUFFIXES = (".gz", ".bz2", ".xz", ".zst", ".lz4", ".z", ".zlib")


def _inner_name(name: str) -> str:
    """What the member is called: the file's name without the suffix of the compression."""
    last = name.rpartition("/")[2]
    stem = next((last[: -len(suffix)] for suffix in _SUFFIXES if last.lower().endswith(suffix)), "")
    return stem or "content"


class Packed(Listed):
    """One member that fills the file, but for ``head`` and ``tail`` bytes around it."""

    def __init__(
        self, title: str, source: ByteSource, name: str, packer: str, head: int = 0, tail: int = 0
    ) -> None:
        stored = source.size - head - tail
        parts = compression.unpack_parts(compression.get(packer), source.read(head, stored), None)
        real = sum(map(len, parts))
        super().__init__(title, source, [Entry(name, head, stored, real, packer)])

    def fits(self, index: int, length: int) -> bool:
        return length == self.entries[index].stored

    def compose(self, edits: Edits, *, in_place: bool) -> Composed:
        if edits.added or edits.removed:
            raise LayoutError(f"A {self.title} holds exactly one member.")
        source, entry = self.sources[MAIN], self.entries[0]
        change = edits.changed.get(0)
        if change is None:
            return Composed(dict(self.sources), {MAIN: [Copy(0, source.size)]})
        body = [Copy(0, entry.offset), *body_segments(change.stored), New(self._tail(change))]
        return Composed(dict(self.sources), {MAIN: body})

    def _tail(self, change: MemberChange) -> bytes:
        """What stands behind the packed bytes: nothing, where the stream itself ends with its checksum."""
        return b""


class Gzip(Packed):
    """A gzip file of one member (RFC 1952)."""

    def __init__(self, source: ByteSource, name: str) -> None:
        head, own = self._head(source)
        super().__init__("gzip file", source, own or _inner_name(name), "deflate", head, 8)

    @staticmethod
    def _head(source: ByteSource) -> tuple[int, str]:
        """How long the header is, and the name in it (RFC 1952 section 2.3)."""
        data = source.read(0, min(source.size, 65_536))
        if len(data) < 18:
            raise FormatError("The gzip file is cut short.", offset=len(data))
        flags, place, name = data[3], 10, ""
        if flags & 4:
            place += 2 + int(struct.unpack_from("<H", data, place)[0])
        for flag in (8, 16):
            if flags & flag:
                end = data.find(b"\0", place)
                if end < 0:
                    raise FormatError("A text in the gzip header does not end.", offset=place)
                if flag == 8:
                    name = data[place:end].decode("latin-1")
                place = end + 1
        place += 2 if flags & 2 else 0
        return place, name.rpartition("/")[2]

    def check_member(self, index: int) -> None:
        source, total, size = self.sources[MAIN], 0, 0
        for part in self.unpacked(index):
            total, size = zlib.crc32(part, total), size + len(part)
        expected = struct.pack("<II", total, size & 0xFFFFFFFF)
        if source.read(source.size - 8, 8) != expected:
            raise FormatError("The gzip file's checksum or size is wrong.", offset=source.size - 8)

    def _tail(self, change: MemberChange) -> bytes:
        total = 0
        for part in body_parts(change.real):
            total = zlib.crc32(part, total)
        return struct.pack("<II", total, len(change.real) & 0xFFFFFFFF)


def _opener(title: str, packer: str) -> Callable[[ByteSource, str], Packed]:
    return lambda source, name: Packed(title, source, _inner_name(name), packer)


def _is_zlib(source: ByteSource) -> bool:
    """Two bytes are no proof (RFC 1950 section 2.2), so the beginning has to unpack as well."""
    if source.size < 64:
        return False
    head = source.read(0, min(source.size, 4096))
    if head[0] != 0x78 or (head[0] << 8 | head[1]) % 31 or head[1] & 0x20:
        return False
    try:
        return len(compression.get("zlib").unpack_start(head, 256)) >= 64
    except BraeError:
        return False


def _magic(value: bytes) -> Callable[[ByteSource], bool]:
    return lambda source: begins(source, value)


register(Standard("gzip", "gzip file", _magic(b"\x1f\x8b\x08"), Gzip))
for _name, _packer, _title, _value in (
    ("bzip2", "bzip2", "bzip2 file", b"BZh"),
    ("xz", "xz", "xz file", b"\xfd7zXZ\0"),
    ("zstd", "zstd", "Zstandard file", b"\x28\xb5\x2f\xfd"),
    ("lz4", "lz4-frame", "LZ4 file", b"\x04\x22\x4d\x18"),
):
    register(Standard(_name, _title, _magic(_value), _opener(_title, _packer)))
register(Standard("zlib", "zlib stream", _is_zlib, _opener("zlib stream", "zlib")))
