"""Columns of offsets and sizes in tables of fixed records."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

import numpy as np

Ints = np.ndarray[Any, np.dtype[np.int64]]
#: a record has between these many bytes
SHORTEST, LONGEST = 4, 128
#: units in which offsets may count
UNITS = (1, 2048, 512, 256, 1024, 16, 32, 64, 128, 4)
_FEWEST = 3
_NEAR = 1 << 16
#: records that have offsets and no sizes are at most this long
_WITHOUT_SIZES = 16
_ALIGNMENTS = tuple(1 << power for power in range(16))


@dataclass
class Table:
    """A candidate: where records lie, and what their columns (by place in the record) are.

    ``first`` is the place of the first record's offset column in the file, ``count`` the number of records.
    Offsets are those stored times ``unit``; ``base`` is added. Places of columns count from the offset column and
    may be negative until ``start`` says where the records begin.
    """

    endian: str
    size: int
    first: int
    count: int
    unit: int
    offsets: Ints
    size_at: int | None = None
    end_at: int | None = None
    sizes: Ints = field(default_factory=lambda: np.empty(0, np.int64))
    base: int = 0
    align: int = 1
    start: int = 0
    #: the first column holds sizes, and there are no offsets
    sizes_only: bool = False
    #: bytes of the records besides ``size`` each: names of any length
    extra: int = 0

    @property
    def end(self) -> int:
        """Where the records end."""
        return self.start + self.count * self.size + self.extra


class Numbers:
    """Every 32-bit number of a stretch of bytes, at every place, in one byte order."""

    def __init__(self, data: bytes, endian: str) -> None:
        self.data, self.endian = data, endian
        raw = np.frombuffer(data, np.uint8).astype(np.int64)
        order = range(4) if endian == "little" else range(3, -1, -1)
        count = max(len(raw) - 3, 0)
        self.words: Ints = np.zeros(count, np.int64)
        for place, shift in enumerate(order):
            self.words |= raw[place : place + count] << (8 * shift)

    def at(self, place: int) -> int:
        """The number at a place, or -1 outside."""
        return int(self.words[place]) if 0 <= place < len(self.words) else -1

    def column(self, first: int, size: int, count: int) -> Ints | None:
        """Numbers in steps of ``size``; None where they leave the bytes."""
        if first < 0 or first + (count - 1) * size >= len(self.words):
            return None
        return self.words[first : first + (count - 1) * size + 1 : size]


def rising(numbers: Numbers, limit: int, longest: int = LONGEST) -> Iterator[tuple[int, int, int, int]]:
    """Runs of numbers in equal steps that rise and could be offsets: unit, step, place of the first, how many.

    The longest runs come first.
    """
    found = []
    for unit in UNITS:
        # Sectors are looked for in a smaller stretch: directories that count them lie near the edge.
        words = numbers.words if unit == 1 else numbers.words[:_NEAR]
        most = limit // unit
        usable = (words > 0) & (words <= most)
        if usable.sum() < _FEWEST:
            continue
        for step in range(SHORTEST, longest + 1):
            if len(words) < step * _FEWEST:
                break
            later, earlier = words[step:], words[:-step]
            goes_on = usable[step:] & (later >= earlier) & ((earlier > 0) | (later > 0))
            # A run is broken wherever a pair is no step upward; longest runs by distance between breaks.
            rows = len(goes_on) // step
            if rows < _FEWEST - 1:
                continue
            grid = goes_on[: rows * step].reshape(rows, step)
            places = np.arange(rows)[:, None]
            length = places - np.maximum.accumulate(np.where(grid, -1, places), axis=0)
            best, best_end = length.max(axis=0), length.argmax(axis=0)
            for phase in np.flatnonzero(best >= _FEWEST - 1).tolist():
                count = int(best[phase]) + 1
                first = phase + (int(best_end[phase]) + 1 - int(best[phase])) * step
                column = words[first : first + (count - 1) * step + 1 : step]
                if len(np.unique(column)) >= max(2, count // 3):
                    found.append((count * len(np.unique(column)), unit, step, first, count))
    found.sort(key=lambda item: -item[0])
    for _, unit, step, first, count in found[:400]:
        yield unit, step, first, count


def _waste(offsets: Ints, ends: Ints) -> float:
    """The share of the data that lies in gaps larger than their alignment explains; offsets rise."""
    gaps = offsets[1:] - ends[:-1]
    common = int(np.bitwise_or.reduce(offsets))
    align = min(common & -common, _ALIGNMENTS[-1]) if common else 1
    beyond = np.maximum(gaps - -ends[:-1] % align, 0)
    return float(beyond.sum()) / max(int(ends[-1] - offsets[0]), 1)


def with_sizes(numbers: Numbers, unit: int, step: int, first: int, count: int, limit: int) -> Iterator[Table]:
    """The run as a table, once for each column that can hold the members' sizes (or ends), best first."""
    column = numbers.column(first, step, count)
    if column is None:
        return
    offsets = column * unit
    candidates: list[tuple[float, Table]] = []
    for at in range(1 - step, step):
        if abs(at) < 4 and at != 0:
            continue
        other = numbers.column(first + at, step, count)
        if other is None or at == 0:
            continue
        for kind, sizes in (("size", other), ("end", other - offsets)):
            if np.any(sizes < 0) or not np.any(sizes > 0) or np.any(sizes > limit):
                continue
            ends = offsets + sizes
            gaps = offsets[1:] - ends[:-1]
            if np.any(gaps < 0) or int(ends[-1]) > limit:
                continue
            # What the gaps leave unexplained is what speaks against a candidate.
            waste = _waste(offsets, ends)
            if waste > 0.6:
                continue
            table = Table(numbers.endian, step, first, count, unit, offsets, sizes=sizes)
            table.size_at, table.end_at = (at, None) if kind == "size" else (None, at)
            candidates.append((waste + 0.001 * abs(at) / step + (0.002 if kind == "end" else 0), table))
    for _, table in sorted(candidates, key=lambda item: item[0])[:3]:
        yield table
    if step > _WITHOUT_SIZES:
        return
    ends = np.append(offsets[1:], limit)
    yield Table(numbers.endian, step, first, count, unit, offsets, sizes=ends - offsets)


