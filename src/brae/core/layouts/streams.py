"""Blocks that are packed one by one and read as a file of their own: what they unpack to, and how they go back.

Members of such a file may begin in one block and end in another. After an edit only blocks that hold other bytes
than before are packed again; the table of the blocks follows.
"""

from __future__ import annotations

import threading
from bisect import bisect_right
from collections import OrderedDict, deque
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from brae.core import compression
from brae.core.compression import described
from brae.core.errors import BraeError, FormatError, LimitError, TruncatedError
from brae.core.layouts import sums
from brae.core.layouts.expressions import evaluate
from brae.core.layouts.fields import Leaf
from brae.core.layouts.obfuscation import hide, reveal
from brae.core.layouts.parts import StreamPart
from brae.core.layouts.records import Records
from brae.core.layouts.rows import FixedRows, Ints, Rows, encode_record
from brae.core.layouts.segments import Copy, New, Segment, parts
from brae.core.sources import ByteSource, check_range

#: bytes of blocks that are kept unpacked, as what is read next is mostly near
_KEPT = 32 << 20
#: bytes of a block, and of all of them
_LARGEST_BLOCK, _LARGEST = 1 << 28, 1 << 40
#: of a stream without a block from which the size could be told
_FIRST = 1 << 16


@dataclass
class Blocks:
    """Where the blocks of a stream lie, and where each begins in what they unpack to; arrays, one entry a block."""

    part: StreamPart
    source: ByteSource
    offsets: Ints
    stored: Ints
    #: one entry more: where the last one ends
    starts: Ints
    packers: Sequence[compression.Packer]
    #: bytes of every block but the last, where the layout says it
    whole: int | None = None
    #: of short blocks, how many bytes of each are a member's; known as soon as the members are
    used: Ints | None = None

    def reach(self, begins: Ints, sizes: Ints) -> None:
        """Say where the members lie, by which short blocks have their lengths."""
        count, whole = len(self.stored), self.whole or 1
        full = sizes > 0
        first, last = begins[full] // whole, np.minimum((begins + sizes)[full] - 1, whole * count - 1) // whole
        inside = np.zeros(count + 1, np.int64)
        np.add.at(inside, np.minimum(first, count), 1)
        np.add.at(inside, np.minimum(last, count), -1)
        used = np.where(np.cumsum(inside)[:-1] > 0, whole, 0)
        np.maximum.at(used, last, (begins + sizes)[full] - last * whole)
        self.used = np.minimum(used, whole)

    @cached_property
    def usual(self) -> compression.Packer:
        """How a new block is packed: as the first that is."""
        packed = (packer for packer in self.packers if packer.name != "none")
        return next(packed, self.packers[0] if self.packers else compression.get("none"))

    def unpack(self, number: int) -> bytes:
        """A block's bytes; in a stream of short blocks without what only fills its place."""
        size = int(self.starts[number + 1] - self.starts[number])
        known = not self.part.short
        if self.used is not None and self.used[number]:
            size, known = int(self.used[number]), True
        raw = self.source.read(int(self.offsets[number]), int(self.stored[number]))
        data = reveal(self.part.obfuscation, raw)
        plain = self.part.unpacked == "equal" and len(raw) == size
        packer = compression.get("none") if plain else self.packers[number]
        if size > _LARGEST_BLOCK or (known and len(raw) * packer.ratio + 64 < size):
            raise LimitError(f"Block {number} of '{self.part.stream}' claims to unpack to {size} bytes.")
        try:
            found = packer.unpack(data, size if known else None)
        except BraeError as error:
            error.message = f"Block {number} of '{self.part.stream}': {error.message}"
            raise
        if len(found) > size:
            raise FormatError(f"Block {number} of '{self.part.stream}' unpacks to more than {size} bytes.")
        return found


