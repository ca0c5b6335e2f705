"""What is said of a sound: in the catalogue, and by a layout."""

from __future__ import annotations

import re
from functools import cached_property
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from brae.core.assets.facts import Fact, Facts
from brae.core.assets.sound import ima, ms
from brae.core.assets.sound.bits import Head
from brae.core.assets.sound.frames import Frames
from brae.core.assets.sound.imaruns import WAV_STATE, Runs
from brae.core.assets.sound.opus import AHEAD, RATES
from brae.core.errors import FormatError
from brae.core.layouts.pixels import beside

#: WAVE_FORMAT tags (Microsoft, mmreg.h), and the bits that a sample may have
TAGS = {"pcm": (1, (8, 16, 24, 32)), "float": (3, (32, 64)), "a-law": (6, (8,)), "mu-law": (7, (8,))}
#: ADPCM in blocks, as WAV files have it
BLOCKS = {"ima-adpcm": ima, "ms-adpcm": ms}
#: what each ADPCM asks for
_OWN = {
    "ima-adpcm": {"block", "nibbles", "state", "predictor", "step", "predictor_2", "step_2"},
    "ms-adpcm": {"block"},
    "vorbis": {"packet", "headers", "short", "long", "seek", "seeks"},
    "opus": {"packet", "block", "skip", "seek", "seeks"},
    "adpcm": {"frame", "head", "gain", "filters", "precision", "nibbles", "loop_flag", "repeat_flag"},
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
    codec: Literal[
        "pcm", "float", "a-law", "mu-law", "ima-adpcm", "ms-adpcm", "adpcm", "vorbis", "opus", "flac"
    ] = "pcm"
    endian: Literal["little", "big"] = "little"
    #: of eight bits
    sign: Literal["signed", "unsigned"] = "unsigned"
    #: samples of each channel, where the last block or frame holds some more
    samples: Annotated[int, Field(ge=0, le=1 << 40)] | None = None
    #: samples of each channel that the game has room for: an edit has as many at most
    most: Annotated[int, Field(ge=1, le=1 << 40)] | None = None
    #: bytes that the game has room for
    room: Annotated[int, Field(ge=1, le=1 << 40)] | None = None
    #: first and last sample of what is played again and again; none where the last is not behind the first
    loop_start: Annotated[int, Field(ge=-1, le=1 << 40)] | None = None
    loop_end: Annotated[int, Field(ge=-1, le=1 << 40)] | None = None
    #: bytes of one channel before the next one's; without it one sample, code or frame of each in turn
    interleave: Annotated[int, Field(ge=1, le=1 << 24)] | Literal["whole"] | None = None
    #: bytes of a block of all channels that begins with its state; without it there are none
    block: Annotated[int, Field(ge=2, le=1 << 16)] | None = None
    #: of ima-adpcm: the bits of the state before a block, or before all codes
    state: str | None = None
    #: the state that the archive's records say: of every channel, or of the first and the second one
    predictor: Annotated[int, Field(ge=-32768, le=65535)] | None = None
    step: Annotated[int, Field(ge=0, le=88)] | None = None
    predictor_2: Annotated[int, Field(ge=-32768, le=65535)] | None = None
    step_2: Annotated[int, Field(ge=0, le=88)] | None = None
    #: which half of a byte comes first
    nibbles: Literal["low", "high"] = "low"
    #: of ADPCM in frames: the bytes of one, its head's bits, how codes are scaled, and the pairs of its filters
    frame: Annotated[int, Field(ge=2, le=4096)] | None = None
    head: str = "shift 4, filter 4"
    gain: str = "12 - shift"
    filters: str = "0 0"
    precision: Annotated[int, Field(ge=0, le=16)] = 6
    #: bits of 'flags' in the head: of the first frame that is played again and again, and of the last one then
    loop_flag: Annotated[int, Field(ge=1, le=1 << 31)] | None = None
    repeat_flag: Annotated[int, Field(ge=1, le=1 << 31)] | None = None

    #: of vorbis and opus: the bits of the head before each packet
    packet: str | None = None
    #: of vorbis: 'front', or the item with its headers, with {path}, {folder} and {stem} of this one's name
    headers: str = "front"
    #: samples of a block, where the identification header is nowhere
    short: Annotated[int, Field(ge=64, le=8192)] | None = None
    long: Annotated[int, Field(ge=64, le=8192)] | None = None
    #: of opus: samples at 48 kHz that are not heard at its start
    skip: Annotated[int, Field(ge=0, le=65535)] = AHEAD
    #: the bits of an entry of a table of places at the very front, and how many entries it has
    seek: str | None = None
    seeks: Annotated[int, Field(ge=0, le=1 << 24)] | None = None

    @model_validator(mode="after")
    def _fits(self) -> SaidSound:
        known = TAGS[self.codec][1] if self.codec in TAGS else (8, 16, 24) if self.codec == "flac" else (4,)
        if self.bits is not None and self.bits not in known:
            raise ValueError(f"{self.codec} has {', '.join(map(str, known))} bits a sample, not {self.bits}")
        own = _OWN.get(self.codec, set())
        other = set().union(*_OWN.values()) - own
        for name in sorted(other & self.model_fields_set):
            raise ValueError(f"'{name}' says nothing of {self.codec}")
        if self.codec == "ms-adpcm" and self.block is None:
            raise ValueError("ms-adpcm needs its 'block'")
        if self.state is not None and {"predictor", "step", "predictor_2", "step_2"} & self.model_fields_set:
            raise ValueError("a 'state' that stands before the codes is not said by 'predictor' and 'step' as well")
        if self.in_packets:
            self._check_packets()
        elif self.stated:
            _ = self.runs(0)
        elif self.block is not None:
            if self.block < 7 * self.channels + 1:
                raise ValueError(f"a block of {self.block} bytes is too short for {self.channels} channels")
            if self.interleave is not None:
                raise ValueError("a block holds all channels: 'interleave' says nothing of it")
            if self.codec == "ima-adpcm" and self.block % (4 * self.channels):
                raise ValueError("a block of ima-adpcm holds four bytes of each channel in turn")
        if self.codec == "adpcm":
            _ = self.frames
        return self

    @cached_property
    def frames(self) -> Frames:
        """Its ADPCM in frames; ValueError where that is described wrongly."""
        if self.frame is None:
            raise ValueError("adpcm needs its 'frame': the bytes of one")
        head = Head.of(self.head, {"shift", "filter"}, "shift 4, filter 4, flags 8")
        if head.size >= self.frame:
            raise ValueError(f"a head of {head.size} bytes is not within a frame of {self.frame}")
        found = _GAIN.fullmatch(self.gain)
        if found is None:
            raise ValueError("the 'gain' is a number less the shift, or the shift: '12 - shift', 'shift + 1'")
        base = int(found[1] or found[4] or 0) * (-1 if found[3] == "-" else 1)
        filters = tuple(_pair(pair) for pair in self.filters.split(","))
        if self.loop_flag is not None and not head.bits("flags"):
            raise ValueError("the 'loop_flag' is a bit of 'flags' in the head")
        if self.repeat_flag is not None and self.loop_flag is None:
            raise ValueError("a 'repeat_flag' belongs to a 'loop_flag'")
        low = self.nibbles == "low"
        return Frames(self.frame, head, base, -1 if found[2] else 1, filters, self.precision, low)

    @property
    def in_packets(self) -> bool:
        """Whether it is a stream of packets."""
        return self.codec in ("vorbis", "opus")

    def _check_packets(self) -> None:
        if self.interleave is not None:
            raise ValueError(f"'interleave' says nothing of {self.codec}: a packet holds all channels")
        if (self.packet is None) == (self.block is None):
            raise ValueError(f"{self.codec} needs its 'packet', the head before each: 'size 16'")
        if self.codec == "opus" and (self.rate not in RATES or self.channels > 2):
            raise ValueError(f"bare packets of opus have one or two channels, at {', '.join(map(str, RATES))} Hz")
        if (self.short is None) != (self.long is None):
            raise ValueError("'short' and 'long' are said together")
        if (self.seek is None) != (self.seeks is None):
            raise ValueError("'seek' and 'seeks' are said together: an entry's bits, and how many there are")
        _ = self.packet_head, self.seek_head

    @cached_property
    def packet_head(self) -> Head | None:
        """The head before each packet; None where all have one size."""
        if self.packet is None:
            return None
        needed = "whole" if "whole" in self.packet else "size"
        return Head.of(self.packet, {needed}, "size 16", big=self.endian == "big")

    @cached_property
    def seek_head(self) -> Head | None:
        """An entry of the table of places; None where there is none."""
        return None if self.seek is None else Head.of(self.seek, {"offset"}, "offset 32", big=self.endian == "big")

    def headers_of(self, name: str) -> str | None:
        """The item that holds its headers, by its own name; None where they are in front, or there are none.

        FormatError where it names none.
        """
        if self.codec != "vorbis" or self.headers == "front":
            return None
        try:
            return beside(self.headers, name)
        except (KeyError, ValueError, IndexError):
            raise FormatError(f"'{self.headers}' is no name: with {{path}}, {{folder}} and {{stem}}.") from None

    @property
    def stated(self) -> bool:
        """Whether it is IMA ADPCM whose channels lie each by itself, unlike in the blocks of WAV files."""
        in_blocks = self.block is not None and self.state is None and self.interleave is None
        return self.codec == "ima-adpcm" and not in_blocks

    def runs(self, channel: int) -> Runs:
        """How a channel's codes begin; ValueError where that is described wrongly."""
        if self.block is not None or self.state is not None:
            text = self.state or WAV_STATE
            name = "sample" if "sample" in text else "predictor"
            head = Head.of(text, {name, "step"}, WAV_STATE, big=self.endian == "big")
            if self.block is not None and self.block <= head.size:
                raise ValueError(f"a block of {self.block} bytes has no room behind a state of {head.size}")
            return Runs(head)
        value, index = self.predictor or 0, self.step or 0
        if channel:
            value = value if self.predictor_2 is None else self.predictor_2
            index = index if self.step_2 is None else self.step_2
        return Runs(None, ((value & 0xFFFF ^ 0x8000) - 0x8000, index))

    @property
    def longest(self) -> int | None:
        """Samples of each channel that there is room for; None where nobody says, or packets differ in size."""
        fits = None if self.room is None else self.model_copy(update={"samples": None}).length(self.room)
        return min((one for one in (self.most, fits) if one is not None), default=None)

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
        names = {
            "ima-adpcm": "IMA ADPCM",
            "ms-adpcm": "MS ADPCM",
            "vorbis": "Vorbis",
            "opus": "Opus",
            "flac": "FLAC",
        }
        return names.get(self.codec, "") + blocks

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
        return self.frame or (self.block if self.stated else None) or (1 if self.packed else self.width)

    def length(self, size: int) -> int | None:
        """Samples of each channel that so many bytes hold; None where only their packets tell."""
        if self.in_packets or self.codec == "flac":
            return self.samples
        if self.codec == "adpcm":
            found = size // self.channels // self.frames.size * self.frames.per
        elif self.stated:
            found = self._stated_length(size)
        elif self.block is not None:
            per = BLOCKS[self.codec].samples_of(self.block, self.channels)
            found = size // self.block * per
        elif self.packed:
            found = 2 * size // self.channels
        else:
            found = size // (self.width * self.channels)
        return found if self.samples is None else min(found, self.samples)

    def _stated_length(self, size: int) -> int:
        runs = self.runs(0)
        head = runs.head.size if runs.head is not None else 0
        if self.block is not None:
            return size // self.channels // self.block * (2 * (self.block - head) + runs.heard)
        return max(2 * (size // self.channels - head), 0) + runs.heard


def _pair(text: str) -> tuple[int, int]:
    try:
        first, second = (int(word) for word in text.split())
    except ValueError:
        raise ValueError(f"'{text.strip()}' is no filter: two numbers, such as '60 0'") from None
    if max(abs(first), abs(second)) > 1 << 20:
        raise ValueError(f"a filter of {first} and {second} is beyond what samples are")
    return first, second
