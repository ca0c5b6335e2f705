"""Loops, marks, peaks and delays of sounds that come back.

True peaks are measured a second way: by scipy's polyphase filters at eight times the rate (ITU-R BS.1770-5,
annex 2, asks for at least four). Chunks are laid out by hand after RIFF (1991) and the Audio Interchange File
Format 1.3 (1989).
"""

from __future__ import annotations

import io
import struct

import numpy as np
import pytest
import soundfile
from hypothesis import given
from hypothesis import strategies as st
from scipy.ndimage import convolve1d
from scipy.signal import resample_poly

from brae.core.assets.base import Context, ExchangeFile, Version
from brae.core.assets.sound import convert, levels, loops, peaks
from brae.core.assets.sound.kind import KIND
from brae.core.assets.sound.pieces import Pieces
from brae.core.assets.sound.riff import Chunk, Riff
from brae.core.assets.sound.sound import Sound, plain, read
from brae.core.layouts.library import Library

RATE = 22050


def sine(frames: int, hertz: float = 441.0, level: float = 0.4) -> np.ndarray:
    """441 Hz at 22,050 Hz: 50 samples a period."""
    return level * np.sin(2 * np.pi * hertz * np.arange(frames) / RATE)[:, None]


def looped(samples: np.ndarray, start: int, end: int) -> bytes:
    smpl = struct.pack("<9I", 0, 0, 45351, 60, 0, 0, 0, 1, 0) + struct.pack("<6I", 7, 0, start, end, 0, 0)
    body = Riff.of(plain(samples, RATE)).chunks
    return Riff((*body, Chunk(b"smpl", smpl))).data


def back(original: Sound, samples: np.ndarray, *remedies: str) -> tuple[dict[str, str], Sound]:
    version = Version(ExchangeFile("x.wav", plain(samples, RATE, "FLOAT")), remedies)
    sheet, made = KIND.match(original, version, {})
    return {finding.id: finding.title for finding in sheet.findings}, KIND.again(original, made)


def test_a_seam_jumps_where_the_period_does_not_fit() -> None:
    wave = sine(RATE)
    assert loops.jump(wave, (1000, 20_999), RATE) == 0, "four hundred whole periods"
    # Up to the crest, then from zero: the whole amplitude.
    assert loops.jump(wave, (1000, 21_012), RATE) == pytest.approx(1, abs=0.08)
    assert loops.jump(wave / 50, (1000, 21_012), RATE) == pytest.approx(1, abs=0.08), "however faint it is"
    assert loops.jump(np.random.default_rng(0).uniform(-0.5, 0.5, (RATE, 1)), (1000, 21_012), RATE) == 0, "noise"
    assert loops.jump(wave, (5, RATE + 9), RATE) == 0, "a loop of nothing"


@pytest.mark.parametrize("start", [0, 5, 1000])
def test_a_loop_that_clicks_is_told_and_blended(start: int) -> None:
    end = 20_000 + start + 12
    original = read(looped(sine(RATE), start, start + 19_999))
    assert not back(original, sine(RATE) * 0.9)[0]
    # Another pitch at the same length: its loop no longer closes.
    again = read(looped(sine(RATE), start, end - 12))
    found, _ = back(again, sine(RATE, 450.7) + 0.0)
    assert "seam" in found
    _, result = back(again, sine(RATE, 450.7) + 0.0, "seam")
    assert loops.jump(result.samples, result.loops[0], RATE) == 0
    last = result.loops[0][1]
    untouched = np.abs(result.samples[: last - 700] - sine(RATE, 450.7)[: last - 700]).max()
    assert untouched < 1e-3, "only the last 30 ms of the loop are others"
    assert result.frames == RATE


