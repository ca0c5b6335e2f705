"""What the items of a project need of each other, and the lines in which words stand."""

from __future__ import annotations

from collections.abc import Callable, Container, Iterable, Iterator
from contextlib import suppress
from functools import partial
from typing import Any

import numpy as np
from sqlalchemy import select

from brae.core import addresses
from brae.core.assets.base import Context
from brae.core.errors import BraeError, FormatError, LimitError, WaitingError
from brae.core.find.graph import Line, Lines, Linked, lines_with, links_of, said_by
from brae.core.find.links import Links
from brae.core.layouts.library import Library
from brae.jobs import Job, Silent, Ticker
from brae.store.models import ArchiveRow, Member, Project
from brae.work.columns import FINDING, MISSING, NO, TEXT, UNUSED, USES, YES, Columns, Search, Told
from brae.work.items import context_of, original_bytes
from brae.work.meant import open_findings
from brae.work.workspace import Workspace

#: characters of a project's texts that are kept in memory, to search them while somebody types
_MOST_SAID = 64 << 20
#: seconds that a request waits for what is being worked out
_A_MOMENT = 3.0
_WORDS = {
    "links": "Reading what belongs together in",
    "texts": "Reading the texts of",
    "pictures": "Comparing the pictures of",
}


def links(workspace: Workspace, project_id: str, ticker: Ticker | None = None) -> Links:
    """The links of a project's originals; worked out once, until the game is listed otherwise."""
    ticker = ticker or Silent()
    with workspace.linking:
        state = _state(workspace, project_id)
        found: Links | None = _kept(workspace.linked, state)
        if found is None:
            items = linked(workspace, project_id)
            ticker.begin(len(items), "items")
            found = links_of(items, ticker.tick)
            workspace.linked = (state, found)
        return found


def links_soon(workspace: Workspace, project_id: str) -> Links | None:
    """The same where it is known, or is so in a moment; None while it is worked out, as a job."""
    found: Links | None = soon(
        workspace,
        project_id,
        "links",
        lambda: _kept(workspace.linked, _state(workspace, project_id)),
        lambda job: {"links": len(links(workspace, project_id, job).links)},
    )
    return found


def soon(
    workspace: Workspace,
    project_id: str,
    kind: str,
    known: Callable[[], Any],
    work: Callable[[Job], dict[str, int]],
) -> Any:
    """What is known, or worked out now in a job of which there is one; None where that takes longer.

    Everybody who asks meanwhile waits for the same job, and only for a moment: requests are not to use up the
    server's threads. One that was cancelled or failed is not begun again before the game changes.
    """
    found = known()
    if found is not None:
        return found
    key = (kind, *_state(workspace, project_id))
    with workspace.reading_lock:
        done = workspace.reading.get(key)
        if done is None:
            name = workspace.project(project_id).name
            _, done = workspace.jobs.start(kind, f"{_WORDS[kind]} {name}", work, project=project_id)
            workspace.reading = {
                key: done,
                **{one: two for one, two in workspace.reading.items() if not two.done()},
            }
    with suppress(TimeoutError):
        done.result(_A_MOMENT)
    return known()


def _kept(kept: tuple[Any, Any] | None, state: tuple[Any, ...]) -> Any:
    return kept[1] if kept is not None and kept[0] == state else None


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
    project = workspace.project(project_id)
    library, refers = workspace.project_library(project), _references(workspace, project_id)
    return [
        Linked(
            row.address,
            row.name,
            row.kind,
            partial(_read, workspace, project, library, row.address),
            refers.get(row.address, ()),
        )
        for row in rows
    ]


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


def _read(workspace: Workspace, project: Project, library: Library, address: str) -> tuple[bytes, Context]:
    found = workspace.find(project.id, address)
    data = original_bytes(workspace, project, found, library)
    return data, context_of(workspace, project, found, library)


def lines(workspace: Workspace, project_id: str, words: str) -> Iterator[Line]:
    """The lines of a project's texts that have all of some words. WaitingError while the texts are being read."""
    return lines_with(words, _said_soon(workspace, project_id))


