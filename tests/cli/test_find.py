"""``brae search`` and ``brae copies`` over folders, archives, files and projects."""

from __future__ import annotations

import json
import shutil
import zipfile
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from brae.store import Home
from brae.work import Workspace
from brae.work.opening import open_game
from tests.cli.test_cli import brae
from tests.core.find.photos import cropped, opaque, pieces


@pytest.fixture(scope="module")
def album(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Ten photographs, one of them again at half its size, in folders and in a zip."""
    folder = tmp_path_factory.mktemp("album")
    for name, picture in list(pieces().items())[:10]:
        place = folder / name.split("-")[0] / f"{name}.png"
        place.parent.mkdir(exist_ok=True)
        Image.fromarray(picture).save(place)
    first = next(iter(pieces()))
    Image.fromarray(pieces()[first]).resize((96, 96), Image.Resampling.BOX).save(folder / "smaller.png")
    (folder / "notes.txt").write_text("no picture, but kelp")
    shutil.make_archive(str(folder.parent / f"{folder.name}-zip"), "zip", folder)
    return folder


@pytest.mark.parametrize("packed", [False, True])
def test_a_crop_leads_to_its_picture(album: Path, tmp_path: Path, packed: bool) -> None:
    name = list(pieces())[3]
    shot = tmp_path / "shot.png"
    Image.fromarray(cropped(pieces()[name], np.random.default_rng(2))[0]).save(shot)
    target = album.parent / f"{album.name}-zip.zip" if packed else album
    said = json.loads(brae("search", target, "--like", shot, "--home", tmp_path / "home", "--json"))
    assert said["found"][0]["address"].endswith(f"{name.split('-')[0]}/{name}.png")
    assert ("//" in said["found"][0]["address"]) == packed
    assert (said["found"][0]["how"], len(said["found"][0]["place"]), said["pictures"]) == ("part", 4, 11)
    assert said["faults"] == []
    scores = [one["score"] for one in said["found"]]
    assert scores == sorted(scores, reverse=True)


def test_the_same_picture_twice_is_told(album: Path, tmp_path: Path) -> None:
    first = next(iter(pieces()))
    said = json.loads(brae("copies", album, "--home", tmp_path / "home", "--json"))
    assert [set(one["items"]) for one in said["groups"]] == [
        {f"{first.split('-')[0]}/{first}.png", "smaller.png"},
    ]


def test_a_damaged_picture_is_named_and_the_others_are_found(album: Path, tmp_path: Path) -> None:
    folder = tmp_path / "more"
    shutil.copytree(album, folder)
    whole = (folder / "smaller.png").read_bytes()
    (folder / "smaller.png").write_bytes(whole[: len(whole) // 2])
    shot = tmp_path / "shot.png"
    name = list(pieces())[5]
    Image.fromarray(pieces()[name]).save(shot)
    said = json.loads(brae("search", folder, "--like", shot, "--home", tmp_path / "home", "--json"))
    assert said["found"][0]["address"].endswith(f"{name}.png")
    assert said["found"][0]["score"] > 0.98
    assert [one["address"] for one in said["faults"]] == ["smaller.png"]
    # Painted over, it is looked at anew.
    target = folder / name.split("-")[0] / f"{name}.png"
    Image.fromarray(opaque(255 - pieces()[name][..., :3])).rotate(90).save(target)
    again = json.loads(brae("search", folder, "--like", shot, "--home", tmp_path / "home", "--json"))
    assert all(one["address"] != said["found"][0]["address"] or one["score"] < 0.9 for one in again["found"])


def test_words_and_bytes(album: Path, tmp_path: Path) -> None:
    found = json.loads(brae("search", album, "kind=texture width<192", "--json"))
    assert [one["address"] for one in found["found"]] == ["smaller.png"]
    hits = json.loads(brae("search", album, "--bytes", '"kelp"', "--json"))
    assert [(one["address"], one["offset"]) for one in hits["found"]] == [("notes.txt", 16)]
    assert hits["found"][0]["bytes"] == b"kelp".hex(" ")
    inside = json.loads(brae("search", album.parent / f"{album.name}-zip.zip", "--bytes", "6b ?? 6c 70", "--json"))
    assert [(one["address"].rpartition("//")[2], one["offset"]) for one in inside["found"]] == [("notes.txt", 16)]
    with zipfile.ZipFile(tmp_path / "outer.zip", "w", zipfile.ZIP_DEFLATED) as outer:
        outer.write(album.parent / f"{album.name}-zip.zip", "inner.zip")
    deep = json.loads(brae("search", tmp_path / "outer.zip", "--bytes", '"but kelp"', "--json"))
    assert [one["address"] for one in deep["found"]] == ["outer.zip//inner.zip//notes.txt"]
    assert (deep["total"], deep["more"]) == (1, False)
    assert "no pattern of bytes" in brae("search", album, "--bytes", "5G", fails=True)


def test_a_project_is_searched_by_its_name(game: Path, tmp_path: Path) -> None:
    workspace = Workspace(Home(tmp_path / "home"))
    project = open_game(workspace, game)["project"]
    workspace.close()
    found = json.loads(brae("search", project, "boat sail", "--home", tmp_path / "home", "--json"))
    assert {one["address"].rpartition("/")[2] for one in found["found"]} >= {"sail.ptx"}
    copies = json.loads(brae("copies", project, "--home", tmp_path / "home", "--json"))
    assert copies["pictures"] > 200
    assert any(len(one["items"]) > 1 for one in copies["groups"])


@pytest.fixture
def boats(tmp_path: Path) -> Path:
    """An archive whose material (Wavefront MTL) names two textures, of which one is not there."""
    folder = tmp_path / "boats"
    folder.mkdir()
    with zipfile.ZipFile(folder / "boats.zip", "w") as archive:
        archive.writestr("deck.mtl", "newmtl deck\nmap_Kd textures/deck.png\nmap_Ks textures/rail.png\n")
        archive.writestr("textures/deck.png", b"\x89PNG\r\n\x1a\n" + bytes(20))
        archive.writestr("textures/rails.png", b"\x89PNG\r\n\x1a\n" + bytes(30))
    return folder


@pytest.mark.parametrize("where", ["folder", "archive", "project"])
def test_links_are_told_both_ways(boats: Path, tmp_path: Path, where: str) -> None:
    home = tmp_path / "home"
    target: object = {"folder": boats, "archive": boats / "boats.zip"}.get(where, "boats")
    if where == "project":
        workspace = Workspace(Home(home))
        open_game(workspace, boats)
        workspace.close()
    deck, material = "boats.zip//textures/deck.png", "boats.zip//deck.mtl"
    needs = json.loads(brae("links", target, material, "--home", home, "--json"))
    assert [(one["target"], one["how"], one["place"]) for one in needs["needs"]] == [(deck, "path", 2)]
    assert [(one["text"], one["nearest"][0]) for one in needs["missing"]] == [
        ("textures/rail.png", "boats.zip//textures/rails.png")
    ]
    used = json.loads(brae("links", target, deck, "--home", home, "--json"))
    assert [one["owner"] for one in used["used_by"]] == [material]
    every = json.loads(brae("links", target, "--home", home, "--json"))
    assert (every["links"], len(every["missing"])) == (1, 1)
    assert "boats.zip//textures/rails.png" in every["unused"]
    lines = json.loads(brae("search", target, "--text", "KD deck", "--home", home, "--json"))
    assert lines["found"] == [{"address": material, "place": 2, "line": "map_Kd textures/deck.png"}]
    assert "no such item" in brae("links", target, "nowhere", "--home", home, fails=True)


def test_conditions_of_a_search(boats: Path, tmp_path: Path) -> None:
    def asked(words: str) -> list[str]:
        said = json.loads(brae("search", boats, words, "--home", tmp_path / "home", "--json"))
        return [one["address"].rpartition("//")[2] for one in said["found"]]

    assert asked("kind:text") == ["deck.mtl"]
    assert asked("size:<30 -kind:text") == ["textures/deck.png"]
    assert asked("/deck\\.(png|mtl)$/") == ["deck.mtl", "textures/deck.png"]
    assert asked("rials") == ["textures/rails.png"]  # read as the nearest word
    assert asked("missing:yes text:rail") == asked("uses:deck.png") == ["deck.mtl"]
    assert asked("used-by:deck") == ["textures/deck.png"]
    assert asked("unused:yes kind:texture") == ["textures/rails.png"]
