"""Items that are read with the bytes of another, such as pictures with the palette that they share.

An edit of that other item changes how they look. Those that are edited themselves are encoded for it as it will be;
all others are told with what it does to them, so that nothing is spoilt silently.
"""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from sqlalchemy import select

from brae.core.assets.base import AssetKind, fetching
from brae.core.assets.sheet import Finding, MatchSheet
from brae.core.assets.texture.metrics import ciede_map
from brae.core.errors import BraeError, NotFoundError
from brae.store.models import ArchiveRow, Edit, Member, Project
from brae.work.items import context_of, item_kind, neighbour, original_bytes, others_of
from brae.work.meant import standing
from brae.work.workspace import Located, Workspace

#: longer sides are made smaller before two looks are compared
_SIDE = 2048
#: items that are looked at, and of which it is told by name
_MOST, _NAMED = 500, 4
_SPOILT = "spoilt-"
#: comparisons that are remembered
_REMEMBERED = 4096


@dataclass(frozen=True)
class Spoilt:
    """An item that looks otherwise: the share of its pixels, and their CIEDE2000 in the mean and at most."""

    address: str
    name: str
    share: float
    mean: float
    most: float
    #: it is edited itself, so that it is encoded for the new bytes
    edited: bool


def users_of(workspace: Workspace, project: Project, found: Located) -> tuple[list[Located], int]:
    """The items that are read with the bytes of this one, so many at most, and how many more there may be."""
    library = workspace.project_library(project)
    # Of a hundred thousand items hardly any can be one that others need.
    named = [layout.layout for layout in library.layouts.values() if layout.may_need(found.member.name)]
    if not named:
        return [], 0
    query = select(Member.id, Member.name, Member.container).where(
        Member.project_id == project.id, Member.container.in_(named), Member.fault.is_(None)
    )
    with workspace.database.session() as session:
        wanted = [
            number
            for number, name, container in session.execute(query.order_by(Member.id))
            if found.member.name in library.layouts[container or ""].others(name)
        ]
        rows = session.execute(
            select(Member, ArchiveRow)
            .join(ArchiveRow, Member.archive_id == ArchiveRow.id)
            .where(Member.id.in_(wanted[:_MOST]))
            .order_by(Member.id)
        )
        users = [Located(member, archive) for member, archive in rows]
    return [one for one in users if _reads(workspace, one, found)], max(0, len(wanted) - _MOST)


def _reads(workspace: Workspace, one: Located, found: Located) -> bool:
    """Whether an item that needs one of that name gets this one."""
    if one.member.archive_id == found.member.archive_id:
        return True  # what lies in the same archive comes first
    try:
        return neighbour(workspace, one, found.member.name).member.address == found.member.address
    except NotFoundError:
        return False


def spoilt_by(workspace: Workspace, project: Project, found: Located, made: bytes) -> tuple[list[Spoilt], int]:
    """What looks otherwise when this item has the bytes ``made``, most of all first; how many remain."""
    users, unseen = users_of(workspace, project, found)
    if not users:
        return [], unseen
    digest = hashlib.sha256(made).hexdigest()
    with workspace.database.session() as session:
        query = select(Edit).where(Edit.project_id == project.id, Edit.in_work, Edit.position > 0)
        # What the game would refuse is not built, so it would be spoilt all the same.
        edits = [edit for edit in session.scalars(query) if edit.encoded_sha256 and not standing(edit, "stops")]
        edited = {edit.address for edit in edits}
    spoilt = []
    for user in users:
        try:
            share, mean, most = _compared(workspace, project, found, user, made, digest)
        except BraeError:
            share, mean, most = 1.0, 100.0, 100.0  # it cannot be read with it: worse than any colour
        if share:
            address = user.member.address
            spoilt.append(Spoilt(address, user.member.name, share, mean, most, address in edited))
    return sorted(spoilt, key=lambda one: (one.edited, -one.share * one.mean)), unseen


