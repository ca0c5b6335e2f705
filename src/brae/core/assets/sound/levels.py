"""What is measured of all of a sound, in one go through its pieces."""

from __future__ import annotations

import warnings
from dataclasses import dataclass
from typing import Any

import numpy as np

from brae.core.assets.sound import peaks
from brae.core.assets.sound.pieces import Pieces, Samples
from brae.core.assets.sound.sound import Sound

#: seconds of a block of loudness, and what of it lies before the next begins; LUFS below which nothing counts,
#: and LU below the mean (ITU-R BS.1770-5, annex 1)
_BLOCK, _STEP, _GATE, _BELOW = 0.4, 0.25, -70.0, 10.0
#: seconds of the windows of momentary and short-term loudness, and between two of them (EBU Tech 3341, 2); a sound
#: that is shorter than the second is as loud as its loudest moment (common practice, no source)
MOMENTARY, SHORT, _BETWEEN = 0.4, 3.0, 0.1
#: what each channel counts: the two behind more (BS.1770-5, table 4)
_WEIGHTS = (1.0, 1.0, 1.0, 1.41, 1.41)
#: below this nothing is heard, and there is no loudness to match (BS.1770's absolute gate)
SILENT = _GATE
#: sounds that are remembered
_MOST_KNOWN = 64
#: frames of a step of the outline
STEP = 1024


Floats = np.ndarray[Any, Any]


@dataclass(frozen=True)
class Levels:
    """LUFS, dBTP, how far it lies beside the middle, silence at its ends, how often it is cut off."""

    frames: int
    loudness: float
    peak: float
    #: of each channel
    mean: Samples
    #: samples at the start and at the end
    silence: tuple[int, int]
    #: samples at full scale that follow one another
    cut: int
    #: of steps of ``STEP`` samples: the least, the greatest, the mean square; shape (steps, channels)
    low: Floats
    high: Floats
    square: Floats
    #: LUFS of the loudest 0.4 and 3 seconds; the second of what came in pieces
    momentary: float | None = None
    short_term: float | None = None
    seconds: float = 0.0

    @property
    def heard(self) -> float:
        """LUFS by which it is matched with another: of short ones the loudest moment's, of others the whole's."""
        return self.loudness if self.momentary is None or self.seconds >= SHORT else self.momentary

    @property
    def offset(self) -> float:
        """How far it lies beside the middle, of full scale."""
        return float(np.abs(self.mean).max(initial=0))


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


def loudest(samples: Samples, rate: int, seconds: float) -> float | None:
    """LUFS of the loudest so many seconds; None where there are fewer."""
    if len(samples) < seconds * rate + 1:
        return None
    import pyloudnorm

    meter = pyloudnorm.Meter(rate, block_size=seconds, overlap=1 - _BETWEEN / seconds)
    with warnings.catch_warnings(), np.errstate(divide="ignore"):
        warnings.simplefilter("ignore")
        meter.integrated_loudness(heard_of(samples))
    return float(np.max(meter.blockwise_loudness))


def levels_of(pieces: Pieces) -> Levels:
    """Measure samples, however many."""
    meter: _Meter | None = None
    only: Samples | None = None
    total, cut, start, last = np.zeros(pieces.channels), 0, -1, -1
    frames, furthest = 0, peaks.Furthest(pieces.rate, pieces.channels)
    steps: list[tuple[Floats, Floats, Floats]] = []
    rest = np.zeros((0, pieces.channels))
    was_cut = False
    for piece in pieces:
        if not len(piece):
            continue
        if only is not None:
            # It is not the only one: what is measured goes on from piece to piece.
            meter = meter or _Meter(pieces.rate, pieces.channels)
            for one in (only, piece) if len(only) else (piece,):
                meter.take(one)
                furthest.take(one)
        only = piece if only is None else only[:0]
        total += piece.sum(axis=0)
        most = peaks.loudest(np.abs(piece))
        full = most >= peaks.FULL
        cut += int((full[1:] & full[:-1]).sum()) + int(was_cut and full[0])
        was_cut = bool(full[-1])
        loud = np.flatnonzero(most > peaks.QUIET)
        if len(loud):
            start = frames + int(loud[0]) if start < 0 else start
            last = frames + int(loud[-1])
        held = np.concatenate([rest, piece])
        whole = len(held) // STEP * STEP
        steps.append(_steps(held[:whole], STEP))
        rest = held[whole:]
        frames += len(piece)
    if len(rest):
        steps.append(_steps(rest, len(rest)))
    empty = np.zeros((0, pieces.channels), np.float32)
    low, high, square = (np.concatenate(part) for part in zip(*steps, strict=True)) if steps else (empty,) * 3
    silence = (start, frames - 1 - last) if start >= 0 else (0, 0)
    if meter is None:
        all_ = np.zeros((0, pieces.channels)) if only is None else only
        lufs, peak = loudness(all_, pieces.rate), peaks.true_peak(all_, pieces.rate)
        brief = loudest(all_, pieces.rate, MOMENTARY) if frames < SHORT * pieces.rate else None
    else:
        lufs, peak, brief = meter.integrated(), furthest.decibel(), None
    windows = (brief, None) if meter is None else (meter.loudest(MOMENTARY), meter.loudest(SHORT))
    return Levels(
        frames, lufs, peak, total / max(frames, 1), silence, cut, low, high, square, *windows, frames / pieces.rate
    )


