"""The same picture in several sizes, each an item: told by names, and all of them made of one picture."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial

import numpy as np
from sqlalchemy import select

from brae.core.assets.texture.files import read_image, write_image
from brae.core.errors import BraeError, NotFoundError
from brae.core.games.model import SizesRule
from brae.core.recolour.files import numbers
from brae.core.recolour.space import Floats
from brae.core.sizes.families import ENOUGH, Sibling, Size, make, named, sizes_of
from brae.jobs import Silent, Ticker
from brae.store.models import Member
from brae.work.alike import looking_alike
from brae.work.edits import put_in_work, take_file
from brae.work.items import asset_at, item_kind
from brae.work.sent import ALWAYS_SENT
from brae.work.workspace import Workspace


@dataclass(frozen=True)
class FamilySize:
    """One size of a picture: the item that has it, and how many others there are like it."""

    __pydantic_config__ = ALWAYS_SENT

    address: str
    name: str
    width: int
    height: int
    siblings: int


#: items of one look that are asked for
_MOST_ALIKE = 500
#: rows of one question to the database
_AT_ONCE = 5000
#: clear rows between two sizes
_BETWEEN = 6


@dataclass(frozen=True)
class _Group:
    member: Member
    siblings: list[Member]


def family(workspace: Workspace, project_id: str, address: str) -> list[FamilySize]:
    """The sizes of an item's picture, the largest first; none where its name tells of no other size."""
    return [
        FamilySize(one.member.address, one.member.name, *_sides(one.member), len(one.siblings))
        for one in _groups(workspace, project_id, address)
    ]


def make_all(
    workspace: Workspace,
    project_id: str,
    address: str,
    data: bytes,
    name: str,
    *,
    sharpen: float = 0,
    middle: tuple[float, float] = (0.5, 0.5),
    only: Sequence[str] = (),
    ticker: Ticker | None = None,
) -> dict[str, object]:
    """Every size of an item's picture made of one, each like its siblings: an edit, or a version more.

    ``only``: the addresses of those that are made, all where it is empty: each can have a crop of its own.

    Raises one of Brae's errors where the picture cannot be read or is too small, before anything is changed;
    NotFoundError where there are no sizes.
    """
    master = numbers(read_image(data, name).picture)
    groups, sizes, faults = _worked_out(workspace, project_id, address, ticker or Silent())
    wanted = [one for one in groups if not only or one.member.address in only]
    if not wanted:
        raise NotFoundError("None of these is a size of this picture.", address=address)
    made = [(one.member, _made(master, sizes, one.member, sharpen, middle)) for one in wanted]
    for member, picture in made:
        put_in_work(workspace, project_id, member.address)
        take_file(workspace, project_id, member.address, picture, "sizes.png", what=f"made of {name}")
    return {"done": len(made), "addresses": [member.address for member, _ in made], "faults": faults}


def lying_over(workspace: Workspace, project_id: str, address: str) -> Floats:
    """What lies over all pictures of each size of an item's, below each other, the largest first.

    Over black, and over white beside it. NotFoundError where there are no sizes.
    """
    _, sizes, _ = _worked_out(workspace, project_id, address, Silent())
    rows = []
    widest = max(size.width for size in sizes.values())
    for size in sorted(sizes.values(), key=lambda one: -one.width * one.height):
        white = np.ones((size.height, size.width, 4), np.float32)
        black = np.dstack([white[..., :3] * 0, white[..., 3]])
        both = np.concatenate([size.shading.on(black), size.shading.on(white)], axis=1)
        row = np.zeros((size.height + _BETWEEN, 2 * widest, 4), np.float32)
        row[: size.height, : both.shape[1]] = both
        rows.append(row)
    return np.concatenate(rows)[:-_BETWEEN]


def _worked_out(
    workspace: Workspace, project_id: str, address: str, ticker: Ticker
) -> tuple[list[_Group], dict[tuple[int, int], Size], list[dict[str, object]]]:
    """The sizes of an item's picture, what lies over each by its sides, and the originals that cannot be read."""
    groups = _groups(workspace, project_id, address)
    if not groups:
        raise NotFoundError("No other size of this picture is known.", address=address)
    ticker.begin(sum(len(one.siblings[:ENOUGH]) for one in groups), "originals looked at")
    siblings: list[Sibling] = []
    faults: list[dict[str, object]] = []
    for one in groups:
        for member in one.siblings[:ENOUGH]:
            ticker.tick()
            try:
                siblings.append(Sibling(member.address, _picture(workspace, project_id, member.address)))
            except BraeError as error:
                faults.append(error.at(member.address).as_dict())
    return groups, {(size.width, size.height): size for size in sizes_of(siblings)}, faults


def _made(
    master: Floats, sizes: dict[tuple[int, int], Size], member: Member, sharpen: float, middle: tuple[float, float]
) -> bytes:
    size = sizes.get(_sides(member))
    if size is None:
        raise NotFoundError("None of its siblings can be read.", address=member.address)
    made = make(master, size, sharpen=sharpen, middle=middle)
    return write_image(np.round(np.clip(made, 0, 1) * 255).astype(np.uint8))