class BlockSource:
    """What the blocks of a stream unpack to, block by block as it is asked for."""

    def __init__(self, blocks: Blocks) -> None:
        self.blocks = blocks
        self._starts = blocks.starts.tolist()
        self._kept: OrderedDict[int, bytes] = OrderedDict()
        # Several threads read the members of one archive.
        self._lock = threading.Lock()

    @property
    def size(self) -> int:
        """Bytes of all blocks, unpacked."""
        return int(self._starts[-1])

    def place(self, offset: int) -> int:
        """Where the block lies in which a place of what they unpack to is."""
        number = max(0, min(bisect_right(self._starts, offset), len(self.blocks.offsets)) - 1)
        return int(self.blocks.offsets[number]) if len(self.blocks.offsets) else offset

    def _block(self, number: int) -> bytes:
        found = self._kept.get(number)
        if found is None:
            size = self._starts[number + 1] - self._starts[number]
            found = self.blocks.unpack(number).ljust(size, b"\0")
            with self._lock:
                self._kept[number] = found
                # The one that is read stays, however large it is.
                while len(self._kept) > 1 and sum(map(len, self._kept.values())) > _KEPT:
                    self._kept.popitem(last=False)
        return found

    def read(self, offset: int, length: int) -> bytes:
        """Exactly ``length`` bytes from ``offset``; TruncatedError where there are fewer."""
        check_range(self.size, offset, length)
        pieces, end = [], offset + length
        number = bisect_right(self._starts, offset) - 1
        while offset < end:
            begin = self._starts[number]
            block = self._block(number)
            piece = block[offset - begin : end - begin]
            pieces.append(piece)
            offset += len(piece)
            number += 1
        return b"".join(pieces)


@dataclass
class Made:
    """A block after an edit: one that was there (``old``), or new stored bytes and what they unpack to."""

    old: int | None
    stored: bytes | None
    real: bytes | None
    #: bytes that it unpacks to
    length: int


@dataclass(frozen=True)
class Described:
    """The table of a stream's blocks, and what is known when it is read."""

    table: Rows
    records: Records
    #: where the table lies
    at: int
    values: Mapping[str, int]
    packers: Mapping[str, described.PackerSpec]


def blocks_of(part: StreamPart, told: Described, source: ByteSource, start: int, total: int | str | None) -> Blocks:
    """The blocks of a stream, by the table of them; ``start``: where the first one lies, ``total``: bytes of all.

    Raises FormatError or TruncatedError where the table's numbers are beyond the file.
    """
    table, records, count = told.table, told.records, len(told.table)
    at, size, real = (records.column(role) for role in ("offset", "stored-size", "real-size"))
    assert size is not None
    stored = table.numbers(size.field)
    if at is not None:
        offsets = table.numbers(at.field) + evaluate(part.base, told.values)
    else:
        padded = np.maximum(stored, 0)
        padded = padded + -padded % part.align
        offsets = start + np.cumsum(padded) - padded
    bad = np.flatnonzero((stored < 0) | (offsets < 0) | (offsets + stored > source.size))
    if len(bad):
        number = int(bad[0])
        raise TruncatedError(
            f"{part.of}[{number}] says its block is {stored[number]} bytes at {offsets[number]}, outside the file.",
            offset=told.at + table.start(number),
        )
    packer = records.column("compression")
    names = [part.compression] * count
    if packer is not None:
        names = [str(packer.meant.meaning(number)) for number in table.raw(packer.field).tolist()]
    known = {name: described.describe(name, dict(told.packers)) for name in set(names)}
    packers = [known[name] for name in names]
    whole = None if part.block is None else evaluate(part.block, told.values)
    if whole is not None and not 0 < whole <= _LARGEST_BLOCK:
        raise FormatError(f"Blocks of {whole} bytes cannot be.", expected=f"1 to {_LARGEST_BLOCK}")
    if real is not None:
        sizes = table.numbers(real.field)
    else:
        assert whole is not None
        sizes = np.full(count, whole, np.int64)
    if len(bad := np.flatnonzero((sizes < 0) | (sizes > _LARGEST_BLOCK))) or sizes.sum() > _LARGEST:
        raise FormatError(f"{part.of}[{int(bad[0]) if len(bad) else 0}] claims to unpack to too many bytes.")
    found = Blocks(part, source, offsets, stored, np.append(0, np.cumsum(sizes)), packers, whole)
    if real is None and not part.short and count:
        # Only the last one may be shorter; what it unpacks to tells how much.
        said = part.total if part.total is not None else total
        last = evaluate(said, told.values) - int(found.starts[-2]) if said is not None else -1
        if part.total is None and not 0 <= last <= (whole or 0):
            data = reveal(part.obfuscation, source.read(int(offsets[-1]), int(stored[-1])))
            last = _length(packers[-1], data, plain=part.unpacked == "equal")
        if not 0 <= last <= (whole or 0):
            raise FormatError(f"The last block of '{part.stream}' would be {last} bytes.", expected=f"1 to {whole}")
        found.starts[-1] = found.starts[-2] + last
    return found


