"""Many items at once: to a folder of open files, and such a folder taken back."""

from __future__ import annotations

from collections.abc import Callable

from fastapi import APIRouter

from brae.api.routes import Work
from brae.api.routes.catalogue import search_of
from brae.api.schemas.common import JobView
from brae.api.schemas.items import ExportRequest, ImportRequest, ManyRequest
from brae.work.browsing import typed_path
from brae.work.edits import put_in_work
from brae.work.marks import set_marks, take_marks_back
from brae.work.sending import export, for_each, take_back

router = APIRouter(prefix="/projects/{project_id}", tags=["folders"])


@router.post("/export", status_code=202)
def send(project_id: str, request: ExportRequest, workspace: Work) -> JobView:
    """Send items to a folder, as a job; what is there already stays, so that it goes on after an interruption."""
    folder = typed_path(request.folder)
    project = workspace.project(project_id)
    chosen = request.addresses or search_of(
        project_id, workspace, request.q, request.where, request.inside, request.in_work, request.like
    )
    job, _ = workspace.jobs.start(
        "export",
        f"Sending items of {project.name} to {folder.name}",
        lambda job: export(workspace, project_id, folder, chosen, job),
        project=project_id,
        folder=str(folder),
    )
    return JobView.model_validate(job.as_dict())


@router.post("/many", status_code=202)
def many(project_id: str, request: ManyRequest, workspace: Work) -> JobView:
    """Put many items in work, or give them test colours or take those back, as a job."""
    project = workspace.project(project_id)
    acts: dict[str, tuple[Callable[[str], None], str]] = {
        "edit": (lambda address: put_in_work(workspace, project_id, address), "Files for editing of"),
        "mark": (lambda address: set_marks(workspace, project_id, [address], request.mark), "Test colours in"),
        "unmark": (lambda address: take_marks_back(workspace, project_id, [address]), "Test colours out of"),
    }
    act, words = acts[request.act]
    job, _ = workspace.jobs.start(
        "many",
        f"{words} {project.name}",
        lambda job: for_each(request.addresses, act, "items", job),
        project=project_id,
    )
    return JobView.model_validate(job.as_dict())


@router.post("/import", status_code=202)
def take(project_id: str, request: ImportRequest, workspace: Work) -> JobView:
    """Take back what differs in a folder that was exported, as a job."""
    folder = typed_path(request.folder)
    project = workspace.project(project_id)
    job, _ = workspace.jobs.start(
        "import",
        f"Taking {folder.name} back into {project.name}",
        lambda job: take_back(workspace, project_id, folder, job),
        project=project_id,
        folder=str(folder),
    )
    return JobView.model_validate(job.as_dict())
