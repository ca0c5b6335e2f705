"""A kind from a package outside Brae goes the whole way, and nothing in Brae knows of it."""

from __future__ import annotations

import hashlib
import json
import os
import subprocess
import sys
import zipfile
from collections.abc import Iterator
from pathlib import Path

import pytest
from fastapi.testclient import TestClient

from brae.api.app import create_app
from brae.core.assets.registry import kinds
from brae.core.errors import FormatError
from brae.store import Home
from brae.work import Workspace, builds, planning
from brae.work.edits import exchange_file, put_in_work
from brae.work.opening import open_game
from brae.work.watch import Watcher

FLAGS = Path(__file__).parent / "flags"
NORTH = b"FLAG" + bytes([255, 255, 255, 0, 60, 120, 200, 30, 40]) + bytes([8, 7, 9])
SOUTH = b"FLAG" + bytes([10, 20, 30, 0, 60, 120, 200, 30, 40]) + bytes([12, 1, 2])


def harbour(folder: Path) -> Path:
    """A game whose only archive holds two flags and a text."""
    folder.mkdir(parents=True)
    with zipfile.ZipFile(folder / "mast.zip", "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("flags/north.flg", NORTH)
        archive.writestr("flags/south.flg", SOUTH)
        archive.writestr("readme.txt", "Two flags.\r\n")
    return folder


@pytest.fixture
def installed(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """As if the package was installed."""
    monkeypatch.syspath_prepend(str(FLAGS))
    kinds.cache_clear()
    yield
    kinds.cache_clear()
    sys.modules.pop("brae_flags", None)


def test_a_kind_of_another_package_goes_the_whole_way(installed: None, tmp_path: Path) -> None:
    game = harbour(tmp_path / "harbour")
    before = hashlib.sha256((game / "mast.zip").read_bytes()).hexdigest()
    workspace = Workspace(Home(tmp_path / "home"))
    try:
        open_game(workspace, game)
        address = "mast.zip//flags/north.flg"
        found = workspace.find("harbour", address)
        assert (found.member.kind, found.member.container) == ("flag", "flag")
        assert found.member.facts == {"columns": 8, "top": "#ffffff"}
        put_in_work(workspace, "harbour", address)
        file = exchange_file(workspace, workspace.edit("harbour", address))
        assert file.name == "north.flg.json"
        drawn = json.loads(file.read_text())
        assert drawn == {"stripes": ["#ffffff", "#003c78", "#c81e28"], "columns": 8}
        file.write_text(json.dumps(drawn | {"stripes": ["#010203", "#003c78", "#c81e28"], "columns": 9}))
        Watcher(workspace).take(file)
        edit = workspace.edit("harbour", address)
        assert edit.state == "attention"
        assert edit.sheet is not None
        assert [finding["id"] for finding in edit.sheet["findings"]] == ["width"]
        assert list(planning.plan(workspace, "harbour").left_out.values()) == [
            "the game would refuse it: 9 columns instead of 8"
        ]
        from brae.work.edits import set_remedies

        with pytest.raises(FormatError, match="Expected one of width"):
            set_remedies(workspace, "harbour", address, ["flip"])
        set_remedies(workspace, "harbour", address, ["width"])
        assert workspace.edit("harbour", address).state == "ready"
        builds.build(workspace, "harbour")
        with zipfile.ZipFile(game / "mast.zip") as archive:
            assert archive.read("flags/north.flg") == NORTH[:4] + bytes([1, 2, 3]) + NORTH[7:], "unknown bytes stay"
            assert archive.read("flags/south.flg") == SOUTH
        builds.restore(workspace, "harbour")
        assert hashlib.sha256((game / "mast.zip").read_bytes()).hexdigest() == before
        file.write_text('{"stripes": []}')
        with pytest.raises(FormatError, match="draws no flag"):
            kinds()["flag"].check_file(_file(file))
    finally:
        workspace.close()


def _file(path: Path) -> object:
    from brae.core.assets.base import ExchangeFile

    return ExchangeFile(path.name, path.read_bytes())


def test_the_server_tells_of_it(installed: None, tmp_path: Path) -> None:
    game = harbour(tmp_path / "harbour")
    workspace = Workspace(Home(tmp_path / "home"))
    open_game(workspace, game)
    app = create_app(workspace, watch=False, secret="s")
    with TestClient(app, base_url="http://127.0.0.1", headers={"Authorization": "Bearer s"}) as client:
        told = {kind["id"]: kind for kind in client.get("/api/kinds").json()["kinds"]}
        assert told["flag"]["suffixes"] == [".json"]
        assert [fact["label"] for fact in told["flag"]["facts"]] == ["Columns", "Top stripe"]
        project = "/api/projects/harbour"
        facets = {one["name"]: one for one in client.get(f"{project}/facets").json()["facets"]}
        assert facets["columns"]["values"] == [{"value": "12", "count": 1}, {"value": "8", "count": 1}]
        items = client.get(f"{project}/members", params={"q": "columns>8"}).json()["items"]
        assert [item["name"] for item in items] == ["flags/south.flg"]
        ordered = client.get(f"{project}/members", params={"order": "columns"}).json()["items"]
        assert [item["facts"].get("columns") for item in ordered] == [8, 12, None]
        address = {"address": "mast.zip//flags/north.flg"}
        shown = client.get(f"{project}/preview", params=address | {"scale": 2})
        assert (shown.status_code, shown.headers["content-type"]) == (200, "image/png")
        refused = client.get(f"{project}/preview", params=address | {"scale": 99})
        assert (refused.status_code, "scale" in refused.json()["detail"]) == (422, True)
        edit = client.post(f"{project}/edits", json={"addresses": [address["address"]]}).json()[0]
        assert (edit["kind"], edit["details"]["kind"]) == ("flag", "flag")
        assert edit["details"]["recipe"]["unknown"] == "0709"
        put = client.put(f"{project}/edits/file", params=address | {"name": "x.json"}, content=b"{}")
        assert "draws no flag" in put.json()["detail"]


def test_the_command_line_knows_it(tmp_path: Path) -> None:
    game = harbour(tmp_path / "harbour")
    said = subprocess.run(
        [sys.executable, "-m", "brae.cli", "inspect", f"{game / 'mast.zip'}//flags/north.flg", "--home", tmp_path],
        env=os.environ | {"PYTHONPATH": str(FLAGS)},
        capture_output=True,
        text=True,
        check=True,
    )
    assert "flag (flag), columns 8, top stripe white, 16 bytes" in said.stdout
    assert "proof: exact" in said.stdout


def test_nothing_in_brae_names_it() -> None:
    sources = [*Path("src/brae").rglob("*.py"), *Path("web/src").rglob("*.ts*")]
    assert len(sources) > 200
    assert [path for path in sources if "brae_flags" in path.read_text()] == []
