"""ADPCM of four bits in frames, described by numbers, as consoles have it.

A frame is a head and codes of four bits. The head says how far the codes are shifted, and by which pair of a table
of filters the next sample is foretold of the two before it:

    sample = code * 2 ** gain + (a * last + b * the one before + half) // 2 ** precision

That this covers the formats of many consoles is common practice, no source.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from brae.core.assets.sound.bits import Head
from brae.core.errors import FormatError

Numbers = np.ndarray[Any, Any]
#: the gains with which a code of four bits is within 16 bits
_GAINS = range(13)


@dataclass(frozen=True)
class Frames:
    """Such a codec."""

    size: int
    head: Head
    #: the gain is ``base`` and so many times the head's shift: 1, or -1
    base: int
    sign: int
    filters: tuple[tuple[int, int], ...]
    precision: int = 6
    low_first: bool = True

    @property
    def per(self) -> int:
        """Samples of a frame."""
        return 2 * (self.size - self.head.size)

    @cached_property
    def _table(self) -> Numbers:
        return np.array(self.filters, np.int64)

    def _cut(self, data: bytes) -> Numbers:
        return np.frombuffer(data, np.uint8)[: len(data) // self.size * self.size].reshape(-1, self.size)

    def loop(self, data: bytes, begins: int, repeats: int | None) -> tuple[int, int] | None:
        """The first and the last sample of what is played again and again, as flags say it; None where none is."""
        flags = self.head.get(self.head.numbers(self._cut(data)), "flags")
        first = np.flatnonzero(flags & begins)
        if not len(first) or (repeats is not None and not flags[-1] & repeats):
            return None
        return int(first[0]) * self.per, len(flags) * self.per - 1

    def with_loop(self, data: bytes, begins: int, first: int) -> bytes:
        """Frames in which the one with sample ``first`` is marked as the loop's first, and no other."""
        frames = self._cut(data).copy()
        heads = self.head.numbers(frames)
        flags = self.head.get(heads, "flags") & ~np.int64(begins)
        flags[min(first // self.per, len(flags) - 1)] |= begins
        frames[:, : self.head.size] = self.head.bytes(self.head.put(heads, "flags", flags))
        return frames.tobytes() + data[len(frames) * self.size :]

    def _said(self, frames: Numbers) -> Numbers:
        """The gain and the filter of each frame; FormatError where it has a filter that there is not."""
        heads = self.head.numbers(frames)
        chosen = self.head.get(heads, "filter")
        if len(chosen) and chosen.max() >= len(self.filters):
            frame = int(np.argmax(chosen >= len(self.filters)))
            raise FormatError(
                f"Frame {frame:,} has filter {chosen[frame]}.",
                offset=frame * self.size,
                expected=f"one of {len(self.filters)}, from 0",
                remedy="These may be no such samples, or they begin elsewhere.",
            )
        return np.stack([self.base + self.sign * self.head.get(heads, "shift"), chosen], axis=1)

    def decode(self, data: bytes) -> Numbers:
        """One channel's whole frames as samples of 16 bits."""
        from brae.core.assets.sound.kernels import decode_frames

        frames = self._cut(data)
        out = np.zeros((len(frames), self.per), np.int16)
        half = 1 << self.precision >> 1
        gains = self._said(frames)
        decode_frames(frames, self.head.size, self.low_first, gains, self._table, self.precision, half, out)
        return out.reshape(-1)

    def encode(self, samples: Numbers, old: bytes = b"") -> bytes:
        """One channel's samples of 16 bits as frames, the last one filled with the last sample.

        Frames of ``old`` stay where they come as near. Bits of a head that say something else are the original
        frame's at that place; the last frame has those of the original's last one.
        """
        from brae.core.assets.sound.kernels import encode_frames

        count = -(-len(samples) // self.per)
        wanted = np.zeros(count * self.per, np.int16)
        wanted[: len(samples)] = samples
        if len(samples):
            wanted[len(samples) :] = samples[-1]
        before = self._cut(old)
        out, chosen = np.zeros((count, self.size), np.uint8), np.zeros((count, 2), np.int64)
        gains = {self.base + self.sign * shift for shift in range(1 << self.head.bits("shift"))}
        choices = np.array(sorted(gains & set(_GAINS)) or sorted(gains), np.int64)
        encode_frames(
            wanted.reshape(count, self.per), before, self._said(before), self.head.size, self.low_first, choices,
            self._table, self.precision, 1 << self.precision >> 1, out, chosen,
        )  # fmt: skip
        made = chosen[:, 1] >= 0
        heads = self.head.put(self._templates(before, count), "shift", (chosen[:, 0] - self.base) * self.sign)
        heads = self.head.put(heads, "filter", np.maximum(chosen[:, 1], 0))
        # Of frames that stay, too, the flags are those of their place: the last one's mark belongs to the last.
        kept = np.flatnonzero(~made)
        old_heads = self.head.numbers(before[kept])
        for part in ("shift", "filter"):
            heads[kept] = self.head.put(heads[kept], part, self.head.get(old_heads, part))
        out[:, : self.head.size] = self.head.bytes(heads)
        return out.tobytes()

    def _templates(self, before: Numbers, count: int) -> Numbers:
        """The heads that frames begin from."""
        heads = self.head.numbers(before)
        if not len(heads):
            return np.zeros(count, np.int64)
        places = np.minimum(np.arange(count), max(len(heads) - 2, 0))
        if count:
            places[-1] = len(heads) - 1
        return heads[places]
