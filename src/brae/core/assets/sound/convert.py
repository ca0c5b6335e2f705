"""From any sound to what the original's codec takes: rate, channels, loudness, length, and the bits."""

from __future__ import annotations

import struct
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from brae.core.assets.sound import ima, mp3, ms, ogg, tagged
from brae.core.assets.sound.library import packed
from brae.core.assets.sound.loops import Loop, moved
from brae.core.assets.sound.pieces import Pieces, Samples
from brae.core.assets.sound.riff import Riff, at_rate, markers, with_cues, with_loops, with_spans
from brae.core.assets.sound.riff import cues as cues_of
from brae.core.assets.sound.sound import BITS, Sound, fact, plain_of, quantised, stored
from brae.core.errors import FormatError

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


def dithered(pieces: Pieces, bits: int, seed: int) -> Pieces:
    """Noise of two steps, triangular, before bits are lost (TPDF); the same noise every time.

    Not where no bit is lost: silence, and what an editor saved with more bits and left as it was.
    """

    def noisy() -> Iterator[Samples]:
        random = np.random.default_rng(seed)
        for piece in pieces:
            steps = piece * (1 << (bits - 1))
            noise = random.random(piece.shape) - random.random(piece.shape)
            whole = np.abs(steps - np.rint(steps)) < 1e-3
            yield np.where(whole, piece, piece + noise / (1 << (bits - 1)))

    return Pieces(pieces.rate, pieces.channels, noisy)


@dataclass(frozen=True)
class Made:
    """A sound file made like its original."""

    data: bytes
    #: samples of each channel
    frames: int


def written(
    original: Sound,
    pieces: Pieces,
    frames: int,
    loops: list[Loop],
    *,
    exact_bits: bool,
    notes: tuple[bytes, bytes] | None = None,
    chunks: Mapping[bytes, bytes] | None = None,
) -> Made:
    """Samples of the original's rate and channels, so many, in its codec, with its chunks; ``loops`` of them.

    ``exact_bits``: they have no more bits than the codec, so nothing is dithered. ``notes``: other cue points,
    ``chunks``: others of the file.
    """
    codes = original.bare is not None and original.bare.packed
    bits = None if codes else _DITHERED.get(original.subtype)
    if bits is not None and not exact_bits:
        pieces = dithered(pieces, bits, frames)
    if original.riff is None:
        return Made(_packed(original, pieces, loops), frames)
    riff = original.riff
    scale = frames / max(original.frames, 1)
    cues = [min(round(sample * scale), max(frames - 1, 0)) for sample in original.cues]
    if riff.form == b"FORM":
        return Made(riff.with_chunks(_aiff(original, riff, pieces, frames, cues)).data, frames)
    new = {**(chunks or {}), b"data": _wave_data(original, pieces)}
    if riff.get(b"fact") is not None:
        new[b"fact"] = fact(frames) + (riff.get(b"fact") or b"")[4:]
    if notes is not None:
        last = max(frames - 1, 0)
        points = with_cues(notes[0], [min(sample, last) for sample in cues_of(notes[0])])
        riff = riff.with_cues(points, notes[1])
    if frames != original.frames:
        smpl, marked = riff.get(b"smpl"), riff.get(b"cue ")
        if smpl is not None and original.loops:
            new[b"smpl"] = with_loops(smpl, loops)
        if marked is not None and notes is None:
            new[b"cue "] = with_cues(marked, cues)
            riff = riff.each(b"LIST", lambda data: with_spans(data, scale))
    return Made(riff.with_chunks(new).data, frames)


def notes_of(original: Sound, came: Sound) -> tuple[bytes, bytes] | None:
    """The cue points that somebody changed in another program, at the original's rate; None where nobody did.

    A file that came back without any was saved by a program that knows none.
    """
    if original.notes is None or came.notes is None or came.notes == original.notes:
        return None
    notes = at_rate(came.notes, came.rate, original.rate)
    return None if notes == original.notes else notes


def loops_of(original: Sound, samples: Samples) -> list[Loop]:
    """The original's loops in other samples: moved where there are more or fewer of them.

    Those that the archive tells of samples without a header stay where it says.
    """
    if original.bare is not None or len(samples) == original.frames:
        return plain_loops_of(original, len(samples))
    return moved(original.loops, original.frames, samples, original.rate)


