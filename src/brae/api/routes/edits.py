"""Edit: items in work, the files that come back, remedies, undo."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Annotated, Any, Literal

import numpy as np
from fastapi import APIRouter, Query, Request, Response
from sqlalchemy import select
from starlette.concurrency import run_in_threadpool

from brae.api.routes import Work
from brae.api.schemas.common import JobView
from brae.api.schemas.edits import EditChoices as Choices
from brae.api.schemas.edits import EditView, GiveTo, Meant, Position, Remedies, SpoiltView, StepView, TestColours
from brae.api.schemas.items import Addresses
from brae.core.assets.base import HEAD, AssetKind
from brae.core.assets.registry import kind_of
from brae.core.assets.sheet import MatchSheet
from brae.core.assets.texture.files import write_image
from brae.core.errors import LimitError, NotFoundError
from brae.core.layouts.library import Library
from brae.jobs import Job
from brae.store.models import Edit, Member
from brae.work import Workspace
from brae.work.alike import CopiesOfEdits, copies_of_edits, give_to
from brae.work.edits import (
    LARGEST_UPLOAD,
    check_place,
    exchange_file,
    go_to,
    put_in_work,
    set_choices,
    set_remedies,
    take_beside,
    take_file,
    take_out_of_work,
)
from brae.work.families import FamilySize, family, lying_over, make_all
from brae.work.in_game import held, version
from brae.work.items import item_kind
from brae.work.marks import set_marks, take_marks_back
from brae.work.matching import say_meant
from brae.work.remapping import remap, seen, spoilt
from brae.work.sharing import MOST_WEIGHT, best_for_all, keep
from brae.work.templates import LaidOver, lay_over

#: larger files are looked at before the rest of them is taken
LARGE_UPLOAD = 64 << 20
router = APIRouter(prefix="/projects/{project_id}/edits", tags=["edit"])


def edit_view(
    workspace: Workspace, edit: Edit, name: str | None, library: Library, in_game: Mapping[str, str]
) -> EditView:
    """An edit as the page shows it; ``name``: the item's, where it is still in the game."""
    file, step = exchange_file(workspace, edit), edit.current
    beside = {part: own for part, (_, own) in step.beside.items()} if step else {}
    return EditView(
        address=edit.address,
        name=name or edit.address,
        kind=edit.kind,
        state=edit.state,
        file=str(file),
        file_exists=file.is_file(),
        fault=edit.fault,
        position=edit.position,
        steps=[StepView.model_validate(step) for step in edit.steps],
        sheet=MatchSheet.model_validate(edit.sheet) if edit.sheet else None,
        details=kind_of(edit.kind).tell(edit.recipe, step.choices if step else {}, edit.sheet, beside, library),
        beside=beside,
        marked=edit.marked,
        built=in_game.get(edit.address) == version(edit),
        revision=f"{(edit.encoded_sha256 or 'none')[:16]}-{edit.changed.timestamp():.0f}",
    )


def view_of(workspace: Workspace, project_id: str, address: str) -> EditView:
    """The edit of an item as the page shows it."""
    return views_of(workspace, project_id, [address])[0]


def views_of(workspace: Workspace, project_id: str, addresses: Sequence[str]) -> list[EditView]:
    """The edits of many items: what they have in common is asked for once."""
    library, in_game = workspace.library_of(project_id), held(workspace, project_id)
    found = []
    for address in addresses:
        name = workspace.find(project_id, address).member.name
        found.append(edit_view(workspace, workspace.edit(project_id, address), name, library, in_game))
    return found


def _started(workspace: Workspace, project_id: str, what: str, words: str, work: Callable[[Job], Any]) -> JobView:
    """A job of the project, after those that wait."""
    job, _ = workspace.jobs.start(what, words, work, project=project_id, queue=project_id)
    return JobView.model_validate(job.as_dict())


@router.get("/spoilt")
def spoilt_by_edit(project_id: str, address: str, workspace: Work) -> list[SpoiltView]:
    """The items that look otherwise when this edit is built, those that nobody has seen to first."""
    return [SpoiltView.model_validate(one) for one in spoilt(workspace, project_id, address)]


@router.get("/spoilt/picture", responses={200: {"content": {"image/png": {}}}}, response_class=Response)
def spoilt_picture(
    project_id: str, address: str, by: str, workspace: Work, after: bool = False, closely: bool = True
) -> Response:
    """An item as it looks now, or with the edit of the item ``by``; closely, where that changes something."""
    picture = seen(workspace, project_id, address, by, after=after, closely=closely)
    return Response(write_image(picture, quick=True), media_type="image/png", headers={"Cache-Control": "no-store"})


@router.post("/spoilt/remap", status_code=202)
def remap_spoilt(project_id: str, address: str, request: Addresses, workspace: Work) -> JobView:
    """Items that this edit spoils made edits of their own, in the nearest colours, as a job; all by default."""
    name = workspace.find(project_id, address).member.name
    return _started(
        workspace,
        project_id,
        "remap",
        f"Re-mapping what {name} changes",
        lambda job: vars(remap(workspace, project_id, address, request.addresses, job)),
    )


