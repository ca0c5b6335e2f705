"""ZIP archives (PKWARE APPNOTE 6.3.10): read by the standard library, changed in place of their own records.

Whatever is not changed keeps its bytes: local records, extra fields, comments and what lies before the archive.
"""

from __future__ import annotations

import struct
import zipfile
import zlib
from dataclasses import dataclass
from functools import cached_property

from brae.core import compression
from brae.core.containers.base import Entry, Listed
from brae.core.containers.opened import Standard, begins, register
from brae.core.errors import FormatError, LayoutError
from brae.core.layouts.edits import Edits, MemberChange
from brae.core.layouts.segments import Composed, Copy, New, Segment, body_parts, body_segments
from brae.core.sources import MAIN, ByteSource, SourceFile

# APPNOTE 4.3.7 (local file header), 4.3.12 (central directory), 4.3.16 (end of central directory)
_LOCAL, _CENTRAL, _END = struct.Struct("<4s5H3I2H"), struct.Struct("<4s6H3I5H2I"), struct.Struct("<4s4H2IH")
_METHODS = {0: "none", 8: "deflate", 12: "bzip2", 93: "zstd"}
_ENCRYPTED, _DESCRIPTOR, _UTF8 = 1, 8, 0x800
_WIDE = 0xFFFFFFFF


@dataclass(frozen=True)
class _Record:
    """Where one entry's records lie."""

    central: int
    central_size: int
    begin: int
    head: int
    end: int
    member: int  # -1: a folder


#: bytes that are read ahead; bytes of an entry up to which that pays
_AHEAD, _SMALL_ENTRY = 1 << 20, 4096


class _Near:
    """A source read nearly in order: what follows is read along with it."""

    def __init__(self, source: ByteSource) -> None:
        self._source, self.size = source, source.size
        self._start, self._data = 0, b""

    def read(self, offset: int, length: int) -> bytes:
        """As the source itself gives it."""
        at = offset - self._start
        if at < 0 or at + length > len(self._data):
            ahead = min(_AHEAD, self.size - offset)
            if length >= ahead:
                return self._source.read(offset, length)
            self._start, self._data, at = offset, self._source.read(offset, ahead), 0
        return self._data[at : at + length]


