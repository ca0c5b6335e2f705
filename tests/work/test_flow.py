"""From the game's files to the game's files: open, edit, build, try, restore."""

from __future__ import annotations

import hashlib
import os
import shutil
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image

from brae.core.assets.texture.files import write_image
from brae.core.errors import BraeError, ChangedError, FormatError, NotFoundError, StorageError
from brae.core.layouts.library import FOLDER
from brae.demo import LAYOUTS
from brae.demo.standin import play
from brae.store.models import Edit, Original
from brae.work import Workspace, builds, planning, trials
from brae.work.edits import (
    exchange_file,
    go_to,
    put_in_work,
    set_remedies,
    take_beside,
    take_file,
    take_out_of_work,
)
from brae.work.in_game import held, version, waiting
from brae.work.items import look_at, original_asset, original_bytes
from brae.work.marks import set_marks, take_marks_back
from brae.work.opening import open_game
from brae.work.projects import choose
from brae.work.watch import Watcher

SAIL = "data/harbour.kist//textures/boat/sail.ptx"
SKY = "data/harbour.kist//textures/harbour/sky.ptx"


def digests(folder: Path) -> dict[str, str]:
    """Every file's hash, by path."""
    return {
        path.relative_to(folder).as_posix(): hashlib.sha256(path.read_bytes()).hexdigest()
        for path in sorted(folder.rglob("*"))
        if path.is_file()
    }


def edit_of(workspace: Workspace, address: str) -> Edit:
    edit = workspace.edit("skerry", address)
    _ = edit.steps
    return edit


def paint(
    workspace: Workspace, address: str, colour: tuple[int, int, int] = (40, 160, 90), noisy: bool = False
) -> Path:
    """Put an item in work and change its exchange file, as an image editor would."""
    put_in_work(workspace, "skerry", address)
    path = exchange_file(workspace, edit_of(workspace, address))
    pixels = np.array(Image.open(path))
    high, wide = pixels.shape[0] // 2, pixels.shape[1] // 2
    pixels[max(high - 30, 0) : high + 30, max(wide - 30, 0) : wide + 30, :3] = colour
    if noisy:
        pixels[..., :3] = np.random.default_rng(2).integers(0, 256, pixels[..., :3].shape)
    Image.fromarray(pixels).save(path)
    return path


def come_back(workspace: Workspace, address: str, path: Path) -> None:
    take_file(workspace, "skerry", address, path.read_bytes(), path.name)


@pytest.fixture
def opened(workspace: Workspace, game: Path) -> Path:
    result = open_game(workspace, game)
    assert result == {"project": "skerry", "archives": 5, "members": 375, "files": 10, "reused": 0}
    return game


def test_patch_see_restore(workspace: Workspace, opened: Path) -> None:
    before = digests(opened)
    come_back(workspace, SAIL, paint(workspace, SAIL))
    assert edit_of(workspace, SAIL).state == "ready"
    plan = planning.plan(workspace, "skerry")
    assert [(file.path, file.way) for file in plan.files] == [
        ("data/harbour.kist", "patch"),
        ("data/harbour.hold", "patch"),
    ]
    assert digests(opened) == before, "a plan writes nothing"
    builds.build(workspace, "skerry")
    after = digests(opened)
    assert {path for path in before if before[path] != after[path]} == {"data/harbour.kist", "data/harbour.hold"}
    trial = trials.run(workspace, "skerry")
    assert trial.after.refused is None
    assert not trial.after.placeholders
    assert trial.before.scene != trial.after.scene
    assert trial.before.scene == play(opened).scene or trial.after.scene == play(opened).scene
    assert planning.plan(workspace, "skerry").up_to_date
    assert builds.build(workspace, "skerry")["up_to_date"]
    assert sorted(builds.restore(workspace, "skerry")["files"]) == ["data/harbour.hold", "data/harbour.kist"]
    assert digests(opened) == before
    assert builds.restore(workspace, "skerry") == {"files": [], "left": []}


