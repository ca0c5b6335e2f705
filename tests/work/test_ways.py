"""Ways back: loose files and add-on archives beside the game's own, and all of it undone."""

from __future__ import annotations

import configparser
import io
import shutil
import zipfile
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from sqlalchemy import select

from brae.core.build.addon import add_on
from brae.core.containers.nesting import open_path
from brae.core.containers.recognise import open_container
from brae.core.errors import BraeError, ChangedError, NotFoundError
from brae.core.layouts.library import FOLDER, Library
from brae.core.sources import BytesSource
from brae.demo import LAYOUTS, art, desktop
from brae.demo.standin import play
from brae.store.models import Member, Project
from brae.work import Workspace, builds, planning, trials
from brae.work.edits import go_to
from brae.work.opening import open_game
from brae.work.projects import choose
from tests.work.test_flow import SAIL, SKY, come_back, digests, edit_of, paint

LIBRARY = Library.of([LAYOUTS])
SIGN = "data/harbour.kist//textures/weather/sign_01.ptx"


@pytest.fixture
def opened(workspace: Workspace, game: Path) -> Path:
    open_game(workspace, game)
    return game


def _edited(workspace: Workspace, *addresses: str) -> None:
    for address in addresses:
        come_back(workspace, address, paint(workspace, address))


def test_the_game_and_its_edition_are_recognised_and_can_be_overridden(workspace: Workspace, opened: Path) -> None:
    project = workspace.project("skerry")
    assert (project.game, project.edition, project.chosen_edition) == ("skerry-post-desktop", "north", None)
    choose(workspace, "skerry", edition="south")
    open_game(workspace, opened)
    project = workspace.project("skerry")
    assert (project.edition, project.chosen_edition) == ("north", "south")
    with pytest.raises(NotFoundError, match="edition 'east'"):
        choose(workspace, "skerry", edition="east")
    with pytest.raises(NotFoundError, match="way 'by-sea'"):
        choose(workspace, "skerry", way="by-sea")


def test_the_catalogue_says_which_copy_wins(workspace: Workspace, opened: Path) -> None:
    with workspace.database.session() as session:
        rows = session.scalars(select(Member).where(Member.winner.is_not(None)))
        found = {row.address: row.winner for row in rows}
    main, lantern = "data/harbour.kist//textures", "addons/lantern.kist//textures"
    assert found == {
        f"{main}/signs/mossbay.ptx": f"{lantern}/signs/mossbay.ptx",
        f"{main}/weather/sign_00.ptx": f"{lantern}/weather/sign_00.ptx",
        SIGN: "loose/textures/weather/sign_01.ptx",
    }
    # The stand-in agrees.
    trace = play(opened).trace
    assert "textures/weather/sign_01.ptx: the loose file is used" in trace
    assert "textures/weather/sign_00.ptx: taken from lantern" in trace
    _edited(workspace, SIGN)
    plan = planning.plan(workspace, "skerry")
    assert "another copy" in plan.warnings[SIGN]

    def told() -> list[str]:
        sheet = edit_of(workspace, SIGN).sheet or {}
        return [one["id"] for one in sheet["findings"] if one["severity"] == "shows"]

    assert told() == ["hidden"]
    assert edit_of(workspace, SIGN).state == "attention"
    choose(workspace, "skerry", way="loose")
    assert told() == [], "built as a loose file it is the one that the game uses"
    assert SIGN not in planning.plan(workspace, "skerry").warnings
    choose(workspace, "skerry", way="archive")
    assert told() == ["hidden"]
    assert "another copy" in planning.plan(workspace, "skerry").warnings[SIGN]