@router.post("/spoilt/keep", status_code=202)
def keep_spoilt(project_id: str, address: str, request: Addresses, workspace: Work) -> JobView:
    """Items that a palette's edit spoils get spare entries in it and look as they did, as a job; all by default."""
    name = workspace.find(project_id, address).member.name
    return _started(
        workspace,
        project_id,
        "keep",
        f"Spare entries of {name}",
        lambda job: vars(keep(workspace, project_id, address, request.addresses, job)),
    )


@router.post("/shared", status_code=202)
def share_palette(
    project_id: str, address: str, workspace: Work, weight: Annotated[float, Query(gt=0, le=MOST_WEIGHT)] = 1
) -> JobView:
    """The best palette for all that is drawn with it, and all of that re-mapped, as a job.

    ``weight``: how much a pixel of what is edited counts beside one of what is not.
    """
    name = workspace.find(project_id, address).member.name
    return _started(
        workspace,
        project_id,
        "share",
        f"The best {name} for all its pictures",
        lambda job: vars(best_for_all(workspace, project_id, address, weight=weight, ticker=job)),
    )


@router.post("/template")
def lay_template_over(
    project_id: str, address: str, template: str, workspace: Work, by: Literal["number", "name"] = "number"
) -> LaidOver:
    """The frames of another sprite laid over an item's, by their numbers or by their sequences' names."""
    return lay_over(workspace, project_id, address, template, by)


@router.get("/sizes")
def sizes(project_id: str, address: str, workspace: Work) -> list[FamilySize]:
    """The sizes in which the game has an item's picture, as far as names tell; the largest first."""
    return family(workspace, project_id, address)


@router.get("/sizes/over", responses={200: {"content": {"image/png": {}}}}, response_class=Response)
def over_sizes(project_id: str, address: str, workspace: Work) -> Response:
    """What lies over all pictures of each size of an item's: over black, and over white beside it."""
    shown = np.round(np.clip(lying_over(workspace, project_id, address), 0, 1) * 255).astype(np.uint8)
    return Response(write_image(shown, quick=True), media_type="image/png", headers={"Cache-Control": "no-store"})


@router.put("/sizes", status_code=202)
async def make_sizes(
    project_id: str,
    address: str,
    name: str,
    request: Request,
    workspace: Work,
    sharpen: Annotated[float, Query(ge=0, le=2)] = 0,
    x: Annotated[float, Query(ge=0, le=1)] = 0.5,
    y: Annotated[float, Query(ge=0, le=1)] = 0.5,
    only: Annotated[list[str] | None, Query(max_length=50)] = None,
) -> JobView:
    """Every size of an item's picture, or ``only`` some, made of the body's; cropped around ``x``, ``y``."""
    data = await body_of(request, name, await run_in_threadpool(kind_at, workspace, project_id, address))
    return _started(
        workspace,
        project_id,
        "sizes",
        f"All sizes of {name}",
        lambda job: make_all(
            workspace, project_id, address, data, name, sharpen=sharpen, middle=(x, y), only=only or (), ticker=job
        ),
    )


@router.get("")
def edits(project_id: str, workspace: Work) -> list[EditView]:
    """Every item in work."""
    workspace.project(project_id)
    with workspace.database.session() as session:
        query = (
            select(Edit, Member.name)
            .outerjoin(Member, (Member.project_id == Edit.project_id) & (Member.address == Edit.address))
            .where(Edit.project_id == project_id, Edit.in_work)
            .order_by(Edit.id)
        )
        rows = session.execute(query).all()
    library, in_game = workspace.library_of(project_id), held(workspace, project_id)
    return [edit_view(workspace, edit, name, library, in_game) for edit, name in rows]


@router.post("", status_code=201)
def put(project_id: str, request: Addresses, workspace: Work) -> list[EditView]:
    """Put items in work: their files appear in the exchange folder."""
    for address in request.addresses:
        put_in_work(workspace, project_id, address)
    return views_of(workspace, project_id, request.addresses)


@router.delete("", status_code=204)
def take_out(project_id: str, address: str, workspace: Work) -> None:
    """Take an item out of work; its versions are kept."""
    take_out_of_work(workspace, project_id, address)


@router.get("/copies")
def copies(project_id: str, workspace: Work) -> CopiesOfEdits:
    """Where what is being edited is stored again."""
    return copies_of_edits(workspace, project_id)


@router.post("/copies", status_code=202)
def give(project_id: str, request: GiveTo, workspace: Work) -> JobView:
    """Give copies of an item the edit that it has, as a job."""
    words = f"Giving {len(request.copies)} copies the same edit"
    return _started(
        workspace,
        project_id,
        "give",
        words,
        lambda job: give_to(workspace, project_id, request.address, request.copies, job),
    )


