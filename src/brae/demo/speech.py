"""The voices of the demo: by espeak-ng where it is installed (Debian's package), else by a synthesiser of formants.

Formants of vowels: Peterson and Barney, "Control methods used in a study of the vowels" (1952), rounded, from
memory. How long phonemes last and what hisses where is common practice, no source.
"""

from __future__ import annotations

import ctypes
import ctypes.util
import json
import subprocess
import sys
from dataclasses import dataclass, field
from functools import cache
from typing import Any

import numpy as np

RATE = 22050
Samples = np.ndarray[Any, np.dtype[np.int16]]


@dataclass
class Spoken:
    """A sentence: samples of 16 bits, their rate, and where words and phonemes begin."""

    samples: Samples
    rate: int
    #: word, and its start in seconds
    words: list[tuple[str, float]] = field(default_factory=list)
    #: phoneme as espeak-ng calls it, and its start
    phonemes: list[tuple[str, float]] = field(default_factory=list)


# ---- espeak-ng, by its library: the events of espeak-ng/speak_lib.h

_RETRIEVAL, _PHONEME_EVENTS, _UTF8 = 1, 1, 1
_END, _WORD, _PHONEME = 0, 1, 7


class _Id(ctypes.Union):
    _fields_ = [("number", ctypes.c_int), ("name", ctypes.c_char_p), ("string", ctypes.c_char * 8)]


class _Event(ctypes.Structure):
    _fields_ = [
        ("type", ctypes.c_int), ("unique", ctypes.c_uint), ("text_position", ctypes.c_int),
        ("length", ctypes.c_int), ("audio_position", ctypes.c_int), ("sample", ctypes.c_int),
        ("user_data", ctypes.c_void_p), ("id", _Id),
    ]  # fmt: skip


@cache
def _library() -> tuple[Any, int] | None:
    name = ctypes.util.find_library("espeak-ng")
    if name is None:
        return None
    try:
        library = ctypes.CDLL(name)
        rate = library.espeak_Initialize(_RETRIEVAL, 0, None, _PHONEME_EVENTS)
    except (OSError, AttributeError):
        return None
    return (library, rate) if rate > 0 else None


def spoken_by_espeak(text: str, voice: str = "en-us", speed: int = 160) -> Spoken | None:
    """A sentence by espeak-ng; None where it is not installed."""
    found_library = _library()
    if found_library is None:
        return None
    library, rate = found_library
    library.espeak_SetVoiceByName(voice.encode())
    library.espeak_SetParameter(1, speed, 0)
    parts: list[bytes] = []
    found = Spoken(np.empty(0, np.int16), rate)

    kind = ctypes.CFUNCTYPE(ctypes.c_int, ctypes.c_void_p, ctypes.c_int, ctypes.POINTER(_Event))

    def take(wave: int | None, count: int, events: Any) -> int:
        if wave and count:
            parts.append(ctypes.string_at(wave, 2 * count))
        at = 0
        while (event := events[at]).type != _END:
            start = event.sample / rate
            if event.type == _WORD:
                begin = event.text_position - 1
                found.words.append((text[begin : begin + event.length].strip(" ,.!?"), start))
            elif event.type == _PHONEME:
                found.phonemes.append((event.id.string.decode("utf-8", "replace"), start))
            at += 1
        return 0

    callback = kind(take)
    library.espeak_SetSynthCallback(callback)
    data = text.encode()
    library.espeak_Synth(data, len(data) + 1, 0, 0, 0, _UTF8, None, None)
    library.espeak_Synchronize()
    found.samples = np.frombuffer(b"".join(parts), np.int16)
    return found


def _fresh(text: str, voice: str, speed: int) -> Spoken | None:
    """The same in a process of its own: espeak-ng's breath goes by chance, and begins anew with each process."""
    if ctypes.util.find_library("espeak-ng") is None:
        return None
    command = [sys.executable, "-m", __name__, text, voice, str(speed)]
    try:
        made = subprocess.run(command, capture_output=True, timeout=60, check=True)
        told, _, samples = made.stdout.partition(b"\n")
        said = json.loads(told)
    except (OSError, subprocess.SubprocessError, ValueError):
        return None
    words, phonemes = ([(str(name), float(start)) for name, start in said[one]] for one in ("words", "phonemes"))
    return Spoken(np.frombuffer(samples, np.int16), int(said["rate"]), words, phonemes)


# ---- formants

#: of each vowel and voiced sound: three formants in Hz
_FORMANTS = {
    "AA": (730, 1090, 2440), "AE": (660, 1720, 2410), "AH": (640, 1190, 2390), "AO": (570, 840, 2410),
    "EH": (530, 1840, 2480), "ER": (490, 1350, 1690), "IH": (390, 1990, 2550), "IY": (270, 2290, 3010),
    "UH": (440, 1020, 2240), "UW": (300, 870, 2240), "EY": (450, 2050, 2600), "OW": (480, 880, 2400),
    "AY": (700, 1300, 2450), "AW": (690, 1000, 2400), "M": (250, 1000, 2200), "N": (250, 1500, 2300),
    "L": (350, 1100, 2500), "R": (350, 1150, 1600), "W": (300, 700, 2200), "Y": (280, 2200, 2900),
}  # fmt: skip
#: of sounds of breath: the middle and the width of the hiss, in Hz
_HISS = {
    "S": (6000, 2500), "Z": (5500, 2500), "SH": (3200, 1800), "F": (5000, 4000), "V": (4500, 4000),
    "TH": (5500, 4500), "DH": (5000, 4500), "HH": (1500, 1500),
}  # fmt: skip
_VOWELS = {name for name in _FORMANTS if len(name) == 2}


