"""Archives in numbered files: a picture that grows makes one file more, and restore takes it away again."""

from __future__ import annotations

import io
import shutil
import zipfile
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from typer.testing import CliRunner

from brae.cli.main import app
from brae.core.containers.nesting import open_path
from brae.core.layouts.library import FOLDER, Library
from brae.work import Workspace, builds, planning
from brae.work.opening import open_game
from tests.core.families import BY_NAME
from tests.work.test_flow import come_back, digests, paint

EACH = 4096
LAYOUT = BY_NAME["cut"].layout.replace("each: 256", f"each: {EACH}")


def _png(side: int) -> bytes:
    stream = io.BytesIO()
    Image.fromarray(np.full((side, side, 4), 90, np.uint8)).save(stream, "PNG")
    return stream.getvalue()


def _files() -> dict[str, bytes]:
    members = [(f"p{number}.png", _png(64)) for number in range(20)] + [("last.bin", bytes(2 * EACH))]
    whole = b"".join(BY_NAME["cut"].write(members).values())
    return {f"coast.{at // EACH:03}": whole[at : at + EACH] for at in range(0, len(whole), EACH)}


@pytest.fixture
def numbered(tmp_path: Path) -> Path:
    game = tmp_path / "skerry"
    (game / FOLDER).mkdir(parents=True)
    (game / FOLDER / "cut.yaml").write_text(LAYOUT)
    for name, data in _files().items():
        (game / name).write_bytes(data)
    return game


def test_another_file_is_made_and_taken_away(workspace: Workspace, numbered: Path) -> None:
    before = digests(numbered)
    assert open_game(workspace, numbered) == {
        "project": "skerry", "archives": 1, "members": 21, "files": len(before) - 1, "reused": 0
    }  # fmt: skip
    address = "coast.000//p3.png"
    come_back(workspace, address, paint(workspace, address, noisy=True))
    plan = planning.plan(workspace, "skerry")
    assert not plan.faults
    made = [file for file in plan.files if file.way == "create"]
    assert made, "the picture is so much larger that the data need another file"
    assert [len(file.members) for file in plan.files if file.members] == [1]
    builds.build(workspace, "skerry")
    after = digests(numbered)
    assert after.keys() - before.keys() == {file.path for file in made}
    archive = open_path(numbered / "coast.000", [], Library.of([numbered / FOLDER])).container
    assert archive.prove().exact
    assert archive.read(20) == bytes(2 * EACH)
    assert planning.plan(workspace, "skerry").up_to_date
    assert open_game(workspace, numbered)["members"] == 21
    assert planning.plan(workspace, "skerry").up_to_date
    builds.restore(workspace, "skerry")
    assert digests(numbered) == before


def test_inside_an_archive_no_file_is_made(workspace: Workspace, tmp_path: Path) -> None:
    game = tmp_path / "skerry"
    (game / FOLDER).mkdir(parents=True)
    (game / FOLDER / "cut.yaml").write_text(LAYOUT)
    with zipfile.ZipFile(game / "all.zip", "w") as pack:
        for name, data in _files().items():
            pack.writestr(name, data)
    assert open_game(workspace, game)["archives"] == 2
    address = "all.zip//coast.000//p3.png"
    come_back(workspace, address, paint(workspace, address, noisy=True))
    plan = planning.plan(workspace, "skerry")
    assert "numbered files more" in plan.faults[0]["message"]


def test_repack_writes_all_of_them(numbered: Path, tmp_path: Path) -> None:
    runner, out, folder = CliRunner(), tmp_path / "new" / "shore.000", tmp_path / "loose"
    assert runner.invoke(app, ["unpack", str(numbered / "coast.000"), "-o", str(folder)]).exit_code == 0
    (folder / "p5.png").write_bytes(_png(64) + bytes(3 * EACH))
    shutil.copytree(numbered / FOLDER, out.parent / FOLDER)
    done = runner.invoke(app, ["repack", str(numbered / "coast.000"), "--from", str(folder), "-o", str(out)])
    assert done.exit_code == 0, done.output
    files = sorted(path.name for path in out.parent.glob("shore.*"))
    assert files == [f"shore.{number:03}" for number in range(len(_files()) + 3)]
    again = open_path(out, [], Library.of([out.parent / FOLDER])).container
    assert again.read(5) == (folder / "p5.png").read_bytes()
    refused = runner.invoke(
        app, ["repack", str(numbered / "coast.000"), "--from", str(folder), "-o", str(numbered / "coast.000")]
    )
    assert "never overwritten" in refused.output