def _length(packer: compression.Packer, data: bytes, *, plain: bool) -> int:
    """Bytes that a block of unknown length unpacks to.

    ``plain``: it may be stored as it is: where it does not unpack, or not to more than it takes. The bytes of a
    plain one can happen to be a packed one, of nothing say.
    """
    try:
        length = len(packer.unpack(data, None))
    except BraeError:
        if not plain:
            raise
        return len(data)
    return max(length, len(data)) if plain else length


def packed_again(blocks: Blocks, content: Sequence[Segment], used: Callable[[int, int], int]) -> list[Made]:
    """The stream's blocks for new content, of which unchanged ranges are copies of what they unpack to.

    ``used``: of short blocks, how many bytes of one that begins there are anybody's.
    """
    part, source = blocks.part, BlockSource(blocks)
    made: list[Made] = []
    level: int | None = None
    for place, pieces in _cut(content, blocks):
        length = sum(piece.length for piece in pieces)
        same = _same(blocks, pieces)
        if same is None:
            data = b"".join(parts(pieces, source))
            if part.short:
                data = data[: used(place, length)]
            number = len(made)
            if number < len(blocks.stored) and blocks.unpack(number) == data:
                same = number
        if same is not None:
            made.append(Made(same, None, None, length))
            continue
        level = _level(blocks) if level is None else level
        made.append(_pack(blocks, data, level))
    return made


def _cut(content: Sequence[Segment], blocks: Blocks) -> Iterator[tuple[int, list[Segment]]]:
    """The content in blocks: where each begins, and its pieces."""
    total = sum(piece.length for piece in content)
    sizes = np.diff(blocks.starts)
    whole = blocks.whole or int(sizes.max(initial=0)) or _FIRST
    queue, place, number = deque(piece for piece in content if piece.length), 0, 0
    while place < total:
        # Blocks of sizes of their own keep them as long as the content lasts.
        wanted = whole if blocks.whole is not None or number >= len(sizes) else int(sizes[number])
        pieces, length = [], 0
        while queue and length < wanted:
            piece = queue[0]
            room = wanted - length
            if piece.length <= room:
                pieces.append(queue.popleft())
            else:
                head, queue[0] = _split(piece, room)
                pieces.append(head)
            length += pieces[-1].length
        yield place, pieces
        place += length
        number += 1


def _split(piece: Segment, at: int) -> tuple[Segment, Segment]:
    if isinstance(piece, Copy):
        return Copy(piece.offset, at), Copy(piece.offset + at, piece.length - at)
    assert isinstance(piece, New)
    return New(piece.data[:at]), New(piece.data[at:])


