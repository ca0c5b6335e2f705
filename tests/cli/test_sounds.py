"""``brae loudness``, and sounds and texts through ``brae decode`` and ``brae encode``; files by libsndfile."""

from __future__ import annotations

import io
import json
import zipfile
from pathlib import Path

import numpy as np
import pytest
import soundfile
from PIL import Image

from tests.cli.test_cli import brae
from tests.core.families.cookbook import bank, said, tune
from tests.core.families.family import in_cookbook

RATE = 48_000
TONE = 10 ** (-23 / 20) * np.sin(2 * np.pi * 1000 * np.arange(RATE) / RATE)


@pytest.fixture
def sounds(tmp_path: Path) -> Path:
    folder = tmp_path / "sounds"
    folder.mkdir()
    soundfile.write(folder / "tone.wav", np.stack([TONE, TONE], axis=1), RATE, subtype="FLOAT")
    stream = io.BytesIO()
    soundfile.write(stream, TONE[:, None], RATE, format="FLAC", subtype="PCM_16")
    with zipfile.ZipFile(folder / "bank.zip", "w") as archive:
        archive.writestr("voices/one.flac", stream.getvalue())
        archive.writestr("notes.txt", "Tide\r\n")
        archive.writestr("cut.wav", b"RIFF\x40\0\0\0WAVEfmt ")
    return folder


def test_loudness_is_a_table(sounds: Path, tmp_path: Path) -> None:
    said = json.loads(brae("loudness", sounds, "--home", tmp_path / "home", "--json"))
    # EBU Tech 3341, case 1: a stereo sine at -23 dBFS is -23 LUFS; of one channel it is 3.01 LU less.
    found = {one["address"]: one for one in said["sounds"]}
    assert found["tone.wav"]["integrated"] == pytest.approx(-23, abs=0.1)
    assert found["bank.zip//voices/one.flac"]["integrated"] == pytest.approx(-26.01, abs=0.1)
    assert found["tone.wav"]["true_peak"] == pytest.approx(-23, abs=0.1)
    assert (found["tone.wav"]["channels"], found["tone.wav"]["seconds"]) == (2, 1.0)
    one = brae("loudness", f"{sounds / 'bank.zip'}//voices/one.flac", "--home", tmp_path / "home")
    assert one.splitlines()[0].split()[0] == "LUFS"
    assert one.splitlines()[1].split()[0] in ("-26.0", "-26.1")


@pytest.mark.parametrize(("ending", "within"), [("wav", 1e-4), ("flac", 1e-4), ("ogg", 0.02)])
def test_a_sound_out_and_back_like_the_original(sounds: Path, tmp_path: Path, ending: str, within: float) -> None:
    home, original = tmp_path / "home", sounds / "tone.wav"
    out, back = tmp_path / f"tone.{ending}", tmp_path / "back.wav"
    assert "bytes" in brae("decode", original, "-o", out, "--home", home)
    samples, rate = soundfile.read(out)
    assert rate == RATE
    assert np.abs(samples[:, 0] - TONE).max() < within
    said = json.loads(brae("encode", out, "-o", back, "--like", original, "--home", home, "--json"))
    info = soundfile.info(back)
    assert (info.subtype, info.channels, info.samplerate) == ("FLOAT", 2, RATE)
    assert said["encoded"][0]["bytes"] == back.stat().st_size == original.stat().st_size
    assert np.abs(soundfile.read(back)[0] - soundfile.read(original)[0]).max() < within


def test_what_the_game_would_trip_over_is_told(sounds: Path, tmp_path: Path) -> None:
    soundfile.write(tmp_path / "loud.wav", np.clip(TONE * 40, -1, 1), 22_050)
    arguments = ("encode", tmp_path / "loud.wav", "-o", tmp_path / "made.wav", "--like", sounds / "tone.wav")
    said = json.loads(brae(*arguments, "--home", tmp_path / "home", "--json"))
    assert {one["id"] for one in said["encoded"][0]["findings"]} >= {"loudness", "clipped"}
    assert soundfile.info(tmp_path / "made.wav").samplerate == RATE
    brae(*arguments, "--put-right", "--home", tmp_path / "home", "--json")
    table = json.loads(brae("loudness", tmp_path / "made.wav", sounds / "tone.wav", "--json"))["sounds"]
    assert table[0]["integrated"] == pytest.approx(table[1]["integrated"], abs=0.3)
    assert "not written as '.mp3'" in brae("decode", sounds / "tone.wav", "-o", tmp_path / "a.mp3", fails=True)


