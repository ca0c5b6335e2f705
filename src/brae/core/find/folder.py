"""What a folder or an archive holds, at any depth, as it can be searched; nothing is written."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

from brae.core import addresses, catalogue
from brae.core.assets.base import HEAD, AssetKind, Context
from brae.core.assets.registry import kinds
from brae.core.build.journal import Seen
from brae.core.catalogue import Item
from brae.core.containers.base import Container
from brae.core.containers.nesting import open_path
from brae.core.containers.recognise import files_of, recognise_file
from brae.core.errors import BraeError, NotFoundError
from brae.core.find.gathering import ToShow
from brae.core.layouts.library import Library
from brae.core.sources import ByteSource, BytesSource, FileSource

_DEEPEST = 4
_MOST_FILES = 50_000


@dataclass(frozen=True)
class HeldItem:
    """One item: its address, what is told of it, what tells its file's state, and its bytes with what is near."""

    address: str
    item: Item
    state: Sequence[object]
    read: Callable[[], tuple[bytes, Context]]
    #: the addresses of what its archive says that it refers to
    refers: Sequence[str] = ()


def bytes_in(path: Path, library: Library, labels: Sequence[str] = ()) -> Iterator[tuple[str, ByteSource]]:
    """All bytes of a folder, a file, or a member by its ``labels``: each once, with the address of what holds them.

    A file is given as it lies on disk, and what is packed in it, at any depth, as it unpacks; what lies unpacked in
    either is no source of its own. Raises NotFoundError where there is no such member.
    """
    if labels:
        holder = open_path(path, labels[:-1], library).container
        index = holder.index_of(labels[-1])
        if index < 0:
            raise NotFoundError(f"There is no member '{labels[-1]}'.", address=addresses.join(path.name, *labels))
        yield addresses.join(addresses.quote(path.name), *labels), holder.member_source(index)
        return
    for file, name in _files(path):
        with suppress(OSError), FileSource(file) as source:
            yield addresses.quote(name), source
        for one in _of_file(file, name, library, ()):
            if one.item.packer != "none":
                with suppress(BraeError):
                    yield one.address, BytesSource(one.read()[0])


def _files(path: Path) -> Iterator[tuple[Path, str]]:
    """The files of a folder (or the file itself) with their names in it, without links and what is hidden."""
    if path.is_file():
        yield path, path.name
        return
    count = 0
    for current, folders, names in os.walk(path):
        folders[:] = sorted(name for name in folders if not name.startswith("."))
        for name in sorted(names):
            file = Path(current) / name
            if count < _MOST_FILES and not name.startswith(".") and file.is_file() and not file.is_symlink():
                count += 1
                yield file, file.relative_to(path).as_posix()


def pictured(kind: str) -> AssetKind[Any] | None:
    """The kind of that name, where its items are found by a picture."""
    known = kinds().get(kind)
    return known if known is not None and known.pictured else None


def pictures_of(items: Iterator[HeldItem], library: Library, key_of: Callable[..., str]) -> Iterator[ToShow]:
    """Those of some items that can be found by a picture; ``key_of`` makes one text of what tells a state."""
    for one in items:
        kind = pictured(one.item.kind)
        if kind is not None and one.item.container is not None:
            key = key_of(*one.state, one.address, library.versions.get(one.item.container))
            yield ToShow(one.address, key, partial(_likeness, kind, one.read))


def _likeness(kind: AssetKind[Any], read: Callable[[], tuple[bytes, Context]]) -> Any:
    return kind.likeness(kind.read(*read()))


def items_in(path: Path, library: Library, labels: Sequence[str] = ()) -> Iterator[HeldItem]:
    """What a folder, a file or an archive (or one inside it, by its ``labels``) holds.

    Files that cannot be read are passed over, as are links and what is hidden.
    """
    for file, name in _files(path):
        yield from _of_file(file, name, library, labels)


def _of_file(path: Path, name: str, library: Library, labels: Sequence[str]) -> Iterator[HeldItem]:
    try:
        kind = recognise_file(path, library)
        if kind is None:
            yield _loose(path, name, library)
            return
        container = open_path(path, labels, library, None if labels else kind).container
        # What a pair of files holds is told by both.
        state = [(str(file), Seen.at(file)) for file in files_of(kind, path, library).values()]
    except (BraeError, OSError):
        return
    yield from _inside(path, container, addresses.join(addresses.quote(name), *labels), library, state, labels)


def _loose(path: Path, name: str, library: Library) -> HeldItem:
    size = path.stat().st_size
    with FileSource(path) as source:
        item = catalogue.describe(
            source.read(0, min(HEAD, size)), library, label=addresses.quote(name), name=name, stored=size,
            real=size, packer="none", read=lambda length: source.read(0, min(length, size)),
        )  # fmt: skip

    def beside(other: str) -> bytes:
        return (path.parent / Path(other).name).read_bytes()

    return HeldItem(
        addresses.quote(name),
        item,
        [str(path), Seen.at(path)],
        lambda: (path.read_bytes(), Context(library, name, beside)),
    )


def _inside(
    path: Path,
    container: Container,
    address: str,
    library: Library,
    state: Sequence[object],
    labels: Sequence[str],
) -> Iterator[HeldItem]:
    refers = container.references_by_owner()
    for number, item in enumerate(catalogue.catalogue(container, library)):
        here = addresses.join(address, item.label)
        targets = [addresses.join(address, container.labels[target]) for target in refers.get(number, ())]
        yield HeldItem(here, item, state, partial(_read, container, number, item.name, library), targets)
        if item.kind == catalogue.ARCHIVE and len(labels) < _DEEPEST:
            inner = [*labels, item.label]
            try:
                opened = open_path(path, inner, library).container
            except (BraeError, OSError):
                continue
            yield from _inside(path, opened, here, library, state, inner)


def _read(container: Container, number: int, name: str, library: Library) -> tuple[bytes, Context]:
    said = container.said([number])[0]
    return container.read(number), Context(library, name, container.read_named, said=said)
