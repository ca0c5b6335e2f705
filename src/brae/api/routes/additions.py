"""Items that the game has not: made like one of its own, and taken away again."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query, Request
from starlette.concurrency import run_in_threadpool

from brae.api.routes import Work
from brae.api.routes.edits import body_of, kind_at
from brae.api.schemas.additions import MadeNew, Neighbour, NewProposal
from brae.core.assets.base import ExchangeFile
from brae.work.adding import Beginning, make_with, proposal, take_away

router = APIRouter(prefix="/projects/{project_id}/new", tags=["new"])


@router.get("")
def propose(project_id: str, like: str, workspace: Work) -> NewProposal:
    """What a new item like another one could be called, what it names, what uses it, and how large it may be."""
    found = proposal(workspace, project_id, like)
    return NewProposal(
        name=found.name, from_file=found.from_file, sized=found.sized, scale=found.scale, most=found.most,
        ready=found.ready,
        uses=[Neighbour.model_validate(one) for one in found.uses],
        used_by=[Neighbour.model_validate(one) for one in found.used_by],
    )  # fmt: skip


@router.post("", status_code=201)
async def make(
    project_id: str,
    like: str,
    name: Annotated[str, Query(max_length=300)],
    request: Request,
    workspace: Work,
    file: Annotated[str, Query(max_length=300, description="the name of the file that is the body")] = "",
    units: Annotated[float | None, Query(description="how long its longer side is in the world")] = None,
    scale: Annotated[float | None, Query(description="units that a texel covers")] = None,
    most: Annotated[int | None, Query(description="the longest side in pixels")] = None,
    copy: Annotated[str | None, Query(description="an item that names the other one, to be copied as well")] = None,
    copy_name: Annotated[str, Query(max_length=300)] = "",
    users: Annotated[list[str] | None, Query(description="items that use the last one made from now on")] = None,
) -> MadeNew:
    """A new item like another; with a body it is made of that file, encoded like it. All of it or nothing."""
    data = await body_of(request, file, await run_in_threadpool(kind_at, workspace, project_id, like))
    wish = {"units": units, "scale": scale, "most": most}
    beginning = Beginning(
        like, name, ExchangeFile(file, data) if data else None,
        {key: value for key, value in wish.items() if value is not None},
    )  # fmt: skip
    made = await run_in_threadpool(
        make_with, workspace, project_id, beginning, copy=copy, copy_name=copy_name, users=users or []
    )
    return MadeNew(made=made)


@router.delete("", status_code=204)
def unmake(project_id: str, address: str, workspace: Work) -> None:
    """A new item taken away again; its versions are kept."""
    take_away(workspace, project_id, address)
