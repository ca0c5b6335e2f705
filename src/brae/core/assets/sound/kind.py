"""The kind of sounds. WAV by its 'fmt ' chunk (RIFF, Microsoft and IBM 1991; RF64, EBU Tech 3306), AIFF by
'COMM' (Apple 1989), MP3 by its frame headers (ISO/IEC 11172-3), FLAC by STREAMINFO (RFC 9639, 8.2),
Ogg by its first page (RFC 3533) with Vorbis's identification header (Vorbis I, 4.2.2) or Opus's (RFC 7845, 5.1).
"""

from __future__ import annotations

import struct
from collections.abc import Mapping, Sequence
from typing import Annotated, Any, ClassVar, Literal

from pydantic import BaseModel, ConfigDict, Field

from brae.core.assets.base import (
    HEAD,
    AssetKind,
    Change,
    Context,
    Details,
    Encoded,
    Exchange,
    ExchangeFile,
    Head,
    NoWords,
    Preview,
    Query,
    Question,
    Sniffed,
    Version,
    Viewed,
    unknown,
)
from brae.core.assets.facts import Value
from brae.core.assets.sheet import MatchSheet
from brae.core.assets.sound import mp3
from brae.core.assets.sound.facts import SaidSound, SoundFacts
from brae.core.assets.sound.remedies import REMEDIES
from brae.core.assets.track.matching import REMEDIES as WORDS
from brae.core.assets.track.view import SetWords, TrackView, sent_track, view
from brae.core.errors import BraeError, FormatError, LimitError
from brae.core.layouts.library import Library
from brae.core.voices.track import FORMS, Word

#: WAVE_FORMAT tags (Microsoft, mmreg.h)
_CODECS = {1: "pcm", 2: "ms-adpcm", 3: "float", 6: "a-law", 7: "mu-law", 17: "ima-adpcm", 0xFFFE: "extensible"}
#: LUFS that every preview is brought to where it is louder, so that nobody's ears are hurt
SAFE = -23.0
_LARGEST = 1 << 30
#: Seconds in which words are placed while a page waits: the model lets nothing else run for a twentieth of it.
_LONGEST_LINE = 30.0


class SoundQuery(Query):
    """What can be asked of a sound's preview.

    ``which``: also the file as it came back, and what encoding it changed (``lost``).
    ``view``: to hear it, or its waveform or its spectrum as a picture, on an axis of so many ``seconds`` (0: its
    own). ``level``: as loud as it is, brought down to a loudness that hurts nobody, or as loud as the original.
    """

    which: Literal["original", "edit", "painted", "lost"] = "original"
    view: Literal["sound", "wave", "spectrum"] = "sound"
    level: Literal["safe", "true", "equal"] = "safe"
    seconds: Annotated[float, Field(ge=0, le=36_000)] = 0
    #: what is heard: from one second to another, all of it where the second is 0
    start: Annotated[float, Field(ge=0, le=36_000)] = 0
    stop: Annotated[float, Field(ge=0, le=36_000)] = 0
    width: Annotated[int, Field(ge=16, le=2048)] = 256
    height: Annotated[int, Field(ge=16, le=1024)] = 128

    @property
    def small(self) -> bool:
        """Whether it asks for a small picture of the original, which is kept for the next time."""
        return self.which == "original" and self.view == "wave" and self.width <= 512


class SoundRecipe(BaseModel):
    """How a sound is stored."""

    codec: str
    rate: int
    channels: int
    frames: int
    block: int
    loops: list[tuple[int, int]]
    size: int


class SoundDetails(Details):
    """What the page of a sound needs to know of an edit."""

    kind: Literal["sound"] = "sound"
    recipe: SoundRecipe  # type: ignore[assignment]
    loudness: tuple[float | None, float | None, float | None] = (None, None, None)
    snr: float | None = None
    spectral: float | None = None


