"""brae check: the paths of a material that lead nowhere."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from typer.testing import CliRunner

from brae.cli.main import app

runner = CliRunner()
LAYOUT = """\
layout: sea
title: Sea
kind: material
match: {names: ["*.mat"]}
parts:
  - material: values
    text: {comments: ["#"]}
    textures: {colour: colour, normal: bump}
    numbers: {shine: {key: shine, most: 10}}
    paths: {under: textures, ending: .dds}
"""


@pytest.fixture
def game(tmp_path: Path) -> Path:
    game = tmp_path / "sea"
    (game / "textures/boat").mkdir(parents=True)
    for name in ("hull", "sail", "Mast"):
        (game / f"textures/boat/{name}.dds").write_bytes(b"DDS " + bytes(200))
    (game / "brae").mkdir()
    return game


def _checked(game: Path, text: str, tmp_path: Path) -> tuple[int, dict]:
    layout = tmp_path / "sea.yaml"
    layout.write_text(LAYOUT)
    (game / "boat.mat").write_text(text)
    told = runner.invoke(
        app, ["check", str(game / "boat.mat"), "--game", str(game), "--layout", str(layout), "--json"]
    )
    return told.exit_code, json.loads(told.stdout)


def test_all_that_is_there_is_no_finding(game: Path, tmp_path: Path) -> None:
    code, told = _checked(game, "colour boat/hull\nbump boat/sail\nshine 4\n", tmp_path)
    assert (code, told["findings"], told["kind"]) == (0, [], "material")
    assert told["textures"] == {"colour": "boat/hull", "normal": "boat/sail"}


def test_each_sort_of_fault_is_told_with_what_puts_it_right(game: Path, tmp_path: Path) -> None:
    code, told = _checked(game, "# a boat\ncolour boat/hul\nbump boat/mast\nshine 40\n", tmp_path)
    titles = {one["id"].rpartition("-")[0]: one for one in told["findings"]}
    assert code == 3
    assert titles.keys() == {"number", "names-nothing", "letters"}
    assert "Line 2 names boat/hul" in titles["names-nothing"]["title"]
    assert titles["names-nothing"]["remedy"]["label"] == "Write boat/hull"
    assert titles["letters"]["remedy"]["label"] == "Write boat/Mast"
    code, told = _checked(game, "colour textures/boat/hull.dds\nbump boat/sail\n", tmp_path)
    assert (code, [one["id"] for one in told["findings"]]) == (3, ["path-colour"])


def test_a_text_without_a_layout_is_checked_by_its_names(game: Path) -> None:
    (game / "notes.txt").write_text("see textures/boat/hul.dds and textures/boat/sail.dds\n")
    told = runner.invoke(app, ["check", str(game / "notes.txt"), "--game", str(game), "--json"])
    assert told.exit_code == 3
    assert [one["remedy"]["label"] for one in json.loads(told.stdout)["findings"]] == [
        "Write textures/boat/hull.dds"
    ]


def test_what_is_not_there_is_said(tmp_path: Path) -> None:
    told = runner.invoke(app, ["check", str(tmp_path / "no.mat"), "--game", str(tmp_path / "none"), "--json"])
    assert told.exit_code != 0
    assert "There is no" in told.output
