"""An archive as a folder of files, and a folder's differences as changes to the archive."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from brae.core import addresses
from brae.core.addresses import safe_path, short_path
from brae.core.assets.base import HEAD, Context, Encoded, ExchangeFile, Head, Version
from brae.core.assets.registry import kinds, suffixes
from brae.core.containers.base import Container
from brae.core.errors import BraeError, FormatError, storage_error
from brae.core.layouts.edits import Edits, MemberChange, NewMember
from brae.core.layouts.library import Library
from brae.core.sources.stretches import Stretches

#: members unpacked by one thread before it takes others
_BATCH = 64
_NEW_FILE = os.O_WRONLY | os.O_CREAT | os.O_TRUNC | getattr(os, "O_BINARY", 0) | getattr(os, "O_NOFOLLOW", 0)


def member_paths(levels: Sequence[str]) -> list[str]:
    """One relative path for each member, in order, that any file system can hold.

    Paths that differ only in letter case, or where one is a folder of another, get a ``~`` and a number.
    """
    paths = [short_path(safe_path(level)) for level in levels]
    folders = {path[:place].casefold() for path in paths for place, char in enumerate(path) if char == "/"}
    taken: set[str] = set()
    for index, path in enumerate(paths):
        candidate, number = path, 1
        while candidate.casefold() in taken or candidate.casefold() in folders:
            number += 1
            candidate = f"{path}~{number}"
        taken.add(candidate.casefold())
        paths[index] = candidate
    return paths


class LinkError(BraeError):
    """A link stands where a file or a folder is expected; it could lead anywhere, so it is not followed."""

    code = "link"


def check_link(path: Path) -> None:
    """Raise LinkError where a path is a link."""
    if path.is_symlink():
        raise LinkError("This is a link, and links are not followed.", address=str(path), remedy="Take it away.")


def unpack(archive: Container, folder: Path, tick: Callable[[], None] | None = None) -> Iterator[BraeError]:
    """Write every member, unpacked, below ``folder``; members that cannot be read are yielded as errors.

    Raises StorageError where the folder cannot be written, LinkError where a link stands in the way: it is not
    followed. Unpacking and writing run on all cores.
    """
    paths = member_paths(archive.labels)
    root = str(folder)
    try:
        for parent in sorted({path.rpartition("/")[0] for path in paths}):
            (folder / parent).mkdir(parents=True, exist_ok=True)
        for above in {up for path in paths for up in Path(path).parents if up != Path()}:
            check_link(folder / above)
    except OSError as error:
        raise storage_error(error, "make folders in", folder) from error

    def write(indices: range) -> list[BraeError]:
        faults = []
        for index in indices:
            try:
                data = archive.read(index)
            except BraeError as error:
                faults.append(error)
                continue
            target = f"{root}/{paths[index]}"
            check_link(Path(target))
            try:
                descriptor = os.open(target, _NEW_FILE, 0o666)
                try:
                    written = os.write(descriptor, data)
                    while written < len(data):
                        written += os.write(descriptor, data[written:])
                finally:
                    os.close(descriptor)
            except OSError as error:
                raise storage_error(error, "write", target) from error
        return faults

    batches = [range(start, min(start + _BATCH, len(archive))) for start in range(0, len(archive), _BATCH)]
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        for batch, faults in zip(batches, pool.map(write, batches), strict=True):
            yield from faults
            for _ in batch if tick else ():
                tick()  # type: ignore[misc]


def edits_in(
    archive: Container,
    folder: Path,
    library: Library,
    tick: Callable[[], None] | None = None,
    *,
    add: bool = False,
    remove: bool = False,
) -> Edits:
    """What differs in a folder that was unpacked from the archive.

    A file ``NAME.png`` beside or instead of a texture member ``NAME``, or one as another kind goes out, is encoded
    like the original. Files that are no members are an error unless ``add`` makes members of them; members without
    a file stay as they are unless ``remove`` takes them out.
    """
    paths = member_paths(archive.labels)
    known = {path: index for index, path in enumerate(paths)}
    edits = Edits()
    seen: set[int] = set()
    changed: list[tuple[int, bytes]] = []
    stretches: dict[int, Stretches] = {}
    found = sorted(folder.rglob("*"))
    for file in found:
        check_link(file)
    for file in (path for path in found if path.is_file()):
        relative = file.relative_to(folder).as_posix()
        index = known.get(relative)
        edited = index is None and file.suffix.lower() in suffixes()
        if edited:
            index = known.get(relative[: -len(file.suffix)])
        if index is None and not add:
            raise FormatError(
                "This file is no member of the archive.",
                address=relative,
                remedy="Take it out of the folder, correct its name (letter case counts), or add it with --add.",
            )
        try:
            data = file.read_bytes()
        except OSError as error:
            raise storage_error(error, "read", file) from error
        if index is None:
            name = addresses.unquote(relative)
            edits.added.append(NewMember(name, archive.pack_new(name, data)))
            continue
        seen.add(index)
        if edited:
            made = _encoded(archive, index, library, ExchangeFile(relative, data))
            data = made.data
            for name, part in made.elsewhere.items():
                item, start, _ = addresses.split_stretch(name)
                place = archive.names.index(item)
                if start is not None:
                    stretches.setdefault(place, Stretches()).put(start, part, relative)
                elif part != archive.read(place):
                    changed.append((place, part))
        if len(data) != int(archive.real_sizes[index]) or data != archive.read(index):
            changed.append((index, data))
        if tick:
            tick()

    for place, some in stretches.items():
        before = archive.read(place)
        after = some.over(dict(changed).get(place, before))
        if after != before:
            changed.append((place, after))

    def pack(item: tuple[int, bytes]) -> tuple[int, MemberChange]:
        index, data = item
        return index, archive.pack(index, data, archive.packing_level(index))

    # Packers release the interpreter's lock, so all cores pack.
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        edits.changed = dict(pool.map(pack, changed))
    if remove:
        edits.removed = set(range(len(archive))) - seen
    return edits


def new_members(folder: Path) -> Iterator[tuple[str, bytes]]:
    """Every file of a folder as a member: its path as its name, and its bytes; in the order of their paths."""
    found = sorted(folder.rglob("*"))
    for file in found:
        check_link(file)
    for file in (path for path in found if path.is_file()):
        try:
            data = file.read_bytes()
        except OSError as error:
            raise storage_error(error, "read", file) from error
        yield addresses.unquote(file.relative_to(folder).as_posix()), data


def _encoded(archive: Container, index: int, library: Library, file: ExchangeFile) -> Encoded:
    """A file encoded like the member that it was made from."""
    data, name, said = archive.read(index), archive.names[index], archive.said([index])[0]
    head = Head(data[:HEAD], name, len(data), said)
    for kind in kinds().values():
        own = said.get("kind") == kind.id if said else kind.sniff([head], library)[0] is not None
        if file.suffix in kind.suffixes() and own:
            original = kind.read(data, Context(library, name, archive.read_named, said=said))
            return kind.match(original, Version(file), kind.recipe(original).model_dump())[1]
    raise FormatError(
        f"The member is nothing that a {file.suffix} file is made into.",
        address=file.name,
        remedy="Take the file out of the folder, or give it the member's own name.",
    )


def changes_in(
    archive: Container, folder: Path, library: Library, tick: Callable[[], None] | None = None
) -> dict[int, MemberChange]:
    """The members that differ in a folder; files that are no members are an error."""
    return edits_in(archive, folder, library, tick).changed
