"""Textures whose larger levels lie in another item, noticed without a layout that says so, and joined as data."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np
from sqlalchemy import select

from brae.core.assets.texture.halves import (
    LARGEST_END,
    Half,
    Stub,
    ends_of,
    fits,
    halves,
    joining_layout,
    same_layout,
    stub_of,
)
from brae.core.errors import BraeError, FormatError, NotFoundError
from brae.store.models import Member
from brae.work.items import context_of, original_bytes
from brae.work.sent import ALWAYS_SENT
from brae.work.structures import keep_layout
from brae.work.workspace import Workspace

#: textures that one layout joins, and how many are looked at for that
_MOST_JOINED = 2000


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
    project, found = workspace.project(project_id), workspace.find(project_id, address)
    context = context_of(workspace, project, found, workspace.project_library(project))
    with workspace.database.session() as session:
        sizes = {stub.missing for stub in stubs}
        sizes.update(stub.header.level_size(level) for stub in stubs for level in range(stub.away))
        right = select(Member.name, Member.real).where(
            Member.project_id == project_id, Member.real.in_(sizes), Member.winner.is_(None)
        )
        others = [(row.name, row.real) for row in session.execute(right)]
    told = [Halves(one.away, one.missing, bool(one.above), halves(one, others, context.fetch)) for one in stubs]
    best = max(told, key=_sure)
    return best if best.halves or not best.assumed else Halves()


def _sure(found: Halves) -> float:
    return found.halves[0].sure if found.halves else 0.0


def join(workspace: Workspace, project_id: str, address: str, pattern: str, *, smallest_first: bool) -> Joined:
    """Keep as a layout of the person's own that the larger levels of a texture, and of all like it, are elsewhere.

    ``pattern``: how the items that hold them are called (see ``Half``). Others are like it where the items that are
    called in the same way are of the size that is missing. Raises
    FormatError where the two do not fit.
    """
    data, stubs = _stubs_of(workspace, project_id, address)
    if not stubs:
        raise FormatError("This texture has all the levels that it says.", address=address)
    sizes = _sizes(workspace, project_id)
    try:
        stub = next((one for one in stubs if fits(one, pattern, sizes)), None)
    except ValueError as error:
        raise FormatError(str(error), address=address) from None
    if stub is None:
        wanted = ", ".join(f"{one.missing:,}" for one in stubs)
        raise FormatError(f"{pattern} is not as large as what is missing.", expected=f"{wanted} bytes")
    names = [stub.name]
    if "{" in pattern:
        for its_address, like, its in _stubs(workspace, project_id, stub.above):
            alike = its.name not in names and same_layout(data, stub.header, like, its.header)
            if (
                alike
                and fits(its, pattern, sizes)
                and (not its.above or _shows(workspace, project_id, its_address))
            ):
                names.append(its.name)
    library = workspace.library_of(project_id)
    identifier = f"{stub.header.container}-joined"
    try:
        text = joining_layout(
            data, stub, library, identifier, sorted(names), pattern, smallest_first=smallest_first
        )
    except BraeError as error:
        raise error.at(address) from None
    return Joined(keep_layout(workspace, text).removesuffix(".yaml"), sorted(names))


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


def _shows(workspace: Workspace, project_id: str, address: str) -> bool:
    """Whether a half of it is sure by more than its size and its name."""
    return bool(halves_of(workspace, project_id, address).halves)


def _sizes(workspace: Workspace, project_id: str) -> dict[str, int]:
    query = select(Member.name, Member.real).where(Member.project_id == project_id, Member.winner.is_(None))
    with workspace.database.session() as session:
        return {row.name: row.real for row in session.execute(query)}
