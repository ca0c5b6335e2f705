"""Chunk files: each record stands before its own data, and some hold chunks themselves."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from brae.core.errors import FormatError, LimitError, TruncatedError
from brae.core.layouts.parts import ChunksPart
from brae.core.layouts.rows import Bytes, FixedRows, Ints, Rows, check_constants, decode, encode, rows_of, trimmed
from brae.core.layouts.windows import WINDOW, Window
from brae.core.sources import ByteSource

_DEEPEST = 32
_MOST = 4_000_000
_LONGEST_NAME = 4096
#: chunks that a run finds at once
_RUN = 4096


@dataclass
class Chunks:
    """Every chunk of a file in order, those that hold chunks included.

    ``heads`` are the places of the records, ``starts`` and ``sizes`` those of the data (``sizes`` without
    padding), ``parents`` the chunk that each lies in (-1: none), ``holds`` whether it holds chunks, ``naming``
    whether its text is the name of the one behind it.
    """

    part: ChunksPart
    rows: Rows
    heads: Ints
    starts: Ints
    sizes: Ints
    parents: Ints
    holds: np.ndarray[tuple[int], np.dtype[np.bool_]]
    naming: np.ndarray[tuple[int], np.dtype[np.bool_]]
    names: list[str]
    end: int
    #: what stands behind each chunk's data, and how many bytes that is
    tails: FixedRows | None = None
    tail: int = 0

    @property
    def members(self) -> Ints:
        """The chunks that hold data, which are the archive's members."""
        return np.flatnonzero(~self.holds & ~self.naming)

    def head(self, chunk: int) -> bytes:
        """The bytes of a chunk's record."""
        return self.rows.record(chunk)

    def whole(self, chunk: int) -> Rows:
        """A chunk's record together with what stands behind its data, as the one record of a table."""
        part, tails = self.part, self.tails
        if tails is None:
            raise AssertionError("nothing stands behind the data")
        return both(part, self.rows.endian, self.head(chunk) + tails.record(chunk))

    def ends(self, chunk: int) -> int:
        """Where a chunk ends, with what stands behind its data and without padding."""
        return int(self.starts[chunk] + self.sizes[chunk]) + self.tail

    def describe(self, offset: int) -> str:
        """Which chunk and field a byte of the file belongs to."""
        chunk = int(np.searchsorted(self.heads, offset, "right")) - 1
        if chunk < 0:
            return ""
        inside = offset - int(self.heads[chunk])
        if inside < self.starts[chunk] - self.heads[chunk]:
            return self.rows.describe(self.rows.start(chunk) + inside)
        inside = offset - int(self.starts[chunk] + self.sizes[chunk])
        if self.tails is not None and not self.holds[chunk] and 0 <= inside < self.tail:
            return self.tails.describe(self.tails.start(chunk) + inside)
        return f"[{chunk}] (its data)"


def both(part: ChunksPart, endian: str, record: bytes) -> Rows:
    """One chunk's record with the fields behind its data: a checksum there may cover either."""
    return rows_of(part.whole, endian, record, 1)