def _sides(member: Member) -> tuple[int, int]:
    return int(member.facts["width"]), int(member.facts["height"])


def _picture(workspace: Workspace, project_id: str, address: str) -> Floats:
    kind = item_kind(workspace, workspace.find(project_id, address))
    sent = kind.send(asset_at(workspace, project_id, address))
    return numbers(read_image(sent.data, sent.name).picture)


@dataclass(frozen=True)
class _Told:
    """What a member shows, the word for its size, and what all names of that picture have in them."""

    key: object
    word: str
    part: str


_Way = Callable[[Member], _Told | None]


def _groups(workspace: Workspace, project_id: str, address: str) -> list[_Group]:
    """Each size of a picture with its originals: by the game's rules, by names, or by what was found to look alike.

    Siblings lie in the same folder, have the same sides and word for their size, and come in several sizes.
    """
    found = workspace.find(project_id, address).member
    if found.kind != "texture":
        return []
    profile = workspace.profile(workspace.project(project_id))
    alike = looking_alike(workspace, project_id)
    ways: list[_Way] = [
        partial(_by_rules, profile.sizes if profile is not None else []),
        _by_name,
        lambda one: _Told(min(alike[one.address]), "", "") if one.address in alike else None,
    ]
    for way in ways:
        told = way(found)
        if told is None:
            continue
        # Of a hundred thousand items hardly any have another size: that is asked before all of them are looked at.
        same = list(alike[address]) if not told.part else None
        own = [one for one in _members(workspace, project_id, told.part, same) if _same(way, one, told)]
        if _tells(own):
            return _grouped(_like(workspace, project_id, own), told, way)
    return []


def _like(workspace: Workspace, project_id: str, own: Sequence[Member]) -> list[Member]:
    """The textures that have the sides of some, in their folders."""
    held = workspace.catalogues.of(project_id)
    wide, high = held.numbers("width"), held.numbers("height")
    fits = np.zeros(len(held.ids), bool)
    for one in own:
        width, height = _sides(one)
        fits |= held.beside("texture", one.folder) & (wide == width) & (high == height)
    ids = held.ids[fits].tolist()
    found: list[Member] = []
    with workspace.database.session() as session:
        for start in range(0, len(ids), _AT_ONCE):
            query = select(Member).where(Member.id.in_(ids[start : start + _AT_ONCE]), Member.winner.is_(None))
            found += session.scalars(query)
    return found


def _members(
    workspace: Workspace, project_id: str, part: str = "", addresses: Sequence[str] | None = None
) -> list[Member]:
    """The textures that the game uses, of known sides: with some letters in their name, or of some addresses."""
    query = select(Member).where(
        Member.project_id == project_id, Member.kind == "texture", Member.fault.is_(None), Member.winner.is_(None)
    )
    if part:
        query = query.where(Member.name.icontains(part, autoescape=True))
    if addresses is not None:
        query = query.where(Member.address.in_(addresses[:_MOST_ALIKE]))
    with workspace.database.session() as session:
        return [one for one in session.scalars(query) if {"width", "height"} <= one.facts.keys()]


def _same(way: _Way, one: Member, told: _Told) -> bool:
    other = way(one)
    return other is not None and other.key == told.key


def _by_rules(rules: Sequence[SizesRule], one: Member) -> _Told | None:
    for number, rule in enumerate(rules):
        for name, form in zip(rule.names, rule.forms, strict=True):
            found = form.fullmatch(one.name)
            if found is not None:
                return _Told((number, found["picture"].lower()), name, found["picture"])
    return None


def _by_name(one: Member) -> _Told | None:
    key, word = named(one.name)
    return _Told((_archive(one), key), word, key) if key else None


def _grouped(members: Sequence[Member], wanted: _Told, way: _Way) -> list[_Group]:
    families: dict[object, list[tuple[Member, tuple[object, ...]]]] = defaultdict(list)
    for one in members:
        told = way(one)
        if told is not None:
            shape: tuple[object, ...] = (_archive(one), one.folder, told.word, *_sides(one))
            families[told.key].append((one, shape))
    shapes = {shape: one for one, shape in families[wanted.key]}
    siblings: dict[tuple[object, ...], list[Member]] = defaultdict(list)
    for some in families.values():
        if _tells([one for one, _ in some]):
            for one, shape in some:
                if shape in shapes:
                    siblings[shape].append(one)
    groups = [_Group(one, siblings[shape]) for shape, one in shapes.items()]
    return sorted(groups, key=lambda one: -_sides(one.member)[0] * _sides(one.member)[1])


def _archive(member: Member) -> str:
    """The archive that a member lies in; of loose files none, though each has a place of its own."""
    return member.address.rpartition("//")[0]


def _tells(members: Sequence[Member]) -> bool:
    """Whether these are one picture in several sizes: as many different ones as there are items."""
    counted = Counter(_sides(one) for one in members)
    return len(counted) > 1 and max(counted.values()) == 1
