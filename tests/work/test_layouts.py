"""Which layouts know a game, layouts taken from others, versions side by side, and new archives."""

from __future__ import annotations

import io
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from time import sleep

import numpy as np
import pytest
from PIL import Image
from starlette.testclient import TestClient

from brae.api.app import create_app
from brae.core.containers.described import open_archive
from brae.core.containers.shared import Shared, read_shared, write_shared
from brae.core.errors import BraeError, NotFoundError, ReadOnlyError
from brae.core.layouts.library import open_sources
from brae.core.sources import BytesSource
from brae.core.structure import workshop
from brae.jobs import Silent
from brae.work import Workspace, layouts, structures
from brae.work.opening import open_game
from tests.core.families import BY_NAME, members_for

FAMILY = BY_NAME["inline"]


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """A game of three archives, with its layout in its folder."""
    game = tmp_path / "game"
    (game / "brae-layouts").mkdir(parents=True)
    (game / "brae-layouts" / "cook-inline.yaml").write_text(FAMILY.layout)
    members = members_for(FAMILY)
    for number in range(3):
        (game / f"pier_{number}.x").write_bytes(FAMILY.write(members[: 4 + number])["main"])
    return game


@pytest.fixture
def project(workspace: Workspace, folder: Path) -> str:
    return str(open_game(workspace, folder)["project"])


def _given(workspace: Workspace, project: str, version: str = "1") -> str:
    name, text, tested = layouts.give(
        workspace, project, "cook-inline", version=version, author="A. Keeper", licence="CC0-1.0", about="piers"
    )
    assert name == f"cook-inline-{version}.shared.yaml"
    assert tested == 3
    return text


def test_the_layouts_that_know_a_game_are_told_with_what_they_prove(workspace: Workspace, project: str) -> None:
    (known,) = layouts.overview(workspace, project)
    told = {key: known[key] for key in ("layout", "place", "archives", "proved", "contradicted", "differs")}
    assert told == {
        "layout": "cook-inline", "place": "game", "archives": 3, "proved": 3, "contradicted": 0, "differs": 0,
    }  # fmt: skip


def test_what_is_given_away_is_tried_and_kept_and_used_when_asked(
    workspace: Workspace, project: str, folder: Path, tmp_path: Path
) -> None:
    text = _given(workspace, project)
    assert "pier_0.x" in text
    assert str(folder) not in text, "nothing of this computer is in it"
    # Somebody else, whose game has no layout.
    (folder / "brae-layouts" / "cook-inline.yaml").unlink()
    other = str(open_game(workspace, folder)["project"])
    assert layouts.overview(workspace, other) == []
    found = layouts.receive(workspace, other, text)
    assert [(one["path"], one["outcome"], one["known"]) for one in found["trials"]] == [
        (f"pier_{number}.x", "proved", True) for number in range(3)
    ]
    (kept,) = layouts.overview(workspace, other)
    assert (kept["place"], kept["versions"][0]["used"]) == ("kept", False), "kept, and not used before it is asked"
    layouts.use(workspace.home.layouts, "cook-inline", found["version"])
    open_game(workspace, folder)
    (known,) = layouts.overview(workspace, other)
    assert (known["place"], known["proved"]) == ("yours", 3)
    assert known["versions"][0]["used"]


def test_versions_stay_side_by_side_and_ones_own_is_not_lost(workspace: Workspace, project: str) -> None:
    own = workspace.home.layouts
    own.mkdir(parents=True, exist_ok=True)
    mine = "# mine\n" + FAMILY.layout
    (own / "cook-inline.yaml").write_text(mine)
    for version in ("1", "2"):
        layouts.receive(workspace, project, _given(workspace, project, version))
    again = layouts.receive(workspace, project, _given(workspace, project, "2").replace("piers", "other piers"))
    assert again["version"] == "2-2", "another text of the same version is one of its own"
    layouts.use(own, "cook-inline", "2")
    versions = {one["version"]: one["used"] for one in layouts.versions_of(own, "cook-inline")}
    kept = next(version for version in versions if version.startswith("own-"))
    layouts.use(own, "cook-inline", kept)
    assert (own / "cook-inline.yaml").read_text() == mine
    assert len(layouts.versions_of(own, "cook-inline")) == 4


