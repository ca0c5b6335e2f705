"""Every opener takes every hostile name: members are listed, nothing escapes, and the rest can be read."""

from __future__ import annotations

import io
import struct
import tarfile
import zipfile
import zlib
from collections.abc import Callable
from pathlib import Path

import pytest

from brae.core import addresses
from brae.core.assets.folders import LinkError, edits_in, unpack
from brae.core.containers.recognise import open_container
from brae.core.layouts.library import Library
from brae.core.sources import BytesSource
from brae.demo import LAYOUTS, desktop
from brae.work import Workspace
from brae.work.opening import open_game

NAMES = [
    "", "/", "//", ".", "..", "...", "../up", "../../../../etc/passwd", "/etc/passwd", "a/../../b", "a//b", "a/./b",
    "./a", "a/", "C:\\windows\\x", "C:x", "\\\\host\\share", "..\\..\\up", "a\\b", "nul", "NUL.txt", "con/aux/prn",
    "com1", "lpt9.bin", "a:b", "a:b:$DATA", "a*?b", 'a"b', "a<b>c", "a|b", "a\tb", "a\nb", "a\x01b", "a\x7fb",
    "trailing.", "trailing ", " leading", "-rf", "--help", "~", "~root", "$HOME", "%2e%2e/x", "%", "%%", "a@2", "@",
    "x" * 300, "ф" * 200, "y/" * 120 + "z", "ａ", "é", "e\u0301", "\u202egnp.exe", "\ufeffbom", "\U0001f6a3",
    "a\u2028b",
]  # fmt: skip


def _zip(name: str) -> bytes:
    """By hand: the standard library does not write every name."""
    raw, data = name.encode("utf-8", "surrogateescape"), b"here I am"
    head = struct.pack("<5H3I2H", 20, 0x800, 0, 0, 0x21, zlib.crc32(data), len(data), len(data), len(raw), 0)
    local = b"PK\3\4" + head + raw + data
    second = b"other.txt"
    two = struct.pack("<5H3I2H", 20, 0x800, 0, 0, 0x21, zlib.crc32(b"two"), 3, 3, len(second), 0)
    other = b"PK\3\4" + two + second + b"two"
    central = b"PK\1\2\x14\0" + head + struct.pack("<3H2I", 0, 0, 0, 0, 0) + raw
    central += b"PK\1\2\x14\0" + two + struct.pack("<3H2I", 0, 0, 0, 0, len(local)) + second
    start = len(local) + len(other)
    return local + other + central + struct.pack("<4s4H2IH", b"PK\5\6", 0, 0, 2, 2, len(central), start, 0)


def _tar(name: str) -> bytes:
    stream = io.BytesIO()
    with tarfile.open(fileobj=stream, mode="w", format=tarfile.PAX_FORMAT) as archive:
        for one, data in ((name, b"here I am"), ("other.txt", b"two")):
            info = tarfile.TarInfo(one)
            info.size = len(data)
            archive.addfile(info, io.BytesIO(data))
    return stream.getvalue()


def _kist(name: str, folder: Path) -> dict[str, bytes]:
    desktop.write_pair(folder, "town", [(name, b"here I am"), ("other.txt", b"two")])
    return {"main": (folder / "town.kist").read_bytes(), "data": (folder / "town.hold").read_bytes()}


WRITERS: dict[str, Callable[[str], bytes]] = {"zip": _zip, "tar": _tar}


@pytest.mark.parametrize("name", NAMES)
@pytest.mark.parametrize("kind", WRITERS)
def test_openers_list_every_name(kind: str, name: str, tmp_path: Path) -> None:
    container = open_container(kind, {"main": BytesSource(WRITERS[kind](name))}, f"x.{kind}", Library())
    assert len(set(container.labels)) == len(container)
    for level in container.labels:
        addresses.join("x", level).encode("ascii", "backslashreplace")
        assert addresses.split(addresses.join("x", level)) == ["x", level], "one address, one level"
    assert container.read(container.index_of("other.txt")) == b"two"
    faults = list(unpack(container, tmp_path / "out"))
    assert faults == []
    outside = [path for path in tmp_path.rglob("*") if path.is_file() and tmp_path / "out" not in path.parents]
    assert outside == [], "nothing is written outside the folder"
    written = sorted(path.read_bytes() for path in (tmp_path / "out").rglob("*") if path.is_file())
    assert written == sorted(container.read(index) for index in range(len(container)))


@pytest.mark.parametrize("kind", [*WRITERS, "kist"])
def test_a_game_with_such_archives_opens(kind: str, workspace: Workspace, tmp_path: Path) -> None:
    """All of them at once, each an archive of its own; whatever one does, the others open."""
    game = tmp_path / "skerry"
    game.mkdir()
    for number, name in enumerate(NAMES):
        if kind == "kist":
            folder = game / f"{number:02}"
            folder.mkdir()
            try:
                _kist(name, folder)
            except (ValueError, struct.error, UnicodeError):
                continue  # the game's own writer does not know such a name
        else:
            (game / f"{number:02}.{kind}").write_bytes(WRITERS[kind](name))
    found = open_game(workspace, game)
    assert found["archives"] > 40
    assert found["members"] >= found["archives"], "at least the other member of each"


def test_two_names_that_are_one_on_other_systems(tmp_path: Path) -> None:
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w") as archive:
        for number, name in enumerate(("Boat/Sail.txt", "boat/sail.txt", "BOAT", "boat/sail.txt/deep")):
            archive.writestr(name, f"{number}")
    container = open_container("zip", {"main": BytesSource(stream.getvalue())}, "x.zip", Library())
    assert list(unpack(container, tmp_path)) == []
    written = sorted(path.read_text() for path in tmp_path.rglob("*") if path.is_file())
    assert written == ["0", "1", "2", "3"]


# ---- links


@pytest.fixture
def boats(tmp_path: Path) -> tuple[bytes, Path]:
    """An archive, and a folder outside with something precious in it."""
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w") as archive:
        archive.writestr("boat/sail.txt", "cloth")
        archive.writestr("oar.txt", "wood")
    outside = tmp_path / "outside"
    outside.mkdir()
    (outside / "sail.txt").write_text("precious")
    return stream.getvalue(), outside


@pytest.mark.parametrize("link", ["boat", "boat/sail.txt", "oar.txt"])
def test_unpacking_follows_no_link(boats: tuple[bytes, Path], tmp_path: Path, link: str) -> None:
    data, outside = boats
    out = tmp_path / "out"
    (out / link).parent.mkdir(parents=True)
    (out / link).symlink_to(outside if link == "boat" else outside / "sail.txt")
    container = open_container("zip", {"main": BytesSource(data)}, "x.zip", Library())
    with pytest.raises(LinkError, match="link"):
        list(unpack(container, out))
    assert (outside / "sail.txt").read_text() == "precious"
    assert sorted(path.name for path in outside.iterdir()) == ["sail.txt"]


@pytest.mark.parametrize("link", ["boat", "oar.txt", "more"])
def test_repacking_follows_no_link_and_says_so(boats: tuple[bytes, Path], tmp_path: Path, link: str) -> None:
    data, outside = boats
    container = open_container("zip", {"main": BytesSource(data)}, "x.zip", Library())
    out = tmp_path / "out"
    out.mkdir()
    (out / link).symlink_to(outside / "sail.txt" if link == "oar.txt" else outside)
    with pytest.raises(LinkError, match=link):
        edits_in(container, out, Library.of([LAYOUTS]))