class _Heads(Window):
    """Reads one chunk's record after the other."""

    def __init__(self, part: ChunksPart, endian: str, source: ByteSource) -> None:
        super().__init__(part, endian, source)
        self._part = part
        places = {column.field: place for place, column in enumerate(part.record)}
        size, name = part.column("stored-size"), part.column("name")
        assert size is not None
        self._size, self._size_at = size, places[size.column.field]
        self._name, self._name_at = name, places[name.column.field] if name else -1
        self._stop_at = -1 if part.until is None else places[part.until.field]
        self.tail = sum(column.width for column in part.behind)
        least = part.dtype(endian).itemsize if part.fixed else 1
        mask = 0 if size.whole else (1 << size.bits) - 1
        stop_value = part.until.value or 0 if part.until is not None else 0
        self._how = np.array(
            [
                self._name_at, self._stop_at, stop_value, self._size_at, size.shift, mask, size.meant.unit,
                size.meant.add, self._least, self.tail, part.align, least,
            ],
            np.int64,
        )  # fmt: skip
        self._special = self._special_tags()
        # What a run writes to, used again for each.
        self._room = tuple(np.empty(_RUN, np.int64) for _ in range(3))
        self._block = np.empty(WINDOW, np.uint8)
        self._tails = np.empty((_RUN, self.tail), np.uint8)

    def _special_tags(self) -> tuple[Bytes, Ints, Ints]:
        """The tags that need a closer look: as bytes with their lengths, or as numbers."""
        words = [*self._part.nest, *self._part.named_by]
        none = np.empty(0, np.int64)
        if self._name is None or not words:
            return np.zeros((0, 1), np.uint8), none, none
        column = self._name.column
        if column.number_like:
            numbers = [n for n, word in (self._name.meant.values or {}).items() if str(word) in words]
            numbers += [int(word) for word in words if word.lstrip("-").isdigit()]
            return np.zeros((0, 1), np.uint8), none, np.array(numbers, np.int64)
        raw = [encode(word.replace("/", column.slash), column.encoding, self.endian) for word in words]
        tags = np.zeros((len(raw), max(map(len, raw))), np.uint8)
        for row, text in enumerate(raw):
            tags[row, : len(text)] = np.frombuffer(text, np.uint8)
        return tags, np.array([len(text) for text in raw], np.int64), none

    def run(self, at: int, limit: int, parent: int, notes: _Notes) -> int:
        """As many chunks from ``at`` on as need no closer look; returns where the next one begins."""
        if self._name is not None and not self._name.whole:
            return at  # a tag of some bits only is looked at each time
        while limit - at >= self._how[-1]:
            self.read(at, int(min(limit - at, self._how[-1])))
            count, after, used = self.kernels.chunk_run(
                self.data, self.at, at, limit, self.columns, self._how, *self._special, *self._room, self._block,
                self._tails,
            )  # fmt: skip
            if not count:
                break
            heads, starts, sizes = (room[:count].copy() for room in self._room)
            block, tails = self._block[:used].tobytes(), self._tails[:count].tobytes()
            notes.add_run(parent, heads, starts, sizes, block, tails)
            at = int(after)
        return at

    def names(self, rows: Rows) -> list[str]:
        """What every chunk is called by its own record."""
        if self._name is None:
            return [""] * len(rows)
        column = self._name.column
        if column.number_like:
            return [str(self._name.meant.meaning(number)) for number in rows.raw(self._name.field).tolist()]
        texts = rows.texts(self._name.field)
        return texts if column.slash == "/" else [text.replace(column.slash, "/") for text in texts]

    def next(self, at: int, limit: int) -> tuple[bytes, int, str, bool]:
        """The record at ``at``: its bytes, the size of its data, its name, and whether it ends the chunks."""
        head = self.record(at, limit, "A chunk's record")
        leaf = self._size
        raw = int(self.values[self._size_at])
        if not leaf.whole:
            raw = raw >> leaf.shift & (1 << leaf.bits) - 1
        size = raw * leaf.meant.unit + leaf.meant.add
        return head, size, self._name_of(), self._stops()

    def _name_of(self) -> str:
        if self._name is None:
            return ""
        column = self._name.column
        if column.number_like:
            raw = int(self.values[self._name_at])
            if not self._name.whole:
                raw = raw >> self._name.shift & (1 << self._name.bits) - 1
            return str(self._name.meant.meaning(raw))
        name = decode(trimmed(self.content(self._name_at), column.character), column.encoding, self.endian)
        return name if column.slash == "/" else name.replace(column.slash, "/")

    def _stops(self) -> bool:
        if self._part.until is None:
            return False
        column = self._part.record[self._stop_at]
        if column.number_like:
            return int(self.values[self._stop_at]) == (self._part.until.value or 0)
        return not any(self.content(self._stop_at))


def walk_chunks(part: ChunksPart, endian: str, source: ByteSource, start: int, end: int) -> Chunks:
    """Every chunk between two places of a file; nothing but the records is read.

    Raises TruncatedError or FormatError with the place of the chunk.
    """
    window = _Heads(part, endian, source)
    notes = _Notes(part, window.tail)
    fixed = part.dtype(endian).itemsize if part.fixed else 0
    called = ""  # what the chunk before says of the next one
    # For each level: the chunk that holds it, and where it ends.
    stack: list[tuple[int, int]] = [(-1, end)]
    at = last = start
    plain = True  # whether the last chunk was one of a run, so that more may follow
    while stack:
        parent, limit = stack[-1]
        if plain and not called:
            before = notes.count
            at = window.run(at, limit, parent, notes)
            plain = notes.count > before
            last = at if plain else last
        if at >= limit or _only_padding(window, at, limit, max(fixed, 1), part):
            stack.pop()
            at = max(at, limit) if parent >= 0 else at
            if parent >= 0:
                at += -at % part.align
                last = at
            plain = True
            continue
        head, size, name, stop = window.next(at, limit)
        if stop:
            last = at + len(head)
            break
        data = at + len(head)
        inner = part.nest.get(name)
        tail = window.tail if inner is None else 0
        if size < 0 or data + size + tail > limit:
            raise TruncatedError(
                f"The chunk '{name}' says its data is {size} bytes, but {limit - data - tail} are left.",
                offset=at,
                remedy="The file is cut short or damaged, or the layout does not fit it.",
            )
        naming = name in part.named_by
        behind = source.read(data + size, tail) if tail else b""
        chunk = notes.add(at, head, size, parent, inner is not None, naming, behind, called if not naming else "")
        called = _text(source, data, size, endian, part) if naming else ""
        plain = inner is not None or not naming
        if inner is not None:
            if inner > size:
                raise FormatError(f"The chunk '{name}' is too short to hold chunks.", offset=at)
            if len(stack) > _DEEPEST:
                raise LimitError(f"Chunks are nested more than {_DEEPEST} deep.", offset=at)
            stack.append((chunk, data + size))
            at = data + inner
            last = data + size
        else:
            at = data + size + tail
            at = min(at + -at % part.align, limit)
            last = at
    return notes.chunks(endian, min(last, end), window.names)