def test_what_the_game_holds_is_told_apart_from_what_waits(workspace: Workspace, opened: Path) -> None:
    """Not "ready" any more once it is built, and ready again wherever the game does not hold it."""

    def stand() -> tuple[bool, int]:
        edit = edit_of(workspace, SAIL)
        return held(workspace, "skerry").get(SAIL) == version(edit), waiting(workspace, "skerry")

    come_back(workspace, SAIL, paint(workspace, SAIL))
    assert stand() == (False, 1)
    builds.build(workspace, "skerry")
    assert stand() == (True, 0)
    come_back(workspace, SAIL, paint(workspace, SAIL, colour=(200, 30, 30)))
    assert stand() == (False, 1), "another version"
    choose(workspace, "skerry", way="loose")
    go_to(workspace, "skerry", SAIL, 1)
    assert stand() == (False, 1), "it is to come into the game by another way"
    choose(workspace, "skerry", way="archive")
    assert stand() == (True, 0), "the usual way, by its name"
    choose(workspace, "skerry", way="")
    go_to(workspace, "skerry", SAIL, 1)
    assert stand() == (True, 0), "undone: the game has this one"
    go_to(workspace, "skerry", SAIL, 0)
    assert stand() == (False, 1), "the original is wanted again, and not there"
    go_to(workspace, "skerry", SAIL, 1)
    hold = opened / "data/harbour.hold"
    kept = hold.read_bytes()
    hold.write_bytes(kept[:-1] + bytes([kept[-1] ^ 1]))
    os.utime(hold, ns=(1, 1))
    assert stand() == (False, 1), "another program wrote there"
    hold.write_bytes(kept)
    builds.restore(workspace, "skerry", force=True)
    assert stand() == (False, 1), "put back"
    builds.build(workspace, "skerry")
    take_out_of_work(workspace, "skerry", SAIL)
    assert waiting(workspace, "skerry") == 1, "nobody wants it any more; a build takes it out of the game"
    builds.build(workspace, "skerry")
    assert waiting(workspace, "skerry") == 0


def test_rebuild_then_fewer_edits_then_restore(workspace: Workspace, opened: Path) -> None:
    before = digests(opened)
    come_back(workspace, SAIL, paint(workspace, SAIL, noisy=True))
    come_back(workspace, SKY, paint(workspace, SKY))
    plan = planning.plan(workspace, "skerry")
    assert {file.way for file in plan.files} == {"rebuild"}
    builds.build(workspace, "skerry")
    report = play(opened)
    assert report.refused is None, report.refused
    assert not report.placeholders
    # Only the changed members differ: everything else in the rebuilt archive equals the original's bytes.
    project = open_game(workspace, opened)
    assert project["members"] == 375
    take_out_of_work(workspace, "skerry", SAIL)
    builds.build(workspace, "skerry")
    assert play(opened).refused is None
    take_out_of_work(workspace, "skerry", SKY)
    plan = planning.plan(workspace, "skerry")
    assert {file.way for file in plan.files} == {"restore"}
    builds.build(workspace, "skerry")
    assert digests(opened) == before


def test_a_second_patch_takes_the_first_back(workspace: Workspace, opened: Path) -> None:
    before = digests(opened)
    path = paint(workspace, SAIL)
    come_back(workspace, SAIL, path)
    builds.build(workspace, "skerry")
    first = digests(opened)
    come_back(workspace, SKY, paint(workspace, SKY))
    go_to(workspace, "skerry", SAIL, 0)
    builds.build(workspace, "skerry")
    go_to(workspace, "skerry", SAIL, 1)
    go_to(workspace, "skerry", SKY, 0)
    builds.build(workspace, "skerry")
    assert digests(opened) == first, "the same edits give the same bytes, whatever was built between"
    builds.restore(workspace, "skerry", ["data/harbour.kist"])
    assert digests(opened)["data/harbour.kist"] == before["data/harbour.kist"]
    assert play(opened).refused is not None, "half of a pair is what a strict game refuses"
    builds.restore(workspace, "skerry")
    assert digests(opened) == before


