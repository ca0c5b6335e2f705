"""Boundaries in a sound: where its spectrum changes, finer than a model's frames."""

from __future__ import annotations

from typing import Any

import numpy as np

#: A boundary is moved to the sharpest change of the spectrum so near to it (seconds), looked for in such steps.
_NEAR, _STEP = 0.012, 0.002
#: seconds between two onsets, how far one stands out (logarithms of the spectrum), and how many are told
_APART, _SHARP, _MOST = 0.02, 0.35, 3000


class Edges:
    """Where the spectrum of a sound changes most: float samples of shape (frames, channels), full scale 1."""

    def __init__(self, samples: np.ndarray[Any, Any], rate: int) -> None:
        mono = samples.mean(axis=1) if samples.ndim > 1 else samples
        self.seconds = len(mono) / rate
        step = max(round(_STEP * rate), 1)
        self._step = step / rate
        size = 1 << max(round(0.008 * rate) - 1, 1).bit_length()
        padded = np.concatenate([np.zeros(size // 2), mono, np.zeros(size)])
        count = len(mono) // step + 1
        windows = np.lib.stride_tricks.sliding_window_view(padded, size)[::step][:count] * np.hanning(size)
        spectra = np.log(np.abs(np.fft.rfft(windows, axis=1)) + 1e-4)
        apart = 3
        self._change = np.zeros(count)
        if count > 2 * apart:
            difference = spectra[2 * apart :] - spectra[: -2 * apart]
            self._change[apart:-apart] = np.sqrt((difference**2).mean(axis=1))

    def near(self, seconds: float) -> float:
        """The sharpest change near to a time, in seconds."""
        at = min(max(seconds, 0.0), self.seconds)
        middle, reach = round(at / self._step), round(_NEAR / self._step)
        low, high = max(middle - reach, 0), min(middle + reach + 1, len(self._change))
        if at <= 0 or at >= self.seconds or high - low < 2:
            return min(round(at, 4), self.seconds)
        places = np.arange(low, high)
        # The nearer of two changes that are alike.
        weight = self._change[low:high] * (1 - 0.5 * np.abs(places - middle) / max(reach, 1))
        return round(min(float(places[int(weight.argmax())] * self._step), self.seconds), 4)

    def onsets(self) -> list[float]:
        """The times of all sharp changes, in seconds: those that stand out from what is around them."""
        from scipy.signal import find_peaks

        if not self._change.any():
            return []
        places, _ = find_peaks(self._change, distance=max(round(_APART / self._step), 1), prominence=_SHARP)
        return [round(float(place * self._step), 4) for place in places[:_MOST]]
