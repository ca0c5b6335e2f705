"""``brae look``: what lies in a file that nobody has described, out to a folder and back into its place."""

from __future__ import annotations

import io
import json
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from tests.cli.test_cli import brae
from tests.core.signs.mixture import Mixture, crate

NAMES = ("png", "wav", "bmp", "zlib", "jpeg", "flac")


@pytest.fixture
def files() -> list[bytes]:
    mixture = Mixture(12)
    return [mixture.makers[name]() for name in NAMES]


@pytest.fixture
def unknown(tmp_path: Path, files: list[bytes]) -> Path:
    path = tmp_path / "cargo.crt"
    path.write_bytes(crate(files))
    return path


def test_it_tells_what_lies_where(unknown: Path, files: list[bytes]) -> None:
    data = unknown.read_bytes()
    said = json.loads(brae("look", unknown, "--json"))
    assert said["size"] == len(data)
    told = {one["offset"]: one for one in said["found"]}
    for name, file in zip(NAMES, files, strict=True):
        one = told[data.index(file)]
        assert one["length"] == len(file)
        assert one["packed"] == ("zlib" if name == "zlib" else None)
        assert name == "zlib" or one["format"] == name
    kinds = {one["format"]: one["kind"] for one in said["found"]}
    assert (kinds["png"], kinds["wav"]) == ("texture", "sound")
    words = brae("look", unknown)
    assert f"{len(files)} files found by their signs" in words


def test_out_and_back_changes_only_the_place_of_what_was_changed(
    unknown: Path, files: list[bytes], tmp_path: Path
) -> None:
    before, out = unknown.read_bytes(), tmp_path / "out"
    brae("look", unknown, "-o", out)
    place = before.index(files[0])
    picture = out / f"{place:010d}.png"
    assert picture.read_bytes() == files[0]
    brae("look", unknown, "--from", out, "-o", tmp_path / "same.crt")
    assert (tmp_path / "same.crt").read_bytes() == before
    with Image.open(picture) as opened:
        sides = opened.size
    Image.new("RGB", sides, (20, 90, 160)).save(picture)
    brae("look", unknown, "--from", out, "-o", tmp_path / "new.crt")
    after = (tmp_path / "new.crt").read_bytes()
    assert len(after) == len(before)
    differs = np.flatnonzero(np.frombuffer(before, np.uint8) != np.frombuffer(after, np.uint8))
    assert place <= differs.min() <= differs.max() < place + len(files[0])
    with Image.open(io.BytesIO(after[place:])) as shown:
        assert shown.getpixel((0, 0)) == (20, 90, 160)
    assert unknown.read_bytes() == before


def test_what_does_not_fit_is_refused_and_nothing_is_written(
    unknown: Path, files: list[bytes], tmp_path: Path
) -> None:
    before, out = unknown.read_bytes(), tmp_path / "out"
    brae("look", unknown, "-o", out)
    place = before.index(files[0])
    (out / f"{place:010d}.png").write_bytes(files[0] + bytes(5))
    words = brae("look", unknown, "--from", out, "-o", tmp_path / "new.crt", fails=True)
    assert "nothing else can move" in words
    assert not (tmp_path / "new.crt").exists()
    words = brae("look", unknown, "--from", out, "-o", unknown, fails=True)
    assert "never overwritten" in words
    assert unknown.read_bytes() == before
    assert "no folder" in brae("look", unknown, "--from", tmp_path / "gone", "-o", tmp_path / "x", fails=True)


def test_a_structure_is_proposed_by_what_was_found(unknown: Path, files: list[bytes]) -> None:
    best = json.loads(brae("propose", unknown, "--json"))["proposals"][0]
    assert (best["members"], best["state"]) == (len(files), "proved")
