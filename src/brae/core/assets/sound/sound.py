"""A sound as it was read, whatever file it is in, and how it is stored."""

from __future__ import annotations

import io
import struct
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
import soundfile

from brae.core.assets.sound import flac
from brae.core.assets.sound.pieces import PIECE, Pieces, Samples
from brae.core.assets.sound.riff import Riff, cues, loops, markers, wave
from brae.core.assets.sound.tags import loops_of
from brae.core.errors import FormatError, LimitError

#: libsndfile's words for how samples are stored, in the trade's
CODECS = {
    "PCM_U8": "PCM", "PCM_S8": "PCM", "PCM_16": "PCM", "PCM_24": "PCM", "PCM_32": "PCM", "FLOAT": "float",
    "DOUBLE": "float", "ULAW": "mu-law", "ALAW": "A-law", "IMA_ADPCM": "IMA ADPCM", "MS_ADPCM": "MS ADPCM",
    "VORBIS": "Vorbis", "OPUS": "Opus", "MPEG_LAYER_III": "MP3",
}  # fmt: skip
BITS = {"PCM_U8": 8, "PCM_S8": 8, "PCM_16": 16, "PCM_24": 24, "PCM_32": 32, "FLOAT": 32, "DOUBLE": 64}
#: samples of all channels that are read at most, that are held at once, and from which on they come in pieces
MOST_SAMPLES, AT_ONCE, LONG = 1_500_000_000, 100_000_000, 8_000_000
#: rates that any game has ever had lie between these (common practice, no source)
_RATES = (1000, 384_000)


@dataclass(frozen=True)
class Sound:
    """A sound file: its bytes, what its header says, and its samples once they are asked for."""

    type: str
    data: bytes
    rate: int
    channels: int
    frames: int
    subtype: str
    #: 'WAV', 'FLAC', 'OGG' ... as libsndfile calls the file
    container: str
    riff: Riff | None = None
    loops: list[tuple[int, int]] = field(default_factory=list)
    #: samples that are marked: cue points, markers
    cues: list[int] = field(default_factory=list)
    #: what the archive says of samples that have no header, and their bytes there
    bare: Any = None
    raw: bytes = b""
    #: of Vorbis and Opus in bare packets: these
    packets: Any = None
    #: the same file with its length, where it does not say it
    sure: bytes = b""
    #: the words and phonemes that its cue points say, as a voice track, where a layout says that they do
    spoken: Any = None

    @property
    def seconds(self) -> float:
        """Its length."""
        return self.frames / self.rate

    @property
    def codec(self) -> str:
        """How its samples are stored, for people."""
        if self.bare is not None and self.bare.name:
            return str(self.bare.name)
        bits = f" {BITS[self.subtype]} bits" if self.subtype in BITS else ""
        return CODECS.get(self.subtype, self.subtype) + bits

    @property
    def size(self) -> int:
        """Its bytes in the archive or the folder."""
        return len(self.data if self.bare is None else self.raw)

    @property
    def length_is_said(self) -> bool:
        """Whether the archive says elsewhere how many samples there are, so that an edit has as many."""
        return self.bare is not None and self.bare.samples is not None

    @property
    def block(self) -> int:
        """Bytes of an ADPCM block."""
        if self.bare is not None:
            return self.bare.block or self.bare.frame or 0
        form = self.riff.get(b"fmt ") if self.riff is not None else None
        return int.from_bytes(form[12:14], "little") if form else 0

    @property
    def notes(self) -> tuple[bytes, bytes] | None:
        """The cue points of a WAVE file, and what is said of them, as its chunks have them."""
        return self.riff.notes if self.riff is not None and self.riff.form != b"FORM" else None

    @cached_property
    def digest(self) -> int:
        """By which its bytes are told from others'."""
        return zlib.crc32(self.data)

    @property
    def long(self) -> bool:
        """Whether it is worked on in pieces."""
        return self.frames * self.channels > LONG

    @cached_property
    def samples(self) -> Samples:
        """Shape (frames, channels), -1 to 1. FormatError where they cannot be decoded, LimitError of too many."""
        if self.frames * self.channels > AT_ONCE:
            raise LimitError(f"{self.seconds:,.0f} s of sound are too many to be held at once.")
        return self._read(0, self.frames)

    def part(self, first: int, last: int) -> Samples:
        """The samples from one to another one."""
        return self._read(first, last) if self.long else self.samples[first:last]

    def pieces(self, first: int = 0, last: int | None = None) -> Pieces:
        """All samples, or those from one to another one, in pieces where the sound has many."""
        stop = self.frames if last is None else min(last, self.frames)
        return Pieces(self.rate, self.channels, lambda: self._pieces(first, stop), is_whole=not self.long)

    def _pieces(self, first: int, last: int) -> Iterator[Samples]:
        if not self.long:
            yield self.samples[first:last]
            return
        with _decoding(), soundfile.SoundFile(io.BytesIO(self.sure or self.data)) as file:
            if first:
                file.seek(first)
            left = last - first
            while left > 0 and len(piece := file.read(min(PIECE, left), dtype="float64", always_2d=True)):
                yield _finite(piece)
                left -= len(piece)

    def _read(self, first: int, last: int) -> Samples:
        with _decoding(), soundfile.SoundFile(io.BytesIO(self.sure or self.data)) as file:
            if first:
                file.seek(first)
            return _finite(file.read(max(last - first, 0), dtype="float64", always_2d=True))


