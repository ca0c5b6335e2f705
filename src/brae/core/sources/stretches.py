"""Bytes that several edits put into one item, each at a place of its own."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterator
from dataclasses import dataclass, field

from brae.core.errors import FormatError


@dataclass
class Stretches:
    """In order of their places; where two lie over each other they say the same."""

    _starts: list[int] = field(default_factory=list)
    _held: list[tuple[bytes, str]] = field(default_factory=list)

    def __iter__(self) -> Iterator[tuple[int, bytes]]:
        yield from zip(self._starts, (data for data, _ in self._held), strict=True)

    def put(self, start: int, data: bytes, owner: str) -> None:
        """One more. Raises FormatError where ``owner`` and another one want other bytes at one place."""
        at = bisect_left(self._starts, start)
        for place in range(max(0, at - 1), len(self._starts)):
            begins, (its, other) = self._starts[place], self._held[place]
            if begins >= start + len(data):
                break
            if (begins, its) == (start, data):
                return
            if begins + len(its) > start:
                raise FormatError(
                    f"Its larger levels lie where those of {other} lie, and both are edited.",
                    address=owner,
                    offset=max(begins, start),
                    remedy="Take one of the two out of work.",
                )
        self._starts.insert(at, start)
        self._held.insert(at, (data, owner))

    def over(self, whole: bytes) -> bytes:
        """An item's bytes with these in them. Raises FormatError where one lies beyond its end."""
        result = bytearray(whole)
        for start, data in self:
            if start + len(data) > len(result):
                raise FormatError(
                    f"{len(data)} bytes at {start} lie beyond the end, {len(result)}.", offset=len(result)
                )
            result[start : start + len(data)] = data
        return bytes(result)
