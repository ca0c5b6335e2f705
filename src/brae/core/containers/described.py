"""The archive that a layout describes."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from brae.core import addresses, compression
from brae.core.errors import BraeError, FormatError, LayoutError, LimitError
from brae.core.layouts import checksums
from brae.core.layouts.expressions import evaluate
from brae.core.layouts.model import MAIN, Column, Layout, MembersPart, NamesPart, TablePart
from brae.core.layouts.read import Parsed, member_ranges, parse
from brae.core.layouts.write import Composed, MemberChange, compose
from brae.core.sources import ByteSource

#: deflate never packs better than 1 : 1032 (zlib's technical notes), so a larger claim is a bomb or damage
_BEST_RATIO = 1032
Progress = Callable[[int, int], None]


@dataclass(frozen=True)
class Proof:
    """Whether an unchanged rebuild equals the original, and where it first differs."""

    exact: bool
    #: how many members were unpacked and checked against their sizes and checksums
    members: int = 0
    file: str | None = None
    offset: int | None = None
    field: str | None = None
    reason: str | None = None

    def as_dict(self) -> dict[str, Any]:
        """For JSON."""
        return {key: value for key, value in vars(self).items() if value is not None}


@dataclass
class Archive:
    """Members of a described archive; arrays hold one entry a member, in the directory's order."""

    parsed: Parsed
    offsets: np.ndarray[Any, np.dtype[np.int64]]
    stored_sizes: np.ndarray[Any, np.dtype[np.int64]]
    real_sizes: np.ndarray[Any, np.dtype[np.int64]]
    names: list[str]
    levels: list[str]
    _packers: np.ndarray[Any, Any] | None
    part: MembersPart = field(init=False)
    table: TablePart = field(init=False)
    _packer_of: dict[int | None, compression.Packer] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.part = self.parsed.layout.only(MembersPart)
        table = self.parsed.regions[self.part.of].part
        assert isinstance(table, TablePart)
        self.table = table

    @property
    def layout(self) -> Layout:
        """The description it was read by."""
        return self.parsed.layout

    def __len__(self) -> int:
        return len(self.offsets)

    def packer(self, index: int) -> compression.Packer:
        """How a member is packed; FormatError where the layout does not know its number."""
        number = None if self._packers is None else int(self._packers[index])
        if number not in self._packer_of:
            self._packer_of[number] = self._find_packer(number, index)
        return self._packer_of[number]

    def _find_packer(self, number: int | None, index: int) -> compression.Packer:
        column = self.table.column("compression")
        meaning = self.part.compression if number is None or column is None else column.meaning(number)
        if not isinstance(meaning, str):
            raise FormatError(f"The layout does not say what compression {number} is.", address=self.levels[index])
        return compression.get(meaning)

    def read_stored(self, index: int) -> bytes:
        """A member's bytes as they lie in the archive."""
        return self.parsed.sources[self.part.file].read(int(self.offsets[index]), int(self.stored_sizes[index]))

    def read(self, index: int) -> bytes:
        """A member's bytes, unpacked."""
        try:
            stored, real = int(self.stored_sizes[index]), int(self.real_sizes[index])
            if real > compression.LARGEST_MEMBER or (stored * _BEST_RATIO + 64 < real):
                raise LimitError(
                    f"{stored} stored bytes claim to unpack to {real}.",
                    remedy="The directory is damaged; nothing was unpacked.",
                )
            return self.packer(index).unpack(self.read_stored(index), real)
        except BraeError as error:
            raise error.at(self.levels[index]) from None

    def read_start(self, index: int, length: int) -> bytes:
        """At most the first ``length`` unpacked bytes; fewer where the member is shorter or damaged."""
        size = min(int(self.stored_sizes[index]), max(length * 4, 1024))
        packed = self.parsed.sources[self.part.file].read(int(self.offsets[index]), size)
        try:
            return self.packer(index).unpack_start(packed, length)
        except FormatError:
            return b""

    def index_of(self, level: str) -> int:
        """The member at one level of an address, or -1."""
        try:
            return self.levels.index(level)
        except ValueError:
            return -1

    def check_member(self, index: int) -> None:
        """Unpack a member and check its checksums; FormatError where they are wrong."""
        real = self.read(index)
        for column in self.table.record:
            if column.checksum is None:
                continue
            data = real if column.checksum.over == "real" else self.read_stored(index)
            found = int(self.parsed.tables[self.part.of][column.field][index])
            total = checksums.checksum(column.checksum.kind, [data])
            total &= (1 << 8 * self.parsed.tables[self.part.of][column.field].dtype.itemsize) - 1
            if total != found:
                raise FormatError(
                    f"The checksum of this member is {total:#x}.",
                    address=self.levels[index],
                    offset=self._record_offset(index, column),
                    expected=f"{found:#x}, as the directory says",
                )

    def _record_offset(self, index: int, column: Column) -> int:
        dtype = self.table.dtype(self.layout.endian)
        inside = dtype.fields[column.field][1]  # type: ignore[index]
        return int(self.parsed.regions[self.part.of].start + index * dtype.itemsize + inside)

    def pack(self, index: int, real: bytes, level: int | None = None) -> MemberChange:
        """New bytes for a member, packed as its original is (``level`` as its recipe says)."""
        packer = self.packer(index)
        return MemberChange(packer.pack(real, packer.levels[0] if level is None else level), real)

    def packing_level(self, index: int) -> int | None:
        """The level that gives the original's stored bytes again, or None where no level does."""
        return compression.find_level(self.packer(index), self.read_stored(index), self.read(index))

    def slot(self, index: int) -> int:
        """How many bytes a member may have without anything else moving."""
        later = self.offsets[(self.offsets > self.offsets[index]) & (self.stored_sizes > 0)]
        end = int(later.min()) if len(later) else self.parsed.regions[self.part.name].end
        return end - int(self.offsets[index])

    def rebuild(self, changes: dict[int, MemberChange]) -> Composed:
        """The archive with changed members; unchanged ones keep their bytes and their order."""
        return self._compose(changes, in_place=False)

    def patch(self, changes: dict[int, MemberChange]) -> Composed:
        """The same, with nothing moved; LayoutError where a member does not fit its slot."""
        return self._compose(changes, in_place=True)

    def _compose(self, changes: dict[int, MemberChange], in_place: bool) -> Composed:
        return compose(self.parsed, changes, in_place=in_place)

    def prove(self, progress: Progress | None = None) -> Proof:
        """Rebuild without a change and compare; then unpack and check every member.

        Never raises for what the archive holds: the reason stands in the result.
        """
        files = {MAIN: MAIN, **self.layout.files}
        try:
            composed = compose(self.parsed)
            for file in composed.segments:
                offset = composed.first_difference(file)
                if offset is not None:
                    name = self.parsed.describe(file, offset)
                    return Proof(
                        False,
                        file=files[file],
                        offset=offset,
                        field=name,
                        reason=f"An unchanged rebuild differs from the original at {offset}, in {name}.",
                    )
        except BraeError as error:
            return Proof(False, offset=error.offset, reason=str(error))
        for index in range(len(self)):
            try:
                self.check_member(index)
            except BraeError as error:
                return Proof(False, index, offset=error.offset, field=error.address, reason=str(error))
            if progress:
                progress(index + 1, len(self))
        return Proof(True, len(self))


