"""From any sound to what the original's codec takes: rate, channels, loudness, length, and the bits."""

from __future__ import annotations

import io
import struct
import warnings
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from brae.core.assets.sound import ima, mp3, ms, ogg, tagged
from brae.core.assets.sound.loops import moved
from brae.core.assets.sound.riff import Riff, at_rate, markers, with_cues, with_loops, with_spans
from brae.core.assets.sound.riff import cues as cues_of
from brae.core.assets.sound.sound import BITS, Samples, Sound, fact, plain, quantised, stored
from brae.core.errors import FormatError

#: a loudness meter needs at least one block of 400 ms (ITU-R BS.1770-5, annex 1)
_BLOCK = 0.4
#: below this nothing is heard, and there is no loudness to match (BS.1770's absolute gate)
SILENT = -70.0
#: ADPCM and the like: 16 bits before they are packed
_DITHERED = {"PCM_U8": 8, "PCM_S8": 8, "PCM_16": 16, "PCM_24": 24}


def mixed(samples: Samples, channels: int) -> Samples:
    """Another number of channels. Down to mono at -3 dB each (ITU-R BS.775-4, annex 4), up by copies."""
    here = samples.shape[1]
    if here == channels:
        return samples
    if channels == 1:
        # Of two channels that are alike nothing gets louder: the sum of equals is halved.
        return np.asarray(samples.mean(axis=1, keepdims=True))
    if here == 1:
        return np.repeat(samples, channels, axis=1)
    if here == 6 and channels == 2:
        left, right, centre, _, back_left, back_right = samples.T
        part = np.sqrt(0.5)
        return np.stack([left + part * (centre + back_left), right + part * (centre + back_right)], axis=1)
    mono = samples.mean(axis=1, keepdims=True)
    return np.repeat(mono, channels, axis=1)


def heard_of(samples: Samples) -> Samples:
    """The channels that count for loudness: of 5.1 not the fourth, the low-frequency one (BS.1770, annex 1)."""
    return samples[:, [0, 1, 2, 4, 5]] if samples.shape[1] == 6 else samples[:, :5]


def loudness(samples: Samples, rate: int) -> float:
    """LUFS: integrated (ITU-R BS.1770) where the sound is long enough, else of the whole as one block."""
    if not len(samples):
        return -np.inf
    import pyloudnorm

    heard = heard_of(samples)
    if len(heard) < _BLOCK * rate + 1:
        # Shorter than a block: the block is this sound, repeated until it is one.
        heard = np.tile(heard, (int(np.ceil((_BLOCK * rate + 2) / len(heard))), 1))
    with warnings.catch_warnings(), np.errstate(divide="ignore"):
        warnings.simplefilter("ignore")
        return float(pyloudnorm.Meter(rate).integrated_loudness(heard))


def dithered(samples: Samples, bits: int) -> Samples:
    """Noise of two steps, triangular, before bits are lost (TPDF); the same noise every time."""
    random = np.random.default_rng(len(samples))
    noise = random.random(samples.shape) - random.random(samples.shape)
    return samples + noise / (1 << (bits - 1))


@dataclass(frozen=True)
class Made:
    """A sound file made like its original."""

    data: bytes
    #: samples of each channel
    frames: int


