"""The archive that a layout describes."""

from __future__ import annotations

from bisect import bisect_right
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from brae.core import addresses, compression
from brae.core.compression import described
from brae.core.containers.base import Container
from brae.core.errors import BraeError, FormatError, LayoutError
from brae.core.layouts import checksums, heads, links, sums
from brae.core.layouts.chunk_edits import chunk_room
from brae.core.layouts.directory import Directory, common_packing, directory
from brae.core.layouts.edits import Edits, MemberChange
from brae.core.layouts.fields import Leaf
from brae.core.layouts.files import divide, join, numbered_file
from brae.core.layouts.members import Slots, inner_of
from brae.core.layouts.model import Layout, Numbered
from brae.core.layouts.obfuscation import hide, reveal
from brae.core.layouts.parts import ChunksPart
from brae.core.layouts.read import Parsed, parse
from brae.core.layouts.rows import Ints, varint
from brae.core.layouts.said import said_of
from brae.core.layouts.segments import Body, Composed, whole
from brae.core.layouts.write import compose
from brae.core.sources import MAIN, ByteSource, JoinedSource

#: members that are asked for the level of new ones; fewer bytes than these are packed alike by all levels
_ASKED_FOR_LEVEL, _TELLS_LEVEL = 5, 256


@dataclass
class Archive(Container):
    """Members of a described archive; arrays hold one entry a member, in the directory's order."""

    parsed: Parsed
    directory: Directory
    labels: list[str]
    #: its files as they lie on disk; ``parsed`` sees numbered ones as one
    sources: Mapping[str, ByteSource]
    _packer_of: dict[int | None, compression.Packer] = field(default_factory=dict)
    _level_of: dict[int | None, int] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.title = self.layout.title

    def reveal(self, data: bytes) -> bytes:
        return reveal(self.directory.part.obfuscation, data)

    def is_plain(self, index: int) -> bool:
        return not self.directory.part.obfuscation and self.packer(index).name == "none"

    @property
    def layout(self) -> Layout:
        """The description it was read by."""
        return self.parsed.layout

    @property
    def file(self) -> str:
        """The file, by the layout's name, in which the members lie, also where they lie in packed blocks of it."""
        stream = self.layout.streams.get(self.directory.part.file)
        return self.directory.part.file if stream is None else stream.file

    @property
    def in_blocks(self) -> bool:
        return self.directory.part.file in self.layout.streams

    @property
    def source(self) -> ByteSource:
        return self.parsed.sources[self.directory.part.file]

    def file_of(self, index: int) -> str:
        if not isinstance(self.source, JoinedSource):
            return self.file
        return numbered_file(self.file, bisect_right(self.source.starts[1:-1], int(self.offsets[index])))

    @property
    def names(self) -> list[str]:
        """The members' names as the archive has them, folders divided by ``/``."""
        return self.directory.names

    @property
    def offsets(self) -> Ints:
        """Where each member lies."""
        return self.directory.offsets

    @property
    def stored_sizes(self) -> Ints:
        """Bytes of each member as it lies there."""
        return self.directory.stored

    @property
    def real_sizes(self) -> Ints:
        """Bytes of each member unpacked."""
        return self.directory.real

    @cached_property
    def references(self) -> Ints:
        """Pairs of members, of which the first refers to the second; shape (pairs, 2)."""
        return links.references(self.parsed, self.directory)

    def said(self, indices: Sequence[int]) -> list[dict[str, int | float | str] | None]:
        return said_of(self.parsed, self.directory, indices)

    def packer(self, index: int) -> compression.Packer:
        """How a member is packed; FormatError where the layout does not know its number."""
        if self._plain(index):
            return compression.get("none")
        packing = self.directory.packing
        number = None if packing is None else int(packing[index])
        if number not in self._packer_of:
            self._packer_of[number] = self._find_packer(number, index)
        return self._packer_of[number]

    def are_plain(self, indices: Sequence[int]) -> list[bool | Exception]:
        hidden = bool(self.directory.part.obfuscation)
        return [
            name if isinstance(name, Exception) else not hidden and name == "none"
            for name in self.packings(indices)
        ]

    def packings(self, indices: Sequence[int]) -> list[str | Exception]:
        places = np.fromiter(indices, np.int64, len(indices))
        numbers = np.zeros(len(places), np.int64)
        if self.directory.packing is not None:
            numbers = np.asarray(self.directory.packing)[places].astype(np.int64)
        plain = np.zeros(len(places), bool)
        if self.directory.part.unpacked != "never":
            plain = np.asarray(self.stored_sizes)[places] == np.asarray(self.real_sizes)[places]
        # Members of one number have one packer: each is looked for once.
        named: list[str | Exception] = ["none"]
        codes = np.zeros(len(places), np.int64)
        for number in np.unique(numbers[~plain]).tolist():
            here = ~plain & (numbers == number)
            codes[here] = len(named)
            named += super().packings([int(places[here][0])])
        return [named[code] for code in codes.tolist()]

    def _plain(self, index: int) -> bool:
        """Whether a member is stored unpacked though others are packed."""
        rule = self.directory.part.unpacked
        return rule != "never" and int(self.stored_sizes[index]) == int(self.real_sizes[index])

    def _find_packer(self, number: int | None, index: int) -> compression.Packer:
        leaf = self.directory.leaf("compression")
        meaning = self.directory.part.compression if number is None or leaf is None else leaf.meant.meaning(number)
        if not isinstance(meaning, str):
            raise FormatError(f"The layout does not say what compression {number} is.", address=self.labels[index])
        return described.describe(meaning, self.layout.packers)

    def check_member(self, index: int) -> None:
        """Unpack a member and check its checksums; FormatError where they are wrong."""
        if self.directory.heads is not None:
            roles = {"stored-size": int(self.stored_sizes[index]), "real-size": int(self.real_sizes[index])}
            heads.check(self.directory, index, roles)
        if not self._checksums:
            super().check_member(index)
            return
        bodies: dict[str, Body] = {"real": self.body(index)}
        if any("stored" in sums.covered(leaf) for leaf in self._checksums):
            bodies["stored"] = self.read_stored(index)
        assert self.directory.table is not None
        row = int(self.directory.rows[index])
        for leaf in self._checksums:
            table, place = self.directory.table, row
            chunks = self.parsed.chunks
            if chunks is not None and chunks.tails is not None and leaf.field in chunks.tails.leaf:
                table, place = chunks.whole(row), 0
            total = sums.total_of(leaf, table, place, bodies)
            if not sums.holds(leaf, table, place, total):
                begin, end = table.span(place, leaf.column.field)
                stands = table.record(place)[begin - table.start(place) : end - table.start(place)]
                raise FormatError(
                    f"The checksum of this member is {self._shown(total, leaf)}.",
                    address=self.labels[index],
                    offset=self._record_offset(row, leaf),
                    expected=f"{self._shown(stands, leaf)}, as the directory says",
                )

    @cached_property
    def _checksums(self) -> list[Leaf]:
        records = self.directory.records
        leaves = list(records.leaves) if records is not None else []
        if isinstance(records, ChunksPart) and records.tail is not None:
            leaves += records.tail.leaves
        return [leaf for leaf in leaves if leaf.meant.checksum]

    def _shown(self, value: int | bytes, leaf: Leaf) -> str:
        raw = checksums.as_bytes(value, leaf.column.width, leaf.column.order(self.layout.endian))
        raw = value if isinstance(value, bytes) else raw
        if len(raw) > 8:
            return raw.hex()
        return hex(int.from_bytes(raw, leaf.column.order(self.layout.endian)))

    def _record_offset(self, row: int, leaf: Leaf) -> int:
        table, chunks = self.directory.table, self.parsed.chunks
        assert table is not None
        if chunks is not None:
            if chunks.tails is not None and leaf.field in chunks.tails.leaf:
                tails = chunks.tails
                return chunks.ends(row) - chunks.tail + tails.place(row, leaf.field) - tails.start(row)
            return int(chunks.heads[row]) + table.place(row, leaf.field) - table.start(row)
        assert self.directory.records is not None
        records = self.directory.records
        return self.parsed.place(records.name, table.place(row, leaf.field))  # type: ignore[attr-defined]

    def pack(self, index: int, real: Body, level: int | None = None) -> MemberChange:
        packer = self.packer(index)
        if self._plain(index):
            # The original did not pay to be packed; the new bytes may.
            number = None if self.directory.packing is None else int(self.directory.packing[index])
            packer = self._find_packer(number, index)
        if packer.name == "none" and not self.directory.part.obfuscation:
            return MemberChange(real, real, self.directory.part.unpacked != "never")
        data = whole(real)
        return self._finish(packer, packer.pack(data, packer.levels[0] if level is None else level), data)

    def _finish(self, packer: compression.Packer, packed: bytes, real: bytes) -> MemberChange:
        """Packed bytes as they are stored: unpacked where the layout's rule says so, and obfuscated."""
        rule, plain = self.directory.part.unpacked, False
        if rule == "equal" and packer.name != "none" and len(packed) == len(real):
            packed, plain = real, True  # or the game would take the packed bytes for plain ones
        if rule != "never" and (packer.name == "none" or len(packed) > len(real)):
            packed, plain = real, True
        return MemberChange(hide(self.directory.part.obfuscation, packed), real, plain)

    def pack_new(self, name: str, real: bytes, level: int | None = None) -> MemberChange:
        """Bytes for a member that is to be added, packed as most others are."""
        common = common_packing(self.directory)
        like = 0
        if common is not None and self.directory.packing is not None:
            like = int((self.directory.packing == common).argmax())
        if not len(self):
            return self._pack_first(real, level)
        packer = self._find_packer(common, like)
        packed = packer.pack(real, self._usual_level(common) if level is None else level)
        return self._finish(packer, packed, real)

    def _usual_level(self, packing: int | None) -> int:
        """The level by which most of some members that are packed this way were packed."""
        if packing not in self._level_of:
            alike = np.arange(len(self))
            if packing is not None and self.directory.packing is not None:
                alike = np.flatnonzero(self.directory.packing == packing)
            sizes = self.real_sizes[alike]
            some = alike[(sizes > _TELLS_LEVEL) & (sizes < _TELLS_LEVEL << 12)][:_ASKED_FOR_LEVEL].tolist()
            levels = [level for index in some if (level := self.packing_level(index)) is not None]
            usual = Counter(levels).most_common(1)
            self._level_of[packing] = usual[0][0] if usual else self._find_packer(packing, 0).levels[0]
        return self._level_of[packing]

    def _pack_first(self, real: bytes, level: int | None) -> MemberChange:
        """Bytes for the first member of an empty archive: packed if the layout's packers know how."""
        leaf, part = self.directory.leaf("compression"), self.directory.part
        meanings = [part.compression]
        if leaf is not None and leaf.meant.values:
            meanings = [word for word in leaf.meant.values.values() if isinstance(word, str)]
        # What is not packed is right in every game; where all is packed, the first way.
        meaning = "none" if "none" in meanings else meanings[0]
        packer = described.describe(meaning, self.layout.packers)
        packed = packer.pack(real, packer.levels[0] if level is None else level)
        return self._finish(packer, packed, real)

    def first_packing(self) -> int | None:
        """The compression number of members that are added to an empty archive."""
        leaf = self.directory.leaf("compression")
        if leaf is None or not leaf.meant.values:
            return None
        numbers = leaf.meant.values
        return next((number for number, word in numbers.items() if word == "none"), min(numbers))

    def slot(self, index: int) -> int:
        """How many bytes a member may have without anything else moving."""
        if self.parsed.chunks is not None:
            assert isinstance(self.directory.part, ChunksPart)
            chunk = int(self.directory.rows[index])
            end = self.parsed.regions[self.directory.part.name].end
            return chunk_room(self.directory.part, self.parsed.chunks, chunk, end)[0] - int(self.offsets[index])
        return self._slots.next(index)[0] - int(self.offsets[index])

    def fits(self, index: int, length: int) -> bool:
        """Whether so many stored bytes can take a member's place without anything else moving."""
        part = self.directory.part
        if self.in_blocks:
            return False  # its blocks are packed anew, and have other sizes
        if isinstance(part, ChunksPart):
            at, room = int(self.offsets[index]), self.slot(index)
            length += self.parsed.chunks.tail if self.parsed.chunks is not None else 0
            return length <= room and (length == room or length + -(at + length) % part.align == room)
        if not self.stored_sizes[index] or self._slots.shared(index):
            return False
        before = int(self.directory.before[index]) if self.directory.heads is not None else 0
        return self._slots.fits(index, before + length)

    def takes(self, index: int, change: MemberChange) -> bool:
        return self.fits(index, len(change.stored)) and all(
            len(varint(new)) == len(varint(old)) for old, new in self._varying(index, change)
        )

    def _varying(self, index: int, change: MemberChange) -> Iterator[tuple[int, int]]:
        """Numbers of variable length in a member's record, before and after a change."""
        records = self.directory.records
        for leaf in () if records is None else records.leaves:
            if leaf.column.type == "varint":
                unit = leaf.meant.unit
                if leaf.meant.role == "stored-size":
                    yield int(self.stored_sizes[index]) // unit, len(change.stored) // unit
                elif leaf.meant.role == "real-size":
                    yield int(self.real_sizes[index]) // unit, len(change.real) // unit

    @cached_property
    def _slots(self) -> Slots:
        region = self.parsed.regions[self.directory.part.name]
        return Slots(
            heads.outer(self.directory), region.start, region.end, inner_of(self.parsed, self.directory.part)
        )

    def compose(self, edits: Edits, *, in_place: bool) -> Composed:
        composed = compose(self.parsed, self.directory, edits, in_place=in_place)
        return divide(composed, self.layout, self.parsed.values)

    def differs_in(self, file: str, offset: int) -> str:
        whole, _, number = file.partition(".")
        source = self.parsed.sources[whole]
        begin = source.starts[int(number or 0)] if isinstance(source, JoinedSource) else 0
        return self.parsed.describe(whole, begin + offset)

    def file_name(self, file: str) -> str:
        whole, _, number = file.partition(".")
        pattern = self.layout.files.get(whole, MAIN)
        if isinstance(pattern, Numbered):
            return f"{pattern.name} ({pattern.first + int(number or 0)})"
        return pattern


def open_archive(layout: Layout, sources: dict[str, ByteSource], known_names: Iterable[str] = ()) -> Archive:
    """Read the directory of an archive; its members' bytes are read when they are asked for.

    ``known_names`` are tried where the archive holds only hashes of names. Where nothing says how large a packed
    member really is, it is unpacked once to find out.
    """
    if layout.kind != "archive":
        raise LayoutError(f"The layout '{layout.layout}' describes a {layout.kind}, not an archive.")
    parsed = parse(layout, join(layout, sources))
    found = directory(parsed, known_names)
    archive = Archive(parsed, found, addresses.labels_of(found.names), sources)
    if (found.real < 0).any():
        found.real = found.real.copy()
        for index in (found.real < 0).nonzero()[0].tolist():
            try:
                found.real[index] = len(archive.read(index))
            except BraeError:
                found.real[index] = -1  # reading it says what is wrong
    return archive
