"""Items found by a picture, and those of which there are copies."""

from __future__ import annotations

from functools import partial

from brae.core.errors import BraeError
from brae.core.find.asking import asked_picture
from brae.core.find.copies import Copies, copies_of
from brae.core.find.folder import pictured
from brae.core.find.gathering import Gathered, ToShow, gather
from brae.core.find.likeness import search
from brae.core.find.looks import Rgba
from brae.jobs import Silent, Ticker
from brae.store import likenesses
from brae.work.asked import Asked, FoundItem
from brae.work.items import context_of, item_kind, original_bytes
from brae.work.workspace import Workspace

#: items that are shown, and how alike they are at least
_MOST_SHOWN, _LEAST = 120, 0.45


def gathered(workspace: Workspace, project_id: str, ticker: Ticker | None = None) -> Gathered:
    """The pictures of a project, ready to be searched; those that are new are looked at first, once for all."""
    with workspace.gathering:
        return _gathered(workspace, project_id, ticker or Silent())


def _gathered(workspace: Workspace, project_id: str, ticker: Ticker) -> Gathered:
    project = workspace.project(project_id)
    library, held = workspace.project_library(project), workspace.catalogues.of(project_id)
    state = (project_id, project.listing, len(held), *sorted(library.versions.items()))
    if workspace.pictures is not None and workspace.pictures[0] == state:
        found: Gathered = workspace.pictures[1]
        return found
    kinds, codes = held.texts("kind")
    types, numbers = held.texts("type")
    origins = workspace.origins(project)
    items = []
    for place, address in enumerate(held.addresses):
        type_ = types[numbers[place]]
        if pictured(kinds[codes[place]]) is None or not type_:
            continue
        key = likenesses.key(origins(address), address, library.versions.get(type_))
        items.append(ToShow(address, key, partial(picture_of, workspace, project_id, address)))
    made = gather(items, workspace.likenesses, lambda count: ticker.begin(count, "pictures looked at"), ticker.tick)
    workspace.pictures = (state, made)
    return made


def picture_of(workspace: Workspace, project_id: str, address: str) -> Rgba:
    """What an item looks like: uint8 (height, width, 4), sides up to 512."""
    project, found = workspace.project(project_id), workspace.find(project_id, address)
    kind, library = item_kind(workspace, found), workspace.project_library(project)
    data, context = original_bytes(workspace, project, found), context_of(workspace, project, found, library)
    picture: Rgba = kind.likeness(kind.read(data, context))
    return picture


def copies(workspace: Workspace, project_id: str, ticker: Ticker | None = None) -> list[Copies]:
    """Items that show the same picture, by the project's own pictures; the largest groups first."""
    return copies_of(gathered(workspace, project_id, ticker).pictures)


def ask(workspace: Workspace, project_id: str, data: bytes, name: str) -> Asked:
    """A picture file that a person looks for. Raises FormatError where it is none."""
    return workspace.asked.add(project_id, asked_picture(data, name, workspace.library_of(project_id)))


def answer(workspace: Workspace, asked: Asked, ticker: Ticker | None = None) -> dict[str, int]:
    """Look for a picture; what it shows is then in ``asked.found``."""
    try:
        pictures = gathered(workspace, asked.project_id, ticker).pictures
    except BraeError as error:
        asked.fault = error.message
        raise
    found = [one for one in search(pictures, asked.picture, _MOST_SHOWN) if one.score >= _LEAST]
    asked.searched = len(pictures)
    asked.found = [FoundItem(pictures.keys[match.number], match) for match in found]
    return {"found": len(asked.found), "searched": asked.searched}
