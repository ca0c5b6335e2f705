"""A sound to be seen and heard: its outline, a picture of it, and itself at a loudness that hurts nobody."""

from __future__ import annotations

import io
from collections.abc import Sequence
from typing import Any, TypeAlias

import numpy as np
from PIL import Image

from brae.core.assets.sound import peaks
from brae.core.assets.sound.levels import SILENT, STEP, loudness, measured
from brae.core.assets.sound.sound import Sound, plain, plain_of

_INK, _REACH, _MIDDLE = (22, 22, 22, 255), (22, 22, 22, 120), (22, 22, 22, 90)
#: dBTP that no preview reaches beyond
_PEAK = -3.0
#: marks of a sound that a page draws
_MOST_CUES = 1000


#: from one second to another; to 0: all of it
Span: TypeAlias = "tuple[float, float]"
ALL: Span = (0.0, 0.0)
Floats = np.ndarray[Any, Any]
#: where so many steps of what was measured make a step that is drawn, these are looked at and no samples
_FINE = 1


def bounds(low: Floats, high: Floats, steps: int) -> tuple[Floats, Floats]:
    """The least and the greatest sample of each of so many steps, all channels as one; from finer ones."""
    if not len(low):
        return np.zeros(steps), np.zeros(steps)
    starts = _starts(len(low), steps)
    return np.minimum.reduceat(-peaks.loudest(-low), starts), np.maximum.reduceat(peaks.loudest(high), starts)


def loudnesses(square: Floats, steps: int) -> Floats:
    """The root mean square of each of so many steps, all channels as one; from the squares of finer ones."""
    if not len(square):
        return np.zeros(steps)
    starts = _starts(len(square), steps)
    sums = np.add.reduceat(square.mean(axis=1), starts)
    return np.asarray(np.sqrt(sums / np.maximum(np.diff(np.append(starts, len(square))), 1)))


def _starts(count: int, steps: int) -> Floats:
    return np.minimum(np.linspace(0, count, steps + 1).astype(np.int64)[:-1], count - 1)


