"""One unit of work: what is read, worked out with no session open, and written where it is still so."""

from __future__ import annotations

import os
import shutil
import sqlite3
import threading
import time
import zipfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest
from sqlalchemy import select

from brae.core.assets.texture.kind import TextureKind
from brae.core.build import journal as journals
from brae.core.containers.base import Container
from brae.core.errors import BraeError, ChangedError
from brae.core.layouts.library import FOLDER
from brae.core.sources import FileSource
from brae.core.sources.sectors import RAW, wrong_sectors
from brae.demo import art, desktop
from brae.demo.standin import play
from brae.jobs import Silent
from brae.store import Home
from brae.store.home import InUseError
from brae.store.models import Member, Original
from brae.work import Workspace, builds, planning, records
from brae.work import workspace as workspaces
from brae.work.builds import GrowthError
from brae.work.edits import put_in_work, set_remedies, take_file
from brae.work.items import original_bytes
from brae.work.opening import open_game
from brae.work.projects import choose
from tests.work.test_depth import SCREEN
from tests.work.test_flow import SAIL, SKY, come_back, digests, edit_of, paint
from tests.work.test_ways import SIGN


@pytest.fixture
def opened(workspace: Workspace, game: Path) -> Path:
    open_game(workspace, game)
    return game


# ---- a build that nobody planned


@pytest.fixture
def town(workspace: Workspace, tmp_path: Path) -> Path:
    """A game whose list of files is no text, so that opening takes no note of it; builds add a line to it."""
    game = tmp_path / "skerry"
    desktop.write_pair(game, "town", [("ui/a.ptx", desktop.ptx(art.weather(64, 1), "bgra8", 1))])
    (game / "items.lst").write_bytes("# items\r\nb.txt\r\n".encode("utf-16-le"))
    (game / FOLDER).mkdir()
    (game / FOLDER / "town.game.yaml").write_text(
        "game: town\ntitle: Town\nsigns: [{file: town.kist}]\nways:\n"
        "  - {way: loose, folder: mods, register: {file: items.lst, line: '{file}', encoding: utf-16}}\n"
    )
    open_game(workspace, game)
    come_back(workspace, "town.kist//ui/a.ptx", paint(workspace, "town.kist//ui/a.ptx"))
    return game


def test_a_build_without_a_plan_keeps_what_it_replaces(workspace: Workspace, town: Path) -> None:
    before = digests(town)
    assert "items.lst" not in workspace.originals("skerry"), "opening took no note of it"
    builds.build(workspace, "skerry")
    assert digests(town)["items.lst"] != before["items.lst"]
    assert builds.restore(workspace, "skerry")["left"] == []
    assert digests(town) == before


def test_a_plan_writes_nothing(workspace: Workspace, town: Path) -> None:
    planning.plan(workspace, "skerry")
    with sqlite3.connect(workspace.home.database) as connection:
        written = "\n".join(connection.iterdump())
    before = digests(town)
    plan = planning.plan(workspace, "skerry")
    assert {file.path for file in plan.files} == {"items.lst", "mods/ui/a.ptx"}
    with sqlite3.connect(workspace.home.database) as connection:
        assert "\n".join(connection.iterdump()) == written
    assert digests(town) == before


# ---- archives are remembered by what they are


def test_rows_numbers_lead_to_no_other_archive(workspace: Workspace, tmp_path: Path) -> None:
    """An archive that comes before another takes over its row's number when the game is opened again."""
    game = tmp_path / "skerry"
    game.mkdir()
    for name in ("b", "a"):
        with zipfile.ZipFile(game / f"{name}.zip", "w") as archive:
            archive.writestr("note.txt", f"this is {name}")
        open_game(workspace, game)
        for one in ("a", "b"):
            if (game / f"{one}.zip").exists():
                found = workspace.find("skerry", f"{one}.zip//note.txt")
                assert original_bytes(workspace, workspace.project("skerry"), found) == f"this is {one}".encode()


