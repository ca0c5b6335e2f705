"""The kind of sounds. WAV by its 'fmt ' chunk (RIFF, Microsoft and IBM 1991), FLAC by STREAMINFO (RFC 9639, 8.2),
Ogg by its first page (RFC 3533) with Vorbis's identification header (Vorbis I, 4.2.2) or Opus's (RFC 7845, 5.1).
"""

from __future__ import annotations

import struct
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

from brae.core.assets.base import AssetKind, Context, Head, Preview, Query, Sniffed, Viewed, unknown
from brae.core.assets.facts import Fact, Facts, Value
from brae.core.layouts.library import Library

_MEDIA = {"wav": "audio/wav", "ogg": "audio/ogg", "flac": "audio/flac"}
#: WAVE_FORMAT tags (Microsoft, mmreg.h)
_CODECS = {1: "pcm", 2: "ms-adpcm", 3: "float", 6: "a-law", 7: "mu-law", 17: "ima-adpcm", 0xFFFE: "extensible"}


class SoundFacts(Facts):
    """The facts of a sound."""

    codec: Annotated[str | None, Fact("Codec", case="capitals", facet=True, order="up")] = None
    rate: Annotated[int | None, Fact("Sample rate", unit="Hz", facet=True, order="down")] = None
    channels: Annotated[int | None, Fact("Channels", words={"1": "mono", "2": "stereo"}, facet=True)] = None
    bits: Annotated[int | None, Fact("Bits a sample")] = None
    seconds: Annotated[float | None, Fact("Length", unit="s", order="down")] = None


@dataclass(frozen=True)
class Sound:
    """A sound file as it is."""

    type: str
    data: bytes


def type_of(head: bytes) -> str | None:
    """Which file type of sounds begins like this; None for anything else."""
    if head[:4] == b"RIFF" and head[8:12] == b"WAVE":
        return "wav"
    return {b"OggS": "ogg", b"fLaC": "flac"}.get(head[:4])


def facts_of(head: bytes) -> dict[str, Value]:
    """What the beginning of a sound file says; nothing where it is cut off or of another codec."""
    kind = type_of(head)
    try:
        return {"wav": _wav, "flac": _flac, "ogg": _ogg}[kind](head) if kind else {}
    except (struct.error, IndexError):
        return {}


def _wav(head: bytes) -> dict[str, Value]:
    found: dict[str, Value] = {}
    at, per_second = 12, 0
    while at + 8 <= len(head):
        name, size = head[at : at + 4], int.from_bytes(head[at + 4 : at + 8], "little")
        if name == b"fmt ":
            tag, channels, rate, per_second, _, bits = struct.unpack_from("<HHIIHH", head, at + 8)
            found = {"codec": _CODECS.get(tag, f"{tag:#06x}"), "rate": rate, "channels": channels, "bits": bits}
        elif name == b"data" and per_second:
            found["seconds"] = round(size / per_second, 3)
            break
        at += 8 + size + size % 2
    return found


def _flac(head: bytes) -> dict[str, Value]:
    packed = int.from_bytes(head[18:26], "big")  # 20 bits rate, 3 channels, 5 bits a sample, 36 samples
    rate, samples = packed >> 44, packed & ((1 << 36) - 1)
    found: dict[str, Value] = {"codec": "flac", "rate": rate, "channels": (packed >> 41 & 7) + 1}
    found["bits"] = (packed >> 36 & 31) + 1
    if rate and samples:
        found["seconds"] = round(samples / rate, 3)
    return found


def _ogg(head: bytes) -> dict[str, Value]:
    body = head[27 + head[26] :]
    if body[:7] == b"\x01vorbis":
        channels, rate = struct.unpack_from("<BI", body, 11)
        return {"codec": "vorbis", "rate": rate, "channels": channels}
    if body[:8] == b"OpusHead":
        return {"codec": "opus", "rate": 48000, "channels": body[9]}
    return {}


class SoundKind(AssetKind[Sound]):
    """Sounds of open formats."""

    id = "sound"
    title, titles = "Sound", "Sounds"
    rank = 20
    facts = SoundFacts
    preview_media = "audio"

    def sniff(self, heads: Sequence[Head], library: Library) -> Sequence[Sniffed | None]:
        types = [type_of(head.data) for head in heads]
        return [
            None if kind is None else Sniffed(kind, facts_of(head.data))
            for kind, head in zip(types, heads, strict=True)
        ]

    def read(self, data: bytes, context: Context) -> Sound:
        kind = type_of(data)
        if kind is None:
            raise unknown("sound")
        return Sound(kind, data)

    def weight(self, asset: Sound) -> int:
        return len(asset.data)

    def preview(self, viewed: Viewed[Sound], query: Query) -> Preview:
        return Preview(viewed.original.data, _MEDIA[viewed.original.type])


KIND = SoundKind()