def test_originals_stay_in_view_after_a_build(workspace: Workspace, opened: Path) -> None:
    project = workspace.project("skerry")
    original = original_bytes(workspace, project, workspace.find("skerry", SAIL))
    for noisy in (False, True):
        come_back(workspace, SAIL, paint(workspace, SAIL, noisy=noisy))
        builds.build(workspace, "skerry")
        project = workspace.project("skerry")
        assert original_bytes(workspace, project, workspace.find("skerry", SAIL)) == original


def test_what_something_else_changed_is_not_overwritten(workspace: Workspace, opened: Path) -> None:
    come_back(workspace, SAIL, paint(workspace, SAIL))
    hold = opened / "data/harbour.hold"
    data = bytearray(hold.read_bytes())
    data[-1] ^= 1
    hold.write_bytes(data)
    os.utime(hold, ns=(1, 1))
    plan = planning.plan(workspace, "skerry")
    assert plan.faults[0]["code"] == "changed-behind"
    with pytest.raises(ChangedError, match="changed by something else"):
        builds.build(workspace, "skerry")
    assert hold.read_bytes() == bytes(data)
    open_game(workspace, opened)
    assert edit_of(workspace, SAIL).state == "ready", "the edit is kept"
    builds.build(workspace, "skerry")
    builds.restore(workspace, "skerry")
    assert hold.read_bytes() == bytes(data), "what was opened last is the original"


def test_a_file_that_only_was_touched_is_still_itself(workspace: Workspace, opened: Path) -> None:
    come_back(workspace, SAIL, paint(workspace, SAIL))
    before = digests(opened)
    os.utime(opened / "data/harbour.hold", ns=(5, 5))
    open_game(workspace, opened)
    builds.build(workspace, "skerry")
    builds.restore(workspace, "skerry")
    assert digests(opened) == before


def test_a_lost_file_comes_back(workspace: Workspace, opened: Path) -> None:
    before = digests(opened)
    come_back(workspace, SAIL, paint(workspace, SAIL))
    builds.build(workspace, "skerry")
    (opened / "data/harbour.hold").unlink()
    found = builds.restore(workspace, "skerry")
    assert found["files"] == ["data/harbour.kist"], "the others are put back"
    assert [one["path"] for one in found["left"]] == ["data/harbour.hold"]
    assert "gone" in found["left"][0]["reason"]
    with pytest.raises(ChangedError, match="gone"):
        builds.restore(workspace, "skerry")
    builds.restore(workspace, "skerry", force=True)
    assert digests(opened) == before


def test_game_update_with_edits_in_place(workspace: Workspace, opened: Path, made_demo: Path) -> None:
    """The update puts other files there: they become the originals, and restore gives them back."""
    come_back(workspace, SAIL, paint(workspace, SAIL))
    builds.build(workspace, "skerry")
    for name in ("harbour.kist", "harbour.hold"):
        shutil.copy(made_demo / "data" / name, opened / "data" / name)
    updated = digests(opened)
    open_game(workspace, opened)
    plan = planning.plan(workspace, "skerry")
    assert not plan.up_to_date
    builds.build(workspace, "skerry")
    builds.restore(workspace, "skerry")
    assert digests(opened) == updated