class _Notes:
    """What the walk finds, run by run."""

    def __init__(self, part: ChunksPart, tail: int) -> None:
        self._part, self._tail = part, tail
        self.count = 0
        self._blocks: list[bytes] = []
        self._tails: list[bytes] = []
        self._heads: list[Ints] = []
        self._starts: list[Ints] = []
        self._sizes: list[Ints] = []
        self._parents: list[Ints] = []
        self._holds: list[int] = []
        self._naming: list[int] = []
        self._called: dict[int, str] = {}

    def add_run(self, parent: int, heads: Ints, starts: Ints, sizes: Ints, block: bytes, tails: bytes) -> None:
        """Chunks that hold none and name none."""
        self.count += len(heads)
        if self.count > _MOST:
            raise LimitError(f"There are more than {_MOST} chunks.", offset=int(heads[0]))
        self._heads.append(heads)
        self._starts.append(starts)
        self._sizes.append(sizes)
        self._parents.append(np.full(len(heads), parent, np.int64))
        self._blocks.append(block)
        self._tails.append(tails)

    def add(
        self, at: int, head: bytes, size: int, parent: int, holds: bool, naming: bool, tail: bytes, called: str
    ) -> int:
        """One chunk; returns its number."""
        one = self.count
        heads, starts, sizes = (np.array([number], np.int64) for number in (at, at + len(head), size))
        self.add_run(parent, heads, starts, sizes, head, tail.ljust(self._tail, b"\0"))
        if holds:
            self._holds.append(one)
        if naming:
            self._naming.append(one)
        if called:
            self._called[one] = called
        return one

    def chunks(self, endian: str, end: int, names_of: Callable[[Rows], list[str]]) -> Chunks:
        """All of them as columns."""
        part, block = self._part, b"".join(self._blocks)
        rows = rows_of(part, endian, block, self.count)
        heads, starts, sizes, parents = (
            np.concatenate(found) if found else np.empty(0, np.int64)
            for found in (self._heads, self._starts, self._sizes, self._parents)
        )
        flags = np.zeros((2, self.count), bool)
        flags[0, self._holds], flags[1, self._naming] = True, True
        names = names_of(rows)
        for chunk, called in self._called.items():
            names[chunk] = called
        for chunk in np.flatnonzero(parents >= 0).tolist():
            names[chunk] = f"{names[parents[chunk]]}/{names[chunk]}"
        check_constants(part, rows, part.name)
        tails = FixedRows(part.tail, endian, b"".join(self._tails)) if part.tail is not None else None
        return Chunks(part, rows, heads, starts, sizes, parents, flags[0], flags[1], names, end, tails, self._tail)


def _text(source: ByteSource, start: int, size: int, endian: str, part: ChunksPart) -> str:
    """The name in a chunk: up to its first zero, in the encoding of the tags."""
    leaf = part.column("name")
    assert leaf is not None
    raw = source.read(start, min(size, _LONGEST_NAME))
    column = leaf.column
    encoding = column.encoding if not column.number_like else "utf-8"
    return decode(trimmed(raw, 2 if encoding == "utf-16" else 1), encoding, endian).replace(column.slash, "/")


def _only_padding(window: _Heads, at: int, limit: int, least: int, part: ChunksPart) -> bool:
    """Whether nothing but padding is left, too short for another record."""
    rest = window.read(at, limit - at) if limit - at < least else b""
    return bool(rest) and rest == bytes([part.fill]) * len(rest)
