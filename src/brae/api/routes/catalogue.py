"""Find: the catalogue, its facets, and one item with all that is known of it."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from itertools import islice
from typing import Annotated, Any

import numpy as np
from fastapi import APIRouter, Depends, Query
from sqlalchemy import select

from brae.api.routes import Work
from brae.api.routes.edits import edit_view
from brae.api.schemas.common import LARGEST
from brae.api.schemas.edits import ItemView
from brae.api.schemas.games import ArchiveView
from brae.api.schemas.items import Chosen, Facet, Facets, FacetValue, LinksView, MemberPage, MemberView
from brae.core.errors import FormatError
from brae.core.find.graph import Line
from brae.store.models import Member
from brae.work import Workspace, columns, grouping, linking, telling
from brae.work.columns import MADE
from brae.work.holding import Places, places_in
from brae.work.in_game import held

router = APIRouter(tags=["find"])


def search_of(
    project_id: str,
    workspace: Work,
    q: Annotated[str, Query(description="words of the path, conditions such as width>=512, /expressions/")] = "",
    where: Annotated[list[str] | None, Query(description="name:value, such as kind:texture")] = None,
    folder: str | None = None,
    in_work: bool = False,
    like: Annotated[str | None, Query(description="a picture that was looked for: only what it shows")] = None,
) -> columns.Search:
    """The conditions of a search, as the page sends them."""
    ranks = None if like is None else workspace.asked.of(project_id, like).ranks()
    search = columns.Search(q, {}, folder, in_work, ranks)
    known = columns.facets()
    for one in where or []:
        name, _, value = one.partition(":")
        if name not in known:
            raise FormatError(f"There is no facet '{name}'.", expected=f"one of {', '.join(known)}")
        search.where.setdefault(name, []).append(value)
    return search


Search = Annotated[columns.Search, Depends(search_of)]


@dataclass(frozen=True)
class Arrangement:
    """In what order, and by what the items are grouped ("" where they are not)."""

    order: str
    group: str


def arrangement_of(
    order: Annotated[
        str, Query(description="kind, name, bytes, or a fact; with a - before it from the last to the first")
    ] = "kind",
    group: Annotated[
        str, Query(description="those of one group together: kind, archive, folder, maps, picture")
    ] = "",
) -> Arrangement:
    """How what was found is laid out, as the page sends it."""
    return Arrangement(order, group)


Arranged = Annotated[Arrangement, Depends(arrangement_of)]
#: the order of what a picture shows: most like it first
LIKENESS = "likeness"
_SPAN = re.compile(r"(\d{1,12})-(\d{1,12})")


def _places(
    workspace: Workspace,
    project_id: str,
    search: columns.Search,
    arranged: Arrangement,
    states: Mapping[str, str] | None = None,
) -> tuple[columns.Columns, columns.Numbers]:
    """The catalogue, and the places in it that fit a search, in order."""
    known, order = {*columns.sortable(), LIKENESS}, arranged.order
    if order.removeprefix("-") not in known:
        raise FormatError(f"There is no order '{order}'.", expected=f"one of {', '.join(sorted(known))}")
    states = workspace.catalogues.in_work(project_id) if states is None else states
    found = workspace.catalogues.of(project_id)
    mask = found.fitting(search, states, told=telling.told(workspace, project_id))
    if order.removeprefix("-") == LIKENESS:
        places = found.ranked(search.ranks or {}, mask)
        places = places[::-1] if order.startswith("-") else places
    else:
        places = found.ordered(order, mask)
    if arranged.group:
        places = grouping.grouping(workspace, project_id, found, arranged.group).ordered(places)
    return found, places


@router.get("/projects/{project_id}/members")
def members(
    project_id: str,
    workspace: Work,
    search: Search,
    arranged: Arranged,
    offset: Annotated[int, Query(ge=0, le=LARGEST)] = 0,
    limit: Annotated[int, Query(ge=1, le=1000)] = 200,
) -> MemberPage:
    """Part of the catalogue, narrowed and ordered."""
    workspace.project(project_id)
    states = workspace.catalogues.in_work(project_id)
    found, places = _places(workspace, project_id, search, arranged, states)
    ids = found.ids[places[offset : offset + limit]].tolist()
    with workspace.database.session() as session:
        shown = select(*(getattr(Member, name) for name in _SHOWN)).where(Member.id.in_(ids))
        rows = {row[0]: dict(zip(_SHOWN, row, strict=True)) for row in session.execute(shown)}
    # Of what was listed anew in this very moment the rows are gone; the next answer has what is there now.
    items = [_view(rows[number], states) for number in ids if number in rows]
    puzzling = [] if len(places) else found.puzzling(search)
    return MemberPage(
        total=len(places), offset=offset, items=items, read_as=found.read_as(search), puzzling=puzzling
    )


#: what a row of the catalogue shows of a member
_SHOWN = (
    "id", "address", "name", "kind", "container", "packer", "stored", "real", "facts", "fault", "winner", "base",
)  # fmt: skip


@router.get("/projects/{project_id}/addresses")
def addresses_of(
    project_id: str,
    workspace: Work,
    search: Search,
    arranged: Arranged,
    span: Annotated[
        list[str] | None,
        Query(max_length=2000, description="first-last, counted from 0 in this order; without any, all of them"),
    ] = None,
) -> Chosen:
    """The items at places of the catalogue: the addresses of those that can be edited, and how many cannot."""
    workspace.project(project_id)
    found, places = _places(workspace, project_id, search, arranged)
    if span is not None:
        taken = np.zeros(len(places), bool)
        for one in span:
            ends = _SPAN.fullmatch(one)
            if ends is None:
                raise FormatError(f"'{one}' is no span of the catalogue.", expected="first-last, such as 0-11")
            taken[int(ends[1]) : int(ends[2]) + 1] = True
        places = places[taken]
    editable = places[found.editable()[places]]
    return Chosen(addresses=[found.addresses[place] for place in editable], others=len(places) - len(editable))


@router.get("/projects/{project_id}/place")
def place_of(
    project_id: str,
    workspace: Work,
    search: Search,
    arranged: Arranged,
    starts: Annotated[str, Query(max_length=200)] = "",
    address: str | None = None,
    after: Annotated[int, Query(ge=-1, le=LARGEST)] = -1,
) -> int | None:
    """The place of an item, or of the next one whose name starts so, as typed; null where there is none."""
    workspace.project(project_id)
    found, places = _places(workspace, project_id, search, arranged)
    if address is not None:
        here = found.addresses.index(address) if address in found.addresses else -1
        return next(iter(np.flatnonzero(places == here).tolist()), None)
    if not starts:
        raise FormatError("Which item?", expected="an address, or what its name starts with")
    return found.next_named(places, starts, after)


@router.get("/projects/{project_id}/groups")
def groups(project_id: str, workspace: Work, search: Search, arranged: Arranged) -> list[grouping.Group]:
    """The groups in which what fits a search is laid out, in order; none where it is not grouped."""
    workspace.project(project_id)
    if not arranged.group:
        return []
    found, places = _places(workspace, project_id, search, arranged)
    return grouping.grouping(workspace, project_id, found, arranged.group).groups(places)


def _view(shown: Mapping[str, Any], states: Mapping[str, str]) -> MemberView:
    state = states.get(shown["address"])
    edit = None if state == MADE else state
    return MemberView.model_validate({**shown, "edit": edit, "made": shown["base"] is not None})


@router.get("/projects/{project_id}/facets")
def facets(project_id: str, workspace: Work, search: Search) -> Facets:
    """How many items there are of each kind, of each value of the facts, and in each folder."""
    workspace.project(project_id)
    states = workspace.catalogues.in_work(project_id)
    found = workspace.catalogues.of(project_id)

    told = telling.told(workspace, project_id)

    def count(name: str) -> list[FacetValue]:
        mask = found.fitting(search, states, without=name, told=told)
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
    if found.archive.layout is not None and found.member.base is None:
        archive = workspace.archive(project, found.archive)
        number = workspace.number_of(archive, found)
        # In blocks that members share none has a place of its own.
        offset = None if archive.in_blocks else int(archive.offsets[number])
    library = workspace.project_library(project)
    return ItemView(
        member=_view(
            {name: getattr(found.member, name) for name in _SHOWN}, {} if edit is None else {address: edit.state}
        ),
        archive=ArchiveView.model_validate(found.archive),
        offset=offset,
        edit=edit_view(workspace, edit, found.member.name, library, held(workspace, project_id)) if edit else None,
    )


@router.get("/projects/{project_id}/links")
def links(project_id: str, address: str, workspace: Work) -> LinksView:
    """What an item needs, what needs it, and the names in it of nothing that is there."""
    workspace.find(project_id, address)
    found = linking.links_soon(workspace, project_id)
    if found is None:
        return LinksView(ready=False, needs=[], used_by=[], missing=[])
    needs, used_by = found.needs(address), found.used_by(address)
    alone = not used_by and linking.left_alone(workspace, project_id, address, found)
    return LinksView(ready=True, needs=needs, used_by=used_by, missing=found.missing_in(address), alone=alone)


@router.get("/projects/{project_id}/bytes-at")
def bytes_at(
    project_id: str, address: str, holds: Annotated[str, Query(min_length=1, max_length=4000)], workspace: Work
) -> Places:
    """Where bytes stand in an item, with what lies around them."""
    return places_in(workspace, project_id, address, holds)


@router.get("/projects/{project_id}/lines")
def lines(
    project_id: str,
    workspace: Work,
    words: Annotated[str, Query(min_length=1, max_length=400)],
    address: str | None = None,
    limit: Annotated[int, Query(ge=1, le=1000)] = 100,
) -> list[Line]:
    """The lines of a project's texts (or of one) that have all of some words in them."""
    workspace.project(project_id)
    found = linking.lines(workspace, project_id, words)
    return list(islice((line for line in found if address in (None, line.address)), limit))
