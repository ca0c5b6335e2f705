"""Music of the desktop edition: a tune of the crossing, as Vorbis, with the loop in its tags."""

from __future__ import annotations

import io
from collections.abc import Iterator

import numpy as np
import soundfile

from brae.core.assets.sound import ogg

RATE = 22050
#: seconds of a beat; half tones above a low D, two beats each, over a slow rowing bass
_BEAT = 0.3
_TUNE = (0, 4, 7, 9, 7, 4, 2, 0, 2, 4, 5, 9, 7, 4, 2, 2)
_BASS = (0, -5, -3, -5)
_TITLE = "The crossing"


def _note(frequency: float, seconds: float) -> np.ndarray:
    t = np.arange(round(seconds * RATE)) / RATE
    tones = sum(np.sin(2 * np.pi * frequency * k * t) / k**1.6 for k in (1, 2, 3))
    return np.asarray(tones * np.minimum(1, t * 60) * np.exp(-t * 2.2))


def _bar() -> np.ndarray:
    """Once through, shape (frames, 2)."""
    step = round(2 * _BEAT * RATE)
    found = np.zeros((step * len(_TUNE) + RATE, 2))
    for place, half in enumerate(_TUNE):
        note = _note(293.66 * 2 ** (half / 12), 1.2)
        found[place * step : place * step + len(note)] += np.outer(note, (0.16, 0.11))
        low = _note(73.42 * 2 ** (_BASS[place // 4] / 12), 0.9)
        found[place * step : place * step + len(low)] += np.outer(low, (0.12, 0.2))
    return found


def tunes() -> Iterator[tuple[str, bytes]]:
    """The tune: an upbeat, then what is played again and again."""
    once = _bar()
    start, length = round(4 * _BEAT * RATE), len(once) - RATE
    samples = np.zeros((start + length, 2))
    # What rings on at the end of one turn is heard at the beginning of the next.
    turn = once[:length].copy()
    turn[:RATE] += once[length:]
    samples[start:] = turn
    samples[:start] = np.outer(np.concatenate([_note(146.83, start / RATE / 2)] * 2)[:start], (0.12, 0.12))
    stream = io.BytesIO()
    with soundfile.SoundFile(stream, "w", RATE, 2, format="OGG", subtype="VORBIS") as file:
        file.title = _TITLE
        file.write(samples)
    headers = ogg.packets_of(stream.getvalue(), 3)
    lines = [f"TITLE={_TITLE}", f"LOOPSTART={start}", f"LOOPLENGTH={length}"]
    said = [len(line).to_bytes(4, "little") + line.encode() for line in lines]
    headers[1] = b"\x03vorbis" + bytes(4) + len(lines).to_bytes(4, "little") + b"".join(said) + b"\1"
    yield "tunes/crossing.ogg", ogg.numbered(ogg.with_headers(stream.getvalue(), headers), 1898)
