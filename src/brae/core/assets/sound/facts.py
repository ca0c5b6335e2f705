"""What is said of a sound: in the catalogue, and by a layout."""

from __future__ import annotations

import re
from functools import cached_property
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from brae.core.assets.facts import Fact, Facts
from brae.core.assets.sound import ima, ms
from brae.core.assets.sound.frames import Frames

#: WAVE_FORMAT tags (Microsoft, mmreg.h), and the bits that a sample may have
TAGS = {"pcm": (1, (8, 16, 24, 32)), "float": (3, (32, 64)), "a-law": (6, (8,)), "mu-law": (7, (8,))}
#: ADPCM in blocks, as WAV files have it
BLOCKS = {"ima-adpcm": ima, "ms-adpcm": ms}
#: what each ADPCM asks for
_OWN = {
    "ima-adpcm": {"block", "nibbles"},
    "ms-adpcm": {"block"},
    "adpcm": {"frame", "head", "gain", "filters", "precision", "nibbles"},
}
_GAIN = re.compile(r"\s*(?:(\d+)\s*(-)\s*shift|shift(?:\s*([+-])\s*(\d+))?)\s*")


class SoundFacts(Facts):
    """The facts of a sound."""

    codec: Annotated[str | None, Fact("Codec", case="capitals", facet=True, order="up")] = None
    rate: Annotated[int | None, Fact("Sample rate", unit="Hz", facet=True, order="down")] = None
    channels: Annotated[int | None, Fact("Channels", words={"1": "mono", "2": "stereo"}, facet=True)] = None
    bits: Annotated[int | None, Fact("Bits a sample")] = None
    seconds: Annotated[float | None, Fact("Length", unit="s", order="down")] = None