def test_a_full_disk_changes_nothing(workspace: Workspace, opened: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    come_back(workspace, SAIL, paint(workspace, SAIL, noisy=True))
    before = digests(opened)

    def full(*_: object, **__: object) -> str:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(builds, "write_beside", full)
    with pytest.raises(StorageError, match="disk is full"):
        builds.build(workspace, "skerry")
    assert digests(opened) == before
    monkeypatch.undo()
    builds.build(workspace, "skerry")
    assert play(opened).refused is None


@pytest.mark.parametrize("noisy", [False, True])
def test_a_read_only_game_is_refused_before_anything(
    workspace: Workspace, opened: Path, monkeypatch: pytest.MonkeyPatch, noisy: bool
) -> None:
    """As root permissions do not count, so the operating system's refusal is made."""
    come_back(workspace, SAIL, paint(workspace, SAIL, noisy=noisy))
    before = digests(opened)
    real = Path.open

    def refusing(self: Path, mode: str = "r", *arguments: Any, **named: Any) -> Any:
        if opened in self.parents and mode != "rb":
            raise PermissionError(13, "Permission denied", str(self))
        return real(self, mode, *arguments, **named)

    monkeypatch.setattr(Path, "open", refusing)
    with pytest.raises(StorageError, match="may not write"):
        builds.build(workspace, "skerry")
    monkeypatch.undo()
    assert digests(opened) == before
    assert not list(workspace.home.journals.iterdir())
    assert planning.plan(workspace, "skerry").files, "it is still to be built"


def test_versions_undo_and_redo(workspace: Workspace, opened: Path) -> None:
    path = paint(workspace, SAIL)
    come_back(workspace, SAIL, path)
    first = edit_of(workspace, SAIL).encoded_sha256
    image = Image.open(path).convert("RGBA")
    image.putalpha(255)
    image.save(path)
    come_back(workspace, SAIL, path)
    assert edit_of(workspace, SAIL).state == "attention"
    set_remedies(workspace, "skerry", SAIL, ["restore-alpha"])
    edit = edit_of(workspace, SAIL)
    assert (edit.state, edit.position, [step.what for step in edit.steps][-1]) == (
        "ready", 3, "Take the transparency from the original",
    )  # fmt: skip
    go_to(workspace, "skerry", SAIL, 1)
    assert edit_of(workspace, SAIL).encoded_sha256 == first
    go_to(workspace, "skerry", SAIL, 0)
    assert edit_of(workspace, SAIL).state == "waiting"
    go_to(workspace, "skerry", SAIL, 3)
    assert edit_of(workspace, SAIL).state == "ready"
    with pytest.raises(NotFoundError):
        go_to(workspace, "skerry", SAIL, 4)


def test_taking_out_of_work_loses_nothing(workspace: Workspace, opened: Path) -> None:
    path = paint(workspace, SAIL)
    saved = path.read_bytes()  # not yet taken by Brae
    take_out_of_work(workspace, "skerry", SAIL)
    assert not path.exists()
    put_in_work(workspace, "skerry", SAIL)
    assert path.read_bytes() == saved
    assert edit_of(workspace, SAIL).position == 1


def test_same_as_the_original_is_said_and_not_built(workspace: Workspace, opened: Path) -> None:
    put_in_work(workspace, "skerry", SAIL)
    path = exchange_file(workspace, edit_of(workspace, SAIL))
    assert not take_file(workspace, "skerry", SAIL, path.read_bytes(), path.name), "what was sent out is no edit"
    Image.open(path).save(path, compress_level=1)
    come_back(workspace, SAIL, path)
    assert edit_of(workspace, SAIL).state == "same"
    plan = planning.plan(workspace, "skerry")
    assert (plan.files, plan.left_out[SAIL]) == ([], "it is equal to the original")


def test_what_the_game_would_refuse_is_left_out(workspace: Workspace, opened: Path) -> None:
    path = paint(workspace, SAIL)
    Image.open(path).resize((100, 100)).save(path)
    come_back(workspace, SAIL, path)
    plan = planning.plan(workspace, "skerry")
    assert "refuse" in plan.left_out[SAIL]
    set_remedies(workspace, "skerry", SAIL, ["resize"])
    builds.build(workspace, "skerry")
    report = play(opened)
    assert (report.refused, report.placeholders) == (None, {})


def test_damaged_files_leave_the_version_before(workspace: Workspace, opened: Path) -> None:
    path = paint(workspace, SAIL)
    come_back(workspace, SAIL, path)
    with pytest.raises(BraeError, match="not complete"):
        take_file(workspace, "skerry", SAIL, path.read_bytes()[:500], "sail.png")
    assert edit_of(workspace, SAIL).state == "ready"
    with pytest.raises(FormatError, match="no remedy"):
        set_remedies(workspace, "skerry", SAIL, ["magic"])
    with pytest.raises(FormatError, match="Items of this kind cannot be edited yet"):
        put_in_work(workspace, "skerry", STREAM)


def test_the_watcher_takes_what_an_editor_saves(workspace: Workspace, opened: Path) -> None:
    put_in_work(workspace, "skerry", SAIL)
    watcher = Watcher(workspace)
    path = paint(workspace, SAIL)
    with workspace.events.listen() as listener:
        watcher.start()  # what was saved while nobody watched is taken first
        while listener.get(timeout=20)["kind"] != "edit":
            pass
        assert edit_of(workspace, SAIL).position == 1
        # Another type of file under the same stem counts too; half of it first, the rest a little later.
        other = path.with_suffix(".bmp")
        Image.open(path).convert("RGB").save(other)
        whole = other.read_bytes()
        other.write_bytes(whole[: len(whole) // 3])
        import time

        time.sleep(0.6)
        assert edit_of(workspace, SAIL).position == 1, "half a file is waited for"
        other.write_bytes(whole)
        while listener.get(timeout=20)["kind"] != "edit":
            pass
    watcher.stop()
    edit = edit_of(workspace, SAIL)
    assert (edit.position, edit.steps[1].file_name, edit.state) == (2, "sail.ptx.bmp", "attention")


def test_a_single_archive_and_a_folder_with_layouts_of_its_own(
    workspace: Workspace, game: Path, tmp_path: Path
) -> None:
    result = open_game(workspace, game / "data/harbour.kist")
    assert (result["project"], result["archives"], result["members"]) == ("harbour", 1, 323)
    # A person's own game: the same bytes under another magic, described in the project's folder.
    other = tmp_path / "other game"
    other.mkdir()
    (other / "town.idx").write_bytes((game / "data/harbour.kist").read_bytes().replace(b"KIST", b"TOWN", 1))
    (other / "town.dat").write_bytes((game / "data/harbour.hold").read_bytes())
    assert open_game(workspace, other)["archives"] == 0
    (other / FOLDER).mkdir()
    text = (LAYOUTS / "kist.yaml").read_text().replace("KIST", "TOWN").replace("{stem}.hold", "{stem}.dat")
    (other / FOLDER / "town.yaml").write_text(text.replace("skerry-kist", "town"))
    (other / FOLDER / "broken.yaml").write_text("layout: broken\ntitle: x\nkind: what\nparts: []\n")
    result = open_game(workspace, other)
    # The adler of the header no longer fits: the archive is read, and the proof says which field differs.
    project = workspace.project(result["project"])
    assert [(fault["layout"], fault["line"]) for fault in project.layout_faults] == [("broken.yaml", 3)]
    assert (result["archives"], result["members"]) == (1, 323)


def test_loose_pictures_are_replaced_whole(workspace: Workspace, tmp_path: Path) -> None:
    folder = tmp_path / "skerry"
    (folder / "art").mkdir(parents=True)
    Image.new("RGBA", (32, 32), (200, 10, 10, 255)).save(folder / "art" / "badge.png")
    before = digests(folder)
    assert open_game(workspace, folder)["members"] == 1
    come_back(workspace, "art/badge.png", paint(workspace, "art/badge.png"))
    assert planning.plan(workspace, "skerry").files[0].way == "replace"
    builds.build(workspace, "skerry")
    assert Image.open(folder / "art" / "badge.png").getpixel((16, 16)) == (40, 160, 90, 255)
    builds.restore(workspace, "skerry")
    assert digests(folder) == before


def test_kept_bytes_are_checked(workspace: Workspace, opened: Path) -> None:
    come_back(workspace, SAIL, paint(workspace, SAIL, noisy=True))
    builds.build(workspace, "skerry")
    built = digests(opened)
    with workspace.database.session() as session:
        original = next(row for row in session.query(Original) if row.path.endswith("harbour.hold"))
        assert original.whole is not None
        path = workspace.blobs.path(original.whole.sha256)
    data = bytearray(path.read_bytes())
    data[100] ^= 1
    path.write_bytes(data)
    with pytest.raises(NotFoundError, match="damaged"):
        builds.restore(workspace, "skerry")
    assert digests(opened) == built, "a damaged keep is never written over the game"


def test_undoing_is_not_undone_by_the_file_on_disk(workspace: Workspace, opened: Path) -> None:
    """The exchange file stays as the person saved it; only when it is saved anew it is an edit again."""
    path = paint(workspace, SAIL)
    watcher = Watcher(workspace)
    watcher.take(path)
    assert edit_of(workspace, SAIL).position == 1
    go_to(workspace, "skerry", SAIL, 0)
    watcher.catch_up()
    assert edit_of(workspace, SAIL).position == 0
    set_marks(workspace, "skerry", [SAIL, SKY], "checker")
    watcher.catch_up()
    assert [edit_of(workspace, address).position for address in (SAIL, SKY)] == [2, 1]
    take_marks_back(workspace, "skerry", [SAIL, SKY])
    assert edit_of(workspace, SAIL).position == 1
    assert not edit_of(workspace, SKY).in_work
    path.write_bytes(write_image(np.full((256, 256, 4), 200, np.uint8)))
    watcher.take(path)
    assert edit_of(workspace, SAIL).position == 3


CLIFF = "data/harbour.kist//textures/rock/cliff.pts"
STREAM = "data/streams.kist//streams/textures/rock/cliff.lvl"


def test_a_streamed_texture_is_one_item_in_two_archives(workspace: Workspace, opened: Path) -> None:
    before = digests(opened)
    assert workspace.find("skerry", CLIFF).member.facts["width"] == 512
    assert workspace.find("skerry", STREAM).member.kind == "part"
    come_back(workspace, CLIFF, paint(workspace, CLIFF))
    edit = edit_of(workspace, CLIFF)
    assert edit.state == "ready"
    assert list(edit.encoded_elsewhere) == [STREAM]
    first = look_at(workspace, "skerry", CLIFF)[1].edit
    assert first is not None
    empty = workspace.blobs.put(bytes(len(first.elsewhere[next(iter(first.elsewhere))])))
    with workspace.database.change() as session:
        row = session.get_one(Edit, edit.id)
        row.encoded_elsewhere = {STREAM: empty}
    other = look_at(workspace, "skerry", CLIFF)[1].edit
    assert other is not None
    assert not any(other.levels[0]), "the same stub with other levels is another picture"
    with workspace.database.change() as session:
        session.get_one(Edit, edit.id).encoded_elsewhere = edit.encoded_elsewhere
    plan = planning.plan(workspace, "skerry")
    assert [(file.path, len(file.members)) for file in plan.files if file.members] == [
        ("data/harbour.hold", 1),
        ("data/streams.hold", 1),
    ]
    builds.build(workspace, "skerry")
    trial = trials.run(workspace, "skerry")
    assert trial.after.refused is None
    assert not trial.after.placeholders
    assert trial.before.scene != trial.after.scene
    go_to(workspace, "skerry", CLIFF, 0)
    builds.build(workspace, "skerry")
    assert digests(opened) == before


def test_a_level_by_hand(workspace: Workspace, opened: Path) -> None:
    put_in_work(workspace, "skerry", CLIFF)
    red = np.full((128, 128, 4), (255, 0, 0, 255), np.uint8)
    take_beside(workspace, "skerry", CLIFF, "2", write_image(red), "far.png")
    edit = workspace.edit("skerry", CLIFF)
    project = workspace.project("skerry")
    original = original_asset(workspace, project, workspace.find("skerry", CLIFF))
    made = look_at(workspace, "skerry", CLIFF)[1].edit
    assert made is not None
    assert (made.picture(2) == red).all()
    assert all(made.levels[k] == original.levels[k] for k in range(10) if k != 2)
    assert edit.steps[-1].what == "level 2 by hand: far.png"
    with pytest.raises(FormatError, match="Expected 128 x 128"):
        take_beside(workspace, "skerry", CLIFF, "2", write_image(red[:64]), "half.png")
    with pytest.raises(FormatError, match="level 0 is the picture itself"):
        take_beside(workspace, "skerry", CLIFF, "0", write_image(red), "far.png")
    take_beside(workspace, "skerry", CLIFF, "2", b"", "")
    assert edit_of(workspace, CLIFF).state == "same"
