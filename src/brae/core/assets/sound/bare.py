"""Samples without a header, of which an archive's records say what they are: as a WAVE file, and as bytes again."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np

from brae.core.assets.base import as_said
from brae.core.assets.facts import Value
from brae.core.assets.sound import ima
from brae.core.assets.sound.facts import BLOCKS, TAGS, SaidSound
from brae.core.assets.sound.planes import join, split
from brae.core.assets.sound.riff import Riff, wave
from brae.core.assets.sound.sound import Sound, read
from brae.core.errors import FormatError

Numbers = np.ndarray[Any, Any]


def said_sound(said: Mapping[str, Value]) -> SaidSound | None:
    """What is said of a sound; None where that is its kind alone. FormatError for what sounds do not have."""
    return as_said(SaidSound, said, "sound")


def wrapped(data: bytes, said: SaidSound) -> Sound:
    """Bare samples as a sound. FormatError where there are fewer than are said."""
    frame = said.width * said.channels
    if said.packed:
        heard = _decoded(data, said).astype("<i2").tobytes()
    else:
        planes, _ = split(data, said.channels, said.turn)
        whole = len(planes[0]) - len(planes[0]) % said.width
        heard = _turned(join([plane[:whole] for plane in planes], said.width), said)
    if said.samples is not None:
        if len(heard) < said.samples * frame:
            raise FormatError(
                f"{said.samples:,} samples are said, but there are {len(heard) // frame:,}.",
                remedy="The layout may mean other samples, or those of all channels together.",
            )
        heard = heard[: said.samples * frame]
    tag = 1 if said.packed else TAGS[said.codec][0]
    file = wave(heard, tag=tag, channels=said.channels, rate=said.rate, bits=8 * said.width)
    sound = read(file)
    return replace(sound, type="raw", bare=said, raw=data, loops=said.loops(sound.frames))


def again(original: Sound, file: bytes) -> bytes:
    """A WAVE file with the samples of such a sound, or of an edit of it, as they lie in the archive.

    Blocks, frames and codes that the edit did not change stay, and so does what no sample explains.
    """
    said: SaidSound = original.bare
    heard = Riff.of(file).get(b"data") or b""
    if said.packed:
        return _encoded(np.frombuffer(heard, "<i2").reshape(-1, said.channels), said, original.raw)
    planes, rest = split(original.raw, said.channels, said.turn)
    frame = said.width * said.channels
    new = split(_turned(heard[: len(heard) // frame * frame], said), said.channels, said.width)[0]
    if said.samples is not None:
        # What is said to be no sample any more.
        new = [one + plane[len(one) :] for one, plane in zip(new, planes, strict=True)]
    else:
        ends = [plane[len(plane) - len(plane) % said.width :] for plane in planes]
        new = [one + end for one, end in zip(new, ends, strict=True)]
    return join(new, said.turn) + rest


def _decoded(data: bytes, said: SaidSound) -> Numbers:
    """Codes of four bits as samples of 16, shape (frames, channels)."""
    if said.block is not None:
        return BLOCKS[said.codec].decode(data, said.block, said.channels)
    if said.codec == "adpcm":
        planes, _ = split(data, said.channels, said.turn)
        return np.stack([said.frames.decode(plane) for plane in planes], axis=1)
    return np.stack([ima.decode_run(codes) for codes in _codes(data, said)], axis=1)


def _encoded(samples: Numbers, said: SaidSound, old: bytes) -> bytes:
    if said.samples is not None:
        samples = np.concatenate([samples, _decoded(old, said)[len(samples) :]])
    if said.block is not None:
        made = BLOCKS[said.codec].encode(samples, said.block, old)
        return made + old[len(old) // said.block * said.block :]
    planes, rest = split(old, said.channels, said.turn)
    channels = range(said.channels)
    if said.codec == "adpcm":
        ends = [plane[len(plane) // said.frame * said.frame :] for plane in planes]  # type: ignore[operator]
        made_ = [said.frames.encode(samples[:, channel], planes[channel]) + ends[channel] for channel in channels]
        return join(made_, said.turn) + rest
    before = _codes(old, said)
    codes = [ima.encode_run(samples[:, channel], before[channel]) for channel in channels]
    if said.turn_by_code:
        return _bytes(np.concatenate([np.stack(codes, axis=1).reshape(-1), _left(old, said)]), said)
    return join([_bytes(one, said) for one in codes], said.turn) + rest


def _codes(data: bytes, said: SaidSound) -> list[Numbers]:
    """Each channel's codes of four bits, where they have no headers."""
    if said.turn_by_code:
        every = _nibbles(data, said)
        whole = every[: len(every) - len(_left(data, said))].reshape(-1, said.channels)
        return [np.ascontiguousarray(whole[:, channel]) for channel in range(said.channels)]
    return [_nibbles(plane, said) for plane in split(data, said.channels, said.turn)[0]]


def _left(data: bytes, said: SaidSound) -> Numbers:
    """Codes behind the last that all channels have."""
    every = _nibbles(data, said)
    return every[len(every) // said.channels * said.channels :]


def _nibbles(data: bytes, said: SaidSound) -> Numbers:
    raw = np.frombuffer(data, np.uint8)
    halves = (raw & 15, raw >> 4) if said.nibbles == "low" else (raw >> 4, raw & 15)
    return np.stack(halves, axis=1).reshape(-1)


def _bytes(codes: Numbers, said: SaidSound) -> bytes:
    pairs = np.concatenate([codes, np.zeros(len(codes) % 2, np.uint8)]).astype(np.uint8).reshape(-1, 2)
    first, second = (pairs[:, 0], pairs[:, 1]) if said.nibbles == "low" else (pairs[:, 1], pairs[:, 0])
    return (first | second << 4).astype(np.uint8).tobytes()


def _turned(data: bytes, said: SaidSound) -> bytes:
    """Between a WAVE file's order and sign, and those of the archive; the same both ways."""
    if said.codec == "pcm" and said.width == 1:
        return (np.frombuffer(data, np.uint8) ^ 0x80).tobytes() if said.sign == "signed" else data
    if said.endian == "big" and said.width > 1:
        samples: Numbers = np.frombuffer(data, np.uint8).reshape(-1, said.width)
        return np.ascontiguousarray(samples[:, ::-1]).tobytes()
    return data