def test_loose_files_mirror_the_path_and_go_again(workspace: Workspace, opened: Path) -> None:
    before = digests(opened)
    _edited(workspace, SAIL, SKY)
    choose(workspace, "skerry", way="loose")
    plan = planning.plan(workspace, "skerry")
    assert [(file.path, file.way) for file in plan.files] == [
        ("loose/textures/boat/sail.ptx", "create"),
        ("loose/textures/harbour/sky.ptx", "create"),
    ]
    builds.build(workspace, "skerry")
    after = digests(opened)
    assert {path: after[path] for path in before} == before, "no file of the game is touched"
    assert set(after) - set(before) == {"loose/textures/boat/sail.ptx", "loose/textures/harbour/sky.ptx"}
    data = (opened / "loose/textures/boat/sail.ptx").read_bytes()
    assert data == workspace.blobs.get(edit_of(workspace, SAIL).encoded_sha256 or "")
    assert planning.plan(workspace, "skerry").up_to_date
    trial = trials.run(workspace, "skerry")
    assert "textures/boat/sail.ptx: the loose file is used" in trial.after.trace
    assert "textures/boat/sail.ptx: the loose file is used" not in trial.before.trace
    # Opened again, what Brae made is no part of the game.
    assert open_game(workspace, opened)["members"] == 375
    # One edit is taken back: its file goes, with the folder made for it.
    go_to(workspace, "skerry", SAIL, 0)
    assert [(file.path, file.way) for file in planning.plan(workspace, "skerry").files] == [
        ("loose/textures/boat/sail.ptx", "remove")
    ]
    builds.build(workspace, "skerry")
    assert not (opened / "loose/textures/boat").exists()
    builds.restore(workspace, "skerry")
    assert digests(opened) == before
    assert not (opened / "loose/textures/harbour").exists()
    assert (opened / "loose/textures/weather").exists(), "the game's own folder stays"


def test_an_existing_loose_file_is_kept_and_replaced(workspace: Workspace, opened: Path) -> None:
    before = digests(opened)
    _edited(workspace, SIGN)
    choose(workspace, "skerry", way="loose")
    (file,) = planning.plan(workspace, "skerry").files
    assert (file.path, file.way) == ("loose/textures/weather/sign_01.ptx", "replace")
    builds.build(workspace, "skerry")
    assert digests(opened) != before
    builds.restore(workspace, "skerry")
    assert digests(opened) == before


def test_an_add_on_loads_over_the_others_and_is_registered(workspace: Workspace, opened: Path) -> None:
    before = digests(opened)
    settings = (opened / "skerry.cfg").read_text()
    _edited(workspace, SAIL, SKY)
    choose(workspace, "skerry", way="add-on")
    builds.build(workspace, "skerry")
    after = digests(opened)
    assert set(after) - set(before) == {"addons/brae_01.kist", "addons/brae_01.hold"}
    assert {path for path in before if after[path] != before[path]} == {"skerry.cfg"}
    changed = (opened / "skerry.cfg").read_text()
    assert changed == settings.replace("lantern = ", "brae_01 = addons/brae_01.kist\nlantern = ")
    archive = open_path(opened / "addons/brae_01.kist", [], LIBRARY).container
    assert archive.names == ["textures/boat/sail.ptx", "textures/harbour/sky.ptx"]
    assert archive.prove().exact
    trial = trials.run(workspace, "skerry")
    assert trial.after.refused is None
    assert "textures/boat/sail.ptx: taken from brae_01" in trial.after.trace
    assert trial.before.trace[1].startswith("lantern.kist")
    assert planning.plan(workspace, "skerry").up_to_date
    # Built anew with one edit less, it keeps its number.
    go_to(workspace, "skerry", SKY, 0)
    builds.build(workspace, "skerry")
    assert open_path(opened / "addons/brae_01.kist", [], LIBRARY).container.names == ["textures/boat/sail.ptx"]
    builds.restore(workspace, "skerry")
    assert digests(opened) == before


