"""Edits are matched anew after an opening where something changed that they are matched with, and else not."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from pathlib import Path

import pytest

from brae.core.errors import CancelledError
from brae.core.places import GAME_LAYOUTS
from brae.demo import LAYOUTS
from brae.store.models import Edit
from brae.work import Workspace, builds, edits
from brae.work.opening import open_game
from tests.work.test_flow import SAIL, SKY, come_back, edit_of, paint


@pytest.fixture
def game_in_work(workspace: Workspace, game: Path) -> Path:
    """A game with two edits, opened again since."""
    (game / "last.log").write_text("the game was left\n")
    open_game(workspace, game)
    for address in (SAIL, SKY):
        come_back(workspace, address, paint(workspace, address))
    open_game(workspace, game)
    return game


@pytest.fixture
def matched(monkeypatch: pytest.MonkeyPatch) -> list[str]:
    """The addresses of what is matched and encoded from now on."""
    seen: list[str] = []
    real = edits.work_out

    def work_out(workspace: Workspace, edit: Edit) -> None:
        seen.append(edit.address)
        real(workspace, edit)

    monkeypatch.setattr(edits, "work_out", work_out)
    return seen


def _another_sail(workspace: Workspace, game: Path) -> None:
    """An update: the game's archive with another sail in it."""
    shutil.copytree(game, game.parent / "updated", copy_function=shutil.copy2)
    come_back(workspace, SAIL, paint(workspace, SAIL, (200, 30, 30), noisy=True))
    builds.build(workspace, "skerry", may_grow=True)
    built = {path.name: path.read_bytes() for path in (game / "data").glob("harbour.*")}
    builds.restore(workspace, "skerry")
    for name, data in built.items():
        (game / "data" / name).write_bytes(data)


def _described(workspace: Workspace, game: Path) -> None:
    """A layout of the game's own, though it says the same as before."""
    own = game / GAME_LAYOUTS
    own.mkdir(parents=True)
    (own / "kist.yaml").write_text("# described by somebody else\n" + (LAYOUTS / "kist.yaml").read_text())


def _of_another_edition(workspace: Workspace, game: Path) -> None:
    with workspace.database.change() as session:
        session.merge(workspace.project("skerry")).chosen_edition = "another"


@pytest.mark.usefixtures("game_in_work")
def test_nothing_is_matched_where_nothing_changed(workspace: Workspace, game: Path, matched: list[str]) -> None:
    before = [edit_of(workspace, address).revision for address in (SAIL, SKY)]
    open_game(workspace, game)
    builds.build(workspace, "skerry")
    open_game(workspace, game)
    builds.restore(workspace, "skerry")
    # What a game writes at each start is no reason: of texts that nobody edits only the names count.
    (game / "last.log").write_text("the game was left once more\n")
    open_game(workspace, game)
    assert matched == []
    assert [edit_of(workspace, address).revision for address in (SAIL, SKY)] == before


@pytest.mark.parametrize("change", [_another_sail, _of_another_edition, _described])
def test_all_are_matched_where_something_changed(
    workspace: Workspace, game_in_work: Path, matched: list[str], change: Callable[[Workspace, Path], None]
) -> None:
    change(workspace, game_in_work)
    matched.clear()
    open_game(workspace, game_in_work)
    assert sorted(matched) == sorted([SAIL, SKY])
    open_game(workspace, game_in_work)
    assert len(matched) == 2


def test_a_new_file_of_the_game_is_something(workspace: Workspace, game_in_work: Path, matched: list[str]) -> None:
    """What an edit names, or is named by, may be in it."""
    shutil.copy(game_in_work / "last.log", game_in_work / "first.log")
    open_game(workspace, game_in_work)
    assert sorted(matched) == sorted([SAIL, SKY])


def test_what_was_ended_in_between_is_matched_the_next_time(
    workspace: Workspace, game_in_work: Path, monkeypatch: pytest.MonkeyPatch, matched: list[str]
) -> None:
    _another_sail(workspace, game_in_work)
    with monkeypatch.context() as patch:
        patch.setattr(edits, "work_out", _ended)
        with pytest.raises(CancelledError):
            open_game(workspace, game_in_work)
    matched.clear()
    open_game(workspace, game_in_work)
    assert sorted(matched) == sorted([SAIL, SKY])


def test_what_was_ended_in_between_is_matched_though_the_game_is_put_back(
    workspace: Workspace, game_in_work: Path, monkeypatch: pytest.MonkeyPatch, matched: list[str]
) -> None:
    """Some edits are matched with the update, and the game is as it was when all of them were matched last."""
    before = {path: path.read_bytes() for path in (game_in_work / "data").glob("harbour.*")}
    _another_sail(workspace, game_in_work)
    with monkeypatch.context() as patch:
        patch.setattr(edits, "work_out", _ended)
        with pytest.raises(CancelledError):
            open_game(workspace, game_in_work)
    for path, data in before.items():
        path.write_bytes(data)
    matched.clear()
    open_game(workspace, game_in_work)
    assert sorted(matched) == sorted([SAIL, SKY])


def _ended(workspace: Workspace, edit: Edit) -> None:
    raise CancelledError("It was ended.")


def test_one_with_a_fault_is_tried_again(workspace: Workspace, game_in_work: Path, matched: list[str]) -> None:
    with workspace.database.change() as session:
        row = session.merge(edit_of(workspace, SKY))
        row.state, row.sheet, row.encoded_sha256, row.fault = "attention", None, None, "The disk was full."
    open_game(workspace, game_in_work)
    assert matched == [SKY]
    edit = edit_of(workspace, SKY)
    assert (edit.state, edit.fault) == ("ready", None)


def test_one_that_was_out_of_work_meanwhile_is_matched_when_it_comes_back(
    workspace: Workspace, game_in_work: Path, matched: list[str]
) -> None:
    """With the game as it is now: what was known of the original before an update is worth nothing."""
    recipe = edit_of(workspace, SKY).recipe
    with workspace.database.change() as session:
        session.merge(edit_of(workspace, SKY)).recipe = recipe | {"width": 8, "height": 8, "levels": 1}
    edits.take_out_of_work(workspace, "skerry", SKY)
    matched.clear()
    open_game(workspace, game_in_work)
    assert matched == []
    edits.put_in_work(workspace, "skerry", SKY)
    assert matched == [SKY]
    assert edit_of(workspace, SKY).recipe == recipe
    assert edit_of(workspace, SKY).state == "ready"


def test_a_text_in_work_is_matched_with_the_text_that_is_there(workspace: Workspace, game: Path) -> None:
    (game / "rules.txt").write_text("lamp=1\nsail=2\n")
    open_game(workspace, game)
    edits.put_in_work(workspace, "skerry", "rules.txt")
    edits.take_file(workspace, "skerry", "rules.txt", b"lamp=1\nsail=3\n", "rules.txt")
    open_game(workspace, game)
    assert edit_of(workspace, "rules.txt").state == "ready"
    (game / "rules.txt").write_text("lamp=1\nsail=3\n")
    open_game(workspace, game)
    assert edit_of(workspace, "rules.txt").state == "same"