class Zip(Listed):
    """A ZIP archive."""

    def __init__(self, source: ByteSource) -> None:
        try:
            with zipfile.ZipFile(SourceFile(source)) as archive:
                infos = archive.infolist()
                self._start = archive.start_dir
        except (zipfile.BadZipFile, struct.error, EOFError, NotImplementedError, UnicodeDecodeError) as error:
            raise FormatError(f"The ZIP directory is damaged ({error}).") from error
        self._infos = infos
        begins_at = [*sorted(info.header_offset for info in infos), self._start]
        following = dict(zip(begins_at, begins_at[1:], strict=False))
        place = self._start
        self._records: list[_Record] = []
        entries: list[Entry] = []
        # Of many small entries the records before their data are read in one go.
        near = _Near(source) if infos and source.size // len(infos) < _SMALL_ENTRY else source
        directory = _Near(source)
        for info in infos:
            head = self._local(near, info.header_offset)
            folder = info.filename.endswith("/")  # is_dir() fails on a name of no letters
            central = directory.read(place, _CENTRAL.size)
            size = _CENTRAL.size + sum(_CENTRAL.unpack(central)[10:13])
            self._records.append(
                _Record(
                    place,
                    size,
                    info.header_offset,
                    head,
                    following[info.header_offset],
                    -1 if folder else len(entries),
                )
            )
            place += size
            if not folder:
                packer = _METHODS.get(info.compress_type, "none")
                entries.append(
                    Entry(info.filename, info.header_offset + head, info.compress_size, info.file_size, packer)
                )
        self._end = place
        super().__init__("ZIP archive", source, entries)
        self._of = [number for number, record in enumerate(self._records) if record.member >= 0]

    @staticmethod
    def _local(source: ByteSource, offset: int) -> int:
        """How long the local record before an entry's data is."""
        fields = _LOCAL.unpack(source.read(offset, _LOCAL.size))
        if fields[0] != b"PK\3\4":
            raise FormatError("There is no ZIP entry where the directory says.", offset=offset, expected="PK 03 04")
        return _LOCAL.size + int(fields[9]) + int(fields[10])

    def packer(self, index: int) -> compression.Packer:
        info = self._infos[self._of[index]]
        if info.flag_bits & _ENCRYPTED:
            raise FormatError("This member is encrypted.", address=self.labels[index])
        if info.compress_type not in _METHODS:
            raise FormatError(
                f"ZIP method {info.compress_type} is not known.",
                address=self.labels[index],
                expected="one of stored, deflate, bzip2 and Zstandard",
            )
        return compression.get(_METHODS[info.compress_type])

    def check_member(self, index: int) -> None:
        info = self._infos[self._of[index]]
        found = 0
        for part in self.unpacked(index):
            found = zlib.crc32(part, found)
        if found != info.CRC:
            raise FormatError(
                f"The checksum of this member is {found:#x}.", address=self.labels[index], expected=f"{info.CRC:#x}"
            )

    def fits(self, index: int, length: int) -> bool:
        return length == self.entries[index].stored

    @staticmethod
    def _crc(change: MemberChange) -> int:
        total = 0
        for part in body_parts(change.real):
            total = zlib.crc32(part, total)
        return total

    def pack_new(self, name: str, real: bytes, level: int | None = None) -> MemberChange:
        packed = compression.get("deflate").pack(real, 6 if level is None else level)
        return MemberChange(packed, real) if len(packed) < len(real) else MemberChange(real, real, True)

    @cached_property
    def _tail(self) -> tuple[bytes, int]:
        """What stands behind the central directory, and where the end record is in it."""
        source = self.sources[MAIN]
        tail = source.read(self._end, source.size - self._end)
        return tail, tail.rfind(b"PK\5\6")

    def compose(self, edits: Edits, *, in_place: bool) -> Composed:
        tail, end_at = self._tail
        if end_at < 0:
            raise FormatError("The ZIP directory has no end record.")
        source, changed = self.sources[MAIN], bool(edits.changed or edits.added or edits.removed)
        count, here, start = _END.unpack_from(tail, end_at)[4:7]
        if changed and (_WIDE in (here, start) or count == 0xFFFF):
            raise LayoutError("This ZIP archive has 64-bit records: it is read, but not changed yet.")
        before = self._start - start  # bytes before the archive do not count
        segments: list[Segment] = []
        position, shift, places = 0, 0, {}
        for number in sorted(range(len(self._records)), key=lambda n: self._records[n].begin):
            record = self._records[number]
            segments.append(Copy(position, record.begin - position))
            places[number] = record.begin + shift
            position = record.end
            if record.member in edits.removed:
                shift -= record.end - record.begin
            elif record.member in edits.changed:
                entry = self._rewritten(record, self._infos[number], edits.changed[record.member])
                segments += entry
                shift += sum(piece.length for piece in entry) - (record.end - record.begin)
            else:
                segments.append(Copy(record.begin, record.end - record.begin))
        segments.append(Copy(position, self._start - position))
        new_central, position = [], self._start + shift
        for new in edits.added:
            local, central = self._added(new.name, new.change, position - before)
            segments += [New(local), *body_segments(new.change.stored)]
            new_central.append(central)
            position += len(local) + len(new.change.stored)
        directory = b"".join([*self._central(source, edits, places, before), *new_central])
        left = count - len(edits.removed) + len(edits.added)
        end = bytearray(tail)
        if changed:
            struct.pack_into("<2H2I", end, end_at + 8, left, left, len(directory), position - before)
        segments += [New(directory), New(bytes(end))]
        return Composed(dict(self.sources), {MAIN: segments})

    def _central(self, source: ByteSource, edits: Edits, places: dict[int, int], before: int) -> list[bytes]:
        found, near = [], _Near(source)
        for number, record in enumerate(self._records):
            if record.member in edits.removed:
                continue
            raw = bytearray(near.read(record.central, record.central_size))
            if record.member in edits.changed:
                change = edits.changed[record.member]
                struct.pack_into("<3I", raw, 16, self._crc(change), len(change.stored), len(change.real))
            if struct.unpack_from("<I", raw, 42)[0] != _WIDE:
                struct.pack_into("<I", raw, 42, places[number] - before)
            found.append(bytes(raw))
        return found

    def _rewritten(self, record: _Record, info: zipfile.ZipInfo, change: MemberChange) -> list[Segment]:
        """A changed entry: its local record with new sums, its data, its descriptor where it has one."""
        source = self.sources[MAIN]
        head = bytearray(source.read(record.begin, record.head))
        sums = (self._crc(change), len(change.stored), len(change.real))
        if _WIDE in struct.unpack_from("<2I", head, 18) or max(sums[1:]) >= _WIDE:
            raise LayoutError(f"'{info.filename}' has 64-bit sizes: it is read, but not changed yet.")
        rest_at = record.begin + record.head + info.compress_size
        rest = source.read(rest_at, min(record.end - rest_at, 16))
        if not info.flag_bits & _DESCRIPTOR:
            struct.pack_into("<3I", head, 14, *sums)
            return [New(bytes(head)), *body_segments(change.stored), Copy(rest_at, record.end - rest_at)]
        signature = b"PK\7\10" if rest[:4] == b"PK\7\10" else b""
        used = len(signature) + 12
        descriptor = New(signature + struct.pack("<3I", *sums))
        kept = Copy(rest_at + used, record.end - rest_at - used)
        return [New(bytes(head)), *body_segments(change.stored), descriptor, kept]

    @staticmethod
    def _added(name: str, change: MemberChange, offset: int) -> tuple[bytes, bytes]:
        raw = name.encode("utf-8", "surrogateescape")
        flags = 0 if raw.isascii() else _UTF8
        # 1980-01-01 00:00 is the earliest date a ZIP can hold; a date of today would make two builds differ.
        common = (
            20,
            flags,
            0 if change.plain else 8,
            0,
            0x21,
            Zip._crc(change),
            len(change.stored),
            len(change.real),
        )
        local = _LOCAL.pack(b"PK\3\4", *common, len(raw), 0) + raw
        central = _CENTRAL.pack(b"PK\1\2", 20, *common, len(raw), 0, 0, 0, 0, 0, offset) + raw
        return local, central


register(
    Standard(
        "zip",
        "ZIP archive",
        lambda source: begins(source, b"PK\3\4") or begins(source, b"PK\5\6"),
        lambda source, name: Zip(source),
    )
)
