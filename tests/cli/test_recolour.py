"""``brae recolour``: textures, pictures and members of archives by the same steps. Photographs: scikit-image's."""

from __future__ import annotations

import io
import json
import zipfile
from pathlib import Path

import numpy as np
import pytest
import texture2ddecoder
from PIL import Image

from brae.core.assets.texture import formats
from brae.core.assets.texture.encode import encode_new
from tests.cli.test_cli import brae
from tests.core.find.photos import pieces

STEPS = """
title: sepia, but for the mask
steps:
  - gradient: ["#20140a", "#f6e7c8"]
    mask: {picture: mask.png}
"""


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """A BC1 texture with mips, a PNG with alpha, a member of a zip; the mask is the left half."""
    (tmp_path / "game/textures").mkdir(parents=True)
    one, two = list(pieces().values())[:2]
    (tmp_path / "game/textures/one.dds").write_bytes(encode_new(one[:128, :128], formats.get("bc1"), None))
    two = two.copy()
    two[:40, :, 3] = 70
    Image.fromarray(two).save(tmp_path / "game/two.png")
    stream = io.BytesIO()
    Image.fromarray(one[..., :3]).save(stream, "PNG")
    with zipfile.ZipFile(tmp_path / "game/more.zip", "w") as archive:
        archive.writestr("three.png", stream.getvalue())
        archive.writestr("notes.txt", "no picture")
    mask = np.zeros((192, 192), np.uint8)
    mask[:, :96] = 255
    Image.fromarray(mask).save(tmp_path / "mask.png")
    (tmp_path / "steps.yaml").write_text(STEPS)
    return tmp_path


def test_many_are_recoloured_each_like_it_was(folder: Path) -> None:
    out = folder / "out"
    said = json.loads(
        brae("recolour", folder / "steps.yaml", folder / "game", "-o", out, "--home", folder / "home", "--json")
    )
    assert said["failed"] == []
    assert sorted(one["address"] for one in said["recoloured"]) == [
        "more.zip//three.png", "textures/one.dds", "two.png",
    ]  # fmt: skip
    before, after = ((path / "textures/one.dds").read_bytes() for path in (folder / "game", out))
    assert (len(after), after[:128]) == (len(before), before[:128])
    shown = [
        np.frombuffer(texture2ddecoder.decode_bc1(data[128 : 128 + 8192], 128, 128), np.uint8).reshape(128, 128, 4)
        for data in (before, after)
    ]
    # blue, green, red: sepia on the left has no blue above its red; the blocks on the right are as they were
    assert (shown[1][:, :60, 0] <= shown[1][:, :60, 2]).all()
    assert (shown[1][:, 72:] == shown[0][:, 72:]).all()
    two = [np.asarray(Image.open(path / "two.png")) for path in (folder / "game", out)]
    assert (two[0][..., 3] == two[1][..., 3]).all()
    assert (two[0][:, 97:] == two[1][:, 97:]).all()
    assert (two[0][:, :95] != two[1][:, :95]).any()
    assert Image.open(out / "more.zip/three.png").mode == "RGB"


def test_originals_are_never_written_over(folder: Path) -> None:
    before = {path: path.read_bytes() for path in (folder / "game").rglob("*") if path.is_file()}
    for words in (
        ("recolour", folder / "steps.yaml", folder / "game", "-o", folder / "game/textures/.."),
        ("recolour", folder / "steps.yaml", folder / "game/textures", "-o", folder / "game"),
        ("recolour", folder / "steps.yaml", folder / "game", "-o", folder / "game/new"),
        ("recolour", folder / "steps.yaml", folder / "game/two.png", "-o", folder / "game"),
        ("palette", folder / "game", "-o", folder / "p.pal", "--remap", folder / "game"),
    ):
        assert "would be written over" in brae(*words, fails=True)
    assert {path: path.read_bytes() for path in (folder / "game").rglob("*") if path.is_file()} == before


def test_bad_steps_and_files_are_told(folder: Path) -> None:
    arguments = (
        "recolour",
        folder / "steps.yaml",
        folder / "game",
        "-o",
        folder / "out",
        "--home",
        folder / "home",
    )
    (folder / "steps.yaml").write_text("steps:\n  - {hue: 10}\n  - {tint: red}\n")
    said = brae(*arguments, fails=True)
    assert "line 3" in said
    assert "'red' is no colour" in said
    (folder / "steps.yaml").write_text(STEPS.replace("mask.png", "gone.png"))
    assert "There is no picture gone.png" in brae(*arguments, fails=True)
    assert not (folder / "out").exists()
    (folder / "steps.yaml").write_text("steps: [{hue: 10}]")
    said = brae(
        "recolour", folder / "steps.yaml", f"{folder / 'game/more.zip'}//notes.txt", "-o", folder / "x", fails=True
    )
    assert "no picture among" in said