def test_a_text_keeps_its_line_ends(sounds: Path, tmp_path: Path) -> None:
    notes = f"{sounds / 'bank.zip'}//notes.txt"
    brae("decode", notes, "-o", tmp_path / "notes.txt")
    assert (tmp_path / "notes.txt").read_bytes() == b"Tide\r\n"
    (tmp_path / "edited.txt").write_bytes(b"Ebb\nFlow\n")
    arguments = ("encode", tmp_path / "edited.txt", "-o", tmp_path / "made.txt", "--like", tmp_path / "notes.txt")
    said = json.loads(brae(*arguments, "--json"))
    assert [one["remedy"]["applied"] for one in said["encoded"][0]["findings"]] == [True]
    assert (tmp_path / "made.txt").read_bytes() == b"Ebb\r\nFlow\r\n"


def game_of(folder: Path, **layouts: str) -> Path:
    """A folder with layouts of the cookbook beside its files."""
    (folder / "brae-layouts").mkdir(parents=True)
    for name, layout in layouts.items():
        (folder / "brae-layouts" / f"{name}.yaml").write_text(in_cookbook(layout))
    return folder


def test_a_sound_behind_its_own_header_is_that_file(tmp_path: Path) -> None:
    """Codes by the standard library's ``audioop``; what comes back is heard by it as well."""
    audioop = pytest.importorskip("audioop", reason="not in this Python any more")
    game, home = game_of(tmp_path / "game", tune="cook-tune"), tmp_path / "home"
    samples = np.rint(9000 * np.sin(2 * np.pi * 440 * np.arange(22_050) / 22_050)).astype(np.int16)
    codes, _ = audioop.lin2adpcm(samples.tobytes(), 2, None)
    original = game / "bell.tune"
    original.write_bytes(tune([("", codes)])["main"])
    before = original.read_bytes()
    brae("decode", original, "-o", tmp_path / "bell.wav", "--home", home)
    heard, rate = soundfile.read(tmp_path / "bell.wav", dtype="int16")
    assert rate == 22_050
    assert heard.tobytes() == audioop.adpcm2lin(codes, 2, None)[0]
    # Untouched: the same file. Painted over in an editor, at another rate: its own header, and its size in it.
    brae("encode", tmp_path / "bell.wav", "-o", tmp_path / "same.tune", "--like", original, "--home", home)
    assert (tmp_path / "same.tune").read_bytes() == before
    time = np.arange(44_100 * 2) / 44_100
    soundfile.write(tmp_path / "horn.flac", 0.3 * np.sin(2 * np.pi * 330 * time), 44_100)
    arguments = ("encode", tmp_path / "horn.flac", "-o", tmp_path / "horn.tune", "--like", original)
    told = json.loads(brae(*arguments, "--home", home, "--json"))["encoded"][0]
    assert {"rate", "length"} <= {one["id"] for one in told["findings"]}
    made = (tmp_path / "horn.tune").read_bytes()
    assert (made[:10], int.from_bytes(made[10:14], "big")) == (before[:10], len(made) - 14)
    assert told["bytes"] == len(made)
    back = np.frombuffer(audioop.adpcm2lin(made[14:], 2, None)[0], np.int16) / 32768
    wanted = 0.3 * np.sin(2 * np.pi * 330 * np.arange(44_100) / 22_050)
    assert np.corrcoef(back[1000:44_000], wanted[1000:44_000])[0, 1] > 0.99
    assert "never overwritten" in brae(
        "encode", tmp_path / "horn.flac", "-o", original, "--like", original, fails=True
    )
    assert original.read_bytes() == before


