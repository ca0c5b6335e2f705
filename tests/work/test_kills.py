"""A build that is killed at any moment leaves the game as before or, when Brae starts again, as after."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from brae.core.build import journal as journals
from brae.core.errors import ChangedError, FormatError
from brae.store import Home
from brae.work import Workspace, builds
from tests.work import trial


class Killed(BaseException):
    """What a kill looks like from inside: nothing after it runs, not even a clean-up of ours."""


@pytest.fixture(params=["patch", "rebuild", "disc", "loose"])
def ready(request: pytest.FixtureRequest, made_demo: Path, made_disc: Path, tmp_path: Path) -> trial.Ready:
    """A game with edits that are to be built."""
    made = trial.prepare(request.param, made_demo, made_disc, tmp_path)
    made.reset("before")
    return made


def test_a_file_changed_after_the_kill_is_left_alone_and_can_still_be_restored(
    ready: trial.Ready, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The build was committed, then killed; before Brae starts again an update overwrites the file."""

    def killed(_: journals.Journal) -> None:
        raise Killed

    workspace = Workspace(Home(ready.home))
    monkeypatch.setattr(journals.Journal, "apply", killed)
    with pytest.raises(Killed):
        builds.build(workspace, "skerry")
    monkeypatch.undo()
    workspace.close()
    target = ready.game / min(path for path in ready.after if ready.after[path] != ready.before.get(path))
    target.parent.mkdir(parents=True, exist_ok=True)
    target.write_bytes(b"something else")
    workspace = Workspace(Home(ready.home))
    assert target.read_bytes() == b"something else", "an update is not written over"
    assert not list((ready.home / "journals").iterdir())
    if "loose" not in str(target):
        if len([path for path in ready.after if ready.after[path] != ready.before[path]]) == 1:
            with pytest.raises(ChangedError, match="changed by something else"):
                builds.restore(workspace, "skerry")
        else:
            found = builds.restore(workspace, "skerry")
            assert [one["path"] for one in found["left"]] == [target.relative_to(ready.game).as_posix()]
        assert target.read_bytes() == b"something else"
        builds.restore(workspace, "skerry", force=True)
        assert trial.digests(ready.game) == ready.before
    workspace.close()


def _journal_for(tmp_path: Path) -> tuple[Path, journals.Journal]:
    target = tmp_path / "file"
    target.write_bytes(b"old")
    journal = journals.start(tmp_path / "j" / "p.json")
    journals.staged(target).write_bytes(b"new")
    sha256 = journals.file_hash(journals.staged(target))
    journal.replace(target, sha256, journals.Seen.at(target), journals.file_hash(target))
    journal.commit()
    return target, journal


def test_a_journal_whose_new_file_is_gone_leaves_the_old_one(tmp_path: Path) -> None:
    target, _ = _journal_for(tmp_path)
    journals.staged(target).unlink()
    (found,) = journals.left_behind(tmp_path / "j")
    assert found.apply() == {str(target): None}
    assert target.read_bytes() == b"old"
    target.write_bytes(b"new")
    assert found.apply() == {str(target): journals.Seen.at(target)}, "it had happened before the kill"
    found.clear()
    assert list(journals.left_behind(tmp_path / "j")) == []


def test_a_copy_with_another_time_is_still_the_file_before(tmp_path: Path) -> None:
    target, journal = _journal_for(tmp_path)
    os.utime(target, ns=(5, 5))
    assert journal.apply()[str(target)] is not None
    assert target.read_bytes() == b"new"


@pytest.mark.parametrize("update", [b"upd", b"an update"])
def test_recovery_does_not_replace_what_an_update_put_there(tmp_path: Path, update: bytes) -> None:
    target, journal = _journal_for(tmp_path)
    target.write_bytes(update)
    os.utime(target, ns=(7, 7))
    assert journal.apply() == {str(target): None}
    assert target.read_bytes() == update
    assert not journals.staged(target).exists()


@pytest.mark.parametrize("other", ["link", "folder"])
def test_recovery_follows_no_link_and_enters_no_folder(tmp_path: Path, other: str) -> None:
    target, journal = _journal_for(tmp_path)
    outside = tmp_path / "outside"
    outside.write_bytes(b"old")
    target.unlink()
    target.symlink_to(outside) if other == "link" else target.mkdir()
    assert journal.apply() == {str(target): None}
    assert outside.read_bytes() == b"old"


PATCHED = [(3, b"originals"), (40, b"more")]


def _patch_for(tmp_path: Path) -> tuple[Path, journals.Journal, bytes, bytes]:
    original = bytearray(bytes(range(100)))
    for offset, data in PATCHED:
        original[offset : offset + len(data)] = data
    target = tmp_path / "file"
    target.write_bytes(original)
    wanted = bytearray(original)
    ranges = []
    for offset, data in PATCHED:
        wanted[offset : offset + len(data)] = new = data.upper()
        ranges.append(journals.Range(offset, data, data, new))
    journal = journals.start(tmp_path / "j" / "p.json")
    journal.patch(target, ranges, journals.Seen.at(target), journals.file_hash(target))
    journal.commit()
    return target, journal, bytes(original), bytes(wanted)


@pytest.mark.parametrize("torn", range(0, 45, 4))
def test_a_patch_torn_at_any_byte_is_finished(tmp_path: Path, torn: int) -> None:
    target, journal, original, wanted = _patch_for(tmp_path)
    target.write_bytes(wanted[:torn] + original[torn:])
    os.utime(target, ns=(9, 9))
    assert journal.apply()[str(target)] == journals.Seen.at(target)
    assert target.read_bytes() == wanted
    assert journal.apply()[str(target)] is not None, "may be repeated"


@pytest.mark.parametrize("place", [0, 4, 41, 99])
def test_recovery_does_not_patch_what_an_update_put_there(tmp_path: Path, place: int) -> None:
    """The same size, one byte otherwise: outside the patched ranges, or inside them."""
    target, journal, original, _ = _patch_for(tmp_path)
    update = bytearray(original)
    update[place] ^= 0x80
    target.write_bytes(update)
    os.utime(target, ns=(9, 9))
    assert journal.apply() == {str(target): None}
    assert target.read_bytes() == bytes(update)


def test_a_damaged_journal_is_said_and_stops_nothing_else(tmp_path: Path) -> None:
    _, journal = _journal_for(tmp_path)
    whole = journal.path.read_bytes()
    for cut in (0, 1, len(whole) // 2, len(whole) - 1):
        journal.path.write_bytes(whole[:cut])
        with pytest.raises(FormatError, match="damaged"):
            journals.Journal.load(journal.path)
        assert list(journals.left_behind(tmp_path / "j")) == []
