"""Long sounds are worked on in pieces, with the results of short ones.

References: pyloudnorm and soxr on the whole array. That minutes need little memory is measured in a process of its
own (an hour in the bench).
"""

from __future__ import annotations

import io
import subprocess
import sys
from collections.abc import Iterator

import numpy as np
import pyloudnorm
import pytest
import soundfile
import soxr
from hypothesis import given
from hypothesis import strategies as st

from brae.core.assets.base import ExchangeFile, Version, Viewed
from brae.core.assets.sound import looking, peaks
from brae.core.assets.sound import sound as sounds
from brae.core.assets.sound.kind import KIND, EnvelopeQuery, SoundQuery
from brae.core.assets.sound.levels import STEP, levels_of
from brae.core.assets.sound.pieces import Pieces
from brae.core.assets.sound.sound import plain, read


def music(rate: int, seconds: float, channels: int) -> np.ndarray:
    time = np.arange(round(rate * seconds))[:, None] / rate + np.arange(channels) / 700
    tone = 0.3 * np.sin(2 * np.pi * (330 * time + 9 * np.sin(2 * time))) * (np.sin(3 * time) > -0.3)
    return tone + np.random.default_rng(7).normal(0, 0.01, tone.shape)


def pieces(samples: np.ndarray, rate: int, *sizes: int) -> Pieces:
    def cut() -> Iterator[np.ndarray]:
        at = number = 0
        while at < len(samples):
            size = sizes[number % len(sizes)]
            yield samples[at : at + size]
            at, number = at + size, number + 1

    return Pieces(rate, samples.shape[1], cut)


@pytest.mark.parametrize(
    ("rate", "channels", "seconds"), [(44100, 2, 12), (11025, 1, 3.3), (48000, 6, 2), (8000, 1, 1)]
)
def test_levels_of_pieces_are_those_of_the_whole(rate: int, channels: int, seconds: float) -> None:
    samples = music(rate, seconds, channels)
    found, whole = levels_of(pieces(samples, rate, 5000, 1, 777)), levels_of(Pieces.whole(samples, rate))
    heard = samples[:, [0, 1, 2, 4, 5]] if channels == 6 else samples
    assert found.loudness == pytest.approx(pyloudnorm.Meter(rate).integrated_loudness(heard), abs=1e-5)
    assert found.peak == pytest.approx(whole.peak, abs=1e-9)
    assert (found.frames, found.silence, found.cut) == (len(samples), whole.silence, whole.cut)
    assert np.allclose(found.mean, samples.mean(axis=0))
    assert np.array_equal(found.low[0], samples[:STEP].min(axis=0).astype(np.float32))
    assert np.array_equal(found.high[-1], samples[len(found.high) * STEP - STEP :].max(axis=0).astype(np.float32))


@given(st.lists(st.integers(1, 4000), min_size=1, max_size=5), st.integers(0, 9000), st.integers(1, 12_000))
def test_what_is_done_to_pieces_is_done_to_the_whole(sizes: list[int], first: int, length: int) -> None:
    samples = music(8000, 1, 2)
    some = pieces(samples, 8000, *sizes)
    assert np.array_equal(some.without_first(first).all(), samples[first:])
    assert np.array_equal(some.first(first), samples[:first])
    made = some.of_length(length, 50).all()
    assert len(made) == length
    kept = min(length, len(samples)) - (50 if length < len(samples) else 0)
    assert np.array_equal(made[: max(kept, 0)], samples[: max(kept, 0)])
    assert np.array_equal(some.around(lambda one: one * 2, 300).all(), samples * 2)
    assert np.allclose(some.resampled(11025).all(), soxr.resample(samples, 8000, 11025, quality="VHQ"), atol=1e-12)


def test_a_limit_in_pieces_is_one_of_the_whole() -> None:
    samples = music(22050, 3, 2) * 4
    whole = peaks.limited(Pieces.whole(samples, 22050), -1.0).all()
    made = peaks.limited(pieces(samples, 22050, 9000, 20_000), -1.0).all()
    assert peaks.peak(made) <= -1 + 1e-9
    assert np.abs(made - whole).max() < 0.01


@pytest.fixture
def short(monkeypatch: pytest.MonkeyPatch) -> None:
    """What is long begins at half a second."""
    monkeypatch.setattr(sounds, "LONG", 10_000)
    monkeypatch.setattr(sounds, "PIECE", 3001)


def stored(samples: np.ndarray, rate: int, container: str, subtype: str) -> bytes:
    file = io.BytesIO()
    soundfile.write(file, samples, rate, format=container, subtype=subtype)
    return file.getvalue()


FORMS = [
    ("WAV", "PCM_16"), ("WAV", "FLOAT"), ("WAV", "IMA_ADPCM"), ("WAV", "MS_ADPCM"), ("WAV", "ULAW"),
    ("AIFF", "PCM_24"), ("FLAC", "PCM_16"), ("OGG", "VORBIS"), ("OGG", "OPUS"), ("MP3", "MPEG_LAYER_III"),
]  # fmt: skip


