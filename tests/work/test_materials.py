"""A material of the demo, from one value to the game: nothing but that value changes."""

from __future__ import annotations

import zipfile
from pathlib import Path

import pytest
from PIL import Image

from brae.core.assets.registry import kind_of
from brae.core.containers.nesting import open_path
from brae.core.errors import FormatError
from brae.core.layouts.library import Library
from brae.demo import LAYOUTS
from brae.work import Workspace, builds
from brae.work.adding import Beginning, make
from brae.work.edits import exchange_file, go_to, make_change, put_in_work, set_remedies, take_file
from brae.work.items import look_at, original_bytes
from brae.work.linking import left_alone, links
from brae.work.opening import open_game

BUNDLE = "data/figures.bundle"
ADDRESS = f"{BUNDLE}//materials/keeper.txt"


def _text(game: Path) -> str:
    archive = open_path(game / BUNDLE, [], Library.of([LAYOUTS])).container
    return archive.read(archive.index_of("materials/keeper.txt")).decode()


def _set(workspace: Workspace, project: str, key: str, value: str, *, item: bool = False) -> None:
    query = kind_of("material").changes["value"].query(key=key, value=value, item=item)
    make_change(workspace, project, ADDRESS, "value", query, None)


def test_one_value_goes_into_the_game_and_nothing_else(workspace: Workspace, game: Path) -> None:
    project = str(open_game(workspace, game)["project"])
    member = workspace.find(project, ADDRESS).member
    assert (member.kind, member.facts["textures"]) == ("material", "figures/keeper")
    assert [one.target for one in links(workspace, project).needs(ADDRESS)] == [f"{BUNDLE}//figures/keeper.ptx"]
    put_in_work(workspace, project, ADDRESS)
    _set(workspace, project, "material.colour", "figures/cooper.ptx", item=True)
    _set(workspace, project, "material.highlight", "0.75")
    assert workspace.edit(project, ADDRESS).state == "ready"
    before = _text(game)
    builds.build(workspace, project)
    wanted = before.replace("figures/keeper", "figures/cooper").replace("highlight = 0.2", "highlight = 0.75")
    assert _text(game) == wanted != before
    builds.restore(workspace, project)
    assert _text(game) == before


def test_paths_that_the_game_does_not_read_are_told_and_put_right(workspace: Workspace, game: Path) -> None:
    project = str(open_game(workspace, game)["project"])
    put_in_work(workspace, project, ADDRESS)
    _set(workspace, project, "material.colour", "figures\\cooper.ptx")
    (finding,) = workspace.edit(project, ADDRESS).sheet["findings"]
    assert (finding["id"], finding["remedy"]["id"]) == ("path-colour", "paths")
    set_remedies(workspace, project, ADDRESS, ["paths"])
    edit = workspace.edit(project, ADDRESS)
    assert edit.state == "ready"
    assert b"colour = figures/cooper\n" in workspace.blobs.get(edit.encoded_sha256)
    _set(workspace, project, "material.colour", "figures/coper")
    told = workspace.edit(project, ADDRESS).sheet["findings"]
    assert [one["remedy"]["label"] for one in told] == ["Write figures/cooper"]
    set_remedies(workspace, project, ADDRESS, [told[0]["remedy"]["id"]])
    assert workspace.edit(project, ADDRESS).state == "ready"


def test_a_half_saved_material_is_told_and_loses_nothing(workspace: Workspace, tmp_path: Path) -> None:
    folder = tmp_path / "walls"
    folder.mkdir()
    with zipfile.ZipFile(folder / "a.zip", "w") as archive:
        archive.writestr("wall.mat", '{"colour": "a/stone"}')
    (workspace.home.layouts / "wall.yaml").write_text(
        'layout: wall\ntitle: Wall\nkind: material\nmatch: {names: ["*.mat"]}\n'
        "parts: [{material: values, text: {form: json}, textures: {colour: colour}}]\n"
    )
    project, address = str(open_game(workspace, folder)["project"]), "a.zip//wall.mat"
    put_in_work(workspace, project, address)
    take_file(workspace, project, address, b'{"colour": "a/brick"}', "wall.txt")
    before = workspace.edit(project, address)
    with pytest.raises(FormatError, match="no JSON"):
        take_file(workspace, project, address, b'{"colour": "a/br', "wall.txt")
    after = workspace.edit(project, address)
    assert (after.position, after.encoded_sha256) == (before.position, before.encoded_sha256)


