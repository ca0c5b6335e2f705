"""The disc edition's bank of sounds, and the desktop edition's tune.

The game's own encoder wrote them and its own reader hears them; neither shares code with Brae, which reads them by
a layout. libsndfile hears the tune.
"""

from __future__ import annotations

import io
import struct
import wave
from pathlib import Path

import numpy as np
import pytest
import soundfile

from brae.core.assets.base import Context
from brae.core.assets.sound.kind import KIND
from brae.core.assets.sound.loops import jump
from brae.core.assets.sound.sound import Sound, plain, read
from brae.core.containers.nesting import open_path
from brae.core.layouts.library import Library
from brae.demo import LAYOUTS, bank
from brae.demo.standin import chimes
from brae.demo.standin.chimes import HEARD, Bank
from brae.demo.standin.disc import Disc, Drive, Volume
from brae.demo.standin.report import Report
from brae.demo.standin.voices import Silent, tune
from brae.demo.tunes import tunes
from brae.work import Workspace, builds
from brae.work.edits import put_in_work
from brae.work.opening import open_game
from tests.work.test_flow import come_back, edit_of

LIBRARY = Library.of([LAYOUTS])


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> bytes:
    return bank.bank()


def heard(data: bytes, name: str) -> np.ndarray:
    """By the game's own reader, once through."""
    with wave.open(io.BytesIO(Bank(data).read(name, 1))) as file:
        return np.frombuffer(file.readframes(file.getnframes()), "<i2")


def by_layout(path: Path, name: str) -> Sound:
    archive = open_path(path, [], LIBRARY).container
    number = archive.index_of(name)
    found: Sound = KIND.read(archive.read(number), Context(LIBRARY, name, said=archive.said([number])[0]))
    return found


def test_both_readers_hear_the_same(made: bytes, tmp_path: Path) -> None:
    path = tmp_path / "CHIMES.BEL"
    path.write_bytes(made)
    assert open_path(path, [], LIBRARY).container.prove().exact
    for name, samples, loop in bank.sounds():
        sound = by_layout(path, name)
        assert np.array_equal(np.rint(sound.samples[:, 0] * 32768), heard(made, name))
        count = min(len(samples), sound.frames)
        lost = ((sound.samples[:count, 0] - samples[:count]) ** 2).mean()
        assert lost < (samples**2).mean() / 50
        wanted = [] if loop is None else [(loop[0] * bank.PER, sound.frames - 1)]
        assert sound.loops == wanted
        assert all(jump(sound.samples, one, sound.rate) == 0 for one in sound.loops)


def _with(data: bytes, at: int, form: str, value: int) -> bytes:
    found = bytearray(data)
    struct.pack_into(form, found, at, value)
    return bytes(found)


def test_the_game_refuses_what_it_would_not_play(made: bytes) -> None:
    entry = 8  # the horn's
    place, size = struct.unpack_from("<II", made, entry + 24)
    wrong = {
        "does not begin": b"CHIN" + made[4:],
        "has no room": _with(made, 4, "<I", 4000),
        "where": _with(made, entry + 14, "<H", 2),
        "48000 Hz": _with(made, entry + 12, "<H", 48000),
        "no whole frames": _with(made, entry + 28, "<I", size - 3),
        "has the head": _with(made, place, "<B", 0x5F),
        "ends the sound": _with(made, place + 1, "<B", 1),
        "do not agree": _with(made, entry + 16, "<I", 0xFFFFFFFF),
        "loops from": _with(made, entry + 20, "<I", 900_000),
    }
    for words, data in wrong.items():
        with pytest.raises(Silent, match=words):
            Bank(data).read("horn", 2)
    report = Report()
    chimes.sound(lambda name: wrong["does not begin"], report)
    assert [line.fault for line in report.lines] == ["no sound at all: the bank does not begin with CHIM"]


def _scene(game: Path) -> dict[str, bytes]:
    """What the game plays from its disc: it refuses nothing."""
    report, drive = Report(), Drive(game / "skerry.bin")
    chimes.sound(Volume(Disc(drive), "CARGO.VOL", report.trace.append).read, report)
    drive.close()
    assert not any(line.fault for line in report.lines)
    return {line.name: line.sound for line in report.lines}


def test_a_sound_of_the_bank_is_exchanged_and_heard(workspace: Workspace, disc_game: Path, tmp_path: Path) -> None:
    """A recording in another rate, length and loudness, through three levels, with the flags of the frames."""
    before = _scene(disc_game)
    assert set(before) == {f"sounds/{name}" for name in HEARD}
    open_game(workspace, disc_game)
    address = "skerry.bin//CARGO.VOL//CHIMES.BEL//gull"
    time = np.arange(48000) / 48000
    cry = 0.1 * np.sin(2 * np.pi * 700 * time) * np.sin(np.pi * time)
    file = tmp_path / "gull.wav"
    file.write_bytes(plain(cry[:, None], 48000))
    put_in_work(workspace, "skerry", address)
    come_back(workspace, address, file)
    sheet = edit_of(workspace, address).sheet
    assert sheet is not None
    assert {"rate", "loudness"} <= {finding["id"] for finding in sheet["findings"]}
    builds.build(workspace, "skerry")
    after = _scene(disc_game)
    for name in HEARD:
        assert (after[f"sounds/{name}"] == before[f"sounds/{name}"]) == (name != "gull")
    with wave.open(io.BytesIO(after["sounds/gull"])) as heard_now:
        samples = np.frombuffer(heard_now.readframes(10**6), "<i2") / 32768
    spectrum = np.abs(np.fft.rfft(samples * np.hanning(len(samples))))
    assert abs(spectrum.argmax() * bank.RATE / len(samples) - 700) < 5


def test_the_tune_and_what_the_game_says_of_it() -> None:
    ((name, data),) = tunes()
    assert list(tunes()) == [(name, data)]
    sound = read(data)
    (loop,) = sound.loops
    assert jump(sound.samples, loop, sound.rate) == 0
    assert soundfile.info(io.BytesIO(data)).frames == loop[1] + 1
    stereo = io.BytesIO()
    soundfile.write(stereo, sound.samples[:, :1], sound.rate, format="OGG", subtype="VORBIS")
    wrong = {
        "is no Vorbis": b"RIFF" + data[4:],
        "1 channels": stereo.getvalue(),
        "does not say LOOPSTART": data.replace(b"LOOPSTART", b"LOOPSTAND"),
        "goes round until": data.replace(b"LOOPSTART=26", b"LOOPSTART=96"),
    }
    for words, one in wrong.items():
        report = Report()
        tune(one, name, report)
        assert words in report.lines[0].fault
        assert not report.lines[0].sound
