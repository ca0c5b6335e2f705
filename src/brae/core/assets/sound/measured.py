"""How loud a sound is, by the published measures."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from brae.core.assets.sound import levels
from brae.core.assets.sound.levels import MOMENTARY, SHORT, SILENT, loudest, loudness
from brae.core.assets.sound.peaks import peak, true_peak
from brae.core.assets.sound.pieces import Samples
from brae.core.assets.sound.sound import Sound


@dataclass(frozen=True)
class Loudness:
    """LUFS of the whole and of its loudest 0.4 and 3 seconds (None: silent, or shorter), and peaks in dB."""

    integrated: float | None
    momentary: float | None
    short_term: float | None
    #: of the signal between the samples too (dBTP), and of the samples alone (dBFS); None of silence
    true_peak: float | None
    sample_peak: float | None


def of_sound(sound: Sound) -> Loudness:
    """Measure a sound, however long."""
    if not sound.long:
        return measured(sound.samples, sound.rate)
    found = levels.measured(sound)
    most = max(float(np.abs(part).max(initial=0)) for part in (found.low, found.high))
    return Loudness(
        _said(found.loudness),
        None if found.momentary is None else _said(found.momentary),
        None if found.short_term is None else _said(found.short_term),
        _said(found.peak, -np.inf),
        _said(20 * float(np.log10(most)) if most else -np.inf, -np.inf),
    )


def measured(samples: Samples, rate: int) -> Loudness:
    """Measure a sound: float samples of shape (frames, channels), full scale 1."""
    return Loudness(
        _said(loudness(samples, rate)),
        _loudest(samples, rate, MOMENTARY),
        _loudest(samples, rate, SHORT),
        _said(true_peak(samples, rate), -np.inf),
        _said(peak(samples), -np.inf),
    )


def _loudest(samples: Samples, rate: int, seconds: float) -> float | None:
    found = loudest(samples, rate, seconds)
    return None if found is None else _said(found)


def _said(value: float, least: float = SILENT) -> float | None:
    return round(value, 2) if value > least else None
