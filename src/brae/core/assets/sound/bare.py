"""Samples without a header, of which an archive's records say what they are: as a WAVE file, and as bytes again."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, model_validator

from brae.core.assets.base import as_said
from brae.core.assets.facts import Value
from brae.core.assets.sound.riff import Riff, wave
from brae.core.assets.sound.sound import Sound, read

#: WAVE_FORMAT tags (Microsoft, mmreg.h), and the bits that a sample may have
_TAGS = {"pcm": (1, (8, 16, 24, 32)), "float": (3, (32, 64)), "a-law": (6, (8,)), "mu-law": (7, (8,))}


class SaidSound(BaseModel):
    """What an archive's records can say of a sound: then its bytes are samples, interleaved, and nothing else."""

    model_config = ConfigDict(extra="forbid")
    kind: str
    rate: Annotated[int, Field(ge=1000, le=384_000)]
    channels: Annotated[int, Field(ge=1, le=8)] = 1
    bits: int | None = None
    codec: Literal["pcm", "float", "a-law", "mu-law"] = "pcm"
    endian: Literal["little", "big"] = "little"
    #: of eight bits
    sign: Literal["signed", "unsigned"] = "unsigned"

    @model_validator(mode="after")
    def _fits(self) -> SaidSound:
        known = _TAGS[self.codec][1]
        if self.bits is not None and self.bits not in known:
            raise ValueError(f"{self.codec} has {', '.join(map(str, known))} bits a sample, not {self.bits}")
        return self

    @property
    def width(self) -> int:
        """Bytes of a sample."""
        return (self.bits or {"pcm": 16, "float": 32}.get(self.codec, 8)) // 8

    @property
    def frame(self) -> int:
        """Bytes of one sample of all channels."""
        return self.width * self.channels


def said_sound(said: Mapping[str, Value]) -> SaidSound | None:
    """What is said of a sound; None where that is its kind alone. FormatError for what sounds do not have."""
    return as_said(SaidSound, said, "sound")


def wrapped(data: bytes, said: SaidSound) -> Sound:
    """Bare samples as a sound; what is behind the last whole one is kept."""
    whole = data[: len(data) - len(data) % said.frame]
    tag = _TAGS[said.codec][0]
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
