"""Pixels without a header: what they could be, as pictures, and kept as a layout."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query, Response
from pydantic import ValidationError

from brae.api.routes import Work
from brae.api.schemas import GuessesView, GuessView, KeepGuess, KeptLayout
from brae.core.assets.texture.files import write_image
from brae.core.assets.texture.guess import by_hand
from brae.core.assets.texture.looking import shrink
from brae.core.errors import FormatError
from brae.work.guesses import guesses, keep_guess, picture_of

router = APIRouter(prefix="/projects/{project_id}/guesses", tags=["guess"])


@router.get("")
def propose(project_id: str, address: str, workspace: Work) -> GuessesView:
    """What an item's bytes could be, the best guess first."""
    found, size = guesses(workspace, project_id, address)
    views = [GuessView.of(guess) for guess in found]
    return GuessesView(size=size, guesses=views, formats=by_hand())


@router.get("/picture", response_class=Response, responses={200: {"content": {"image/png": {}}}})
def picture(
    project_id: str,
    address: str,
    guess: Annotated[str, Query(max_length=4000, description="a guess, as JSON")],
    workspace: Work,
    fit: Annotated[int | None, Query(ge=16, le=2048)] = None,
) -> Response:
    """An item as a guess has it, as a PNG; ``fit`` asks for sides up to that."""
    try:
        view = GuessView.model_validate_json(guess)
    except ValidationError as error:
        raise FormatError(f"This is no guess: {error.errors()[0]['msg']}.") from error
    pixels = picture_of(workspace, project_id, address, view.guess())
    data = write_image(pixels if fit is None else shrink(pixels, fit), quick=True)
    return Response(data, media_type="image/png", headers={"Cache-Control": "private, max-age=86400"})


@router.post("", status_code=201)
def keep(project_id: str, request: KeepGuess, workspace: Work) -> KeptLayout:
    """Save a guess as a layout for the item and its siblings; opening the game again uses it."""
    name = keep_guess(
        workspace, project_id, request.address, request.guess.guess(), request.title, one_size=request.one_size
    )
    return KeptLayout(file=f"{name}.yaml")
