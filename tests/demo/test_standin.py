"""The stand-in is as strict as a game: each kind of damage is told apart."""

from __future__ import annotations

import struct
import zlib
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from brae.demo import art, desktop, disc
from brae.demo.standin import play, recognises
from brae.demo.standin.harbour import TABLE


def test_the_demo_plays(made_demo: Path) -> None:
    report = play(made_demo)
    assert (report.refused, report.placeholders) == (None, {})
    assert report.trace[-1] == "scene drawn with 42 of 42 textures"
    assert "textures/weather/sign_01.ptx: the loose file is used" in report.trace
    assert "textures/signs/mossbay.ptx: taken from lantern" in report.trace
    assert recognises(made_demo)
    assert not recognises(made_demo / "data")


def _index(game: Path, change: Callable[[bytearray], None]) -> None:
    """Change the index and put its checksums right, as a careless tool would."""
    path = game / "data/harbour.kist"
    data = bytearray(path.read_bytes())
    change(data)
    count, names_at = struct.unpack_from("<I", data, 8)[0], struct.unpack_from("<I", data, 16)[0]
    data[24:28] = struct.pack("<I", zlib.crc32(data[names_at:], zlib.crc32(data[64 : 64 + 24 * count])))
    data[48:52] = struct.pack("<I", zlib.adler32(data[:48]))
    path.write_bytes(data)


@pytest.mark.parametrize(
    ("change", "reason"),
    [
        (lambda data: data.__setitem__(slice(0, 4), b"KISS"), "begin with KIST"),
        (lambda data: data.__setitem__(4, 3), "version 3"),
        (lambda data: data.__setitem__(8, data[8] ^ 1), "do not make up"),
        (lambda data: data.__setitem__(20, data[20] ^ 1), "bytes, the index says"),
        (lambda data: data.__setitem__(64 + 4, data[64 + 4] ^ 1), "where it may not"),
        (lambda data: data.__setitem__(64 + 24, data[64]), "twice"),
    ],
)  # fmt: skip
def test_a_broken_index_is_refused(game: Path, change: Callable[[bytearray], None], reason: str) -> None:
    _index(game, change)
    report = play(game)
    assert report.refused is not None
    assert reason in report.refused
    assert report.scene[:4] == b"\x89PNG"


def test_checksums_are_checked(game: Path) -> None:
    for place, reason in ((30, "header's checksum"), (70, "directory's checksum")):
        path = game / "data/harbour.kist"
        good = path.read_bytes()
        data = bytearray(good)
        data[place] ^= 1
        path.write_bytes(data)
        assert reason in (play(game).refused or "")
        path.write_bytes(good)
    (game / "skerry.cfg").write_text("[nothing]\n")
    assert "skerry.cfg" in (play(game).refused or "")


def test_a_damaged_member_is_refused(game: Path) -> None:
    path = game / "data/harbour.hold"
    data = bytearray(path.read_bytes())
    place = data.find(b"PTX2")  # the first texture that is not packed
    data[place + 40 : place + 60] = b"\xff" * 20
    path.write_bytes(data)
    report = play(game)
    assert report.refused is None or "checksum" in report.refused


def _sail(side: int, name: str, levels: int | None) -> bytes:
    return desktop.ptx(np.zeros((side, side, 4), np.uint8), name, levels)


