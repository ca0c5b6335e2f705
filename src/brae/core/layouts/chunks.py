"""Chunk files: each record stands before its own data, and some hold chunks themselves."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from brae.core.errors import FormatError, LimitError, TruncatedError
from brae.core.layouts.model import ChunksPart
from brae.core.layouts.rows import FixedRows, Ints, Rows, VariableRows, decode, trimmed, walk
from brae.core.sources import ByteSource

_DEEPEST = 32
_MOST = 4_000_000
#: a chunk's record may be this long
_LONGEST_HEAD = 1 << 16
_WINDOW = 1 << 16


@dataclass
class Chunks:
    """Every chunk of a file in order, those that hold chunks included.

    ``heads`` are the places of the records, ``starts`` and ``sizes`` those of the data (``sizes`` without
    padding), ``parents`` the chunk that each lies in (-1: none), ``holds`` whether it holds chunks.
    """

    rows: Rows
    heads: Ints
    starts: Ints
    sizes: Ints
    parents: Ints
    holds: np.ndarray[tuple[int], np.dtype[np.bool_]]
    names: list[str]
    end: int

    @property
    def members(self) -> Ints:
        """The chunks that hold data, which are the archive's members."""
        return np.flatnonzero(~self.holds)

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


class _Window:
    """Small reads out of a larger one."""

    def __init__(self, source: ByteSource) -> None:
        self._source, self._at, self._data = source, 0, b""

    def read(self, at: int, length: int) -> bytes:
        """At most ``length`` bytes from ``at``; fewer at the end of the source."""
        length = min(length, self._source.size - at)
        if not (self._at <= at and at + length <= self._at + len(self._data)):
            self._at = at
            self._data = self._source.read(at, min(max(length, _WINDOW), self._source.size - at))
        return self._data[at - self._at : at - self._at + length]


def walk_chunks(part: ChunksPart, endian: str, source: ByteSource, start: int, end: int) -> Chunks:
    """Every chunk between two places of a file; nothing but the records is read.

    Raises TruncatedError or FormatError with the place of the chunk.
    """
    window = _Window(source)
    fixed = part.dtype(endian).itemsize if part.fixed else 0
    heads: list[int] = []
    starts: list[int] = []
    sizes: list[int] = []
    parents: list[int] = []
    holds: list[bool] = []
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
        head, size, name, stop = _head(part, endian, window, at, limit, fixed)
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
        names,
        min(last, end),
    )


def _only_padding(window: _Window, at: int, limit: int, least: int, part: ChunksPart) -> bool:
    """Whether nothing but padding is left, too short for another record."""
    rest = window.read(at, limit - at) if limit - at < least else b""
    return bool(rest) and rest == bytes([part.fill]) * len(rest)


def _head(
    part: ChunksPart, endian: str, window: _Window, at: int, limit: int, fixed: int
) -> tuple[bytes, int, str, bool]:
    """One record: its bytes, the size of its data, its name, and whether it ends the chunks."""
    rows: Rows
    if fixed:
        raw = window.read(at, min(fixed, limit - at))
        if len(raw) < fixed:
            raise TruncatedError("A chunk's record is cut short.", offset=at)
        rows = FixedRows(part, endian, raw)
    else:
        rows, length = _variable_head(part, endian, window, at, limit)
        raw = window.read(at, length)
    size_leaf = part.column("stored-size")
    assert size_leaf is not None
    size = int(rows.numbers(size_leaf.field)[0])
    name_leaf = part.column("name")
    name = ""
    if name_leaf is not None:
        column = name_leaf.column
        if column.number_like:
            name = str(column.meaning(int(rows.raw(name_leaf.field)[0])))
        else:
            name = decode(trimmed(rows.content(name_leaf.field, 0), column.character), column.encoding, endian)
            name = name.replace(column.slash, "/")
    stop = False
    if part.until is not None:
        column = rows.leaf[part.until.field].column
        if column.number_like:
            stop = int(rows.raw(part.until.field)[0]) == (part.until.value or 0)
        else:
            stop = not any(rows.content(part.until.field, 0))
    return raw, size, name, stop


def _variable_head(part: ChunksPart, endian: str, window: _Window, at: int, limit: int) -> tuple[VariableRows, int]:
    length = 256
    while True:
        raw = window.read(at, min(length, limit - at))
        try:
            return walk(part, endian, np.frombuffer(raw, np.uint8), 1, None)
        except TruncatedError:
            if length >= min(_LONGEST_HEAD, limit - at):
                raise TruncatedError("A chunk's record is cut short.", offset=at) from None
        length *= 8
