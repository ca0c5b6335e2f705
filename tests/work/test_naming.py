"""A text that comes back and names what is not there: told on its sheet, put right by one remedy, taken back."""

from __future__ import annotations

import zipfile
from pathlib import Path

import pytest

from brae.core.errors import FormatError
from brae.work import Workspace
from brae.work.edits import put_in_work, set_remedies, take_file
from brae.work.opening import open_game

WORDS = 'hull = "boat/hull.dds"\r\nsail = "boat/sail.dds"\r\nlost = "boat/never.dds"\r\n'


@pytest.fixture
def project(workspace: Workspace, tmp_path: Path) -> str:
    folder = tmp_path / "named"
    folder.mkdir()
    with zipfile.ZipFile(folder / "a.zip", "w") as archive:
        archive.writestr("boat.ini", WORDS)
        for name in ("hull", "sail", "mast"):
            archive.writestr(f"boat/{name}.dds", b"DDS " + bytes(124))
    return str(open_game(workspace, folder)["project"])


def _take(workspace: Workspace, project: str, text: str) -> str:
    address = "a.zip//boat.ini"
    put_in_work(workspace, project, address)
    take_file(workspace, project, address, text.encode(), "boat.txt")
    return address


def _findings(workspace: Workspace, project: str, address: str) -> list[dict]:
    sheet = workspace.edit(project, address).sheet
    return [one for one in sheet["findings"] if one["id"].startswith("names-nothing")]


def test_a_name_of_nothing_is_told_with_what_is_nearest_and_put_right(workspace: Workspace, project: str) -> None:
    address = _take(workspace, project, WORDS.replace("boat/sail.dds", "boat/sial.dds"))
    (finding,) = _findings(workspace, project, address)
    assert "Line 2 names boat/sial.dds" in finding["title"]
    assert finding["remedy"]["label"] == "Write boat/sail.dds"
    assert workspace.edit(project, address).state == "attention"
    set_remedies(workspace, project, address, [finding["remedy"]["id"]])
    edit = workspace.edit(project, address)
    assert edit.encoded_sha256 is not None
    assert workspace.blobs.get(edit.encoded_sha256) == WORDS.encode(), "what came back is the original again"
    assert edit.state == "same"
    assert [one["remedy"]["applied"] for one in _findings(workspace, project, address)] == [True]
    set_remedies(workspace, project, address, [])
    edit = workspace.edit(project, address)
    assert (edit.state, edit.steps[-1].what) == ("attention", "not: Write boat/sail.dds")


def test_what_the_original_names_already_is_no_finding(workspace: Workspace, project: str) -> None:
    address = _take(workspace, project, WORDS.replace("hull.dds", "mast.dds") + "; as it was\r\n")
    assert _findings(workspace, project, address) == []


def test_another_near_name_can_be_chosen_and_only_text_can_be_renamed(workspace: Workspace, project: str) -> None:
    address = _take(workspace, project, WORDS.replace("boat/hull.dds", "boat/sall.dds"))
    (finding,) = _findings(workspace, project, address)
    labels = [finding["remedy"]["label"], *(one["label"] for one in finding["others"])]
    assert "Write boat/sail.dds" in labels
    assert len(set(labels)) == len(labels) >= 1
    with pytest.raises(FormatError, match="no remedy"):
        set_remedies(workspace, project, address, ["write something"])
