"""``brae loudness``, and sounds and texts through ``brae decode`` and ``brae encode``; files by libsndfile."""

from __future__ import annotations

import io
import json
import zipfile
from pathlib import Path

import numpy as np
import pytest
import soundfile

from tests.cli.test_cli import brae

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