@pytest.mark.parametrize(
    ("name", "make", "reason"),
    [
        ("textures/boat/sail.ptx", lambda: _sail(128, "bc3", None), "128 x 128"),
        ("textures/boat/sail.ptx", lambda: _sail(256, "bc1", None), "format 1"),
        ("textures/boat/sail.ptx", lambda: _sail(256, "bc3", 1), "1 levels"),
        ("textures/boat/sail.ptx", lambda: _sail(256, "bc3", None) + b"x", "bytes, the table says"),
        ("textures/boat/sail.ptx", lambda: b"a text", "no PTX2"),
        ("textures/boat/Sail.ptx", lambda: b"", "in none of the archives"),
    ],
)
def test_a_wrong_texture_shows_the_placeholder(
    game: Path, name: str, make: Callable[[], bytes], reason: str
) -> None:
    content = {f"textures/{key.removeprefix('textures/')}": b"unused" for key in TABLE}
    content.pop("textures/boat/sail.ptx")
    content[name] = make()
    desktop.write_pair(game / "data", "harbour", sorted(content.items()))
    report = play(game)
    assert report.refused is None
    assert reason in report.placeholders["textures/boat/sail.ptx"]


def test_pictures_are_worth_looking_at(made_demo: Path) -> None:
    """Not grey squares: every drawing has many colours and uses its whole surface."""
    for drawing in desktop._drawings():
        picture = drawing.draw()
        colours = len(np.unique(picture.reshape(-1, 4), axis=0))
        assert colours > 8, drawing.name
    tile = art.water(np.random.default_rng(1), 64)
    seam = np.abs(tile[:, 0].astype(int) - tile[:, -1]).mean()
    inside = np.abs(np.diff(tile.astype(int), axis=1)).mean()
    assert seam < 3 * inside + 4, "tiles have no seam"


def test_making_the_disc_tells_how_far_it_is(tmp_path: Path) -> None:
    class Counts:
        def __init__(self) -> None:
            self.told: list[list[object]] = []

        def begin(self, total: int, unit: str) -> None:
            self.told.append([unit, total, 0])

        def tick(self, amount: int = 1) -> None:
            self.told[-1][2] += amount  # type: ignore[operator]

    counts = Counts()
    disc.generate(tmp_path, screens=40, members=96, film=12, ticker=counts)
    assert [unit for unit, _, _ in counts.told] == ["screens made", "files made", "sectors"]
    assert all(total >= done > 0 for _, total, done in counts.told)  # type: ignore[operator]


def _with_material(game: Path, name: str, text: str | None) -> None:
    """The demo's bundle with another material, or without it."""
    objects = []
    for kind, path, owner, data in desktop._figures():
        if path == f"materials/{name}":
            if text is None:
                continue
            data = text.encode()
        objects.append((kind, path, -1 if text is None else owner, data))
    (game / "data/figures.bundle").write_bytes(desktop.bundle(objects))


MATERIAL = "[material]\ncolour = figures/{}\nambient = 0.4 0.4 0.5\nhighlight = {}\ntwo_sided = no\n"


def test_a_material_dresses_a_figure(game: Path) -> None:
    before = play(game).scene
    _with_material(game, "keeper", MATERIAL.format("cooper", 0.2))
    again = play(game)
    assert again.refused is None
    assert again.scene != before


def test_a_missing_texture_shows_the_placeholder_and_a_missing_material_nothing(game: Path) -> None:
    _with_material(game, "keeper", MATERIAL.format("nobody", 0.2))
    report = play(game)
    assert report.placeholders["figure keeper"] == "materials/keeper names figures/nobody: not there"
    _with_material(game, "keeper", None)
    report = play(game)
    assert (report.refused, report.placeholders) == (None, {})
    assert "materials/keeper is not there: nothing is drawn of the keeper" in report.trace


@pytest.mark.parametrize(
    ("text", "reason"),
    [
        (MATERIAL.format("keeper", 7), "has no colour, ambient, highlight"),
        (MATERIAL.format("keeper", 0.2) + "colour = again\n", "line 6"),
        (MATERIAL.format("keeper", 0.2).replace("=", ":"), "line 2"),
        (MATERIAL.format("k\u00e9eper", 0.2), "no plain text"),
    ],
)
def test_a_material_that_the_game_does_not_take_stops_it(game: Path, text: str, reason: str) -> None:
    _with_material(game, "keeper", text)
    assert reason in (play(game).refused or "")