@contextmanager
def _decoding() -> Iterator[None]:
    try:
        yield
    except (soundfile.LibsndfileError, RuntimeError) as error:
        raise FormatError(f"The sound cannot be decoded: {_words(error)}.") from error


def _finite(samples: Samples) -> Samples:
    if not np.isfinite(samples).all():
        return np.nan_to_num(samples, nan=0.0, posinf=1.0, neginf=-1.0)
    return samples


def read(data: bytes, name: str = "") -> Sound:
    """A sound of any open format; FormatError or LimitError where it is none, or damaged."""
    riff = Riff.of(data) if data[:4] in (b"RIFF", b"RF64", b"FORM") else None
    try:
        found = soundfile.info(io.BytesIO(data))
        sure = flac.with_length(data, found.frames)
        if sure is not data:
            found = soundfile.info(io.BytesIO(sure))
    except (soundfile.LibsndfileError, RuntimeError, TypeError) as error:
        raise FormatError(
            f"This is no sound that Brae reads: {_words(error)}.", offset=0, address=name or None
        ) from error
    if not _RATES[0] <= found.samplerate <= _RATES[1]:
        raise FormatError(
            f"A sample rate of {found.samplerate:,} Hz is none.",
            address=name or None,
            expected=f"{_RATES[0]:,} to {_RATES[1]:,} Hz",
        )
    if found.frames * found.channels > MOST_SAMPLES:
        raise LimitError(
            f"{found.duration:,.0f} s of sound are too many to be edited as one.", address=name or None
        )
    smpl = riff.get(b"smpl") if riff is not None else None
    marked = cues(riff.get(b"cue ")) if riff is not None else []
    if riff is not None and riff.form == b"FORM":
        marked = [sample for _, sample in markers(riff.get(b"MARK"))]
    looped = loops(smpl)
    if found.format == "FLAC" or found.subtype == "VORBIS":
        looped = [loop for loop in loops_of(data) if loop[1] < found.frames]
    return Sound(
        {"wavex": "wav", "rf64": "wav"}.get(found.format.lower(), found.format.lower()),
        data,
        found.samplerate,
        found.channels,
        found.frames,
        found.subtype,
        found.format,
        riff,
        looped,
        marked,
        sure=b"" if sure is data else sure,
    )


def _words(error: Exception) -> str:
    return str(getattr(error, "error_string", error)).rstrip(".").strip() or "it is damaged"


def plain(samples: Samples, rate: int, subtype: str = "PCM_16", notes: tuple[bytes, bytes] | None = None) -> bytes:
    """Samples as a plain WAVE file that any program opens: the same bytes every time. ``notes``: its cue points."""
    return plain_of(Pieces.whole(samples, rate), subtype, notes)


def plain_of(pieces: Pieces, subtype: str = "PCM_16", notes: tuple[bytes, bytes] | None = None) -> bytes:
    """The same of samples that come in pieces."""
    data = b"".join(stored(piece, subtype) for piece in pieces)
    tag, bits = (3, 32) if subtype == "FLOAT" else (1, BITS[subtype])
    return wave(data, tag=tag, channels=pieces.channels, rate=pieces.rate, bits=bits, notes=notes)


def quantised(samples: Samples, bits: int) -> np.ndarray[Any, np.dtype[np.int64]]:
    """Whole numbers of so many bits; what is beyond is cut."""
    most = 1 << (bits - 1)
    return np.clip(np.rint(samples * most), -most, most - 1).astype(np.int64)


def stored(samples: Samples, subtype: str) -> bytes:
    """Samples as PCM or floats, little-endian, interleaved."""
    if subtype in ("FLOAT", "DOUBLE"):
        return samples.astype("<f4" if subtype == "FLOAT" else "<f8").tobytes()
    numbers = quantised(samples, BITS[subtype])
    if subtype == "PCM_U8":
        return (numbers + 128).astype(np.uint8).tobytes()
    if subtype == "PCM_24":
        return numbers.astype("<i4").view(np.uint8).reshape(-1, 4)[:, :3].tobytes()
    return numbers.astype({"PCM_S8": "<i1", "PCM_16": "<i2", "PCM_32": "<i4"}[subtype]).tobytes()


def fact(frames: int) -> bytes:
    """The 'fact' chunk of compressed WAVE files: how many samples there are."""
    return struct.pack("<I", frames)