def written(
    original: Sound,
    samples: Samples,
    *,
    exact_bits: bool,
    notes: tuple[bytes, bytes] | None = None,
    chunks: Mapping[bytes, bytes] | None = None,
) -> Made:
    """Samples of the original's rate and channels in its codec, with its chunks.

    ``exact_bits``: they have no more bits than the codec, so nothing is dithered. ``notes``: other cue points,
    ``chunks``: others of the file.
    """
    codes = original.bare is not None and original.bare.packed
    bits = None if codes else _DITHERED.get(original.subtype)
    if bits is not None and not exact_bits:
        # Not where no bit is lost: silence, and what an editor saved with more bits and left as it was.
        steps = samples * (1 << (bits - 1))
        samples = np.where(np.abs(steps - np.rint(steps)) < 1e-3, samples, dithered(samples, bits))
    if original.riff is None:
        return Made(_packed(original, samples), len(samples))
    riff = original.riff
    scale = len(samples) / max(original.frames, 1)
    cues = [min(round(sample * scale), max(len(samples) - 1, 0)) for sample in original.cues]
    if riff.form == b"FORM":
        return Made(riff.with_chunks(_aiff(original, riff, samples, cues)).data, len(samples))
    new = {**(chunks or {}), b"data": _wave_data(original, samples)}
    if riff.get(b"fact") is not None:
        new[b"fact"] = fact(len(samples)) + (riff.get(b"fact") or b"")[4:]
    if notes is not None:
        last = max(len(samples) - 1, 0)
        points = with_cues(notes[0], [min(sample, last) for sample in cues_of(notes[0])])
        riff = riff.with_cues(points, notes[1])
    if len(samples) != original.frames:
        smpl, marked = riff.get(b"smpl"), riff.get(b"cue ")
        if smpl is not None and original.loops:
            new[b"smpl"] = with_loops(smpl, loops_of(original, samples))
        if marked is not None and notes is None:
            new[b"cue "] = with_cues(marked, cues)
            riff = riff.each(b"LIST", lambda data: with_spans(data, scale))
    return Made(riff.with_chunks(new).data, len(samples))


def notes_of(original: Sound, came: Sound) -> tuple[bytes, bytes] | None:
    """The cue points that somebody changed in another program, at the original's rate; None where nobody did.

    A file that came back without any was saved by a program that knows none.
    """
    if original.notes is None or came.notes is None or came.notes == original.notes:
        return None
    notes = at_rate(came.notes, came.rate, original.rate)
    return None if notes == original.notes else notes


def loops_of(original: Sound, samples: Samples) -> list[tuple[int, int]]:
    """The original's loops in other samples: moved where there are more or fewer of them.

    Those that the archive tells of samples without a header stay where it says.
    """
    if original.bare is not None:
        return [(start, min(end, len(samples) - 1)) for start, end in original.loops if start < len(samples) - 1]
    if len(samples) == original.frames:
        return original.loops
    return moved(original.loops, original.frames, samples, original.rate)


def _aiff(original: Sound, riff: Riff, samples: Samples, cues: list[int]) -> dict[bytes, bytes]:
    """The chunks of an AIFF file that other samples change (Audio Interchange File Format 1.3 and AIFF-C)."""
    old, common, marks = (riff.get(name) or b"" for name in (b"SSND", b"COMM", b"MARK"))
    if original.subtype in ("ULAW", "ALAW"):
        data = Riff.of(_by_library(samples, original.rate, "AIFF", original.subtype)).get(b"SSND") or b""
        data = data[8:]
    else:
        width = BITS[original.subtype] // 8
        data = stored(samples, original.subtype)
        if common[18:22] != b"sowt":
            data = np.frombuffer(data, np.uint8).reshape(-1, width)[:, ::-1].tobytes()
    begin = 8 + int.from_bytes(old[:4], "big")
    new = {b"SSND": old[:begin] + data, b"COMM": common[:2] + struct.pack(">I", len(samples)) + common[6:]}
    if marks and len(samples) != original.frames:
        result = bytearray(marks)
        for (at, _), sample in zip(markers(marks), cues, strict=True):
            struct.pack_into(">I", result, at, sample)
        new[b"MARK"] = bytes(result)
    return new


def check_writable(sound: Sound) -> None:
    """FormatError for sounds of codecs that are heard, but not written."""
    if sound.packets is not None:
        sound.packets.check_writable()
    elif sound.riff is None:
        if sound.container not in _PACKED:
            raise FormatError(f"{sound.container} files are heard, but not written.")
    elif sound.riff.form == b"FORM":
        if sound.subtype not in (*BITS, "ULAW", "ALAW"):
            raise FormatError(f"AIFF files in {sound.codec} are heard, but not written.")
    elif sound.subtype == "MS_ADPCM" and not ms.is_usual(sound.riff.get(b"fmt ") or b""):
        raise FormatError("This MS ADPCM has coefficients of its own: it is heard, but not written.")
    elif sound.subtype not in (*BITS, "IMA_ADPCM", "ULAW", "ALAW", "MS_ADPCM"):
        raise FormatError(f"Sounds in {sound.codec} are heard, but not written.")


