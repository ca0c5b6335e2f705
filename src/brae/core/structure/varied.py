"""Tables whose records have names of any length in them: found by the names, which follow each other in equal gaps.

Without its name every such record has the same bytes, so the rest is looked for as in tables of fixed records.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from brae.core.structure.header import Stretch
from brae.core.structure.names import Names
from brae.core.structure.places import UNITS, Numbers, Table, counted, sizes_only, with_sizes
from brae.core.structure.search import Search

#: bytes of a record besides its name
_MOST_GAP = 48
_FEWEST = 4
_LONGEST_NAME = 300
#: strings behind each likely beginning that may be a table's first name
_FIRST_STRINGS = 24
_MOST_CHAINS = 8
_MOST_TEXTS = 12


@dataclass(frozen=True)
class Chain:
    """Names that follow each other: where each begins and ends (with its zero), and the bytes between two.

    A name's length is a number of ``width`` bytes, with ``before`` bytes between it and the name; where ``width``
    is 0 a zero byte ends the name.
    """

    starts: tuple[int, ...]
    ends: tuple[int, ...]
    gap: int
    width: int = 0
    before: int = 0


def chains(data: bytes, endian: str, beginnings: list[int]) -> list[Chain]:
    """Rows of names in ``data``, the most convincing first."""
    raw = np.frombuffer(data, np.uint8)
    printable = ((raw >= 0x20) & (raw < 0x7F)) | (raw >= 0x80)
    # Where the run of printable bytes ends that a place lies in.
    stops = np.where(printable, len(raw), np.arange(len(raw)))
    run_end = np.minimum.accumulate(stops[::-1])[::-1].tolist() if len(raw) else []
    starts = np.flatnonzero(printable & ~np.concatenate([[False], printable[:-1]]))
    likely: set[int] = set()
    for beginning in beginnings:
        first = int(np.searchsorted(starts, beginning))
        for start in [beginning, *starts[first : first + _FIRST_STRINGS].tolist()]:
            likely |= set(range(start, min(start + 5, len(raw))))
    found: list[Chain] = []
    seen: set[tuple[int, int, int, int]] = set()
    forms = [(0, 0), *((width, before) for width in (1, 2, 4) for before in (0, 2, 4, 8, 12, 16))]
    for start in sorted(likely):
        for width, before in forms:
            end = _name_end(data, run_end, start, width, before, endian)
            if end < 0:
                continue
            for gap in range(max(width + before, 2), _MOST_GAP + 1):
                if (start, width, before, gap) in seen:
                    continue
                chain = _follow(data, run_end, start, gap, width, before, endian)
                seen |= {(place, width, before, gap) for place in chain.starts}
                if len(chain.starts) >= _FEWEST and _like_names(data, chain):
                    found.append(chain)
    found.sort(key=lambda chain: (-len(chain.starts), chain.starts[0]))
    return found[:_MOST_CHAINS]


def _name_end(data: bytes, run_end: list[int], start: int, width: int, before: int, endian: str) -> int:
    """Where the name at ``start`` ends, or -1 where there is none."""
    if not width:
        if start >= len(data):
            return -1
        end = run_end[start]
        good = start < end < len(data) and end - start <= _LONGEST_NAME and data[end] == 0
        return end + 1 if good else -1
    at = start - before - width
    if at < 0:
        return -1
    length = int.from_bytes(data[at : at + width], "little" if endian == "little" else "big")
    if not 0 < length <= _LONGEST_NAME or start + length > len(data):
        return -1
    # A length that counts the zero behind the name is one more.
    printed = run_end[start] - start
    whole = printed >= length or (printed == length - 1 and length > 1 and data[start + printed] == 0)
    return start + length if whole else -1


def _follow(data: bytes, run_end: list[int], start: int, gap: int, width: int, before: int, endian: str) -> Chain:
    starts: list[int] = []
    ends: list[int] = []
    while (end := _name_end(data, run_end, start, width, before, endian)) >= 0:
        starts.append(start)
        ends.append(end)
        start = end + gap
    return Chain(tuple(starts), tuple(ends), gap, width, before)


def _like_names(data: bytes, chain: Chain) -> bool:
    """Whether the strings look like names: mostly letters, and hardly one twice."""
    names = [data[start:end] for start, end in zip(chain.starts[:200], chain.ends[:200], strict=True)]
    letters = sum(0x2E <= byte < 0x7F for name in names for byte in name)
    return letters > 0.8 * sum(map(len, names)) - len(names) and len(set(names)) > 0.9 * len(names)


class Varied(Search):
    """The search for columns in the records of a chain of names."""

    def __init__(self, search: Search, chain: Chain, first: int, count: int, cut: int) -> None:
        super().__init__(search.sources, search.pattern, search.origin, search.window, search.endian)
        self.cut, self.chain = cut, chain
        starts, ends = chain.starts[first : first + count], chain.ends[first : first + count]
        self.start, self.count = starts[0] - cut, count
        self.real_end = ends[-1] + chain.gap - cut
        rows = [
            self.window[start - cut : start] + self.window[end : end + chain.gap - cut]
            for start, end in zip(starts, ends, strict=True)
        ]
        self.names = [self.window[start:end] for start, end in zip(starts, ends, strict=True)]
        self.records = self.window[self.start : self.real_end]
        #: where the records are, they stand without their names
        self.window = self.window[: self.start] + b"".join(rows) + bytes(8)
        self.numbers = Numbers(self.window, self.endian)
        self.until = self._until(search.window)

    def _until(self, data: bytes) -> str:
        """The end of a table that an empty name ends."""
        chain = self.chain
        if chain.width and self.cut == chain.width + chain.before:
            mark, field = bytes(chain.width), "name_length, is: 0"
        elif not chain.width and self.cut == 0:
            mark, field = bytes(1), "name"
        else:
            return ""
        if data[self.real_end : self.real_end + len(mark)] != mark:
            return ""
        self.real_end += len(mark)
        return f"    until: {{field: {field}, whole: false}}"

    def tables(self) -> list[tuple[float, Table]]:
        """Offsets and sizes among the records' other bytes, and what each wastes."""
        gap, limit = self.chain.gap, self.data.size
        found = list(counted(self.numbers, self.count, [self.start], limit, range(gap, gap + 1)))
        for unit in UNITS:
            for at in range(max(gap - 3, 0)):
                column = self.numbers.column(self.start + at, gap, self.count)
                if column is None or np.any(np.diff(column) < 0) or not 0 < column[-1] <= limit // unit:
                    continue
                if len(np.unique(column)) > self.count // 2:
                    run = with_sizes(self.numbers, unit, gap, self.start + at, self.count, limit)
                    found += [(0.02 + 0.3 * (one.size_at is None and one.end_at is None), one) for one in run]
        if not self.paired and not found:
            only = sizes_only(
                self.numbers, self.count, [self.start], limit, self.places, range(gap, gap + 1), self.real_end
            )
            found += [(0.05, table) for _, table in only]
        extra = self.real_end - self.start - self.count * gap
        inside = [(waste, replace(table, start=self.start, extra=extra)) for waste, table in found]
        return [(waste, table) for waste, table in inside if self._apart(table)]

    def _apart(self, table: Table) -> bool:
        """Whether no column lies across the place of the name."""
        at = table.first - table.start
        used = [at + more for more in (0, table.size_at, table.end_at) if more is not None]
        return all(0 <= place <= self.chain.gap - 4 and not place < self.cut < place + 4 for place in used)

    def texts(self, table: Table) -> Iterator[str]:
        """Layouts of one table."""
        bases = [0] if table.sizes_only else self.bases(table, table.start)
        for base in bases:
            yield from self.written(replace(table, base=base))

    # ---- what is different from fixed records ---------------------------------------------------------------

    def names_of(self, table: Table, taken: set[int]) -> Names | None:
        if self.chain.width:
            at = self.cut - self.chain.before - self.chain.width
            taken |= set(range(at, at + self.chain.width))
        return None

    def stretches(self, table: Table, block: Names | None) -> list[Stretch]:
        return [Stretch(("entries",), self.records)]

    def ending(self, table: Table, known: str) -> str:
        return self.until if self.until and "field: count," not in known else super().ending(table, known)

    def record(self, table: Table, columns: dict[int, tuple[str, str]]) -> Iterator[str]:
        columns = dict(columns)
        chain, text = self.chain, "type: string, end: nul, role: name"
        if chain.width:
            columns[self.cut - chain.before - chain.width] = ("name_length", f"type: u{8 * chain.width}")
            text = "type: string, length: name_length, role: name"
        before = {place: column for place, column in columns.items() if place < self.cut}
        behind = {place - self.cut: column for place, column in columns.items() if place >= self.cut}
        yield from super().record(replace(table, size=self.cut), before)
        names = b"".join(self.names)
        slash = ', slash: "\\\\"' if b"\\" in names and b"/" not in names else ""
        yield f"{{field: name, {text}{slash}, encoding: {self.encoding(names)}}}"
        for line in super().record(replace(table, size=table.size - self.cut), behind):
            yield line.replace("field: unknown_", "field: more_").replace("field: check_", "field: checked_")