class EnvelopeQuery(BaseModel):
    """The outlines of original and edit in so many steps, from one second to another; to 0: to the end."""

    model_config = ConfigDict(extra="forbid")

    #: a line for each channel, instead of one for all of them
    apart: bool = False
    steps: Annotated[int, Field(ge=16, le=4096)] = 800
    start: Annotated[float, Field(ge=0, le=36_000)] = 0
    stop: Annotated[float, Field(ge=0, le=36_000)] = 0


class Band(BaseModel):
    """The least and the greatest sample of each step."""

    low: list[float]
    high: list[float]


class Outline(BaseModel):
    """The least and the greatest samples of a sound by steps; loops and cue points in seconds.

    ``first`` is the second at which the first step begins; where a step is less than a sample, each step is one.
    """

    seconds: float
    rate: int
    first: float
    step: float
    channels: int
    #: of all channels, or of each
    bands: list[Band]
    loops: list[tuple[float, float]]
    #: cue points and markers, in seconds
    cues: list[float]
    loudness: float | None
    #: dBTP
    peak: float | None
    codec: str
    #: bits a second
    bit_rate: int
    #: of full scale, beside the middle
    offset: float
    #: seconds of silence at the start and at the end
    silence: tuple[float, float]


class Envelope(BaseModel):
    """Two sounds on one axis."""

    original: Outline
    edit: Outline | None


def type_of(head: bytes) -> str | None:
    """Which file type of sounds begins like this; None for anything else."""
    if head[:4] in (b"RIFF", b"RF64") and head[8:12] == b"WAVE":
        return "wav"
    if head[:4] == b"FORM" and head[8:12] in (b"AIFF", b"AIFC"):
        return "aiff"
    found = {b"OggS": "ogg", b"fLaC": "flac"}.get(head[:4])
    return found or ("mp3" if mp3.looks_like(head) else None)


def facts_of(head: bytes) -> dict[str, Value]:
    """What the beginning of a sound file says; nothing where it is cut off or of another codec."""
    kind = type_of(head)
    try:
        return _SAYS[kind](head) if kind else {}
    except (struct.error, IndexError):
        return {}


def _wav(head: bytes) -> dict[str, Value]:
    found: dict[str, Value] = {}
    at, per_second, whole = 12, 0, 0
    while at + 8 <= len(head):
        name, size = head[at : at + 4], int.from_bytes(head[at + 4 : at + 8], "little")
        if name == b"ds64":
            whole = int.from_bytes(head[at + 16 : at + 24], "little")
        elif name == b"fmt ":
            tag, channels, rate, per_second, _, bits = struct.unpack_from("<HHIIHH", head, at + 8)
            found = {"codec": _CODECS.get(tag, f"{tag:#06x}"), "rate": rate, "channels": channels, "bits": bits}
        elif name == b"data" and per_second:
            found["seconds"] = round((whole if size == 0xFFFFFFFF and whole else size) / per_second, 3)
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


def _aiff(head: bytes) -> dict[str, Value]:
    """By the 'COMM' chunk (Audio Interchange File Format 1.3); its rate is an 80-bit float of SANE."""
    at = 12
    while at + 8 <= len(head):
        name, size = head[at : at + 4], int.from_bytes(head[at + 4 : at + 8], "big")
        if name == b"COMM":
            channels, frames, bits, exponent, digits = struct.unpack_from(">HIHHQ", head, at + 8)
            rate = round(digits * 2.0 ** (exponent - 16383 - 63))
            packing = head[at + 26 : at + 30] if head[8:12] == b"AIFC" else b"NONE"
            codec = _AIFF_CODECS.get(packing, packing.decode("latin-1").strip().lower())
            found: dict[str, Value] = {"codec": codec, "rate": rate, "channels": channels, "bits": bits}
            return found | ({"seconds": round(frames / rate, 3)} if rate else {})
        at += 8 + size + size % 2
    return {}


