"""Open: projects, and choosing one from the folders of this computer."""

from __future__ import annotations

from pathlib import Path

from fastapi import APIRouter
from sqlalchemy import func, select

from brae.api.routes import Work
from brae.api.schemas.common import Fault, JobView
from brae.api.schemas.games import (
    ArchiveView,
    Choice,
    Choices,
    Counts,
    GameView,
    KeptLayout,
    KeptSearch,
    LayoutText,
    OpenRequest,
    ProjectSummary,
    ProjectView,
    Structure,
    StructureRequest,
    UndescribedFile,
)
from brae.core.containers import scattered
from brae.core.errors import NotFoundError, ReadOnlyError
from brae.jobs import Job
from brae.store.models import Addition, ArchiveRow, Edit, Original, Project
from brae.work import Workspace
from brae.work.browsing import Folder, browse, typed_path
from brae.work.in_game import waiting
from brae.work.opening import begin, open_game
from brae.work.projects import choose, keep_search
from brae.work.structures import keep_layout, look_ahead, start_search
from brae.work.trials import has_standin

router = APIRouter(tags=["open"])


def _start_opening(workspace: Workspace, path: Path) -> JobView:
    project = begin(workspace, path)

    def work(job: Job) -> dict[str, object]:
        result = open_game(workspace, path, job)
        look_ahead(workspace, project)
        return result

    job, _ = workspace.jobs.start(
        "open", f"Opening {path.name}", work, project=project, queue=project, path=str(path)
    )
    return JobView.model_validate(job.as_dict())


@router.get("/projects")
def projects(workspace: Work) -> list[ProjectSummary]:
    """Every game that was opened, newest first."""
    with workspace.database.session() as session:
        rows = session.scalars(select(Project).order_by(Project.opened.desc()))
        return [ProjectSummary.model_validate(row) for row in rows]


@router.post("/projects", status_code=202)
def open_project(request: OpenRequest, workspace: Work) -> JobView:
    """Open a folder or an archive, as a job; its result names the project."""
    path = typed_path(request.path)
    if not path.exists():
        raise NotFoundError(f"There is no file or folder {path}.", remedy="Check the spelling.")
    return _start_opening(workspace, path)


@router.post("/projects/{project_id}/open", status_code=202)
def open_again(project_id: str, workspace: Work) -> JobView:
    """Look through the game again: its files as they are now; edits are kept."""
    project = workspace.project(project_id)
    path = Path(project.folder) / (project.only or "")
    return _start_opening(workspace, path)


@router.delete("/projects/{project_id}", status_code=204)
def forget(project_id: str, workspace: Work) -> None:
    """Forget a project whose game is as it was; exchange files and kept bytes stay."""
    with workspace.locked(project_id, "forgetting it", wait=False):
        workspace.project(project_id)
        changed = [path for path, one in workspace.originals(project_id).items() if one.state != "original"]
        if changed:
            raise ReadOnlyError(
                "Files of this game are changed; Brae must not forget how to put them back.",
                address=changed[0],
                remedy="Restore the originals first.",
            )
        with workspace.database.change() as session:
            session.delete(session.get_one(Project, project_id))
        workspace.ledger.forget(project_id)


@router.get("/projects/{project_id}")
def project(project_id: str, workspace: Work) -> ProjectView:
    """A project with its archives, proofs and counts."""
    row = workspace.project(project_id)
    with workspace.database.session() as session:
        archives = list(session.scalars(select(ArchiveRow).where(ArchiveRow.project_id == project_id)))
        described = [archive for archive in archives if archive.layout is not None and not _empty(archive)]
        by_state = (
            select(Edit.state, func.count()).where(Edit.project_id == project_id, Edit.in_work).group_by(Edit.state)
        )
        states = dict(session.execute(by_state).all())
        new = session.scalar(
            select(func.count()).where(Addition.project_id == project_id, Addition.gone.is_(False))
        )
        built = session.scalar(
            select(func.count()).where(Original.project_id == project_id, Original.state != "original")
        )
    return ProjectView(
        **ProjectSummary.model_validate(row).model_dump(),
        files_seen=row.files_seen,
        layout_faults=[Fault.model_validate(fault) for fault in row.layout_faults],
        archives=[ArchiveView.model_validate(archive) for archive in described],
        loose_files=sum(archive.layout is None for archive in archives),
        undescribed=[UndescribedFile.model_validate(entry) for entry in row.undescribed],
        counts=Counts(
            members=sum(archive.member_count for archive in archives) + (new or 0),
            in_work=sum(states.values()),
            attention=states.get("attention", 0),
            ready=waiting(workspace, project_id),
            built_files=built or 0,
        ),
        standin=has_standin(Path(row.folder)),
        exchange=str(workspace.exchange_folder(project_id)),
        game=_game(workspace, row),
        game_faults=row.game_faults,
        searches=row.searches,
    )


def _empty(archive: ArchiveRow) -> bool:
    """Whether a file was looked through by signs, and nothing lies in it."""
    return archive.layout == scattered.KIND and archive.member_count == 0


def _game(workspace: Workspace, project: Project) -> GameView | None:
    profile = workspace.profile(project)
    if profile is None:
        return None
    return GameView(
        game=profile.game,
        title=profile.title,
        editions=[Choice(name=one.edition, title=one.title) for one in profile.editions],
        edition=project.edition,
        chosen_edition=project.chosen_edition,
        ways=[Choice(name=one.way, title=one.title) for one in profile.ways],
        way=profile.way(project.way).way,
    )


@router.put("/projects/{project_id}/choices", status_code=204)
def choices(project_id: str, request: Choices, workspace: Work) -> None:
    """Choose the way by which builds go back, or say which edition this is."""
    choose(workspace, project_id, edition=request.edition, way=request.way)


@router.put("/projects/{project_id}/searches", status_code=204)
def searches(project_id: str, request: KeptSearch, workspace: Work) -> None:
    """Keep a search, or keep it no longer."""
    keep_search(workspace, project_id, request.query, kept=request.kept)


@router.post("/projects/{project_id}/structure", status_code=202)
def structure(project_id: str, request: StructureRequest, workspace: Work) -> JobView:
    """Look for the structure of a file that no layout describes, as a job; its result holds the proposals."""
    job = start_search(workspace, project_id, request.path, request.data)
    return JobView.model_validate(job.as_dict())


@router.get("/projects/{project_id}/structure")
def structures(project_id: str, workspace: Work) -> list[Structure]:
    """What was found in the files that were looked into last, each file once."""
    found: dict[str, Structure] = {}
    for job in workspace.jobs.latest(100):
        if (job["kind"], job["state"], job["project_id"]) == ("structure", "done", project_id):
            result = Structure.model_validate(job["result"])
            found.setdefault(result.path, result)
    return list(found.values())


@router.post("/layouts", status_code=201)
def keep(request: LayoutText, workspace: Work) -> KeptLayout:
    """Save a layout among the person's own, for every game."""
    return KeptLayout(file=keep_layout(workspace, request.text))


@router.get("/browse")
def browse_folder(workspace: Work, path: str | None = None) -> Folder:
    """What lies in a folder: folders, and files with their size and what their first bytes say that they are."""
    return browse(workspace, path)