@pytest.mark.parametrize(("container", "subtype"), FORMS)
def test_long_sounds_come_out_as_short_ones(monkeypatch: pytest.MonkeyPatch, container: str, subtype: str) -> None:
    """The same edit, worked on as a whole and in pieces: alike, with the same findings and loudness."""
    rate = 24000
    original = stored(music(rate, 2, 2), rate, container, subtype)
    came = plain(music(32000, 2.4, 1)[::-1] * 0.1 + 0.02, 32000, "PCM_24")
    results = []
    remedies = ("offset", "length", "loudness")
    for least in (sounds.LONG, 10_000):
        monkeypatch.setattr(sounds, "LONG", least)
        monkeypatch.setattr(sounds, "PIECE", 3001)
        version = Version(ExchangeFile("x.wav", came), remedies)
        sheet, made = KIND.match(read(original), version, {})
        samples = soundfile.read(io.BytesIO(made.data), always_2d=True)[0]
        results.append((sorted(one.id for one in sheet.findings), sheet.loudness, samples))
    (ids, loudness, whole), (own_ids, own_loudness, own) = results
    assert own_ids == ids
    assert own_loudness == pytest.approx(loudness, abs=0.1)
    assert own.shape == whole.shape
    assert ((own - whole) ** 2).mean() < 0.01 * (whole**2).mean()


@pytest.mark.usefixtures("short")
def test_a_long_sound_that_nobody_changed_keeps_its_bytes() -> None:
    data = stored(music(22050, 2, 2), 22050, "OGG", "VORBIS")
    original = read(data)
    assert original.long
    sent = KIND.send(original)
    sheet, made = KIND.match(original, Version(sent, ()), {})
    assert (made.data, sheet.findings) == (data, [])
    assert sent.data == plain(soundfile.read(io.BytesIO(data), always_2d=True)[0], 22050, "PCM_24")


@pytest.mark.usefixtures("short")
def test_a_long_sound_is_seen_and_heard_in_parts(monkeypatch: pytest.MonkeyPatch) -> None:
    rate = 22050
    samples = np.round(music(rate, 4, 2) * 32768) / 32768
    original = read(plain(samples, rate))
    shown = KIND.questions["envelope"].ask(  # type: ignore[arg-type]
        Viewed(original), EnvelopeQuery(steps=40, apart=True), None
    )
    low = np.array([band.low for band in shown.original.bands])
    assert low.shape == (2, 40)
    assert low.min() == pytest.approx(samples.min(), abs=1e-3)
    near = KIND.questions["envelope"].ask(  # type: ignore[arg-type]
        Viewed(original), EnvelopeQuery(steps=100, start=1.5, stop=1.502), None
    )
    assert near.original.bands[0].high[5] == pytest.approx(samples[round(1.5 * rate) + 5].max(), abs=1e-3)
    part = KIND.preview(Viewed(original), SoundQuery(level="true", start=1, stop=2.5))
    heard, _ = soundfile.read(io.BytesIO(part.data), always_2d=True)
    assert np.array_equal(heard, samples[rate : round(2.5 * rate)])
    long, size = looking.spectrum(original, 64, 32), looking.picture(original, 64, 32)
    monkeypatch.setattr(sounds, "LONG", 10**9)
    again = read(plain(samples, rate))
    assert looking.spectrum(again, 64, 32) == long
    assert len(size) > 100


#: minutes of stereo are looked at, taken back and written: memory in MB, beyond that of a second and of the files
MINUTES = """
import io, resource, sys
import numpy as np, soundfile
from brae.core.assets.base import ExchangeFile, Version, Viewed
from brae.core.assets.sound.kind import KIND, EnvelopeQuery, SoundQuery
from brae.core.assets.sound.sound import read

rate = 22050

def tone(seconds, pitch):
    stream = io.BytesIO()
    with soundfile.SoundFile(stream, "w", rate, 2, format="FLAC", subtype="PCM_16") as file:
        for second in range(seconds):
            t = np.arange(rate)[:, None] / rate
            file.write(0.2 * np.sin(2 * np.pi * pitch * t + [0, 1]) * (0.5 + 0.5 * np.sin(second)))
    return stream.getvalue()

def work(seconds):
    sound, came = read(tone(seconds, 300)), tone(seconds, 500)
    KIND.questions["envelope"].ask(Viewed(sound), EnvelopeQuery(), None)
    part = SoundQuery(start=seconds / 2, stop=seconds / 2 + 120)
    for query in (SoundQuery(view="wave"), SoundQuery(view="spectrum"), part):
        KIND.preview(Viewed(sound), query)
    _, made = KIND.match(sound, Version(ExchangeFile("a.flac", came), ("loudness",)), {})
    files = sum(map(len, (sound.data, came, made.data))) / 2**20
    return read(made.data).seconds, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024, files

_, before, _ = work(30)
seconds, after, files = work(60 * int(sys.argv[1]))
print(seconds, after - before - files, files)
"""


def test_minutes_need_little_memory() -> None:
    """Held as a whole, eight minutes are 170 MB, and several times that while they are worked on."""
    run = [sys.executable, "-c", MINUTES, "8"]
    told = subprocess.run(run, capture_output=True, text=True, check=True, timeout=600)
    seconds, megabytes, _ = map(float, told.stdout.split())
    assert seconds == pytest.approx(480, abs=0.1)
    assert megabytes < 60