def _mp3(head: bytes) -> dict[str, Value]:
    found = mp3.first_frame(head)
    return {"codec": "mp3"} | ({} if found is None else {"rate": found[1].rate, "channels": found[1].channels})


_AIFF_CODECS = {
    b"NONE": "pcm", b"sowt": "pcm", b"twos": "pcm", b"in24": "pcm", b"in32": "pcm", b"ima4": "ima-adpcm",
    b"fl32": "float", b"FL32": "float", b"fl64": "float", b"FL64": "float",
    b"ulaw": "mu-law", b"ULAW": "mu-law", b"alaw": "a-law", b"ALAW": "a-law",
}  # fmt: skip
_SAYS = {"wav": _wav, "flac": _flac, "ogg": _ogg, "aiff": _aiff, "mp3": _mp3}


def _envelope(viewed: Viewed[Any], query: EnvelopeQuery, around: object) -> Envelope:
    from brae.core.assets.sound.looking import outline

    longest = max(one.seconds for one in (viewed.original, viewed.edit) if one is not None)
    stop = query.stop if query.stop > query.start else longest
    span = (min(query.start, longest), min(stop, longest))
    return Envelope.model_validate(
        {
            "original": outline(viewed.original, query.steps, *span, apart=query.apart),
            "edit": None if viewed.edit is None else outline(viewed.edit, query.steps, *span, apart=query.apart),
        }
    )


class OnsetsQuery(BaseModel):
    """Where something begins in a sound: in the edit, where there is one."""

    model_config = ConfigDict(extra="forbid")

    which: Literal["original", "edit"] = "edit"


def _onsets(viewed: Viewed[Any], query: OnsetsQuery, around: object) -> list[float]:
    from brae.core.voices.onsets import Edges

    sound = viewed.edit if query.which == "edit" and viewed.edit is not None else viewed.original
    most = round(_LONGEST_LINE * sound.rate)
    return Edges(sound.part(0, min(most, sound.frames)), sound.rate).onsets()


class SpokenQuery(BaseModel):
    """Where the words of a sentence are in a sound: in the edit, where there is one.

    English is placed by an acoustic model, other languages by what can be told of any.
    """

    model_config = ConfigDict(extra="forbid")

    text: Annotated[str, Field(min_length=1, max_length=2000)]
    language: Literal["en", "other"] = "en"
    which: Literal["original", "edit"] = "edit"


class Spoken(BaseModel):
    """A sentence over a sound, and the same as files that other programs read, by their endings."""

    words: tuple[Word, ...]
    said: bool
    notes: tuple[str, ...]
    files: dict[str, str]


def _spoken(viewed: Viewed[Any], query: SpokenQuery, around: object) -> Spoken:
    from brae.core.voices import align, plainly

    sound = viewed.edit if query.which == "edit" and viewed.edit is not None else viewed.original
    if sound.seconds > _LONGEST_LINE:
        raise LimitError(
            f"{sound.seconds:,.0f} s are too long for one line on the page.",
            expected=f"at most {_LONGEST_LINE:.0f} s",
            remedy="Use 'brae align' for it.",
        )
    place = align.align if query.language == "en" else plainly.align
    track = place(sound.samples, sound.rate, query.text)
    files = {suffix: form(track) for suffix, form in FORMS.items()}
    return Spoken(words=track.words, said=track.said, notes=track.notes, files=files)


def _words(viewed: Viewed[Any], query: NoWords, around: object) -> TrackView | None:
    """What its cue points say, where a layout says that they hold words."""
    before = viewed.original.spoken
    return None if before is None else view(before, getattr(viewed.edit, "spoken", None) or before)


