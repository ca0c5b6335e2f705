"""What is said of a sound: in the catalogue, and by a layout."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from brae.core.assets.facts import Fact, Facts

#: WAVE_FORMAT tags (Microsoft, mmreg.h), and the bits that a sample may have
TAGS = {"pcm": (1, (8, 16, 24, 32)), "float": (3, (32, 64)), "a-law": (6, (8,)), "mu-law": (7, (8,))}


class SoundFacts(Facts):
    """The facts of a sound."""

    codec: Annotated[str | None, Fact("Codec", case="capitals", facet=True, order="up")] = None
    rate: Annotated[int | None, Fact("Sample rate", unit="Hz", facet=True, order="down")] = None
    channels: Annotated[int | None, Fact("Channels", words={"1": "mono", "2": "stereo"}, facet=True)] = None
    bits: Annotated[int | None, Fact("Bits a sample")] = None
    seconds: Annotated[float | None, Fact("Length", unit="s", order="down")] = None


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
        known = TAGS[self.codec][1]
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
