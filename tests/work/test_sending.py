"""Many items to a folder and back: nothing is written over, nothing is decoded twice, everything is told."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image

from brae.core.assets.folders import LinkError
from brae.core.assets.sending import LIST
from brae.core.errors import CancelledError, NotFoundError
from brae.jobs import Silent
from brae.store import Home
from brae.work import Workspace
from brae.work.columns import Search
from brae.work.items import look_at
from brae.work.opening import open_game
from brae.work.sending import export, take_back
from tests.work.test_flow import SAIL

HULL = "data/harbour.kist/textures/boat/hull.ptx.png"


@pytest.fixture
def opened(workspace: Workspace, game: Path) -> Path:
    """The demo game, opened."""
    open_game(workspace, game)
    return game


def _paint(path: Path) -> None:
    pixels = np.array(Image.open(path))
    pixels[:8, :8, :3] = 200 - pixels[:8, :8, :3] // 2
    Image.fromarray(pixels).save(path)


def _times(folder: Path) -> dict[str, int]:
    return {str(path): path.stat().st_mtime_ns for path in folder.rglob("*") if path.name != LIST}


def test_a_whole_game_goes_out_once(workspace: Workspace, opened: Path, tmp_path: Path) -> None:
    out = tmp_path / "out"
    told = export(workspace, "skerry", out, Search())
    assert told["faults"] == []
    files = [path for path in out.rglob("*") if path.is_file()]
    assert len(files) == told["written"] + 1
    assert told["written"] == 227 + 40 + 57 + 14 + 4 + 3 + 1
    assert told["left_out"] == 375 - told["written"]
    picture = look_at(workspace, "skerry", SAIL)[1].original.shown()
    assert np.array_equal(np.asarray(Image.open(out / "data/harbour.kist/textures/boat/sail.ptx.png")), picture)
    bell = (out / "data/harbour.kist/sounds/bell/00.wav").read_bytes()
    assert bell[:4] == b"RIFF", "what has no exchange goes out as it is"
    before = _times(out)
    again = export(workspace, "skerry", out, Search())
    assert (again["written"], again["there"], again["changed"]) == (0, told["written"], [])
    assert _times(out) == before
    _paint(out / HULL)
    (out / "data/harbour.kist/textures/boat/sail.ptx.png").unlink()
    third = export(workspace, "skerry", out, Search())
    assert (third["written"], third["changed"]) == (1, [HULL])


def test_an_interrupted_export_goes_on(workspace: Workspace, opened: Path, tmp_path: Path) -> None:
    class Ends(Silent):
        count = 0

        def tick(self, amount: int = 1) -> None:
            self.count += 1
            if self.count > 20:
                raise CancelledError("enough")

    search = Search("kind=texture stamp")
    with pytest.raises(CancelledError):
        export(workspace, "skerry", tmp_path / "out", search, Ends())
    written = len(list((tmp_path / "out").rglob("*.png")))
    told = export(workspace, "skerry", tmp_path / "out", search)
    assert told["there"] >= 20
    assert told["there"] == written, "what was written is not written again"
    assert told["written"] + written == len(list((tmp_path / "out").rglob("*.png")))


def test_a_folder_comes_back(workspace: Workspace, opened: Path, tmp_path: Path) -> None:
    out = tmp_path / "out"
    export(workspace, "skerry", out, Search("boat"))
    _paint(out / HULL)
    (out / "notes.txt").write_text("mine")
    gone = out / "data/harbour.kist/textures/boat/hull_wear.ptx.png"
    gone.unlink()
    # Saved as another file type by an editor.
    sail = out / "data/harbour.kist/textures/boat/sail.ptx.png"
    _paint(sail)
    Image.open(sail).save(sail.with_suffix(".tga"))
    sail.unlink()
    told = take_back(workspace, "skerry", out)
    hull = "data/harbour.kist//textures/boat/hull.ptx"
    assert sorted(told["taken"]) == [hull, SAIL]
    assert told["strangers"] == ["notes.txt"]
    assert told["missing"] == [gone.relative_to(out).as_posix()]
    assert (told["same"], told["faults"]) == (0, [])
    edit = workspace.edit("skerry", hull)
    assert (edit.state, edit.in_work) == ("ready", True)
    exchange = workspace.exchange_folder("skerry") / edit.exchange_path
    assert exchange.read_bytes() == (out / HULL).read_bytes(), "the exchange file is the version in use"
    assert take_back(workspace, "skerry", out)["taken"] == told["taken"]
    assert len(workspace.edit("skerry", hull).steps) == 1, "the same file is no version more"


def test_without_its_list_a_folder_is_compared_by_its_paths(
    workspace: Workspace, opened: Path, tmp_path: Path
) -> None:
    out = tmp_path / "out"
    export(workspace, "skerry", out, Search("boat kind=texture"))
    (out / LIST).unlink()
    _paint(out / HULL)
    (out / "data/harbour.kist/textures/boat/sail.ptx.png").write_bytes(b"no picture")
    told = take_back(workspace, "skerry", out)
    assert told["taken"] == ["data/harbour.kist//textures/boat/hull.ptx"]
    assert told["same"] == 2
    assert [fault["address"] for fault in told["faults"]] == ["sail.ptx.png"]
    assert set(workspace.catalogues.in_work("skerry")) == {"data/harbour.kist//textures/boat/hull.ptx"}


def test_what_stands_in_the_way_is_not_followed(workspace: Workspace, opened: Path, tmp_path: Path) -> None:
    out, elsewhere = tmp_path / "out", tmp_path / "elsewhere"
    (out / "data/harbour.kist/textures/boat").mkdir(parents=True)
    elsewhere.write_text("mine")
    (out / HULL).symlink_to(elsewhere)
    told = export(workspace, "skerry", out, Search("boat/hull.ptx"))
    assert [fault["code"] for fault in told["faults"]] == ["link"]
    assert elsewhere.read_text() == "mine"
    with pytest.raises(LinkError):
        take_back(workspace, "skerry", out)
    with pytest.raises(NotFoundError):
        take_back(workspace, "skerry", tmp_path / "nowhere")
    with pytest.raises(NotFoundError):
        export(workspace, "skerry", out, ["no such item"])


def _brae(*words: object) -> Any:
    said = subprocess.run(
        [sys.executable, "-m", "brae.cli", *map(str, words), "--json"],
        capture_output=True, text=True, check=False, env=os.environ,
    )  # fmt: skip
    assert said.returncode == 0, said.stderr
    return json.loads(said.stdout)


def test_the_command_line_does_the_same(game: Path, tmp_path: Path, home: Home) -> None:
    home_option = ("--home", home.path)
    found = _brae(
        "export", game / "data/harbour.kist", "-o", tmp_path / "a", "--find", "boat width>=256", *home_option
    )
    assert found["written"] == len(list((tmp_path / "a").rglob("*.png"))) > 1
    assert (tmp_path / "a/textures/boat/sail.ptx.png").is_file()
    workspace = Workspace(home)
    open_game(workspace, game)
    workspace.close()
    assert _brae("export", "skerry", "-o", tmp_path / "b", "--find", "boat/hull.ptx", *home_option)["written"] == 1
    _paint(tmp_path / "b" / HULL)
    told = _brae("import", tmp_path / "b", "skerry", *home_option)
    assert told["taken"] == ["data/harbour.kist//textures/boat/hull.ptx"]
