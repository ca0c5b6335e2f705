"""Find: the catalogue, its facets, and one item with all that is known of it."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Depends, Query
from sqlalchemy import select

from brae.api.routes import Work
from brae.api.routes.edits import edit_view
from brae.api.schemas import (
    LARGEST,
    ArchiveView,
    Facet,
    Facets,
    FacetValue,
    ItemView,
    MemberPage,
    MemberView,
)
from brae.core import addresses
from brae.core.errors import FormatError
from brae.store.models import Member
from brae.work import columns

router = APIRouter(tags=["find"])


def search_of(
    q: Annotated[str, Query(description="words of the path, and conditions such as width>=512")] = "",
    where: Annotated[list[str] | None, Query(description="name:value, such as kind:texture")] = None,
    folder: str | None = None,
    in_work: bool = False,
) -> columns.Search:
    """The conditions of a search, as the page sends them."""
    search = columns.Search(q, {}, folder, in_work)
    known = columns.facets()
    for one in where or []:
        name, _, value = one.partition(":")
        if name not in known:
            raise FormatError(f"There is no facet '{name}'.", expected=f"one of {', '.join(known)}")
        search.where.setdefault(name, []).append(value)
    return search


Search = Annotated[columns.Search, Depends(search_of)]


@router.get("/projects/{project_id}/members")
def members(
    project_id: str,
    workspace: Work,
    search: Search,
    order: Annotated[str, Query(description="kind, name, bytes, or a fact that can be ordered by")] = "kind",
    offset: Annotated[int, Query(ge=0, le=LARGEST)] = 0,
    limit: Annotated[int, Query(ge=1, le=1000)] = 200,
) -> MemberPage:
    """Part of the catalogue, narrowed and ordered."""
    workspace.project(project_id)
    if order not in columns.orders():
        raise FormatError(f"There is no order '{order}'.", expected=f"one of {', '.join(columns.orders())}")
    states = workspace.catalogues.in_work(project_id)
    found = workspace.catalogues.of(project_id)
    places = found.ordered(order, found.fitting(search, states))
    ids = found.ids[places[offset : offset + limit]].tolist()
    with workspace.database.session() as session:
        rows = {row.id: row for row in session.execute(select(*_SHOWN).where(Member.id.in_(ids)))}
    # Of what was listed anew in this very moment the rows are gone; the next answer has what is there now.
    items = [_view(rows[number], states) for number in ids if number in rows]
    return MemberPage(total=len(places), offset=offset, items=items)


_SHOWN = (
    Member.id, Member.address, Member.name, Member.kind, Member.container, Member.packer, Member.stored,
    Member.real, Member.facts, Member.fault, Member.winner,
)  # fmt: skip


def _view(row: object, states: dict[str, str]) -> MemberView:
    view = MemberView.model_validate(row)
    view.edit = states.get(view.address)
    return view


@router.get("/projects/{project_id}/facets")
def facets(project_id: str, workspace: Work, search: Search) -> Facets:
    """How many items there are of each kind, of each value of the facts, and in each folder."""
    workspace.project(project_id)
    states = workspace.catalogues.in_work(project_id)
    found = workspace.catalogues.of(project_id)

    def count(name: str) -> list[FacetValue]:
        mask = found.fitting(search, states, without=name)
        return [FacetValue(value=value, count=number) for value, number in found.counts(name, mask)]

    return Facets(
        facets=[Facet(name=name, label=label, values=count(name)) for name, label in columns.facets().items()],
        folders=sorted(count("folder"), key=lambda one: one.value),
    )


@router.get("/projects/{project_id}/item")
def item(project_id: str, address: str, workspace: Work) -> ItemView:
    """One item with all that is known of it."""
    project, found = workspace.project(project_id), workspace.find(project_id, address)
    edit = workspace.edit_or_none(project_id, address)
    if edit is not None and not edit.in_work:
        edit = None
    offset: int | None = None
    refers_to: list[str] = []
    used_by: list[str] = []
    if found.archive.layout is not None:
        archive = workspace.archive(project, found.archive)
        number = workspace.number_of(archive, found)
        offset = int(archive.offsets[number])
        refers_to, used_by = (
            [addresses.join(found.archive.address, level) for level in levels]
            for levels in (archive.refers_to(number), archive.used_by(number))
        )
    library = workspace.project_library(project)
    return ItemView(
        member=_view(found.member, {} if edit is None else {address: edit.state}),
        archive=ArchiveView.model_validate(found.archive),
        offset=offset,
        edit=edit_view(workspace, edit, found.member.name, library) if edit else None,
        refers_to=refers_to,
        used_by=used_by,
    )
