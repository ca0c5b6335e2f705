"""Sounds that come back: against libsndfile (through soundfile), soxr, pyloudnorm, and closed forms.

Loudness: EBU Tech 3341 (2016), test signal 1: a stereo sine of 1 kHz at -23 dBFS reads -23.0 LUFS.
"""

from __future__ import annotations

import io
import struct

import numpy as np
import pytest
import soundfile
from hypothesis import given
from hypothesis import strategies as st

from brae.core.assets.base import Context, ExchangeFile, Version
from brae.core.assets.sound import ima, levels
from brae.core.assets.sound.kind import KIND, EnvelopeQuery
from brae.core.assets.sound.riff import Chunk, Riff
from brae.core.assets.sound.sound import Sound, plain, read
from brae.core.errors import BraeError, FormatError
from brae.core.layouts.library import Library

RATE = 22050


def tone(seconds: float = 1.0, rate: int = RATE, channels: int = 1, level: float = 0.3) -> np.ndarray:
    """A sine that swells and dies, with a little noise: nothing in it is silent at the start."""
    time = np.arange(round(seconds * rate)) / rate
    one = level * np.sin(2 * np.pi * 440 * time) * (0.5 + 0.5 * np.cos(3 * time))
    noise = np.random.default_rng(3).normal(0, 0.003, (len(time), channels))
    return np.repeat(one[:, None], channels, axis=1) + noise


def stored(samples: np.ndarray, subtype: str, rate: int = RATE, container: str = "WAV") -> bytes:
    stream = io.BytesIO()
    soundfile.write(stream, samples, rate, format=container, subtype=subtype)
    return stream.getvalue()


def sound(samples: np.ndarray, subtype: str = "PCM_16", rate: int = RATE, container: str = "WAV") -> Sound:
    found: Sound = KIND.read(stored(samples, subtype, rate, container), Context(Library()))
    return found


def back(original: Sound, came: bytes, *remedies: str) -> tuple[set[str], Sound]:
    """Findings and the result."""
    sheet, made = KIND.match(original, Version(ExchangeFile("x.wav", came), remedies), {})
    return {finding.id for finding in sheet.findings}, read(made.data)


CODECS = [
    ("WAV", "PCM_U8", 24), ("WAV", "PCM_16", 72), ("WAV", "PCM_24", 115), ("WAV", "PCM_32", 120),
    ("WAV", "FLOAT", 120),
    ("WAV", "ULAW", 30), ("WAV", "ALAW", 30), ("WAV", "IMA_ADPCM", 20), ("WAV", "MS_ADPCM", 20),
    ("RF64", "PCM_16", 72),
    ("AIFF", "PCM_S8", 24), ("AIFF", "PCM_U8", 24), ("AIFF", "PCM_16", 72), ("AIFF", "PCM_24", 115),
    ("AIFF", "FLOAT", 120),
    ("AIFF", "ULAW", 30),
    ("FLAC", "PCM_16", 72),
    ("OGG", "VORBIS", 12),
    ("MP3", "MPEG_LAYER_III", 12),
]  # fmt: skip


@pytest.mark.parametrize(("container", "subtype", "least"), CODECS)
@pytest.mark.parametrize("channels", [1, 2])
def test_a_changed_sound_is_stored_as_its_original(container: str, subtype: str, least: int, channels: int) -> None:
    original = sound(tone(channels=channels), subtype, container=container)
    louder = tone(channels=channels) * 0.8
    found, result = back(original, stored(louder, "FLOAT"))
    assert (result.type, result.subtype, result.rate, result.channels) == (
        original.type, original.subtype, RATE, channels,
    )  # fmt: skip
    assert result.block == original.block
    samples, _ = soundfile.read(io.BytesIO(result.data), always_2d=True)
    noise = samples[: len(louder)] - louder
    assert 10 * np.log10((louder**2).mean() / (noise**2).mean()) > least
    assert found <= {"length"}


@pytest.mark.parametrize(("container", "subtype", "least"), CODECS)
def test_what_goes_out_and_comes_back_untouched_is_the_original(container: str, subtype: str, least: int) -> None:
    original = sound(tone(channels=2), subtype, container=container)
    sent = KIND.send(original)
    assert KIND.send(original) == sent
    sheet, made = KIND.match(original, Version(sent), {})
    assert made.data == original.data
    assert not sheet.findings
    # Saved by another program: other chunks, the same samples.
    again, rate = soundfile.read(io.BytesIO(sent.data), always_2d=True)
    other = stored(again, soundfile.info(io.BytesIO(sent.data)).subtype, rate)
    assert KIND.match(original, Version(ExchangeFile("x.wav", other)), {})[1].data == original.data


