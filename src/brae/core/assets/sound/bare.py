"""Samples without a header, of which an archive's records say what they are: as a WAVE file, and as bytes again."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np

from brae.core.assets.base import as_said
from brae.core.assets.facts import Value
from brae.core.assets.sound.facts import BLOCKS, TAGS, SaidSound
from brae.core.assets.sound.flac import frames_of, headed
from brae.core.assets.sound.imaruns import Run
from brae.core.assets.sound.packets import taken_apart
from brae.core.assets.sound.planes import join, split
from brae.core.assets.sound.riff import Riff, wave
from brae.core.assets.sound.sound import Sound, read
from brae.core.errors import FormatError

Numbers = np.ndarray[Any, Any]


def said_sound(said: Mapping[str, Value]) -> SaidSound | None:
    """What is said of a sound; None where that is its kind alone. FormatError for what sounds do not have."""
    return as_said(SaidSound, said, "sound")


def wrapped(data: bytes, said: SaidSound, headers: bytes = b"") -> Sound:
    """Bare samples as a sound; ``headers``: of Vorbis, where another item holds them.

    FormatError where there are fewer than are said.
    """
    if said.in_packets:
        packets = taken_apart(data, said, headers)
        sound = read(packets.ogg())
        return replace(sound, type="raw", bare=said, raw=data, packets=packets, loops=said.loops(sound.frames))
    if said.codec == "flac":
        if not 0 <= (said.samples or 0) < 1 << 36:
            raise FormatError(f"{said.samples:,} samples are more than FLAC counts.")
        sound = read(headed(data, said.rate, said.channels, said.bits or 16, said.samples or 0))
        return replace(sound, type="raw", bare=said, raw=data, loops=said.loops(sound.frames))
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
    looped = said.loops(sound.frames)
    if said.loop_flag is not None:
        found = said.frames.loop(split(data, said.channels, said.turn)[0][0], said.loop_flag, said.repeat_flag)
        looped = [] if found is None else [(found[0], min(found[1], sound.frames - 1))]
    return replace(sound, type="raw", bare=said, raw=data, loops=looped)


def reread(original: Sound, data: bytes) -> Sound:
    """Other bytes in the place of such a sound's."""
    packets = original.packets
    headers = b"" if packets is None or packets.stream is None else b"".join(packets.stream.headers)
    return wrapped(data, original.bare, headers)


def again(original: Sound, file: bytes) -> bytes:
    """A WAVE (or Ogg) file with the samples of such a sound, or of an edit of it, as they lie in the archive.

    Blocks, frames and codes that the edit did not change stay, and so does what no sample explains.
    """
    said: SaidSound = original.bare
    if original.packets is not None:
        made: bytes = original.packets.again(file)
        return made
    if said.codec == "flac":
        return frames_of(file)
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
    if said.codec == "adpcm":
        planes, _ = split(data, said.channels, said.turn)
        return np.stack([said.frames.decode(plane) for plane in planes], axis=1)
    if said.stated:
        runs = _runs(data, said)
        return np.stack([said.runs(channel).decode(run) for channel, run in enumerate(runs)], axis=1)
    assert said.block is not None
    return BLOCKS[said.codec].decode(data, said.block, said.channels)


