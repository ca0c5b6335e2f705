"""One change of colours over many items, and colour steps that are kept."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Annotated, Any

from fastapi import APIRouter, Query, Request, Response

from brae.api.routes import Work
from brae.api.schemas.colours import ColourSteps, ColourStepsView, ColourText, KeptColours, Recolour, Some
from brae.api.schemas.common import JobView
from brae.api.schemas.items import Addresses
from brae.core.errors import FormatError

if TYPE_CHECKING:
    from brae.core.recolour.steps import Steps
    from brae.work.recolouring import Small

router = APIRouter(tags=["colours"])

# Brae starts without what works on colours: it is imported where it is asked for.


def _steps(data: ColourSteps | dict[str, Any]) -> Steps:
    from brae.work.recolouring import from_text

    said = data if isinstance(data, dict) else data.model_dump()
    return from_text(json.dumps(said))


def _view(steps: Steps) -> ColourStepsView:
    from brae.work.recolouring import as_text

    data = steps.model_dump(mode="json", by_alias=True, exclude_defaults=True)
    return ColourStepsView(title=steps.title, steps=data["steps"], text=as_text(steps))


@router.get("/projects/{project_id}/colours/preview", response_class=Response)
def preview(
    project_id: str,
    address: str,
    workspace: Work,
    request: Request,
    steps: Annotated[str, Query(max_length=20_000)] = "",
    side: Annotated[int, Query(ge=16, le=1024)] = 160,
) -> Response:
    """An item after colour steps (as JSON; without any, before them), as a small PNG."""
    from brae.work.recolouring import preview as made

    try:
        said = json.loads(steps) if steps else {}
    except ValueError as error:
        raise FormatError(f"The steps are no JSON: {error}.") from error
    if not isinstance(said, dict):
        raise FormatError("The steps are no object.", expected='{"steps": [...]}')
    wanted = _steps(said) if said.get("steps") else None
    data = made(workspace, _small(request), project_id, address, wanted, side)
    return Response(data, media_type="image/png", headers={"Cache-Control": "no-cache"})


def _small(request: Request) -> Small:
    from brae.work.recolouring import Small

    state = request.app.state
    if getattr(state, "small", None) is None:
        state.small = Small()
    found: Small = state.small
    return found


@router.post("/projects/{project_id}/colours/look")
def look(project_id: str, asked: Some, workspace: Work, request: Request) -> dict[str, str]:
    """Those of some items for which colour steps are no good (normal maps and the like), with the reason."""
    from brae.work.recolouring import look as act

    return act(workspace, _small(request), project_id, asked.addresses, asked.side)


@router.post("/projects/{project_id}/colours", status_code=202)
def recolour(project_id: str, request: Recolour, workspace: Work) -> JobView:
    """Change the colours of items by steps, each as an edit, as a job."""
    from brae.work.recolouring import recolour as act

    steps = _steps(request.steps)
    job, _ = workspace.jobs.start(
        "recolour",
        f"Changing the colours of {len(request.addresses):,} items",
        lambda job: vars(act(workspace, project_id, request.addresses, steps, job)),
        project=project_id,
        queue=project_id,
    )
    return JobView.model_validate(job.as_dict())


@router.post("/projects/{project_id}/colours/back", status_code=202)
def take_back(project_id: str, request: Addresses, workspace: Work) -> JobView:
    """Give items the version before their colours were changed, as a job."""
    from brae.work.recolouring import take_back as act

    job, _ = workspace.jobs.start(
        "recolour",
        f"Taking the colours of {len(request.addresses):,} items back",
        lambda job: act(workspace, project_id, request.addresses, job),
        project=project_id,
        queue=project_id,
    )
    return JobView.model_validate(job.as_dict())


@router.get("/projects/{project_id}/colours/now")
def now(project_id: str, address: str, workspace: Work) -> ColourStepsView | None:
    """The steps that an item's colours were changed by."""
    from brae.work.recolouring import steps_of

    found = steps_of(workspace, project_id, address)
    return None if found is None else _view(found)


@router.get("/colours")
def all_kept(workspace: Work) -> list[KeptColours]:
    """The colour steps that are kept."""
    from brae.work.recolouring import kept

    return [KeptColours(name=name, steps=_view(steps)) for name, steps in kept(workspace.home).items()]


@router.put("/colours/{name}")
def keep(name: str, request: ColourSteps, workspace: Work) -> list[KeptColours]:
    """Keep colour steps under a name."""
    from brae.work.recolouring import keep as act

    act(workspace.home, name, _steps(request))
    return all_kept(workspace)


@router.delete("/colours/{name}")
def forget(name: str, workspace: Work) -> list[KeptColours]:
    """Keep colour steps no longer."""
    from brae.work.recolouring import forget as act

    act(workspace.home, name)
    return all_kept(workspace)


@router.post("/colours/read")
def read(request: ColourText) -> ColourStepsView:
    """Colour steps from text; where something is wrong, the line is told."""
    from brae.work.recolouring import from_text

    return _view(from_text(request.text))


@router.post("/colours/written")
def written(request: ColourSteps) -> ColourStepsView:
    """Colour steps checked, and as text."""
    return _view(_steps(request))
