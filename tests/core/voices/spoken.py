"""Sentences spoken by espeak-ng (Debian's package), with its own times of words and phonemes as the truth."""

from __future__ import annotations

import ctypes
import ctypes.util
from dataclasses import dataclass, field
from functools import cache

import numpy as np
import pytest

_RETRIEVAL, _PHONEME_EVENTS, _UTF8 = 1, 1, 1
_END, _WORD, _PHONEME = 0, 1, 7


class _Id(ctypes.Union):
    _fields_ = [("number", ctypes.c_int), ("name", ctypes.c_char_p), ("string", ctypes.c_char * 8)]


class _Event(ctypes.Structure):
    """espeak_EVENT of espeak-ng/speak_lib.h."""

    _fields_ = [
        ("type", ctypes.c_int), ("unique", ctypes.c_uint), ("text_position", ctypes.c_int),
        ("length", ctypes.c_int), ("audio_position", ctypes.c_int), ("sample", ctypes.c_int),
        ("user_data", ctypes.c_void_p), ("id", _Id),
    ]  # fmt: skip


@dataclass
class Spoken:
    """A sentence: samples of 16 bits, their rate, and where words and phonemes begin."""

    samples: np.ndarray
    rate: int
    #: word, and its start in seconds
    words: list[tuple[str, float]] = field(default_factory=list)
    #: phoneme as espeak-ng calls it, and its start
    phonemes: list[tuple[str, float]] = field(default_factory=list)


@cache
def _library() -> tuple[ctypes.CDLL, int]:
    name = ctypes.util.find_library("espeak-ng")
    if name is None:
        pytest.skip("espeak-ng is not installed")
    library = ctypes.CDLL(name)
    rate = library.espeak_Initialize(_RETRIEVAL, 0, None, _PHONEME_EVENTS)
    return library, rate


def speak(text: str, voice: str = "en-us", speed: int = 160) -> Spoken:
    """Speak a sentence; skips the test where espeak-ng is not installed."""
    library, rate = _library()
    library.espeak_SetVoiceByName(voice.encode())
    library.espeak_SetParameter(1, speed, 0)
    parts: list[bytes] = []
    found = Spoken(np.empty(0, np.int16), rate)

    kind = ctypes.CFUNCTYPE(ctypes.c_int, ctypes.c_void_p, ctypes.c_int, ctypes.POINTER(_Event))

    def take(wave: int | None, count: int, events: object) -> int:
        if wave and count:
            parts.append(ctypes.string_at(wave, 2 * count))
        at = 0
        while (event := events[at]).type != _END:  # type: ignore[index]
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
