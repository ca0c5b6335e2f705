"""Open containers against the tools and libraries that write and read them: zipfile, tarfile, gzip, bz2, lzma."""

from __future__ import annotations

import bz2
import gzip
import io
import lzma
import subprocess
import tarfile
import zipfile
import zlib
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import lz4.frame
import pytest
import zstandard
from hypothesis import given
from hypothesis import strategies as st

from brae.core.containers.base import Container
from brae.core.containers.recognise import open_container, recognise
from brae.core.errors import BraeError, FormatError, LayoutError
from brae.core.layouts.edits import Edits, NewMember
from brae.core.layouts.library import Library
from brae.core.sources import BytesSource

Files = dict[str, bytes]
NONE = Library()


def _zip(files: Files, method: int = zipfile.ZIP_DEFLATED) -> bytes:
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w", method) as archive:
        for name, data in files.items():
            archive.writestr(name, data)
        archive.comment = b"a comment that stays"
    return stream.getvalue()


def _streamed_zip(files: Files) -> bytes:
    """Written without seeking back, so sizes stand behind the data (APPNOTE 4.3.9)."""

    class Pipe(io.RawIOBase):
        def __init__(self) -> None:
            self.data = bytearray()

        def writable(self) -> bool:
            return True

        def write(self, data: bytes) -> int:  # type: ignore[override]
            self.data += data
            return len(data)

    pipe = Pipe()
    with zipfile.ZipFile(pipe, "w", zipfile.ZIP_DEFLATED) as archive:  # type: ignore[arg-type]
        for name, data in files.items():
            archive.writestr(name, data)
    return bytes(pipe.data)


def _unzip(data: bytes) -> Files:
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        assert archive.testzip() is None
        return {name: archive.read(name) for name in archive.namelist() if not name.endswith("/")}


def _tar(files: Files, form: int = tarfile.GNU_FORMAT) -> bytes:
    stream = io.BytesIO()
    with tarfile.open(fileobj=stream, mode="w", format=form) as archive:
        for name, data in files.items():
            info = tarfile.TarInfo(name)
            info.size = len(data)
            archive.addfile(info, io.BytesIO(data))
    return stream.getvalue()


def _untar(data: bytes) -> Files:
    with tarfile.open(fileobj=io.BytesIO(data)) as archive:
        return {info.name: archive.extractfile(info).read() for info in archive if info.isreg()}  # type: ignore[union-attr]


def _named_gzip(data: bytes) -> bytes:
    stream = io.BytesIO()
    with gzip.GzipFile("reef.bin", "wb", 6, stream, mtime=77) as file:
        file.write(data)
    return stream.getvalue()


def _lone(pack: Callable[[bytes], bytes]) -> Callable[[Files], bytes]:
    return lambda files: pack(next(iter(files.values())))


def _lone_back(unpack: Callable[[bytes], bytes]) -> Callable[[bytes], Files]:
    return lambda data: {"content": unpack(data)}


@dataclass(frozen=True)
class Kind:
    """A container, and how others write and read it."""

    name: str
    write: Callable[[Files], bytes]
    read: Callable[[bytes], Files]
    lone: bool = False


KINDS = {
    "zip": Kind("zip", _zip, _unzip),
    "zip-stored": Kind("zip", lambda files: _zip(files, zipfile.ZIP_STORED), _unzip),
    "zip-bzip2": Kind("zip", lambda files: _zip(files, zipfile.ZIP_BZIP2), _unzip),
    "zip-streamed": Kind("zip", _streamed_zip, _unzip),
    "tar": Kind("tar", _tar, _untar),
    "tar-ustar": Kind("tar", lambda files: _tar(files, tarfile.USTAR_FORMAT), _untar),
    "tar-pax": Kind("tar", lambda files: _tar(files, tarfile.PAX_FORMAT), _untar),
    "gzip": Kind("gzip", _lone(_named_gzip), _lone_back(gzip.decompress), lone=True),
    "bzip2": Kind("bzip2", _lone(bz2.compress), _lone_back(bz2.decompress), lone=True),
    "xz": Kind("xz", _lone(lzma.compress), _lone_back(lzma.decompress), lone=True),
    "zstd": Kind("zstd", _lone(zstandard.compress), _lone_back(lambda data: zstandard.decompress(data)), lone=True),
    "lz4": Kind("lz4", _lone(lz4.frame.compress), _lone_back(lz4.frame.decompress), lone=True),
    "zlib": Kind("zlib", _lone(zlib.compress), _lone_back(zlib.decompress), lone=True),
}
FILES = {f"pier/plank_{k}.txt": b"tar and oakum %d " % k * (20 * k + 5) for k in range(6)} | {
    "ü/é.txt": b"salt" * 9
}
LONE = {"content": bytes(range(256)) * 3}
data_of = st.binary(max_size=400) | st.integers(1, 400).map(lambda n: b"kelp " * n)


def _open(kind: Kind, data: bytes) -> Container:
    return open_container(kind.name, {"main": BytesSource(data)}, "content.gz", NONE)


def _bytes(container: Container, edits: Edits) -> bytes:
    composed = container.rebuild(edits)
    return b"".join(composed.read("main"))


