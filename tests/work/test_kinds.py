"""Texts and sounds go the way that textures go: out, back, matched, built, tried, restored."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
import pytest
import soundfile

from brae.core.containers.nesting import open_path
from brae.core.layouts.library import Library
from brae.work import Workspace, builds, trials
from brae.work.edits import exchange_file, go_to, put_in_work, set_remedies
from brae.work.opening import open_game
from brae.work.watch import Watcher
from tests.work.test_flow import digests

BELL = "data/harbour.kist//sounds/bell/00.wav"
LETTER = "data/harbour.kist//texts/letters/00.txt"


@pytest.fixture
def opened(workspace: Workspace, game: Path) -> Path:
    """The demo game, opened."""
    open_game(workspace, game)
    return game


def _member(game: Path, library: Library, name: str) -> bytes:
    return open_path(game / "data/harbour.kist", [], library).container.read_named(name)


def test_a_text_goes_the_whole_way(workspace: Workspace, opened: Path, library: Library) -> None:
    before = digests(opened)
    put_in_work(workspace, "skerry", LETTER)
    file = exchange_file(workspace, workspace.edit("skerry", LETTER))
    assert file.name == "00.txt", "what ends so by itself gets no second ending"
    original = _member(opened, library, "texts/letters/00.txt")
    assert file.read_bytes() == original
    file.write_bytes(original.replace(b"tide", b"storm").replace(b"\n", b"\r\n"))
    Watcher(workspace).take(file)
    edit = workspace.edit("skerry", LETTER)
    assert edit.state == "ready"
    assert edit.sheet is not None
    assert [one["id"] for one in edit.sheet["findings"]] == ["line-ends"]
    builds.build(workspace, "skerry")
    assert _member(opened, library, "texts/letters/00.txt") == original.replace(b"tide", b"storm")
    assert trials.run(workspace, "skerry").after.refused is None
    go_to(workspace, "skerry", LETTER, 0)
    assert file.read_bytes() == original
    builds.build(workspace, "skerry")
    assert digests(opened) == before


def test_a_sound_goes_the_whole_way(workspace: Workspace, opened: Path, library: Library) -> None:
    before = digests(opened)
    put_in_work(workspace, "skerry", BELL)
    file = exchange_file(workspace, workspace.edit("skerry", BELL))
    samples, rate = soundfile.read(file)
    stereo = np.repeat(samples[:, None], 2, axis=1) * 0.2
    stream = io.BytesIO()
    soundfile.write(stream, stereo, rate, format="WAV", subtype="PCM_24")
    file.write_bytes(stream.getvalue())
    Watcher(workspace).take(file)
    edit = workspace.edit("skerry", BELL)
    assert edit.sheet is not None
    assert {one["id"] for one in edit.sheet["findings"]} == {"channels", "loudness"}
    assert edit.state == "attention"
    set_remedies(workspace, "skerry", BELL, ["loudness"])
    assert workspace.edit("skerry", BELL).state == "ready"
    builds.build(workspace, "skerry")
    made, made_rate = soundfile.read(io.BytesIO(_member(opened, library, "sounds/bell/00.wav")))
    assert (made_rate, made.shape) == (rate, samples.shape)
    assert np.abs(made - samples).max() < 0.02, "as loud as it was"
    assert trials.run(workspace, "skerry").after.refused is None
    # Another program's file type under the same name: it is the same sound.
    file.unlink()
    soundfile.write(file.with_suffix(".flac"), samples, rate, subtype="PCM_16")
    Watcher(workspace).take(file.with_suffix(".flac"))
    assert workspace.edit("skerry", BELL).steps[-1].file_name == "00.flac"
    builds.restore(workspace, "skerry")
    assert digests(opened) == before


def test_an_emptied_text_is_empty_for_the_editor_too(workspace: Workspace, opened: Path) -> None:
    put_in_work(workspace, "skerry", LETTER)
    file = exchange_file(workspace, workspace.edit("skerry", LETTER))
    file.write_bytes(b"")
    Watcher(workspace).take(file)
    go_to(workspace, "skerry", LETTER, 0)
    assert file.read_bytes()
    go_to(workspace, "skerry", LETTER, 1)
    assert file.read_bytes() == b"", "and not the original"