def _encoded(samples: Numbers, said: SaidSound, old: bytes) -> bytes:
    if said.samples is not None:
        samples = np.concatenate([samples, _decoded(old, said)[len(samples) :]])
    if said.stated:
        before = _runs(old, said)
        per = before[0].codes.shape[1] if said.block is not None else None
        made = [said.runs(channel).encode(samples[:, channel], run, per) for channel, run in enumerate(before)]
        return _stated(made, said, old)
    if said.block is not None:
        blocks = BLOCKS[said.codec].encode(samples, said.block, old)
        return blocks + old[len(old) // said.block * said.block :]
    planes, rest = split(old, said.channels, said.turn)
    return join([_framed(samples[:, c], said, plane) for c, plane in enumerate(planes)], said.turn) + rest


def _framed(samples: Numbers, said: SaidSound, old: bytes) -> bytes:
    """One channel as frames; the mark of a loop moves in proportion where there are more or fewer of them."""
    frames, size = said.frames, said.frames.size
    made = frames.encode(samples, old)
    if said.loop_flag is not None and len(made) != len(old) // size * size:
        before = frames.loop(old, said.loop_flag, None)
        if before is not None:
            first = round(before[0] * len(made) / max(len(old) // size * size, 1))
            made = frames.with_loop(made, said.loop_flag, first)
    return made + old[len(old) // size * size :]


def _runs(data: bytes, said: SaidSound) -> list[Run]:
    """Each channel's codes of IMA ADPCM, and the heads that stand before them."""
    head = said.runs(0).head
    if said.block is not None or (head is not None and said.interleave == "whole"):
        assert head is not None
        found = []
        for plane in split(data, said.channels, said.turn)[0]:
            block = said.block or len(plane)
            if len(plane) < head.size:
                raise FormatError(f"A channel of {len(plane)} bytes has no room for its state of {head.size}.")
            rows = np.frombuffer(plane, np.uint8)[: len(plane) // block * block].reshape(-1, block)
            found.append(Run(head.numbers(rows), _nibbles(rows[:, head.size :], said)))
        return found
    front = _front(said)
    if len(data) < front:
        raise FormatError(f"{len(data)} bytes have no room for a state of {front}.")
    rows = np.frombuffer(data, np.uint8)[:front].reshape(said.channels, -1)
    heads = np.zeros(said.channels, np.int64) if head is None else head.numbers(rows)
    data = data[front:]
    if said.turn_by_code:
        every = _nibbles(np.frombuffer(data, np.uint8)[None], said)[0]
        whole = every[: len(every) // said.channels * said.channels].reshape(-1, said.channels)
        codes = [np.ascontiguousarray(whole[:, channel])[None] for channel in range(said.channels)]
    else:
        planes = split(data, said.channels, said.turn)[0]
        codes = [_nibbles(np.frombuffer(plane, np.uint8)[None], said) for plane in planes]
    return [Run(heads[channel : channel + 1], one) for channel, one in enumerate(codes)]


def _stated(runs: list[Run], said: SaidSound, old: bytes) -> bytes:
    """The inverse; what no code explains is the original's."""
    head = said.runs(0).head
    if said.block is not None or (head is not None and said.interleave == "whole"):
        assert head is not None
        planes, rest = split(old, said.channels, said.turn)
        made = []
        for run, plane in zip(runs, planes, strict=True):
            left = plane[len(plane) // said.block * said.block :] if said.block else b""
            made.append(np.hstack([head.bytes(run.heads), _bytes(run.codes, said)]).tobytes() + left)
        return join(made, said.turn) + rest
    front = b"" if head is None else b"".join(head.bytes(run.heads).tobytes() for run in runs)
    behind = old[_front(said) :]
    if said.turn_by_code:
        every = _nibbles(np.frombuffer(behind, np.uint8)[None], said)[0]
        left_over = every[len(every) // said.channels * said.channels :]
        codes = np.stack([run.codes[0] for run in runs], axis=1).reshape(-1)
        return front + _bytes(np.concatenate([codes, left_over])[None], said).tobytes()
    rest = split(behind, said.channels, said.turn)[1]
    return front + join([_bytes(run.codes, said).tobytes() for run in runs], said.turn) + rest


def _front(said: SaidSound) -> int:
    """Bytes of the states that stand before all codes."""
    head = said.runs(0).head
    return 0 if head is None else head.size * said.channels


def _nibbles(rows: Numbers, said: SaidSound) -> Numbers:
    """Rows of bytes as rows of twice as many codes."""
    halves = (rows & 15, rows >> 4) if said.nibbles == "low" else (rows >> 4, rows & 15)
    return np.stack(halves, axis=2).reshape(len(rows), -1)


def _bytes(codes: Numbers, said: SaidSound) -> Numbers:
    """The inverse; a byte is filled with 0."""
    full = np.pad(codes, ((0, 0), (0, codes.shape[1] % 2))).astype(np.uint8)
    first, second = (full[:, ::2], full[:, 1::2]) if said.nibbles == "low" else (full[:, 1::2], full[:, ::2])
    return first | second << 4


def _turned(data: bytes, said: SaidSound) -> bytes:
    """Between a WAVE file's order and sign, and those of the archive; the same both ways."""
    if said.codec == "pcm" and said.width == 1:
        return (np.frombuffer(data, np.uint8) ^ 0x80).tobytes() if said.sign == "signed" else data
    if said.endian == "big" and said.width > 1:
        samples: Numbers = np.frombuffer(data, np.uint8).reshape(-1, said.width)
        return np.ascontiguousarray(samples[:, ::-1]).tobytes()
    return data
