"""The workshop: a file that no layout describes, and its description as it grows."""

from __future__ import annotations

import base64

from fastapi import APIRouter

from brae.api.routes import Work
from brae.api.schemas.games import LayoutText
from brae.api.schemas.workshop import (
    MendRequest,
    Places,
    Said,
    SayRequest,
    Sought,
    UnknownSort,
    WindowRequest,
    WindowView,
    WorkshopRequest,
    WorkshopView,
)
from brae.core.assets.said import check
from brae.core.structure import workshop
from brae.work import Workspace
from brae.work.structures import beginning_of, hits_in, pictured, unknown_members, workshop_sources

router = APIRouter(prefix="/projects/{project_id}/workshop", tags=["workshop"])


@router.get("/beginning")
def beginning(project_id: str, path: str, workspace: Work, data: str | None = None) -> LayoutText:
    """A description to begin with."""
    return LayoutText(text=beginning_of(workspace, project_id, path, data))


@router.get("/unknown")
def unknown(project_id: str, workspace: Work) -> list[UnknownSort]:
    """Members of archives that no layout describes, by the endings of their names."""
    return [UnknownSort.model_validate(one) for one in unknown_members(workspace, project_id)]


@router.post("")
def look(project_id: str, request: WorkshopRequest, workspace: Work) -> WorkshopView:
    """What the description makes of the file: spans, members, the proof, or the error and its line."""
    sources = workshop_sources(workspace, project_id, request.path, request.data)
    found = _found(workspace, project_id, request)
    return WorkshopView.of(workshop.look(request.text, sources, found, check, pictured))


@router.post("/window")
def window(project_id: str, request: WindowRequest, workspace: Work) -> WindowView:
    """Some bytes, and the fields that lie over them."""
    sources = workshop_sources(workspace, project_id, request.path, request.data)
    found = _found(workspace, project_id, request)
    data, fields = workshop.window(request.text, sources, request.file, request.offset, request.length, found)
    return WindowView(offset=request.offset, bytes=base64.b64encode(data).decode(), fields=list(fields))


def _found(workspace: Workspace, project_id: str, request: WorkshopRequest) -> workshop.Found:
    files = {"main": request.path, "data": request.data}
    return {file: hits_in(workspace, project_id, path) for file, path in files.items() if path is not None}


@router.post("/say")
def say(project_id: str, request: SayRequest, workspace: Work) -> Said:
    """Say what some bytes are: the description with one part more."""
    sources = workshop_sources(workspace, project_id, request.path, request.data)
    text = workshop.say(request.text, sources, request.file, request.start, request.end, request.says, request.name)
    return Said(text=text)


@router.post("/mend")
def mend(project_id: str, request: MendRequest, workspace: Work) -> Said:
    """Take the line that a failed proof proposes."""
    workspace.project(project_id)
    return Said(text=workshop.mend(request.text, request.field, request.remedy))


@router.post("/seek")
def seek(project_id: str, request: Sought, workspace: Work) -> Places:
    """Where bytes stand in a file: exactly one place, or how many."""
    sources = workshop_sources(workspace, project_id, request.path, None)
    wanted = bytes.fromhex(request.hex) if request.hex else request.words.encode("utf-8", "surrogateescape")
    return Places(places=workshop.find_bytes(next(iter(sources.values())), wanted))