def _compared(
    workspace: Workspace, project: Project, found: Located, user: Located, made: bytes, digest: str
) -> tuple[float, float, float]:
    """The share of pixels that look otherwise, and how far those are off; ``digest`` is that of ``made``."""
    versions = tuple(workspace.project_library(project).versions.items())
    key = (project.id, project.listing, versions, user.member.address, found.member.address, digest)
    known = workspace.compared.get(key)
    if known is not None:
        return known
    before, after = (look(workspace, project, user, others) for others in ({}, {found.member.name: made}))
    if before.shape != after.shape:
        result = (1.0, 100.0, 100.0)
    else:
        other = (before != after).any(axis=-1) & ((before[..., 3] > 0) | (after[..., 3] > 0))
        seen = max(1, int(((before[..., 3] > 0) | (after[..., 3] > 0)).sum()))
        apart = ciede_map(before, after)[other] if other.any() else np.zeros(1)
        result = (float(other.sum()) / seen, float(apart.mean()), float(apart.max()))
    if len(workspace.compared) >= _REMEMBERED:
        workspace.compared.clear()
    workspace.compared[key] = result
    return result


def look(workspace: Workspace, project: Project, user: Located, others: dict[str, bytes], side: int = _SIDE) -> Any:
    """How an item's original looks among others as they will be: uint8 (height, width, 4), sides up to ``side``."""
    library = workspace.project_library(project)
    kind: AssetKind[Any] = item_kind(workspace, user)
    context = context_of(workspace, project, user, library)
    if others:
        fetch = fetching(context.fetch, others)
        context = replace(context, fetch=fetch)
    return kind.likeness(kind.read(original_bytes(workspace, project, user, library), context), side)


def told(
    workspace: Workspace, project: Project, found: Located, made: bytes, sheet: MatchSheet, *, trial: bool = False
) -> MatchSheet:
    """An edit's sheet with what the edit does to others that nobody has seen to; ``trial``: it is for that."""
    if trial:
        return sheet
    spoilt, unseen = spoilt_by(workspace, project, found, made)
    open_ = [one for one in spoilt if not one.edited]
    if not open_ and not unseen:
        return sheet
    return sheet.model_copy(update={"findings": [*sheet.findings, _finding(open_, unseen)]})


def made_for(others: Mapping[str, bytes]) -> dict[str, str]:
    """What an edit was encoded for, to be kept with it: the hashes of the others' bytes, by their names."""
    return {name: hashlib.sha256(data).hexdigest() for name, data in others.items()}


def is_fresh(workspace: Workspace, project: Project, edit: Edit) -> bool:
    """Whether an edit is encoded for the others as they are now, and tells what it does to them as it is now.

    It is not where Brae was ended between the change of one and the following of the others.
    """
    if edit.encoded_sha256 is None or edit.sheet is None:
        return True
    found = workspace.find(project.id, edit.address)
    if edit.sheet.get("others", {}) != made_for(others_of(workspace, project, found)):
        return False
    made = workspace.blobs.get(edit.encoded_sha256)
    sheet = told(workspace, project, found, made, MatchSheet(properties=[], findings=[]), trial=edit.marked)
    before = [one["title"] for one in edit.sheet.get("findings", []) if one["id"].startswith(_SPOILT)]
    return before == [one.title for one in sheet.findings]


def _finding(spoilt: Sequence[Spoilt], unseen: int) -> Finding:
    names = ", ".join(f"{one.name.rpartition('/')[2]} {one.share:.0%}" for one in spoilt[:_NAMED])
    more = f" and {len(spoilt) - _NAMED} more" if len(spoilt) > _NAMED else ""
    items = "1 other item looks" if len(spoilt) == 1 else f"{len(spoilt)} other items look"
    title = f"{items} different with it: {names}{more}" if spoilt else "Other items are drawn with it"
    if unseen:
        title += f"; {unseen:,} more were not looked at"
    which = " ".join([str(unseen), *sorted(one.address for one in spoilt)])
    return Finding(
        # What is meant is meant for these items: where there are others, or more, it is asked again.
        id=f"{_SPOILT}{hashlib.sha256(which.encode()).hexdigest()[:8]}",
        severity="stops",
        title=title,
        in_game="They are drawn by the same numbers in new colours. Re-map or keep them below, or say it is meant.",
    )