def test_a_described_sound_has_its_loop_from_the_layout() -> None:
    said = {"kind": "sound", "rate": RATE, "loop_start": 100, "loop_end": 20_000}
    data = np.rint(sine(RATE) * 32767).astype("<i2").tobytes()
    original = KIND.read(data, Context(Library(), said=said))
    assert original.loops == [(100, 20_000)]
    assert KIND.read(data, Context(Library(), said=said | {"loop_end": 50})).loops == []
    assert KIND.read(data, Context(Library(), said=said | {"loop_end": 10**6})).loops == [(100, RATE - 1)]
    found, _ = back(original, sine(RATE, 450.7))
    assert "seam" in found
    _, result = back(original, sine(RATE, 450.7), "seam")
    assert loops.jump(result.samples, result.loops[0], RATE) == 0


def test_the_loop_of_an_archive_stays_where_the_archive_says() -> None:
    """Its numbers stand in a record that an edit of the samples does not write."""
    said = {"kind": "sound", "rate": RATE, "loop_start": 100, "loop_end": 20_099}
    data = np.rint(sine(RATE) * 32767).astype("<i2").tobytes()
    original = KIND.read(data, Context(Library(), said=said))
    assert convert.loops_of(original, sine(2 * RATE)) == [(100, 20_099)]
    assert convert.loops_of(original, sine(5000)) == [(100, 4999)]
    assert convert.loops_of(original, sine(50)) == []
    found, result = back(original, sine(2 * RATE, 450.7), "seam")
    assert "seam" in found
    assert result.loops == [(100, 20_099)]
    assert loops.jump(result.samples, (100, 20_099), RATE) == 0, "judged and closed where the game plays it"


def _eightfold(samples: np.ndarray) -> float:
    return float(20 * np.log10(np.abs(resample_poly(samples, 8, 1, axis=0)).max()))


@given(st.integers(0, 2**32 - 1), st.floats(0.5, 8), st.integers(1, 2))
def test_limited_sounds_stay_below_the_ceiling(seed: int, gain: float, channels: int) -> None:
    random = np.random.default_rng(seed)
    hits = np.zeros((RATE, channels))
    hits[random.integers(0, RATE, 20)] = random.uniform(-0.5, 0.5, (20, channels))
    samples = gain * (hits + 0.05 * random.normal(size=(RATE, channels)))
    samples = convolve1d(samples, [0.1, 0.25, 0.3, 0.25, 0.1], axis=0)
    made = peaks.limited(Pieces.whole(samples, RATE), -1.0).all()
    # Four times the rate reads too low by up to 0.17 dB at a quarter of it (BS.1770-5, annex 2, attachment 1).
    assert _eightfold(made) < -1 + 0.3
    share = made / np.where(np.abs(samples) > 1e-9, samples, 1)
    assert (share[np.abs(samples) > 1e-9] <= 1 + 1e-9).all()
    quiet = samples * (0.3 / max(np.abs(samples).max(), 1e-9))
    assert peaks.limited(Pieces.whole(quiet, RATE), -1.0).all() is quiet


def test_the_true_peak_of_a_long_sound_is_that_of_its_pieces() -> None:
    long = np.tile(sine(RATE, 5512.4, 0.7), (45, 1))
    whole = peaks.peak(peaks.resampled(long, RATE, RATE * 4))
    assert peaks.true_peak(long, RATE) == pytest.approx(whole, abs=0.05)


def test_a_sound_with_high_peaks_is_brought_to_the_loudness_all_the_same() -> None:
    original = read(plain(sine(2 * RATE, level=0.5), RATE))
    ticks = sine(2 * RATE, level=0.1)
    ticks[::4000] = 0.2
    _, result = back(original, ticks, "loudness")
    wanted = levels.loudness(original.samples, RATE)
    assert levels.loudness(result.samples, RATE) == pytest.approx(wanted, abs=1.0)
    assert peaks.true_peak(result.samples, RATE) < 0