@router.post("/copies/compare", status_code=202)
def compare(project_id: str, workspace: Work) -> JobView:
    """Look at all pictures of the game, so that copies in another size or format are known, as a job."""
    # Brae starts without what looks at pictures.
    from brae.work.finding import gathered

    def work(job: Job) -> dict[str, int]:
        return {"pictures": len(gathered(workspace, project_id, job).pictures)}

    project = workspace.project(project_id)
    job, _ = workspace.jobs.start(
        "compare", f"Comparing the pictures of {project.name}", work, project=project_id,
        queue=f"{project_id} pictures",
    )  # fmt: skip
    return JobView.model_validate(job.as_dict())


@router.get("/file", response_class=Response)
def download(project_id: str, address: str, workspace: Work) -> Response:
    """The exchange file, to save it elsewhere."""
    file = exchange_file(workspace, workspace.edit(project_id, address))
    check_place(workspace, file)
    if not file.is_file():
        raise NotFoundError("The exchange file is gone.", address=address, remedy="Press *Edit this* once more.")
    name = file.name.encode("ascii", "replace").decode().replace('"', "_")
    return Response(
        file.read_bytes(),
        media_type=_media_of(workspace.edit(project_id, address)),
        headers={"Content-Disposition": f'attachment; filename="{name}"'},
    )


@router.put("/file")
async def upload(
    project_id: str,
    address: str,
    request: Request,
    workspace: Work,
    name: Annotated[str, Query(max_length=300)] = "upload",
) -> EditView:
    """A file came back by hand: it is the body of the request."""
    data = await body_of(request, name, await run_in_threadpool(kind_at, workspace, project_id, address))
    await run_in_threadpool(take_file, workspace, project_id, address, data, name)
    return await run_in_threadpool(view_of, workspace, project_id, address)


async def body_of(request: Request, name: str, kind: AssetKind[Any] | None = None) -> bytes:
    """The bytes that were sent; LimitError where they are too many.

    Its ``kind`` refuses a large file by its beginning, before all of it is there.
    """
    data, looked = bytearray(), False
    async for part in request.stream():
        data += part
        if not looked and len(data) >= HEAD:
            # What is no such file is refused by its beginning; of its end and size nothing is known yet.
            looked = True
            announced = int(request.headers.get("content-length") or 0)
            if kind is not None and announced > LARGE_UPLOAD:
                kind.check_large(bytes(data[:HEAD]), b"", announced, name)
        if len(data) > LARGEST_UPLOAD:
            raise LimitError(f"The file is larger than {LARGEST_UPLOAD} bytes.")
    return bytes(data)


def _media_of(edit: Edit) -> str:
    suffix = edit.exchange_path[edit.exchange_path.rfind(".") :]
    return next(
        (one.media for one in kind_of(edit.kind).exchange if one.suffix == suffix), "application/octet-stream"
    )


@router.put("/remedies")
def remedies(project_id: str, address: str, request: Remedies, workspace: Work) -> EditView:
    """Apply exactly these remedies."""
    set_remedies(workspace, project_id, address, request.remedies)
    return view_of(workspace, project_id, address)


@router.put("/meant")
def finding_meant(project_id: str, address: str, request: Meant, workspace: Work) -> EditView:
    """A finding is meant, of this item, of its folder or of every item; or it is not meant after all."""
    say_meant(workspace, project_id, address, request.finding, request.scope)
    return view_of(workspace, project_id, address)


@router.put("/choices")
def choices(project_id: str, address: str, request: Choices, workspace: Work) -> EditView:
    """Encode otherwise than the original; what can be chosen is the kind's own."""
    set_choices(workspace, project_id, address, request.choices)
    return view_of(workspace, project_id, address)


@router.put("/beside")
async def beside(
    project_id: str,
    address: str,
    part: Annotated[str, Query(max_length=100, description="the kind's name for it, such as a mip level's number")],
    request: Request,
    workspace: Work,
    name: Annotated[str, Query(max_length=300)] = "upload",
) -> EditView:
    """A file that replaces one part of an item is the body of the request; no body takes it back."""
    data = await body_of(request, name, await run_in_threadpool(kind_at, workspace, project_id, address))
    await run_in_threadpool(take_beside, workspace, project_id, address, part, data, name)
    return await run_in_threadpool(view_of, workspace, project_id, address)


def kind_at(workspace: Workspace, project_id: str, address: str) -> AssetKind[Any]:
    """The kind of an item."""
    return item_kind(workspace, workspace.find(project_id, address))


@router.put("/test-colours")
def test_colours(project_id: str, request: TestColours, workspace: Work) -> list[EditView]:
    """Test colours in the place of items' pictures; ``mark`` null takes them back."""
    if request.mark is None:
        take_marks_back(workspace, project_id, request.addresses)
    else:
        set_marks(workspace, project_id, request.addresses, request.mark)
    return views_of(workspace, project_id, request.addresses)


@router.put("/position")
def position(project_id: str, address: str, request: Position, workspace: Work) -> EditView:
    """Undo and redo: use the first so many versions."""
    go_to(workspace, project_id, address, request.position)
    return view_of(workspace, project_id, address)
