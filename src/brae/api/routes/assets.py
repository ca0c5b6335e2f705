"""What each kind of item shows and answers: previews, bytes, and the questions and steps of its own."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Annotated, Any

from fastapi import APIRouter, Header, Query, Request, Response
from pydantic import BaseModel, ValidationError, create_model
from starlette.concurrency import run_in_threadpool

from brae.api.routes import Work
from brae.api.routes.edits import body_of, kind_at, view_of
from brae.api.schemas.edits import EditView
from brae.api.schemas.items import FactView, KindsView, KindView, Named
from brae.core.assets.base import AssetKind, Change, ExchangeFile, Question
from brae.core.assets.facts import declared
from brae.core.assets.registry import kinds
from brae.core.errors import BraeError, FormatError
from brae.work import Workspace, columns
from brae.work.edits import make_change
from brae.work.grouping import GROUPINGS
from brae.work.items import around, look_at, original_bytes, preview_of

router = APIRouter(tags=["items"])
#: what is the page's own in a preview's address, not the kind's query
_OURS = ("address", "revision")
_RANGE = re.compile(r"^bytes=(\d{0,18})-(\d{0,18})$")


@router.get("/kinds")
def known(workspace: Work) -> KindsView:
    """The kinds of items, and in what the catalogue can be ordered."""
    return KindsView(
        kinds=[_kind_view(kind) for kind in kinds().values()],
        orders=_named(columns.orders()),
        groupings=_named(GROUPINGS),
    )


def _kind_view(kind: AssetKind[Any]) -> KindView:
    return KindView(
        id=kind.id,
        title=kind.title,
        titles=kind.titles,
        facts=[FactView(name=name, **_facts(fact)) for name, fact in declared(kind.facts).items()],
        suffixes=list(kind.suffixes()),
        preview=kind.preview_media,
        remedies=_named(kind.remedies),
        marks=_named(kind.marks),
        pictured=kind.pictured,
        own_files=kind.own_files,
        headless=None if kind.headless is None else kind.headless.words,
    )


def _facts(fact: Any) -> dict[str, Any]:
    return {name: value for name, value in vars(fact).items() if name != "order_by"}


def _named(words: Any) -> list[Named]:
    return [Named(id=name, words=text) for name, text in words.items()]


@router.get("/projects/{project_id}/preview", response_class=Response)
def preview(
    project_id: str,
    address: str,
    request: Request,
    workspace: Work,
    revision: str | None = None,
    range: Annotated[str | None, Header()] = None,
) -> Response:
    """Something to look at or to listen to. What else can be asked is the query of the item's kind.

    With a ``revision`` (any text that changes when the preview may) the answer may be kept by the browser.
    """
    kind = kind_at(workspace, project_id, address)
    asked = {name: value for name, value in request.query_params.items() if name not in _OURS}
    try:
        query = kind.query.model_validate(asked)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(map(str, first["loc"]))
        raise FormatError(f"The preview of a {kind.id} is not asked for so: {where}: {first['msg']}.") from None
    try:
        made = preview_of(workspace, project_id, address, query)
    except BraeError as error:
        raise error.at(address) from None
    headers = {"Cache-Control": "private, max-age=86400" if revision else "no-cache"}
    return partly(made.data, made.media, range, headers)


@router.get("/projects/{project_id}/bytes", response_class=Response)
def raw_bytes(
    project_id: str,
    address: str,
    workspace: Work,
    download: bool = False,
    range: Annotated[str | None, Header()] = None,
) -> Response:
    """An item's original bytes, unpacked."""
    found = workspace.find(project_id, address)
    data = original_bytes(workspace, workspace.project(project_id), found)
    name = found.member.name.rpartition("/")[2].encode("ascii", "replace").decode().replace('"', "_")
    headers = {"Cache-Control": "no-cache"}
    if download:
        headers["Content-Disposition"] = f'attachment; filename="{name}"'
    # Never as a page: a member of a game could hold one.
    return partly(data, "application/octet-stream", range, headers)