class SaidSound(BaseModel):
    """What an archive's records can say of a sound: then its bytes are samples and nothing else."""

    model_config = ConfigDict(extra="forbid")
    kind: Literal["sound"] = "sound"
    rate: Annotated[int, Field(ge=1000, le=384_000)]
    channels: Annotated[int, Field(ge=1, le=8)] = 1
    bits: int | None = None
    codec: Literal["pcm", "float", "a-law", "mu-law", "ima-adpcm", "ms-adpcm", "adpcm"] = "pcm"
    endian: Literal["little", "big"] = "little"
    #: of eight bits
    sign: Literal["signed", "unsigned"] = "unsigned"
    #: samples of each channel, where the last block or frame holds some more
    samples: Annotated[int, Field(ge=0, le=1 << 40)] | None = None
    #: first and last sample of what is played again and again; none where the last is not behind the first
    loop_start: Annotated[int, Field(ge=-1, le=1 << 40)] | None = None
    loop_end: Annotated[int, Field(ge=-1, le=1 << 40)] | None = None
    #: bytes of one channel before the next one's; without it one sample, code or frame of each in turn
    interleave: Annotated[int, Field(ge=1, le=1 << 24)] | Literal["whole"] | None = None
    #: bytes of a block of all channels that begins with its state; without it there are none
    block: Annotated[int, Field(ge=8, le=1 << 16)] | None = None
    #: which half of a byte comes first
    nibbles: Literal["low", "high"] = "low"
    #: of ADPCM in frames: the bytes of one, its head's bits, how codes are scaled, and the pairs of its filters
    frame: Annotated[int, Field(ge=2, le=4096)] | None = None
    head: str = "shift 4, filter 4"
    gain: str = "12 - shift"
    filters: str = "0 0"
    precision: Annotated[int, Field(ge=0, le=16)] = 6

    @model_validator(mode="after")
    def _fits(self) -> SaidSound:
        known = TAGS[self.codec][1] if self.codec in TAGS else (4,)
        if self.bits is not None and self.bits not in known:
            raise ValueError(f"{self.codec} has {', '.join(map(str, known))} bits a sample, not {self.bits}")
        own = _OWN.get(self.codec, set())
        other = {"block", "nibbles", "frame", "head", "gain", "filters", "precision"} - own
        for name in sorted(other & self.model_fields_set):
            raise ValueError(f"'{name}' says nothing of {self.codec}")
        if self.codec == "ms-adpcm" and self.block is None:
            raise ValueError("ms-adpcm needs its 'block'")
        if self.block is not None and self.block < 7 * self.channels + 1:
            raise ValueError(f"a block of {self.block} bytes is too short for {self.channels} channels")
        if self.block is not None and self.interleave is not None:
            raise ValueError("a block holds all channels: 'interleave' says nothing of it")
        if self.block is not None and self.codec == "ima-adpcm" and self.block % (4 * self.channels):
            raise ValueError("a block of ima-adpcm holds four bytes of each channel in turn")
        if self.codec == "adpcm":
            _ = self.frames
        return self

    @cached_property
    def frames(self) -> Frames:
        """Its ADPCM in frames; ValueError where that is described wrongly."""
        if self.frame is None:
            raise ValueError("adpcm needs its 'frame': the bytes of one")
        head = tuple(_piece(piece) for piece in self.head.split(","))
        if not {"shift", "filter"} <= {name for name, _ in head} or len({name for name, _ in head}) != len(head):
            raise ValueError("the 'head' needs 'shift' and 'filter', such as 'shift 4, filter 4, flags 8'")
        bits = sum(count for _, count in head)
        if bits % 8 or bits > 56 or bits // 8 >= self.frame:
            raise ValueError(f"a head of {bits} bits is no number of bytes within a frame of {self.frame}")
        found = _GAIN.fullmatch(self.gain)
        if found is None:
            raise ValueError("the 'gain' is a number less the shift, or the shift: '12 - shift', 'shift + 1'")
        base = int(found[1] or found[4] or 0) * (-1 if found[3] == "-" else 1)
        filters = tuple(_pair(pair) for pair in self.filters.split(","))
        low = self.nibbles == "low"
        return Frames(self.frame, head, base, -1 if found[2] else 1, filters, self.precision, low)

    def loops(self, frames: int) -> list[tuple[int, int]]:
        """Its loop in a sound of so many samples, first and last one, both included."""
        if self.loop_start is None and self.loop_end is None:
            return []
        start = self.loop_start or 0
        end = min(frames - 1 if self.loop_end is None else self.loop_end, frames - 1)
        return [(start, end)] if 0 <= start < end else []

    @property
    def packed(self) -> bool:
        """Whether its samples are codes of four bits."""
        return self.codec not in TAGS

    @property
    def name(self) -> str:
        """How its samples are stored, for people; "" where their form tells it."""
        if self.codec == "adpcm":
            return f"ADPCM in frames of {self.frame} bytes"
        blocks = f", blocks of {self.block} bytes" if self.block else ""
        return {"ima-adpcm": "IMA ADPCM", "ms-adpcm": "MS ADPCM"}.get(self.codec, "") + blocks

    @property
    def width(self) -> int:
        """Bytes of a sample as it is heard."""
        if self.packed:
            return 2
        return (self.bits or {"pcm": 16, "float": 32}.get(self.codec, 8)) // 8

    @property
    def turn_by_code(self) -> bool:
        """Whether the channels take turns within a byte."""
        return self.codec == "ima-adpcm" and self.interleave is None and self.channels > 1

    @property
    def turn(self) -> int | None:
        """Bytes of one channel before the next one's; None where each is whole."""
        if self.interleave is not None:
            return None if self.interleave == "whole" else self.interleave
        return self.frame or (1 if self.packed else self.width)

    def length(self, size: int) -> int:
        """Samples of each channel that so many bytes hold."""
        if self.codec == "adpcm":
            found = size // self.channels // self.frames.size * self.frames.per
        elif self.block is not None:
            per = BLOCKS[self.codec].samples_of(self.block, self.channels)
            found = size // self.block * per
        elif self.packed:
            found = 2 * size // self.channels
        else:
            found = size // (self.width * self.channels)
        return found if self.samples is None else min(found, self.samples)


def _piece(text: str) -> tuple[str, int]:
    words = text.split()
    if len(words) != 2 or not words[1].isdigit() or not 1 <= int(words[1]) <= 32:
        raise ValueError(f"'{text.strip()}' is no part of a head: a name and its bits, such as 'shift 4'")
    return words[0], int(words[1])


def _pair(text: str) -> tuple[int, int]:
    try:
        first, second = (int(word) for word in text.split())
    except ValueError:
        raise ValueError(f"'{text.strip()}' is no filter: two numbers, such as '60 0'") from None
    if max(abs(first), abs(second)) > 1 << 20:
        raise ValueError(f"a filter of {first} and {second} is beyond what samples are")
    return first, second
