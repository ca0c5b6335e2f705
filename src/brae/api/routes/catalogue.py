"""Find: the catalogue, its facets, and what an item looks and sounds like."""

from __future__ import annotations

from typing import Annotated, Any, Literal

import numpy as np
from fastapi import APIRouter, Depends, Query, Response
from sqlalchemy import ColumnElement, Select, String, case, cast, func, select
from sqlalchemy.orm import Session

from brae.api.pictures import Part, png, shrink
from brae.api.routes import Work
from brae.api.routes.edits import edit_view
from brae.api.schemas import (
    LARGEST,
    ArchiveView,
    Facets,
    FacetValue,
    ItemView,
    MemberPage,
    MemberView,
    PixelView,
    TextView,
)
from brae.core import addresses
from brae.core.assets.texture import formats
from brae.core.assets.texture.files import read_image
from brae.core.assets.texture.formats import Picture
from brae.core.assets.texture.metrics import heat
from brae.core.assets.texture.remedies import apply_remedies
from brae.core.assets.texture.texture import TextureFile
from brae.core.errors import FormatError, LimitError, NotFoundError
from brae.store.models import Edit, Member
from brae.work import Workspace

router = APIRouter(tags=["find"])
_LONGEST_TEXT = 1 << 20
_MOST_WORDS = 50
Which = Literal["original", "edit", "painted", "difference", "heat"]
Channels = Literal["rgba", "rgb", "r", "g", "b", "a"]


class Search:
    """The conditions of a search, as the page sends them."""

    def __init__(
        self,
        q: str = "",
        kind: Annotated[list[str] | None, Query()] = None,
        format: Annotated[list[str] | None, Query()] = None,
        sides: Annotated[list[str] | None, Query()] = None,
        folder: str | None = None,
        in_work: bool = False,
        smallest: Annotated[int | None, Query(ge=0, le=LARGEST)] = None,
        largest: Annotated[int | None, Query(ge=0, le=LARGEST)] = None,
    ) -> None:
        self.q, self.kind, self.format, self.sides = q, kind or [], format or [], sides or []
        self.folder, self.in_work, self.smallest, self.largest = folder, in_work, smallest, largest

    def conditions(self, project: str, without: str = "") -> list[ColumnElement[bool]]:
        """Every condition but the one named ``without``."""
        found: list[ColumnElement[bool]] = [Member.project_id == project]
        # Words are parts of the address, in any order; * and ? stand for any characters and any one.
        words = self.q.split()
        if len(words) > _MOST_WORDS:
            raise LimitError(f"A search of {len(words):,} words is too long.", expected=f"at most {_MOST_WORDS}")
        for word in words:
            escaped = word.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
            found.append(Member.address.ilike(f"%{escaped.replace('*', '%').replace('?', '_')}%", escape="\\"))
        if self.kind and without != "kind":
            found.append(Member.kind.in_(self.kind))
        if self.format and without != "format":
            found.append(Member.format.in_(self.format))
        if self.sides and without != "sides":
            found.append(_sides().in_(self.sides))
        if self.folder is not None and without != "folder":
            found.append(
                (Member.folder == self.folder) | Member.folder.startswith(f"{self.folder}/", autoescape=True)
            )
        if self.in_work:
            found.append(Member.address.in_(select(Edit.address).where(Edit.project_id == project, Edit.in_work)))
        if self.smallest is not None:
            found.append(Member.real >= self.smallest)
        if self.largest is not None:
            found.append(Member.real <= self.largest)
        return found


def _sides() -> ColumnElement[str]:
    return cast(Member.width, String) + " x " + cast(Member.height, String)


#: what people look for comes first
_KIND_ORDER = case({"texture": 0, "sound": 1, "text": 2}, value=Member.kind, else_=3)
_ORDERS: dict[str, Any] = {
    "kind": (_KIND_ORDER, Member.address),
    "name": (Member.address,),
    "size": (Member.real.desc(), Member.address),
    "sides": (func.coalesce(Member.width * Member.height, 0).desc(), Member.address),
    "format": (Member.format, Member.address),
}


@router.get("/projects/{project_id}/members")
def members(
    project_id: str,
    workspace: Work,
    search: Annotated[Search, Depends()],
    order: Literal["kind", "name", "size", "sides", "format"] = "kind",
    offset: Annotated[int, Query(ge=0, le=LARGEST)] = 0,
    limit: Annotated[int, Query(ge=1, le=1000)] = 200,
) -> MemberPage:
    """Part of the catalogue, narrowed and ordered."""
    workspace.project(project_id)
    with workspace.database.session() as session:
        conditions = search.conditions(project_id)
        total = session.scalar(select(func.count()).select_from(Member).where(*conditions)) or 0
        query = select(Member).where(*conditions).order_by(*_ORDERS[order]).offset(offset).limit(limit)
        states = _edit_states(session, project_id)
        items = [_member_view(member, states) for member in session.scalars(query)]
        return MemberPage(total=total, offset=offset, items=items)


