"""One picture in several sizes. Art: scikit-image's photographs; colour differences by its CIEDE2000.

The truth is painted by ``stamps``, from closed formulas; measured on members that are not among the originals.
"""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from skimage.color import deltaE_ciede2000, rgb2lab

from brae.core.errors import BraeError, NotFoundError
from brae.core.sizes.families import Sibling, Size, make, resized, sizes_of
from brae.core.sizes.shading import FEWEST, common, shared_alpha
from tests.cli.test_cli import brae
from tests.core.sizes.stamps import SIDES, art, painted, stamps


@pytest.fixture(scope="module")
def siblings() -> list[Sibling]:
    """Originals whose names tell nothing."""
    return [
        Sibling(f"a/{number}.png", (stamp.pixels / 255).astype(np.float32)) for number, stamp in enumerate(stamps())
    ]


@pytest.fixture(scope="module")
def found(siblings: list[Sibling]) -> list[Size]:
    return sizes_of(siblings)


def _difference(one: np.ndarray, other: np.ndarray) -> float:
    seen = other[..., 3] > 0.5
    return float(deltaE_ciede2000(rgb2lab(one[..., :3]), rgb2lab(other[..., :3]))[seen].mean())


def _master(number: int) -> np.ndarray:
    return np.dstack([art(number) / 255, np.ones((288, 384))]).astype(np.float32)


def test_the_same_picture_is_found_in_every_size_and_so_is_the_filter(found: list[Size]) -> None:
    assert [(size.width, size.height) for size in found] == list(SIDES.values())
    assert [size.pairs for size in found] == [0, 67, 67]
    assert {size.filter for size in found} == {"box"}
    for size, name in zip(found, SIDES, strict=True):
        assert size.shading.alpha is not None
        assert np.abs(size.shading.alpha - painted(500, name)[..., 3] / 255).max() < 0.01


def test_a_new_member_is_near_to_what_its_painter_would_have_made(found: list[Size]) -> None:
    for size, name in zip(found, SIDES, strict=True):
        ours, without = [], []
        for number in range(500, 510):
            truth = painted(number, name) / 255
            ours.append(_difference(make(_master(number), size), truth))
            without.append(_difference(resized(_master(number), size.width, size.height, "box"), truth))
        assert np.mean(ours) < 1
        assert np.mean(ours) < np.mean(without) / 5
    frame = make(_master(500), found[0])[:3, 40:60, :3]
    assert np.abs(frame - (0.85, 0.8, 0.7)).max() < 0.01, "the frame is not shaded art"


@pytest.mark.parametrize("what", ["none", "below"])
def test_other_shadings_and_none_at_all(what: str) -> None:
    originals = [stamp for stamp in stamps(40, what=what) if stamp.size == "small"]
    size = sizes_of([Sibling(one.name, (one.pixels / 255).astype(np.float32)) for one in originals])[0]
    off = [
        _difference(make(_master(number), size), painted(number, "small", what=what) / 255) for number in (501, 505)
    ]
    assert np.mean(off) < 1.5
    if what == "none":
        assert not size.shading.offset.any()


def test_a_coloured_light_keeps_its_colour() -> None:
    pictures = []
    for number in range(67):
        pixels = np.asarray(Image.fromarray(art(number)).resize((64, 48), Image.Resampling.BOX)) / 255
        light = 0.35 * np.clip(1 - 2 * np.linspace(0, 1, 48), 0, 1)[:, None, None]
        lit = pixels * (1 - light) + light * (1, 0.8, 0.3)
        pictures.append(np.dstack([lit, np.ones((48, 64))]).astype(np.float32))
    top = common(pictures).offset[0].mean(axis=0)
    # The numbers of all channels together tell where it is, which for a yellow light is less than there is.
    assert 0.2 < top[0] < 0.4
    assert np.abs(top / top[0] - (1, 0.8, 0.3)).max() < 0.15


def test_few_siblings_and_none_that_differ_have_no_shading() -> None:
    random = np.random.default_rng(1)
    few = [np.dstack([random.random((8, 8, 3)), np.ones((8, 8))]).astype(np.float32) for _ in range(FEWEST - 1)]
    for pictures in (few, [few[0]] * 9):
        shading = common(pictures)
        assert (shading.gain == 1).all()
        assert not shading.offset.any()
        assert shading.alpha is None
        assert np.allclose(shading.on(few[0]), few[0])
    few[0][:4, :, 3] = 0
    assert shared_alpha(few) is None


def test_a_master_is_cropped_in_the_middle_and_has_to_be_large_enough() -> None:
    size = sizes_of([Sibling("a.png", np.ones((8, 8, 4), np.float32))])[0]
    master = np.zeros((16, 64, 4), np.float32)
    master[:, 24:40] = 1
    assert (make(master, size) == 1).all()
    with pytest.raises(BraeError, match="8x8 is larger"):
        make(master[:4, :4], size)
    with pytest.raises(NotFoundError):
        sizes_of([])


def test_on_the_command_line(siblings: list[Sibling], tmp_path: Path) -> None:
    for one in siblings:
        file = tmp_path / "game" / f"{one.picture.shape[1]}" / one.address
        file.parent.mkdir(parents=True, exist_ok=True)
        Image.fromarray(np.round(one.picture * 255).astype(np.uint8)).save(file)
    (tmp_path / "game" / "broken.png").write_bytes(b"\x89PNG\r\n\x1a\n")
    Image.fromarray(art(501)).save(tmp_path / "gull.png")
    out = tmp_path / "out"
    arguments = ("sizes", tmp_path / "gull.png", "--like", tmp_path / "game", "-o", out)
    said = json.loads(brae(*arguments, "--shading", tmp_path / "over", "--home", tmp_path / "home", "--json"))
    assert [(one["size"], one["siblings"]) for one in said["sizes"]] == [
        (f"{width}x{height}", 67) for width, height in SIDES.values()
    ]
    for name, (width, height) in SIDES.items():
        with Image.open(out / f"gull_{width}x{height}.png") as picture:
            assert _difference(np.asarray(picture) / 255, painted(501, name) / 255) < 2
        assert (tmp_path / "over" / f"{width}x{height}_dark.png").is_file()
    cover = np.zeros((24, 32, 4), np.uint8)
    cover[:2] = (9, 200, 30, 255)
    (tmp_path / "mine").mkdir()
    Image.fromarray(cover).save(tmp_path / "mine" / "32x24.png")
    brae(*arguments, "--over", tmp_path / "mine", "--home", tmp_path / "home", "--json")
    with Image.open(out / "gull_32x24.png") as picture:
        assert np.asarray(picture)[0, 5].tolist() == [9, 200, 30, 255]
    inside = ("sizes", tmp_path / "gull.png", "--like", tmp_path / "game", "-o", tmp_path / "game" / "new")
    assert "among the originals" in brae(*inside, fails=True)
