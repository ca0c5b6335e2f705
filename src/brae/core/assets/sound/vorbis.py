"""Vorbis (Vorbis I specification): what its headers say, how long packets last, and an encoder set alike."""

from __future__ import annotations

import struct
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from brae.core.assets.sound import ogg
from brae.core.assets.sound.library import packed
from brae.core.assets.sound.pieces import Pieces
from brae.core.errors import FormatError

IDENTIFICATION, COMMENTS, SETUP = b"\x01vorbis", b"\x03vorbis", b"\x05vorbis"
_MOST_MODES = 64
#: bits of a mode: its block, the types of window and transform (0), its mapping (Vorbis I, 4.2.4)
_MODE = 41
#: the encoder's own setting
_USUAL = 0.6


def identification(rate: int, channels: int, short: int, long: int) -> bytes:
    """The first header (Vorbis I, 4.2.2) of a stream that has lost it; ``short``, ``long``: samples of a block."""
    sizes = (short.bit_length() - 1) | (long.bit_length() - 1) << 4
    return IDENTIFICATION + struct.pack("<IBIiiiBB", 0, channels, rate, 0, 0, 0, sizes, 1)


def no_comments() -> bytes:
    """A second header that says nothing (Vorbis I, 5)."""
    return COMMENTS + struct.pack("<I", 0) + struct.pack("<I", 0) + b"\1"


@dataclass(frozen=True)
class Stream:
    """The three headers of a stream."""

    identification: bytes
    comments: bytes
    setup: bytes

    @classmethod
    def of(cls, packets: Sequence[bytes], known: bytes | None = None) -> Stream:
        """By packets among which they are; ``known``: what stands for an identification that is not there.

        FormatError where the setup is missing: without it no packet can be decoded.
        """
        first = next((one for one in packets if one[:7] == IDENTIFICATION), known)
        comments = next((one for one in packets if one[:7] == COMMENTS), no_comments())
        setup = next((one for one in packets if one[:7] == SETUP), None)
        if setup is None or first is None or len(first) < 30:
            raise FormatError(
                "Vorbis packets need their headers: the setup with its codebooks, and the identification.",
                remedy="Say where the game keeps them: 'headers', and 'short' and 'long' for the identification.",
            )
        return cls(first, comments, setup)

    @property
    def headers(self) -> tuple[bytes, bytes, bytes]:
        return self.identification, self.comments, self.setup

    @property
    def channels(self) -> int:
        return self.identification[11]

    @property
    def rate(self) -> int:
        return int.from_bytes(self.identification[12:16], "little")

    @property
    def nominal(self) -> int:
        """Bits a second that the encoder meant; 0 where it does not say."""
        return max(int.from_bytes(self.identification[20:24], "little", signed=True), 0)

    def lengths(self, packets: Sequence[bytes]) -> list[int]:
        """Samples that each packet's block has: half of it overlaps with the one before (Vorbis I, 4.3.8)."""
        flags = self._modes()
        sizes = 1 << (self.identification[28] & 15), 1 << (self.identification[28] >> 4)
        bits = (len(flags) - 1).bit_length()
        found = []
        for packet in packets:
            mode = packet[0] >> 1 & (1 << bits) - 1 if packet else 0
            found.append(sizes[flags[min(mode, len(flags) - 1)]])
        return found

    def positions(self, packets: Sequence[bytes]) -> list[int]:
        """Samples that are there after each packet; after the first one none."""
        sizes = np.array(self.lengths(packets), np.int64)
        if not len(sizes):
            return []
        steps = np.concatenate([[0], (sizes[:-1] + sizes[1:]) // 4])
        return [int(one) for one in np.cumsum(steps)]

    def _modes(self) -> list[int]:
        """Which block each mode has. They are the last of the setup, so they are read from its end."""
        bits = np.unpackbits(np.frombuffer(self.setup, np.uint8), bitorder="little")
        ends = np.flatnonzero(bits)
        stop = int(ends[-1]) if len(ends) else 0
        flags: list[int] = []
        found: list[int] = []
        for count in range(1, _MOST_MODES + 1):
            at = stop - _MODE * count
            if at < 6 or bits[at + 1 : at + 33].any():
                break
            flags.insert(0, int(bits[at]))
            if int(np.packbits(bits[at - 6 : at], bitorder="little")[0]) == count - 1:
                found = list(flags)
        if not found:
            raise FormatError("The setup header of these Vorbis packets is damaged: it names no modes.")
        return found


@lru_cache(maxsize=16)
def _settings(rate: int, channels: int) -> list[tuple[float, Stream]]:
    """What the encoder makes of each of its qualities."""
    found = []
    short = Pieces.whole(np.zeros((64, channels)), rate)
    for step in range(21):
        level = step / 20
        found.append((level, Stream.of(ogg.packets_of(packed(short, "OGG", "VORBIS", compression_level=level)))))
    return found


def level_like(original: Stream) -> float:
    """The setting of libsndfile (0 best, 1 smallest) that makes what is nearest to the original."""
    found = exact_level(original)
    if found is not None:
        return found
    return _nearest(_settings(original.rate, original.channels), original) if original.nominal else _USUAL


def exact_level(original: Stream) -> float | None:
    """The setting that makes the very codebooks of the original; None where none does."""
    sizes = original.identification[28]
    same = [
        (level, made)
        for level, made in _settings(original.rate, original.channels)
        if made.setup == original.setup and made.identification[28] == sizes
    ]
    return _nearest(same, original) if same else None


def _nearest(settings: list[tuple[float, Stream]], original: Stream) -> float:
    return min(settings, key=lambda one: abs(one[1].nominal - original.nominal))[0]


def file_of(pieces: Pieces, original: Stream) -> bytes:
    """An Ogg file of samples, as many, in a stream like the original."""
    return packed(pieces, "OGG", "VORBIS", compression_level=level_like(original))