def outline(sound: Sound, steps: int, start: float, stop: float, *, apart: bool = False) -> dict[str, Any]:
    """What the page draws of a sound from one second to another: at most so many steps, a sample each at least.

    ``apart``: of each channel by itself.
    """
    first = min(int(start * sound.rate), sound.frames)
    last = min(int(np.ceil(stop * sound.rate)) + 1, sound.frames)
    span = (stop - start) * sound.rate
    own = max(min(round(steps * (last - first) / span) if span else steps, last - first), 1)
    levels = measured(sound)
    if last - first > _FINE * own * STEP:
        low, high = (part[first // STEP : -(-last // STEP)] for part in (levels.low, levels.high))
    else:
        low = high = sound.part(first, last)
    channels = [[channel] for channel in range(sound.channels)] if apart else [slice(None)]
    bands = [bounds(low[:, some], high[:, some], own) for some in channels]
    return {
        "seconds": sound.seconds,
        "rate": sound.rate,
        "first": first / sound.rate,
        "step": max(last - first, 1) / own / sound.rate,
        "channels": sound.channels,
        "bands": [{"low": np.round(low, 4).tolist(), "high": np.round(high, 4).tolist()} for low, high in bands],
        "cues": [at / sound.rate for at in sound.cues[:_MOST_CUES]],
        "loops": [(start / sound.rate, (end + 1) / sound.rate) for start, end in sound.loops],
        "codec": sound.codec,
        "bit_rate": round(8 * sound.size / max(sound.seconds, 1e-6)),
        "loudness": round(levels.loudness, 2) if levels.loudness > SILENT else None,
        "peak": round(levels.peak, 2) if np.isfinite(levels.peak) else None,
        "offset": round(levels.offset, 5),
        "silence": tuple(one / sound.rate for one in levels.silence),
    }


def picture(sound: Sound, width: int, height: int) -> bytes:
    """The waveform as a PNG with a clear ground: how far it reaches, and darker how loud it is (root mean square).

    Its height is the sound's own loudest sample.
    """
    if sound.long:
        found = measured(sound)
        low, high, square = found.low, found.high, found.square
    else:
        low = high = sound.samples
        square = sound.samples**2
    low, high = bounds(low, high, width)
    loud = loudnesses(square, width)
    most = max(float(np.abs(low).max(initial=0)), float(np.abs(high).max(initial=0)), 1e-6)
    middle = (height - 1) / 2
    top = np.floor(middle - high / most * middle * 0.95).astype(np.int64)
    bottom = np.ceil(middle - low / most * middle * 0.95).astype(np.int64)
    rows = np.arange(height)[:, None]
    pixels = np.zeros((height, width, 4), np.uint8)
    pixels[int(middle)] = _MIDDLE
    pixels[(rows >= top) & (rows <= bottom)] = _REACH
    half = loud / most * middle * 0.95
    pixels[(rows >= np.floor(middle - half)) & (rows <= np.ceil(middle + half))] = _INK
    stream = io.BytesIO()
    Image.fromarray(pixels).save(stream, "PNG", compress_level=1)
    return stream.getvalue()


#: dB below the loudest part that are shown of a spectrum, and the lowest frequency, in Hz
_RANGE, _LOWEST = 80.0, 40.0


def frequencies(height: int, rate: int) -> np.ndarray[Any, Any]:
    """The frequency of each row of a spectrum, from the top down: as many rows for each octave."""
    return np.asarray(np.geomspace(rate / 2, min(_LOWEST, rate / 4), height))


def spectrum(sound: Sound, width: int, height: int, seconds: float = 0) -> bytes:
    """What frequencies it has at each moment, as a PNG with a clear ground; darker is louder.

    Short Fourier transforms with Hann windows of about 46 ms; a row is the loudest of the bins that it stands for.
    """
    size = 1 << max(round(0.046 * sound.rate) - 1, 63).bit_length()
    axis = max(seconds, sound.seconds) or 1.0
    columns = max(min(round(width * sound.seconds / axis), width), 1) if sound.frames else 0
    pixels = np.zeros((height, width, 4), np.uint8)
    if columns:
        windows = _windows(sound, columns, size) * np.hanning(size)
        power = 20 * np.log10(np.abs(np.fft.rfft(windows, axis=1)) / (size / 4) + 1e-7)
        edges = frequencies(height + 1, sound.rate) / (sound.rate / size)
        low = np.clip(np.floor(edges[1:]).astype(np.int64), 0, size // 2)
        high = np.clip(np.ceil(edges[:-1]).astype(np.int64), low + 1, size // 2 + 1)
        rows = np.stack([power[:, one:other].max(axis=1) for one, other in zip(low, high, strict=True)])
        ink = np.clip((rows - max(rows.max(), -60) + _RANGE) / _RANGE, 0, 1) ** 1.5
        pixels[:, :columns, 3] = np.round(255 * ink)
        pixels[:, :columns, :3] = _INK[0]
    stream = io.BytesIO()
    Image.fromarray(pixels).save(stream, "PNG", compress_level=1)
    return stream.getvalue()


def _windows(sound: Sound, columns: int, size: int) -> Floats:
    """So many windows over all of a sound, mono, each around its column's middle."""
    starts = ((np.arange(columns) + 0.5) * sound.frames / columns).astype(np.int64) - size // 2
    found = np.zeros((columns, size))
    at, held, column = 0, np.zeros(0), 0
    for piece in sound.pieces():
        held = np.concatenate([held, piece.mean(axis=1)])
        end = at + len(held)
        while column < columns and (starts[column] + size <= end or end >= sound.frames):
            first = int(starts[column])
            part = held[max(first - at, 0) : max(first + size - at, 0)]
            place = max(at - first, 0)
            found[column, place : place + len(part)] = part[: size - place]
            column += 1
        drop = min(max(int(starts[min(column, columns - 1)]) - at, 0), len(held))
        held, at = held[drop:], at + drop
    return found


def heard_like(sound: Sound, original: Sound, most: float, span: Span = ALL) -> bytes:
    """A sound as loud as its original, so that only what else differs is heard; never louder than ``most`` LUFS."""
    here = measured(sound)
    wanted = min(measured(original).heard, most)
    more = wanted - here.heard if min(wanted, here.heard) > SILENT else 0.0
    return _played(sound, more, here.peak, span)


def heard_lost(
    original: Sound, came: Sound, edit: Sound, remedies: Sequence[str], most: float | None, span: Span = ALL
) -> bytes:
    """What encoding an edit changed: what is stored less what was to be stored, as loud as it is beside it.

    ``most``: brought to so many LUFS instead, however faint it is.
    """
    from brae.core.assets.sound.matching import wanted_of

    start, stop = span
    first, last = int(start * edit.rate), min(int(stop * edit.rate) if stop else edit.frames, edit.frames)
    wanted = wanted_of(original, came, remedies).without_first(first).first(last - first)
    lost = edit.part(first, first + len(wanted)) - wanted[: max(edit.frames - first, 0)]
    here = loudness(lost, edit.rate)
    if most is not None and here > SILENT:
        lost = lost * 10 ** ((most - here) / 20)
    return plain(peaks.lowered(lost, edit.rate, _PEAK), edit.rate)


def heard(sound: Sound, most: float | None, span: Span = ALL) -> bytes:
    """A sound as a WAVE file that every browser plays; where it is louder, brought down to ``most`` LUFS."""
    if most is None:
        return _played(sound, 0.0, -np.inf, span)
    here = measured(sound)
    return _played(sound, min(most - here.loudness, 0.0), here.peak, span)


def _played(sound: Sound, more: float, peak: float, span: Span) -> bytes:
    """So many dB louder, but for what keeps its true peak down; all of it, or from one second to another."""
    more -= max(peak + more - _PEAK, 0)
    start, stop = span
    pieces = sound.pieces(int(start * sound.rate), int(stop * sound.rate)) if stop else sound.pieces()
    return plain_of(pieces.each(lambda piece: piece * 10 ** (more / 20)) if more else pieces)