def test_several_add_ons_lie_side_by_side(workspace: Workspace, opened: Path, tmp_path: Path) -> None:
    """Another person's add-on has number 1, and the settings name a number 2 that is not there."""
    shutil.copy(opened / "addons/lantern.kist", opened / "addons/brae_01.kist")
    shutil.copy(opened / "addons/lantern.hold", opened / "addons/brae_01.hold")
    settings = opened / "skerry.cfg"
    settings.write_text(settings.read_text().replace("[archives]", "[archives]\nbrae_01 = addons/brae_01.kist"))
    open_game(workspace, opened)
    before = digests(opened)
    _edited(workspace, SAIL)
    choose(workspace, "skerry", way="add-on")
    builds.build(workspace, "skerry")
    listed = configparser.ConfigParser()
    listed.read(settings)
    assert list(listed["archives"]) == ["brae_02", "brae_01", "lantern", "main", "streams"]
    assert play(opened).refused is None
    builds.restore(workspace, "skerry")
    assert digests(opened) == before


def test_a_full_list_is_refused_before_anything_is_written(workspace: Workspace, opened: Path) -> None:
    settings = opened / "skerry.cfg"
    more = "".join(f"more_{k} = addons/lantern.kist\n" for k in range(6))
    settings.write_text(settings.read_text().replace("lantern =", f"{more}lantern ="))
    open_game(workspace, opened)
    before = digests(opened)
    _edited(workspace, SAIL)
    choose(workspace, "skerry", way="add-on")
    (fault,) = planning.plan(workspace, "skerry").faults
    assert "room for 8 lines" in fault["message"]
    with pytest.raises(BraeError, match="room for 8"):
        builds.build(workspace, "skerry")
    assert digests(opened) == before


def test_changing_the_way_puts_the_other_ways_files_back(workspace: Workspace, opened: Path) -> None:
    before = digests(opened)
    _edited(workspace, SAIL)
    for way in ("archive", "loose", "add-on", "archive"):
        choose(workspace, "skerry", way=way)
        builds.build(workspace, "skerry")
        assert play(opened).refused is None
    after = digests(opened)
    assert set(after) == set(before)
    assert {path for path in before if after[path] != before[path]} == {"data/harbour.kist", "data/harbour.hold"}
    builds.restore(workspace, "skerry")
    assert digests(opened) == before


def test_a_created_file_that_someone_changed_is_not_removed_blindly(workspace: Workspace, opened: Path) -> None:
    _edited(workspace, SAIL)
    choose(workspace, "skerry", way="loose")
    builds.build(workspace, "skerry")
    made = opened / "loose/textures/boat/sail.ptx"
    made.write_bytes(b"by hand")
    with pytest.raises(ChangedError):
        builds.restore(workspace, "skerry")
    assert made.read_bytes() == b"by hand"
    builds.restore(workspace, "skerry", force=True)
    assert not made.exists()


def test_a_name_that_differs_in_case_only_is_refused(workspace: Workspace, opened: Path) -> None:
    (opened / "loose/Textures").mkdir()
    shutil.rmtree(opened / "loose/textures")
    open_game(workspace, opened)
    _edited(workspace, SAIL)
    choose(workspace, "skerry", way="loose")
    (fault,) = planning.plan(workspace, "skerry").faults
    assert "to the letter" in fault["message"]


def test_two_members_of_one_name_cannot_both_be_loose(workspace: Workspace, opened: Path) -> None:
    _edited(
        workspace,
        "data/harbour.kist//textures/signs/mossbay.ptx",
        "addons/lantern.kist//textures/signs/mossbay.ptx",
    )
    choose(workspace, "skerry", way="loose")
    (fault,) = planning.plan(workspace, "skerry").faults
    assert "only one can be" in fault["message"]


def test_a_missing_half_is_told(workspace: Workspace, game: Path) -> None:
    (game / "addons/lantern.hold").unlink()
    open_game(workspace, game)
    with workspace.database.session() as session:
        project = session.get(Project, "skerry")
        assert project is not None
        assert project.game_faults == ["addons/lantern.kist has no lantern.hold beside it"]