def plain_loops_of(original: Sound, frames: int) -> list[Loop]:
    """The same for so many samples that are not looked at: in proportion."""
    last = frames - 1
    if original.bare is not None and original.bare.loop_flag is None:
        return [(start, min(end, last)) for start, end in original.loops if start < last]
    if frames == original.frames:
        return original.loops
    scale = frames / max(original.frames, 1)
    return [(min(round(start * scale), last), min(round(end * scale), last)) for start, end in original.loops]


def _aiff(original: Sound, riff: Riff, pieces: Pieces, frames: int, cues: list[int]) -> dict[bytes, bytes]:
    """The chunks of an AIFF file that other samples change (Audio Interchange File Format 1.3 and AIFF-C)."""
    old, common, marks = (riff.get(name) or b"" for name in (b"SSND", b"COMM", b"MARK"))
    if original.subtype in ("ULAW", "ALAW"):
        data = Riff.of(packed(pieces, "AIFF", original.subtype)).get(b"SSND") or b""
        data = data[8:]
    else:
        width = BITS[original.subtype] // 8
        data = b"".join(stored(piece, original.subtype) for piece in pieces)
        if common[18:22] != b"sowt":
            data = np.frombuffer(data, np.uint8).reshape(-1, width)[:, ::-1].tobytes()
    begin = 8 + int.from_bytes(old[:4], "big")
    new = {b"SSND": old[:begin] + data, b"COMM": common[:2] + struct.pack(">I", frames) + common[6:]}
    if marks and frames != original.frames:
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
_BLOCKS: dict[str, Any] = {"IMA_ADPCM": ima, "MS_ADPCM": ms}


def _wave_data(original: Sound, pieces: Pieces) -> bytes:
    """The bytes of a 'data' chunk."""
    if original.subtype in BITS:
        return b"".join(stored(piece, original.subtype) for piece in pieces)
    if original.subtype in _BLOCKS and original.block > 7 * original.channels:
        assert original.riff is not None
        return b"".join(_in_blocks(original, pieces, original.riff.get(b"data") or b""))
    if original.subtype in ("ULAW", "ALAW"):
        return Riff.of(packed(pieces, "WAV", original.subtype)).get(b"data") or b""
    raise FormatError(f"Sounds in {original.codec} are heard, but not written.")


def _in_blocks(original: Sound, pieces: Pieces, old: bytes) -> Iterator[bytes]:
    """Blocks of ADPCM: all of one piece, whole ones of each of many."""
    codec, block = _BLOCKS[original.subtype], original.block
    per = codec.samples_of(block, original.channels)
    held = np.zeros((0, original.channels), np.int16)
    at, begun = 0, False
    for piece in pieces:
        if len(held) and begun:
            whole = len(held) // per * per
            yield codec.encode(held[:whole], block, old[at : at + whole // per * block]) if whole else b""
            at, held = at + whole // per * block, held[whole:]
        held = np.concatenate([held, quantised(piece, 16).astype(np.int16)])
        begun = True
    if len(held) or not at:
        yield codec.encode(held, block, old[at:])


def _packed(original: Sound, pieces: Pieces, loops: list[Loop]) -> bytes:
    if original.container not in _PACKED:
        raise FormatError(f"{original.container} files are heard, but not written.")
    if original.packets is not None:
        made: bytes = original.packets.encoded(pieces)
        return made
    if original.container == "MP3":
        return mp3.again(original.data, pieces)
    if original.container == "OGG":
        return tagged.ogg_like(original, pieces, loops)
    return tagged.flac_like(original, packed(pieces, "FLAC", original.subtype), loops)


def sent_subtype(sound: Sound) -> str:
    """How a sound goes out: with all the bits it has, and as whole numbers where it holds whole numbers."""
    if sound.subtype in ("FLOAT", "DOUBLE"):
        return "FLOAT"
    return "PCM_24" if BITS.get(sound.subtype, 16) > 16 or sound.subtype in ("VORBIS", "OPUS") else "PCM_16"


def sent(sound: Sound) -> bytes:
    """A sound for an editor, as a plain WAVE file with its cue points."""
    return plain_of(sound.pieces(), sent_subtype(sound), sound.notes)


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
    data = packed(sound.pieces(), container, subtype)
    return ogg.numbered(data, 1) if container == "OGG" else data
