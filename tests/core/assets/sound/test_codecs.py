"""Codecs that have no header of their own, described by what an archive's records say.

References: libsndfile (IMA and Microsoft ADPCM in blocks, to the bit), the standard library's ``audioop`` (IMA
without headers, to the bit), and for ADPCM in frames a decoder written here from the rule, sample by sample.
"""

from __future__ import annotations

import io
from typing import Any

import numpy as np
import pytest
import soundfile

from brae.core.assets.base import Context, ExchangeFile, Version
from brae.core.assets.sound import ima, ms
from brae.core.assets.sound.kind import KIND
from brae.core.assets.sound.riff import Riff
from brae.core.assets.sound.sound import Sound, plain
from brae.core.errors import BraeError, FormatError
from brae.core.layouts.library import Library

RATE = 22050
#: ADPCM in frames as consoles have it (common practice, no source)
CONSOLES: dict[str, dict[str, Any]] = {
    "sixteen": {
        "codec": "adpcm", "frame": 16, "head": "shift 4, filter 4, flags 8", "gain": "12 - shift",
        "filters": "0 0, 60 0, 115 -52, 98 -55, 122 -60",
    },
    "eight": {
        "codec": "adpcm", "frame": 8, "head": "shift 4, filter 4", "gain": "shift", "nibbles": "high",
        "precision": 11, "filters": "0 0, 2048 0, 4096 -2048, 1792 -256, 3072 -1024, 3600 -1700",
    },
    "nine": {
        "codec": "adpcm", "frame": 9, "head": "flags 2, filter 2, shift 4", "gain": "shift - 1",
        "nibbles": "high", "filters": "0 0, 60 0, 122 -60, 115 -52",
    },
}  # fmt: skip
SAID: dict[str, dict[str, Any]] = {
    "pcm in turns": {"interleave": 64},
    "pcm, whole channels": {"interleave": "whole", "bits": 24, "endian": "big"},
    "eight bits, whole": {"interleave": "whole", "bits": 8, "sign": "signed"},
    "ima, low first": {"codec": "ima-adpcm"},
    "ima, high first": {"codec": "ima-adpcm", "nibbles": "high"},
    "ima in turns": {"codec": "ima-adpcm", "interleave": 128},
    "ima in blocks": {"codec": "ima-adpcm", "block": 72},
    "ima in blocks of a channel": {"codec": "ima-adpcm", "block": 36, "interleave": 36},
    "ima in big blocks, nine bits": {
        "codec": "ima-adpcm",
        "block": 34,
        "state": "predictor 9, step 7",
        "endian": "big",
    },
    "ima, states before it": {"codec": "ima-adpcm", "state": "predictor 16, step 8, more 8"},
    "ima, states before it, in turns": {"codec": "ima-adpcm", "state": "step 16, sample 32", "interleave": 32},
    "ima, states before whole channels": {
        "codec": "ima-adpcm",
        "state": "sample 16, step 16",
        "interleave": "whole",
        "endian": "big",
    },
    "ima, states of the records": {"codec": "ima-adpcm", "predictor": 900, "step": 30, "step_2": 12},
    "microsoft": {"codec": "ms-adpcm", "block": 70},
    **CONSOLES,
    "sixteen in turns": {**CONSOLES["sixteen"], "interleave": 64},
    "eight, whole": {**CONSOLES["eight"], "interleave": "whole"},
}


def music(frames: int, channels: int = 1) -> np.ndarray:
    """Two tones that swell, and a little noise: 16 bits, shape (frames, channels)."""
    time = np.arange(frames)[:, None] / RATE + np.arange(channels) / 700
    wave = 0.3 * np.sin(2 * np.pi * 330 * time) * np.sin(3 * time) + 0.1 * np.sin(2 * np.pi * 1234 * time)
    return np.rint((wave + np.random.default_rng(4).normal(0, 0.004, wave.shape)) * 32767).astype(np.int16)


def read(data: bytes, said: dict[str, Any], channels: int = 1) -> Sound:
    context = Context(Library(), said={"kind": "sound", "rate": RATE, "channels": channels, **said})
    found: Sound = KIND.read(data, context)
    return found


