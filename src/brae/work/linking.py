"""What the items of a project need of each other, and the lines in which words stand."""

from __future__ import annotations

from collections.abc import Callable, Container, Iterable, Iterator
from functools import partial
from itertools import chain
from typing import Any

import numpy as np
from sqlalchemy import select

from brae.core import addresses
from brae.core.assets.base import Context
from brae.core.errors import BraeError
from brae.core.find.graph import Line, Lines, Linked, lines_with, links_of, said_by
from brae.core.find.links import Links
from brae.jobs import Silent, Ticker
from brae.store.models import ArchiveRow, Member
from brae.work.columns import MISSING, TEXT, UNUSED, USES, YES, Columns, Search, Told
from brae.work.items import context_of, original_bytes
from brae.work.workspace import Workspace

#: characters of a project's texts that are kept in memory, to search them while somebody types
_MOST_SAID = 64 << 20


def links(workspace: Workspace, project_id: str, ticker: Ticker | None = None) -> Links:
    """The links of a project's originals; worked out once, until the game is listed otherwise."""
    ticker = ticker or Silent()
    with workspace.linking:
        state = _state(workspace, project_id)
        if workspace.linked is not None and workspace.linked[0] == state:
            found: Links = workspace.linked[1]
            return found
        items = linked(workspace, project_id)
        ticker.begin(len(items), "items")
        made = links_of(items, ticker.tick)
        workspace.linked = (state, made)
        return made


def _state(workspace: Workspace, project_id: str) -> tuple[Any, ...]:
    project = workspace.project(project_id)
    return (
        project_id,
        project.listing,
        project.opened,
        *sorted(workspace.project_library(project).versions.items()),
    )


def linked(workspace: Workspace, project_id: str) -> list[Linked]:
    """The items of a project as they may be linked."""
    query = select(Member.address, Member.name, Member.kind).where(Member.project_id == project_id)
    with workspace.database.session() as session:
        rows = session.execute(query.order_by(Member.id)).all()
    refers = _references(workspace, project_id)
    return [
        Linked(row.address, row.name, row.kind, partial(_read, workspace, project_id, row.address),
               refers.get(row.address, ()))
        for row in rows
    ]  # fmt: skip


def _references(workspace: Workspace, project_id: str) -> dict[str, list[str]]:
    """What the archives of a project say that their members refer to, by address."""
    project = workspace.project(project_id)
    library = workspace.project_library(project)
    with workspace.database.session() as session:
        rows = list(session.scalars(select(ArchiveRow).where(ArchiveRow.project_id == project_id)))
    found: dict[str, list[str]] = {}
    for row in rows:
        layout = library.layouts.get(row.layout or "")
        if layout is None or not layout.linked:
            continue
        try:
            archive = workspace.archive(project, row, library)
            for owner, targets in archive.references_by_owner().items():
                here = addresses.join(row.address, archive.labels[owner])
                found[here] = [addresses.join(row.address, archive.labels[target]) for target in targets]
        except BraeError:  # what it lists is there all the same, or it is told where it is opened
            continue
    return found


def _read(workspace: Workspace, project_id: str, address: str) -> tuple[bytes, Context]:
    project, found = workspace.project(project_id), workspace.find(project_id, address)
    library = workspace.project_library(project)
    data = original_bytes(workspace, project, found, library)
    return data, context_of(workspace, project, found, library)


def lines(workspace: Workspace, project_id: str, words: str) -> Iterator[Line]:
    """The lines of a project's texts that have all of some words."""
    return lines_with(words, _said(workspace, project_id))


def _said(workspace: Workspace, project_id: str) -> Iterable[tuple[str, Lines]]:
    """What the texts of a project say: in memory while it is looked through, unless it is very much."""
    with workspace.linking:
        state = _state(workspace, project_id)
        if workspace.said is not None and workspace.said[0] == state:
            found: list[tuple[str, Lines]] = workspace.said[1]
            return found
        made, size = [], 0
        said = said_by(linked(workspace, project_id))
        for address, its in said:
            made.append((address, its))
            size += sum(len(line) for _, line in its)
            if size > _MOST_SAID:
                return chain(made, said)
        workspace.said = (state, made)
        return made


def told(workspace: Workspace, project_id: str) -> Told:
    """Answers to conditions of a search on what the items of a project say of each other."""
    held = workspace.catalogues.of(project_id)
    return told_by(held, lambda: links(workspace, project_id), lambda: _said(workspace, project_id))


def told_by(held: Columns, links: Callable[[], Links], said: Callable[[], Iterable[tuple[str, Lines]]]) -> Told:
    """The same of any items; their links, or what they say, are asked for where a condition wants them."""

    def answer(name: str, value: str) -> Container[str]:
        if name == TEXT:
            return {line.address for line in lines_with(value, said())}
        found = links()
        if name in (MISSING, UNUSED):
            wrong = {one.owner for one in found.missing} if name == MISSING else found.unused(held.addresses)
            return wrong if value.lower() in YES else set(held.addresses) - wrong
        meant = set(np.array(held.addresses, object)[held.fitting(Search(f'"{value}"'))].tolist())
        if name == USES:
            return {link.owner for link in found.links if link.target in meant}
        return {link.target for link in found.links if link.owner in meant}

    return answer