def _same(blocks: Blocks, pieces: Sequence[Segment]) -> int | None:
    """The block that these pieces are, unchanged."""
    at = None
    for piece in pieces:
        if not isinstance(piece, Copy) or (at is not None and piece.offset != at):
            return None
        at = piece.offset + piece.length
    first = pieces[0]
    assert isinstance(first, Copy)
    number = int(np.searchsorted(blocks.starts, first.offset, "right")) - 1
    while number > 0 and blocks.starts[number] == blocks.starts[number - 1] == first.offset:
        number -= 1
    whole = blocks.starts[number] == first.offset and blocks.starts[number + 1] == at
    return number if whole else None


def _level(blocks: Blocks) -> int:
    """The packer's level that gives the first block again; its usual one where none does."""
    for number in range(min(len(blocks.stored), 4)):
        data = blocks.unpack(number)
        packed = reveal(
            blocks.part.obfuscation,
            blocks.source.read(int(blocks.offsets[number]), int(blocks.stored[number])),
        )
        if data and len(packed) < len(data):
            found = compression.find_level(blocks.packers[number], packed, data)
            if found is not None:
                return found
    return blocks.usual.levels[0]


def _pack(blocks: Blocks, data: bytes, level: int) -> Made:
    part, packer = blocks.part, blocks.usual
    packed = packer.pack(data, level)
    if part.unpacked == "equal" and len(packed) >= len(data):
        packed = data
    return Made(None, hide(part.obfuscation, packed), data, len(data))


def resize(table: Rows, count: int) -> None:
    """As many records as there are blocks; new ones hold nothing yet."""
    assert isinstance(table, FixedRows)
    if count < len(table):
        table.keep(np.arange(count))
    if count > len(table):
        empty = encode_record(table.part, table.endian, {})
        table.insert(len(table), empty * (count - len(table)))


def written(
    blocks: Blocks, table: Rows, before: Rows, made: Sequence[Made], start: int, base: int
) -> list[Segment]:
    """Lay the blocks out from ``start`` on, and tell their table; ``before``: the table as it was."""
    assert isinstance(table, FixedRows)
    part, records = blocks.part, table.part
    fill, position = bytes([part.fill]), start
    segments: list[Segment] = []
    places, sizes = [], []
    for one in made:
        padding = -position % part.align
        segments.append(New(fill * padding))
        position += padding
        if one.old is not None:
            segments.append(Copy(int(blocks.offsets[one.old]), int(blocks.stored[one.old])))
        else:
            segments.append(New(one.stored or b""))
        places.append(position)
        sizes.append(segments[-1].length)
        position += sizes[-1]
    if part.pad_last and made:
        segments.append(New(fill * (-position % part.align)))
    numbers = {
        "offset": np.array(places, np.int64) - base,
        "stored-size": np.array(sizes, np.int64),
        "real-size": np.array([one.length for one in made], np.int64),
    }
    for leaf in records.leaves:
        if leaf.meant.role in numbers:
            table.put(leaf.field, np.arange(len(made)), numbers[leaf.meant.role])
        elif leaf.meant.role == "compression":
            _describe_packing(blocks, before, table, leaf.field, made)
        elif leaf.meant.checksum is not None:
            _describe_checksum(before, table, leaf, made)
    return segments


def _describe_packing(blocks: Blocks, before: Rows, table: Rows, field: str, made: Sequence[Made]) -> None:
    """The number of each block's packer: as it was, or that of the usual one."""
    numbers = before.raw(field).astype(np.int64)
    usual = next((k for k, packer in enumerate(blocks.packers) if packer is blocks.usual), None)
    if usual is not None:
        new = [int(numbers[usual if one.old is None else one.old]) for one in made]
        table.put(field, np.arange(len(made)), np.array(new, np.int64))


def _describe_checksum(before: Rows, table: Rows, leaf: Leaf, made: Sequence[Made]) -> None:
    for number, one in enumerate(made):
        if one.old is not None:
            table.put_raw(leaf.field, number, before.content(leaf.field, one.old))
            continue
        bodies = {"stored": one.stored or b"", "real": one.real or b""}
        sums.put(leaf, table, number, sums.total_of(leaf, table, number, bodies))