@pytest.mark.parametrize(("name", "version"), [("../x", "1"), ("cook-inline", "../../1"), ("none", "1"), ("a", "")])
def test_no_other_file_can_be_used(workspace: Workspace, name: str, version: str) -> None:
    with pytest.raises(NotFoundError):
        layouts.use(workspace.home.layouts, name, version)


def test_one_that_does_not_fit_is_told(workspace: Workspace, project: str) -> None:
    """It reads the files, but its rebuild differs."""
    wrong = FAMILY.layout.replace("is: count(entries)", "is: size(entries)")
    found = layouts.receive(workspace, project, write_shared(Shared(shared=1, layout=wrong)))
    assert {one["outcome"] for one in found["trials"]} == {"beginning"}
    assert all("differs" in one["words"] for one in found["trials"])


def test_a_damaged_version_does_not_hide_the_others(workspace: Workspace, project: str) -> None:
    layouts.receive(workspace, project, _given(workspace, project))
    place = workspace.home.layouts / "versions" / "cook-inline"
    (place / "9.shared.yaml").write_bytes(b"\xff\xfe shared: 1")
    assert [one["version"] for one in layouts.versions_of(workspace.home.layouts, "cook-inline")] == ["1"]
    again = layouts.receive(workspace, project, _given(workspace, project, "9"))
    assert again["version"] == "9-2", "what is damaged is not written over"
    with pytest.raises(BraeError, match="UTF-8"):
        layouts.use(workspace.home.layouts, "cook-inline", "9")


def test_many_that_are_kept_at_once_are_all_kept(workspace: Workspace, project: str) -> None:
    texts = [_given(workspace, project).replace("piers", f"piers {number}") for number in range(12)]
    own = workspace.home.layouts
    with ThreadPoolExecutor(6) as pool:
        kept = list(pool.map(lambda text: layouts.keep(own, read_shared(text), text), texts))
    assert len(set(kept)) == 12
    folder = own / "versions" / "cook-inline"
    assert {(folder / f"{version}.shared.yaml").read_text() for version in kept} == set(texts)


def test_ones_own_layout_comes_back_to_the_byte(workspace: Workspace, project: str) -> None:
    """Line ends of another system, spaces at the ends of lines, no line end at the end."""
    own = workspace.home.layouts
    own.mkdir(parents=True, exist_ok=True)
    mine = ("# mine  \n" + FAMILY.layout.rstrip("\n")).replace("\n", "\r\n").encode()
    (own / "cook-inline.yaml").write_bytes(mine)
    layouts.use(own, "cook-inline", layouts.receive(workspace, project, _given(workspace, project))["version"])
    versions = layouts.versions_of(own, "cook-inline")
    layouts.use(own, "cook-inline", next(one["version"] for one in versions if one["version"].startswith("own-")))
    assert (own / "cook-inline.yaml").read_bytes() == mine


@pytest.mark.parametrize("like", [None, "pier_2.x"])
def test_a_new_archive_is_made_outside_of_the_game(
    workspace: Workspace, project: str, folder: Path, tmp_path: Path, like: str | None
) -> None:
    source, out = tmp_path / "new", tmp_path / "made.x"
    (source / "deep").mkdir(parents=True)
    (source / "deep" / "a.txt").write_bytes(b"slack water")
    (source / "b.bin").write_bytes(bytes(range(200)))
    made = layouts.make(workspace, project, "cook-inline", source, out, like, Silent())
    assert made == {"members": 2, "files": [str(out)]}
    archive = open_archive(FAMILY.described, {"main": BytesSource(out.read_bytes())})
    found = dict(zip(archive.names, map(archive.read, range(2)), strict=True))
    assert found == {"deep/a.txt": b"slack water", "b.bin": bytes(range(200))}
    assert archive.prove().exact
    with pytest.raises(ReadOnlyError, match="already"):
        layouts.make(workspace, project, "cook-inline", source, out, like, Silent())
    with pytest.raises(ReadOnlyError, match="build"):
        layouts.make(workspace, project, "cook-inline", source, folder / "deep" / "new.x", like, Silent())
    with pytest.raises(BraeError):
        layouts.make(workspace, project, "cook-inline", tmp_path / "nothing", tmp_path / "o.x", like, Silent())
    assert open_sources(FAMILY.described, out)["main"].size == out.stat().st_size


