"""Heads of a few bytes before frames, blocks and packets, which say something in a few bits each."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

Numbers = np.ndarray[Any, Any]
_MOST = 64


@dataclass(frozen=True)
class Head:
    """Its parts by name, and how many bits each has.

    From the lowest bit of the first byte up; ``big``: from the highest one down, as numbers whose first byte counts
    most.
    """

    parts: tuple[tuple[str, int], ...]
    big: bool = False

    @classmethod
    def of(cls, text: str, needed: set[str], example: str, *, big: bool = False) -> Head:
        """By such words as 'shift 4, filter 4'; ValueError where a part is missing, or they fill no bytes."""
        parts = tuple(_part(piece, example) for piece in text.split(","))
        names = {name for name, _ in parts}
        if not needed <= names or len(names) != len(parts):
            wanted = " and ".join(f"'{name}'" for name in sorted(needed, reverse=True))
            raise ValueError(f"'{text}' needs {wanted}, each part once, such as '{example}'")
        bits = sum(count for _, count in parts)
        if bits % 8 or bits > _MOST:
            raise ValueError(f"a head of {bits} bits is no number of bytes of at most {_MOST // 8}")
        return cls(parts, big)

    @property
    def size(self) -> int:
        """Its bytes."""
        return sum(bits for _, bits in self.parts) // 8

    def bits(self, name: str) -> int:
        """How many bits a part has; 0 where it is none of these."""
        return dict(self.parts).get(name, 0)

    @cached_property
    def _shifts(self) -> dict[str, int]:
        found, at = {}, 0
        for name, bits in reversed(self.parts) if self.big else self.parts:
            found[name] = at
            at += bits
        return found

    def numbers(self, rows: Numbers) -> Numbers:
        """The heads at the beginning of rows of bytes (count, at least ``size``), each as one number."""
        wide = np.zeros((len(rows), 8), np.uint8)
        wide[:, : self.size] = rows[:, : self.size][:, :: -1 if self.big else 1]
        found: Numbers = wide.view("<i8")[:, 0].astype(np.int64)
        return found

    def bytes(self, numbers: Numbers) -> Numbers:
        """The inverse, shape (count, ``size``)."""
        wide = np.ascontiguousarray(numbers.astype("<i8")).view(np.uint8).reshape(-1, 8)[:, : self.size]
        return np.ascontiguousarray(wide[:, :: -1 if self.big else 1])

    def get(self, numbers: Numbers, name: str) -> Numbers:
        """A part of each head; 0 where it has none of this name."""
        return (numbers >> self._shifts.get(name, 0)) & ((1 << self.bits(name)) - 1)

    def put(self, numbers: Numbers, name: str, values: Numbers) -> Numbers:
        """Heads with another value of a part, if they have it."""
        mask, shift = (1 << self.bits(name)) - 1, self._shifts.get(name, 0)
        others = ~np.array(mask << shift, np.uint64).view(np.int64)
        found: Numbers = (numbers & others) | ((values.astype(np.int64) & mask) << shift)
        return found


def _part(text: str, example: str) -> tuple[str, int]:
    words = text.split()
    if len(words) != 2 or not words[1].isdigit() or not 1 <= int(words[1]) <= 32:
        raise ValueError(f"'{text.strip()}' is no part of a head: a name and its bits, such as '{example}'")
    return words[0], int(words[1])
