"""Items as their kinds read them: original and edit, to be looked at, compared and encoded."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from typing import Any, TypeVar

import numpy as np
from sqlalchemy import select

from brae.core.addresses import renamed, split, split_stretch
from brae.core.assets.base import (
    HEAD,
    Around,
    AssetKind,
    Context,
    Encoded,
    ExchangeFile,
    Preview,
    Query,
    Sibling,
    Version,
    Viewed,
)
from brae.core.assets.registry import kinds
from brae.core.build.journal import Seen
from brae.core.containers.base import Container
from brae.core.errors import BraeError, FormatError, NotFoundError
from brae.core.layouts.library import Library
from brae.core.sources import MAIN, BytesSource
from brae.store import thumbnails
from brae.store.models import ArchiveRow, Edit, EditStep, Member, Project
from brae.work.columns import Columns
from brae.work.workspace import Located, Workspace
from brae.work.workspace import Version as State

Read = TypeVar("Read")
#: larger items are looked at before they are read
_LARGE = 64 << 20
#: siblings of one kind that are looked at
_MOST_BESIDE = 2000


def original_bytes(workspace: Workspace, project: Project, found: Located, library: Library | None = None) -> bytes:
    """An item's original bytes, unpacked; ``library`` is the project's, where it is at hand."""
    data = originals_together(workspace, project, [found], library)[0]
    if isinstance(data, BraeError):
        raise data
    return data


def originals_together(
    workspace: Workspace, project: Project, found: Sequence[Located], library: Library | None = None
) -> list[bytes | BraeError]:
    """The original bytes of items of one archive, or what is wrong with one."""
    row = found[0].archive
    if all(one.member.base for one in found):
        return [workspace.blobs.get(one.member.base or "") for one in found]

    def read() -> list[bytes | BraeError]:
        if row.layout is None:
            source = workspace.original_source(project, row.files[MAIN])
            return [source.read(0, source.size)]
        archive = workspace.archive(project, row, library)
        return [_member(workspace, archive, one) for one in found]

    return _steady(workspace, project, row, read)


def original_stretch(workspace: Workspace, project: Project, found: Located, start: int, length: int) -> bytes:
    """Some of an item's original bytes, unpacked; no more of it is read where it lies as it is.

    Raises TruncatedError where it ends before that.
    """
    row = found.archive
    if found.member.base is not None:
        return BytesSource(workspace.blobs.get(found.member.base)).read(start, length)

    def read() -> bytes:
        if row.layout is None:
            return workspace.original_source(project, row.files[MAIN]).read(start, length)
        archive = workspace.archive(project, row)
        return archive.member_source(workspace.number_of(archive, found)).read(start, length)

    return _steady(workspace, project, row, read)


def _steady(workspace: Workspace, project: Project, row: ArchiveRow, read: Callable[[], Read]) -> Read:
    """What is read while the files that an archive lies in stay as they are.

    A file that is patched in place while it is read gives the edit's bytes for the original's.
    """
    while True:
        before = _seen_outside(workspace, project, row)
        result = read()
        if _seen_outside(workspace, project, row) == before:
            return result


def _member(workspace: Workspace, archive: Container, found: Located) -> bytes | BraeError:
    try:
        if found.member.base is not None:
            return workspace.blobs.get(found.member.base)
        return archive.read(workspace.number_of(archive, found))
    except BraeError as error:
        return error


def _seen_outside(workspace: Workspace, project: Project, row: ArchiveRow) -> list[Seen | None]:
    """The files of the game that an archive lies in, as they are now."""
    while row.parent_id is not None:
        row = workspace.parent(row)
    return [Seen.at(f"{project.folder}/{path}") for path in row.files.values()]


def item_kind(workspace: Workspace, found: Located) -> AssetKind[Any]:
    """The kind of an item; FormatError where it is of none."""
    known = kinds().get(found.member.kind)
    if known is None:
        raise FormatError("Nothing is known of how this item is shown or edited.", address=found.member.address)
    return known


def original_asset(workspace: Workspace, project: Project, found: Located) -> Any:
    """An item's original, read by its kind."""
    kind, library = item_kind(workspace, found), workspace.project_library(project)
    return _read(workspace, project, found, kind, library, _bytes_of(workspace, project, found, kind, library))


def _bytes_of(
    workspace: Workspace, project: Project, found: Located, kind: AssetKind[Any], library: Library
) -> bytes:
    try:
        _check_beginning(workspace, project, found, kind, library)
        return original_bytes(workspace, project, found, library)
    except BraeError as error:
        raise error.at(found.member.address) from None