def test_the_page_gives_and_takes_by_the_same_rules(workspace: Workspace, project: str) -> None:
    app = create_app(workspace, watch=False, secret="s")
    here = f"/api/projects/{project}/layouts"
    with TestClient(app, base_url="http://127.0.0.1:8716") as page:
        page.headers["authorization"] = "Bearer s"
        given = page.post(f"{here}/cook-inline/give", json={"version": "3", "author": "B"}).json()
        assert given["tested"] == 3
        assert read_shared(given["text"]).says.author == "B"
        assert page.post(f"{here}/take", json={"text": "layout: x"}).status_code == 422
        job = page.post(f"{here}/take", json={"text": given["text"]}).json()
        for _ in range(400):
            told = next(one for one in page.get("/api/jobs").json() if one["id"] == job["id"])
            if told["state"] == "done":
                break
            sleep(0.05)
        assert (told["result"]["version"], told["result"]["recognised"]) == ("3", 3)
        assert page.post(f"{here}/cook-inline/use", json={"version": "3"}).status_code == 204
        assert page.get(here).json()[0]["versions"][0]["used"]


# ---- members that no layout describes -----------------------------------------------------------------------

WOOD = """layout: wood-grain
title: Wood grain
kind: texture
match: {names: ["*.raw"], size: 10936}
parts:
  - {pixels: pixels, facts: {width: 128, height: 128, format: bc1, mips: 8}}
"""


def test_a_member_of_no_kind_is_described_where_it_lies(workspace: Workspace, game: Path) -> None:
    project = str(open_game(workspace, game)["project"])
    sorts = {one["ending"]: one for one in structures.unknown_members(workspace, project)}
    assert sorts[".raw"]["count"] == 4
    example = sorts[".raw"]["example"]
    assert "//" in example
    begun = structures.beginning_of(workspace, project, example, None)
    sources = structures.workshop_sources(workspace, project, example, None)
    first = workshop.look(begun, sources, pictured=structures.pictured)
    assert first.error is not None
    assert "where the pixels are" in first.error.message
    seen = workshop.look(WOOD, sources, pictured=structures.pictured)
    assert seen.error is None
    assert seen.proof is not None
    assert seen.proof.exact
    assert seen.says == "128 × 128, BC1, 8 mip levels"
    picture = np.asarray(Image.open(io.BytesIO(seen.picture or b"")))
    assert picture.shape == (128, 128, 4)
    assert picture[..., :3].std() > 5, "a picture, and no even field"
    assert structures.keep_layout(workspace, WOOD) == "wood-grain.yaml"
    open_game(workspace, game)
    assert ".raw" not in {one["ending"] for one in structures.unknown_members(workspace, project)}


@pytest.mark.parametrize(
    ("was", "now", "words"),
    [
        ("width: 128", "width: 4096", "follow the header"),
        ("format: bc1", "format: bc9", "no pixel format"),
        ("mips: 8", "mips: 99", "the limit is 17"),
    ],
)
def test_what_is_wrong_with_a_texture_is_said_in_the_workshop(
    workspace: Workspace, game: Path, was: str, now: str, words: str
) -> None:
    project = str(open_game(workspace, game)["project"])
    example = next(one for one in structures.unknown_members(workspace, project) if one["ending"] == ".raw")[
        "example"
    ]
    sources = structures.workshop_sources(workspace, project, example, None)
    seen = workshop.look(WOOD.replace(was, now), sources, pictured=structures.pictured)
    assert seen.error is not None
    assert words in seen.error.message
    assert seen.proof is None
