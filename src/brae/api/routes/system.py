"""What this Brae is, its jobs, and what happens in it."""

from __future__ import annotations

import asyncio
import queue
from collections.abc import AsyncIterator
from pathlib import Path
from typing import Annotated

from fastapi import APIRouter, FastAPI, Request
from fastapi import Path as PathParameter
from fastapi.sse import EventSourceResponse, ServerSentEvent

from brae import __version__
from brae.api.routes import Work
from brae.api.schemas import LARGEST, JobView, LayoutView, State

JobNumber = Annotated[int, PathParameter(ge=0, le=LARGEST)]
router = APIRouter(tags=["system"])


@router.get("/state")
def state(request: Request, workspace: Work) -> State:
    """Version and folders."""
    demo = request.app.state.demo
    return State(
        version=__version__,
        home=str(workspace.home.path),
        user_folder=str(Path.home()),
        demo=str(demo) if demo and demo.is_dir() else None,
    )


@router.get("/layouts")
def layouts(workspace: Work) -> list[LayoutView]:
    """The layouts that every project knows."""
    found = workspace.library().layouts.values()
    return [LayoutView(layout=layout.layout, title=layout.title, kind=layout.kind) for layout in found]


@router.get("/jobs")
def jobs(workspace: Work) -> list[JobView]:
    """The newest jobs first."""
    return [JobView.model_validate(job) for job in workspace.jobs.latest()]


@router.get("/jobs/{number}")
def job(number: JobNumber, workspace: Work) -> JobView:
    """One job."""
    return JobView.model_validate(workspace.jobs.get(number))


@router.post("/jobs/{number}/cancel", status_code=202)
def cancel(number: JobNumber, workspace: Work) -> None:
    """Ask a job to stop; what it began is left as it was before."""
    workspace.jobs.cancel(number)


def stop_listening(app: FastAPI) -> None:
    """End every open stream of events, so that the server can stop."""
    app.state.stopping = True


@router.get("/events", response_class=EventSourceResponse)
async def events(request: Request, workspace: Work) -> AsyncIterator[ServerSentEvent]:
    """Server-sent events: jobs' progress, edits that came back, builds."""
    with workspace.events.listen() as listener:
        yield ServerSentEvent(data={"kind": "hello"})
        while not request.app.state.stopping and not await request.is_disconnected():
            try:
                yield ServerSentEvent(data=listener.get_nowait())
            except queue.Empty:
                await asyncio.sleep(0.05)