def _read(
    workspace: Workspace, project: Project, found: Located, kind: AssetKind[Any], library: Library, data: bytes
) -> Any:
    context = context_of(workspace, project, found, library)
    try:
        return kind.read(data, context)
    except BraeError as error:
        raise error.at(found.member.address) from None


def context_of(workspace: Workspace, project: Project, found: Located, library: Library) -> Context:
    """What reading an item may ask for."""
    layout = library.layouts.get(found.archive.layout or "")
    said = None
    if (
        layout is not None
        and found.member.base is None
        and layout.content is not None
        and layout.content.kind is not None
    ):
        archive = workspace.archive(project, found.archive, library)
        said = archive.said([workspace.number_of(archive, found)])[0]

    def fetch(name: str) -> bytes:
        item, start, length = split_stretch(name)
        if start is None:
            return original_bytes(workspace, project, neighbour(workspace, found, name))
        return original_stretch(workspace, project, neighbour(workspace, found, item), start, length)

    return Context(library, found.member.name, fetch, said=said)


def _check_beginning(
    workspace: Workspace, project: Project, found: Located, kind: AssetKind[Any], library: Library
) -> None:
    """Refuse a huge item that only claims to be one of its kind, before all of it is read."""
    size = found.member.real
    if size <= _LARGE or found.member.base is not None:
        return
    if found.archive.layout is None:
        head = workspace.original_source(project, found.archive.files[MAIN]).read(0, HEAD)
    else:
        archive = workspace.archive(project, found.archive)
        head = archive.read_start(workspace.number_of(archive, found), HEAD)
    if found.member.container not in library.layouts:
        kind.check_large(head, b"", size, found.member.name)


def asset_at(workspace: Workspace, project_id: str, address: str) -> Any:
    """The same by an item's address."""
    return original_asset(workspace, workspace.project(project_id), workspace.find(project_id, address))


def look_at(
    workspace: Workspace, project_id: str, address: str, *, edit: bool = True
) -> tuple[AssetKind[Any], Viewed[Any]]:
    """An item to be looked at: its original and, where a file came back, the edit. The last few stay in memory.

    ``edit`` False leaves the edit out.
    """
    project, found = workspace.project(project_id), workspace.find(project_id, address)
    kind, library = item_kind(workspace, found), workspace.project_library(project)
    state = _state_of(workspace, project, found, library)
    key = (state, address, tuple(library.versions.items()))
    original = workspace.remembered(kind, key, lambda: original_asset(workspace, project, found))
    here = workspace.edit_or_none(project_id, address) if edit else None
    if here is None or here.current is None or here.encoded_sha256 is None:
        return kind, Viewed(original)
    # The same stub may go with other parts elsewhere, so those count as well; and so does what it is read with.
    others = others_of(workspace, project, found, library)
    version = (here.encoded_sha256, *sorted(here.encoded_elsewhere.values()), *map(hash, others.values()))
    made = workspace.remembered(
        kind, (*key, *version), lambda: edited_asset(workspace, kind, original, here, others)
    )
    return kind, Viewed(original, made, version_of(workspace, here.current, others))


def _state_of(workspace: Workspace, project: Project, found: Located, library: Library) -> State:
    """What tells this state of an item from every other."""
    if found.member.base is not None:
        return (found.member.base,)
    return workspace.version_at(project, found.archive, library, workspace.known_names(library, found.archive))


def preview_of(workspace: Workspace, project_id: str, address: str, query: Query) -> Preview:
    """Something to look at or listen to. Small pictures of originals are kept from one time to the next."""
    project, found = workspace.project(project_id), workspace.find(project_id, address)
    # What lies in other items as well is not told by the bytes of one.
    if not query.small or found.member.parts:
        kind, viewed = look_at(workspace, project_id, address, edit=query.which != "original")
        return kind.preview(viewed, query)
    kind, library = item_kind(workspace, found), workspace.project_library(project)
    state = _state_of(workspace, project, found, library)
    asked = (kind.id, query.model_dump(mode="json"), library.versions.get(found.member.container or ""))
    place = thumbnails.key(state, address, asked)
    kept = workspace.thumbnails.at(place)
    if kept is not None:
        return kept
    data = _bytes_of(workspace, project, found, kind, library)
    content = thumbnails.key(hashlib.sha256(data).hexdigest(), found.member.name.rpartition(".")[2], asked)
    made = workspace.thumbnails.of(content)
    if made is None:
        made = kind.preview(Viewed(_read(workspace, project, found, kind, library, data)), query)
    workspace.thumbnails.keep(place, content, made)
    return made


