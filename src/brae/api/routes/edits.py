"""Edit: items in work, the files that come back, remedies, undo."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query, Request, Response
from sqlalchemy import select
from starlette.concurrency import run_in_threadpool

from brae.api.routes import Work
from brae.api.schemas import Addresses, EditView, Position, Remedies, StepView, TestColours
from brae.core.assets.texture import formats
from brae.core.assets.texture.files import HEAD, TGA_END, check_picture, sayable
from brae.core.assets.texture.sheet import MatchSheet
from brae.core.assets.texture.texture import Departures, Recipe
from brae.core.errors import LimitError, NotFoundError
from brae.store.models import Edit, Member
from brae.work import Workspace
from brae.work.edits import (
    LARGEST_UPLOAD,
    check_place,
    exchange_file,
    go_to,
    marked_now,
    put_in_work,
    set_choices,
    set_marks,
    set_remedies,
    take_file,
    take_level,
    take_marks_back,
    take_out_of_work,
)

router = APIRouter(prefix="/projects/{project_id}/edits", tags=["edit"])


def edit_view(workspace: Workspace, edit: Edit, member: Member | None) -> EditView:
    """An edit as the page shows it."""
    file = exchange_file(workspace, edit)
    recipe = Recipe.model_validate(edit.recipe)
    sheet = MatchSheet.model_validate(edit.sheet) if edit.sheet else None
    made = next((row.result for row in sheet.properties if row.name == "Mip levels"), "0") if sheet else "0"
    return EditView(
        address=edit.address,
        name=member.name if member else edit.address,
        state=edit.state,
        file=str(file),
        file_exists=file.is_file(),
        fault=edit.fault,
        position=edit.position,
        steps=[StepView.model_validate(step) for step in edit.steps],
        sheet=sheet,
        recipe=recipe,
        choices=Departures.model_validate(edit.steps[edit.position - 1].choices) if edit.position else Departures(),
        formats=sayable(recipe.container, workspace.library_of(edit.project_id)),
        depth=formats.get(recipe.format).depth,
        own_levels={
            int(number): name
            for number, (_, name) in (edit.steps[edit.position - 1].levels if edit.position else {}).items()
        },
        marked=marked_now(edit),
        width=recipe.width,
        height=recipe.height * recipe.surfaces * recipe.depth,
        levels=recipe.levels,
        most_levels=formats.full_chain(max(recipe.width, recipe.depth), recipe.height),
        result_levels=int(made) if made.isdigit() else 0,
        revision=f"{(edit.encoded_sha256 or 'none')[:16]}-{edit.changed.timestamp():.0f}",
    )


def view_of(workspace: Workspace, project_id: str, address: str) -> EditView:
    """The edit of an item as the page shows it."""
    found = workspace.find(project_id, address)
    return edit_view(workspace, workspace.edit(project_id, address), found.member)


@router.get("")
def edits(project_id: str, workspace: Work) -> list[EditView]:
    """Every item in work."""
    workspace.project(project_id)
    with workspace.database.session() as session:
        query = (
            select(Edit, Member)
            .outerjoin(Member, (Member.project_id == Edit.project_id) & (Member.address == Edit.address))
            .where(Edit.project_id == project_id, Edit.in_work)
            .order_by(Edit.id)
        )
        rows = session.execute(query).all()
    return [edit_view(workspace, edit, member) for edit, member in rows]


@router.post("", status_code=201)
def put(project_id: str, request: Addresses, workspace: Work) -> list[EditView]:
    """Put items in work: their files appear in the exchange folder."""
    for address in request.addresses:
        put_in_work(workspace, project_id, address)
    return [view_of(workspace, project_id, address) for address in request.addresses]


@router.delete("", status_code=204)
def take_out(project_id: str, address: str, workspace: Work) -> None:
    """Take an item out of work; its versions are kept."""
    take_out_of_work(workspace, project_id, address)


@router.get("/file", response_class=Response)
def download(project_id: str, address: str, workspace: Work) -> Response:
    """The exchange file, to save it elsewhere."""
    file = exchange_file(workspace, workspace.edit(project_id, address))
    check_place(workspace, file)
    if not file.is_file():
        raise NotFoundError("The exchange file is gone.", address=address, remedy="Put the item in work again.")
    name = file.name.encode("ascii", "replace").decode().replace('"', "_")
    return Response(
        file.read_bytes(),
        media_type="image/png" if file.suffix == ".png" else "application/octet-stream",
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
    """A file came back by hand: the picture is the body of the request."""
    data = await body_of(request, name)
    await run_in_threadpool(take_file, workspace, project_id, address, data, name)
    return await run_in_threadpool(view_of, workspace, project_id, address)


async def body_of(request: Request, name: str) -> bytes:
    """The bytes that were sent, of a picture; LimitError where they are too many."""
    data, looked = bytearray(), False
    async for part in request.stream():
        data += part
        if not looked and len(data) >= HEAD:
            # What is no picture is refused by its beginning; of its end and size nothing is known yet.
            looked = True
            announced = int(request.headers.get("content-length") or 0)
            check_picture(bytes(data[:HEAD]), TGA_END, announced, name)
        if len(data) > LARGEST_UPLOAD:
            raise LimitError(f"The file is larger than {LARGEST_UPLOAD} bytes.")
    return bytes(data)


@router.put("/remedies")
def remedies(project_id: str, address: str, request: Remedies, workspace: Work) -> EditView:
    """Apply exactly these remedies."""
    set_remedies(workspace, project_id, address, request.remedies)
    return view_of(workspace, project_id, address)


@router.put("/choices")
def choices(project_id: str, address: str, request: Departures, workspace: Work) -> EditView:
    """Encode otherwise than the original."""
    set_choices(workspace, project_id, address, request)
    return view_of(workspace, project_id, address)


@router.put("/level")
async def level(
    project_id: str,
    address: str,
    level: Annotated[int, Query(ge=1, le=20)],
    request: Request,
    workspace: Work,
    name: Annotated[str, Query(max_length=300)] = "upload",
) -> EditView:
    """A mip level made by hand: the picture is the body of the request; no body takes it back."""
    data = await body_of(request, name)
    await run_in_threadpool(take_level, workspace, project_id, address, level, data, name)
    return await run_in_threadpool(view_of, workspace, project_id, address)


@router.put("/test-colours")
def test_colours(project_id: str, request: TestColours, workspace: Work) -> list[EditView]:
    """Test colours in the place of items' pictures; ``mark`` null takes them back."""
    if request.mark is None:
        take_marks_back(workspace, project_id, request.addresses)
    else:
        set_marks(workspace, project_id, request.addresses, request.mark)
    return [view_of(workspace, project_id, address) for address in request.addresses]


@router.put("/position")
def position(project_id: str, address: str, request: Position, workspace: Work) -> EditView:
    """Undo and redo: use the first so many versions."""
    go_to(workspace, project_id, address, request.position)
    return view_of(workspace, project_id, address)
