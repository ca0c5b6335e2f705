"""A build that is killed at any moment leaves the game as before or, when Brae starts again, as after."""

from __future__ import annotations

import itertools
import os
import random
import shutil
import signal
import time
from collections.abc import Callable
from pathlib import Path

import pytest

from brae.core.build import journal as journals
from brae.core.errors import FormatError
from brae.store import Home
from brae.work import Workspace, builds
from brae.work.opening import open_game
from brae.work.projects import choose
from tests.work.test_depth import SCREEN, SPRITE
from tests.work.test_flow import SAIL, SKY, come_back, digests, paint


class Killed(BaseException):
    """What a kill looks like from inside: nothing after it runs, not even a clean-up of ours."""


@pytest.fixture(params=["patch", "rebuild", "disc", "disc moved", "loose", "add-on"])
def ready(request: pytest.FixtureRequest, tmp_path: Path) -> tuple[Path, Path, dict[str, str], dict[str, str]]:
    """A game with edits to build: its folder, the home, the hashes before and after."""
    on_disc = request.param.startswith("disc")
    game = request.getfixturevalue("disc_game" if on_disc else "game")
    home = tmp_path / "home"
    workspace = Workspace(Home(home))
    open_game(workspace, game)
    noisy = request.param in ("rebuild", "disc moved")
    for address in (SCREEN, SPRITE) if on_disc else (SAIL, SKY):
        come_back(workspace, address, paint(workspace, address, noisy=noisy and address in (SAIL, SCREEN)))
    if request.param in ("loose", "add-on"):
        choose(workspace, "skerry", way=request.param)
    before = digests(game)
    kept = shutil.copytree(home, tmp_path / "home-before")
    builds.build(workspace, "skerry")
    after = digests(game)
    builds.restore(workspace, "skerry")
    assert digests(game) == before
    workspace.close()
    shutil.rmtree(home)
    kept.rename(home)
    workspace = Workspace(Home(home))
    open_game(workspace, game)
    workspace.close()
    return game, home, before, after


def _visible(game: Path) -> dict[str, str]:
    return {path: sha for path, sha in digests(game).items() if not path.endswith(".brae-new")}


def _last_call(number: int) -> Callable[[Callable[..., object]], Callable[..., object]]:
    """Wraps functions so that the ``number``-th call of any of them, and all later ones, are killed."""
    calls = itertools.count(1)

    def counted(original: Callable[..., object]) -> Callable[..., object]:
        def call(*arguments: object, **named: object) -> object:
            if next(calls) >= number:
                raise Killed
            return original(*arguments, **named)

        return call

    return counted


def test_killed_at_every_step(
    ready: tuple[Path, Path, dict[str, str], dict[str, str]], monkeypatch: pytest.MonkeyPatch
) -> None:
    """Every call that touches the disk is, in turn, the last one."""
    game, home, before, after = ready
    outcomes = set()
    real = {
        "replace": Path.replace,
        "fsync": os.fsync,
        "unlink": Path.unlink,
        "open": Path.open,
        "mkdir": Path.mkdir,
    }
    step, last = 0, False
    while not last:
        step += 1
        counted = _last_call(step)
        workspace = Workspace(Home(home))
        monkeypatch.setattr(Path, "replace", counted(real["replace"]))
        monkeypatch.setattr(os, "fsync", counted(real["fsync"]))
        monkeypatch.setattr(Path, "open", counted(real["open"]))
        monkeypatch.setattr(Path, "unlink", counted(real["unlink"]))
        monkeypatch.setattr(Path, "mkdir", counted(real["mkdir"]))
        try:
            builds.build(workspace, "skerry")
            last = True
        except Killed:
            pass
        monkeypatch.undo()
        workspace.close()
        committed = home.joinpath("journals/skerry.json").exists()
        if not committed and not last:
            assert _visible(game) in (before, after), f"killed at {step}, before the journal stood"
        workspace = Workspace(Home(home))  # the next start finishes what was begun
        with workspace.locked("skerry"):
            pass  # and the next use of the project clears away what was never finished
        found = digests(game)
        assert found in (before, after), f"killed at step {step}"
        outcomes.add("after" if found == after else "before")
        if committed:
            assert found == after
            assert builds.plan(workspace, "skerry").up_to_date
        builds.restore(workspace, "skerry")
        assert _visible(game) == before
        workspace.close()
        assert step < 500
    assert outcomes == {"before", "after"}
    assert step > 12


def test_killed_for_real(ready: tuple[Path, Path, dict[str, str], dict[str, str]]) -> None:
    """The process is killed at random moments; SIGKILL runs no clean-up. With all kinds of game: 90 kills."""
    game, home, before, after = ready
    chance = random.Random(11)
    started = time.monotonic()
    _build_in_child(home, None)
    longest = time.monotonic() - started
    outcomes = set()
    for _ in range(15):
        workspace = Workspace(Home(home))
        builds.restore(workspace, "skerry")
        workspace.close()
        assert _visible(game) == before
        _build_in_child(home, chance.uniform(0, longest))
        workspace = Workspace(Home(home))  # the next start finishes what was begun
        found = _visible(game)
        assert found in (before, after)
        outcomes.add(found == after)
        workspace.close()
    assert False in outcomes, "no kill came early enough"


def _build_in_child(home: Path, kill_after: float | None) -> None:
    child = os.fork()
    if child == 0:
        try:
            builds.build(Workspace(Home(home)), "skerry")
        finally:
            os._exit(0)
    if kill_after is not None:
        time.sleep(kill_after)
        os.kill(child, signal.SIGKILL)
    os.waitpid(child, 0)


def test_a_file_changed_after_the_kill_can_still_be_restored(
    ready: tuple[Path, Path, dict[str, str], dict[str, str]], monkeypatch: pytest.MonkeyPatch
) -> None:
    """The build was committed, then killed; before Brae starts again something else overwrites the file."""
    game, home, before, after = ready

    def killed(_: journals.Journal) -> None:
        raise Killed

    workspace = Workspace(Home(home))
    monkeypatch.setattr(journals.Journal, "apply", killed)
    with pytest.raises(Killed):
        builds.build(workspace, "skerry")
    monkeypatch.undo()
    workspace.close()
    target = game / min(path for path in after if after[path] != before.get(path))
    target.parent.mkdir(parents=True, exist_ok=True)
    target.write_bytes(b"something else")
    for left in game.rglob("*.brae-new"):
        left.unlink()
    workspace = Workspace(Home(home))
    assert not (home / "journals/skerry.json").exists()
    builds.restore(workspace, "skerry", force=True)
    assert _visible(game) == before
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
