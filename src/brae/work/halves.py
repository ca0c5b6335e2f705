"""Textures whose larger levels lie in another item, noticed without a layout that says so, and joined as data."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import suppress
from dataclasses import dataclass, field, replace
from itertools import islice
from pathlib import Path

import numpy as np
from sqlalchemy import select

from brae.core.addresses import split, split_stretch
from brae.core.assets.base import Fetch
from brae.core.assets.texture.halves import Half, fits, halves, halves_within, placed, tells
from brae.core.assets.texture.joining import joining_layout, same_layout
from brae.core.assets.texture.stub import LARGEST_END, Stub, ends_of, stub_of
from brae.core.catalogue import DATA, PART
from brae.core.containers import scattered
from brae.core.errors import BraeError, FormatError, LayoutError, LimitError, NotFoundError
from brae.core.layouts.expressions import evaluate
from brae.core.sources import MAIN, ByteSource
from brae.store.models import ArchiveRow, Member
from brae.work.items import neighbour, original_bytes
from brae.work.opening import files_below
from brae.work.sent import ALWAYS_SENT
from brae.work.structures import keep_layout
from brae.work.workspace import Workspace

#: textures that one layout joins, and how many are looked at for that
_MOST_JOINED = 2000
#: items that are looked into, textures beside which a place in one is tried, and how sure needs no such look
_LARGER, _BESIDE, _SURE = 64, 12, 0.75
#: bytes of a packed item that is looked into
_UNPACKED = 256 << 20
#: textures that are asked where one whose own number is a nought may lie
_ASKED = 3


@dataclass
class Halves:
    """What is missing of a texture, and the items that may hold it, the likeliest first."""

    __pydantic_config__ = ALWAYS_SENT

    levels: int = 0
    missing: int = 0
    #: whether only the small size of the file and a half that fits say so
    assumed: bool = False
    halves: list[Half] = field(default_factory=list)


@dataclass
class Joined:
    """The layout that was made, and the textures that it joins with their larger levels."""

    __pydantic_config__ = ALWAYS_SENT

    layout: str
    names: list[str]


def halves_of(workspace: Workspace, project_id: str, address: str) -> Halves:
    """Where the larger levels of a texture may be; nothing where it has all that it says."""
    stubs = _stubs_of(workspace, project_id, address)[1]
    if not stubs:
        return Halves()
    fetch = _fetch(workspace, project_id, address)
    with workspace.database.session() as session:
        sizes = {stub.missing for stub in stubs}
        sizes.update(stub.header.level_size(level) for stub in stubs for level in range(stub.away))
        right = select(Member.name, Member.real).where(
            Member.project_id == project_id, Member.real.in_(sizes), Member.winner.is_(None)
        )
        others = [(row.name, row.real) for row in session.execute(right)]
    if any(stub.above for stub in stubs):  # there are many small files, and few of them are such ends
        loose = {one["path"]: int(one["size"]) for one in workspace.project(project_id).undescribed}
    else:
        loose = _undescribed(workspace, project_id)
    others += [(name, size) for name, size in loose.items() if size in sizes]
    told = [Halves(one.away, one.missing, bool(one.above), halves(one, others, fetch)) for one in stubs]
    best = max(told, key=_sure)
    if _sure(best) < _SURE:
        for one, halves_told in zip(stubs, told, strict=True):
            within = _within(workspace, project_id, address, one, loose, fetch)
            halves_told.halves = sorted([*halves_told.halves, *within], key=lambda half: -half.sure)
        best = max(told, key=_sure)
    return best if best.halves or not best.assumed else Halves()


def _within(
    workspace: Workspace, project_id: str, address: str, stub: Stub, loose: Mapping[str, int],
    fetch: Fetch,
) -> list[Half]:  # fmt: skip
    """Places in larger items that hold the larger levels of a texture, and of others that are like it."""
    larger = (
        select(Member.name, Member.real)
        .where(
            Member.project_id == project_id,
            Member.real > stub.missing,
            Member.kind.in_((DATA, PART)),
            Member.winner.is_(None),
        )
        .order_by(Member.real.desc())
        .limit(_LARGER)
    )
    with workspace.database.session() as session:
        sizes = {row.name: row.real for row in session.execute(larger)}
    sizes |= dict(sorted(loose.items(), key=lambda one: -one[1])[:_LARGER])
    found = halves_within(stub, sizes.items(), fetch)
    if not found:
        return []
    data = original_bytes(workspace, workspace.project(project_id), workspace.find(project_id, address))
    alike = (its for _, its in _same(workspace, project_id, data, stub) if tells(its))
    beside = list(islice(alike, _BESIDE))
    # One number may be right by chance, and a nought says nothing of what it counts: others tell.
    if any(evaluate(half.at, stub.numbers) == 0 for half in found):
        told = (half for its in beside[:_ASKED] for half in halves_within(its, sizes.items(), fetch))
        found += [half for one in told if (half := placed(stub, one, fetch)) is not None]
    tried = []
    for half in {(half.pattern, half.at, half.smallest_first): half for half in found}.values():
        right = sum(_lies_there(its, half, sizes, fetch) for its in beside)
        share = right / len(beside) if beside else 1.0
        why = (*half.why, f"it is so for {right} of {len(beside)} others like it") if beside else half.why
        sure = round(half.sure * (0.3 + 0.7 * share), 2)
        tried.append(replace(half, sure=sure, why=why))
    best: dict[str, Half] = {}
    for half in sorted(tried, key=lambda half: -half.sure):
        best.setdefault(half.name, half)
    return [half for half in best.values() if not stub.above or half.sure >= _SURE]


def _lies_there(stub: Stub, half: Half, sizes: Mapping[str, int], fetch: Fetch) -> bool:
    return fits(stub, half.pattern, sizes, half.at) and placed(stub, half, fetch) is not None


def _sure(found: Halves) -> float:
    return found.halves[0].sure if found.halves else 0.0


def join(
    workspace: Workspace, project_id: str, address: str, pattern: str, *, smallest_first: bool, at: str = ""
) -> Joined:
    """Keep as a layout of the person's own that the larger levels of a texture, and of all like it, are elsewhere.

    ``pattern``: how the items that hold them are called, ``at``: where in one they begin (see ``Half``). Others are
    like it where the items that are called in the same way are of the size that is missing, or show there what is
    missing. Raises FormatError or LayoutError where the two do not fit.
    """
    data, stubs = _stubs_of(workspace, project_id, address)
    if not stubs:
        raise FormatError("This texture has all the levels that it says.", address=address)
    half, sizes = Half(pattern, pattern, 1.0, smallest_first=smallest_first, at=at), _sizes(workspace, project_id)
    try:
        stub = next((one for one in stubs if fits(one, pattern, sizes, at)), None)
    except ValueError as error:
        raise FormatError(str(error), address=address) from None
    except LayoutError as error:
        raise error.at(address) from None
    if stub is None:
        wanted = ", ".join(f"{one.missing:,}" for one in stubs)
        raise FormatError(f"{pattern} is not as large as what is missing.", expected=f"{wanted} bytes")
    names = {stub.name}
    if "{" in pattern or at:
        # What lies in one archive is read from the same items.
        readers: dict[tuple[str, ...], Fetch] = {}
        for place, its in _same(workspace, project_id, data, stub):
            holder = tuple(split(place)[:-1])
            if holder not in readers:
                readers[holder] = _fetch(workspace, project_id, place)
            if _joins(workspace, project_id, place, its, half, sizes, readers[holder]):
                names.add(its.name)
    library = workspace.library_of(project_id)
    identifier = f"{stub.header.container}-joined"
    try:
        text = joining_layout(
            data, stub, library, identifier, sorted(names), pattern, smallest_first=smallest_first, at=at
        )
    except BraeError as error:
        raise error.at(address) from None
    return Joined(keep_layout(workspace, text).removesuffix(".yaml"), sorted(names))


def _joins(
    workspace: Workspace, project_id: str, address: str, stub: Stub, half: Half, sizes: Mapping[str, int],
    fetch: Fetch,
) -> bool:  # fmt: skip
    """Whether what holds the larger levels of one texture holds those of another one as well."""
    if not fits(stub, half.pattern, sizes, half.at):
        return False
    if not half.at:
        return not stub.above or _shows(workspace, project_id, address)
    return not tells(stub) or placed(stub, half, fetch) is not None


def _stubs_of(workspace: Workspace, project_id: str, address: str) -> tuple[bytes, list[Stub]]:
    """A texture's bytes, and what it lacks; several where its header says nothing of that."""
    project, found = workspace.project(project_id), workspace.find(project_id, address)
    if found.member.kind != "texture":
        raise NotFoundError("This is no texture.", address=address)
    library = workspace.project_library(project)
    data = original_bytes(workspace, project, found, library)
    stub = stub_of(data, found.member.name, library)
    return data, [stub] if stub is not None else ends_of(data, found.member.name, library)