def open_archive(layout: Layout, sources: dict[str, ByteSource]) -> Archive:
    """Read the directory of an archive; its members' bytes are read when they are asked for."""
    parsed = parse(layout, sources)
    part: MembersPart = layout.only(MembersPart)
    offsets, stored = member_ranges(parsed, part)
    table_part = parsed.regions[part.of].part
    assert isinstance(table_part, TablePart)
    table = parsed.tables[part.of]
    real_column, packer_column = table_part.column("real-size"), table_part.column("compression")
    if real_column is None and (packer_column is not None or part.compression != "none"):
        raise LayoutError("A packed member needs the role 'real-size'.")
    real = stored if real_column is None else table[real_column.field].astype(np.int64)
    names = _names(parsed, table_part)
    return Archive(
        parsed,
        offsets,
        stored,
        real,
        names,
        addresses.member_levels(names),
        None if packer_column is None else table[packer_column.field],
    )


def _names(parsed: Parsed, part: TablePart) -> list[str]:
    table = parsed.tables[part.name]
    inline, pointer = part.column("name"), part.column("name-offset")
    if inline is not None:
        texts = table[inline.field]
        raw = texts.tobytes()
        width = texts.dtype.itemsize
        return [
            _text(raw[start : start + width].partition(b"\0")[0], inline.encoding)
            for start in range(0, len(raw), width)
        ]
    if pointer is None:
        digits = max(4, len(str(len(table))))
        return [str(index).zfill(digits) for index in range(len(table))]
    block_part = next((p for p in parsed.layout.parts if isinstance(p, NamesPart)), None)
    if block_part is None:
        raise LayoutError("The role 'name-offset' needs a part 'names'.")
    block = parsed.content(block_part.name)
    places = table[pointer.field].astype(np.int64)
    if block_part.base is not None:
        places += evaluate(block_part.base, parsed.values) - parsed.regions[block_part.name].start
    bad = np.flatnonzero((places < 0) | (places >= len(block)))
    if len(bad):
        raise FormatError(
            f"{part.name}[{bad[0]}].{pointer.field} points outside the names.",
            offset=parsed.regions[part.name].start + int(bad[0]) * table.dtype.itemsize,
            expected=f"a place below {len(block)}",
        )
    length_column = part.column("name-length")
    if length_column is not None:
        lengths = table[length_column.field].tolist()
        return [
            _text(block[place : place + length], block_part.encoding)
            for place, length in zip(places.tolist(), lengths, strict=True)
        ]
    # Names that start where the one before ends: one split reads them all.
    starts = np.concatenate([[0], np.flatnonzero(np.frombuffer(block, np.uint8) == 0) + 1])
    which = np.searchsorted(starts, places)
    if np.array_equal(starts[np.minimum(which, len(starts) - 1)], places):
        texts_of = _text(block, block_part.encoding).split("\0")
        return [texts_of[index] for index in which.tolist()]
    return [
        _text(block[place : block.find(b"\0", place) % (len(block) + 1)], block_part.encoding)
        for place in places.tolist()
    ]


def _text(raw: bytes, encoding: str) -> str:
    # Bytes that are no text of that encoding are kept, so that every name can be written back.
    return raw.decode(encoding, "surrogateescape")
