"""A stamp in the sizes that the game has of it, all made of one picture; read by the game's own reader."""

from __future__ import annotations

import io
from functools import partial
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from pydantic import ValidationError

from brae.core.containers.nesting import open_path
from brae.core.errors import BraeError, NotFoundError
from brae.core.games.model import SizesRule
from brae.core.layouts.library import Library
from brae.demo import LAYOUTS, stamps
from brae.demo.standin.disc import read_slate
from brae.work import Workspace, builds, families
from brae.work.families import _by_rules, _grouped, _members, family, lying_over, make_all
from brae.work.opening import open_game
from tests.work.test_flow import edit_of

VOLUME = "skerry.bin//CARGO.VOL"
LIBRARY = Library.of([LAYOUTS])


@pytest.fixture
def opened(workspace: Workspace, disc_game: Path) -> Path:
    open_game(workspace, disc_game)
    return disc_game


def _png(picture: np.ndarray) -> bytes:
    stream = io.BytesIO()
    Image.fromarray(np.round(picture * 255).astype(np.uint8)).save(stream, "png")
    return stream.getvalue()


def test_the_sizes_of_a_picture_are_told_by_names(workspace: Workspace, opened: Path) -> None:
    found = family(workspace, "skerry", f"{VOLUME}//STMP02_M.SLT")
    assert [(one.name, one.width, one.height) for one in found] == [
        ("STMP02_L.SLT", 96, 72), ("STMP02_M.SLT", 48, 36), ("STMP02_S.SLT", 32, 24),
    ]  # fmt: skip
    assert {one.siblings for one in found} == {8}
    assert family(workspace, "skerry", f"{VOLUME}//S00000.SLT") == []
    assert family(workspace, "skerry", f"{VOLUME}//HARBOUR.COL") == []


def test_one_picture_makes_all_of_them(workspace: Workspace, opened: Path) -> None:
    master = stamps.motif(100)
    result = make_all(workspace, "skerry", f"{VOLUME}//STMP02_M.SLT", _png(master), "gull.png")
    assert (result["done"], result["faults"]) == (3, [])
    for name in ("STMP02_L.SLT", "STMP02_M.SLT", "STMP02_S.SLT"):
        step = edit_of(workspace, f"{VOLUME}//{name}").current
        assert step is not None
        assert step.what == "made of gull.png"
    builds.build(workspace, "skerry")
    volume = open_path(opened / "skerry.bin", ["CARGO.VOL"], LIBRARY).container
    for size, (width, height, _, _) in stamps.SIZES.items():
        name = f"STMP02_{size}.SLT"
        image, _ = read_slate(volume.read(volume.index_of(name)), name, width, height)
        truth = stamps.painted(master, size).astype(int)
        made = np.asarray(image).astype(int)
        assert np.array_equal(made[..., 3] > 0, truth[..., 3] > 0), "the teeth of the paper"
        seen = truth[..., 3] > 0
        plain = np.asarray(Image.fromarray(np.round(master * 255).astype(np.uint8)).resize((width, height)))
        off, without = (np.abs(one[..., :3] - truth[..., :3])[seen].mean() for one in (made, plain))
        # Of eight siblings the shading is rough; the paper around it is as it is on all of them.
        assert off < without / 2
        assert np.abs(made[1, 4:-4, :3] - truth[1, 4:-4, :3]).max() < 16


def test_sizes_by_the_rules_of_a_game_and_by_folders(workspace: Workspace, tmp_path: Path) -> None:
    """A game whose large cards end in a number that says nothing; another with a folder for each size."""
    cards = tmp_path / "cards"
    for number in range(6):
        for folder, side in (("big", 32), ("list", 16)):
            picture = stamps.painted(stamps.motif(number), "L")[:side, :side]
            for name in (f"{folder}/card_{number}.png", f"rule/{number}_{'aa' if side == 32 else 'bb'}.png"):
                (cards / name).parent.mkdir(parents=True, exist_ok=True)
                Image.fromarray(picture).save(cards / name)
    made = str(open_game(workspace, cards)["project"])
    by_folder = family(workspace, made, "big/card_2.png")
    assert [(one.address, one.siblings) for one in by_folder] == [("big/card_2.png", 6), ("list/card_2.png", 6)]
    assert family(workspace, made, "rule/2_aa.png") == []
    rule = SizesRule(names=["rule/{picture}_aa.png", "rule/{picture}_bb.*"])
    told = partial(_by_rules, [rule])
    members = {one.name: one for one in _members(workspace, made)}
    found = told(members["rule/2_bb.png"])
    assert found is not None
    groups = _grouped(list(members.values()), found, told)
    assert [(one.member.name, len(one.siblings)) for one in groups] == [("rule/2_aa.png", 6), ("rule/2_bb.png", 6)]
    with pytest.raises(ValidationError, match="picture"):
        SizesRule(names=["a/*", "b/{picture}"])


