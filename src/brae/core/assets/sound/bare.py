"""Samples without a header, of which an archive's records say what they are: as a WAVE file, and as bytes again."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np

from brae.core.assets.base import as_said
from brae.core.assets.facts import Value
from brae.core.assets.sound.facts import TAGS, SaidSound
from brae.core.assets.sound.riff import Riff, wave
from brae.core.assets.sound.sound import Sound, read


def said_sound(said: Mapping[str, Value]) -> SaidSound | None:
    """What is said of a sound; None where that is its kind alone. FormatError for what sounds do not have."""
    return as_said(SaidSound, said, "sound")


def wrapped(data: bytes, said: SaidSound) -> Sound:
    """Bare samples as a sound; what is behind the last whole one is kept."""
    whole = data[: len(data) - len(data) % said.frame]
    tag = TAGS[said.codec][0]
    file = wave(_turned(whole, said), tag=tag, channels=said.channels, rate=said.rate, bits=8 * said.width)
    return replace(read(file), type="raw", bare=said, behind=data[len(whole) :])


def bare(sound: Sound) -> bytes:
    """The samples of such a sound as they lie in the archive."""
    assert sound.riff is not None
    assert sound.bare is not None
    return _turned(sound.riff.get(b"data") or b"", sound.bare) + sound.behind


def again(original: Sound, file: bytes) -> bytes:
    """A WAVE file that was encoded like such a sound, as bare samples."""
    assert original.bare is not None
    return _turned(Riff.of(file).get(b"data") or b"", original.bare)


def _turned(data: bytes, said: SaidSound) -> bytes:
    """Between a WAVE file's order and sign, and those of the archive; the same both ways."""
    if said.codec == "pcm" and said.width == 1:
        return (np.frombuffer(data, np.uint8) ^ 0x80).tobytes() if said.sign == "signed" else data
    if said.endian == "big" and said.width > 1:
        samples: np.ndarray[Any, Any] = np.frombuffer(data, np.uint8).reshape(-1, said.width)
        return np.ascontiguousarray(samples[:, ::-1]).tobytes()
    return data
