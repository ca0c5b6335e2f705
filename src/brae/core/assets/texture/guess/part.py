"""Which bytes of a file are looked at: the same for every explanation of them."""

from __future__ import annotations

from dataclasses import dataclass, field

from brae.core.assets.texture.guess.looks import busiest

_PLACES = ((0.0, 0.25), (0.25, 0.5), (0.5, 0.75))


@dataclass(frozen=True)
class Part:
    """Some of a file's bytes, as pixels beside a palette are."""

    whole: bytes
    data: bytes
    offset: int = 0
    #: where in the whole so many bytes are looked at
    _places: dict[int, list[int]] = field(default_factory=dict)

    @staticmethod
    def of(data: bytes) -> Part:
        """All of the bytes."""
        return Part(data, data)

    def within(self, first: int, last: int) -> Part:
        """Those from one to another."""
        if (first, last) == (0, len(self.data)):
            return self
        return Part(self.whole, self.data[first:last], self.offset + first, self._places)

    def spans(self, count: int, across: int, look: int) -> list[tuple[int, int]]:
        """Which of ``count`` pixels or blocks are looked at, ``look`` bytes in each of three places.

        ``across`` of them stand beside each other; one before and one above each is left before them.
        """
        many = max(1, look * count // max(1, len(self.data)))
        behind = min(across + 1, count)
        if count - behind <= len(_PLACES) * many:
            return [(behind, count)]
        if look not in self._places:
            self._places[look] = [busiest(self.whole, 1, look, within) for within in _PLACES]
        each = count / len(self.data)
        starts = [int((place - self.offset) * each) for place in self._places[look]]
        starts = [max(min(start, count - many) // across * across, behind) for start in starts]
        return [(start, min(start + many, count)) for start in starts]
