"""Chunk files: each record stands before its own data, and some hold chunks themselves."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from brae.core.errors import FormatError, LimitError, TruncatedError
from brae.core.layouts.parts import ChunksPart
from brae.core.layouts.rows import FixedRows, Ints, Rows, decode, program, trimmed, walk
from brae.core.sources import ByteSource

_DEEPEST = 32
_MOST = 4_000_000
#: a chunk's record may be this long
_LONGEST_HEAD = 1 << 16
_WINDOW = 1 << 16
_LONGEST_NAME = 4096


@dataclass
class Chunks:
    """Every chunk of a file in order, those that hold chunks included.

    ``heads`` are the places of the records, ``starts`` and ``sizes`` those of the data (``sizes`` without
    padding), ``parents`` the chunk that each lies in (-1: none), ``holds`` whether it holds chunks, ``naming``
    whether its text is the name of the one behind it.
    """

    rows: Rows
    heads: Ints
    starts: Ints
    sizes: Ints
    parents: Ints
    holds: np.ndarray[tuple[int], np.dtype[np.bool_]]
    naming: np.ndarray[tuple[int], np.dtype[np.bool_]]
    names: list[str]
    end: int

    @property
    def members(self) -> Ints:
        """The chunks that hold data, which are the archive's members."""
        return np.flatnonzero(~self.holds & ~self.naming)

    def head(self, chunk: int) -> bytes:
        """The bytes of a chunk's record."""
        block = self.rows.block()
        return block[self.rows.start(chunk) : self.rows.start(chunk + 1)]

    def describe(self, offset: int) -> str:
        """Which chunk and field a byte of the file belongs to."""
        chunk = int(np.searchsorted(self.heads, offset, "right")) - 1
        if chunk < 0:
            return ""
        inside = offset - int(self.heads[chunk])
        if inside < self.starts[chunk] - self.heads[chunk]:
            return self.rows.describe(self.rows.start(chunk) + inside)
        return f"[{chunk}] (its data)"


class _Heads:
    """Reads one record after the other, out of a window that moves over the file."""

    def __init__(self, part: ChunksPart, endian: str, source: ByteSource) -> None:
        from brae.core.layouts import kernels

        self._kernels, self._part, self._endian, self._source = kernels, part, endian, source
        self._columns = program(part.record, endian)
        self._spans = np.empty((len(part.record), 2), np.int64)
        self._values = np.empty(len(part.record), np.int64)
        self._at, self._bytes, self._data = 0, b"", np.empty(0, np.uint8)
        places = {column.field: place for place, column in enumerate(part.record)}
        size, name = part.column("stored-size"), part.column("name")
        assert size is not None
        self._size, self._size_at = size, places[size.column.field]
        self._name, self._name_at = name, places[name.column.field] if name else -1
        self._stop_at = -1 if part.until is None else places[part.until.field]
        self._rest = (part.record_size or 0) if part.fixed else 0

    def read(self, at: int, length: int) -> bytes:
        """At most ``length`` bytes from ``at``; fewer at the end of the file."""
        length = min(length, self._source.size - at)
        if not (self._at <= at and at + length <= self._at + len(self._bytes)):
            self._at = at
            self._bytes = self._source.read(at, min(max(length, _WINDOW), self._source.size - at))
            self._data = np.frombuffer(self._bytes, np.uint8)
        return self._bytes[at - self._at : at - self._at + length]

    def next(self, at: int, limit: int) -> tuple[bytes, int, str, bool]:
        """The record at ``at``: its bytes, the size of its data, its name, and whether it ends the chunks."""
        length = 512
        while True:
            room = min(length, limit - at)
            self.read(at, room)
            begin = at - self._at
            end = self._kernels.record(self._data, begin, self._columns, self._spans, self._values)
            if end >= 0 and end - begin < self._rest:
                end = begin + self._rest
            if 0 <= end <= len(self._bytes) and end - begin <= limit - at:
                break
            if room >= limit - at or length >= _LONGEST_HEAD:
                raise TruncatedError("A chunk's record is cut short.", offset=at)
            length *= 16
        leaf = self._size
        raw = int(self._values[self._size_at])
        if not leaf.whole:
            raw = raw >> leaf.shift & (1 << leaf.bits) - 1
        size = raw * leaf.meant.unit + leaf.meant.add
        return self._bytes[begin:end], size, self._name_of(), self._stops()

    def _content(self, place: int) -> bytes:
        low, high = self._spans[place]
        return self._bytes[low:high]

    def _name_of(self) -> str:
        if self._name is None:
            return ""
        column = self._name.column
        if column.number_like:
            return str(self._name.meant.meaning(int(self._values[self._name_at])))
        name = decode(trimmed(self._content(self._name_at), column.character), column.encoding, self._endian)
        return name if column.slash == "/" else name.replace(column.slash, "/")

    def _stops(self) -> bool:
        if self._part.until is None:
            return False
        column = self._part.record[self._stop_at]
        if column.number_like:
            return int(self._values[self._stop_at]) == (self._part.until.value or 0)
        return not any(self._content(self._stop_at))