def _length(code: str) -> float:
    if code in _VOWELS:
        return 0.13
    return 0.1 if code in _HISS else 0.07


def _voice(formants: tuple[int, ...], time: np.ndarray[Any, Any], pitch: float) -> np.ndarray[Any, Any]:
    """Harmonics of a pitch, each as strong as the nearest formants make it."""
    signal = np.zeros(len(time))
    for number in range(1, int(4000 / pitch)):
        hertz = pitch * number
        strength = sum(1 / (1 + ((hertz - one) / 90) ** 2) / (1 + place) for place, one in enumerate(formants))
        signal += strength * np.sin(2 * np.pi * hertz * time)
    return signal / 3


def _synthesised(codes: list[list[str]], pitch: float, rng: np.random.Generator) -> tuple[Samples, list[float]]:
    parts, starts, at = [], [], 0.05
    parts.append(np.zeros(int(at * RATE)))
    for word in codes:
        for code in word:
            count = int(_length(code) * RATE)
            time = (at * RATE + np.arange(count)) / RATE
            sound = np.zeros(count)
            if code in _FORMANTS:
                sound += _voice(_FORMANTS[code], time, pitch)
            if code in _HISS:
                middle, wide = _HISS[code]
                spectrum = np.fft.rfft(rng.normal(0, 1, count))
                hertz = np.fft.rfftfreq(count, 1 / RATE)
                sound += 0.4 * np.fft.irfft(spectrum * np.exp(-(((hertz - middle) / wide) ** 2)), count)
            elif code not in _FORMANTS:  # stops: silence, then a burst
                burst = slice(count // 2, count // 2 + RATE // 100)
                sound[burst] = rng.normal(0, 0.3, len(sound[burst]))
            edge = min(int(0.008 * RATE), count // 2)
            sound[:edge] *= np.linspace(0, 1, edge)
            sound[count - edge :] *= np.linspace(1, 0, edge)
            starts.append(at)
            parts.append(sound)
            at += count / RATE
        parts.append(np.zeros(int(0.06 * RATE)))
        at += int(0.06 * RATE) / RATE
    whole = np.concatenate(parts)
    return np.rint(whole / max(np.abs(whole).max(), 1e-9) * 16000).astype(np.int16), starts


# ---- lines


@dataclass(frozen=True)
class Line:
    """What somebody says: each word with its phonemes in ARPABET, a voice and how fast."""

    name: str
    words: tuple[tuple[str, str], ...]
    voice: str
    pitch: float
    speed: int = 150

    @property
    def text(self) -> str:
        """The sentence."""
        return " ".join(word for word, _ in self.words)


LINES = (
    Line(
        "ishbel_1",
        (
            ("rain", "R EY N"), ("again", "AH G EH N"), ("and", "AE N D"), ("three", "TH R IY"),
            ("parcels", "P AA R S AH L Z"), ("at", "AE T"), ("noon", "N UW N"),
        ),
        "en-us+f3", 205,
    ),
    Line(
        "ishbel_2",
        (
            ("the", "DH AH"), ("boat", "B OW T"), ("leaves", "L IY V Z"), ("when", "W EH N"),
            ("bells", "B EH L Z"), ("ring", "R IH N"),
        ),
        "en-us+f3", 205,
    ),
    Line(
        "keeper_1",
        (
            ("put", "P UH T"), ("them", "DH EH M"), ("by", "B AY"), ("the", "DH AH"), ("lamp", "L AE M P"),
            ("and", "AE N D"), ("mind", "M AY N D"), ("the", "DH AH"), ("stairs", "S T EH R Z"),
        ),
        "en-us", 110, 140,
    ),
)  # fmt: skip


def say(line: Line) -> tuple[Samples, int, list[tuple[str, list[tuple[str, float, float]]]]]:
    """A line's samples and rate, and its words with their phonemes, from when to when each is said."""
    codes = [phonemes.split() for _, phonemes in line.words]
    made = _fresh(line.text, line.voice, line.speed)
    if made is not None and [word for word, _ in made.words if word] == line.text.split():
        samples, rate = made.samples, made.rate
        end = len(samples) / rate
        begins = [start for word, start in made.words if word]
        # The pause behind the last word is no part of it.
        last = next((start for name, start in reversed(made.phonemes) if name.startswith("_")), end)
        ends = [*begins[1:], last if last > begins[-1] else end]
        spans = [np.linspace(one, other, len(own) + 1) for one, other, own in zip(begins, ends, codes, strict=True)]
        for number, own in enumerate(codes):
            told = [at for name, at in made.phonemes if begins[number] <= at < ends[number] and name[:1] != "_"]
            edges = np.array([*told, ends[number]])
            if len(told) == len(own) and np.diff(edges).min() > 0.01:  # as many phonemes: espeak-ng's own times
                spans[number] = edges
    else:
        samples, starts = _synthesised(codes, line.pitch, np.random.default_rng(int(line.pitch)))
        rate, spans, at = RATE, [], 0
        for own in codes:
            begun = starts[at : at + len(own)]
            spans.append(np.array([*begun, begun[-1] + _length(own[-1])]))
            at += len(own)
    words = [
        (word, [(code, float(edges[n]), float(edges[n + 1])) for n, code in enumerate(own)])
        for (word, _), own, edges in zip(line.words, codes, spans, strict=True)
    ]
    return samples, rate, words


if __name__ == "__main__":
    spoken = spoken_by_espeak(sys.argv[1], sys.argv[2], int(sys.argv[3]))
    if spoken is None:
        sys.exit(1)
    told = {"rate": spoken.rate, "words": spoken.words, "phonemes": spoken.phonemes}
    sys.stdout.buffer.write(json.dumps(told).encode() + b"\n" + spoken.samples.tobytes())
