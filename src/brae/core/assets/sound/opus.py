"""Opus (RFC 6716): how long packets last, its header in an Ogg file (RFC 7845), and packets of one size."""

from __future__ import annotations

import struct
from collections.abc import Sequence
from itertools import chain

import numpy as np

from brae.core.assets.sound import ogg
from brae.core.assets.sound.library import packed
from brae.core.assets.sound.pieces import Pieces
from brae.core.errors import FormatError

HEAD, TAGS = b"OpusHead", b"OpusTags"
#: rates that an encoder takes; positions are always counted at the last one
RATES = (8000, 12000, 16000, 24000, 48000)
#: samples at 48 kHz of a frame, by the upper five bits of a packet's first byte (RFC 6716, table 2)
_FRAMES = (480, 960, 1920, 2880) * 3 + (480, 960) * 2 + (120, 240, 480, 960) * 4
#: samples that libopus puts before a sound: 6.5 ms at 48 kHz
AHEAD = 312
#: seconds of a sound by which a setting is found, how often it is halved, and what is added where it is not enough
_TRIED, _TRIES, _MORE = 10, 9, 0.02


def head(channels: int, rate: int, skip: int) -> bytes:
    """The identification header (RFC 7845, 5.1)."""
    return HEAD + struct.pack("<BBHIhB", 1, channels, skip, rate, 0, 0)


def tags() -> bytes:
    """A comment header that says nothing (RFC 7845, 5.2)."""
    return TAGS + struct.pack("<I", 0) + struct.pack("<I", 0)


def skip_of(header: bytes) -> int:
    """Samples at 48 kHz before the sound, as its identification header says."""
    return int.from_bytes(header[10:12], "little")


def positions(packets: Sequence[bytes]) -> list[int]:
    """Samples at 48 kHz after each packet. FormatError where one is empty or its frames are none."""
    total, found = 0, []
    for number, packet in enumerate(packets):
        if not packet:
            raise FormatError(f"Packet {number:,} of this Opus stream is empty.")
        code = packet[0] & 3
        count = (1, 2, 2, packet[1] & 63 if len(packet) > 1 else 0)[code]
        length = count * _FRAMES[packet[0] >> 3]
        if not 0 < length <= 5760:
            raise FormatError(f"Packet {number:,} of this Opus stream holds {count} frames, which are none.")
        total += length
        found.append(total)
    return found


def padded(packet: bytes, size: int) -> bytes:
    """A packet of exactly ``size`` bytes that sounds the same (RFC 6716, 3.2.5). FormatError where it is longer."""
    if len(packet) == size:
        return packet
    if len(packet) > size or not packet or packet[0] & 3:
        raise FormatError(f"A packet of {len(packet)} bytes does not become one of {size}.")
    if len(packet) == size - 1:
        return bytes([packet[0] | 3, 1]) + packet[1:]
    left = size - len(packet) - 2
    lengths = bytes([255]) * (left // 255) + bytes([left % 255])
    # Each 255 stands for 254 bytes and itself.
    return bytes([packet[0] | 3, 0x41]) + lengths + packet[1:] + bytes(left - (len(lengths) - 1))


def encoded(pieces: Pieces, wanted: float, block: int | None, skip: int) -> list[bytes]:
    """Packets of about ``wanted`` bytes each, or of exactly ``block``; ``skip`` samples (48 kHz) stand before them.

    FormatError for rates that Opus has not.
    """
    if pieces.rate not in RATES:
        raise FormatError(f"Opus has no rate of {pieces.rate:,} Hz.", expected=", ".join(map(str, RATES)))
    more = round((skip - AHEAD) * pieces.rate / 48000)
    if more >= 0:
        silence = np.zeros((more, pieces.channels))
        ahead = Pieces(pieces.rate, pieces.channels, lambda: chain([silence], pieces))
    else:
        ahead = pieces.without_first(-more)
    level = _level(ahead, block or wanted, largest=block is not None)
    while True:
        packets = ogg.packets_of(_library(ahead, level))[2:]
        if block is None or level >= 1 or max(map(len, packets)) <= block:
            return packets if block is None else [padded(packet, block) for packet in packets]
        level = min(level + _MORE, 1.0)


def file_of(pieces: Pieces, wanted: float) -> bytes:
    """An Ogg file with packets of about ``wanted`` bytes."""
    return _library(pieces, _level(pieces, wanted, largest=False))


def _library(pieces: Pieces, level: float) -> bytes:
    return packed(pieces, "OGG", "OPUS", compression_level=level)


def _level(pieces: Pieces, wanted: float, *, largest: bool) -> float:
    """The setting of libsndfile (0 best, 1 smallest) with which packets, or the largest, have so many bytes."""
    some = Pieces.whole(pieces.first(_TRIED * pieces.rate), pieces.rate)
    low, high = 0.0, 1.0
    for _ in range(_TRIES):
        level = (low + high) / 2
        sizes = [len(packet) for packet in ogg.packets_of(_library(some, level))[2:]]
        if (max(sizes, default=0) if largest else sum(sizes) / max(len(sizes), 1)) > wanted:
            low = level
        else:
            high = level
    return high
