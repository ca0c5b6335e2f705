"""Copies of what is being edited: the same bytes, or the same picture, stored elsewhere in the game."""

from __future__ import annotations

import hashlib
import time
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from sqlalchemy import select

from brae.core.errors import BraeError, FormatError
from brae.core.sources import MAIN
from brae.jobs import Ticker
from brae.store.models import Edit, Project
from brae.work.edits import put_in_work, set_remedies, take_file
from brae.work.items import original_bytes
from brae.work.sending import for_each
from brae.work.sent import ALWAYS_SENT
from brae.work.workspace import Located, Workspace

#: members of the very same size that are compared, and bytes of one of them, at most
_MOST_COMPARED, _LARGEST = 400, 16 << 20
#: bytes of a beginning: behind the header, and some of the picture
_HEAD = 4096
#: seconds that one request compares; the others are compared by the next one
_A_MOMENT = 2.0
#: items of which it is remembered
_MOST_KNOWN = 4096


@dataclass(frozen=True)
class Copy:
    """An item that shows the same: with the same bytes (``exact``), or with others."""

    address: str
    exact: bool
    #: whether it is being edited, and has the same file
    edited: bool
    same: bool


@dataclass
class CopiesOfEdits:
    """The copies of each item that is being edited, by its address; items without any are left out."""

    __pydantic_config__ = ALWAYS_SENT

    of: dict[str, list[Copy]] = field(default_factory=dict)
    #: whether all pictures of the game have been compared, and not only those with the same bytes
    compared: bool = False
    #: whether some edits are still to be looked at: ask again
    more: bool = False


def copies_of_edits(workspace: Workspace, project_id: str) -> CopiesOfEdits:
    """Where what is being edited lies again. Pictures are compared only where they have been looked at already."""
    workspace.project(project_id)
    with workspace.database.session() as session:
        edits = list(session.scalars(select(Edit).where(Edit.project_id == project_id, Edit.in_work)))
    groups = looking_alike(workspace, project_id)
    files = {edit.address: edit.current.file_sha256 if edit.current else None for edit in edits}
    found = CopiesOfEdits(compared=bool(groups) or _compared(workspace, project_id))
    until = time.monotonic() + _A_MOMENT
    for address, file in files.items():
        if time.monotonic() > until:
            found.more = True
            break
        exact = set(_same_bytes(workspace, project_id, address))
        alike = set()
        for other in set(groups.get(address, ())) - exact - {address}:
            if time.monotonic() > until:
                found.more = True
                break
            if _shows_the_same(workspace, project_id, address, other):
                alike.add(other)
        others = sorted(exact | alike)
        if others:
            found.of[address] = [
                Copy(other, other in exact, other in files, other in files and files[other] == file)
                for other in others
            ]
    return found


def _compared(workspace: Workspace, project_id: str) -> bool:
    return workspace.pictures is not None and workspace.pictures[0][0] == project_id


def looking_alike(workspace: Workspace, project_id: str) -> dict[str, Iterable[str]]:
    """The items that show the same as each, in any size; none as long as the pictures have not been compared."""
    if workspace.pictures is None or not _compared(workspace, project_id):
        return {}
    state, gathered = workspace.pictures
    if workspace.alike is None or workspace.alike[0] != state:
        # Brae starts without what looks at pictures.
        from brae.core.find.copies import copies_of

        groups: dict[str, Iterable[str]] = {}
        for group in copies_of(gathered.pictures):
            groups |= dict.fromkeys(group.keys, group.keys)
        workspace.alike = (state, groups)
    found: dict[str, Iterable[str]] = workspace.alike[1]
    return found


def _same_bytes(workspace: Workspace, project_id: str, address: str) -> list[str]:
    project, here = workspace.project(project_id), workspace.find(project_id, address)
    key = (project_id, project.listing, project.opened, address)
    known = workspace.twins.get(key)
    if known is not None:
        return known
    held = workspace.catalogues.of(project_id)
    texts, codes = held.texts("kind")
    kind = texts.index(here.member.kind)
    near = np.flatnonzero((held.numbers("bytes") == here.member.real) & (codes == kind))
    found: list[str] = []
    if 1 < len(near) <= _MOST_COMPARED and 0 < here.member.real <= _LARGEST:
        # Many textures have the same size: their beginnings tell most of them apart.
        wanted = _beginning(workspace, project, here)
        likely = [
            other
            for other, one in workspace.find_each(project_id, [held.addresses[place] for place in near.tolist()])
            if one is not None and other != address and _beginning(workspace, project, one) == wanted
        ]
        whole = _hash(workspace, project_id, address) if likely else None
        found = [one for one in likely if _hash(workspace, project_id, one) == whole]
    if len(workspace.twins) >= _MOST_KNOWN:
        workspace.twins.clear()
    workspace.twins[key] = found
    return found


def _shows_the_same(workspace: Workspace, project_id: str, address: str, other: str) -> bool:
    """Whether what looks alike when it is small does so in its own size; worked out once."""
    from brae.core.find.copies import shows_the_same
    from brae.work.finding import picture_of

    project = workspace.project(project_id)
    key = (project_id, project.listing, project.opened, *sorted((address, other)))
    if key not in workspace.same_shown:
        if len(workspace.same_shown) >= _MOST_KNOWN:
            workspace.same_shown.clear()
        try:
            pictures = [picture_of(workspace, project_id, one) for one in (address, other)]
            workspace.same_shown[key] = shows_the_same(*pictures)
        except BraeError:  # what cannot be read is no copy
            workspace.same_shown[key] = False
    return workspace.same_shown[key]


def _beginning(workspace: Workspace, project: Project, one: Located) -> bytes | None:
    try:
        if one.member.base is not None:
            return workspace.blobs.get(one.member.base)[:_HEAD]
        if one.archive.layout is None:
            return workspace.original_source(project, one.archive.files[MAIN]).read(0, min(_HEAD, one.member.real))
        archive = workspace.archive(project, one.archive)
        return archive.read_start(workspace.number_of(archive, one), _HEAD)
    except BraeError:  # what cannot be read is no copy
        return None


def _hash(workspace: Workspace, project_id: str, address: str) -> str | None:
    try:
        data = original_bytes(workspace, workspace.project(project_id), workspace.find(project_id, address))
    except BraeError:  # what cannot be read is no copy
        return None
    return hashlib.sha256(data).hexdigest()


def give_to(
    workspace: Workspace, project_id: str, address: str, copies: Sequence[str], ticker: Ticker | None = None
) -> dict[str, Any]:
    """Give copies of an item its edit: the file with its remedies, and those that another size needs.

    Each is an edit of its own then, to be undone like any. Raises FormatError where there is nothing to give.
    """
    edit = workspace.edit(project_id, address)
    step = edit.current
    if step is None:
        raise FormatError("This item has no edit yet.", address=address, remedy="Save a file for it first.")
    data, name = workspace.blobs.get(step.file_sha256), step.file_name
    meant = {finding["id"] for finding in (edit.sheet or {}).get("findings", [])}

    def give(other: str) -> None:
        put_in_work(workspace, project_id, other)
        take_file(workspace, project_id, other, data, name, what=f"as {address.rpartition('/')[2]}")
        sheet = workspace.edit(project_id, other).sheet or {}
        its_own = [
            finding["remedy"]["id"]
            for finding in sheet.get("findings", [])
            if finding.get("remedy") and finding["id"] not in meant
        ]
        remedies = list(dict.fromkeys([*step.remedies, *its_own]))
        if remedies:
            set_remedies(workspace, project_id, other, remedies)

    return for_each(copies, give, "copies", ticker)
