"""A finding that is meant: said once for an item, a folder or the game, it stands in nobody's way any more."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from brae.core.errors import NotFoundError
from brae.store.ledger import Ledger
from brae.store.models import Project
from brae.store.opening import open_database
from brae.work import Workspace, planning
from brae.work.matching import say_meant
from brae.work.meant import reaches, within
from brae.work.opening import open_game
from tests.work.test_flow import SAIL, SKY, come_back, edit_of, paint


@pytest.fixture
def opened(workspace: Workspace, game: Path) -> Path:
    open_game(workspace, game)
    return game


def _larger(workspace: Workspace, address: str) -> None:
    path = paint(workspace, address)
    with Image.open(path) as picture:
        picture.resize((picture.width * 2, picture.height * 2)).save(path)
    come_back(workspace, address, path)


def _findings(workspace: Workspace, address: str) -> dict[str, bool]:
    sheet = edit_of(workspace, address).sheet
    assert sheet is not None
    return {finding["id"]: finding["meant"] for finding in sheet["findings"]}


def test_what_would_be_left_out_is_built_where_it_is_meant(workspace: Workspace, opened: Path) -> None:
    _larger(workspace, SAIL)
    assert edit_of(workspace, SAIL).state == "attention"
    assert "refuse" in planning.plan(workspace, "skerry").left_out[SAIL]
    say_meant(workspace, "skerry", SAIL, "dimensions", "item")
    assert [name for name, meant in _findings(workspace, SAIL).items() if meant] == ["dimensions"]
    assert edit_of(workspace, SAIL).state == "ready"
    plan = planning.plan(workspace, "skerry")
    assert (plan.left_out, plan.edits, plan.warnings) == ({}, [SAIL], {})
    say_meant(workspace, "skerry", SAIL, "dimensions", None)
    assert edit_of(workspace, SAIL).state == "attention"
    assert "refuse" in planning.plan(workspace, "skerry").left_out[SAIL]


def test_a_folder_and_a_game_hold_for_what_comes_later(workspace: Workspace, opened: Path) -> None:
    _larger(workspace, SAIL)
    say_meant(workspace, "skerry", SAIL, "dimensions", "folder")
    _larger(workspace, SKY)
    assert _findings(workspace, SAIL)["dimensions"]
    assert not _findings(workspace, SKY)["dimensions"], "it lies in another folder"
    assert (edit_of(workspace, SAIL).state, edit_of(workspace, SKY).state) == ("ready", "attention")
    say_meant(workspace, "skerry", SAIL, "dimensions", "game")
    assert edit_of(workspace, SKY).state == "ready", "edits that wait for it are ready at once"
    come_back(workspace, SAIL, paint(workspace, SAIL, (200, 10, 10)))
    assert edit_of(workspace, SAIL).state == "ready"
    _larger(workspace, SAIL)
    assert _findings(workspace, SAIL)["dimensions"], "another version of it as well"
    # What reaches the item is taken back, whoever said it.
    say_meant(workspace, "skerry", SAIL, "dimensions", None)
    assert not _findings(workspace, SKY)["dimensions"]


def test_nothing_is_said_of_what_is_not_edited(workspace: Workspace, opened: Path) -> None:
    with pytest.raises(NotFoundError):
        say_meant(workspace, "skerry", SKY, "dimensions", "game")
    assert workspace.project("skerry").meant == []


def test_it_outlives_the_database_and_company(workspace: Workspace, opened: Path, tmp_path: Path) -> None:
    _larger(workspace, SAIL)
    said = [f"finding-{number}" for number in range(12)]
    with ThreadPoolExecutor(4) as pool:
        list(pool.map(lambda finding: say_meant(workspace, "skerry", SAIL, finding, "game"), said))
    wanted = {(finding, "") for finding in said}
    assert {(rule["finding"], rule["within"]) for rule in workspace.project("skerry").meant} == wanted
    Ledger(workspace.home.ledger).fill(workspace.database)
    other = open_database(type(workspace.home)(tmp_path / "other"), Ledger(tmp_path / "none"))
    workspace.ledger.keep_files(workspace.project("skerry"), [])
    assert Ledger(workspace.home.ledger).rebuild(other) == ["skerry"]
    with other.session() as session:
        kept = session.get_one(Project, "skerry").meant
    assert {(rule["finding"], rule["within"]) for rule in kept} == wanted
    other.close()


def test_what_two_say_at_once_holds_for_both(workspace: Workspace, opened: Path) -> None:
    path = paint(workspace, SAIL)
    with Image.open(path) as picture:
        picture.transpose(Image.Transpose.FLIP_LEFT_RIGHT).resize((512, 512)).save(path)
    come_back(workspace, SAIL, path)
    both = ["dimensions", "mirrored"]
    for _ in range(6):
        with ThreadPoolExecutor(2) as pool:
            list(pool.map(lambda finding: say_meant(workspace, "skerry", SAIL, finding, "item"), both))
        assert {name for name, meant in _findings(workspace, SAIL).items() if meant} == set(both)
        assert edit_of(workspace, SAIL).state == "ready"
        for finding in both:
            say_meant(workspace, "skerry", SAIL, finding, None)


def test_only_what_a_rule_reaches_is_written(workspace: Workspace, opened: Path) -> None:
    _larger(workspace, SAIL)
    _larger(workspace, SKY)
    before = edit_of(workspace, SKY).revision
    say_meant(workspace, "skerry", SAIL, "dimensions", "folder")
    assert edit_of(workspace, SKY).revision == before


def test_a_forgotten_game_takes_it_along(workspace: Workspace, opened: Path) -> None:
    _larger(workspace, SAIL)
    say_meant(workspace, "skerry", SAIL, "dimensions", "game")
    kept = workspace.home.ledger / "skerry" / "meant.json"
    assert kept.exists()
    (workspace.home.ledger / "skerry" / "project.json").unlink(missing_ok=True)
    workspace.ledger.forget("skerry")
    assert not kept.exists()


PATHS = st.lists(st.sampled_from("ab/"), max_size=12).map("".join)


@given(PATHS, PATHS)
def test_a_rule_reaches_its_own_and_what_lies_in_it(one: str, other: str) -> None:
    for scope in ("item", "folder", "game"):
        assert reaches({"finding": "x", "within": within(one, scope)}, "x", one)  # type: ignore[arg-type]
    assert not reaches({"finding": "x", "within": within(one, "game")}, "y", one)
    folder = within(one, "folder")
    assert reaches({"finding": "x", "within": folder}, "x", other) == (other.startswith(folder) or not folder)