def _set(viewed: Viewed[Any], query: SetWords, file: ExchangeFile | None) -> tuple[ExchangeFile, str]:
    from brae.core.assets.sound import spoken
    from brae.core.assets.sound.convert import sent
    from brae.core.assets.sound.sound import read

    if viewed.original.spoken is None:
        raise FormatError(
            "No layout says that the cue points of this sound hold words.", remedy="Write one of kind 'sound'."
        )
    track = sent_track(file)
    data = sent(viewed.original)
    if viewed.version is not None:
        file_ = viewed.version.file
        data = file_.data if type_of(file_.data) == "wav" else sent(read(file_.data, file_.name))
    made = spoken.said_in(data, viewed.original, track)
    return ExchangeFile("sound.wav", made), query.done or "Words and phonemes"


class SoundKind(AssetKind[Any]):
    """Sounds of open formats."""

    id = "sound"
    title, titles = "Sound", "Sounds"
    rank = 20
    facts = SoundFacts
    layout_facts = SaidSound
    exchange = (
        Exchange(".wav", "audio/wav"),
        Exchange(".flac", "audio/flac"),
        Exchange(".ogg", "audio/ogg"),
        *map(Exchange, (".mp3", ".aif", ".aiff", ".opus")),
    )
    remedies: ClassVar[Mapping[Any, str]] = REMEDIES | WORDS
    query = SoundQuery
    preview_media = "audio"
    details = SoundDetails
    questions: ClassVar[Mapping[str, Question]] = {
        "envelope": Question(EnvelopeQuery, Envelope, _envelope),
        "spoken": Question(SpokenQuery, Spoken, _spoken),
        "onsets": Question(OnsetsQuery, list[float], _onsets),
        "words": Question(NoWords, TrackView | None, _words),
    }
    changes: ClassVar[Mapping[str, Change]] = {"set": Change(SetWords, _set)}

    def _spoken(self, sound: Any, layout: Any, name: str) -> Any:
        """A sound with the words that its cue points say, where a layout says so."""
        if layout is None or sound.riff is None or sound.riff.form == b"FORM":
            return sound
        from brae.core.assets.sound.spoken import of

        try:
            return of(sound, layout, name)
        except BraeError:
            return sound  # words that are damaged, or too many: it is heard all the same

    def sniff(self, heads: Sequence[Head], library: Library) -> Sequence[Sniffed | None]:
        types = [type_of(head.data) for head in heads]
        return [
            None if kind is None else Sniffed(kind, facts_of(head.data))
            for kind, head in zip(types, heads, strict=True)
        ]

    def told(self, head: Head, library: Library) -> Sniffed:
        from brae.core.assets.sound.bare import said_sound

        said = said_sound(head.said or {})
        if said is None:
            return super().told(head, library)
        found: dict[str, Value] = {"codec": said.codec, "rate": said.rate, "channels": said.channels}
        if said.codec == "flac":
            found["bits"] = said.bits or 16
        elif not said.in_packets:
            found["bits"] = 4 if said.packed else 8 * said.width
        samples = None if head.size is None else said.length(head.size)
        if samples is not None:
            found["seconds"] = round(samples / said.rate, 3)
        return Sniffed("raw", found)

    def read(self, data: bytes, context: Context) -> Any:
        from brae.core.assets.sound.bare import said_sound, wrapped
        from brae.core.assets.sound.sound import read

        said = said_sound(context.said or {})
        if said is not None:
            elsewhere = said.headers_of(context.name)
            return wrapped(data, said, b"" if elsewhere is None else context.fetch(elsewhere))
        if type_of(data) is None:
            raise unknown("sound")
        layout = context.layout or context.library.recognise(context.name, data[:HEAD], self.id, b"", len(data))
        return self._spoken(read(data), layout, context.name)

    def rebuild(self, asset: Any) -> bytes | None:
        from brae.core.assets.sound import bare

        if asset.bare is not None:
            return bare.again(asset, asset.data)
        return None if asset.riff is None else asset.riff.data

    def weight(self, asset: Any) -> int:
        return len(asset.data) + (0 if asset.long else 8 * int(asset.frames) * int(asset.channels))

    def check_large(self, head: bytes, tail: bytes, size: int, name: str) -> None:
        if size > _LARGEST:
            raise FormatError(
                f"A sound of {size:,} bytes is too large to be edited.", expected=f"at most {_LARGEST:,}"
            )

    def preview(self, viewed: Viewed[Any], query: SoundQuery) -> Preview:
        from brae.core.assets.sound import looking
        from brae.core.assets.sound.sound import read

        sound, span = viewed.original, (query.start, query.stop)
        if query.which == "painted" and viewed.version is not None:
            sound = read(viewed.version.file.data, viewed.version.file.name)
        elif query.which == "edit" and viewed.edit is not None:
            sound = viewed.edit
        if (
            query.which == "lost"
            and viewed.version is not None
            and viewed.edit is not None
            and query.view == "sound"
        ):
            file = viewed.version.file
            came, level = read(file.data, file.name), None if query.level == "true" else SAFE
            lost = looking.heard_lost(viewed.original, came, viewed.edit, viewed.version.remedies, level, span)
            return Preview(lost, "audio/wav")
        if query.view == "wave":
            return Preview(looking.picture(sound, query.width, query.height), "image/png")
        if query.view == "spectrum":
            return Preview(looking.spectrum(sound, query.width, query.height, query.seconds), "image/png")
        if query.level == "equal":
            return Preview(looking.heard_like(sound, viewed.original, SAFE, span), "audio/wav")
        return Preview(looking.heard(sound, SAFE if query.level == "safe" else None, span), "audio/wav")

    def recipe(self, asset: Any) -> SoundRecipe:
        return SoundRecipe(
            codec=asset.codec,
            rate=asset.rate,
            channels=asset.channels,
            frames=asset.frames,
            block=asset.block,
            loops=asset.loops,
            size=asset.size,
        )

    def check_writable(self, asset: Any) -> None:
        from brae.core.assets.sound.convert import check_writable

        check_writable(asset)

    def saved(self, asset: Any, suffix: str) -> bytes:
        from brae.core.assets.sound.convert import saved

        return saved(asset, suffix)

    def send(self, asset: Any) -> ExchangeFile:
        from brae.core.assets.sound.convert import sent

        return ExchangeFile("sound.wav", sent(asset))

    def check_file(self, file: ExchangeFile) -> None:
        from brae.core.assets.sound.sound import read

        try:
            for _ in read(file.data, file.name).pieces():
                pass
        except BraeError as error:
            raise error.at(file.name) from None

    def convert(self, file: ExchangeFile, suffix: str) -> bytes:
        from brae.core.assets.sound.convert import sent
        from brae.core.assets.sound.sound import read

        if suffix != ".wav":
            return super().convert(file, suffix)
        return sent(read(file.data, file.name))

    def match(self, original: Any, version: Version, recipe: Mapping[str, Any]) -> tuple[MatchSheet, Encoded]:
        from brae.core.assets.sound.matching import match
        from brae.core.assets.sound.sound import read

        sheet, data = match(original, read(version.file.data, version.file.name), version.remedies)
        return sheet, Encoded(data)

    def again(self, original: Any, encoded: Encoded) -> Any:
        from brae.core.assets.sound import bare
        from brae.core.assets.sound.sound import read

        if original.bare is not None:
            return bare.reread(original, encoded.data)
        spoken = original.spoken
        return (
            read(encoded.data)
            if spoken is None
            else self._spoken(read(encoded.data), spoken.described, spoken.name)
        )

    def tell(
        self,
        recipe: Mapping[str, Any],
        choices: Mapping[str, Any],
        sheet: Mapping[str, Any] | None,
        beside: Mapping[str, str],
        library: Library,
    ) -> SoundDetails:
        made = sheet or {}
        return SoundDetails(
            recipe=SoundRecipe.model_validate(recipe),
            loudness=made.get("loudness", (None, None, None)),
            snr=made.get("snr"),
            spectral=made.get("spectral"),
        )


KIND = SoundKind()
