"""Answers to what no fact answers in a search: what items say of each other, what they hold, what was found."""

from __future__ import annotations

from collections.abc import Callable, Container, Iterable

import numpy as np

from brae.core.errors import FormatError
from brae.core.find.graph import Lines, lines_with
from brae.core.find.links import Links
from brae.work.columns import FINDING, HOLDS, MISSING, NO, TEXT, UNUSED, USES, YES, Columns, Search, Told
from brae.work.holding import holding, holding_soon
from brae.work.linking import links, links_soon, said, said_soon, waiting
from brae.work.meant import open_findings
from brae.work.workspace import Workspace


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
        answer = told_by(held, soon, lambda: said_soon(workspace, project_id))

    def every(name: str, value: str) -> Container[str]:
        if name == FINDING:
            return _found(workspace, project_id, held, value)
        if name == HOLDS:
            return (holding if patient else holding_soon)(workspace, project_id, value)
        return answer(name, value)

    return every


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
        if name == HOLDS:
            raise FormatError("'holds' can only be asked of a project.", remedy="Use brae search GAME --bytes.")
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
