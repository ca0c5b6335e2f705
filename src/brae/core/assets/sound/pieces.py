"""Samples that come piece by piece: an hour of sound is never held at once."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from typing import Any, TypeAlias

import numpy as np

Samples: TypeAlias = "np.ndarray[Any, np.dtype[np.float64]]"
#: frames of a piece
PIECE = 1 << 17


@dataclass(frozen=True)
class Pieces:
    """Samples of shape (frames, channels) each, -1 to 1; they can be gone through again and again."""

    rate: int
    channels: int
    of: Callable[[], Iterator[Samples]]
    #: whether it is all in one piece
    is_whole: bool = False

    def __iter__(self) -> Iterator[Samples]:
        return self.of()

    @classmethod
    def whole(cls, samples: Samples, rate: int) -> Pieces:
        """All samples as one piece."""
        return cls(rate, samples.shape[1], lambda: iter([samples]), is_whole=True)

    def all(self) -> Samples:
        """All samples as one array: of what is short."""
        found = list(self)
        return found[0] if len(found) == 1 else np.concatenate([np.zeros((0, self.channels)), *found])

    def at_once(self) -> Pieces:
        """The same in one piece, worked out once: of what is short."""
        return self if self.is_whole else Pieces.whole(self.all(), self.rate)

    def each(self, change: Callable[[Samples], Samples]) -> Pieces:
        """With each piece changed."""
        return Pieces(self.rate, self.channels, lambda: (change(one) for one in self))

    def first(self, frames: int) -> Samples:
        """So many samples at the beginning, or all of them."""
        found: list[Samples] = []
        left = frames
        for piece in self:
            found.append(piece[:left])
            left -= len(piece)
            if left <= 0:
                break
        return np.concatenate(found) if found else np.zeros((0, self.channels))

    def without_first(self, frames: int) -> Pieces:
        """All but so many samples at the beginning."""

        def rest() -> Iterator[Samples]:
            left = frames
            for piece in self:
                if left < len(piece):
                    yield piece[left:]
                left = max(left - len(piece), 0)

        return Pieces(self.rate, self.channels, rest)

    def of_length(self, frames: int, fade: int) -> Pieces:
        """So many samples: where there were more, the last ``fade`` fade out; where there were fewer, silence."""

        def cut() -> Iterator[Samples]:
            at, longer = 0, False
            held: list[Samples] = []
            for piece in self:
                longer = at + len(piece) > frames
                held.append(piece[: max(frames - at, 0)])
                at += len(piece)
                if longer:
                    break
                # What may have to fade is kept back.
                while sum(map(len, held[1:])) >= fade:
                    yield held.pop(0)
            last = np.concatenate(held) if held else np.zeros((0, self.channels))
            count = min(fade, len(last))
            if longer and count:
                last = last.copy()
                last[-count:] *= np.linspace(1, 0, count)[:, None]
            yield last
            missing = frames - at
            while missing > 0:
                yield np.zeros((min(missing, PIECE), self.channels))
                missing -= PIECE

        return Pieces(self.rate, self.channels, cut)

    def around(self, change: Callable[[Samples], Samples], margin: int) -> Pieces:
        """With each piece changed by what needs ``margin`` samples before and behind it."""

        def changed() -> Iterator[Samples]:
            before = np.zeros((0, self.channels))
            held: Samples | None = None
            for piece in _at_least(self, margin):
                if held is not None:
                    yield _middle(change, before, held, piece[:margin])
                    before = np.concatenate([before, held])[-margin:]
                held = piece
            if held is not None:
                yield _middle(change, before, held, held[:0])

        return Pieces(self.rate, self.channels, changed)

    def resampled(self, rate: int) -> Pieces:
        """At another sample rate, by soxr at its best setting."""
        if rate == self.rate:
            return self
        import soxr

        def found() -> Iterator[Samples]:
            stream = soxr.ResampleStream(self.rate, rate, self.channels, dtype="float64", quality="VHQ")
            for piece in self:
                yield stream.resample_chunk(np.ascontiguousarray(piece)).reshape(-1, self.channels)
            end = np.zeros((0, self.channels))
            yield stream.resample_chunk(end, last=True).reshape(-1, self.channels)

        return Pieces(rate, self.channels, found)


def _at_least(pieces: Iterable[Samples], size: int) -> Iterator[Samples]:
    """The same samples in pieces of at least that size, but for the last."""
    held: list[Samples] = []
    for piece in pieces:
        held.append(piece)
        if sum(map(len, held)) >= size:
            yield np.concatenate(held) if len(held) > 1 else held[0]
            held = []
    if held:
        yield np.concatenate(held)


def _middle(change: Callable[[Samples], Samples], before: Samples, here: Samples, behind: Samples) -> Samples:
    changed = change(np.concatenate([before, here, behind]))
    return changed[len(before) : len(before) + len(here)]