def partly(data: bytes, media: str, asked: str | None, headers: dict[str, str]) -> Response:
    """Bytes, or the range of them that was asked for (RFC 9110, 14.2); what is no single range is passed over."""
    headers = headers | {"Accept-Ranges": "bytes"}
    found = _RANGE.match(asked or "")
    if found is None or found.groups() == ("", ""):
        return Response(data, media_type=media, headers=headers)
    first, last = found.groups()
    start = int(first) if first else max(len(data) - int(last), 0)
    end = min(int(last) + 1, len(data)) if first and last else len(data)
    if start >= len(data) or end <= start:
        return Response(status_code=416, headers=headers | {"Content-Range": f"bytes */{len(data)}"})
    headers["Content-Range"] = f"bytes {start}-{end - 1}/{len(data)}"
    return Response(data[start:end], status_code=206, media_type=media, headers=headers)


# ---- what only one kind is asked


def _asked_at(name: str, query: type[BaseModel]) -> type[BaseModel]:
    """The query of a question, and the address of the item that it is about."""
    return create_model(f"{name}Query", __base__=query, address=(str, ...))


def _split(asked: BaseModel, query: type[BaseModel]) -> tuple[str, Any]:
    values = asked.model_dump()
    address = values.pop("address")
    return address, query.model_validate(values)


def _own(workspace: Workspace, project_id: str, address: str, kind: AssetKind[Any]) -> None:
    if kind_at(workspace, project_id, address).id != kind.id:
        raise FormatError(f"This item is no {kind.title.lower()}.", address=address)


def _question(kind: AssetKind[Any], name: str, question: Question) -> None:
    asked_at = _asked_at(f"{kind.title}{name.title()}", question.query)

    def ask(project_id: str, workspace: Work, asked: Annotated[asked_at, Query()]) -> Any:  # type: ignore[valid-type]
        address, query = _split(asked, question.query)
        _own(workspace, project_id, address, kind)
        try:
            _, viewed = look_at(workspace, project_id, address)
            return question.ask(viewed, query, around(workspace, project_id, address))
        except BraeError as error:
            raise error.at(address) from None

    ask.__annotations__["asked"] = Annotated[asked_at, Query()]
    router.add_api_route(
        f"/projects/{{project_id}}/{kind.id}/{name}",
        ask,
        methods=["GET"],
        response_model=question.answer,
        operation_id=f"{kind.id}_{name}",
        summary=f"{kind.title}: {name}",
        description=question.query.__doc__,
    )


def _change(kind: AssetKind[Any], name: str, change: Change) -> None:
    asked_at = _asked_at(f"{kind.title}{name.title()}", change.query)

    async def make(
        project_id: str,
        request: Request,
        workspace: Work,
        asked: Annotated[asked_at, Query()],  # type: ignore[valid-type]
        file_name: Annotated[str, Header(alias="X-File-Name", max_length=900)] = "",
    ) -> EditView:
        address, query = _split(asked, change.query)
        await run_in_threadpool(_own, workspace, project_id, address, kind)
        data = await body_of(request, file_name, kind)
        file = ExchangeFile(file_name, data) if data else None
        await run_in_threadpool(make_change, workspace, project_id, address, name, query, file)
        return await run_in_threadpool(view_of, workspace, project_id, address)

    make.__annotations__["asked"] = Annotated[asked_at, Query()]
    router.add_api_route(
        f"/projects/{{project_id}}/{kind.id}/{name}",
        make,
        methods=["PUT"],
        operation_id=f"{kind.id}_{name}",
        summary=f"{kind.title}: {name}",
        description=change.query.__doc__,
    )


def _routes() -> Iterator[tuple[AssetKind[Any], str, Question | Change]]:
    for kind in kinds().values():
        for name, question in kind.questions.items():
            yield kind, name, question
        for name, change in kind.changes.items():
            yield kind, name, change


for _kind, _name, _route in _routes():
    if isinstance(_route, Question):
        _question(_kind, _name, _route)
    else:
        _change(_kind, _name, _route)
