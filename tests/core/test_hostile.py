"""Damaged and hostile archives: every outcome is a result or one of Brae's own errors, bounded."""

from __future__ import annotations

import time
import tracemalloc
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from brae.core.assets.folders import changes_in, unpack
from brae.core.catalogue import catalogue
from brae.core.containers.nesting import open_path
from brae.core.containers.recognise import recognise_file
from brae.core.errors import BraeError, FormatError
from brae.core.layouts.library import Library
from brae.core.sources import BytesSource
from brae.demo import LAYOUTS, desktop
from tests.core.families import BY_NAME, FAMILIES, Family, members_for

LIBRARY = Library.of([LAYOUTS])
WRITTEN = {family.name: family.write(members_for(family)) for family in FAMILIES}

mutations = st.lists(
    st.tuples(
        st.integers(0, 2**20),
        st.sampled_from([b"\xff" * 4, b"\0" * 4, b"\x7f", b"\x80\0\0\0", b"\x01", b"../", b"\xff" * 8])
        | st.binary(min_size=1, max_size=9),
    ),
    min_size=1,
    max_size=5,
)


@given(st.sampled_from(FAMILIES), st.data(), mutations, st.integers(0, 400))
def test_mutated_archives(family: Family, draw: st.DataObject, changes: list[tuple[int, bytes]], cut: int) -> None:
    files = dict(WRITTEN[family.name])
    file = draw.draw(st.sampled_from(sorted(files)))
    data = bytearray(files[file])
    for place, junk in changes:
        # Half of the changes go where they hurt most: into the header and the directory.
        place %= min(len(data), 256) if place % 2 else len(data)
        data[place : place + len(junk)] = junk
    files[file] = bytes(data[: len(data) - (cut if cut > 300 else 0)])
    started = time.monotonic()
    tracemalloc.start()
    try:
        archive = family.open(files)
        proof = archive.prove()
        assert proof.exact or proof.reason
        assert len(list(catalogue(archive, LIBRARY))) == len(archive)
        for index in range(len(archive)):
            try:
                archive.read(index)
            except BraeError as error:
                assert error.address
        if proof.exact and len(archive):
            archive.rebuild({})
    except BraeError as error:
        assert error.message
    finally:
        peak = tracemalloc.get_traced_memory()[1]
        tracemalloc.stop()
    assert time.monotonic() - started < 5
    assert peak < 64 << 20


HOSTILE = [
    "../../escape.txt",
    "/absolute.txt",
    "C:\\drive.txt",
    "a\\b",
    "nul",
    "x\ny",
    "UP/Case.txt",
    "up/case.txt",
    "dot/./.",
    "file",
    "file/inside",
]


def _kist(tmp_path: Path, names: list[str]) -> Path:
    desktop.write_pair(tmp_path / "game", "odd", [(name, f"content of {name!r}".encode() * 20) for name in names])
    return tmp_path / "game" / "odd.kist"


def test_hostile_names_stay_inside_the_folder(tmp_path: Path) -> None:
    path = _kist(tmp_path, HOSTILE)
    archive = open_path(path, [], LIBRARY).container
    assert archive.prove().exact, "odd names are no reason not to rebuild"
    out = tmp_path / "deep" / "er" / "out"
    assert list(unpack(archive, out)) == []
    written = [file for file in tmp_path.rglob("*") if file.is_file() and "game" not in file.parts]
    assert len(written) == len(HOSTILE)
    assert all(out in file.parents for file in written)
    assert changes_in(archive, out, LIBRARY) == {}
    # What differs in the folder finds its member again, whatever its name.
    for index, level in enumerate(archive.labels):
        assert archive.index_of(level) == index
    victim = next(file for file in written if b"absolute" in file.read_bytes())
    victim.write_bytes(b"new")
    changes = changes_in(archive, out, LIBRARY)
    assert [archive.names[index] for index in changes] == ["/absolute.txt"]


def test_duplicate_names_are_told_apart(tmp_path: Path) -> None:
    archive = BY_NAME["flat"].open(BY_NAME["flat"].write([("same", b"1"), ("same", b"2"), ("same", b"3")]))
    assert archive.labels == ["same", "same@2", "same@3"]
    list(unpack(archive, tmp_path))
    assert sorted(file.read_bytes() for file in tmp_path.iterdir()) == [b"1", b"2", b"3"]


def test_a_stranger_in_the_folder_is_refused(tmp_path: Path) -> None:
    path = _kist(tmp_path, ["a.txt", "b.txt"])
    archive = open_path(path, [], LIBRARY).container
    out = tmp_path / "out"
    list(unpack(archive, out))
    (out / "c.txt").write_bytes(b"new")
    with pytest.raises(FormatError, match="no member"):
        changes_in(archive, out, LIBRARY)


@given(st.binary(max_size=600))
def test_any_bytes_have_a_kind(data: bytes) -> None:
    from brae.core.catalogue import describe

    item = describe(data[:512], LIBRARY, label="x", name="x", stored=len(data), real=len(data), packer="none")
    assert item.kind in ("texture", "sound", "text", "data")


def test_a_million_claimed_records_cost_nothing() -> None:
    family = BY_NAME["pair"]
    data = bytearray(WRITTEN["pair"]["main"])
    data[0:4] = (0xFFFFFFF0).to_bytes(4, "little")
    tracemalloc.start()
    with pytest.raises(BraeError):
        family.open({"main": bytes(data), "body": WRITTEN["pair"]["body"]})
    assert tracemalloc.get_traced_memory()[1] < 1 << 20
    tracemalloc.stop()


def test_sources_of_different_files_do_not_mix() -> None:
    family = BY_NAME["pair"]
    files = WRITTEN["pair"]
    archive = family.open(files)
    assert isinstance(archive.parsed.sources["body"], BytesSource)
    assert archive.parsed.describe("body", 3) == "seal"
    assert archive.parsed.describe("main", 8 + 24 + 16) == "entries[1].crc"


def test_every_family_is_recognised_as_itself(tmp_path: Path) -> None:
    library = Library()
    for family in FAMILIES:
        library.add(family.described)
    for family in FAMILIES:
        if not family.described.magic:
            continue
        path = tmp_path / f"{family.name}.arc"
        path.write_bytes(WRITTEN[family.name]["main"])
        assert recognise_file(path, library) == family.described.layout