def test_members_are_what_their_records_say(tmp_path: Path) -> None:
    """A sound of a bank and a picture without a header, named by their addresses."""
    game, home = game_of(tmp_path / "game", bank="cook-bank", said="cook-said"), tmp_path / "home"
    frames = np.random.default_rng(3).integers(0, 256, (70, 16), dtype=np.uint8)
    frames[:, 0], frames[:, 1] = 0x0C, 2  # the codes are the samples: no filter, no shift
    two = frames.copy()
    two[5:] = 0
    (game / "sea.bank").write_bytes(bank([("wave", frames.tobytes()), ("gull", two.tobytes())])["main"])
    wave = f"{game / 'sea.bank'}//wave"
    brae("decode", wave, "-o", tmp_path / "wave.wav", "--home", home)
    heard, _ = soundfile.read(tmp_path / "wave.wav", dtype="int16")
    codes = np.stack([frames[:, 2:] & 15, frames[:, 2:] >> 4], axis=2).reshape(-1)
    assert heard.tolist() == ((codes.astype(int) ^ 8) - 8).tolist()
    brae("encode", tmp_path / "wave.wav", "-o", tmp_path / "wave.bin", "--like", wave, "--home", home)
    assert (tmp_path / "wave.bin").read_bytes() == frames.tobytes()
    told = json.loads(brae("inspect", wave, "--home", home, "--json"))
    assert (told["kind"], told["facts"]["codec"], told["proof"]["exact"]) == ("sound", "adpcm", True)
    assert "archive of 2 members" in brae("decode", game / "sea.bank", "-o", tmp_path / "a.wav", fails=True)
    table = json.loads(brae("loudness", game / "sea.bank", "--json"))["sounds"]
    assert [one["address"] for one in table] == ["sea.bank//wave", "sea.bank//gull"]
    pixels = np.random.default_rng(4).integers(0, 256, (6, 10, 4), dtype=np.uint8)
    data = bytearray(said([("sail", pixels.tobytes()), ("note", b"words")])["main"])
    data[24:28], data[28:30], data[30:32] = b"PIC ", (10).to_bytes(2, "little"), (6).to_bytes(2, "little")
    (game / "art.said").write_bytes(data)
    brae("decode", f"{game / 'art.said'}//sail", "-o", tmp_path / "sail.png", "--home", home)
    with Image.open(tmp_path / "sail.png") as picture:
        assert np.array_equal(np.asarray(picture), pixels[::-1, :, [2, 1, 0, 3]])


def test_a_data_file_beside_the_index_is_spared_too(tmp_path: Path) -> None:
    """The layout names its data file itself: a new index in the same folder would have it written over."""
    game = tmp_path / "game"
    (game / "brae-layouts").mkdir(parents=True)
    (game / "brae-layouts" / "horn.yaml").write_text(
        """layout: horn
title: An index and one body for all
kind: archive
files: {body: "all.body"}
parts:
  - {field: magic, type: bytes, length: 4, value: "HORN"}
  - {field: stored, type: u32, is: size(samples)}
  - {members: samples, file: body, size: stored, kind: sound, facts: {rate: 8000}}
"""
    )
    samples = np.arange(4000).astype("<i2").tobytes()
    (game / "one.horn").write_bytes(b"HORN" + len(samples).to_bytes(4, "little"))
    (game / "all.body").write_bytes(samples)
    brae("decode", game / "one.horn", "-o", tmp_path / "one.wav")
    soundfile.write(tmp_path / "two.wav", np.zeros(4000), 8000)
    arguments = ("encode", tmp_path / "two.wav", "--like", game / "one.horn", "--anyway", "-o")
    assert "never overwritten" in brae(*arguments, game / "two.horn", fails=True)
    assert (game / "all.body").read_bytes() == samples
    brae(*arguments, tmp_path / "new" / "two.horn", "--json")
    assert (tmp_path / "new" / "all.body").read_bytes() == bytes(8000)
    assert (game / "all.body").read_bytes() == samples