def _edit_states(session: Session, project_id: str) -> dict[str, str]:
    query = select(Edit.address, Edit.state).where(Edit.project_id == project_id, Edit.in_work)
    return dict(session.execute(query).all())


def _member_view(member: Member, states: dict[str, str]) -> MemberView:
    view = MemberView.model_validate(member)
    view.edit = states.get(member.address)
    return view


@router.get("/projects/{project_id}/facets")
def facets(project_id: str, workspace: Work, search: Annotated[Search, Depends()]) -> Facets:
    """How many items there are of each kind, format, sides and folder, under the other conditions."""
    with workspace.database.session() as session:

        def count(name: str, column: ColumnElement[Any] | Any) -> list[FacetValue]:
            query: Select[Any] = (
                select(column, func.count())
                .where(*search.conditions(project_id, without=name), column.is_not(None))
                .group_by(column)
                .order_by(func.count().desc(), column)
            )
            return [FacetValue(value=str(value), count=number) for value, number in session.execute(query)]

        return Facets(
            kind=count("kind", Member.kind),
            format=count("format", Member.format),
            sides=count("sides", _sides()),
            folder=sorted(count("folder", Member.folder), key=lambda facet: facet.value),
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
    return ItemView(
        member=_member_view(found.member, {} if edit is None else {address: edit.state}),
        archive=ArchiveView.model_validate(found.archive),
        offset=offset,
        edit=edit_view(workspace, edit, found.member) if edit else None,
        refers_to=refers_to,
        used_by=used_by,
    )


@router.get(
    "/projects/{project_id}/picture", response_class=Response, responses={200: {"content": {"image/png": {}}}}
)
def picture(
    project_id: str,
    address: str,
    workspace: Work,
    which: Which = "original",
    level: Annotated[int, Query(ge=0, le=20)] = 0,
    channels: Channels = "rgba",
    fit: Annotated[int | None, Query(ge=16, le=1024)] = None,
    revision: str | None = None,
    exposure: Annotated[float, Query(ge=-20, le=20)] = 0.0,
    tile: Annotated[str | None, Query(pattern=r"^\d{1,6},\d{1,6},\d{1,4},\d{1,3}$")] = None,
) -> Response:
    """An item as a PNG: the original, what was painted, what is stored, or where the two differ.

    ``heat`` shows what the encoding cost: stored against painted (CIEDE2000), cold to hot. ``exposure`` in stops
    looks into the bright and the dark of light.

    ``fit`` asks for a small picture with sides up to that; a fitting mip level is used where there is one. ``tile``
    asks for a part: ``left,top,side,times``, where ``times`` pixels each way become one.
    With a ``revision`` (any text that changes when the picture may) the answer may be kept by the browser.
    """
    part = None if tile is None else Part.of(tile)
    if which in ("painted", "heat"):
        pixels = _painted(workspace, project_id, address, which, level, exposure)
        if part is not None:
            left, top, width, height = part.box(pixels.shape[1], pixels.shape[0])
            pixels = part.reduced(pixels[top : top + height, left : left + width])
    else:
        pixels = _stored(workspace, project_id, address, which, level, exposure, part, fit)
    if fit is not None:
        pixels = shrink(pixels, fit)
    return png(_channels(pixels, channels), keep=bool(revision))


def _check_level(texture: TextureFile, level: int) -> None:
    if level >= len(texture.levels):
        raise NotFoundError(f"There is no mip level {level}.", expected=f"0 to {len(texture.levels) - 1}")


def _edit_with_file(workspace: Workspace, project_id: str, address: str) -> Edit:
    edit = workspace.edit(project_id, address)
    if not edit.position or edit.encoded_sha256 is None:
        raise NotFoundError("No file has come back yet.", address=address)
    return edit


def _painted(
    workspace: Workspace, project_id: str, address: str, which: Which, level: int, exposure: float
) -> Picture:
    """What a person painted, or what storing it cost."""
    edit = _edit_with_file(workspace, project_id, address)
    original = workspace.texture_at(project_id, address)
    step = edit.steps[edit.position - 1]
    image = read_image(workspace.blobs.get(step.file_sha256), step.file_name)
    painted = apply_remedies(image.picture, original, step.remedies)
    if which == "painted":
        return formats.shown(painted, exposure)
    texture = workspace.edited_texture(original, edit)
    _check_level(texture, level)
    stored = texture.picture(level)
    if stored.shape[:2] != painted.shape[:2]:
        raise NotFoundError("The cost is worked out for the first level.", address=address)
    return heat(formats.as_depth(painted, formats.depth_of(stored)), stored)


def _stored(
    workspace: Workspace, project_id: str, address: str, which: Which, level: int,
    exposure: float, part: Part | None, fit: int | None,
) -> Picture:  # fmt: skip
    """What is stored of an item, now or after the edit, or where the two differ."""
    textures = []
    if which != "edit":
        textures.append(workspace.viewed_texture(project_id, address, None))
    if which != "original":
        edit = _edit_with_file(workspace, project_id, address)
        textures.append(workspace.viewed_texture(project_id, address, edit))
    if fit is not None:
        level = _fitting_level(textures[0], fit)
    while part is not None and part.even and all(level + 1 < len(texture.levels) for texture in textures):
        # A smaller level is what the game itself would show from so far away.
        level, part = level + 1, part.halved()
    shown = []
    for texture in textures:
        _check_level(texture, level)
        width, height = texture.header.sides(level)
        height *= texture.header.pictures(level)
        box = (0, 0, width, height) if part is None else part.box(width, height)
        pixels = formats.shown(texture.region(level, *box), exposure)
        shown.append(pixels if part is None else part.reduced(pixels))
    if which != "difference":
        return shown[0]
    before, after = shown
    if textures[0].header.sides(level) != textures[1].header.sides(level) or before.shape != after.shape:
        raise FormatError("The sides differ, so there is no difference to show.", address=address)
    difference = np.abs(before.astype(np.int16) - after)
    result = np.full_like(after, 255)
    # Four times as strong, or nobody would see the last bits; alpha counts for all channels.
    result[..., :3] = np.minimum(np.maximum(difference[..., :3], difference[..., 3:]) * 4, 255)
    return result


@router.get("/projects/{project_id}/pixel")
def pixel(
    project_id: str,
    address: str,
    workspace: Work,
    x: Annotated[int, Query(ge=0)],
    y: Annotated[int, Query(ge=0)],
    which: Literal["original", "edit"] = "original",
    level: Annotated[int, Query(ge=0, le=20)] = 0,
) -> PixelView:
    """The exact values at a place of the original, or of what is stored of the edit."""
    edit = _edit_with_file(workspace, project_id, address) if which == "edit" else None
    texture = workspace.viewed_texture(project_id, address, edit)
    _check_level(texture, level)
    width, height = texture.header.sides(level)
    height *= texture.header.pictures(level)
    if y >= height or x >= width:
        raise NotFoundError(f"There is no pixel at {x}, {y}.", expected=f"{width} x {height}")
    values = [float(value) for value in texture.region(level, x, y, 1, 1)[0, 0]]
    return PixelView(x=x, y=y, values=[value if np.isfinite(value) else None for value in values])


def _fitting_level(texture: TextureFile, fit: int) -> int:
    level = 0
    while level + 1 < len(texture.levels):
        sides = formats.level_sides(texture.header.width, texture.header.height, level + 1)
        if max(sides) < fit:
            break
        level += 1
    return level


def _channels(pixels: Picture, channels: Channels) -> Picture:
    if channels == "rgba":
        return pixels
    result = np.full_like(pixels, 255)
    result[..., :3] = pixels[..., :3] if channels == "rgb" else pixels[..., "rgba".index(channels), None]
    return result


@router.get("/projects/{project_id}/bytes", response_class=Response)
def raw_bytes(project_id: str, address: str, workspace: Work, download: bool = False) -> Response:
    """An item's original bytes, unpacked: to listen to, or to keep."""
    found = workspace.find(project_id, address)
    data = workspace.original_bytes(workspace.project(project_id), found)
    sounds = {"wav": "audio/wav", "ogg": "audio/ogg", "flac": "audio/flac"}
    # Never as a page: a member of a game could hold one.
    media = sounds.get(found.member.container or "", "application/octet-stream")
    name = found.member.name.rpartition("/")[2].encode("ascii", "replace").decode().replace('"', "_")
    headers = {"Cache-Control": "no-cache"} | (
        {"Content-Disposition": f'attachment; filename="{name}"'} if download else {}
    )
    return Response(data, media_type=media, headers=headers)


@router.get("/projects/{project_id}/text")
def text(project_id: str, address: str, workspace: Work) -> TextView:
    """A text member, to read."""
    data = workspace.original_bytes(workspace.project(project_id), workspace.find(project_id, address))
    encoding = "utf-8"
    cut = len(data) > _LONGEST_TEXT
    try:
        words = data[:_LONGEST_TEXT].decode(encoding, "ignore" if cut else "strict")
    except UnicodeDecodeError:
        encoding, words = "latin-1", data[:_LONGEST_TEXT].decode("latin-1")
    return TextView(text=words, encoding=encoding, cut=cut)
