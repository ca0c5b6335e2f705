"""Peaks of the signal that samples stand for (true peaks: ITU-R BS.1770-5, annex 2), and what keeps them down."""

from __future__ import annotations

import numpy as np

from brae.core.assets.sound.pieces import Pieces, Samples

#: times as many samples for the true peak; rates from here on need none (ITU-R BS.1770-5, annex 2)
_FINER, _FINE_ENOUGH = 4, 192_000
#: seconds before a peak in which the limiter begins to give way, and as many after it (common practice, no source)
_AHEAD = 0.005
#: seconds that are worked on at once: four times as many samples of an hour would not fit
_PIECE = 20.0
#: samples of a window in which a peak is looked for, beside it that it needs, and how many windows are tried
_WINDOW, _AROUND, _MOST = 1024, 64, 256
#: what counts as silence, of full scale (common practice, no source)
QUIET = 0.002
#: what counts as full scale, where a recording is cut off
FULL = 0.9999


def resampled(samples: Samples, before: int, after: int) -> Samples:
    """Another sample rate, by soxr at its best setting."""
    if before == after or not len(samples):
        return samples
    import soxr

    found: Samples = soxr.resample(samples, before, after, quality="VHQ")
    return found


def peak(samples: Samples) -> float:
    """The largest sample, in dB of full scale."""
    return _decibel(float(np.abs(samples).max(initial=0)))


def silence(samples: Samples) -> int:
    """How many samples of silence stand at the start."""
    loud = np.flatnonzero(np.abs(samples).max(axis=1, initial=0) > QUIET)
    return int(loud[0]) if len(loud) else 0


def true_peak(samples: Samples, rate: int) -> float:
    """The largest value of the signal that the samples stand for, in dB of full scale (dBTP).

    Of long sounds it is looked for where the samples themselves reach furthest.
    """
    if len(samples) <= 2 * _WINDOW * _MOST:
        return _decibel(float(heights(samples, rate).max(initial=0)))
    furthest = Furthest(rate, samples.shape[1])
    furthest.take(samples)
    return furthest.decibel()


class Furthest:
    """The true peak of samples that come piece by piece: of the windows in which they reach furthest."""

    def __init__(self, rate: int, channels: int) -> None:
        self._rate = rate
        self._held: Samples = np.zeros((_AROUND, channels))
        self._found: list[tuple[float, Samples]] = []

    def take(self, piece: Samples) -> None:
        """The next samples."""
        held = np.concatenate([self._held, piece])
        count = max(len(held) - 2 * _AROUND, 0) // _WINDOW
        inside = held[_AROUND : _AROUND + count * _WINDOW]
        most = loudest(np.abs(inside)).reshape(count, _WINDOW).max(axis=1) if count else np.zeros(0)
        least = self._found[-1][0] if len(self._found) >= _MOST else -1.0
        best = np.argsort(-most, kind="stable")[:_MOST]
        new = [at for at in best.tolist() if most[at] > least]
        self._found += [(float(most[at]), held[at * _WINDOW :][: _WINDOW + 2 * _AROUND].copy()) for at in new]
        self._found = sorted(self._found, key=lambda one: -one[0])[:_MOST]
        self._held = held[count * _WINDOW :]

    def decibel(self) -> float:
        """Of all that was taken, dBTP."""
        ends = np.zeros((_WINDOW + _AROUND, self._held.shape[1]))
        self.take(ends)
        most = 0.0
        for _, window in self._found:
            most = max(most, float(heights(window, self._rate)[_AROUND:-_AROUND].max(initial=0)))
        return _decibel(most)


def heights(samples: Samples, rate: int) -> Samples:
    """How far the signal reaches at and around each sample, in any channel: shape (frames,)."""
    most = loudest(np.abs(samples))
    if rate >= _FINE_ENOUGH or len(samples) < 2:
        return most
    around, piece = _AROUND, max(int(_PIECE * rate), 1)
    for start in range(0, len(samples), piece):
        low, high = max(start - around, 0), min(start + piece + around, len(samples))
        count = high - low
        finer = loudest(np.abs(resampled(samples[low:high], rate, rate * _FINER)))
        between = np.zeros((_FINER, count))
        for part in range(_FINER):
            own = finer[part::_FINER][:count]
            between[part, : len(own)] = own
        found = np.maximum.reduce(between)
        # What lies between two samples counts for both.
        found[1:] = np.maximum(found[1:], between[-1, :-1])
        stop = min(start + piece, len(samples))
        most[start:stop] = np.maximum(most[start:stop], found[start - low : stop - low])
    return most


def loudest(samples: Samples) -> Samples:
    """The largest of the channels, shape (frames,): one after the other, as a maximum over two numbers is slow."""
    return np.asarray(np.maximum.reduce([samples[:, channel] for channel in range(samples.shape[1])]))


def lowered(samples: Samples, rate: int, most: float = -0.3) -> Samples:
    """No true peak above ``most`` dB: the whole is made quieter, so that nothing is distorted."""
    over = true_peak(samples, rate) - most
    return samples * 10 ** (-over / 20) if over > 0 else samples


def limited(pieces: Pieces, most: float = -1.0) -> Pieces:
    """No true peak above ``most`` dB: only around its peaks it is made quieter, gradually.

    The gain that each sample can bear, the least of it over the time ahead and behind, smoothed over as long: it is
    never above what a sample can bear.
    """
    rate = pieces.rate
    if pieces.is_whole:
        return Pieces.whole(lowered(_held_down(pieces.all(), rate, most), rate, most), rate)
    margin = 8 * max(int(_AHEAD * rate), 1) + 4 * _AROUND
    ceiling = 10 ** (most / 20)
    held = pieces.around(lambda piece: _held_down(piece, rate, most), margin)
    return held.each(lambda piece: np.clip(piece, -ceiling, ceiling))


def _held_down(samples: Samples, rate: int, most: float) -> Samples:
    from scipy.ndimage import convolve1d, minimum_filter1d

    ceiling = 10 ** (most / 20)
    reach = max(int(_AHEAD * rate), 1)
    window = np.hanning(2 * reach + 3)[1:-1]
    for _ in range(2):  # what gives way moves the signal between the samples once more, by a little
        bears = np.minimum(ceiling / np.maximum(heights(samples, rate), 1e-12), 1)
        if bears.min(initial=1) >= 1:
            return samples
        held = minimum_filter1d(bears, 2 * reach + 1, mode="nearest")
        gain = convolve1d(held, window / window.sum(), mode="nearest")
        samples = samples * gain[:, None]
    return samples


def _decibel(value: float) -> float:
    return float(20 * np.log10(value)) if value > 0 else -np.inf