def walk_chunks(part: ChunksPart, endian: str, source: ByteSource, start: int, end: int) -> Chunks:
    """Every chunk between two places of a file; nothing but the records is read.

    Raises TruncatedError or FormatError with the place of the chunk.
    """
    window = _Heads(part, endian, source)
    fixed = part.dtype(endian).itemsize if part.fixed else 0
    heads: list[int] = []
    starts: list[int] = []
    sizes: list[int] = []
    parents: list[int] = []
    holds: list[bool] = []
    naming: list[bool] = []
    called = ""  # what the chunk before says of the next one
    names: list[str] = []
    block: list[bytes] = []
    # For each level: the chunk that holds it, and where it ends.
    stack: list[tuple[int, int]] = [(-1, end)]
    at = start
    last = start
    while stack:
        parent, limit = stack[-1]
        if at >= limit or _only_padding(window, at, limit, max(fixed, 1), part):
            stack.pop()
            at = max(at, limit) if parent >= 0 else at
            if parent >= 0:
                at += -at % part.align
                last = at
            continue
        head, size, name, stop = window.next(at, limit)
        if stop:
            last = at + len(head)
            break
        data = at + len(head)
        if size < 0 or data + size > limit:
            raise TruncatedError(
                f"The chunk '{name}' says its data is {size} bytes, but {limit - data} are left.",
                offset=at,
                remedy="The file is cut short or damaged, or the layout does not fit it.",
            )
        chunk = len(heads)
        if chunk >= _MOST:
            raise LimitError(f"There are more than {_MOST} chunks.", offset=at)
        inner = part.nest.get(name)
        naming.append(name in part.named_by)
        if naming[-1]:
            called_next = _text(source, data, size, endian, part)
        else:
            name, called_next = called or name, ""
        called = called_next
        heads.append(at)
        starts.append(data)
        sizes.append(size)
        parents.append(parent)
        holds.append(inner is not None)
        names.append(f"{names[parent]}/{name}" if parent >= 0 else name)
        block.append(head)
        if inner is not None:
            if inner > size:
                raise FormatError(f"The chunk '{name}' is too short to hold chunks.", offset=at)
            if len(stack) > _DEEPEST:
                raise LimitError(f"Chunks are nested more than {_DEEPEST} deep.", offset=at)
            stack.append((chunk, data + size))
            at = data + inner
            last = data + size
        else:
            at = data + size
            at = min(at + -at % part.align, limit)
            last = at
    whole = b"".join(block)
    rows: Rows
    if part.fixed:
        rows = FixedRows(part, endian, whole)
    else:
        rows, _ = walk(part, endian, np.frombuffer(whole, np.uint8), len(heads), None)
    return Chunks(
        rows,
        np.array(heads, np.int64),
        np.array(starts, np.int64),
        np.array(sizes, np.int64),
        np.array(parents, np.int64),
        np.array(holds, bool),
        np.array(naming, bool),
        names,
        min(last, end),
    )


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
