"""ADPCM beside libsndfile, on sounds made here: a chord that dies away, a sweep, bursts of noise, and all mixed."""

from __future__ import annotations

import io

import numpy as np
import soundfile

from benchmarks.report import best, report
from brae.core.assets.sound import ima, ms
from brae.core.assets.sound.facts import SaidSound
from brae.core.assets.sound.riff import Riff

_RATE, _SECONDS = 44_100, 3
_CONSOLE = {
    "codec": "adpcm", "frame": 16, "head": "shift 4, filter 4, flags 8",
    "filters": "0 0, 60 0, 115 -52, 98 -55, 122 -60",
}  # fmt: skip


def _sounds() -> dict[str, np.ndarray]:
    time = np.arange(_RATE * _SECONDS) / _RATE
    chord = sum(np.sin(2 * np.pi * pitch * time) for pitch in (220, 277.2, 329.6)) / 3 * np.exp(-2 * (time % 1))
    sweep = np.sin(2 * np.pi * (40 * time + 2000 * time**2))
    bursts = np.random.default_rng(5).normal(0, 0.3, len(time)) * (time % 0.5 < 0.1)
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
    frames = SaidSound(rate=_RATE, **_CONSOLE).frames  # type: ignore[arg-type]
    speed = _SECONDS / best(lambda: frames.encode(mixed))
    lost = [_noise(one, frames.decode(frames.encode(one))) for one in sounds.values()]
    words = ", ".join(f"{name} {one:.0f}" for name, one in zip(sounds, lost, strict=True))
    report("ADPCM in frames of 16 bytes: dB of signal to noise", words, "above 16", min(lost) > 16)
    report("ADPCM in frames encoded, 44.1 kHz", f"{speed:.0f} x real time", "at least 200 x", speed >= 200)
