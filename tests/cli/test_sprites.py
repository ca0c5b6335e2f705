"""``brae frames`` and ``brae drift``."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
from PIL import Image

from tests.cli.test_cli import brae
from tests.core.sprites.test_sprites import SIDE, _figure, _moved


def test_a_sheet_out_and_its_drift(tmp_path: Path) -> None:
    frames = [_figure(turn) for turn in (0, 15, 30, 45)]
    edits = list(frames)
    edits[2] = _moved(frames[2], 2, -1)
    for name, some in (("sheet", frames), ("edit", edits)):
        Image.fromarray(np.concatenate(some, axis=1)).save(tmp_path / f"{name}.png")
    sheet, cell = tmp_path / "sheet.png", ("--cell", f"{SIDE}x{SIDE}")
    said = json.loads(brae("drift", sheet, tmp_path / "edit.png", *cell, "--json"))
    assert [one["jumps"] for one in said["frames"]] == [False, False, True, False]
    moved = said["frames"][2]
    assert abs(moved["dx"] - 2) < 0.1
    assert abs(moved["dy"] + 1) < 0.1
    assert moved["sure"] > 0.9
    assert "jumps" in brae("drift", sheet, tmp_path / "edit.png", *cell)
    told = json.loads(brae("frames", sheet, "-o", tmp_path / "walk.gif", *cell, "--ms", 55, "--json"))
    assert (told["frames"], sum(told["milliseconds"])) == (4, 220)
    assert Image.open(tmp_path / "walk.gif").n_frames == 4
    brae("frames", sheet, "-o", tmp_path / "single", *cell)
    single = sorted((tmp_path / "single").iterdir())
    assert [one.name for one in single] == ["0000.png", "0001.png", "0002.png", "0003.png"]
    shown = np.asarray(Image.open(single[1]))
    assert (shown[shown[..., 3] > 0] == frames[1][shown[..., 3] > 0]).all()
    # And back: one of them painted, one gone.
    painted = np.asarray(Image.open(single[2])).copy()
    painted[:4, :4] = (255, 0, 0, 255)
    Image.fromarray(painted).save(single[2])
    single[3].unlink()
    back = json.loads(
        brae("frames", tmp_path / "single", "-o", tmp_path / "back.png", "--like", sheet, *cell, "--json")
    )
    assert (back["frames"], back["missing"]) == (3, [3])
    made, whole = np.asarray(Image.open(tmp_path / "back.png")), np.asarray(Image.open(sheet))
    changed = np.argwhere((made != whole).any(axis=-1))
    assert changed.min(axis=0).tolist() == [0, 2 * SIDE]
    assert changed.max(axis=0).tolist() == [3, 2 * SIDE + 3]
    assert "--like" in brae("frames", tmp_path / "single", "-o", tmp_path / "b.png", *cell, fails=True)
    Image.fromarray(painted[:5]).save(single[2])
    assert "5 pixels" in brae(
        "frames", tmp_path / "single", "-o", tmp_path / "b.png", "--like", sheet, *cell, fails=True
    )
    (tmp_path / "frames.json").write_text(json.dumps({"frames": [{"x": 0, "y": 0, "width": 20, "height": 30}]}))
    told = json.loads(
        brae("frames", sheet, "-o", tmp_path / "a.apng", "--frames", tmp_path / "frames.json", "--json")
    )
    assert told["milliseconds"] == [100]
    both = (*cell, "--frames", tmp_path / "frames.json")
    assert "either --cell" in brae("frames", sheet, "-o", tmp_path / "b.gif", *both, fails=True)
    grey = tmp_path / "grey.png"
    Image.fromarray(np.tile(np.arange(200, dtype=np.uint8), (100, 1))).save(grey)
    assert "not clear" in brae("frames", grey, "-o", tmp_path / "b.gif", fails=True)
    assert "no whole number" in brae("frames", sheet, "-o", tmp_path / "b.gif", "--cell", "31x5", fails=True)
    Image.fromarray(frames[0]).save(tmp_path / "other.png")
    assert "64 x 64 pixels, the original 256 x 64" in brae(
        "drift", sheet, tmp_path / "other.png", *cell, fails=True
    )


def test_a_described_sprite_goes_out_and_comes_back_without_rectangles(tmp_path: Path, made_disc: Path) -> None:
    woman = f"{made_disc / 'skerry.bin'}//CARGO.VOL//POSTWOM.STR"
    told = json.loads(brae("frames", woman, "-o", tmp_path / "walk.gif", "--sequence", "walk east", "--json"))
    assert told["milliseconds"] == [120] * 8
    assert Image.open(tmp_path / "walk.gif").n_frames == 8
    brae("decode", woman, "-o", tmp_path / "woman.png")
    assert "nothing was painted" in brae("drift", woman, tmp_path / "woman.png")
    brae("encode", tmp_path / "woman.png", "-o", tmp_path / "POSTWOM.STR", "--like", woman)
    brae("unpack", f"{made_disc / 'skerry.bin'}//CARGO.VOL", "-o", tmp_path / "volume")
    assert (tmp_path / "POSTWOM.STR").read_bytes() == (tmp_path / "volume" / "POSTWOM.STR").read_bytes()
    sheet = np.asarray(Image.open(tmp_path / "woman.png")).copy()
    brae("frames", tmp_path / "woman.png", "-o", tmp_path / "cut.gif", "--ms", 80)
    assert Image.open(tmp_path / "cut.gif").n_frames == 32, "the grid is told by the picture alone"
    cell = sheet[:44, :25]
    sheet[:44, :25] = np.roll(cell, 2, axis=1)
    Image.fromarray(sheet).save(tmp_path / "moved.png")
    said = json.loads(brae("drift", woman, tmp_path / "moved.png", "--json"))["frames"]
    assert [one["frame"] for one in said if one["jumps"]] == [0]
    assert abs(said[0]["dx"] - 2) < 0.1
    assert "no sequence 'hop'" in brae("frames", woman, "-o", tmp_path / "a.gif", "--sequence", "hop", fails=True)