def test_rate_and_channels_follow_the_original() -> None:
    original = sound(tone())
    found, result = back(original, stored(tone(rate=48000, channels=2), "PCM_24", 48000))
    assert {"rate", "channels"} <= found
    assert (result.rate, result.channels, result.frames) == (RATE, 1, RATE)
    difference = result.samples - original.samples
    assert np.sqrt((difference[100:-100] ** 2).mean()) < 0.004, "the same tone, but for its noise"


def test_loudness_is_measured_as_the_standard_says_and_matched() -> None:
    time = np.arange(20 * 48000) / 48000
    sine = 10 ** (-23 / 20) * np.sin(2 * np.pi * 1000 * time)
    assert levels.loudness(np.stack([sine, sine], axis=1), 48000) == pytest.approx(-23.0, abs=0.1)
    original = sound(tone())
    found, _ = back(original, stored(tone() * 3, "FLOAT"))
    assert "loudness" in found
    _, result = back(original, stored(tone() * 3, "FLOAT"), "loudness")
    assert levels.loudness(result.samples, RATE) == pytest.approx(levels.loudness(original.samples, RATE), abs=0.2)
    assert "loudness" not in back(original, stored(tone() * 1.2, "FLOAT"))[0]


def test_what_editors_and_recorders_do_is_noticed_and_put_right() -> None:
    original = sound(tone())
    late = np.concatenate([np.zeros((RATE // 10, 1)), tone() + 0.0])
    found, _ = back(original, stored(late, "FLOAT"))
    assert {"start", "length"} <= found
    found, result = back(original, stored(late, "FLOAT"), "start", "length")
    assert result.frames == original.frames
    assert np.abs(result.samples[200:1000] - original.samples[200:1000]).max() < 0.02
    found, result = back(original, stored(tone() * 0.5 + 0.2, "FLOAT"))
    assert "offset" in found
    _, result = back(original, stored(tone() * 0.5 + 0.2, "FLOAT"), "offset")
    assert abs(float(result.samples.mean())) < 1e-3
    assert "clipped" in back(original, stored(np.clip(tone() * 9, -1, 1), "PCM_16"))[0]
    assert "silent" in back(original, stored(tone() * 0, "PCM_16"))[0]


def _looped(samples: np.ndarray, start: int, end: int) -> bytes:
    """A WAVE file with a loop, a cue and a chunk that nobody knows, by hand."""
    smpl = struct.pack("<9I", 0, 0, 45351, 60, 0, 0, 0, 1, 0) + struct.pack("<6I", 7, 0, start, end, 0, 0)
    body = Riff.of(plain(samples, RATE)).chunks
    chunks = (Chunk(b"odd ", b"abc", b"\0"), body[0], Chunk(b"smpl", smpl), body[1], Chunk(b"cue ", b"\1\0\0\0"))
    return Riff(chunks).data


def test_chunks_stay_and_loops_move_in_proportion() -> None:
    data = _looped(tone(), 1000, 20000)
    original = read(data)
    assert original.loops == [(1000, 20000)]
    assert KIND.rebuild(original) == data
    _, result = back(original, stored(tone(2.0), "FLOAT"))
    (start, end) = result.loops[0]
    assert max(abs(start - 2000), abs(end - 40000)) <= 25, "at most half a period of 440 Hz beside its place"
    for at in (start, end + 1):
        assert result.samples[at - 1, 0] < 0 <= result.samples[at, 0], "where the signal rises through zero"
    assert result.riff is not None
    assert [chunk.id for chunk in result.riff.chunks] == [b"odd ", b"fmt ", b"smpl", b"data", b"cue "]
    assert result.riff.get(b"odd ") == b"abc"
    _, same = back(original, stored(tone() * 0.9, "FLOAT"))
    assert same.loops == [(1000, 20000)]


@given(
    st.lists(
        st.tuples(
            st.sampled_from([b"fmt ", b"data", b"LIST", b"x\0y ", b"smpl"]),
            st.binary(max_size=30),
            st.sampled_from([b"", b"\0", b"\x07"]),
        ),
        max_size=6,
    ),
    st.integers(-3, 3),
    st.binary(max_size=5),
)
def test_chunks_are_written_as_they_were(chunks: list[tuple[bytes, bytes, bytes]], off: int, tail: bytes) -> None:
    made = Riff(tuple(Chunk(name, body, pad[: len(body) % 2]) for name, body, pad in chunks), off, tail)
    try:
        found = Riff.of(made.data)
    except BraeError:
        return
    assert found.data == made.data


@pytest.mark.parametrize("channels", [1, 2])
@pytest.mark.parametrize("block", [256, 512, 1024, 36])
def test_ima_blocks_are_read_by_libsndfile(channels: int, block: int) -> None:
    samples = np.rint(tone(0.5, channels=channels) * 32767).astype(np.int16)
    data = ima.encode(samples, block * channels)
    per = ima.samples_of(block * channels, channels)
    form = struct.pack("<HHIIHHHH", 17, channels, RATE, RATE * block * channels // per, block * channels, 4, 2, per)
    file = Riff((Chunk(b"fmt ", form), Chunk(b"fact", struct.pack("<I", len(samples))), Chunk(b"data", data))).data
    decoded, _ = soundfile.read(io.BytesIO(file), dtype="int16", always_2d=True)
    wanted = samples.astype(np.float64)
    noise = decoded[: len(samples)] - wanted
    ours = 10 * np.log10((wanted**2).mean() / (noise**2).mean())
    library, _ = soundfile.read(io.BytesIO(stored(tone(0.5, channels=channels), "IMA_ADPCM")), always_2d=True)
    theirs = 10 * np.log10((wanted**2).mean() / ((library[: len(wanted)] * 32768 - wanted) ** 2).mean())
    assert ours > min(theirs, 24) - 1, "as good as the library's own encoder, to a decibel"


def test_the_same_sound_gives_the_same_vorbis() -> None:
    original = sound(tone(), "VORBIS", container="OGG")
    twice = [back(original, stored(tone() * 0.5, "FLOAT"))[1].data for _ in range(2)]
    assert twice[0] == twice[1]
    assert twice[0][14:18] == original.data[14:18], "the stream keeps its number"


@pytest.mark.parametrize(
    "data",
    [
        b"RIFF\x24\0\0\0WAVE",
        b"RIFF" + struct.pack("<I", 1000) + b"WAVEfmt " + struct.pack("<IHHIIHH", 16, 1, 0, 8000, 8000, 1, 8),
        plain(tone(0.01), RATE)[:-100],
        plain(tone(0.01), RATE).replace(struct.pack("<I", RATE), struct.pack("<I", 4_000_000_000), 1),
        plain(tone(0.01), RATE).replace(struct.pack("<I", RATE), bytes(4), 1),
        b"OggS" + bytes(60),
        b"fLaC" + bytes(60),
    ],
)
def test_damaged_sounds_are_refused_in_words(data: bytes) -> None:
    with pytest.raises(BraeError):
        _ = read(data).samples


@pytest.mark.parametrize("loop", [(1000, 4_000_000_000), (4_000_000_000, 5), (9000, 9000), (20_000, 100)])
def test_loops_that_are_none_harm_nothing(loop: tuple[int, int]) -> None:
    from brae.core.assets.base import Viewed

    data = _looped(tone(), *loop)
    original = read(data)
    shown = KIND.questions["envelope"].ask(Viewed(original), EnvelopeQuery(), None)  # type: ignore[arg-type]
    assert shown.original.seconds == pytest.approx(1)
    assert back(original, KIND.send(original).data)[1].data == data
    for remedies in ((), ("seam", "length")):
        _, result = back(original, stored(tone(0.7), "FLOAT"), *remedies)
        assert np.isfinite(result.samples).all()


def test_no_number_of_a_sound_is_not_a_number() -> None:
    samples = tone(0.1)
    samples[10:20] = np.nan
    result = read(plain(samples, RATE, "FLOAT")).samples
    assert np.isfinite(result).all()


def test_previews_hurt_nobody() -> None:
    loud = sound(np.clip(tone() * 3, -1, 1))
    from brae.core.assets.base import Viewed

    heard = read(KIND.preview(Viewed(loud), KIND.query()).data)
    assert levels.loudness(heard.samples, RATE) < -22.5
    true = read(KIND.preview(Viewed(loud), KIND.query(level="true")).data)
    assert np.abs(true.samples - loud.samples).max() < 1e-4
    wave = KIND.preview(Viewed(loud), KIND.query(view="wave", width=64, height=32))
    from PIL import Image

    assert Image.open(io.BytesIO(wave.data)).size == (64, 32)


def test_codecs_that_are_only_heard_are_refused_in_words() -> None:
    with pytest.raises(FormatError, match="heard, but not written"):
        KIND.check_writable(sound(tone(rate=8000), "GSM610", rate=8000))


def test_short_sounds_are_matched_by_their_loudest_moment() -> None:
    """A stroke and what rings after it: without the ringing it is as loud (EBU Tech 3341, 2: 0.4 s)."""
    time = np.arange(round(2.5 * RATE))[:, None] / RATE
    stroke = 0.3 * np.sin(2 * np.pi * 440 * time) * (time < 0.5)
    ringing = stroke + 0.1 * np.sin(2 * np.pi * 440 * time) * (time >= 0.5)
    original = sound(ringing)
    apart = levels.loudness(stroke, RATE) - levels.loudness(ringing, RATE)
    assert apart > 3, "as wholes they differ by more than is heard"
    assert "loudness" not in back(original, stored(stroke, "FLOAT"))[0]
    assert "loudness" in back(original, stored(stroke * 0.4, "FLOAT"))[0]
    _, result = back(original, stored(stroke * 0.4, "FLOAT"), "loudness")
    most = [levels.loudest(one, RATE, 0.4) for one in (original.samples, result.samples)]
    assert most[0] == pytest.approx(most[1], abs=0.1)
