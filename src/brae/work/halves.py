"""Textures whose larger levels lie in another item, noticed without a layout that says so, and joined as data."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np
from sqlalchemy import select

from brae.core.assets.texture.halves import Half, Stub, fits, halves, joining_layout, same_layout, stub_of
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
    halves: list[Half] = field(default_factory=list)


@dataclass
class Joined:
    """The layout that was made, and the textures that it joins with their larger levels."""

    __pydantic_config__ = ALWAYS_SENT

    layout: str
    names: list[str]


def halves_of(workspace: Workspace, project_id: str, address: str) -> Halves:
    """Where the larger levels of a texture may be; nothing where it has all that it says."""
    _, stub = _stub(workspace, project_id, address)
    if stub is None:
        return Halves()
    project, found = workspace.project(project_id), workspace.find(project_id, address)
    context = context_of(workspace, project, found, workspace.project_library(project))
    with workspace.database.session() as session:
        sizes = {stub.missing, *(stub.header.level_size(level) for level in range(stub.away))}
        right = select(Member.name, Member.real).where(
            Member.project_id == project_id, Member.real.in_(sizes), Member.winner.is_(None)
        )
        others = [(row.name, row.real) for row in session.execute(right)]
    return Halves(stub.away, stub.missing, halves(stub, others, context.fetch))


def join(workspace: Workspace, project_id: str, address: str, pattern: str, *, smallest_first: bool) -> Joined:
    """Keep as a layout of the person's own that the larger levels of a texture, and of all like it, are elsewhere.

    ``pattern``: how the items that hold them are called (see ``Half``). Others are like it where the items that are
    called in the same way are of the size that is missing. Raises
    FormatError where the two do not fit.
    """
    data, stub = _stub(workspace, project_id, address)
    if stub is None:
        raise FormatError("This texture has all the levels that it says.", address=address)
    sizes = _sizes(workspace, project_id)
    try:
        right = fits(stub, pattern, sizes)
    except ValueError as error:
        raise FormatError(str(error), address=address) from None
    if not right:
        raise FormatError(f"{pattern} is not as large as what is missing.", expected=f"{stub.missing:,} bytes")
    names = [stub.name]
    if "{" in pattern:
        for like, its in _stubs(workspace, project_id):
            alike = its.name not in names and same_layout(data, stub.header, like, its.header)
            if alike and fits(its, pattern, sizes):
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


def _stub(workspace: Workspace, project_id: str, address: str) -> tuple[bytes, Stub | None]:
    project, found = workspace.project(project_id), workspace.find(project_id, address)
    if found.member.kind != "texture":
        raise NotFoundError("This is no texture.", address=address)
    library = workspace.project_library(project)
    data = original_bytes(workspace, project, found, library)
    return data, stub_of(data, found.member.name, library)


def _stubs(workspace: Workspace, project_id: str) -> Iterator[tuple[bytes, Stub]]:
    """The textures of a game that lack their larger levels; what cannot be read is passed over."""
    held = workspace.catalogues.of(project_id)
    places = np.flatnonzero(held.numbers("beyond") > 0)[:_MOST_JOINED].tolist()
    for place in places:
        try:
            data, stub = _stub(workspace, project_id, held.addresses[place])
        except BraeError:
            continue
        if stub is not None:
            yield data, stub


def _sizes(workspace: Workspace, project_id: str) -> dict[str, int]:
    query = select(Member.name, Member.real).where(Member.project_id == project_id, Member.winner.is_(None))
    with workspace.database.session() as session:
        return {row.name: row.real for row in session.execute(query)}
