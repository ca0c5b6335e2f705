"""Items that the game has not: a new texture, its material, and the model that uses it, built and taken away."""

from __future__ import annotations

import io
import shutil
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from brae.core.assets.base import ExchangeFile
from brae.core.assets.texture.files import read_texture
from brae.core.containers.nesting import open_path
from brae.core.errors import FormatError
from brae.core.layouts.library import Library
from brae.store import Home
from brae.work import Workspace, builds, trials
from brae.work.adding import Beginning, additions, make, make_with, names_of, take_away, use_instead
from brae.work.edits import exchange_file, put_in_work
from brae.work.items import original_asset, original_bytes
from brae.work.linking import links
from brae.work.opening import open_game
from brae.work.planning import plan
from brae.work.projects import choose
from brae.work.watch import Watcher
from tests.work.test_flow import digests

BUNDLE = "data/figures.bundle"
TOWER, MATERIAL, MODEL = (
    f"{BUNDLE}//skins/tower.ptx",
    f"{BUNDLE}//materials/lighthouse.txt",
    f"{BUNDLE}//models/lighthouse.shp",
)


@pytest.fixture
def project(workspace: Workspace, game: Path) -> str:
    """The demo game, opened."""
    return str(open_game(workspace, game)["project"])


def _picture(width: int = 100, height: int = 210) -> ExchangeFile:
    rows = np.linspace(0, 255, height).astype(np.uint8)[:, None]
    picture = np.zeros((height, width, 3), np.uint8)
    picture[..., 0], picture[..., 1] = rows, 255 - rows
    out = io.BytesIO()
    Image.fromarray(picture).save(out, "png")
    return ExchangeFile("red.png", out.getvalue())


def _member(game: Path, library: Library, name: str, archive: str = BUNDLE) -> bytes:
    return open_path(game / archive, [], library).container.read_named(name)


def test_a_new_texture_its_material_and_the_model_that_wears_it(
    workspace: Workspace, project: str, game: Path, library: Library
) -> None:
    before = digests(game)
    made = make_with(
        workspace, project, Beginning(TOWER, "skins/tower_red.ptx", _picture(), {"units": 64, "scale": 0.25}),
        copy=MATERIAL, copy_name="materials/red.txt", users=[MODEL],
    )  # fmt: skip
    assert made == [f"{BUNDLE}//skins/tower_red.ptx", f"{BUNDLE}//materials/red.txt"]
    assert names_of(workspace, project, MODEL, made[1])
    assert not names_of(workspace, project, MODEL, MATERIAL)
    found = plan(workspace, project)
    assert (found.faults, set(found.edits)) == ([], {*made, MODEL})
    builds.build(workspace, project)
    texture = read_texture(_member(game, library, "skins/tower_red.ptx"), library, "skins/tower_red.ptx").header
    like = original_asset(workspace, workspace.project(project), workspace.find(project, TOWER)).header
    # 64 units at 0.25 are 256 texels; the picture's 100 by 210 is nearest to one by two.
    assert (texture.width, texture.height, texture.format) == (128, 256, like.format)
    text = _member(game, library, "materials/lighthouse.txt").decode()
    assert _member(game, library, "materials/red.txt").decode() == text.replace("skins/tower", "skins/tower_red")
    model = _member(game, library, "models/lighthouse.shp")
    assert b"red\0" in model
    assert b"lighthouse\0" not in model
    assert trials.run(workspace, project).after.refused is None
    # Opened again they are still there, once; taken away they are out of the next build.
    open_game(workspace, game)
    assert [one.address for one in additions(workspace, project)] == sorted(made)
    assert workspace.find(project, made[0]).member.facts["width"] == 128
    use_instead(workspace, project, MODEL, made[1], MATERIAL)
    for address in made:
        take_away(workspace, project, address)
    builds.build(workspace, project)
    assert _member(game, library, "models/lighthouse.shp") == original_asset_bytes(workspace, project, MODEL)
    builds.restore(workspace, project)
    assert digests(game) == before


def original_asset_bytes(workspace: Workspace, project: str, address: str) -> bytes:
    """An item's bytes as they were."""
    return original_bytes(workspace, workspace.project(project), workspace.find(project, address))


def test_a_new_item_is_edited_like_any_other(
    workspace: Workspace, project: str, game: Path, library: Library
) -> None:
    address = make(workspace, project, Beginning(TOWER, "skins/tower_red.ptx"))
    put_in_work(workspace, project, address)
    builds.build(workspace, project)
    name = "skins/tower_red.ptx"
    assert _member(game, library, name) == original_asset_bytes(workspace, project, TOWER)
    file = exchange_file(workspace, workspace.edit(project, address))
    with Image.open(file) as image:
        picture = np.asarray(image.convert("RGBA")).copy()
    picture[:8, :8] = (0, 0, 255, 255)
    Image.fromarray(picture).save(file)
    Watcher(workspace).take(file)
    assert workspace.edit(project, address).state == "ready"
    builds.build(workspace, project)
    shown = read_texture(_member(game, library, name), library, name).shown()
    assert shown[3, 3, 2] > 230


@pytest.mark.parametrize("way", ["loose", "add-on"])
def test_it_goes_every_way(workspace: Workspace, project: str, game: Path, library: Library, way: str) -> None:
    before = digests(game)
    choose(workspace, project, way=way)
    make(workspace, project, Beginning(MATERIAL, "materials/red.txt"))
    builds.build(workspace, project)
    if way == "loose":
        text = (game / "loose/materials/red.txt").read_bytes()
    else:
        text = _member(game, library, "materials/red.txt", "addons/brae_01.kist")
    assert text == original_asset_bytes(workspace, project, MATERIAL)
    builds.restore(workspace, project)
    assert digests(game) == before


