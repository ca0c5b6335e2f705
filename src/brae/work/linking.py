"""What the items of a project need of each other, and the lines in which words stand."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from contextlib import suppress
from functools import partial
from typing import Any

from sqlalchemy import select

from brae.core import addresses
from brae.core.assets.base import Context
from brae.core.errors import BraeError, LimitError, WaitingError
from brae.core.find.graph import Line, Lines, Linked, lines_with, links_of, said_by, speaks
from brae.core.find.links import Links
from brae.core.layouts.library import Library
from brae.jobs import Job, Silent, Ticker
from brae.store import mentions
from brae.store.models import ArchiveRow, Member, Project
from brae.work.items import context_of, original_bytes
from brae.work.workspace import Located, Workspace

#: characters of a project's texts that are kept in memory, to search them while somebody types
_MOST_SAID = 64 << 20
#: seconds that a request waits for what is being worked out
_A_MOMENT = 3.0
#: items of a folder that are looked at to tell whether one stands out
_BESIDE = 500
#: members that are found at once
_AT_ONCE = 500
_WORDS = {
    "links": "Reading what belongs together in",
    "texts": "Reading the texts of",
    "pictures": "Comparing the pictures of",
    "bytes": "Looking for bytes in",
}


def links(workspace: Workspace, project_id: str, ticker: Ticker | None = None) -> Links:
    """The links of a project's originals; worked out once, until the game is listed otherwise."""
    ticker = ticker or Silent()
    with workspace.linking:
        state = state_of(workspace, project_id)
        found: Links | None = kept(workspace.linked, state)
        if found is None:
            items = linked(workspace, project_id)
            ticker.begin(len(items), "items")
            found = links_of(items, ticker.tick, workspace.mentions)
            workspace.linked = (state, found)
        return found


def left_alone(workspace: Workspace, project_id: str, address: str, known: Links) -> bool:
    """Whether most items of a kind in the folder of one are named by others, so that one that is not stands out."""
    here = workspace.find(project_id, address).member
    query = select(Member.address).where(
        Member.project_id == project_id, Member.archive_id == here.archive_id, Member.kind == here.kind,
        Member.folder == here.folder, Member.id != here.id,
    )  # fmt: skip
    with workspace.database.session() as session:
        beside = list(session.scalars(query.limit(_BESIDE)))
    return len(beside) >= 3 and 2 * sum(bool(known.used_by(one)) for one in beside) > len(beside)


def links_soon(workspace: Workspace, project_id: str) -> Links | None:
    """The same where it is known, or is so in a moment; None while it is worked out, as a job."""
    found: Links | None = soon(
        workspace,
        project_id,
        "links",
        lambda: kept(workspace.linked, state_of(workspace, project_id)),
        lambda job: {"links": len(links(workspace, project_id, job).links)},
    )
    return found


def soon(
    workspace: Workspace,
    project_id: str,
    kind: str,
    known: Callable[[], Any],
    work: Callable[[Job], dict[str, int]],
    about: str = "",
) -> Any:
    """What is known, or worked out now in a job of which there is one; None where that takes longer.

    Everybody who asks meanwhile waits for the same job, and only for a moment: requests are not to use up the
    server's threads. One that was cancelled or failed is not begun again before the game changes.
    """
    found = known()
    if found is not None:
        return found
    key = (kind, about, *state_of(workspace, project_id))
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


def kept(what: tuple[Any, Any] | None, state: tuple[Any, ...]) -> Any:
    """What was kept with its state, where that is still so."""
    return what[1] if what is not None and what[0] == state else None


def state_of(workspace: Workspace, project_id: str) -> tuple[Any, ...]:
    """What tells one state of a project's originals from every other."""
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
    # All layouts as one text: a hundred thousand items have it in their keys.
    origins, layouts = workspace.origins(project), mentions.key(sorted(library.versions.items()))
    found = _Ahead(workspace, project_id, [row.address for row in rows if speaks(row.kind)])
    return [
        Linked(
            row.address,
            row.name,
            row.kind,
            partial(_read, workspace, project, library, found, row.address),
            refers.get(row.address, ()),
            mentions.key(origins(row.address), row.address, row.kind, layouts) if speaks(row.kind) else "",
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


class _Ahead:
    """Members found in the order in which they are asked for, a few hundred at a time."""

    def __init__(self, workspace: Workspace, project_id: str, addresses: list[str]) -> None:
        self._workspace, self._project, self._addresses = workspace, project_id, addresses
        self._places = {address: place for place, address in enumerate(addresses)}
        self._here: dict[str, Located] = {}

    def __call__(self, address: str) -> Located:
        if address not in self._here:
            start = self._places.get(address, len(self._addresses))
            some = self._workspace.find_each(self._project, self._addresses[start : start + _AT_ONCE])
            self._here = {one: found for one, found in some if found is not None}
        found = self._here.get(address)
        return found if found is not None else self._workspace.find(self._project, address)


def _read(
    workspace: Workspace, project: Project, library: Library, ahead: _Ahead, address: str
) -> tuple[bytes, Context]:
    found = ahead(address)
    data = original_bytes(workspace, project, found, library)
    return data, context_of(workspace, project, found, library)


def lines(workspace: Workspace, project_id: str, words: str) -> Iterator[Line]:
    """The lines of a project's texts that have all of some words. WaitingError while the texts are being read."""
    return lines_with(words, said_soon(workspace, project_id))


def said(workspace: Workspace, project_id: str, ticker: Ticker | None = None) -> list[tuple[str, Lines]]:
    """What the texts of a project say, kept in memory for the next search. LimitError where it is very much."""
    ticker = ticker or Silent()
    with workspace.linking:
        state = state_of(workspace, project_id)
        found: list[tuple[str, Lines]] | None = kept(workspace.said, state)
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


def said_soon(workspace: Workspace, project_id: str) -> list[tuple[str, Lines]]:
    found: list[tuple[str, Lines]] | None = soon(
        workspace,
        project_id,
        "texts",
        lambda: kept(workspace.said, state_of(workspace, project_id)),
        lambda job: {"texts": len(said(workspace, project_id, job))},
    )
    if found is None:
        raise waiting(workspace, project_id, "texts", "The texts of this game")
    return found


def waiting(workspace: Workspace, project_id: str, kind: str, what: str, about: str = "") -> WaitingError:
    """What is said while a job works out what is asked for, or after it ended without."""
    done = workspace.reading.get((kind, about, *state_of(workspace, project_id)))
    if done is not None and done.done():
        return WaitingError(
            f"{what} could not be read to the end: it was cancelled, or there is too much of it.",
            remedy="Look through the game again, or use the command line, which has no limits.",
        )
    return WaitingError(
        f"{what}: Brae is still reading it.", remedy="What fits is shown when the job at the bottom has ended."
    )