def varied(search: Search, deadline: float) -> Iterator[str]:
    """Layouts of tables with names of any length, likelier ones first."""
    beginnings = [0, *sorted(value - search.origin for value in search.places if value > search.origin)]
    inside = [place for place in beginnings if place < len(search.window)]
    for chain in chains(search.window, search.endian, inside):
        found: list[tuple[float, int, Varied, Table]] = []
        for first, count in _lengths(chain, search.stated):
            for cut in range(chain.width + chain.before, chain.gap + 1):
                if chain.starts[first] < cut:
                    continue
                one = Varied(search, chain, first, count, cut)
                stands = one.start + search.origin in search.places or one.start % 4 == 0
                for waste, table in one.tables():
                    waste += 0.5 * (count not in search.stated and not one.until) - 0.1 * stands
                    waste += 0.05 * (cut not in (0, chain.gap, chain.width + chain.before))
                    found.append((waste, len(found), one, table))
            if search.over(deadline):
                break
        for _, _, one, table in sorted(found, key=lambda item: item[:2])[:_MOST_TEXTS]:
            yield from one.texts(table)
            if search.over(deadline):
                return


def _lengths(chain: Chain, stated: set[int]) -> Iterator[tuple[int, int]]:
    """First record and number of records: what looks like a name at either end may be none."""
    whole = len(chain.starts)
    exact = [
        (first, count)
        for first in range(min(3, whole))
        for count in range(whole - first, max(whole - first - 4, _FEWEST - 1), -1)
        if count in stated
    ]
    yield from exact or [(0, whole)]