def test_names_that_cannot_be_are_refused_and_nothing_is_left(workspace: Workspace, project: str) -> None:
    for name, words in (
        ("", "cannot be the name"), ("../up.ptx", "cannot be the name"), ("skins/t?.ptx", "no file can have"),
        ("SKINS/Tower.ptx", "already"),
    ):  # fmt: skip
        with pytest.raises(FormatError, match=words):
            make(workspace, project, Beginning(TOWER, name))
    with pytest.raises(FormatError, match="not taken for"):
        make(workspace, project, Beginning(MATERIAL, "skins/red.txt"))
    with pytest.raises(FormatError, match="not name"):
        make_with(
            workspace, project, Beginning(TOWER, "skins/tower_red.ptx", _picture()),
            copy=f"{BUNDLE}//materials/keeper.txt", copy_name="materials/red.txt",
        )  # fmt: skip
    assert not additions(workspace, project)
    with pytest.raises(FormatError, match="game's own"):
        take_away(workspace, project, TOWER)
    # What was taken away can be made again under its name.
    address = make(workspace, project, Beginning(TOWER, "skins/tower_red.ptx"))
    with pytest.raises(FormatError, match="already"):
        make(workspace, project, Beginning(TOWER, "skins/tower_red.ptx"))
    take_away(workspace, project, address)
    assert make(workspace, project, Beginning(TOWER, "skins/tower_red.ptx")) == address


def test_a_loose_file_beside_another(workspace: Workspace, tmp_path: Path) -> None:
    folder = tmp_path / "game"
    folder.mkdir()
    (folder / "wall.png").write_bytes(_picture().data)
    project = str(open_game(workspace, folder)["project"])
    address = make(workspace, project, Beginning("wall.png", "walls/red.png", _picture(60, 60)))
    assert workspace.find(project, address).member.facts["width"] == 64
    builds.build(workspace, project)
    with Image.open(folder / "walls/red.png") as image:
        assert image.size == (64, 64)
    builds.restore(workspace, project)
    assert [path.name for path in folder.rglob("*")] == ["wall.png"]


def test_a_lost_database_loses_no_new_item(workspace: Workspace, project: str, game: Path, home: Home) -> None:
    address = make(workspace, project, Beginning(TOWER, "skins/tower_red.ptx", _picture()))
    workspace.close()
    for path in home.path.glob("brae.db*"):
        path.unlink()
    again = Workspace(home)
    try:
        open_game(again, game)
        assert again.find(project, address).member.base
    finally:
        again.close()


def test_an_update_that_brings_the_name_wins(workspace: Workspace, tmp_path: Path) -> None:
    folder = tmp_path / "game"
    folder.mkdir()
    (folder / "wall.png").write_bytes(_picture().data)
    project = str(open_game(workspace, folder)["project"])
    make(workspace, project, Beginning("wall.png", "red.png", _picture(60, 60)))
    shutil.copy(folder / "wall.png", folder / "red.png")
    open_game(workspace, folder)
    found = plan(workspace, project)
    assert "by now" in found.left_out["red.png"]
    assert not found.files


def test_new_files_do_not_lead_through_links_or_other_letters(workspace: Workspace, tmp_path: Path) -> None:
    folder = tmp_path / "game"
    (folder / "Walls").mkdir(parents=True)
    (folder / "Walls/wall.png").write_bytes(_picture().data)
    (tmp_path / "elsewhere").mkdir()
    (folder / "way").symlink_to(tmp_path / "elsewhere")
    project = str(open_game(workspace, folder)["project"])
    for name, words in (("way/new.png", "is a link"), ("walls/new.png", "lies there as 'Walls'")):
        with pytest.raises(FormatError, match=words):
            make(workspace, project, Beginning("Walls/wall.png", name))
    assert make(workspace, project, Beginning("Walls/wall.png", "Walls/new.png")) == "Walls/new.png"


def test_a_material_that_the_game_has_not_is_told_of_a_model(workspace: Workspace, project: str) -> None:
    address = make(workspace, project, Beginning(MATERIAL, "materials/red.txt"))
    use_instead(workspace, project, MODEL, MATERIAL, address)
    assert workspace.edit(project, MODEL).state == "ready"
    take_away(workspace, project, address)
    sheet = workspace.edit(project, MODEL).sheet
    assert sheet is not None
    assert [one["title"] for one in sheet["findings"]] == ["It names red, and nothing in the game is called so"]
    make(workspace, project, Beginning(MATERIAL, "materials/red.txt"))
    assert workspace.edit(project, MODEL).state == "ready", "and it is there again"


def test_what_nothing_names_is_told_before_the_build(workspace: Workspace, project: str) -> None:
    address = make(workspace, project, Beginning(MATERIAL, "materials/red.txt"))
    assert plan(workspace, project).warnings == {}, "nobody knows yet"
    links(workspace, project)
    assert "never load it" in plan(workspace, project).warnings[address]
    use_instead(workspace, project, MODEL, MATERIAL, address)
    assert plan(workspace, project).warnings == {}


def test_where_a_user_cannot_use_it_nothing_is_left(workspace: Workspace, project: str) -> None:
    beginning = Beginning(TOWER, "skins/tower_red.ptx", _picture())
    with pytest.raises(FormatError, match="does not name"):
        make_with(
            workspace, project, beginning, copy=MATERIAL, copy_name="materials/red.txt",
            users=[MODEL, f"{BUNDLE}//models/boat.shp"],
        )  # fmt: skip
    assert not additions(workspace, project)
    edit = workspace.edit(project, MODEL)
    assert (edit.in_work, edit.position) == (False, 0)
    assert not plan(workspace, project).edits
