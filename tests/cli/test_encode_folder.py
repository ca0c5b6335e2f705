"""A folder of new voices at once: paired with their originals by name; what is missing or left over is told."""

from __future__ import annotations

import io
import json
import zipfile
from pathlib import Path

import numpy as np
import pytest
import soundfile
from typer.testing import CliRunner

from brae.cli.main import app

RATE, LONG = 22050, 22050
runner = CliRunner()


def _tone(pitch: float, rate: int, seconds: float) -> np.ndarray:
    return 0.4 * np.sin(2 * np.pi * pitch * np.arange(round(rate * seconds)) / rate)


def _wav(samples: np.ndarray, rate: int) -> bytes:
    stream = io.BytesIO()
    soundfile.write(stream, samples, rate, format="WAV", subtype="PCM_16")
    return stream.getvalue()


@pytest.fixture
def voices(tmp_path: Path) -> Path:
    """Originals in an archive: three lines of the keeper."""
    with zipfile.ZipFile(tmp_path / "voices.zip", "w") as archive:
        for number in range(3):
            archive.writestr(f"keeper/line[{number}].WAV", _wav(_tone(300 + 50 * number, RATE, 1.0), RATE))
    return tmp_path


@pytest.mark.parametrize("where", ["archive", "folder"])
def test_new_voices_are_paired_by_name(voices: Path, where: str) -> None:
    new = voices / "new" / "Keeper"
    new.mkdir(parents=True)
    for name, rate in (("line[0].flac", 48000), ("LINE[2].wav", 44100), ("line[7].wav", 44100)):
        soundfile.write(new / name, _tone(500, rate, 1.0), rate)
    like = voices / "voices.zip"
    if where == "folder":
        with zipfile.ZipFile(like) as archive:
            archive.extractall(voices / "old")
        like = voices / "old"
    told = runner.invoke(
        app, ["encode", str(voices / "new"), "-o", str(voices / "out"), "--like", str(like), "--json"]
    )
    answer = json.loads(told.stdout)
    assert told.exit_code != 0, "one has no original"
    assert "line[7].wav" in answer["failed"][0]["message"]
    assert [Path(one.replace("//", "/")).name for one in answer["without"]] == ["line[1].WAV"]
    made = sorted(Path(one["file"]) for one in answer["encoded"])
    own = [path.relative_to(voices / "out").as_posix() for path in made]
    assert own == ["keeper/line[0].WAV", "keeper/line[2].WAV"], "as the game calls them"
    for path in made:
        samples, rate = soundfile.read(path)
        assert (rate, samples.shape, soundfile.info(path).subtype) == (RATE, (LONG,), "PCM_16")


def test_two_files_for_one_original_and_what_lies_beside_it(voices: Path) -> None:
    old, new = voices / "old", voices / "new"
    old.mkdir()
    new.mkdir()
    (old / "line.lip").write_text("words of the line\n")
    (old / "line.wav").write_bytes(_wav(_tone(300, RATE, 1.0), RATE))
    (old / "other.lip").write_text("words of another\n")
    (old / "other.wav").write_bytes(_wav(_tone(300, RATE, 1.0), RATE))
    soundfile.write(new / "other.flac", _tone(500, RATE, 1.0), RATE)
    (new / "line.WAV").write_bytes(_wav(_tone(500, RATE, 1.0), RATE))
    (new / "LINE.wav").write_bytes(_wav(_tone(600, RATE, 1.0), RATE))
    told = runner.invoke(app, ["encode", str(new), "-o", str(voices / "out"), "--like", str(old), "--json"])
    answer = json.loads(told.stdout)
    assert told.exit_code != 0
    assert sorted(Path(one["file"]).name for one in answer["encoded"]) == ["line.wav", "other.wav"]
    assert [("would both be line.wav" in one["message"]) for one in answer["failed"]] == [True]
    assert sorted(Path(one).name for one in answer["without"]) == ["line.lip", "other.lip"]