def test_a_profile_of_ones_own_with_a_list_of_items(workspace: Workspace, tmp_path: Path) -> None:
    """A game nobody knows: described in its folder, loose items registered in a text list."""
    game = tmp_path / "skerry"
    desktop.write_pair(
        game, "town", [("ui/a.ptx", desktop.ptx(art.weather(64, 1), "bgra8", 1)), ("b.txt", b"b" * 90)]
    )
    (game / "items.lst").write_bytes(b"# items\r\nb.txt\r\n")
    (game / FOLDER).mkdir()
    (game / FOLDER / "town.game.yaml").write_text(
        "game: town\ntitle: Town\nsigns: [{file: town.kist}]\nways:\n"
        "  - {way: loose, folder: mods, register: {file: items.lst, line: '{file}', slash: '\\', place: bottom}}\n"
    )
    open_game(workspace, game)
    before = digests(game)
    come_back(workspace, "town.kist//ui/a.ptx", paint(workspace, "town.kist//ui/a.ptx"))
    builds.build(workspace, "skerry")
    assert (game / "items.lst").read_bytes() == b"# items\r\nb.txt\r\nmods\\ui\\a.ptx\r\n"
    assert (game / "mods/ui/a.ptx").is_file()
    builds.restore(workspace, "skerry")
    assert digests(game) == before
    assert not (game / "mods").exists()


def test_pictures_of_loose_overrides_are_what_was_painted(
    workspace: Workspace, opened: Path, tmp_path: Path
) -> None:
    _edited(workspace, SAIL)
    choose(workspace, "skerry", way="loose")
    builds.build(workspace, "skerry")
    from brae.core.assets.texture.files import read_texture

    texture = read_texture((opened / "loose/textures/boat/sail.ptx").read_bytes(), LIBRARY, "sail.ptx")
    painted = np.array(Image.open(workspace.exchange_folder("skerry") / edit_of(workspace, SAIL).exchange_path))
    assert np.abs(texture.picture()[120:136, 120:136, :3].astype(int) - painted[120:136, 120:136, :3]).mean() < 6


def test_a_name_that_leads_out_is_refused(workspace: Workspace, tmp_path: Path) -> None:
    game = tmp_path / "skerry"
    desktop.write_pair(game, "town", [("../../evil.ptx", desktop.ptx(art.weather(64, 1), "bgra8", 1))])
    (game / FOLDER).mkdir()
    (game / FOLDER / "t.game.yaml").write_text(
        "game: town\ntitle: Town\nsigns: [{file: town.kist}]\nways: [{way: loose, folder: mods}]\n"
    )
    open_game(workspace, game)
    with workspace.database.session() as session:
        address = session.scalar(select(Member.address).where(Member.kind == "texture"))
    assert address is not None
    come_back(workspace, address, paint(workspace, address))
    with pytest.raises(BraeError, match="cannot be a path"):
        builds.build(workspace, "skerry")
    assert not (tmp_path / "evil.ptx").exists()


def test_a_zip_serves_as_a_replacement_pack() -> None:
    """Read back by the standard library: only what is new is in it, packed as its neighbours are."""
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w", zipfile.ZIP_DEFLATED) as pack:
        for number in range(5):
            pack.writestr(f"signs/{number}.txt", f"pier {number} " * 50)
    like = open_container("zip", {"main": BytesSource(stream.getvalue())}, "game.zip", Library())
    made = add_on(like, {"signs/2.txt": b"new " * 40, "signs/9.txt": b"more " * 40}, {})
    with zipfile.ZipFile(io.BytesIO(b"".join(made.read("main")))) as pack:
        assert pack.testzip() is None
        assert pack.namelist() == ["signs/2.txt", "signs/9.txt"]
        assert pack.read("signs/2.txt") == b"new " * 40
        assert {info.compress_type for info in pack.infolist()} == {zipfile.ZIP_DEFLATED}