def said(workspace: Workspace, project_id: str, ticker: Ticker | None = None) -> list[tuple[str, Lines]]:
    """What the texts of a project say, kept in memory for the next search. LimitError where it is very much."""
    ticker = ticker or Silent()
    with workspace.linking:
        state = _state(workspace, project_id)
        found: list[tuple[str, Lines]] | None = _kept(workspace.said, state)
        if found is not None:
            return found
        found, size = [], 0
        items = linked(workspace, project_id)
        ticker.begin(len(items), "items")
        for address, its in said_by(_ticked(items, ticker)):
            found.append((address, its))
            size += sum(len(line) for _, line in its)
            if size > _MOST_SAID:
                raise LimitError(
                    "The texts of this game are too long to be searched while you type.",
                    remedy="Search them with 'brae search GAME --text WORDS'.",
                )
        workspace.said = (state, found)
        return found


def _ticked(items: Iterable[Linked], ticker: Ticker) -> Iterator[Linked]:
    for one in items:
        yield one
        ticker.tick()


def _said_soon(workspace: Workspace, project_id: str) -> list[tuple[str, Lines]]:
    found: list[tuple[str, Lines]] | None = soon(
        workspace,
        project_id,
        "texts",
        lambda: _kept(workspace.said, _state(workspace, project_id)),
        lambda job: {"texts": len(said(workspace, project_id, job))},
    )
    if found is None:
        raise waiting(workspace, project_id, "texts", "The texts of this game")
    return found


def waiting(workspace: Workspace, project_id: str, kind: str, what: str) -> WaitingError:
    done = workspace.reading.get((kind, *_state(workspace, project_id)))
    if done is not None and done.done():
        return WaitingError(
            f"{what} could not be read to the end: it was cancelled, or there is too much of it.",
            remedy="Look through the game again, or use the command line, which has no limits.",
        )
    return WaitingError(
        f"{what}: Brae is still reading it.", remedy="What fits is shown when the job at the bottom has ended."
    )


def told(workspace: Workspace, project_id: str, *, patient: bool = False) -> Told:
    """Answers to conditions of a search on what the items of a project say of each other.

    Raises WaitingError while that is worked out; with ``patient`` it waits.
    """
    held = workspace.catalogues.of(project_id)

    def soon() -> Links:
        found = links_soon(workspace, project_id)
        if found is None:
            raise waiting(workspace, project_id, "links", "What belongs together in this game")
        return found

    if patient:
        answer = told_by(held, lambda: links(workspace, project_id), lambda: said(workspace, project_id))
    else:
        answer = told_by(held, soon, lambda: _said_soon(workspace, project_id))
    return lambda name, value: (
        _found(workspace, project_id, held, value) if name == FINDING else answer(name, value)
    )


def _found(workspace: Workspace, project_id: str, held: Columns, value: str) -> Container[str]:
    """The edits with a finding that stands; of one sort, or of any for "yes" ("no": all other items)."""
    shown = open_findings(workspace, project_id)
    wanted = value.lower()
    some = {address for address, found in shown.items() if found and (wanted in (*YES, *NO) or wanted in found)}
    return set(held.addresses) - some if wanted in NO else some


def told_by(held: Columns, links: Callable[[], Links], said: Callable[[], Iterable[tuple[str, Lines]]]) -> Told:
    """The same of any items; their links, or what they say, are asked for where a condition wants them."""

    def answer(name: str, value: str) -> Container[str]:
        if name == TEXT:
            return {line.address for line in lines_with(value, said())}
        if name == FINDING:
            raise FormatError("Only edits have findings.", remedy="Open the game first, and edit something.")
        found = links()
        if name in (MISSING, UNUSED):
            wrong = {one.owner for one in found.missing} if name == MISSING else found.unused(held.addresses)
            return wrong if value.lower() in YES else set(held.addresses) - wrong
        meant = set(np.array(held.addresses, object)[held.fitting(Search(f'"{value}"'))].tolist())
        if name == USES:
            return {link.owner for link in found.links if link.target in meant}
        return {link.target for link in found.links if link.owner in meant}

    return answer