def test_sizes_by_what_looks_alike(workspace: Workspace, opened: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Names that tell nothing, where all pictures have been compared."""
    pairs = [("S00000.SLT", "STMP00_L.SLT"), ("S00001.SLT", "STMP01_L.SLT")]
    alike = {f"{VOLUME}//{one}": [f"{VOLUME}//{name}" for name in pair] for pair in pairs for one in pair}
    monkeypatch.setattr(families, "looking_alike", lambda *_: alike)
    found = family(workspace, "skerry", f"{VOLUME}//S00000.SLT")
    assert [(one.name, one.siblings) for one in found] == [("STMP00_L.SLT", 2), ("S00000.SLT", 2)]


def test_each_size_can_be_made_by_itself_and_shows_what_lies_over_it(workspace: Workspace, opened: Path) -> None:
    small = f"{VOLUME}//STMP02_S.SLT"
    result = make_all(workspace, "skerry", small, _png(stamps.motif(9)), "gull.png", only=[small])
    assert result["addresses"] == [small]
    assert workspace.edit_or_none("skerry", f"{VOLUME}//STMP02_L.SLT") is None
    with pytest.raises(NotFoundError, match="None of these"):
        make_all(workspace, "skerry", small, _png(stamps.motif(9)), "gull.png", only=["elsewhere"])
    over = lying_over(workspace, "skerry", small)
    assert over.shape == (72 + 36 + 24 + 2 * 6, 2 * 96, 4)
    paper = over[1, [1, 97], :3]
    assert np.abs(paper - (0.93, 0.89, 0.78)).max() < 0.05, "the frame is the same on black and on white"
    dark, light = over[36, 48, :3], over[36, 144, :3]
    assert (light > dark + 0.5).all()
    with pytest.raises(NotFoundError):
        lying_over(workspace, "skerry", f"{VOLUME}//S00000.SLT")


def test_a_picture_that_is_no_good_changes_nothing(workspace: Workspace, opened: Path) -> None:
    address = f"{VOLUME}//STMP02_M.SLT"
    with pytest.raises(BraeError, match="is larger"):
        make_all(workspace, "skerry", address, _png(np.zeros((20, 20, 3))), "small.png")
    with pytest.raises(BraeError):
        make_all(workspace, "skerry", address, b"\x89PNG\r\n\x1a\n", "broken.png")
    with pytest.raises(NotFoundError, match="No other size"):
        make_all(workspace, "skerry", f"{VOLUME}//S00000.SLT", _png(stamps.motif(1)), "gull.png")
    assert workspace.edit_or_none("skerry", address) is None


def test_cropping_and_sharpening(workspace: Workspace, opened: Path) -> None:
    wide = np.concatenate([np.zeros((108, 150, 3)), stamps.motif(5), np.ones((108, 150, 3))], axis=1)
    address = f"{VOLUME}//STMP02_L.SLT"

    def mean() -> float:
        sha = edit_of(workspace, address).current
        assert sha is not None
        return float(np.asarray(Image.open(io.BytesIO(workspace.blobs.get(sha.file_sha256)))).mean())

    means = []
    for x in (0.0, 1.0):
        make_all(workspace, "skerry", address, _png(wide), "wide.png", middle=(x, 0.5))
        means.append(mean())
    assert means[0] + 30 < means[1]
    make_all(workspace, "skerry", address, _png(wide), "wide.png", middle=(0.5, 0.5))
    soft = edit_of(workspace, address).encoded_sha256
    make_all(workspace, "skerry", address, _png(wide), "wide.png", sharpen=1.5)
    assert edit_of(workspace, address).encoded_sha256 != soft
