"""What a person names on the command line: files, members at any depth, layouts."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from brae.core import addresses
from brae.core.assets.said import check
from brae.core.containers.nesting import Opened, open_path
from brae.core.errors import FormatError, NotFoundError
from brae.core.layouts.library import Library
from brae.core.layouts.load import load
from brae.core.places import layout_folders
from brae.core.sources.cue import image_of, is_cue
from brae.demo import LAYOUTS

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from brae.core.assets.base import AssetKind, Fetch
    from brae.core.find.folder import HeldItem


def library_for(file: Path, home: Path | None) -> Library:
    """The layouts for a file: the demo's, the person's own in ``home``, those of the game that it belongs to."""
    return Library.of(layout_folders(file, LAYOUTS, home), check)


def check_file(file: Path) -> None:
    """Raise NotFoundError where there is no such file."""
    if not file.is_file():
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


def read_target(target: str, home: Path | None) -> tuple[bytes, str, Library, Fetch]:
    """The bytes of a file, or of a member at any depth, its name, and the way to what lies beside it."""
    file, labels = split_target(target)
    library = library_for(file, home)
    if not labels:

        def beside(name: str) -> bytes:
            found = [folder / name for folder in file.absolute().parents if (folder / name).is_file()]
            if not found:
                raise NotFoundError(
                    f"{name}, which holds the larger levels, does not lie beside it.", address=target
                )
            return found[0].read_bytes()

        return file.read_bytes(), file.name, library, beside
    holder = open_path(file, labels[:-1], library).container
    index = holder.index_of(labels[-1])
    if index < 0:
        raise NotFoundError(f"There is no member '{labels[-1]}'.", address=target)
    return holder.read(index), holder.names[index], library, holder.read_named


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


def kind_told(data: bytes, name: str, library: Library) -> AssetKind[Any] | None:
    """The kind of item that bytes are, by what they begin with."""
    from brae.core import catalogue
    from brae.core.assets.base import HEAD
    from brae.core.assets.registry import kinds

    size = len(data)
    item = catalogue.describe(
        data[:HEAD], library, label=name, name=name, stored=size, real=size, packer="none",
        read=lambda length: data[:length],
    )  # fmt: skip
    return kinds().get(item.kind)


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