def _stubs(workspace: Workspace, project_id: str, above: int) -> Iterator[tuple[str, bytes, Stub]]:
    """The textures of a game that lack their larger levels, or may be the small end of as many more; what cannot be
    read is passed over."""
    held = workspace.catalogues.of(project_id)
    kinds, codes = held.texts("kind")
    small = np.isin(codes, [kinds.index("texture")]) & (held.numbers("bytes") <= LARGEST_END)
    places = np.flatnonzero(small if above else held.numbers("beyond") > 0)[:_MOST_JOINED].tolist()
    for place in places:
        try:
            data, stubs = _stubs_of(workspace, project_id, held.addresses[place])
        except BraeError:
            continue
        yield from ((held.addresses[place], data, stub) for stub in stubs if stub.above == above)


def _same(workspace: Workspace, project_id: str, data: bytes, stub: Stub) -> Iterator[tuple[str, Stub]]:
    """The addresses of other textures that one layout would read as well, and what they are."""
    for address, its_data, its in _stubs(workspace, project_id, stub.above):
        alike = its.name != stub.name and its.numbers.keys() == stub.numbers.keys()
        if alike and same_layout(data, stub.header, its_data, its.header):
            yield address, its


def _fetch(workspace: Workspace, project_id: str, address: str) -> Fetch:
    """The bytes of other items, and of loose files that nobody has described, as a texture would read them.

    Where many stretches of one packed item are asked for, it is unpacked once.
    """
    project, here = workspace.project(project_id), workspace.find(project_id, address)
    sources: dict[str, ByteSource] = {}

    def source_of(item: str) -> ByteSource:
        try:
            found = neighbour(workspace, here, item)
        except NotFoundError:
            return workspace.original_source(project, item)
        if found.archive.layout is None:
            return workspace.original_source(project, found.archive.files[MAIN])
        archive = workspace.archive(project, found.archive)
        number = workspace.number_of(archive, found)
        if not archive.is_plain(number) and found.member.real > _UNPACKED:
            raise LimitError(f"{item} is packed, and too large to be looked into.")
        return archive.member_source(number)

    def fetch(name: str) -> bytes:
        item, start, length = split_stretch(name)
        if item not in sources:
            sources[item] = source_of(item)
        return sources[item].read(start or 0, sources[item].size if start is None else length)

    return fetch


def _shows(workspace: Workspace, project_id: str, address: str) -> bool:
    """Whether a half of it is sure by more than its size and its name."""
    return bool(halves_of(workspace, project_id, address).halves)


def _sizes(workspace: Workspace, project_id: str) -> dict[str, int]:
    query = select(Member.name, Member.real).where(Member.project_id == project_id, Member.winner.is_(None))
    with workspace.database.session() as session:
        return _undescribed(workspace, project_id) | {row.name: row.real for row in session.execute(query)}


def _undescribed(workspace: Workspace, project_id: str) -> dict[str, int]:
    """Loose files of the game that nothing is known of, and their sizes."""
    folder = Path(workspace.project(project_id).folder)
    described = select(ArchiveRow.files).where(
        ArchiveRow.project_id == project_id, ArchiveRow.layout.is_distinct_from(scattered.KIND)
    )
    with workspace.database.session() as session:
        known = {path for files in session.scalars(described) for path in files.values()}
    found: dict[str, int] = {}
    for path in files_below(folder):
        name = path.relative_to(folder).as_posix()
        if name not in known:
            with suppress(OSError):  # gone meanwhile
                found[name] = path.stat().st_size
    return found