def version_of(workspace: Workspace, step: EditStep, others: Mapping[str, bytes] | None = None) -> Version:
    """One version of an edit, with the bytes of its files; ``others``: what it is read with, as that will be."""
    return Version(
        ExchangeFile(step.file_name, workspace.blobs.get(step.file_sha256)),
        tuple(step.remedies),
        step.choices,
        {part: ExchangeFile(name, workspace.blobs.get(sha256)) for part, (sha256, name) in step.beside.items()},
        others or {},
    )


def around(workspace: Workspace, project_id: str, address: str) -> Around:
    """What lies around an item."""
    found = workspace.find(project_id, address)
    here = found.member

    def beside() -> tuple[Columns, list[int]]:
        held = workspace.catalogues.of(project_id)
        return held, np.flatnonzero(held.beside(here.kind, here.folder)).tolist()

    def places() -> dict[str, str]:
        held, near = beside()
        return {split(held.addresses[place])[-1].rpartition("/")[2]: held.addresses[place] for place in near}

    def values(fact: str) -> list[tuple[str, str]]:
        held, near = beside()
        texts, codes = held.texts(fact)
        return [(texts[codes[place]], held.addresses[place]) for place in near if codes[place] >= 0]

    def siblings() -> list[Sibling]:
        held, places = beside()
        near = held.ids[places].tolist()
        with workspace.database.session() as session:
            members = list(session.scalars(select(Member).where(Member.id.in_(near[:_MOST_BESIDE]))))
        return [
            Sibling(one.name, one.address, one.facts, one.archive_id == found.archive.id, one.winner is None)
            for one in members
        ]

    profile = workspace.profile(workspace.project(project_id))
    return Around(here.name, siblings, profile, places, values)


def neighbour(workspace: Workspace, found: Located, name: str) -> Located:
    """Another item of the same game by its name: of the same archive if it has one, else the copy that wins.

    Raises NotFoundError where there is none.
    """
    query = (
        select(Member, ArchiveRow)
        .join(ArchiveRow, Member.archive_id == ArchiveRow.id)
        .where(Member.project_id == found.member.project_id, Member.name == name)
        .order_by(Member.archive_id != found.archive.id, Member.winner.is_not(None))
    )
    with workspace.database.session() as session:
        row = session.execute(query).first()
    if row is None:
        raise NotFoundError(
            f"{name}, which holds the rest of this item, is nowhere in the game.",
            remedy="Open the whole folder of the game, and describe the archive that holds it.",
        )
    return Located(row[0], row[1])


def others_of(
    workspace: Workspace, project: Project, found: Located, library: Library | None = None
) -> dict[str, bytes]:
    """The items with whose bytes one is read and that are edited: their names, and their bytes as they will be."""
    result: dict[str, bytes] = {}
    for name, address in _needed(workspace, found, library or workspace.project_library(project)):
        edit = workspace.edit_or_none(project.id, address)
        if edit is not None and edit.in_work and edit.position and edit.encoded_sha256 and edit.state != "same":
            result[name] = workspace.blobs.get(edit.encoded_sha256)
    return result


def needed_by(workspace: Workspace, project: Project, found: Located) -> list[str]:
    """The addresses of the items with whose bytes one is read."""
    return [address for _, address in _needed(workspace, found, workspace.project_library(project))]


def _needed(workspace: Workspace, found: Located, library: Library) -> list[tuple[str, str]]:
    """Names and addresses of the items with whose bytes one is read."""
    layout = library.layouts.get(found.member.container or "")
    result: list[tuple[str, str]] = []
    for name in layout.others(found.member.name) if layout is not None else ():
        with suppress(NotFoundError):
            result.append((name, neighbour(workspace, found, name).member.address))
    return result


def edited_asset(
    workspace: Workspace,
    kind: AssetKind[Any],
    original: Any,
    edit: Edit,
    others: Mapping[str, bytes] | None = None,
) -> Any:
    """What an edit was encoded as; ``others``: what it is read with, as that will be.

    Raises NotFoundError where no file has come back yet.
    """
    if edit.encoded_sha256 is None:
        raise NotFoundError("No file has come back yet.", address=edit.address)
    elsewhere = {
        renamed(address, lambda item: workspace.find(edit.project_id, item).member.name): workspace.blobs.get(
            sha256
        )
        for address, sha256 in edit.encoded_elsewhere.items()
    }
    return kind.again(original, Encoded(workspace.blobs.get(edit.encoded_sha256), elsewhere, others or {}))
