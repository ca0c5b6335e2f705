"""``brae palette`` over files, archives and textures."""

from __future__ import annotations

import json
import zipfile
from pathlib import Path

import numpy as np
from PIL import Image

from brae.core.assets.palette.riff import read
from tests.cli.test_cli import brae
from tests.core.find.photos import pieces


def test_one_palette_for_many(tmp_path: Path) -> None:
    folder = tmp_path / "scene"
    folder.mkdir()
    tiles = list(pieces().values())[:3]
    for number, tile in enumerate(tiles[:2]):
        tile = tile.copy()
        tile[:20, :, 3] = 0
        Image.fromarray(tile).save(folder / f"tile{number}.png")
    Image.fromarray(tiles[2]).save(tmp_path / "third.png")
    with zipfile.ZipFile(folder / "more.zip", "w") as archive:
        archive.write(tmp_path / "third.png", "third.png")
    out = tmp_path / "scene.pal"
    said = json.loads(
        brae(
            "palette", folder, "-o", out, "--colours", 64, "--reserve", "0=transparent", "--reserve", "1=#ff00ff",
            "--reserve", 2, "--remap", tmp_path / "out", "--home", tmp_path / "home", "--json",
        )
    )  # fmt: skip
    assert said["used"] == 62
    assert read(out.read_bytes())[1].tolist() == [255, 0, 255]
    assert sorted(one["file"] for one in said["pictures"]) == ["more.zip/third.png", "tile0.png", "tile1.png"]
    assert all(0 < one["mean"] < one["p95"] < 12 for one in said["pictures"])
    assert (tmp_path / "out/more.zip/third.png").is_file()
    made = np.asarray(Image.open(tmp_path / "out/tile0.png"))
    assert (made[:20] == 0).all()
    assert not np.isin(made[20:], [0, 2]).any()
    brae("palette", folder, "-o", tmp_path / "p.json", "--colours", 8, "--depth", "555")
    entries = json.loads((tmp_path / "p.json").read_text())["entries"]
    assert len({one["colour"] for one in entries}) == 8
    heavy = json.loads(
        brae(
            "palette", folder, "-o", out, "--colours", 16, "--weight", "tile0.png=50", "--dither", "ordered",
            "--remap", tmp_path / "patterns", "--json",
        )
    )  # fmt: skip
    light = json.loads(brae("palette", folder, "-o", out, "--colours", 16, "--weight", "tile1*=50", "--json"))
    lost = [{one["file"]: one["mean"] for one in said["pictures"]}["tile0.png"] for said in (heavy, light)]
    assert lost[0] < lost[1]
    assert (tmp_path / "patterns/tile0.png").is_file()
    assert "called so" in brae("palette", folder, "-o", out, "--weight", "nothing=5", fails=True)
    assert "is not known" in brae("palette", folder, "-o", out, "--weight", "tile0.png=-5", fails=True)
    assert "is not known" in brae("palette", folder, "-o", out, "--dither", "lots", fails=True)
    assert "is not known" in brae("palette", folder, "-o", out, "--reserve", "x", fails=True)
    assert "cannot be reserved" in brae("palette", folder, "-o", out, "--colours", 8, "--reserve", 9, fails=True)
    assert "not written as" in brae("palette", folder, "-o", tmp_path / "p.txt", fails=True)
