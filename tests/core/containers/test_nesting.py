"""Archives inside archives, in any mixture: read through all levels, changed from the innermost outwards."""

from __future__ import annotations

import gzip
import io
import tarfile
import tempfile
import zipfile
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from brae.core.containers.nesting import Opened, open_path
from brae.core.containers.recognise import files_of
from brae.core.errors import NotFoundError, UnknownFormatError
from brae.core.layouts.library import Library
from brae.core.layouts.segments import Copy, New
from brae.demo import LAYOUTS, desktop
from tests.core.containers.discs import iso_image, raw_image
from tests.core.families import BY_NAME

#: families whose files are told by their beginning
DESCRIBED = ["flat", "tail"]
LIBRARY = Library.of([LAYOUTS])
for _name in DESCRIBED:
    LIBRARY.add(BY_NAME[_name].described)

Files = dict[str, bytes]


def _zip(method: int) -> Callable[[Files], Files]:
    def write(files: Files) -> Files:
        stream = io.BytesIO()
        with zipfile.ZipFile(stream, "w", method) as archive:
            for name, data in files.items():
                archive.writestr(name, data)
        return {"level.zip": stream.getvalue()}

    return write


def _tar(files: Files) -> Files:
    stream = io.BytesIO()
    with tarfile.open(fileobj=stream, mode="w") as archive:
        for name, data in files.items():
            info = tarfile.TarInfo(name)
            info.size = len(data)
            archive.addfile(info, io.BytesIO(data))
    return {"level.tar": stream.getvalue()}


def _kist(files: Files) -> Files:
    """An index and a data file, which lie beside each other as two members."""
    with tempfile.TemporaryDirectory() as name:
        desktop.write_pair(Path(name), "level", sorted(files.items()))
        return {file.name: file.read_bytes() for file in Path(name).iterdir()}


def _described(name: str) -> Callable[[Files], Files]:
    return lambda files: {"level.arc": BY_NAME[name].write(sorted(files.items()))["main"]}


WRITERS = {
    "zip stored": _zip(zipfile.ZIP_STORED),
    "zip": _zip(zipfile.ZIP_DEFLATED),
    "tar": _tar,
    "kist": _kist,
    **{name: _described(name) for name in DESCRIBED},
}
MAIN = {"zip stored": "level.zip", "zip": "level.zip", "tar": "level.tar", "kist": "level.kist"}
MAIN |= dict.fromkeys(DESCRIBED, "level.arc")
SIBLING = {"other.txt": b"what lies beside it stays " * 20}


def _stack(folder: Path, kinds: list[str], core: bytes) -> tuple[Path, list[str]]:
    """Containers inside each other, the last one innermost; returns the file and the levels inside it."""
    files: Files = {"core.bin": core}
    levels: list[str] = []
    for kind in reversed(kinds):
        files = WRITERS[kind](files | SIBLING)
        levels.insert(0, MAIN[kind])
    for name, data in files.items():
        (folder / name).write_bytes(data)
    return folder / levels[0], levels[1:]


def _write(opened: Opened, new: bytes, path: Path) -> None:
    archive = opened.container
    index = archive.index_of("core.bin")
    composed = opened.outwards(archive.rebuild({index: archive.pack(index, new)}))
    for file, target in files_of(opened.outermost.kind, path, LIBRARY).items():
        target.write_bytes(b"".join(composed.read(file)))


def _check(opened: Opened | None, core: bytes) -> None:
    assert opened is not None
    archive = opened.container
    assert archive.read(archive.index_of("core.bin")) == core
    at: Opened | None = opened
    while at is not None:
        assert at.container.prove().exact
        assert at.container.read(at.container.index_of("other.txt")) == SIBLING["other.txt"]
        at = at.holder


@given(data=st.data())
def test_a_change_at_any_depth_is_carried_outwards(
    data: st.DataObject, tmp_path_factory: pytest.TempPathFactory
) -> None:
    folder = tmp_path_factory.mktemp("depth")
    kinds = data.draw(st.lists(st.sampled_from(list(WRITERS)), min_size=1, max_size=4))
    old = data.draw(st.binary(min_size=1, max_size=300))
    new = data.draw(st.binary(min_size=1, max_size=300) | st.just(old[::-1]))
    path, levels = _stack(folder, kinds, old)
    opened = open_path(path, levels, LIBRARY)
    _check(opened, old)
    _write(opened, new, path)
    _check(open_path(path, levels, LIBRARY), new)


def test_what_lies_unpacked_at_depth_is_copied_not_read(tmp_path: Path) -> None:
    """A change in a pack in a volume on a raw disc writes the sectors concerned, whatever lies around them."""
    inner = WRITERS["flat"]({"core.bin": b"old " * 40} | SIBLING)
    volume = WRITERS["kist"]({"bow.arc": inner["level.arc"], "film.bin": bytes(range(256)) * 4000})
    source = tmp_path / "source"
    source.mkdir()
    for name, data in volume.items():
        (source / name).write_bytes(data)
    raw = raw_image(iso_image(source, tmp_path / "a.iso", "-J"))
    (tmp_path / "disc.bin").write_bytes(raw)
    main = "level.kist"
    opened = open_path(tmp_path / "disc.bin", [main, "bow.arc"], LIBRARY)
    archive = opened.container
    index = archive.index_of("core.bin")
    composed = opened.outwards(archive.patch({index: archive.pack(index, b"new " * 40)}))
    written = composed.moved("main")
    assert 0 < written <= 8 * 2352
    assert sum(s.length for s in composed.segments["main"] if isinstance(s, Copy)) == len(raw) - written
    assert not [s for s in composed.segments["main"] if isinstance(s, New) and s.length > 2352]
    made = b"".join(composed.read("main"))
    (tmp_path / "disc.bin").write_bytes(made)
    again = open_path(tmp_path / "disc.bin", [main, "bow.arc"], LIBRARY).container
    assert again.read(again.index_of("core.bin")) == b"new " * 40


def test_a_compressed_level_is_packed_again_as_it_was(tmp_path: Path) -> None:
    tar = WRITERS["tar"]({"core.bin": b"old"} | SIBLING)["level.tar"]
    (tmp_path / "x.tar.gz").write_bytes(gzip.compress(tar, 9, mtime=0))
    opened = open_path(tmp_path / "x.tar.gz", ["x.tar"], LIBRARY)
    index = opened.container.index_of("core.bin")
    composed = opened.outwards(opened.container.rebuild({index: opened.container.pack(index, b"new" * 200)}))
    with tarfile.open(fileobj=io.BytesIO(b"".join(composed.read("main"))), mode="r:gz") as archive:
        assert archive.extractfile("core.bin").read() == b"new" * 200  # type: ignore[union-attr]


def test_a_wrong_level_is_named(tmp_path: Path) -> None:
    path, _ = _stack(tmp_path, ["zip", "tar"], b"core")
    with pytest.raises(NotFoundError, match="no member 'elsewhere'"):
        open_path(path, ["elsewhere"], LIBRARY)
    with pytest.raises(UnknownFormatError, match="other.txt"):
        open_path(path, ["other.txt"], LIBRARY)
