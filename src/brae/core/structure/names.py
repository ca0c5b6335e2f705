"""What members are called: strings in the records, or pointers to a block of names."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np

from brae.core.structure.places import Numbers, Table

_STRINGS = re.compile(rb"(?:[\x20-\x7e\x80-\xff]{1,300}\x00){2,}")


@dataclass(frozen=True)
class Names:
    """How names are found: a string of ``width`` bytes at ``at`` in each record, or a pointer there.

    For pointers the block of names is at ``start`` to ``end``; ``absolute`` ones count from the file's beginning.
    With ``in_order`` nothing points: the block's names are the records', in order.
    """

    at: int = 0
    width: int = 0
    pointer: bool = False
    start: int = 0
    end: int = 0
    absolute: bool = False
    in_order: bool = False


def inline(data: bytes, table: Table, taken: set[int]) -> Names | None:
    """A string of fixed length in every record."""
    if table.end > len(data):
        return None
    block = np.frombuffer(data, np.uint8, table.count * table.size, table.start).reshape(table.count, table.size)
    printable = ((block >= 0x20) & (block < 0x7F)) | (block >= 0x80)
    letters = ((block >= 0x2E) & (block < 0x7F)).mean(axis=0)
    best: Names | None = None
    at = 0
    while at < table.size:
        if at in taken or not printable[:, at].all() or letters[at] < 0.6:
            at += 1
            continue
        end = at
        # Behind the first zero everything is zero, or no string would be meant.
        ended = np.zeros(table.count, bool)
        while end < table.size and end not in taken:
            column = block[:, end]
            bad = (ended & (column != 0)) | ~(printable[:, end] | (column == 0))
            if bad.any():
                break
            ended |= column == 0
            end += 1
        if end - at >= 4 and (best is None or end - at > best.width):
            best = Names(at, end - at)
        at = max(end, at + 1)
    return best


_ONE = re.compile(rb"(?:[\x20-\x7e\x80-\xff]{1,300}\x00)+")


def stated_blocks(data: bytes, places: set[int]) -> list[tuple[int, int]]:
    """Stretches of strings that begin at one of these places."""
    found = []
    for place in sorted(places):
        match = _ONE.match(data, place) if 0 < place < len(data) else None
        if match is not None:
            found.append(match.span())
    return found


def blocks(data: bytes, count: int) -> list[tuple[int, int]]:
    """Stretches of strings that each end with a zero, with enough of them; longest first."""
    found = []
    for match in _STRINGS.finditer(data):
        start, end = match.span()
        # What stands before the first string may be numbers that look like letters.
        if data[start:end].count(0) >= max(count, 2):
            found.append((start, end))
    return sorted(found, key=lambda span: span[0] - span[1])[:8]


def pointed(data: bytes, numbers: Numbers, table: Table, taken: set[int], places: set[int]) -> Names | None:
    """A column of pointers to names; ``places`` are those that the header mentions."""
    for start, end in [*stated_blocks(data, places), *blocks(data, max(2, table.count // 2))]:
        for at in range(table.size - 3):
            if any(place in taken for place in range(at, at + 4)):
                continue
            column = numbers.column(table.start + at, table.size, table.count)
            if column is None or len(np.unique(column)) < max(2, table.count // 2):
                continue
            for absolute, base in _bases(column, start):
                targets = column + base
                if targets.min() < start or targets.max() >= end:
                    continue
                if all(place == start or data[place - 1] == 0 for place in targets.tolist()):
                    low = int(targets.min())
                    high = data.index(b"\0", int(targets.max())) + 1
                    return Names(at, 0, True, low, high, absolute)
    return None


def _bases(column: np.ndarray, start: int) -> list[tuple[bool, int]]:
    """What may be added to pointers: nothing (they are absolute), or where the block begins."""
    return [(True, 0), (False, start)] if int(column.min()) == 0 else [(True, 0)]


def ordered(data: bytes, table: Table, at: int) -> Names | None:
    """As many strings as records, right behind the table or another place."""
    end = at
    for _ in range(table.count):
        stop = data.find(b"\0", end, end + 300)
        if stop <= end or any(byte < 0x20 or byte == 0x7F for byte in data[end:stop]):
            return None
        end = stop + 1
    return Names(start=at, end=end, in_order=True)
