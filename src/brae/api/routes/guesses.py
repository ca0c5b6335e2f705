"""Bytes without a header: what each kind makes of them, to look at and to keep as a layout."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Query, Response
from pydantic import BaseModel, Field, ValidationError, create_model

from brae.api.routes import Work
from brae.api.schemas.common import Asked
from brae.api.schemas.games import KeptLayout
from brae.core.assets.base import AssetKind, Headless
from brae.core.assets.registry import kinds
from brae.core.errors import FormatError
from brae.work.guesses import bytes_at, keep_guess
from brae.work.halves import Halves, Joined, halves_of, join

router = APIRouter(prefix="/projects/{project_id}", tags=["guess"])


def _routes(kind: AssetKind[Any], headless: Headless) -> None:
    """The routes of one kind, with its own form of an explanation."""
    answer = create_model(
        f"{kind.title}Guesses",
        __doc__="Explanations of an item's bytes, the best first, and the formats to try by hand.",
        size=(int, ...),
        guesses=(list[headless.explanation], ...),  # type: ignore[name-defined]
        formats=(list[str], ...),
    )
    asked = create_model(
        f"Keep{kind.title}Guess",
        __base__=Asked,
        __doc__="An explanation that is to be a layout; of items of the same size only, if one_size.",
        address=(str, ...),
        guess=(headless.explanation, ...),
        title=(Annotated[str, Field(max_length=200)], ""),
        one_size=(bool, True),
    )

    def propose(project_id: str, address: str, workspace: Work) -> BaseModel:
        data = bytes_at(workspace, project_id, address)
        return answer(size=len(data), guesses=list(headless.propose(data)), formats=list(headless.formats()))

    def preview(
        project_id: str,
        address: str,
        guess: Annotated[str, Query(max_length=4000, description="an explanation, as JSON")],
        workspace: Work,
        fit: Annotated[int | None, Query(ge=16, le=2048)] = None,
    ) -> Response:
        try:
            explanation = headless.explanation.model_validate_json(guess)
        except ValidationError as error:
            raise FormatError(f"This is no guess: {error.errors()[0]['msg']}.") from error
        made = headless.preview(bytes_at(workspace, project_id, address), explanation, fit)
        return Response(made.data, media_type=made.media, headers={"Cache-Control": "private, max-age=86400"})

    def keep(project_id: str, request: Any, workspace: Work) -> KeptLayout:
        name = keep_guess(
            workspace,
            project_id,
            request.address,
            headless,
            request.guess,
            request.title,
            one_size=request.one_size,
        )
        return KeptLayout(file=f"{name}.yaml")

    keep.__annotations__["request"] = asked
    path, said = f"/{kind.id}/guesses", f"{kind.id}_guess"
    add = router.add_api_route
    add(path, propose, methods=["GET"], response_model=answer, operation_id=f"{said}es", summary=headless.words)
    add(
        f"{path}/preview",
        preview,
        methods=["GET"],
        response_class=Response,
        operation_id=f"{said}_preview",
        summary="An item as an explanation has it",
    )
    add(
        path,
        keep,
        methods=["POST"],
        status_code=201,
        operation_id=f"{said}_keep",
        summary="An explanation as a layout for the item and its siblings; opening the game again uses it",
    )


class Join(Asked):
    """A texture, and how the items with its larger levels are called."""

    address: str
    pattern: Annotated[str, Field(max_length=1000)]
    smallest_first: bool = False
    at: Annotated[str, Field(max_length=200)] = ""


@router.get("/halves")
def find_halves(project_id: str, address: str, workspace: Work) -> Halves:
    """Where the larger levels of a texture may be that no layout says it lacks."""
    return halves_of(workspace, project_id, address)


@router.post("/halves", status_code=201)
def join_halves(project_id: str, request: Join, workspace: Work) -> Joined:
    """Join it, and all that are alike, as a layout; opening the game again uses it."""
    return join(
        workspace, project_id, request.address, request.pattern,
        smallest_first=request.smallest_first, at=request.at,
    )  # fmt: skip


for _kind in kinds().values():
    if _kind.headless is not None:
        _routes(_kind, _kind.headless)
