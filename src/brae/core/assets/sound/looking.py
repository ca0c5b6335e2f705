"""A sound to be seen and heard: its outline, a picture of it, and itself at a loudness that hurts nobody."""

from __future__ import annotations

import io
import zlib
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from PIL import Image

from brae.core.assets.sound import convert, peaks
from brae.core.assets.sound.peaks import silence
from brae.core.assets.sound.sound import Samples, Sound, plain

_INK, _REACH, _MIDDLE = (22, 22, 22, 255), (22, 22, 22, 120), (22, 22, 22, 90)
#: dBTP that no preview reaches beyond
_PEAK = -3.0
#: marks of a sound that a page draws
_MOST_CUES = 1000


@dataclass(frozen=True)
class Levels:
    """What is measured of all of a sound: LUFS, dBTP, how far it lies beside the middle, silence at its ends."""

    loudness: float
    peak: float
    #: of full scale
    offset: float
    #: seconds at the start and at the end
    silence: tuple[float, float]


_MEASURED: dict[tuple[int, int, int], Levels] = {}
_MOST_MEASURED = 256


def bounds(samples: Samples, steps: int) -> tuple[np.ndarray[Any, Any], np.ndarray[Any, Any]]:
    """The least and the greatest sample of each of so many steps, all channels as one."""
    if not len(samples):
        return np.zeros(steps), np.zeros(steps)
    edges = np.linspace(0, len(samples), steps + 1).astype(np.int64)
    starts = np.minimum(edges[:-1], len(samples) - 1)
    low = np.minimum.reduceat(samples.min(axis=1), starts)
    high = np.maximum.reduceat(samples.max(axis=1), starts)
    return low, high


def loudnesses(samples: Samples, steps: int) -> np.ndarray[Any, Any]:
    """The root mean square of each of so many steps, all channels as one."""
    if not len(samples):
        return np.zeros(steps)
    edges = np.linspace(0, len(samples), steps + 1).astype(np.int64)
    starts = np.minimum(edges[:-1], len(samples) - 1)
    sums = np.add.reduceat((samples**2).mean(axis=1), starts)
    return np.asarray(np.sqrt(sums / np.maximum(np.diff(np.append(starts, len(samples))), 1)))


def outline(sound: Sound, steps: int, start: float, stop: float, *, apart: bool = False) -> dict[str, Any]:
    """What the page draws of a sound from one second to another: at most so many steps, a sample each at least.

    ``apart``: of each channel by itself.
    """
    first = min(int(start * sound.rate), sound.frames)
    last = min(int(np.ceil(stop * sound.rate)) + 1, sound.frames)
    span = (stop - start) * sound.rate
    own = max(min(round(steps * (last - first) / span) if span else steps, last - first), 1)
    samples = sound.samples[first:last]
    parts = [samples[:, [channel]] for channel in range(sound.channels)] if apart else [samples]
    bands = [bounds(part, own) for part in parts]
    levels = _measured(sound)
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
        "loudness": round(levels.loudness, 2) if levels.loudness > convert.SILENT else None,
        "peak": round(levels.peak, 2) if np.isfinite(levels.peak) else None,
        "offset": round(levels.offset, 5),
        "silence": levels.silence,
    }


def _measured(sound: Sound) -> Levels:
    """Of all of it: remembered, as it is asked for with every step of a zoom."""
    key = (zlib.crc32(sound.data), len(sound.data), sound.rate)
    found = _MEASURED.get(key)
    if found is None:
        samples = sound.samples
        found = Levels(
            convert.loudness(samples, sound.rate),
            peaks.true_peak(samples, sound.rate),
            float(np.abs(samples.mean(axis=0)).max()) if len(samples) else 0.0,
            (silence(samples) / sound.rate, silence(samples[::-1]) / sound.rate),
        )
        if len(_MEASURED) >= _MOST_MEASURED:
            _MEASURED.clear()
        _MEASURED[key] = found
    return found


def picture(sound: Sound, width: int, height: int) -> bytes:
    """The waveform as a PNG with a clear ground: how far it reaches, and darker how loud it is (root mean square).

    Its height is the sound's own loudest sample.
    """
    samples = sound.samples
    low, high = bounds(samples, width)
    loud = loudnesses(samples, width)
    most = max(float(np.abs(samples).max(initial=0)), 1e-6)
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
    mono = sound.samples.mean(axis=1)
    size = 1 << max(round(0.046 * sound.rate) - 1, 63).bit_length()
    axis = max(seconds, sound.seconds) or 1.0
    columns = max(min(round(width * sound.seconds / axis), width), 1) if len(mono) else 0
    pixels = np.zeros((height, width, 4), np.uint8)
    if columns:
        padded = np.concatenate([np.zeros(size // 2), mono, np.zeros(size)])
        starts = (np.arange(columns) + 0.5) * len(mono) / columns
        windows = padded[starts.astype(np.int64)[:, None] + np.arange(size)] * np.hanning(size)
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


def heard_like(sound: Sound, original: Sound, most: float) -> bytes:
    """A sound as loud as its original, so that only what else differs is heard; never louder than ``most`` LUFS."""
    wanted = min(convert.loudness(original.samples, original.rate), most)
    here = convert.loudness(sound.samples, sound.rate)
    samples = sound.samples
    if min(wanted, here) > convert.SILENT:
        samples = samples * 10 ** ((wanted - here) / 20)
    return plain(peaks.lowered(samples, sound.rate, _PEAK), sound.rate)


def heard_lost(original: Sound, came: Sound, edit: Sound, remedies: Sequence[str], most: float | None) -> bytes:
    """What encoding an edit changed: what is stored less what was to be stored, as loud as it is beside it.

    ``most``: brought to so many LUFS instead, however faint it is.
    """
    from brae.core.assets.sound.matching import wanted_of

    wanted = wanted_of(original, came, remedies)
    count = min(len(wanted), edit.frames)
    lost = edit.samples[:count] - wanted[:count]
    here = convert.loudness(lost, edit.rate)
    if most is not None and here > convert.SILENT:
        lost = lost * 10 ** ((most - here) / 20)
    return plain(peaks.lowered(lost, edit.rate, _PEAK), edit.rate)


def heard(sound: Sound, most: float | None) -> bytes:
    """A sound as a WAVE file that every browser plays; where it is louder, brought down to ``most`` LUFS."""
    samples = sound.samples
    if most is not None:
        loud = convert.loudness(samples, sound.rate)
        if loud > most:
            samples = samples * 10 ** ((most - loud) / 20)
        samples = peaks.lowered(samples, sound.rate, _PEAK)
    return plain(samples, sound.rate)
