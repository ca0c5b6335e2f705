"""A picture within a larger binary: taken out, edited, put back at the same length. Pixels are packed by Pillow."""

from __future__ import annotations

import zipfile
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from brae.core.assets.registry import kind_of
from brae.core.assets.texture.files import write_image
from brae.core.assets.texture.guess import Guess
from brae.work import Workspace, builds
from brae.work.edits import put_in_work, take_file
from brae.work.guesses import keep_guess
from brae.work.holding import places_in
from brae.work.items import asset_at
from brae.work.opening import open_game
from tests.core.find.photos import pieces

SIDE, AT = 32, 12_345
ADDRESS = "pack.zip//program.bin"


@pytest.fixture
def game(tmp_path: Path) -> Path:
    """A program with 32 x 32 pixels of BGRA in the midst of other bytes."""
    folder = tmp_path / "embedded"
    folder.mkdir()
    chance = np.random.default_rng(4)
    pixels = Image.fromarray(_picture()).tobytes("raw", "BGRA")
    with zipfile.ZipFile(folder / "pack.zip", "w") as archive:
        archive.writestr("program.bin", chance.bytes(AT) + pixels + chance.bytes(7_001))
        archive.writestr("other.bin", chance.bytes(500))
    return folder


def _picture() -> np.ndarray:
    return pieces()["coffee-0-192"][:SIDE, :SIDE].copy()


def _bytes(game: Path) -> bytes:
    with zipfile.ZipFile(game / "pack.zip") as archive:
        return archive.read("program.bin")


def test_a_picture_in_a_program_is_found_edited_and_put_back(workspace: Workspace, game: Path) -> None:
    project = str(open_game(workspace, game)["project"])
    row = Image.fromarray(_picture()[:1]).tobytes("raw", "BGRA")[:24]
    found = places_in(workspace, project, ADDRESS, row.hex(" "))
    assert [place.offset for place in found.places] == [AT], "exactly one place, as a patch needs"
    kind = kind_of("texture").headless
    assert kind is not None
    guess = Guess(format="bgra8", width=SIDE, height=SIDE, offset=AT)
    keep_guess(workspace, project, ADDRESS, kind, guess, "The program's icon", one_size=True)
    open_game(workspace, game)
    assert np.array_equal(asset_at(workspace, project, ADDRESS).picture(), _picture())
    assert workspace.find(project, "pack.zip//other.bin").member.kind == "data", "only what is as large"
    painted = _picture()
    painted[8:16, 8:16] = (255, 0, 128, 255)
    put_in_work(workspace, project, ADDRESS)
    take_file(workspace, project, ADDRESS, write_image(painted), "icon.png")
    before = _bytes(game)
    builds.build(workspace, project)
    after = _bytes(game)
    assert len(after) == len(before)
    assert after[AT : AT + 4 * SIDE * SIDE] == Image.fromarray(painted).tobytes("raw", "BGRA")
    assert after[:AT] + after[AT + 4 * SIDE * SIDE :] == before[:AT] + before[AT + 4 * SIDE * SIDE :]
    builds.restore(workspace, project)
    assert _bytes(game) == before
