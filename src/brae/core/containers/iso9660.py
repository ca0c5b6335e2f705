"""Disc images with an ISO 9660 file system (ECMA-119, 4th edition), Joliet and CD-ROM XA included.

An image holds its sectors as 2,048 bytes of data, or raw with 2,352 bytes each. A changed file stays where it is
as long as it fits its sectors. If it does not, the files behind it or the file itself move, whichever is less: to
sectors that are empty and belong to nothing, or to the end.
Directories and path tables never move. Only sectors that change are written, with their EDC and ECC.
"""

from __future__ import annotations

import struct
from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property

from brae.core.containers.base import Entry, Listed
from brae.core.containers.opened import Standard, begins, register
from brae.core.errors import FormatError, LayoutError
from brae.core.layouts.edits import Edits, MemberChange
from brae.core.layouts.segments import (
    Body,
    Composed,
    Copy,
    New,
    Ranges,
    Segment,
    SegmentSource,
    Take,
    body_segments,
)
from brae.core.sources import MAIN, ByteSource, SliceSource
from brae.core.sources.sectors import COOKED, RAW, XA, SectorsSource, SectorView, is_form2, is_raw

_FIRST_DESCRIPTOR = 16
_MOST_RECORDS = 2_000_000
_DEEPEST = 64
#: an extent's size is a 32-bit number of bytes; all but the last fill whole sectors
_LARGEST_EXTENT = 0xFFFFF800
_DIRECTORY, _MORE = 2, 0x80
# Escape sequences of UCS-2 levels 1 to 3 (Joliet specification 1.0, section 4.1)
_JOLIET = (b"%/@", b"%/C", b"%/E")
_EL_TORITO = b"EL TORITO SPECIFICATION"


