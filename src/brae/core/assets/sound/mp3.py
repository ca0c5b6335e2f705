"""MP3 by its frame headers (ISO/IEC 11172-3, 2.4.2.3, and 13818-3 for the lower rates); libsndfile encodes it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from brae.core.assets.sound.library import packed
from brae.core.assets.sound.pieces import Pieces

#: kbit/s of layer III by the header's index; of MPEG-1, and of its two extensions
_RATES_1 = (0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320)
_RATES_2 = (0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160)
#: Hz by the header's index, of MPEG-1; the others have a half and a quarter
_HERTZ = (44_100, 48_000, 32_000)
#: The lowest and the highest kbit/s that libsndfile's "compression level" spans, by the sample rate from which on
#: they hold (its source, from memory; the tests measure what comes out).
_SPAN = ((32_000, 32, 320), (16_000, 8, 160), (0, 8, 64))


@dataclass(frozen=True)
class Frame:
    """What the header of one frame says."""

    rate: int
    channels: int
    kbits: int
    size: int


def frame_at(data: bytes, at: int = 0) -> Frame | None:
    """The frame of layer III that begins at a place; None where none does."""
    head = int.from_bytes(data[at : at + 4], "big")
    version, layer = head >> 19 & 3, head >> 17 & 3
    index, hertz = head >> 12 & 15, head >> 10 & 3
    if at + 4 > len(data) or head >> 21 != 0x7FF or version == 1 or layer != 1 or index in (0, 15) or hertz == 3:
        return None
    kbits = (_RATES_1 if version == 3 else _RATES_2)[index]
    rate = _HERTZ[hertz] >> {3: 0, 2: 1, 0: 2}[version]
    size = (144 if version == 3 else 72) * kbits * 1000 // rate + (head >> 9 & 1)
    return Frame(rate, 1 if head >> 6 & 3 == 3 else 2, kbits, size)


def first_frame(data: bytes) -> tuple[int, Frame] | None:
    """Where the first frame begins, behind a tag (ID3v2) if there is one, where a second one follows it."""
    at = 0
    if data[:3] == b"ID3" and len(data) >= 10 and data[3] < 0x10:
        size = 0
        for byte in data[6:10]:
            size = size << 7 | byte & 127
        at = 10 + size
    found = frame_at(data, at)
    if found is None:
        return None
    after = at + found.size
    if after + 4 <= len(data):
        follows = frame_at(data, after)
        if follows is None or follows.rate != found.rate:
            return None
    return at, found


def looks_like(head: bytes) -> bool:
    """Whether a file that begins like this is MP3."""
    if head[:3] == b"ID3" and len(head) > 10 and 2 <= head[3] <= 4:
        return True
    found = first_frame(head)
    return found is not None and found[0] + found[1].size + 4 <= len(head)


def kbits_of(data: bytes) -> list[int]:
    """How many kbit/s each of the frames has, of the first two thousand."""
    found = first_frame(data)
    rates: list[int] = []
    at = 0 if found is None else found[0]
    while len(rates) < 2000 and (one := frame_at(data, at)) is not None:
        rates.append(one.kbits)
        at += one.size
    return rates


def again(original: bytes, pieces: Pieces) -> bytes:
    """Samples as MP3 of the original's bit rate, steady or on average; a tag at its beginning stays."""
    low, high = next((low, high) for hertz, low, high in _SPAN if pieces.rate >= hertz)
    kbits = kbits_of(original) or [128]
    level = min(max((high - float(np.mean(kbits))) / (high - low), 0.0), 0.99)
    # The first frame is the encoder's own, where it says how many samples there are.
    mode = "AVERAGE" if len(set(kbits[1:])) > 1 else "CONSTANT"
    data = packed(pieces, "MP3", "MPEG_LAYER_III", bitrate_mode=mode, compression_level=level)
    found, new = first_frame(original), first_frame(data)
    if found is None or new is None:
        return data
    return original[: found[0]] + data[new[0] :]