def test_marks_move_with_the_length() -> None:
    cue = struct.pack("<I", 2) + b"".join(
        struct.pack("<II4sIII", number, at, b"data", 0, 0, at) for number, at in ((1, 1000), (2, 11_025))
    )
    span = struct.pack("<4sIII4s4H", b"ltxt", 20, 2, 2000, b"rgn ", 0, 0, 0, 0)
    words = struct.pack("<4sII", b"labl", 8, 1) + b"bell" + span
    body = Riff.of(plain(sine(RATE), RATE)).chunks
    original = read(Riff((*body, Chunk(b"cue ", cue), Chunk(b"LIST", b"adtl" + words))).data)
    assert original.cues == [1000, 11_025]
    assert KIND.rebuild(original) == original.data
    _, result = back(original, sine(2 * RATE))
    assert result.cues == [2000, 22_050]
    assert result.riff is not None
    listed = result.riff.get(b"LIST") or b""
    assert listed[: -len(span)] == b"adtl" + words[: -len(span)], "labels stay"
    assert struct.unpack_from("<I", listed, len(listed) - len(span) + 12)[0] == 4000
    assert back(original, sine(RATE) * 0.5)[1].cues == original.cues


def _noted(points: list[tuple[int, int, bytes]], rate: int = RATE, *, frames: int = RATE) -> bytes:
    """A WAVE file with cue points and their labels, and a list of another sort before them, by hand."""
    cue = struct.pack("<I", len(points)) + b"".join(
        struct.pack("<II4sIII", number, at, b"data", 0, 0, at) for number, at, _ in points
    )
    said = b"adtl"
    for number, _, label in points:
        text = label + b"\0"
        said += struct.pack("<4sII", b"labl", 4 + len(text), number) + text + bytes(len(text) % 2)
    body = Riff.of(plain(sine(frames), rate)).chunks
    info = Chunk(b"LIST", b"INFOISFT" + struct.pack("<I", 6) + b"isles\0")
    return Riff((info, *body, Chunk(b"cue ", cue), Chunk(b"LIST", said, bytes(len(said) % 2)))).data


def test_cue_points_go_out_and_come_back_changed() -> None:
    data = _noted([(1, 1000, b"rain"), (2, 11_025, b"again")])
    original = read(data)
    sent = KIND.send(original)
    assert read(sent.data).cues == [1000, 11_025]
    assert b"again\0" in sent.data
    assert KIND.match(original, Version(sent), {})[1].data == data
    # An editor that knows no cue points takes none away.
    assert KIND.match(original, Version(ExchangeFile("x.wav", plain(sine(RATE), RATE))), {})[1].data == data
    other = _noted([(1, 1200, b"rain"), (2, 11_025, b"sun"), (3, 20_000, b"end")])
    made = KIND.match(original, Version(ExchangeFile("x.wav", other)), {})[1].data
    again = read(made)
    assert again.cues == [1200, 11_025, 20_000]
    assert again.notes == read(other).notes
    assert made[8:40] == data[8:40], "the list of another sort stays"
    assert np.array_equal(again.samples, original.samples)
    # At another rate they are at the same seconds.
    faster = KIND.match(
        original, Version(ExchangeFile("x.wav", _noted([(1, 4000, b"a")], 44_100, frames=2 * RATE))), {}
    )
    assert read(faster[1].data).cues == [2000]
    # Lists of two sorts, and another length.
    _, longer = back(original, sine(2 * RATE))
    assert longer.cues == [2000, 22_050]
    assert longer.riff is not None
    assert [one.data[:4] for one in longer.riff.chunks if one.id == b"LIST"] == [b"INFO", b"adtl"]


def test_markers_of_aiff_move_with_the_length() -> None:
    stream = io.BytesIO()
    soundfile.write(stream, sine(RATE), RATE, format="AIFF", subtype="PCM_16")
    made = Riff.of(stream.getvalue())
    mark = struct.pack(">HHIB5sHIB3s", 2, 1, 1000, 4, b"abcd\0", 2, 11_025, 3, b"end")
    data = Riff((*made.chunks, Chunk(b"MARK", mark)), 0, b"", made.form, made.type).data
    original = read(data)
    assert original.cues == [1000, 11_025]
    assert KIND.rebuild(original) == data
    _, result = back(original, sine(2 * RATE))
    assert (result.cues, result.frames, result.type) == ([2000, 22_050], 2 * RATE, "aiff")
    read_back, _ = soundfile.read(io.BytesIO(result.data), always_2d=True)
    assert np.abs(read_back - sine(2 * RATE)).max() < 1e-4