#: files that libsndfile packs anew
_PACKED = ("FLAC", "OGG", "MP3")
#: ADPCM in blocks: blocks that the edit did not change stay
_BLOCKS = {"IMA_ADPCM": ima.encode, "MS_ADPCM": ms.encode}


def _wave_data(original: Sound, samples: Samples) -> bytes:
    """The bytes of a 'data' chunk."""
    if original.subtype in BITS:
        return stored(samples, original.subtype)
    if original.subtype in _BLOCKS and original.block > 7 * original.channels:
        assert original.riff is not None
        old = original.riff.get(b"data") or b""
        return _BLOCKS[original.subtype](quantised(samples, 16).astype(np.int16), original.block, old)
    if original.subtype in ("ULAW", "ALAW"):
        return Riff.of(_by_library(samples, original.rate, "WAV", original.subtype)).get(b"data") or b""
    raise FormatError(f"Sounds in {original.codec} are heard, but not written.")


def _by_library(samples: Samples, rate: int, container: str, subtype: str, **more: Any) -> bytes:
    import soundfile

    stream = io.BytesIO()
    try:
        soundfile.write(stream, samples, rate, format=container, subtype=subtype, **more)
    except (soundfile.LibsndfileError, RuntimeError, TypeError) as error:
        raise FormatError(f"The sound cannot be written as {container} {subtype}: {error}.") from error
    return stream.getvalue()


def _packed(original: Sound, samples: Samples) -> bytes:
    if original.container not in _PACKED:
        raise FormatError(f"{original.container} files are heard, but not written.")
    if original.packets is not None:
        packed: bytes = original.packets.encoded(samples)
        return packed
    if original.container == "MP3":
        return mp3.again(original.data, samples, original.rate, _by_library)
    if original.container == "OGG":
        return tagged.ogg_like(original, samples, loops_of(original, samples))
    if original.container == "FLAC":
        made = _by_library(samples, original.rate, "FLAC", original.subtype)
        return tagged.flac_like(original, made, loops_of(original, samples))
    return _by_library(samples, original.rate, original.container, original.subtype)


def sent_subtype(sound: Sound) -> str:
    """How a sound goes out: with all the bits it has, and as whole numbers where it holds whole numbers."""
    if sound.subtype in ("FLOAT", "DOUBLE"):
        return "FLOAT"
    return "PCM_24" if BITS.get(sound.subtype, 16) > 16 or sound.subtype in ("VORBIS", "OPUS") else "PCM_16"


def sent(sound: Sound) -> bytes:
    """A sound for an editor, as a plain WAVE file with its cue points."""
    return plain(sound.samples, sound.rate, sent_subtype(sound), sound.notes)


#: open files that a sound is saved as, by their endings
_SAVED = {".wav": ("WAV", None), ".flac": ("FLAC", None), ".ogg": ("OGG", "VORBIS")}


def saved(sound: Sound, suffix: str) -> bytes:
    """A sound as an open file: WAVE and FLAC with all its bits, Ogg Vorbis. FormatError for other endings."""
    if suffix not in _SAVED:
        raise FormatError(f"Sounds are not written as '{suffix}'.", expected=", ".join(_SAVED))
    if suffix == ".wav":
        return sent(sound)
    container, subtype = _SAVED[suffix]
    if subtype is None:  # FLAC has no floating point (RFC 9639)
        subtype = "PCM_24" if sent_subtype(sound) != "PCM_16" else "PCM_16"
    data = _by_library(sound.samples, sound.rate, container, subtype)
    return ogg.numbered(data, 1) if container == "OGG" else data
