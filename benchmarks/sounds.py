"""ADPCM beside libsndfile, on sounds made here: a chord that dies away, a sweep, bursts of noise, and all mixed;
how fast sounds are seen and heard, and what an hour needs.
"""

from __future__ import annotations

import io
import subprocess
import sys
import time
from concurrent.futures import ProcessPoolExecutor

import numpy as np
import soundfile
from tests.core.assets.sound.test_long import MINUTES

from benchmarks.report import best, report
from brae.core.assets.base import Context, ExchangeFile, Version, Viewed
from brae.core.assets.sound import ima, ms
from brae.core.assets.sound.facts import SaidSound
from brae.core.assets.sound.imaruns import Run, Runs
from brae.core.assets.sound.kind import KIND, SoundQuery
from brae.core.assets.sound.riff import Riff
from brae.core.assets.sound.sound import CODECS, Sound, plain
from brae.core.layouts.library import Library

_RATE, _SECONDS = 44_100, 3
_CONSOLE = {
    "codec": "adpcm", "frame": 16, "head": "shift 4, filter 4, flags 8",
    "filters": "0 0, 60 0, 115 -52, 98 -55, 122 -60",
}  # fmt: skip


def _sounds() -> dict[str, np.ndarray]:
    t = np.arange(_RATE * _SECONDS) / _RATE
    chord = sum(np.sin(2 * np.pi * pitch * t) for pitch in (220, 277.2, 329.6)) / 3 * np.exp(-2 * (t % 1))
    sweep = np.sin(2 * np.pi * (40 * t + 2000 * t**2))
    bursts = np.random.default_rng(5).normal(0, 0.3, len(t)) * (t % 0.5 < 0.1)
    made = {"a chord": chord, "a sweep": sweep, "bursts": bursts, "all mixed": (chord + sweep + bursts) / 2}
    return {name: np.rint(np.clip(one * 0.6, -1, 1) * 32767).astype(np.int16) for name, one in made.items()}


def _noise(wanted: np.ndarray, got: np.ndarray) -> float:
    """Signal to noise in dB."""
    one = wanted.astype(float)
    return float(10 * np.log10((one**2).mean() / max(((one - got[: len(one)]) ** 2).mean(), 1e-9)))


def run() -> None:
    """All lines of this part."""
    sounds = _sounds()
    mixed = sounds["all mixed"]
    for codec, subtype in ((ima, "IMA_ADPCM"), (ms, "MS_ADPCM")):
        name = subtype.replace("_", " ")
        gains: list[float] = []
        for samples in sounds.values():
            stream = io.BytesIO()
            soundfile.write(stream, samples, _RATE, format="WAV", subtype=subtype)
            data = stream.getvalue()
            file = Riff.of(data)
            block = int.from_bytes((file.get(b"fmt ") or b"")[12:14], "little")
            again = file.with_chunks({b"data": codec.encode(samples[:, None], block)}).data
            ours, theirs = (soundfile.read(io.BytesIO(one), dtype="int16")[0] for one in (again, data))
            gains.append(_noise(samples, ours) - _noise(samples, theirs))
        words = ", ".join(f"{name} {gain:+.1f}" for name, gain in zip(sounds, gains, strict=True))
        report(f"{name}: dB nearer than libsndfile's, both heard by it", words, "above 0", min(gains) > 0)
        body = file.get(b"data") or b""
        library = best(lambda data=data: soundfile.read(io.BytesIO(data), dtype="int16"))
        ratio = library / best(lambda codec=codec, body=body, block=block: codec.decode(body, block, 1))
        report(f"{name} decoded / libsndfile's speed", f"{ratio:.1f} x", "at least 2 x", ratio >= 2)
        speed = _SECONDS / best(lambda codec=codec, block=block: codec.encode(mixed[:, None], block))
        report(f"{name} encoded, 44.1 kHz", f"{speed:.0f} x real time", "at least 200 x", speed >= 200)
    _headerless(sounds)
    frames = SaidSound(rate=_RATE, **_CONSOLE).frames  # type: ignore[arg-type]
    speed = _SECONDS / best(lambda: frames.encode(mixed))
    lost = [_noise(one, frames.decode(frames.encode(one))) for one in sounds.values()]
    words = ", ".join(f"{name} {one:.0f}" for name, one in zip(sounds, lost, strict=True))
    report("ADPCM in frames of 16 bytes: dB of signal to noise", words, "above 16", min(lost) > 16)
    report("ADPCM in frames encoded, 44.1 kHz", f"{speed:.0f} x real time", "at least 200 x", speed >= 200)
    _seen(mixed)
    _edited()
    _hour()