@dataclass(frozen=True)
class _Extent:
    """Part of a file: its first sector, its size in bytes, and where the record that says so lies."""

    sector: int
    size: int
    record: int

    @property
    def sectors(self) -> int:
        return -(-self.size // COOKED)


@dataclass(frozen=True)
class _File:
    """A file of one directory tree."""

    path: str
    extents: tuple[_Extent, ...]

    @property
    def places(self) -> tuple[tuple[int, int], ...]:
        """What tells whether two files are the same data."""
        return tuple((extent.sector, extent.size) for extent in self.extents)

    @property
    def size(self) -> int:
        return sum(extent.size for extent in self.extents)

    @property
    def sectors(self) -> int:
        return sum(extent.sectors for extent in self.extents)

    @property
    def whole(self) -> bool:
        """Whether its extents follow each other, each filled."""
        pairs = zip(self.extents, self.extents[1:], strict=False)
        return all(a.size % COOKED == 0 and a.sector + a.sectors == b.sector for a, b in pairs)


@dataclass(frozen=True)
class _Write:
    """New data for sectors, in units of ``width`` bytes; ``like`` are sectors whose subheaders they get."""

    sector: int
    segments: tuple[Segment, ...]
    count: int
    like: tuple[int, int] | None = None


def _both(number: int, width: int) -> bytes:
    """A number in both byte orders (ECMA-119 7.2.3 and 7.3.3)."""
    return number.to_bytes(width, "little") + number.to_bytes(width, "big")


class Disc(Listed):
    """A disc image; members are the files of its file system."""

    def __init__(self, image: ByteSource) -> None:
        self.raw = image if is_raw(image) else None
        self._data: ByteSource = SectorView(image) if self.raw else image
        self._image = image
        self._used: list[tuple[int, int]] = [(0, _FIRST_DESCRIPTOR)]
        self._descriptors: list[int] = []
        self._boot: set[int] = set()
        self._udf = False
        trees = self._volumes()
        files = list(trees[-1])
        # Where names differ between the trees, what the longer-named one lacks is listed too.
        known = {file.places for file in files}
        self._records: dict[tuple[tuple[int, int], ...], list[_File]] = defaultdict(list)
        for tree in trees:
            for file in tree:
                self._records[file.places].append(file)
                if file.places not in known:
                    known.add(file.places)
                    files.append(file)
        self._trees = len(trees)
        self._files = files
        self._form2 = [self._is_form2(file) for file in files]
        entries = []
        for file, form2 in zip(files, self._form2, strict=True):
            size = file.sectors * XA if form2 else file.size
            entries.append(Entry(file.path, (file.extents[0].sector if file.extents else 0) * COOKED, size, size))
            for extent in file.extents:
                if extent.size and (extent.sector + extent.sectors) * COOKED > self._data.size:
                    raise FormatError(
                        f"{file.path} lies beyond the end of the image.",
                        offset=extent.sector * COOKED,
                        remedy="The image is cut short: read the disc again.",
                    )
        super().__init__("Disc image" + (", raw sectors" if self.raw else ""), image, entries)

    # ---- reading ----------------------------------------------------------------------------------------

    @property
    def source(self) -> ByteSource:
        return self._data

    def _sector(self, number: int) -> bytes:
        return self._data.read(number * COOKED, COOKED)

    def _volumes(self) -> list[list[_File]]:
        """The directory trees: of the primary volume descriptor, then of a Joliet one."""
        trees: list[list[_File]] = []
        for number in range(_FIRST_DESCRIPTOR, _FIRST_DESCRIPTOR + 64):
            if (number + 1) * COOKED > self._data.size:
                break
            block = self._sector(number)
            if block[1:6] in (b"NSR02", b"NSR03"):
                self._udf = True
            if block[1:6] != b"CD001":
                if not trees or block[1:6] not in (b"BEA01", b"NSR02", b"NSR03", b"TEA01"):
                    break
                self._used.append((number, 1))
                continue
            self._used.append((number, 1))
            kind = block[0]
            if kind == 0 and block[7:39].startswith(_EL_TORITO):
                self._read_boot(struct.unpack_from("<I", block, 71)[0])
            joliet = kind == 2 and block[88:91] in _JOLIET
            if kind == 1 or joliet:
                if struct.unpack_from("<H", block, 128)[0] != COOKED:
                    raise FormatError("The volume's blocks are not of 2,048 bytes.", offset=number * COOKED + 128)
                self._descriptors.append(number)
                table = -(-struct.unpack_from("<I", block, 132)[0] // COOKED)
                little, other = struct.unpack_from("<2I", block, 140)
                big, other_big = struct.unpack_from(">2I", block, 148)
                self._used += [(place, table) for place in (little, other, big, other_big) if place]
                root_at, root_size = struct.unpack_from("<I4xI", block, 158)
                trees.append(list(self._tree(root_at, root_size, joliet)))
        if not trees:
            raise FormatError("There is no primary volume descriptor.", offset=_FIRST_DESCRIPTOR * COOKED)
        return trees

    def _read_boot(self, catalogue: int) -> None:
        """The sectors of boot images, which the boot catalogue names too (El Torito 1.0, section 2)."""
        self._used.append((catalogue, 1))
        self._boot.add(catalogue)
        data = self._sector(catalogue)
        for at in range(32, COOKED, 32):
            if data[at] in (0x88, 0):
                place = struct.unpack_from("<I", data, at + 8)[0]
                if place:
                    self._boot.add(place)

    def _tree(self, place: int, size: int, joliet: bool) -> Iterator[_File]:
        waiting, seen, count = [("", place, size, 0)], {place}, 0
        while waiting:
            folder, at, length, depth = waiting.pop()
            self._used.append((at, -(-length // COOKED)))
            if depth > _DEEPEST:
                raise FormatError("Folders lie too deep.", address=folder, offset=at * COOKED)
            extents: list[_Extent] = []
            inside = []
            for record, raw in self._directory(at, length):
                count += 1
                if count > _MOST_RECORDS:
                    raise FormatError("The directory does not end.", offset=record)
                flags, name = raw[25], raw[33 : 33 + raw[32]]
                sector, size_here = struct.unpack_from("<I4xI", raw, 2)
                sector += raw[1]  # an extended attribute record lies before the data
                path = f"{folder}{self._name(name, joliet, bool(flags & _DIRECTORY))}"
                if name in (b"\0", b"\1"):
                    continue
                if flags & _DIRECTORY:
                    if sector not in seen:
                        seen.add(sector)
                        inside.append((f"{path}/", sector, size_here, depth + 1))
                    continue
                extents.append(_Extent(sector, size_here, record))
                self._used.append((sector - raw[1], raw[1] + -(-size_here // COOKED)))
                if not flags & _MORE:
                    yield _File(path, tuple(extents))
                    extents = []
            if extents:
                raise FormatError("The last part of a file is missing.", address=folder, offset=at * COOKED)
            waiting += reversed(inside)

    def _directory(self, place: int, size: int) -> Iterator[tuple[int, bytes]]:
        """The records of a directory, each with its offset (ECMA-119 9.1)."""
        if (place + -(-size // COOKED)) * COOKED > self._data.size:
            raise FormatError("A folder lies beyond the end of the image.", offset=place * COOKED)
        data = self._data.read(place * COOKED, size)
        at = 0
        while at < len(data):
            length = data[at]
            if length == 0:  # records do not cross the border of a sector
                at = (at // COOKED + 1) * COOKED
                continue
            if length < 34 or at + length > len(data) or 33 + data[at + 32] > length:
                raise FormatError("A directory record is damaged.", offset=place * COOKED + at)
            raw = data[at : at + length]
            if raw[2:6] != raw[9:5:-1] or raw[10:14] != raw[17:13:-1]:
                raise FormatError(
                    "A directory record's two byte orders differ.",
                    offset=place * COOKED + at,
                    address=str(raw[33:]),
                )
            yield place * COOKED + at, raw
            at += length

    @staticmethod
    def _name(raw: bytes, joliet: bool, folder: bool) -> str:
        name = raw.decode("utf-16-be", "replace") if joliet else raw.decode("latin-1")
        if not folder:
            name = name.rpartition(";")[0] or name
            name = name.removesuffix(".")
        return name.replace("/", "_")

    def _is_form2(self, file: _File) -> bool:
        if self.raw is None or not file.size:
            return False
        place = file.extents[0].sector * RAW
        return place + RAW <= self.raw.size and is_form2(self.raw.read(place, 24))

    @cached_property
    def _wide(self) -> ByteSource:
        """Raw sectors of mode 2 with their subheaders."""
        assert self.raw is not None
        return SectorView(self.raw, XA)

    def _segments(self, index: int) -> list[Segment]:
        """Where a member's bytes lie."""
        file = self._files[index]
        if self._form2[index]:
            return [Take(self._wide, extent.sector * XA, extent.sectors * XA) for extent in file.extents]
        return [Copy(extent.sector * COOKED, extent.size) for extent in file.extents]

    def member_source(self, index: int) -> ByteSource:
        segments = self._segments(index)
        if len(segments) == 1 and isinstance(segments[0], Copy):
            return SliceSource(self._data, segments[0].offset, segments[0].length)
        return SegmentSource(segments, self._data)

    def read_range(self, index: int, start: int, length: int) -> bytes:
        return self.member_source(index).read(start, length)

    def body(self, index: int) -> Body:
        return Ranges(tuple(self._segments(index)), self._data)

    def check_member(self, index: int) -> None:
        """That its sectors are there; what is in them has no checksum of its own in the file system."""
        source = self.member_source(index)
        if source.size:
            source.read(source.size - 1, 1)

    # ---- changing ---------------------------------------------------------------------------------------

    def slot(self, index: int) -> int:
        file = self._files[index]
        return file.sectors * (XA if self._form2[index] else COOKED)

    def fits(self, index: int, length: int) -> bool:
        file = self._files[index]
        return bool(file.extents) and file.whole and not self._shared(file) and 0 < length <= self.slot(index)

    def _shared(self, file: _File) -> bool:
        return bool(file.size) and len(self._records[file.places]) > self._trees

    def nest(self, index: int, segments: Sequence[Segment], level: int | None = None) -> MemberChange:
        inner = self.member_source(index)
        # The inner file's bytes need not lie in one piece here, so its ranges are read through its own view.
        if isinstance(inner, SliceSource):
            return super().nest(index, segments, level)
        taken = tuple(
            Take(inner, piece.offset, piece.length) if isinstance(piece, Copy) else piece for piece in segments
        )
        body = Ranges(taken, self._data)
        return MemberChange(body, body, True)

    def compose(self, edits: Edits, *, in_place: bool) -> Composed:
        if edits.added or edits.removed:
            raise LayoutError("Files are not added to a disc image or removed from it yet: its folders are full.")
        writes: list[_Write] = []
        wide: list[_Write] = []  # of mode 2 form 2
        patches: dict[int, bytes] = {}
        free = _Free(self) if edits.changed else None
        changed = dict(sorted(edits.changed.items()))
        growing: set[int] = set()
        giving_way: dict[int, MemberChange] = {}
        for index, change in changed.items() if not in_place else ():
            assert free is not None
            behind = self._behind(index, len(change.stored), free) if index not in giving_way else None
            if behind is not None and not growing & behind:
                growing.add(index)
                giving_way |= {other: changed.get(other) or self._as_it_is(other) for other in behind}
        for index, change in sorted((changed | giving_way).items()):
            assert free is not None
            move = None if index not in growing | giving_way.keys() else index in giving_way
            self._replace(index, change, in_place, free, writes, wide, patches, move)
        if free is not None and free.end > self._volume_end:
            for number in self._descriptors:
                patches[number * COOKED + 80] = _both(free.end, 4)
        segments = self._cooked(writes, patches)
        if self.raw is None:
            return Composed(dict(self.sources), {MAIN: segments})
        return Composed(dict(self.sources), {MAIN: self._raw_segments(segments, writes, wide)})

    @cached_property
    def _volume_end(self) -> int:
        """The sector behind the volume, as its descriptor says."""
        return int(struct.unpack_from("<I", self._sector(self._descriptors[0]), 80)[0])

    def _as_it_is(self, index: int) -> MemberChange:
        """A member's own bytes, to be written to another place."""
        body = self.body(index)
        return MemberChange(body, body, True)

    @cached_property
    def _at(self) -> dict[tuple[int, int], int]:
        """The members by their sectors (first and count), those in one piece that no other name shares."""
        return {
            (file.extents[0].sector, file.sectors): index
            for index, file in enumerate(self._files)
            if file.size and file.whole and not self._shared(file)
        }

    def _behind(self, index: int, length: int, free: _Free) -> set[int] | None:
        """The members that stand where a growing one needs room, where moving them is less than moving it.

        None where it fits its sectors, or where it has to move itself.
        """
        file = self._files[index]
        if self._form2[index] or self.fits(index, length) or not file.size or not file.whole or self._shared(file):
            return None
        begin, count = file.extents[0].sector + file.sectors, -(-length // COOKED)
        end = file.extents[0].sector + count
        behind: set[int] = set()
        for used in {(at, many) for at, many in self._used if at < end and at + many > begin and many}:
            other = self._at.get(used)
            if other is None:
                return None
            behind.add(other)
        try:
            for other in behind:
                self._check_move(self._files[other], False)
        except LayoutError:
            return None
        moved = sum(self._files[other].sectors for other in behind)
        return behind if moved < count and free.claim(begin, end) else None

    def _replace(
        self,
        index: int,
        change: MemberChange,
        in_place: bool,
        free: _Free,
        writes: list[_Write],
        wide: list[_Write],
        patches: dict[int, bytes],
        move: bool | None,
    ) -> None:
        """Write a member's new bytes; ``move`` says whether it has to (None: if it does not fit)."""
        file, form2 = self._files[index], self._form2[index]
        width, length = (XA, len(change.stored)) if form2 else (COOKED, len(change.stored))
        if form2 and length % XA:
            raise LayoutError(f"{file.path} holds sectors of {XA:,} bytes, and {length:,} is no multiple.")
        count = -(-length // width)
        extents = list(file.extents)
        if not move and (move is False or self.fits(index, length)):
            place = extents[0].sector
        else:
            self._check_move(file, in_place)
            place = free.take(count)
        stay = bool(extents) and place == extents[0].sector
        like = None
        if file.size and not (stay and count == file.sectors):
            like = (extents[0].sector, extents[-1].sector + max(extents[-1].sectors - 1, 0))
        end = place * COOKED + count * COOKED
        # What lies between the file's end and its last sector's stays too.
        stays = stay and count <= file.sectors and not form2
        kept = min(end, place * COOKED + max(length, file.size)) if stays else end
        zeros = 0 if form2 else kept - place * COOKED - length
        body = (*body_segments(change.stored), New(bytes(zeros)), Copy(kept, end - kept))
        (wide if form2 else writes).append(_Write(place, body, count, like))
        if form2 and like is None:
            return  # the directory counts its sectors, and these are as many as before
        # Each extent keeps its own share; the last takes what is left.
        sizes, left = [], count * COOKED if form2 else length
        for extent in extents[:-1]:
            sizes.append(min(extent.sectors * COOKED, left))
            left -= sizes[-1]
        sizes.append(left)
        if max(sizes) > _LARGEST_EXTENT:
            raise LayoutError(f"{file.path} would be too large for one extent.")
        for twin in [file] if self._trees == 1 else self._records[file.places]:
            at = place
            for extent, size in zip(twin.extents, sizes, strict=True):
                attributes = self._data.read(extent.record + 1, 1)[0] if at == extent.sector else 0
                if at != extent.sector:
                    patches[extent.record + 1] = b"\0"
                patches[extent.record + 2] = _both(at - attributes, 4)
                patches[extent.record + 10] = _both(size, 4)
                at += -(-size // COOKED)

    def _check_move(self, file: _File, in_place: bool) -> None:
        reason = None
        if in_place:
            reason = "it does not fit its sectors"
        elif self._udf:
            reason = "the disc has a UDF file system beside ISO 9660, which would still point to the old place"
        elif any(extent.sector in self._boot for extent in file.extents):
            reason = "the disc starts from it, and its place stands in the boot catalogue"
        elif self._trees > 1 and (self._shared(file) or not file.size):
            reason = "other names share its place, and it cannot be told which of them belong together"
        if reason is not None:
            raise LayoutError(f"{file.path} cannot move: {reason}.")

    def _cooked(self, writes: list[_Write], patches: dict[int, bytes]) -> list[Segment]:
        """The new user data of the image."""
        pieces: list[tuple[int, int, tuple[Segment, ...]]] = [
            (at, len(data), (New(data),)) for at, data in patches.items()
        ]
        pieces += [(write.sector * COOKED, write.count * COOKED, write.segments) for write in writes]
        segments: list[Segment] = []
        position, size = 0, self._data.size
        for at, length, content in sorted(pieces, key=lambda piece: piece[0]):
            known = min(at, size)
            segments += [Copy(position, known - position)] if known > position else []
            segments += [New(bytes(at - max(position, known)))] if at > max(position, known) else []
            segments += content
            position = at + length
        if position < size:
            segments.append(Copy(position, size - position))
        return [segment for segment in segments if segment.length]

    def _raw_segments(self, cooked: list[Segment], writes: list[_Write], wide: list[_Write]) -> list[Segment]:
        """Raw sectors: those whose data stay are copied, all others are made anew."""
        assert self.raw is not None
        templates: dict[int, int] = {}
        runs: list[tuple[int, int, ByteSource]] = []
        for write in [*writes, *wide]:
            if write.like is not None:
                first, last = write.like
                templates |= {write.sector + k: first for k in range(write.count - 1)}
                templates[write.sector + write.count - 1] = last
        source = SegmentSource(cooked, self._data)
        made = SectorsSource(self.raw, source, COOKED, templates)
        position = 0
        for segment in cooked:
            end = position + segment.length
            if not (isinstance(segment, Copy) and segment.offset == position):
                runs.append((position // COOKED, -(-end // COOKED), made))
            position = end
        # A file's last sector may be marked as its end (CD-ROM XA), so a shorter file's is marked anew.
        for write in writes:
            if write.count and write.like is not None and self.raw.read(15, 1)[0] == 2:
                runs.append((write.sector + write.count - 1, write.sector + write.count, made))
        for write in wide:
            body = SegmentSource([Take(self._wide, 0, write.sector * XA), *write.segments], self._data)
            runs.append((write.sector, write.sector + write.count, SectorsSource(self.raw, body, XA)))
        segments: list[Segment] = []
        at = 0
        for begin, stop, content in sorted(runs, key=lambda run: (run[0], run[1])):
            begin = max(begin, at)
            if begin >= stop:
                continue
            segments += [Copy(at * RAW, (begin - at) * RAW)] if begin > at else []
            segments.append(Take(content, begin * RAW, (stop - begin) * RAW))
            at = stop
        if at * RAW < self.raw.size:
            segments.append(Copy(at * RAW, self.raw.size - at * RAW))
        return segments


class _Free:
    """Sectors that belong to nothing and are empty, and the end of the image."""

    def __init__(self, disc: Disc) -> None:
        self._disc = disc
        self._size = disc.source.size // COOKED
        self.end = 0
        gaps, position = [], 0
        for begin, count in sorted(disc._used):
            if begin > position:
                gaps.append((position, min(begin, self._size) - position))
            position = max(position, begin + count)
        self._tail = min(position, self._size)
        self._gaps = [gap for gap in gaps if gap[1] > 0]
        self._last = self._size

    def claim(self, begin: int, end: int) -> bool:
        """Whether a file may grow over these sectors; what is free of them is then taken."""
        free = [(max(at, begin), min(at + room, end)) for at, room in self._gaps]
        free.append((max(self._tail, begin), min(self._size, end)))
        if not all(self._empty(at, stop - at) for at, stop in free if stop > at):
            return False
        if end > self._size:
            if self._last != self._size or not self._may_grow():
                return False
            self._last = end
            self.end = max(self.end, end)
        gaps = []
        for at, room in self._gaps:
            gaps += [(at, min(at + room, begin) - at), (max(at, end), at + room - max(at, end))]
        self._gaps = [(at, room) for at, room in gaps if room > 0]
        if begin < self._size and end > self._tail:
            self._tail = min(end, self._size)
            self.end = max(self.end, self._tail)
        return True

    def _may_grow(self) -> bool:
        """Whether sectors can be added: not where sound tracks follow the data."""
        raw = self._disc.raw
        return raw is None or begins(raw, b"\0\xff\xff\xff", raw.size - RAW)

    def take(self, count: int) -> int:
        """The first sector of so many that follow each other; LayoutError where the image cannot grow."""
        if count == 0:
            return 0
        for number, (begin, room) in enumerate(self._gaps):
            if room >= count and self._empty(begin, count):
                self._gaps[number] = (begin + count, room - count)
                return begin
        if self._tail + count <= self._size and self._last == self._size and self._empty(self._tail, count):
            place = self._tail
            self._tail += count
            self.end = max(self.end, place + count)
            return place
        if not self._may_grow():
            raise LayoutError(
                f"There is no room for {count:,} sectors, and the image cannot grow: sound tracks follow the data."
            )
        place = max(self._last, self._size)
        self._last = place + count
        self.end = max(self.end, self._last)
        return place

    def _empty(self, begin: int, count: int) -> bool:
        data = self._disc.source
        for start in range(begin, begin + count, 512):
            length = min(512, begin + count - start) * COOKED
            if any(data.read(start * COOKED, length)):
                return False
        return True


def _is_disc(source: ByteSource) -> bool:
    place = _FIRST_DESCRIPTOR * COOKED + 1
    if begins(source, b"CD001", place):
        return True
    return source.size > 17 * RAW and is_raw(source) and begins(SectorView(source), b"CD001", place)


register(Standard("disc", "Disc image", _is_disc, lambda source, name: Disc(source)))
