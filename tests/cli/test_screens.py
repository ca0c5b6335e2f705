"""``brae screen``: rectangles out, and back into a screen three levels deep."""

from __future__ import annotations

import json
from pathlib import Path

from typer.testing import CliRunner

from brae.cli.main import app
from tests.cli.test_cli import brae


def test_rectangles_out_and_back(tmp_path: Path, made_disc: Path) -> None:
    menu = f"{made_disc / 'skerry.bin'}//CARGO.VOL//MENUS.SCR//0012"
    told = json.loads(brae("screen", menu, "--json"))
    # The game's own generator: three buttons below each other, each leads to a screen of its own.
    assert [(area["x"], area["y"], area["width"]) for area in told["areas"]] == [
        (4, 14, 34),
        (4, 29, 34),
        (4, 44, 34),
    ]
    assert [area["numbers"]["target"] for area in told["areas"]] == [36, 37, 38]
    source, out = tmp_path / "menu.json", tmp_path / "0012.new"
    for area in told["areas"]:
        area["y"] -= 12
    told["areas"].append(told["areas"][0] | {"x": 60, "y": 50})
    source.write_text(json.dumps(told))
    said = json.loads(brae("screen", menu, "--from", source, "-o", out, "--json"))
    assert said["findings"] == []
    data = out.read_bytes()
    assert data[9] == 4
    again = json.loads(brae("screen", out, "--layout", "skerry-screen", "--json"))
    assert [area["y"] for area in again["areas"]] == [2, 17, 32, 50]
    told["areas"][0]["x"] = 80
    source.write_text(json.dumps(told))
    refused = CliRunner().invoke(app, ["screen", menu, "--from", str(source), "-o", str(tmp_path / "b")])
    assert refused.exit_code == 3, "what the game would refuse has a code of its own"
    assert "outside the screen" in refused.stdout
    assert not (tmp_path / "b").exists()
    brae("screen", menu, "--from", source, "-o", tmp_path / "b", "--anyway")
    assert (tmp_path / "b").stat().st_size == len(data)
    assert "go together" in brae("screen", menu, "--from", source, fails=True)
    source.write_text("{}")
    assert "no rectangles" in brae("screen", menu, "--from", source, "-o", out, fails=True)
