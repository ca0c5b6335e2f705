"""Which container a file or a member is, and opening it: described by a layout, or of an open standard."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

# Importing them registers them.
from brae.core.containers import iso9660, packed, scattered, tarred, zipped  # noqa: F401
from brae.core.containers.base import Container
from brae.core.containers.opened import standards
from brae.core.errors import BraeError, NotFoundError
from brae.core.sources import MAIN, ByteSource, BytesSource, FileSource

if TYPE_CHECKING:
    from brae.core.layouts.library import Library

#: of a file's beginning and end, what layouts are told by
HEAD = 256
#: of a member's beginning, what the fields lie in that name its other files
_HEADER = 1 << 16


def recognise(source: ByteSource, name: str, library: Library) -> str | None:
    """The layout, or the open container, that a file is told to be by its bytes (or name); None for any other.

    A layout comes before an open container, because a person wrote it for this very game.
    """
    size = min(HEAD, source.size)
    head, tail = source.read(0, size), source.read(source.size - size, size)
    layout = library.recognise(name, head, "archive", tail, source.size)
    if layout is not None:
        return layout.layout
    return standard_of(source)


def standard_of(source: ByteSource) -> str | None:
    """The open container that bytes are told to be."""
    for standard in standards().values():
        try:
            if standard.fits(source):
                return standard.name
        except BraeError:
            continue
    return None


def title(kind: str, library: Library) -> str:
    """What a container is called, for people."""
    if kind in library.layouts:
        return library.layouts[kind].title
    return standards()[kind].title if kind in standards() else kind


def open_container(
    kind: str, sources: Mapping[str, ByteSource], name: str, library: Library, known_names: Iterable[str] = ()
) -> Container:
    """Open what ``recognise`` named; ``sources`` are its files by the layout's names for them."""
    if kind in library.layouts:
        from brae.core.containers.described import open_archive

        return open_archive(library.layouts[kind], dict(sources), known_names)
    if kind not in standards():
        raise NotFoundError(f"There is no layout '{kind}'.", expected=f"one of {', '.join(library.layouts)}")
    return standards()[kind].open(sources[MAIN], name)


def recognise_file(path: Path, library: Library) -> str | None:
    """What a file on disk is told to be."""
    with FileSource(path) as source:
        return recognise(source, path.name, library)


def files_of(kind: str, path: Path, library: Library) -> dict[str, Path]:
    """The files on disk that make up a container; missing ones are left out (reading then says so)."""
    layout = library.layouts.get(kind)
    if layout is None:
        return {MAIN: path} if path.is_file() else {}
    from brae.core.layouts.library import companions

    found = companions(layout, path)
    return {name: file for name, file in found.items() if file.is_file()}


def labels_of_parts(kind: str, container: Container, index: int, library: Library) -> dict[str, str]:
    """The same for a member of a container: the labels of the members that make it up."""
    layout = library.layouts.get(kind)
    found = {MAIN: container.labels[index]}
    if layout is not None and layout.files:
        from brae.core.layouts.library import companion_names
        from brae.core.layouts.read import file_words

        labels = dict(zip(container.names, container.labels, strict=True))
        words = None
        if layout.naming:
            words = file_words(layout, BytesSource(container.read_start(index, _HEADER)))
        own = container.names[index]
        for file, name in companion_names(layout, own, labels.__contains__, words=words).items():
            if file != MAIN and name in labels:
                found[file] = labels[name]
    return found