def test_little_endian_aiff_stays_so() -> None:
    stream = io.BytesIO()
    soundfile.write(stream, sine(RATE), RATE, format="AIFF", subtype="PCM_16", endian="LITTLE")
    original = read(stream.getvalue())
    assert b"sowt" in original.data[:80]
    _, result = back(original, sine(RATE) * 0.5)
    assert b"sowt" in result.data[:80]
    assert np.abs(soundfile.read(io.BytesIO(result.data), always_2d=True)[0] - sine(RATE) * 0.5).max() < 1e-4


def test_long_sizes_follow() -> None:
    """EBU Tech 3306: an RF64 file says its sizes in 'ds64'."""
    stream = io.BytesIO()
    soundfile.write(stream, sine(RATE), RATE, format="RF64", subtype="PCM_24")
    original = read(stream.getvalue())
    _, result = back(original, sine(2 * RATE))
    whole, part, frames = struct.unpack_from("<3Q", result.data, 20)
    assert (whole, part, frames) == (len(result.data) - 8, 6 * RATE, 2 * RATE)
    found = soundfile.info(io.BytesIO(result.data))
    assert (found.format, found.frames, found.subtype) == ("RF64", 2 * RATE, "PCM_24")


@pytest.mark.parametrize("kbits", [64, 128, 192])
def test_mp3_comes_back_at_its_bit_rate_and_with_its_tag(kbits: int) -> None:
    stream = io.BytesIO()
    level = (320 - kbits) / 288
    soundfile.write(
        stream, np.repeat(sine(2 * RATE, 300), 2, axis=1), 44100, format="MP3", subtype="MPEG_LAYER_III",
        bitrate_mode="CONSTANT", compression_level=level,
    )  # fmt: skip
    tag = b"ID3\x03\0\0\0\0\0\x14" + b"TIT2\0\0\0\x0a\0\0\0bell rung"
    tag += bytes(30 - len(tag))
    original = read(tag + stream.getvalue())
    samples = np.repeat(sine(2 * RATE, 350), 2, axis=1)
    version = Version(ExchangeFile("x.wav", plain(samples, 44100, "FLOAT")))
    made = KIND.match(original, version, {})[1].data
    assert made[: len(tag)] == tag
    assert len(made) == pytest.approx(len(original.data), rel=0.05)
    assert KIND.match(original, version, {})[1].data == made, "the same every time"


def test_mp3_whose_frames_have_no_room_for_the_delay_is_told() -> None:
    stream = io.BytesIO()
    soundfile.write(
        stream, sine(RATE), RATE, format="MP3", subtype="MPEG_LAYER_III", bitrate_mode="CONSTANT",
        compression_level=0.99,
    )  # fmt: skip
    found, result = back(read(stream.getvalue()), sine(RATE, 350))
    assert found["delay"].startswith("It begins up to ")
    assert result.frames > RATE


def test_what_comes_late_is_told_without_silence_before_it() -> None:
    random = np.random.default_rng(5)
    hits = np.zeros((2 * RATE, 1))
    for at in random.integers(0, 2 * RATE - 3000, 12):
        hits[at : at + 2000] += random.normal(0, 0.1, (2000, 1)) * np.linspace(1, 0, 2000)[:, None]
    hits += random.normal(0, 0.004, hits.shape)
    original = read(plain(hits, RATE))
    late = np.concatenate([random.normal(0, 0.004, (RATE // 10, 1)), hits])
    found, _ = back(original, late)
    assert found["start"] == "100 ms later than in the original"
    found, result = back(original, late, "start")
    assert np.abs(result.samples[: 2 * RATE] - original.samples).max() < 0.02
    assert "start" not in back(original, hits * 0.8)[0]
    assert "start" not in back(original, random.normal(0, 0.1, hits.shape))[0], "another sound is not late"