def test_an_item_found_before_the_game_changed_is_not_read_from_its_neighbour(
    workspace: Workspace, tmp_path: Path
) -> None:
    game = tmp_path / "skerry"
    game.mkdir()

    def write(*names: str) -> None:
        with zipfile.ZipFile(game / "a.zip", "w") as archive:
            for name in names:
                archive.writestr(name, f"this is {name}")

    write("one.txt", "two.txt", "three.txt")
    open_game(workspace, game)
    found = workspace.find("skerry", "a.zip//two.txt")
    write("zero.txt", "one.txt", "two.txt", "three.txt")
    project = workspace.project("skerry")
    with pytest.raises(ChangedError):
        original_bytes(workspace, project, found)
    open_game(workspace, game)
    assert original_bytes(workspace, project, found) == b"this is two.txt", "told by its name, not by its number"
    write("one.txt", "three.txt")
    open_game(workspace, game)
    with pytest.raises(BraeError):
        original_bytes(workspace, project, found)


# ---- nothing is worked out with a session open


def test_no_session_is_open_while_anything_is_worked_out(
    workspace: Workspace, game: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Matching, reading, packing, hashing, writing: whoever does them holds the database from nobody."""
    asked = []

    def watched(owner: object, name: str) -> None:
        real = getattr(owner, name)

        def call(*arguments: object, **named: object) -> object:
            asked.append(name)
            assert not workspace.database.in_use_here, f"{name} with a session open"
            return real(*arguments, **named)

        monkeypatch.setattr(owner, name, call)

    for name in ("match", "check_file", "send", "read", "recipe", "again", "convert"):
        watched(TextureKind, name)
    watched(workspaces, "file_hash")
    watched(workspaces, "open_container")
    watched(builds, "write_beside")
    watched(planning, "plan_archive")
    watched(workspace.blobs, "put")
    watched(workspace.blobs, "put_parts")
    for name in ("read", "pack", "rebuild", "prove"):
        watched(Container, name)
    watched(journals.Journal, "commit")
    watched(journals.Journal, "apply")
    open_game(workspace, game)
    come_back(workspace, SAIL, paint(workspace, SAIL, noisy=True))
    set_remedies(workspace, "skerry", SAIL, ["make-opaque"])
    planning.plan(workspace, "skerry")
    builds.build(workspace, "skerry")
    open_game(workspace, game)
    builds.restore(workspace, "skerry")
    assert len(set(asked)) >= 13


def test_a_slow_encoder_holds_up_nobody(
    workspace: Workspace, opened: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """While one edit is encoded, another game is opened and another edit made; a change meanwhile is not lost."""
    put_in_work(workspace, "skerry", SAIL)
    path = paint(workspace, SAIL)
    go_on, began, real = threading.Event(), threading.Event(), TextureKind.match

    def slow(*arguments: object, **named: object) -> object:
        if threading.current_thread() is thread:
            began.set()
            assert go_on.wait(30)
        return real(*arguments, **named)  # type: ignore[arg-type]

    monkeypatch.setattr(TextureKind, "match", slow)
    thread = threading.Thread(target=come_back, args=(workspace, SAIL, path))
    thread.start()
    assert began.wait(30)
    (tmp_path / "other").mkdir()
    with zipfile.ZipFile(tmp_path / "other/a.zip", "w") as archive:
        archive.writestr("note.txt", "x")
    start = time.monotonic()
    open_game(workspace, tmp_path / "other")
    come_back(workspace, SKY, paint(workspace, SKY))
    take_file(workspace, "skerry", SAIL, path.read_bytes() + b"\0", "meanwhile.png")
    assert time.monotonic() - start < 15
    go_on.set()
    thread.join(60)
    steps = edit_of(workspace, SAIL).steps
    assert [step.file_name for step in steps] == ["meanwhile.png", path.name], "both are versions"
    assert edit_of(workspace, SAIL).sheet is not None


# ---- whose turn it is


def test_work_on_one_game_waits_for_its_turn_and_says_so(workspace: Workspace, opened: Path) -> None:
    come_back(workspace, SAIL, paint(workspace, SAIL))
    go_on = threading.Event()
    first, _ = workspace.jobs.start("open", "Opening skerry", lambda job: go_on.wait(30) and None, queue="skerry")
    second, ended = workspace.jobs.start(
        "build", "Building", lambda job: builds.build(workspace, "skerry", job), queue="skerry"
    )
    third, cancelled = workspace.jobs.start("build", "Building", lambda job: None, queue="skerry")
    other, free = workspace.jobs.start("open", "Opening another", lambda job: {"is": "open"}, queue="another")
    free.result(timeout=20)
    assert workspace.jobs.get(other.id)["state"] == "done", "other games do not wait"
    told = workspace.jobs.get(second.id)
    assert (told["state"], told["waits_for"]) == ("waiting", "Opening skerry")
    assert workspace.jobs.get(third.id)["waits_for"] == "Building"
    workspace.jobs.cancel(third.id)
    cancelled.result(timeout=5)
    assert workspace.jobs.get(third.id)["state"] == "cancelled", "also while it waits"
    go_on.set()
    ended.result(timeout=60)
    assert workspace.jobs.get(second.id)["result"]["edits"] == [SAIL]
    assert workspace.jobs.get(first.id)["state"] == "done"


def test_threads_of_one_brae_wait_for_each_other(workspace: Workspace, opened: Path) -> None:
    done: list[str] = []

    def work() -> None:
        with workspace.locked("skerry", "building"):
            done.append("second")

    with workspace.locked("skerry", "opening skerry"):
        thread = threading.Thread(target=work)
        thread.start()
        time.sleep(0.3)
        faults: list[BaseException] = []

        def refused() -> None:
            try:
                with workspace.locked("skerry", wait=False):
                    pass
            except InUseError as error:
                faults.append(error)

        asks = threading.Thread(target=refused)
        asks.start()
        asks.join()
        assert "This Brae is busy with 'skerry': opening skerry" in str(faults[0])
        done.append("first")
    thread.join(20)
    assert done == ["first", "second"]


def test_a_job_whose_end_cannot_be_written_down_ends_all_the_same(
    workspace: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    def fails(job: object) -> None:
        raise RuntimeError("the database is held")

    monkeypatch.setattr(workspace.jobs, "_write", fails)
    job, ended = workspace.jobs.start("build", "Building", lambda job: {"files": []}, queue="skerry")
    ended.result(timeout=20)
    assert workspace.jobs.get(job.id)["state"] == "done"
    assert workspace.jobs.latest()[0]["state"] == "done"
    again, ended = workspace.jobs.start("build", "Building", lambda job: {"files": []}, queue="skerry")
    ended.result(timeout=20)
    assert workspace.jobs.get(again.id)["state"] == "done", "its queue goes on"


# ---- originals that must not be lost


def test_a_patched_file_with_another_time_keeps_its_original(workspace: Workspace, opened: Path) -> None:
    """The game was copied or touched after a build: it still is what Brae built, not a new original."""
    before = digests(opened)
    come_back(workspace, SAIL, paint(workspace, SAIL))
    assert {file["way"] for file in builds.build(workspace, "skerry")["files"]} == {"patch"}
    for path in opened.rglob("*.*"):
        os.utime(path, ns=(5, 5))
    open_game(workspace, opened)
    assert builds.restore(workspace, "skerry")["left"] == []
    assert digests(opened) == before


def test_the_way_to_an_original_before_an_update_is_not_lost(workspace: Workspace, opened: Path) -> None:
    come_back(workspace, SAIL, paint(workspace, SAIL))
    builds.build(workspace, "skerry")
    original = workspace.originals("skerry")["data/harbour.hold"]
    data = bytearray((opened / "data/harbour.hold").read_bytes())
    data[-1] ^= 1
    (opened / "data/harbour.hold").write_bytes(data)
    open_game(workspace, opened)
    text = (workspace.home.ledger / "skerry/superseded.jsonl").read_text()
    assert original.whole is not None
    assert original.whole.sha256 in text
    assert original.whole.sha256 in workspace.blobs


def test_one_changed_file_does_not_hold_up_the_others(workspace: Workspace, opened: Path) -> None:
    before = digests(opened)
    come_back(workspace, SAIL, paint(workspace, SAIL))
    builds.build(workspace, "skerry")
    (opened / "data/harbour.kist").write_bytes(b"another program was here")
    found = builds.restore(workspace, "skerry")
    assert found["files"] == ["data/harbour.hold"]
    assert [one["path"] for one in found["left"]] == ["data/harbour.kist"]
    assert digests(opened)["data/harbour.hold"] == before["data/harbour.hold"]
    assert (opened / "data/harbour.kist").read_bytes() == b"another program was here"


# ---- which copy the game uses, after Brae's own builds


@pytest.mark.parametrize("way", ["loose", "add-on"])
def test_the_catalogue_says_which_copy_wins_after_a_build(workspace: Workspace, opened: Path, way: str) -> None:
    def winner(address: str) -> str | None:
        return workspace.find("skerry", address).member.winner

    before = winner(SIGN)
    come_back(workspace, SAIL, paint(workspace, SAIL))
    choose(workspace, "skerry", way=way)
    builds.build(workspace, "skerry")
    own = "loose/textures/boat/sail.ptx" if way == "loose" else "addons/brae_01.kist//textures/boat/sail.ptx"
    assert winner(SAIL) == own
    trace = play(opened).trace
    assert any("boat/sail.ptx" in line and ("loose" in line or "brae_01" in line) for line in trace)
    assert SAIL not in planning.plan(workspace, "skerry").warnings, "its own copy is no other copy"
    open_game(workspace, opened)
    assert winner(SAIL) == own, "also after the game was opened again"
    builds.restore(workspace, "skerry")
    assert winner(SAIL) is None
    assert winner(SIGN) == before


# ---- a disc that would become much larger


def _wrong(game: Path) -> list[int]:
    source = FileSource(game / "skerry.bin")
    return list(wrong_sectors(source, 0, source.size // RAW))


class _Counts(Silent):
    def __init__(self) -> None:
        self.told: list[tuple[int, str]] = []

    def begin(self, total: int, unit: str) -> None:
        self.told.append((total, unit))


def test_a_volume_that_grows_a_little_does_not_double_the_disc(workspace: Workspace, disc_game: Path) -> None:
    open_game(workspace, disc_game)
    before, wrong_before = digests(disc_game), _wrong(disc_game)
    come_back(workspace, SCREEN, paint(workspace, SCREEN, noisy=True))
    (file,) = planning.plan(workspace, "skerry").files
    volume = workspace.find("skerry", "skerry.bin//CARGO.VOL").member.real
    assert file.size_after - file.size_before < volume / 4, "what lies behind the volume gives way to it"
    counts = _Counts()
    builds.build(workspace, "skerry", counts, may_grow=True)
    assert [unit for _, unit in counts.told] == ["edits", "bytes"]
    assert all(total > 0 for total, _ in counts.told), "there are counts from the start"
    assert _wrong(disc_game) == wrong_before
    builds.restore(workspace, "skerry")
    assert digests(disc_game) == before


def test_much_growth_is_asked_about(workspace: Workspace, opened: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(planning, "_GROWTH", 1000)
    monkeypatch.setattr(planning, "_GROWTH_PART", 0.0)
    come_back(workspace, SAIL, paint(workspace, SAIL, noisy=True))
    before = digests(opened)
    (words,) = planning.plan(workspace, "skerry").asks
    assert words.startswith("data/harbour.hold becomes")
    assert "bytes larger" in words
    with pytest.raises(GrowthError, match="bytes larger"):
        builds.build(workspace, "skerry")
    assert digests(opened) == before
    builds.build(workspace, "skerry", may_grow=True)
    assert digests(opened) != before


# ---- one file never stops the others


def test_whatever_one_file_does_the_others_open(
    workspace: Workspace, game: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Faults that nobody thought of, at each place where a file or a member is looked at."""
    from brae.core import catalogue
    from brae.work import archives, opening

    for name, owner in (
        ("recognise_file", opening),
        ("open_container", archives),
        ("describe", catalogue),
        ("_inner", catalogue),
    ):
        real = getattr(owner, name)

        def odd(*arguments: object, real: object = real, **named: object) -> object:
            if any("lantern" in str(one) or "boat/sail" in str(one) for one in (*arguments, *named.values())):
                raise IndexError("nobody thought of this")
            return real(*arguments, **named)  # type: ignore[operator]

        with monkeypatch.context() as patch:
            patch.setattr(owner, name, odd)
            home = Home(game.parent / f"home-{name}")
            other = Workspace(home)
            found = open_game(other, game)
            assert found["members"] > 300, name
            with other.database.session() as session:
                assert session.scalar(select(Member.address).where(Member.name == "textures/boat/hull.ptx"))
            other.close()


def test_an_update_that_comes_while_a_build_is_prepared_is_noticed(
    workspace: Workspace, opened: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """After the plan looked at the file, before the journal stands, and between the journal and its steps."""
    come_back(workspace, SAIL, paint(workspace, SAIL, noisy=True))
    target = opened / "data/harbour.hold"
    first = target.read_bytes()
    real = journals.Journal.commit

    def updated(journal: journals.Journal) -> None:
        real(journal)
        target.write_bytes(b"an update")

    with monkeypatch.context() as patch:
        patch.setattr(journals.Journal, "commit", updated)
        with pytest.raises(ChangedError, match="left as it is"):
            builds.build(workspace, "skerry")
    assert target.read_bytes() == b"an update"
    found = builds.restore(workspace, "skerry")
    assert [one["path"] for one in found["left"]] == ["data/harbour.hold"]
    builds.restore(workspace, "skerry", force=True)
    assert target.read_bytes() == first


def test_the_original_of_a_row_that_is_gone_is_written_down_with_the_build(
    workspace: Workspace, opened: Path
) -> None:
    before = digests(opened)
    come_back(workspace, SAIL, paint(workspace, SAIL))
    shutil.copytree(workspace.home.path, opened.parent / "kept-home")
    builds.build(workspace, "skerry")
    with workspace.database.session() as session:
        rows = session.scalars(select(Original).where(Original.state != "original")).all()
    assert {row.path for row in rows} == {"data/harbour.hold", "data/harbour.kist"}
    assert all(row.kept for row in rows)
    builds.restore(workspace, "skerry")
    assert digests(opened) == before


def test_what_is_read_while_a_build_replaces_its_file_is_the_original(
    workspace: Workspace, opened: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The file is replaced, and the database does not say so yet: nothing else changed it."""
    project = workspace.project("skerry")
    before = original_bytes(workspace, project, workspace.find(project.id, SAIL))
    come_back(workspace, SAIL, paint(workspace, SAIL))
    replaced, written = threading.Event(), threading.Event()
    record = records._record

    def late(*arguments: object) -> object:
        replaced.set()
        assert written.wait(20)
        return record(*arguments)  # type: ignore[arg-type]

    monkeypatch.setattr(records, "_record", late)
    with ThreadPoolExecutor(3) as pool:
        building = pool.submit(builds.build, workspace, project.id)
        assert replaced.wait(20)
        read = pool.submit(lambda: original_bytes(workspace, project, workspace.find(project.id, SAIL)))
        planned = pool.submit(planning.plan, workspace, project.id)
        time.sleep(0.3)
        assert not read.done(), "it waits for the build to be written down"
        written.set()
        assert building.result(20)["files"]
        assert read.result(20) == before
        plan = planned.result(20)
    assert (plan.faults, plan.up_to_date) == ([], True)
