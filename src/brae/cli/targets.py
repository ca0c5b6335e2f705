"""What a person names on the command line: files, members at any depth, layouts."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

from brae.core import addresses
from brae.core.assets.said import check
from brae.core.containers.nesting import Opened, open_path
from brae.core.errors import FormatError, NotFoundError, ReadOnlyError
from brae.core.layouts.library import Library
from brae.core.layouts.load import load
from brae.core.places import layout_folders
from brae.core.sources import FileSource
from brae.core.sources.cue import image_of, is_cue
from brae.demo import LAYOUTS

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from brae.core.assets.base import AssetKind, Context
    from brae.core.catalogue import Item
    from brae.core.containers.base import Container
    from brae.core.find.folder import HeldItem
    from brae.core.layouts.segments import Composed


def library_for(file: Path, home: Path | None) -> Library:
    """The layouts for a file: the demo's, the person's own in ``home``, those of the game that it belongs to."""
    return Library.of(layout_folders(file, LAYOUTS, home), check)


def check_file(file: Path) -> None:
    """Raise NotFoundError where there is no such file."""
    if not file.is_file():
        if file.is_dir():
            raise NotFoundError(
                f"{file} is a folder.", remedy="Name a file in it, or a project that was opened from it."
            )
        raise NotFoundError(f"There is no file {file}.", remedy="Check the spelling.")


def names_project(target: str) -> bool:
    """Whether an argument names a project: there is no such file or folder, and it is nothing inside one."""
    return not Path(target).exists() and "//" not in target


def split_target(target: str) -> tuple[Path, list[str]]:
    """The file of an address, and the labels inside it; NotFoundError where there is no such file."""
    whole, *labels = [target] if Path(target).is_file() else addresses.split(target)
    file = Path(whole)
    check_file(file)
    return image_of(file) if is_cue(file) else file, labels


def kind_of(layout: str | None, library: Library) -> str | None:
    """The layout that was named; a layout file is made known first."""
    if layout is None:
        return None
    if layout.endswith((".yaml", ".yml")):
        found = load(Path(layout), check)
        library.add(found)
        library.folders.append(Path(layout).parent)  # the list of names that goes with it lies beside it
        return found.layout
    return library.get(layout).layout


def open_target(target: str, layout: str | None, home: Path | None) -> tuple[Opened, Library]:
    """An archive, or one inside others, opened."""
    file, labels = split_target(target)
    library = library_for(file, home)
    return open_path(file, labels, library, kind_of(layout, library)), library


@dataclass(frozen=True)
class Target:
    """A file, or a member at any depth: its bytes, and what reading them may ask for."""

    data: bytes
    context: Context
    #: the archive that was named itself, and of which this is the only member
    lone_in: Opened | None = None

    @cached_property
    def item(self) -> Item:
        """What is told of it: by what its archive's records say, else by what it begins with."""
        from brae.core import catalogue
        from brae.core.assets.base import HEAD

        name, size, said = self.context.name, len(self.data), self.context.said
        return catalogue.describe(
            self.data[:HEAD], self.context.library, label=name, name=name, stored=size, real=size, packer="none",
            read=lambda length: self.data[:length], said=said,
        )  # fmt: skip

    @property
    def kind(self) -> AssetKind[Any] | None:
        """The kind of item that it is."""
        from brae.core.assets.registry import kinds

        return kinds().get(self.item.kind)

    def with_member(self, data: bytes) -> Composed | None:
        """The archive that was named, with other bytes for its only member; None where no archive was."""
        if self.lone_in is None:
            return None
        archive = self.lone_in.container
        proof = archive.prove()
        if not proof.exact:
            raise ReadOnlyError(f"This archive cannot be rebuilt: {proof.reason}", offset=proof.offset)
        change = archive.pack(0, data, archive.packing_level(0))
        return self.lone_in.outwards(archive.rebuild({0: change}))


def read_target(target: str, home: Path | None, *, into: bool = True) -> Target:
    """The bytes of a file, or of a member at any depth.

    ``into``: an archive of one member, such as a sound or a texture behind a header of its own, is that member.
    """
    from brae.core.assets.base import Context
    from brae.core.containers.recognise import recognise_file

    file, labels = split_target(target)
    library = library_for(file, home)
    if labels:
        holder = open_path(file, labels[:-1], library).container
        index = holder.index_of(labels[-1])
        if index < 0:
            raise NotFoundError(f"There is no member '{labels[-1]}'.", address=target)
        return Target(holder.read(index), _context(holder, index, library))
    if into and recognise_file(file, library) is not None:
        opened = open_path(file, [], library)
        archive = opened.container
        if len(archive) == 1:
            return Target(archive.read(0), _context(archive, 0, library), opened)
        raise FormatError(
            f"This is an archive of {len(archive):,} members.",
            address=target,
            remedy=f"Name one of them, such as {target}//{archive.labels[0]}." if len(archive) else "",
        )

    def beside(name: str) -> bytes:
        item, start, length = addresses.split_stretch(name)
        found = [folder / item for folder in file.absolute().parents if (folder / item).is_file()]
        if not found:
            raise NotFoundError(f"{item}, which holds the larger levels, does not lie beside it.", address=target)
        return found[0].read_bytes() if start is None else FileSource(found[0]).read(start, length)

    return Target(file.read_bytes(), Context(library, file.name, beside))


def _context(archive: Container, index: int, library: Library) -> Context:
    from brae.core.assets.base import Context

    said = archive.said([index])[0]
    return Context(library, archive.names[index], archive.read_named, said=said)


def place_of(target: str, home: Path | None) -> tuple[Path, list[str], Library]:
    """A folder or a file, the labels inside it, and the layouts that are known for it."""
    folder = Path(target)
    if folder.is_dir():
        return folder, [], library_for(folder / "any", home)
    place, labels = split_target(target)
    return place, labels, library_for(place, home)


def held_in(target: str, home: Path | None) -> Iterator[HeldItem]:
    """The items of a folder, a file or an archive; or the one item that a target names."""
    from brae.core.find.folder import items_in

    place, labels, library = place_of(target, home)
    found = False
    for one in items_in(place, library, labels):
        found = True
        yield one
    if labels and not found:
        wanted = addresses.join(addresses.quote(place.name), *labels)
        yield from (one for one in items_in(place, library, labels[:-1]) if one.address == wanted)


def pictures_in(targets: Sequence[str], home: Path | None, out: Path | None) -> list[tuple[HeldItem, str]]:
    """The items with a picture in files, folders and archives, each with a path for what is made of it.

    Raises NotFoundError where there is none, and FormatError where what is written below ``out`` would take the
    place of one of them: originals are only read.
    """
    from brae.core.assets.folders import member_paths
    from brae.core.assets.registry import kinds

    known = kinds()
    found = [
        one
        for target in targets
        for one in held_in(target, home)
        if one.item.kind in known and known[one.item.kind].pictured and one.item.fault is None
    ]
    if not found:
        raise NotFoundError("There is no picture among these files.")
    paths = member_paths(["/".join(addresses.split(one.address)) for one in found])
    for target in map(Path, targets if out is not None else ()):
        folder, where = (target if target.is_dir() else target.parent).resolve(), (out or Path()).resolve()
        # Above or within a folder that is read, other files of the game would be in the way.
        if where == folder or (target.is_dir() and (folder in where.parents or where in folder.parents)):
            raise FormatError(
                f"{out} lies among the originals, and some of them would be written over.",
                remedy="Name a folder apart from them with --out or --remap.",
            )
    return list(zip(found, paths, strict=True))