@pytest.mark.parametrize("name", KINDS)
def test_it_is_recognised_read_and_proved(name: str) -> None:
    kind = KINDS[name]
    files = LONE if kind.lone else FILES
    data = kind.write(files)
    assert recognise(BytesSource(data), "something.bin", NONE) == kind.name
    container = _open(kind, data)
    assert [container.read(index) for index in range(len(container))] == list(files.values())
    if not kind.lone:
        assert container.names == list(files)
    assert container.prove().exact
    assert _bytes(container, Edits()) == data


def test_a_gzip_header_keeps_its_name_and_time() -> None:
    data = _named_gzip(b"reef" * 100)
    container = _open(KINDS["gzip"], data)
    assert container.names == ["reef.bin"]
    new = _bytes(container, Edits({0: container.pack(0, b"rock" * 90)}))
    assert new[:19] == data[:19]
    assert gzip.decompress(new) == b"rock" * 90


@pytest.mark.parametrize("name", KINDS)
@given(data=st.data())
def test_changed_members_are_what_the_reference_reads(name: str, data: st.DataObject) -> None:
    kind = KINDS[name]
    files = LONE if kind.lone else FILES
    container = _open(kind, kind.write(files))
    chosen = data.draw(st.sets(st.integers(0, len(files) - 1), min_size=1))
    wanted = [data.draw(data_of) if index in chosen else old for index, old in enumerate(files.values())]
    edits = Edits({index: container.pack(index, wanted[index]) for index in chosen})
    made = _bytes(container, edits)
    assert list(kind.read(made).values()) == wanted
    again = _open(kind, made)
    assert again.prove().exact
    for index, change in edits.changed.items():
        if container.fits(index, len(change.stored)):
            assert container.patch({index: change}).size("main") == container.sources["main"].size


@pytest.mark.parametrize("name", [name for name, kind in KINDS.items() if not kind.lone])
def test_members_are_added_and_removed(name: str) -> None:
    kind = KINDS[name]
    container = _open(kind, kind.write(FILES))
    added = [NewMember("new/ñandú.txt", container.pack_new("new/ñandú.txt", b"shag " * 50))]
    made = kind.read(_bytes(container, Edits(added=added, removed={1, 3})))
    kept = {n: data for k, (n, data) in enumerate(FILES.items()) if k not in (1, 3)}
    assert made == kept | {"new/ñandú.txt": b"shag " * 50}


def test_a_lone_file_takes_no_second_member() -> None:
    container = _open(KINDS["bzip2"], bz2.compress(b"one" * 50))
    with pytest.raises(LayoutError, match="exactly one"):
        container.rebuild(Edits(removed={0}))


def test_what_lies_before_a_zip_stays() -> None:
    program = bytes(range(256)) * 8
    archive = program + _zip(FILES)
    container = open_container("zip", {"main": BytesSource(archive)}, "setup.exe", NONE)
    made = _bytes(container, Edits({2: container.pack(2, b"changed " * 300)}))
    assert made[: len(program)] == program
    assert _unzip(made)["pier/plank_2.txt"] == b"changed " * 300


def test_an_encrypted_member_is_named_and_the_rest_is_read(tmp_path: Path) -> None:
    data = bytearray(_zip({"a.txt": b"first" * 20, "b.txt": b"second" * 20}))
    central = data.find(b"PK\1\2")
    data[central + 8] |= 1  # APPNOTE 4.4.4, bit 0
    container = open_container("zip", {"main": BytesSource(bytes(data))}, "x.zip", NONE)
    with pytest.raises(FormatError, match="encrypted"):
        container.read(0)
    assert container.read(1) == b"second" * 20
    assert not container.prove().exact


def test_tools_read_what_was_changed(tmp_path: Path) -> None:
    """GNU tar itself, not only Python's reader."""
    container = _open(KINDS["tar"], _tar(FILES))
    (tmp_path / "new.tar").write_bytes(_bytes(container, Edits({0: container.pack(0, b"by hand " * 200)})))
    subprocess.run(["tar", "xf", tmp_path / "new.tar", "-C", tmp_path], check=True)
    assert (tmp_path / "pier" / "plank_0.txt").read_bytes() == b"by hand " * 200


@pytest.mark.parametrize("name", KINDS)
@given(data=st.data())
def test_any_damage_is_a_clear_error_or_harmless(name: str, data: st.DataObject) -> None:
    kind = KINDS[name]
    raw = bytearray(kind.write(LONE if kind.lone else FILES))
    for _ in range(data.draw(st.integers(1, 6))):
        raw[data.draw(st.integers(0, len(raw) - 1))] = data.draw(st.integers(0, 255))
    if data.draw(st.booleans()):
        del raw[data.draw(st.integers(1, len(raw) - 1)) :]
    try:
        container = _open(kind, bytes(raw))
        proof = container.prove()
        for index in range(len(container)):
            container.read_start(index, 64)
            change = container.pack(index, b"new")
            if proof.exact:
                container.rebuild({index: change})
    except BraeError as error:
        assert len(str(error)) > 10
