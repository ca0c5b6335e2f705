"""Which layouts know a game; layouts that people give to each other; new archives by a layout."""

from __future__ import annotations

from fastapi import APIRouter

from brae.api.routes import Work
from brae.api.schemas.common import JobView
from brae.api.schemas.layouts import (
    GivenLayout,
    GiveRequest,
    KnownLayoutView,
    MadeArchive,
    MakeRequest,
    TakenLayout,
    TakeRequest,
    UseRequest,
)
from brae.work import layouts
from brae.work.browsing import typed_path

router = APIRouter(prefix="/projects/{project_id}/layouts", tags=["layouts"])


@router.get("")
def known(project_id: str, workspace: Work) -> list[KnownLayoutView]:
    """The layouts that know this game, and other ones of the person's own."""
    return [KnownLayoutView.model_validate(one) for one in layouts.overview(workspace, project_id)]


@router.post("/{layout}/give")
def give(project_id: str, layout: str, request: GiveRequest, workspace: Work) -> GivenLayout:
    """A layout as one file to give away, tested on this game's files."""
    file, text, tested = layouts.give(workspace, project_id, layout, **request.model_dump())
    return GivenLayout(file=file, text=text, tested=tested)


@router.post("/take", status_code=202)
def take(project_id: str, request: TakeRequest, workspace: Work) -> JobView:
    """Keep a shared layout and try it on this game's files, as a job; it is not used yet."""
    project = workspace.project(project_id)
    layouts.checked(request.text)  # what is no such file is said at once
    job, _ = workspace.jobs.start(
        "layout",
        f"Trying a layout on {project.name}",
        lambda job: _taken(layouts.receive(workspace, project_id, request.text, job)),
        project=project_id,
    )
    return JobView.model_validate(job.as_dict())


def _taken(found: dict[str, object]) -> dict[str, object]:
    return TakenLayout.model_validate(found).model_dump()


@router.post("/{layout}/use", status_code=204)
def use(project_id: str, layout: str, request: UseRequest, workspace: Work) -> None:
    """Use a version that is kept; one of the person's own is kept as a version first."""
    workspace.project(project_id)
    layouts.use(workspace.home.layouts, layout, request.version)


@router.post("/{layout}/make", status_code=202)
def make(project_id: str, layout: str, request: MakeRequest, workspace: Work) -> JobView:
    """A new archive from a folder's files, outside of the game, as a job."""
    folder, out = typed_path(request.folder), typed_path(request.out)
    workspace.project(project_id)
    job, _ = workspace.jobs.start(
        "make",
        f"Making {out.name} from {folder.name}",
        lambda job: MadeArchive.model_validate(
            layouts.make(workspace, project_id, layout, folder, out, request.like, job)
        ).model_dump(),
        project=project_id,
        out=str(out),
    )
    return JobView.model_validate(job.as_dict())