def test_textures_of_other_sides_than_the_game_takes_are_told(workspace: Workspace, tmp_path: Path) -> None:
    folder = tmp_path / "walls"
    folder.mkdir()
    for name, sides in (("a", (64, 64)), ("b", (64, 32)), ("c", (48, 48)), ("d", (256, 256))):
        Image.new("RGB", sides, (90, 120, 40)).save(folder / f"{name}.png")
    (folder / "wall.mat").write_text('{"colour": "a.png", "normal": "a.png"}')
    (workspace.home.layouts / "wall.yaml").write_text(
        'layout: wall\ntitle: Wall\nkind: material\nmatch: {names: ["*.mat"]}\n'
        "parts: [{material: values, text: {form: json}, textures: {colour: colour, normal: normal},\n"
        "  sides: {same: true, powers: true, most: 128}}]\n"
    )
    project = str(open_game(workspace, folder)["project"])
    put_in_work(workspace, project, "wall.mat")

    def told(colour: str, normal: str) -> list[str]:
        text = f'{{"colour": "{colour}.png", "normal": "{normal}.png"}}'
        take_file(workspace, project, "wall.mat", text.encode(), "wall.txt")
        return [one["id"] for one in workspace.edit(project, "wall.mat").sheet["findings"]]

    assert told("a", "b") == ["sides-normal"]
    assert told("c", "c") == ["sides-colour", "sides-normal"]
    assert told("d", "d") == ["sides-colour", "sides-normal"]
    assert told("a", "a") == []


def test_a_model_of_the_games_own_type_is_brought_and_an_editor_gets_it_as_gltf(
    workspace: Workspace, game: Path
) -> None:
    project = str(open_game(workspace, game)["project"])
    boat, dinghy = (f"{BUNDLE}//models/{name}.shp" for name in ("boat", "dinghy"))
    data = original_bytes(workspace, workspace.project(project), workspace.find(project, dinghy))
    put_in_work(workspace, project, boat)
    take_file(workspace, project, boat, data, "dinghy.shp")
    edit = workspace.edit(project, boat)
    assert workspace.blobs.get(edit.encoded_sha256) == data
    assert [one["id"] for one in edit.sheet["findings"]] == ["painted-0", "painted-1"], "made for other textures"
    file = exchange_file(workspace, edit)
    assert file.suffix == ".glb"
    sent = file.read_bytes()
    assert sent[:4] == b"glTF"
    assert kind_of("mesh").saved(look_at(workspace, project, dinghy)[1].original, ".glb") == sent
    go_to(workspace, project, boat, 0)
    assert file.read_bytes() != sent
    go_to(workspace, project, boat, 1)
    assert file.read_bytes() == sent
    with pytest.raises(FormatError, match="neither glTF nor"):
        take_file(workspace, project, boat, b"no model", "x.shp")


def test_what_nothing_names_stands_out_among_those_that_are_named(workspace: Workspace, game: Path) -> None:
    project = str(open_game(workspace, game)["project"])
    known = links(workspace, project)
    skins = [f"{BUNDLE}//skins/{name}.ptx" for name in ("tower", "lamp", "hull", "sail")]
    assert all(known.used_by(one) for one in skins)
    address = make(workspace, project, Beginning(skins[0], "skins/spare.ptx"))
    known = links(workspace, project)
    assert not known.used_by(address)
    assert left_alone(workspace, project, address, known)
    # Textures that the game names in its own code are all alike.
    assert not left_alone(workspace, project, "data/harbour.kist//textures/stamps/stamp_00.ptx", known)