def counted(
    numbers: Numbers,
    count: int,
    beginnings: list[int],
    limit: int,
    steps: range = range(2 * SHORTEST, LONGEST + 1),
) -> Iterator[tuple[float, Table]]:
    """Tables of so many records whose offsets and sizes fit together in whatever order, with what they waste."""
    words = numbers.words
    rows = np.arange(count)
    for start in beginnings:
        for step in steps:
            if start + count * step > len(numbers.data) - 4:
                break
            # A few rows decide whether the columns are worth a look.
            few = words[start + rows[: min(count, 6)][:, None] * step + np.arange(step - 3)[None]]
            usable = np.flatnonzero((few <= limit).all(axis=0) & (few.max(axis=0) > 0))
            if len(usable) < 2:
                continue
            grid = words[start + rows[:, None] * step + usable[None]]
            fits = (grid <= limit).all(axis=0)
            yield from _fitting(numbers, start, step, grid[:, fits], usable[fits].tolist(), limit)


def sizes_only(
    numbers: Numbers, count: int, beginnings: list[int], limit: int, likely: set[int],
    steps: range = range(SHORTEST, 65), behind_them: int | None = None,
) -> Iterator[tuple[int, Table]]:  # fmt: skip
    """Tables of so many records with sizes alone: where the data begin, and the table.

    The data end with the file, and begin right behind the table (or ``behind_them``) or at a ``likely`` place.
    """
    rows = np.arange(count)
    for start in beginnings:
        for step in steps:
            if start + count * step > len(numbers.data) - 4:
                break
            end = behind_them or start + count * step
            grid = numbers.words[start + rows[:, None] * step + np.arange(max(step - 3, 1))[None]]
            for at in np.flatnonzero((grid <= limit).all(axis=0) & (grid.sum(axis=0) > limit // 3)).tolist():
                sizes = grid[:, at]
                for align in _ALIGNMENTS[:13]:
                    begin = limit - int((sizes + -sizes % align).sum())
                    behind = begin - end < align or any(0 <= begin - place < align for place in likely)
                    if begin >= end and begin % align == 0 and behind:
                        offsets = begin + np.concatenate([[0], np.cumsum(sizes + -sizes % align)[:-1]])
                        table = Table(numbers.endian, step, start + at, count, 1, offsets, sizes=sizes)
                        table.start, table.size_at, table.align, table.sizes_only = start, 0, align, True
                        yield begin, table


def _fitting(
    numbers: Numbers, start: int, step: int, columns: Ints, places: list[int], limit: int
) -> Iterator[tuple[float, Table]]:
    """Pairs of columns that are offsets and sizes of members side by side."""
    count = len(columns)
    for offset_at, offsets in zip(places, columns.T, strict=True):
        if int(offsets.max()) < limit // 4 or len(np.unique(offsets)) <= count // 2:
            continue
        order = np.argsort(offsets, kind="stable")
        room = np.diff(offsets[order])
        for size_at, sizes in zip(places, columns.T, strict=True):
            if abs(size_at - offset_at) < 4 or np.any(sizes[order][:-1] > room) or not np.any(sizes > 0):
                continue
            end = int(offsets[order[-1]] + sizes[order[-1]])
            waste = _waste(offsets[order], (offsets + sizes)[order])
            if end > limit or waste > 0.3:
                continue
            table = Table(numbers.endian, step, start + offset_at, count, 1, offsets, sizes=sizes)
            table.size_at, table.start = size_at - offset_at, start
            yield waste + 0.001 * (start % 4 > 0) + 0.0001 * step, table


def alignment(offsets: Ints, sizes: Ints) -> int:
    """What every offset is a multiple of, where the gaps are what that makes them; else 1."""
    order = np.argsort(offsets, kind="stable")
    starts, ends = offsets[order], (offsets + sizes)[order]
    full = sizes[order] > 0
    starts, ends = starts[full], ends[full]
    if len(starts) < 2:
        return 1
    for align in _ALIGNMENTS:
        if not np.any(starts % align) and np.array_equal(starts[1:] - ends[:-1], -ends[:-1] % align):
            return align
    return 1
