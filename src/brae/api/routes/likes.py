"""Find by a picture: a screenshot, a crop or a drawing, and the items that it shows."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query, Request, Response
from fastapi.concurrency import run_in_threadpool

from brae.api.routes import Work
from brae.api.routes.edits import body_of
from brae.api.schemas.items import LikeView
from brae.work import Workspace
from brae.work.asked import Asked

router = APIRouter(prefix="/projects/{project_id}/likes", tags=["find"])


@router.post("", status_code=202)
async def look_for(
    project_id: str, request: Request, name: Annotated[str, Query(max_length=260)], workspace: Work
) -> LikeView:
    """Look for the items that a picture shows, as a job. Pictures of the game that are new are looked at first."""
    data = await body_of(request, name)
    return _view(await run_in_threadpool(_ask, workspace, project_id, data, name))


def _ask(workspace: Workspace, project_id: str, data: bytes, name: str) -> Asked:
    # Brae starts without what looks at pictures.
    from brae.work.finding import answer, ask

    project = workspace.project(project_id)
    asked = ask(workspace, project_id, data, name)
    words = f"Looking for a picture in {project.name}"
    # One after the other: each stands on the pictures that the one before looked at.
    _, done = workspace.jobs.start(
        "like",
        words,
        lambda job: answer(workspace, asked, job),
        project=project_id,
        queue=f"{project_id} pictures",
    )
    done.add_done_callback(lambda _: asked.give_up())
    return asked


@router.get("/{like}")
def found(project_id: str, like: str, workspace: Work) -> LikeView:
    """What a picture shows, as far as that is known."""
    return _view(workspace.asked.of(project_id, like))


@router.get("/{like}/picture", response_class=Response)
def picture(project_id: str, like: str, workspace: Work) -> Response:
    """The picture that is looked for."""
    from brae.core.find.looks import to_png

    data = to_png(workspace.asked.of(project_id, like).picture)
    return Response(data, media_type="image/png", headers={"Cache-Control": "private, max-age=86400"})


def _view(asked: Asked) -> LikeView:
    height, width = asked.picture.shape[:2]
    return LikeView.model_validate(
        {
            "id": asked.id,
            "width": width,
            "height": height,
            "ready": asked.found is not None,
            "searched": asked.searched,
            "fault": asked.fault,
            "found": [
                {
                    "address": one.address,
                    "score": round(one.match.score, 4),
                    "how": one.match.how,
                    "place": [{"x": x, "y": y} for x, y in one.match.place],
                    "flip": one.match.flip,
                }
                for one in asked.found or []
            ],
        }
    )
