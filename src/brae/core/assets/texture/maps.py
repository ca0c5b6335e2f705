"""The maps of one surface: the textures that belong together, told by their names and what their formats say."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pydantic import BaseModel

from brae.core.assets.base import Around
from brae.core.layouts.roles import Channel, Role, map_names, use_of


class MapView(BaseModel):
    """One map of a surface."""

    address: str
    name: str
    role: Role | None
    #: of a packed map
    channels: dict[Channel, Role]


def sets(members: Mapping[str, Mapping[str, Any]], profile: Any) -> dict[str, str]:
    """The surface of each texture of a folder."""
    rules = profile.maps if profile is not None else []
    named = map_names({name: use_of(facts.get("map")) for name, facts in members.items()}, rules)
    return {name: one.surface for name, one in named.items()}


def surface(viewed: object, query: object, around: Around) -> list[MapView]:
    """The textures that belong to the same surface as an item, itself included.

    Told by the ends of their names; what a map is for, its own format may say better. Of copies in several archives
    the item's own archive's counts, else the one that the game uses.
    """
    rules = around.profile.maps if around.profile is not None else []
    near = sorted(around.siblings(), key=lambda one: (not one.own, not one.used))
    names = map_names({one.name: use_of(one.facts.get("map")) for one in near}, rules)
    if around.name not in names:
        return []
    same: dict[str, MapView] = {}
    for one in near:
        name = names[one.name]
        if name.surface == names[around.name].surface:
            view = MapView(address=one.address, name=one.name, role=name.role, channels=name.channels)
            same.setdefault(one.name, view)
    return sorted(same.values(), key=lambda one: (one.role != "colour", one.address))