def _headerless(sounds: dict[str, np.ndarray]) -> None:
    """IMA ADPCM without headers beside the standard library's, where that still has it."""
    try:
        import audioop
    except ImportError:
        return
    runs = Runs(None)
    gains = []
    for samples in sounds.values():
        codes, _ = audioop.lin2adpcm(samples.tobytes(), 2, None)
        theirs = np.frombuffer(audioop.adpcm2lin(codes, 2, None)[0], np.int16)
        none = Run(np.zeros(1, np.int64), np.zeros((1, 0), np.uint8))
        gains.append(_noise(samples, runs.decode(runs.encode(samples, none, None))) - _noise(samples, theirs))
    words = ", ".join(f"{name} {gain:+.1f}" for name, gain in zip(sounds, gains, strict=True))
    report("IMA ADPCM without headers: dB nearer than the standard library's", words, "above 0", min(gains) > 0)


def _waveform(data: bytes) -> int:
    return len(KIND.preview(Viewed(KIND.read(data, Context(Library()))), SoundQuery(view="wave")).data)


def _seen(samples: np.ndarray) -> None:
    """Waveforms of a thousand sounds of 3 s, on both cores."""
    files = [plain(np.roll(samples, 100 * k)[:, None] / 32768, _RATE) for k in range(40)]
    with ProcessPoolExecutor(2) as pool:
        list(pool.map(_waveform, files))
        begun = time.perf_counter()
        list(pool.map(_waveform, files * 25, chunksize=25))
        seconds = time.perf_counter() - begun
    report("waveforms of 1,000 sounds of 3 s", f"{seconds:.1f} s", "under 5 s", seconds < 5)


def _edited() -> None:
    """From a save to what is heard of it: 10 s of stereo, of another rate and loudness."""
    moment = np.arange(10 * 48_000)[:, None] / 48_000
    file = plain(0.1 * np.sin(2 * np.pi * 300 * moment + [0, 1]) * np.sin(moment), 48_000, "PCM_24")
    words = []
    slowest = 0.0
    for container, subtype in (("WAV", "PCM_16"), ("WAV", "IMA_ADPCM"), ("OGG", "VORBIS")):
        stream = io.BytesIO()
        soundfile.write(stream, 0.3 * np.sin(1400 * moment), 44_100, format=container, subtype=subtype)
        original = KIND.read(stream.getvalue(), Context(Library()))

        def heard(original: Sound = original) -> None:
            version = Version(ExchangeFile("a.wav", file), ("loudness",))
            _, made = KIND.match(original, version, {})
            KIND.preview(Viewed(original, KIND.again(original, made), version), SoundQuery(which="edit"))

        seconds = best(heard)
        slowest = max(slowest, seconds)
        words.append(f"{CODECS.get(subtype, subtype)} {seconds:.2f} s")
    report("10 s of sound from a save to what is heard", ", ".join(words), "under 1 s", slowest < 1)


def _hour() -> None:
    """Memory in MB that an hour needs beyond its three files and what half a minute needs, in its own process."""
    told = subprocess.run([sys.executable, "-c", MINUTES, "60"], capture_output=True, text=True, check=True)
    _, more, files = map(float, told.stdout.split())
    words = f"{more:.0f} MB beside files of {files:.0f}"
    report("an hour of stereo taken back and written", words, "at most 200 MB", more <= 200)
