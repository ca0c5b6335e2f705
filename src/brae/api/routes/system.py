"""What this Brae is, its jobs, and what happens in it."""

from __future__ import annotations

import asyncio
import queue
from collections.abc import AsyncIterator
from contextlib import suppress
from pathlib import Path
from typing import Annotated

from fastapi import APIRouter, FastAPI, Request
from fastapi import Path as PathParameter
from fastapi.sse import EventSourceResponse, ServerSentEvent

from brae import __version__
from brae.api.routes import Work
from brae.api.schemas.common import LARGEST, JobView, LayoutView, State
from brae.core.errors import ReadOnlyError

JobNumber = Annotated[int, PathParameter(ge=0, le=LARGEST)]
#: seconds after which a stream of events looks whether its page is still there
_STILL_THERE = 5.0
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


@router.post("/end", status_code=202)
def end(request: Request) -> None:
    """End this Brae in good order; what runs is asked to stop, and nothing of it is lost."""
    if request.app.state.end is None:
        raise ReadOnlyError("This Brae was not started by itself.", remedy="End the program that it runs in.")
    request.app.state.end()


def stop_listening(app: FastAPI) -> None:
    """End every open stream of events, so that the server can stop."""
    app.state.stopping = True
    app.state.workspace.events.publish("end")


@router.get("/events", response_class=EventSourceResponse)
async def events(request: Request, workspace: Work) -> AsyncIterator[ServerSentEvent]:
    """Server-sent events: jobs' progress, edits that came back, builds. ``lost``: look at everything anew."""
    loop, more = asyncio.get_running_loop(), asyncio.Event()
    with workspace.events.listen(lambda: loop.call_soon_threadsafe(more.set)) as listener:
        yield ServerSentEvent(data={"kind": "hello"})
        while not request.app.state.stopping and not await request.is_disconnected():
            more.clear()
            with suppress(queue.Empty):
                while True:
                    yield ServerSentEvent(data=listener.get_nowait())
            with suppress(TimeoutError):
                await asyncio.wait_for(more.wait(), _STILL_THERE)
