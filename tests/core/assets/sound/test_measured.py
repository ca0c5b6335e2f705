"""Loudness by EBU Tech 3341 (its table 1: signals as described there, and what a meter has to read), BS.1770-5."""

from __future__ import annotations

import io

import numpy as np
import pytest

from brae.core.assets.sound.measured import measured
from brae.core.assets.sound.peaks import true_peak
from brae.core.assets.sound.sound import plain, read

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


@pytest.mark.parametrize("pitch", [110.0, 1000.0, 7000.0])
def test_a_tone_stands_in_its_row_of_the_spectrum_and_on_the_common_axis(pitch: float) -> None:
    """Closed form: all the ink of a sine lies at its frequency, and only as far as it sounds."""
    from PIL import Image

    from brae.core.assets.sound.looking import frequencies, spectrum

    rate = 32_000
    samples = 0.4 * np.sin(2 * np.pi * pitch * np.arange(rate) / rate)[:, None]
    sound = read(plain(samples, rate))
    with Image.open(io.BytesIO(spectrum(sound, 200, 120, seconds=2.0))) as picture:
        ink = np.asarray(picture)[..., 3].astype(float)
    assert ink[:, 10:90].max() == 255
    assert not ink[:, 101:].any()
    row = int(ink[:, 50].argmax())
    assert frequencies(120, rate)[row] == pytest.approx(pitch, rel=0.12)
    assert (ink[:, 50] > 128).sum() < 40
    empty = read(plain(np.zeros((0, 1)), rate))
    assert spectrum(empty, 20, 20).startswith(b"\x89PNG")


def test_equally_loud_is_as_loud_as_the_original() -> None:
    from brae.core.assets.sound.looking import heard_like

    time = np.arange(48_000) / 48_000
    tone = np.sin(2 * np.pi * 997 * time)[:, None]
    original, loud = read(plain(0.05 * tone, 48_000)), read(plain(0.5 * tone, 48_000))
    heard = read(heard_like(loud, original, -20.0))
    assert measured(heard.samples, heard.rate).integrated == pytest.approx(
        measured(original.samples, original.rate).integrated, abs=0.1
    )
    capped = read(heard_like(original, loud, -30.0))
    assert measured(capped.samples, capped.rate).integrated == pytest.approx(-30, abs=0.1)
