"""Build, restore and try."""

from __future__ import annotations

import base64

from fastapi import APIRouter
from sqlalchemy import select

from brae.api.routes import Work
from brae.api.schemas.builds import (
    BuildPlan,
    BuildRequest,
    BuildView,
    HeardLine,
    PlayReport,
    RestoreRequest,
    TrialView,
    WalkedMenu,
)
from brae.api.schemas.common import JobView
from brae.api.schemas.games import GameFile
from brae.core.errors import ChangedError
from brae.demo.standin import Report
from brae.store.models import Build
from brae.work import builds, planning, trials

router = APIRouter(prefix="/projects/{project_id}", tags=["build"])


@router.get("/plan")
def plan(project_id: str, workspace: Work) -> BuildPlan:
    """What a build would do now; nothing is written."""
    return BuildPlan.model_validate(planning.plan(workspace, project_id).as_dict())


@router.post("/build", status_code=202)
def build(project_id: str, workspace: Work, request: BuildRequest | None = None) -> JobView:
    """Carry the plan out, as a job; it waits for its turn where the project is being worked on."""
    workspace.project(project_id)
    may_grow = request is not None and request.may_grow
    job, _ = workspace.jobs.start(
        "build",
        "Building",
        lambda job: builds.build(workspace, project_id, job, may_grow=may_grow),
        project=project_id,
        queue=project_id,
    )
    return JobView.model_validate(job.as_dict())


@router.post("/restore", status_code=202)
def restore(project_id: str, request: RestoreRequest, workspace: Work) -> JobView:
    """Put originals back, of the files named or of all that Brae changed, as a job; its result names them."""
    workspace.project(project_id)
    job, _ = workspace.jobs.start(
        "restore",
        "Putting the originals back",
        lambda job: builds.restore(workspace, project_id, request.paths, force=request.force, ticker=job),
        project=project_id,
        queue=project_id,
    )
    return JobView.model_validate(job.as_dict())


@router.get("/builds")
def history(project_id: str, workspace: Work) -> list[BuildView]:
    """Builds and restores, newest first."""
    with workspace.database.session() as session:
        rows = session.scalars(
            select(Build).where(Build.project_id == project_id).order_by(Build.id.desc()).limit(50)
        )
        return [BuildView.model_validate(row) for row in rows]


@router.get("/files")
def files(project_id: str, workspace: Work) -> list[GameFile]:
    """The game's files that Brae watches over."""
    project = workspace.project(project_id)
    found = []
    for row in workspace.originals(project_id).values():
        try:
            workspace.check_unchanged(project, row)
            behind = None
        except ChangedError as error:
            behind = f"{error.message} {error.remedy}"
        found.append(
            GameFile(
                path=row.path,
                size=row.size,
                sha256=row.sha256,
                state=row.state,
                current_size=row.current_size,
                kept_whole=row.whole is not None,
                kept_bytes=sum(kept.length for kept in row.ranges),
                changed_behind=behind,
            )
        )
    return found


def _sound(data: bytes) -> str:
    return _as_url("audio/ogg" if data[:4] == b"OggS" else "audio/wav", data) if data else ""


def _report(report: Report) -> PlayReport:
    return PlayReport(
        trace=report.trace,
        refused=report.refused,
        placeholders=report.placeholders,
        scene=_as_url("image/png", report.scene),
        lines=[
            HeardLine(
                name=line.name, speaker=line.speaker, sound=_sound(line.sound),
                moves=line.moves, fault=line.fault,
            )
            for line in report.lines
        ],
        menus={
            number: WalkedMenu(
                picture=_as_url("image/png", menu.picture), boxes=[list(box) for box in menu.boxes],
                targets=menu.targets, does=menu.does, ways=menu.ways,
            )
            for number, menu in report.menus.items()
        },
        first_menu=report.first_menu,
        faces={speaker: _as_url("image/png", picture) for speaker, picture in report.faces.items()},
    )  # fmt: skip


def _as_url(media: str, data: bytes) -> str:
    return f"data:{media};base64,{base64.b64encode(data).decode()}"


@router.post("/trial")
def trial(project_id: str, workspace: Work) -> TrialView:
    """The stand-in for the game loads the files as they were and as they are."""
    found = trials.run(workspace, project_id)
    return TrialView(before=_report(found.before), after=_report(found.after))