def edited(original: Sound, samples: np.ndarray, *remedies: str) -> tuple[set[str], bytes]:
    """Findings, and the bytes of an edit like its original."""
    file = ExchangeFile("x.wav", plain(samples, original.rate, "PCM_24"))
    sheet, made = KIND.match(original, Version(file, remedies), KIND.recipe(original).model_dump())
    return {finding.id for finding in sheet.findings}, made.data


def made(said: dict[str, Any], channels: int, frames: int = 3000) -> Sound:
    """A sound of such a codec: encoded from silence of about that length."""
    silent = read(bytes(12 * frames * channels), said, channels)
    _, data = edited(silent, music(frames, channels) / 32768)
    return read(data, said, channels)


@pytest.mark.parametrize("channels", [1, 2, 3])
@pytest.mark.parametrize("name", SAID)
def test_every_codec_both_ways(name: str, channels: int) -> None:
    said = SAID[name]
    original = made(said, channels)
    wanted = music(3000, channels) / 32768
    got = original.samples[: len(wanted)]
    noise = ((got - wanted) ** 2).mean()
    least = 24 if "eight bits" in name else 18 if original.bare.packed else 40
    assert noise < (wanted**2).mean() / 10 ** (least / 10)
    assert KIND.rebuild(original) == original.raw
    if "whole" not in name:  # what ends in the middle of a block, a frame or a turn is kept
        cut = read(original.raw[: len(original.raw) * 2 // 3 + 1], said, channels)
        assert KIND.rebuild(cut) == cut.raw
    # Unchanged: the same bytes. Changed in one place: the bytes far before it and their number stay.
    assert edited(original, original.samples) == (set(), original.raw)
    changed = original.samples.copy()
    changed[2000:2300] *= 0.5
    ids, data = edited(original, changed)
    assert len(data) == len(original.raw)
    heard = read(data, said, channels).samples
    assert np.array_equal(heard[:1500], original.samples[:1500])
    loss = ((heard[2000:2300] - changed[2000:2300]) ** 2).mean()
    assert loss < 0.03 * (changed[2000:2300] ** 2).mean()
    assert "length" not in ids


@pytest.mark.parametrize("name", [*CONSOLES, "ima in blocks", "microsoft", "pcm in turns"])
def test_what_an_edit_did_not_touch_keeps_its_bytes(name: str) -> None:
    original = made(SAID[name], 1)
    changed = original.samples.copy()
    changed[1000:1100] += 0.01 * np.sin(np.arange(100))[:, None]
    _, data = edited(original, changed)
    same = np.frombuffer(data, np.uint8) == np.frombuffer(original.raw, np.uint8)
    first, last = np.flatnonzero(~same)[[0, -1]] / len(same)
    assert 0.28 < first < 0.4
    # Where a frame goes on from the samples before it, it may take some frames until they are the same.
    assert last < (0.42 if "block" in SAID[name] or name == "pcm in turns" else 1)


@pytest.mark.parametrize("channels", [1, 2])
@pytest.mark.parametrize(("codec", "subtype"), [("ima-adpcm", "IMA_ADPCM"), ("ms-adpcm", "MS_ADPCM")])
def test_blocks_against_libsndfile(codec: str, subtype: str, channels: int) -> None:
    samples, stream = music(30_000, channels), io.BytesIO()
    soundfile.write(stream, samples, RATE, format="WAV", subtype=subtype)
    file = Riff.of(stream.getvalue())
    form, data = file.get(b"fmt ") or b"", file.get(b"data") or b""
    block = int.from_bytes(form[12:14], "little")
    ours = read(data, {"codec": codec, "block": block}, channels)
    theirs, _ = soundfile.read(io.BytesIO(stream.getvalue()), dtype="int16", always_2d=True)
    assert np.array_equal(np.rint(ours.samples * 32768)[: len(samples)], theirs[: len(samples)])
    if codec == "ms-adpcm":
        assert ms.form(channels, RATE, block) == form
    # Encoded by us and heard by libsndfile: nearer to the samples than what it encodes itself.
    again = (ima if codec == "ima-adpcm" else ms).encode(samples, block)
    heard, _ = soundfile.read(io.BytesIO(file.with_chunks({b"data": again}).data), dtype="int16", always_2d=True)
    wrong = [((one[: len(samples)].astype(float) - samples) ** 2).mean() for one in (heard, theirs)]
    assert wrong[0] < wrong[1]


@pytest.mark.parametrize("channels", [1, 2])
def test_blocks_of_aiff_c_against_libsndfile(channels: int) -> None:
    """Packets of 34 bytes of one channel, nine bits of the state's sample (Inside Macintosh: Sound, 2-22)."""
    samples, stream = music(6400, channels), io.BytesIO()
    soundfile.write(stream, samples, RATE, format="AIFF", subtype="IMA_ADPCM")
    data = (Riff.of(stream.getvalue()).get(b"SSND") or b"")[8:]
    said = {"codec": "ima-adpcm", "block": 34, "state": "predictor 9, step 7", "endian": "big"}
    theirs, _ = soundfile.read(io.BytesIO(stream.getvalue()), dtype="int16", always_2d=True)
    ours = read(data, said, channels)
    assert np.array_equal(np.rint(ours.samples * 32768), theirs)
    # Encoded by us and heard by libsndfile: nearer to the samples than what it encodes itself.
    _, again = edited(read(bytes(len(data)), said, channels), samples / 32768)
    place = stream.getvalue().index(data)
    file = stream.getvalue()[:place] + again + stream.getvalue()[place + len(data) :]
    heard, _ = soundfile.read(io.BytesIO(file), dtype="int16", always_2d=True)
    wrong = [((one.astype(float) - samples) ** 2).mean() for one in (heard, theirs)]
    assert wrong[0] < wrong[1]


def test_ima_from_a_state_against_the_standard_library() -> None:
    audioop = pytest.importorskip("audioop", reason="not in this Python any more")
    samples = music(4000)
    codes, _ = audioop.lin2adpcm(samples.tobytes(), 2, (700, 20))
    theirs = np.frombuffer(audioop.adpcm2lin(codes, 2, (700, 20))[0], np.int16)
    said = {"codec": "ima-adpcm", "nibbles": "high"}
    told = read(codes, {**said, "predictor": 700, "step": 20})
    before = read(b"\x02\xbc\x00\x14" + codes, {**said, "endian": "big", "state": "predictor 16, step 16"})
    for ours in (told, before):
        assert np.array_equal(np.rint(ours.samples[:, 0] * 32768), theirs)
    # A beginning that is not the original's gets a state of its own where that stands before it.
    loud = samples.copy()[::-1] / 32768 + 0.2
    for original, least in ((told, 0), (before, 20)):
        heard = original.bare
        again = read(edited(original, loud)[1], heard.model_dump(exclude_unset=True) | {"rate": RATE}).samples
        noise = ((again[:40] - loud[:40]) ** 2).mean()
        assert 10 * np.log10((loud[:40] ** 2).mean() / noise) > least


def test_ima_without_headers_against_the_standard_library() -> None:
    audioop = pytest.importorskip("audioop", reason="not in this Python any more")
    samples = music(4000)
    codes, _ = audioop.lin2adpcm(samples.tobytes(), 2, None)
    theirs, _ = audioop.adpcm2lin(codes, 2, None)
    ours = read(codes, {"codec": "ima-adpcm", "nibbles": "high"})
    assert np.array_equal(np.rint(ours.samples[:, 0] * 32768), np.frombuffer(theirs, np.int16))
    _, back = edited(read(bytes(2000), {"codec": "ima-adpcm", "nibbles": "high"}), samples / 32768)
    heard = np.frombuffer(audioop.adpcm2lin(back, 2, None)[0], np.int16).astype(float)
    theirs_wrong = ((np.frombuffer(theirs, np.int16) - samples[:, 0].astype(float)) ** 2).mean()
    assert ((heard - samples[:, 0]) ** 2).mean() < 1.1 * theirs_wrong


def by_hand(data: bytes, said: dict[str, Any]) -> list[int]:
    """ADPCM in frames, decoded sample by sample as the rule is written; no code of Brae."""
    filters = [tuple(map(int, pair.split())) for pair in said["filters"].split(",")]
    size, one, two, out = said["frame"], 0, 0, []
    for at in range(0, len(data) - size + 1, size):
        head, shift_up = data[at], said["gain"]
        if said["frame"] == 9:
            shift, which, body = head >> 4, head >> 2 & 3, data[at + 1 : at + size]
        else:
            shift, which = head & 15, head >> 4
            body = data[at + (2 if size == 16 else 1) : at + size]
        for byte in body:
            pair = (byte >> 4, byte & 15) if said.get("nibbles") == "high" else (byte & 15, byte >> 4)
            for code in pair:
                signed = (code ^ 8) - 8
                if shift_up == "12 - shift":
                    scaled = (signed << 12) >> shift
                else:
                    scaled = (signed << shift) >> (1 if shift_up == "shift - 1" else 0)
                bits = said.get("precision", 6)
                value = scaled + ((one * filters[which][0] + two * filters[which][1] + (1 << bits - 1)) >> bits)
                value = min(max(value, -32768), 32767)
                one, two = value, one
                out.append(value)
    return out


@pytest.mark.parametrize("name", CONSOLES)
def test_frames_against_the_rule(name: str) -> None:
    said = CONSOLES[name]
    random = np.random.default_rng(9).integers(0, 256, (40, said["frame"]), dtype=np.uint8)
    limit = len(said["filters"].split(","))
    if name == "nine":
        random[:, 0] = random[:, 0] & 0b00001111 | (random[:, 0] % 13) << 4
    else:
        random[:, 0] = (random[:, 0] % limit) << 4 | random[:, 0] % 13
    data = random.tobytes()
    assert np.rint(read(data, said).samples[:, 0] * 32768).astype(int).tolist() == by_hand(data, said)


def test_flags_of_frames_stay_where_they_are() -> None:
    """The last frame's flag ends the sound: it is the last frame's of an edit of another length, too."""
    said = CONSOLES["sixteen"]
    frames = np.frombuffer(made(said, 1).raw, np.uint8).reshape(-1, 16).copy()
    frames[:, 1] = 2
    frames[0, 1], frames[-1, 1] = 6, 3
    original = read(frames.tobytes(), said)
    for length in (1000, 9000):
        _, data = edited(original, music(length) / 32768)
        flags = np.frombuffer(data, np.uint8).reshape(-1, 16)[:, 1]
        assert (flags[0], flags[-1], set(flags[1:-1])) == (6, 3, {2})


def test_the_number_of_samples_that_is_said_stays() -> None:
    said = {**CONSOLES["sixteen"], "samples": 2990}
    original = read(made(CONSOLES["sixteen"], 1).raw, said)
    assert (original.frames, KIND.rebuild(original)) == (2990, original.raw)
    for length in (2000, 4000):
        ids, data = edited(original, music(length) / 32768)
        assert "length" in ids
        assert len(data) == len(original.raw)
        heard = read(data, said).samples[:, 0]
        assert len(heard) == 2990
        if length < 2900:
            assert np.abs(heard[2100:]).max() < 0.01
    with pytest.raises(FormatError, match="99,999 samples are said, but there are"):
        read(original.raw, {**said, "samples": 99_999})


WRONG = [
    ({"codec": "ms-adpcm"}, "needs its 'block'"),
    ({"codec": "pcm", "frame": 16}, "'frame' says nothing of pcm"),
    ({"codec": "ima-adpcm", "block": 37}, "four bytes of each channel"),
    ({"codec": "ms-adpcm", "block": 36, "interleave": 4}, "a block holds all channels"),
    ({"codec": "ima-adpcm", "block": 4, "state": "step 16, sample 16"}, "no room behind"),
    ({"codec": "ima-adpcm", "block": 40, "state": "sample 16, step 4"}, "20 bits is no number of bytes"),
    ({"codec": "ima-adpcm", "state": "sample 16, step 16", "step": 4}, "not said by 'predictor' and 'step'"),
    ({"codec": "ima-adpcm", "state": "sample 16, index 16"}, "needs 'step' and 'sample'"),
    ({"codec": "pcm", "step": 4}, "'step' says nothing of pcm"),
    ({"codec": "adpcm"}, "needs its 'frame'"),
    ({"codec": "adpcm", "frame": 16, "head": "shift 4, flags 4"}, "needs 'shift' and 'filter'"),
    ({"codec": "adpcm", "frame": 16, "head": "shift 4, filter 3"}, "a head of 7 bits"),
    ({"codec": "adpcm", "frame": 16, "loop_flag": 4}, "a bit of 'flags' in the head"),
    ({"codec": "adpcm", "frame": 16, "repeat_flag": 4}, "belongs to a 'loop_flag'"),
    ({"codec": "adpcm", "frame": 16, "gain": "12 / shift"}, "the 'gain' is a number less the shift"),
    ({"codec": "adpcm", "frame": 16, "filters": "60 0, 115"}, "'115' is no filter"),
]


@pytest.mark.parametrize(("said", "words"), WRONG)
def test_what_cannot_be_so_is_told(said: dict[str, Any], words: str) -> None:
    with pytest.raises(BraeError, match=words):
        read(bytes(160), said)


def test_a_filter_that_there_is_not_is_told_with_its_frame() -> None:
    data = bytes(32) + b"\x7f" + bytes(15)
    with pytest.raises(FormatError, match="Frame 2 has filter 7") as told:
        _ = read(data, CONSOLES["sixteen"]).samples
    assert told.value.offset == 32


def test_coefficients_of_a_games_own_are_heard_and_not_written() -> None:
    stream = io.BytesIO()
    soundfile.write(stream, music(4000), RATE, format="WAV", subtype="MS_ADPCM")
    usual = KIND.read(stream.getvalue(), Context(Library()))
    KIND.check_writable(usual)
    form = bytearray(Riff.of(stream.getvalue()).get(b"fmt ") or b"")
    form[22:24] = (200).to_bytes(2, "little")
    other = KIND.read(Riff.of(stream.getvalue()).with_chunks({b"fmt ": bytes(form)}).data, Context(Library()))
    with pytest.raises(FormatError, match="coefficients of its own"):
        KIND.check_writable(other)


@pytest.mark.parametrize("more", [{"most": 4000}, {"room": 16 * (4000 // 28)}])
def test_an_edit_is_cut_to_what_there_is_room_for(more: dict[str, int]) -> None:
    said = {**CONSOLES["sixteen"], **more}
    original = read(made(CONSOLES["sixteen"], 1).raw, said)
    for length, cut in ((3500, False), (6000, True)):
        ids, data = edited(original, music(length) / 32768)
        heard = read(data, said).samples[:, 0]
        assert "length" in ids
        assert len(heard) <= 4000 + 28
        assert (len(heard) < length) == cut


@pytest.mark.parametrize("channels", [1, 2])
def test_loops_that_flags_of_frames_mark(channels: int) -> None:
    """One bit marks the loop's first frame, one the last of a sound that goes on (common practice, no source)."""
    said = {**CONSOLES["sixteen"], "loop_flag": 4, "repeat_flag": 2}
    frames = np.frombuffer(made(CONSOLES["sixteen"], channels, 2800).raw, np.uint8).reshape(-1, 16).copy()
    frames[40 * channels : 41 * channels, 1] = 4
    frames[-channels:, 1] = 3
    original = read(frames.tobytes(), said, channels)
    assert original.loops == [(40 * 28, 2799)]
    assert edited(original, original.samples) == (set(), original.raw)
    for length in (1400, 5600):
        _, data = edited(original, music(length, channels) / 32768)
        again = read(data, said, channels)
        assert again.loops == [(40 * length // 2800 * 28, length - 1)]
        flags = np.frombuffer(data, np.uint8).reshape(-1, 16)[:, 1]
        assert (flags & 4 > 0).sum() == channels
        assert (flags[-channels:] == 3).all()
    silent = frames.copy()
    silent[-channels:, 1] = 1
    assert read(silent.tobytes(), said, channels).loops == []
