"""Brae's own folder: what is damaged, gone, too new, held or full is said, and nothing is lost with it."""

from __future__ import annotations

import os
import random
import resource
import sqlite3
import stat
from collections.abc import Callable
from pathlib import Path

import pytest
from sqlalchemy import text
from sqlalchemy.exc import IntegrityError

from brae.core.errors import StorageError
from brae.store import Blobs, Home, Ledger, open_database
from brae.store.database import DamagedError, Database, NewerError
from brae.store.models import Project
from brae.work import Workspace, builds, planning
from brae.work.edits import go_to
from brae.work.opening import open_game
from tests.work.test_flow import SAIL, come_back, digests, edit_of, paint


def _close(workspace: Workspace) -> Path:
    """End a workspace as a kill would leave it on disk: everything in one file."""
    workspace.close()
    path = workspace.home.database
    with sqlite3.connect(path) as connection:
        connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    for ending in ("-wal", "-shm"):
        path.with_name(path.name + ending).unlink(missing_ok=True)
    return path


def _zeroed(path: Path) -> None:
    data = bytearray(path.read_bytes())
    data[4096 : len(data) // 2] = bytes(len(data) // 2 - 4096)
    path.write_bytes(data)


DAMAGES: dict[str, Callable[[Path], object]] = {
    "gone": lambda path: path.unlink(),
    "garbage": lambda path: path.write_bytes(random.Random(3).randbytes(50_000)),
    "cut short": lambda path: path.write_bytes(path.read_bytes()[: path.stat().st_size // 2]),
    "cut in its header": lambda path: path.write_bytes(path.read_bytes()[:60]),
    "half of it zero": _zeroed,
    "a picture": lambda path: path.write_bytes(b"\x89PNG\r\n\x1a\n" + bytes(5000)),
}


@pytest.mark.parametrize("damage", DAMAGES)
def test_restore_works_without_the_database(damage: str, home: Home, game: Path) -> None:
    """A patched and a rebuilt game; edits and their versions come back as well."""
    before = digests(game)
    workspace = Workspace(home)
    open_game(workspace, game)
    come_back(workspace, SAIL, paint(workspace, SAIL, noisy=damage in ("gone", "garbage")))
    builds.build(workspace, "skerry")
    built = digests(game)
    edit = edit_of(workspace, SAIL)
    DAMAGES[damage](_close(workspace))
    workspace = Workspace(home)
    assert digests(game) == built
    again = edit_of(workspace, SAIL)
    assert [step.file_sha256 for step in again.steps] == [step.file_sha256 for step in edit.steps]
    assert (again.encoded_sha256, again.state, again.sheet) == (edit.encoded_sha256, edit.state, edit.sheet)
    if damage != "gone":
        assert len(list(home.path.glob("brae-damaged-*.db"))) == 1, "put aside, not deleted"
    found = builds.restore(workspace, "skerry")
    assert found["left"] == []
    assert digests(game) == before
    open_game(workspace, game)
    assert planning.plan(workspace, "skerry").edits == [SAIL]
    go_to(workspace, "skerry", SAIL, 0)
    workspace.close()


def test_the_ledger_says_what_the_database_says(home: Home, game: Path) -> None:
    workspace = Workspace(home)
    open_game(workspace, game)
    come_back(workspace, SAIL, paint(workspace, SAIL))
    builds.build(workspace, "skerry")
    builds.restore(workspace, "skerry")
    workspace.close()
    other = Database(home.path / "other.db")
    assert Ledger(home.ledger).rebuild(other) == ["skerry"]
    assert Ledger(home.ledger).rebuild(other) == [], "once is enough"
    with other.session() as session:
        assert session.get_one(Project, "skerry").folder == str(game)
        assert session.scalar(text("SELECT count(*) FROM originals")) == 0, "everything was put back"
    other.close()


def test_a_database_of_another_program_is_not_touched(home: Home) -> None:
    with sqlite3.connect(home.database) as connection:
        connection.execute("CREATE TABLE letters (id INTEGER)")
    with pytest.raises(DamagedError, match="another program's"):
        Database(home.database)


def test_a_newer_database_is_refused_and_left_as_it_is(home: Home) -> None:
    Workspace(home).close()
    with sqlite3.connect(home.database) as connection:
        connection.execute("UPDATE alembic_version SET version_num = '9999'")
    data = home.database.read_bytes()
    with pytest.raises(NewerError, match="newer Brae.*--home"):
        Workspace(home)
    assert home.database.read_bytes() == data
    assert not list(home.path.glob("*damaged*"))


def test_a_held_database_is_said(home: Home, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("brae.store.database._WAIT", 0.2)
    database = Database(home.database)
    with sqlite3.connect(home.database) as other:
        other.execute("BEGIN IMMEDIATE")
        with pytest.raises(StorageError, match="Another program holds"), database.change():
            pass
        other.rollback()
    with database.change() as session:
        session.add(Project(id="p", name="p", folder="/p"))
    database.close()


def test_a_session_that_reads_cannot_write(home: Home) -> None:
    database = Database(home.database)
    with database.session() as session:
        session.add(Project(id="p", name="p", folder="/p"))
        with pytest.raises(AssertionError, match="must not write"):
            session.flush()
    with database.session() as session:
        assert session.get(Project, "p") is None
    with pytest.raises(IntegrityError), database.change() as session:
        session.execute(text("INSERT INTO projects (id) VALUES (NULL)"))
    database.close()


@pytest.mark.skipif(os.geteuid() != 0, reason="asks another user's rights of root")
def test_a_folder_that_cannot_be_written_is_said(tmp_path: Path) -> None:
    """As another user: root may write everywhere."""
    Workspace(Home(tmp_path / "home")).close()
    place = tmp_path / "home"
    for path in [tmp_path, *tmp_path.parents]:
        path.chmod(path.stat().st_mode | 0o755)
    child = os.fork()
    if child == 0:
        code = 1
        try:
            os.chown(place, 65534, 65534)
            os.setuid(65534)
            Workspace(Home(place))
        except StorageError as error:
            code = 0 if "cannot" in str(error).lower() or "could not" in str(error).lower() else 2
        finally:
            os._exit(code)
    assert os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 0


def test_a_full_disk_is_said_and_loses_nothing(home: Home, game: Path) -> None:
    """A limit on the size of files stands in for it: the operating system refuses to write on (EFBIG)."""
    before = digests(game)
    workspace = Workspace(home)
    open_game(workspace, game)
    come_back(workspace, SAIL, paint(workspace, SAIL, noisy=True))
    built = None
    soft, hard = resource.getrlimit(resource.RLIMIT_FSIZE)
    for limit in (1 << 12, 1 << 16, 1 << 20, 3 << 20):
        resource.setrlimit(resource.RLIMIT_FSIZE, (limit, hard))
        try:
            with pytest.raises(StorageError) as refused:
                builds.build(workspace, "skerry")
        finally:
            resource.setrlimit(resource.RLIMIT_FSIZE, (soft, hard))
        assert refused.value.remedy
        assert {path: sha for path, sha in digests(game).items() if not path.endswith(".brae-new")} == before
    built = builds.build(workspace, "skerry")
    assert built["files"]
    builds.restore(workspace, "skerry")
    assert digests(game) == before
    workspace.close()


def test_bytes_that_cannot_be_kept_are_said(tmp_path: Path) -> None:
    blobs = Blobs(tmp_path / "kept")
    soft, hard = resource.getrlimit(resource.RLIMIT_FSIZE)
    resource.setrlimit(resource.RLIMIT_FSIZE, (1000, hard))
    try:
        with pytest.raises(StorageError, match="may not be so large"):
            blobs.put(bytes(5000))
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, (soft, hard))
    assert [path for path in (tmp_path / "kept").rglob("*") if path.is_file()] == []


@pytest.mark.skipif(os.name != "posix", reason="permission bits")
def test_nobody_else_can_read_what_brae_keeps(tmp_path: Path) -> None:
    (tmp_path / "home").mkdir(mode=0o755)
    workspace = Workspace(Home(tmp_path / "home"))
    workspace.home.announce({"secret": "x"})
    assert stat.S_IMODE((tmp_path / "home").stat().st_mode) == 0o700
    for path in (workspace.home.database, workspace.home.server):
        assert stat.S_IMODE(path.stat().st_mode) == 0o600
    workspace.close()


def test_two_starts_at_once_make_one_database(home: Home) -> None:
    children = []
    for _ in range(4):
        child = os.fork()
        if child == 0:
            code = 1
            try:
                open_database(home, Ledger(home.ledger)).close()
                code = 0
            finally:
                os._exit(code)
        children.append(child)
    assert [os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) for child in children] == [0] * 4
