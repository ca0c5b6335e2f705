"""Loudness by EBU Tech 3341 (its table 1: signals as described there, and what a meter has to read), BS.1770-5."""

from __future__ import annotations

import numpy as np
import pytest

from brae.core.assets.sound.measured import measured, true_peak

RATE = 48_000
#: LU by which a meter may be off (EBU Tech 3341, 4)
WITHIN = 0.1


def _tone(*parts: tuple[float, float], channels: int = 2) -> np.ndarray:
    """A 1,000 Hz sine in all channels, in parts of a level (dBFS of the peak) and seconds."""
    levels = np.concatenate([np.full(int(seconds * RATE), 10 ** (level / 20)) for level, seconds in parts])
    wave = levels * np.sin(2 * np.pi * 1000 * np.arange(len(levels)) / RATE)
    return np.repeat(wave[:, None], channels, axis=1)


@pytest.mark.parametrize(
    ("parts", "wanted"),
    [
        pytest.param([(-23, 20)], -23, id="1"),
        pytest.param([(-33, 20)], -33, id="2"),
        pytest.param([(-36, 10), (-23, 60), (-36, 10)], -23, id="3"),
        pytest.param([(-72, 10), (-36, 10), (-23, 60), (-36, 10), (-72, 10)], -23, id="4"),
        pytest.param([(-26, 20), (-20, 20.1), (-26, 20)], -23, id="5"),
    ],
)
def test_integrated_loudness(parts: list[tuple[float, float]], wanted: float) -> None:
    found = measured(_tone(*parts), RATE)
    assert found.integrated == pytest.approx(wanted, abs=WITHIN)
    loudest = max(level for level, _ in parts)
    # of a steady tone all three are the same
    assert found.momentary == pytest.approx(loudest, abs=WITHIN)
    assert found.short_term == pytest.approx(loudest, abs=WITHIN)
    assert found.sample_peak == pytest.approx(loudest, abs=0.01)


@pytest.mark.parametrize("low", [False, True], ids=["5.0", "5.1"])
def test_surround(low: bool) -> None:
    """Case 6: left and right at -28, centre -24, surrounds -30. The low-frequency channel of 5.1 does not count."""
    channels = [-28, -28, -24, -30, -30]
    if low:
        channels.insert(3, -10)
    found = measured(np.concatenate([_tone((level, 20), channels=1) for level in channels], axis=1), RATE)
    assert found.integrated == pytest.approx(-23, abs=WITHIN)


@pytest.mark.parametrize(
    ("divisor", "phase", "level", "wanted"),
    [
        pytest.param(4, 0, 0.5, -6.0, id="15"),
        pytest.param(4, 45, 0.5, -6.0, id="16"),
        pytest.param(6, 60, 0.5, -6.0, id="17"),
        pytest.param(8, 67.5, 0.5, -6.0, id="18"),
        pytest.param(4, 45, 1.41, 3.0, id="19"),
    ],
)
def test_true_peak(divisor: int, phase: float, level: float, wanted: float) -> None:
    """Sines whose samples miss their peaks: within +0.2 and -0.4 dB. They are faded in and out, as a cut rings."""
    count = RATE
    wave = level * np.sin(2 * np.pi * np.arange(count) / divisor + np.radians(phase))
    fade = np.minimum(1, np.minimum(np.arange(count), np.arange(count)[::-1]) / 4800)
    assert wanted - 0.4 <= true_peak((wave * fade)[:, None], RATE) <= wanted + 0.2


def test_silence_and_very_short_sounds() -> None:
    silent = measured(np.zeros((RATE, 1)), RATE)
    assert (silent.integrated, silent.momentary, silent.true_peak, silent.sample_peak) == (None, None, None, None)
    short = measured(_tone((-20, 0.1)), RATE)
    assert short.integrated == pytest.approx(-20, abs=0.3)
    assert (short.momentary, short.short_term) == (None, None)
    assert measured(np.zeros((0, 2)), RATE).integrated is None
