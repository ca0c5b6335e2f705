"""Maps of one surface, and the channels of packed maps."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query, Request, Response
from starlette.concurrency import run_in_threadpool

from brae.api.routes import Work
from brae.api.routes.edits import body_of, view_of
from brae.api.schemas import EditView, MapView
from brae.core.layouts.roles import Channel
from brae.work.maps import channel_of, set_channel, surface

router = APIRouter(prefix="/projects/{project_id}", tags=["maps"])


@router.get("/maps")
def maps(project_id: str, address: str, workspace: Work) -> list[MapView]:
    """The textures that belong to the same surface as an item, itself included."""
    return [
        MapView(address=one.member.address, name=one.member.name, role=one.name.role, channels=one.name.channels)
        for one in surface(workspace, project_id, address)
    ]


@router.get("/channel", response_class=Response)
def channel(project_id: str, address: str, channel: Channel, workspace: Work) -> Response:
    """One channel of an item as a grey picture."""
    data = channel_of(workspace, project_id, address, channel)
    media = "image/png" if data[:4] == b"\x89PNG" else "application/octet-stream"
    return Response(data, media_type=media, headers={"Cache-Control": "no-cache"})


@router.put("/channel")
async def put_channel(
    project_id: str,
    address: str,
    channel: Channel,
    request: Request,
    workspace: Work,
    name: Annotated[str, Query(max_length=300)] = "",
    invert: bool = False,
) -> EditView:
    """A picture's red in one channel of an item; without a picture the channel's own, inverted."""
    data = await body_of(request, name)
    await run_in_threadpool(lambda: set_channel(workspace, project_id, address, channel, data, name, invert=invert))
    return await run_in_threadpool(view_of, workspace, project_id, address)