def measured(sound: Sound) -> Levels:
    """The same of a sound: remembered, as it is asked for with every step of a zoom."""
    key = (sound.digest, len(sound.data), sound.rate, sound.frames)
    found = _KNOWN.get(key)
    if found is None:
        found = levels_of(sound.pieces())
        if len(_KNOWN) >= _MOST_KNOWN:
            _KNOWN.clear()
        _KNOWN[key] = found
    return found


def _steps(samples: Samples, size: int) -> tuple[Floats, Floats, Floats]:
    rows = np.ascontiguousarray(samples.T, np.float32).reshape(samples.shape[1], -1, size)
    return rows.min(axis=2).T, rows.max(axis=2).T, np.einsum("crs,crs->rc", rows, rows) / size


_KNOWN: dict[tuple[int, int, int, int], Levels] = {}


class _Meter:
    """Integrated loudness (ITU-R BS.1770-5, annex 1) of pieces, with pyloudnorm's filters."""

    def __init__(self, rate: int, channels: int) -> None:
        import pyloudnorm

        self._rate = rate
        self._heard = [0, 1, 2, 4, 5] if channels == 6 else list(range(min(channels, 5)))
        self._filters = list(pyloudnorm.Meter(rate)._filters.values())
        self._states = [np.zeros((max(len(one.a), len(one.b)) - 1, len(self._heard))) for one in self._filters]
        self._at = 0
        self._sum = np.zeros(len(self._heard))
        #: the sum of squares before each edge of a block: where they begin, and where they end
        self._begins: list[Samples] = []
        self._ends: list[Samples] = []

    def take(self, piece: Samples) -> None:
        """The next samples."""
        from scipy.signal import lfilter

        heard = piece[:, self._heard]
        for number, one in enumerate(self._filters):
            heard, self._states[number] = lfilter(one.b, one.a, heard, axis=0, zi=self._states[number])
            heard = heard * one.passband_gain
        sums = np.concatenate([np.zeros((1, heard.shape[1])), np.cumsum(heard**2, axis=0)]) + self._sum
        for kept, behind in ((self._begins, 0.0), (self._ends, 1.0)):
            while (edge := int(_BLOCK * (len(kept) * _STEP + behind) * self._rate)) <= self._at + len(piece):
                kept.append(sums[edge - self._at].copy())
        self._sum, self._at = sums[-1].copy(), self._at + len(piece)

    def loudest(self, seconds: float) -> float | None:
        """LUFS of the loudest so many seconds (EBU Tech 3341, 2); None where there are fewer, or silence."""
        steps = round(seconds / (_BLOCK * _STEP))
        if len(self._begins) <= steps:
            return None
        sums = np.array(self._begins)
        power = ((sums[steps:] - sums[:-steps]) * np.array(_WEIGHTS[: sums.shape[1]])).sum(axis=1)
        most = float(power.max()) / (seconds * self._rate)
        return None if most <= 0 else float(-0.691 + 10 * np.log10(most))

    def integrated(self) -> float:
        """LUFS of all that was taken; of less than a block as if that were all of one."""
        if not self._at:
            return -np.inf
        weights = np.array(_WEIGHTS[: len(self._heard)])
        # As many blocks as there are, rounded (pyloudnorm); the last may end a little behind the samples.
        count = int(np.round((self._at / self._rate - _BLOCK) / (_BLOCK * _STEP)) + 1)
        if count < 1:
            power = np.array([(weights * self._sum).sum() / self._at])
        else:
            ends = [*self._ends, *[self._sum] * count][:count]
            sums = np.array(ends) - np.array(self._begins[:count])
            power = (sums * weights).sum(axis=1) / (_BLOCK * self._rate)
        with np.errstate(divide="ignore"):
            loud = -0.691 + 10 * np.log10(power)
            above = loud >= _GATE
            if not above.any():
                return -np.inf
            gate = -0.691 + 10 * np.log10(power[above].mean()) - _BELOW
            kept = above & (loud > gate)
            return float(-0.691 + 10 * np.log10(power[kept].mean())) if kept.any() else -np.inf
