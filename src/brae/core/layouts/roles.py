"""What maps are for: told by their format or the ends of their names, so that those of one surface go together."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

Role = Literal[
    "colour", "normal", "specular", "smoothness", "roughness", "metallic", "occlusion", "height", "emission",
]  # fmt: skip
Channel = Literal["r", "g", "b", "a"]
#: what is the other way round: white for black makes the one of the other
OPPOSITES: dict[Role, Role] = {"roughness": "smoothness", "smoothness": "roughness"}


class MapRule(BaseModel):
    """Names that end so are maps of this role; of a packed map, each channel has its own."""

    model_config = ConfigDict(extra="forbid")

    ends: Annotated[str, Field(min_length=1, max_length=40)] = Field(
        description="what the name ends with, before the file's ending, such as _n"
    )
    role: Role | None = None
    channels: dict[Channel, Role] = Field(default_factory=dict, description="of a packed map")

    @model_validator(mode="after")
    def _one(self) -> MapRule:
        if (self.role is None) == (not self.channels):
            raise ValueError("a map has a role, or channels with roles of their own")
        return self


def _usual() -> list[MapRule]:
    words: dict[Role, str] = {
        "colour": "d diff diffuse col colour color albedo base",
        "normal": "n nrm norm normal",
        "specular": "s spec specular",
        "smoothness": "gloss smooth smoothness",
        "roughness": "r rough roughness",
        "metallic": "m met metal metallic",
        "occlusion": "ao occ occlusion",
        "height": "h height disp bump",
        "emission": "e emit emissive emission glow",
    }
    return [MapRule(ends=f"_{word}", role=role) for role, found in words.items() for word in found.split()]


#: where no rule of the game says otherwise (common practice, no source)
USUAL = _usual()


class MapUse(BaseModel):
    """What a map is for: a role, or one for each channel of a packed map."""

    role: Role | None = None
    channels: dict[Channel, Role] = Field(default_factory=dict)


class MapName(MapUse):
    """A name taken apart: the surface that it belongs to, and what the map is for."""

    surface: str


def use_of(said: object) -> MapUse | None:
    """What a texture is for, from its fact ``map``: a role, or of a packed map ``r=roughness g=metallic``."""
    if not isinstance(said, str) or not said:
        return None
    if "=" not in said:
        return MapUse.model_validate({"role": said})
    return MapUse.model_validate({"channels": dict(part.split("=", 1) for part in said.split())})


def map_name(name: str, rules: Sequence[MapRule] = ()) -> MapName:
    """The surface and role of a map by its name; a game's own rules come before the usual ones.

    A name without a known end is a surface's colour. The longest end counts; letter case does not.
    """
    path = name.rpartition(".")[0] if "." in name.rpartition("/")[2] else name
    for known in (rules, USUAL):
        fits = [rule for rule in known if _ends(path, rule.ends)]
        if fits:
            rule = max(fits, key=lambda rule: len(rule.ends))
            return MapName(surface=path[: -len(rule.ends)].lower(), role=rule.role, channels=dict(rule.channels))
    return MapName(surface=path.lower(), role="colour")


def map_names(uses: Mapping[str, MapUse | None], rules: Sequence[MapRule] = ()) -> dict[str, MapName]:
    """Surface and use of every name of a folder, with what their formats say of their use, where they say it.

    A map that is no colour by its format, and whose name has no known end, belongs to the surface that its name
    begins with, up to the last underline, if there is one.
    """
    found = {name: map_name(name, rules) for name in uses}
    surfaces = {one.surface for one in found.values()}
    for name, use in uses.items():
        if use is None:
            continue
        surface, unknown = found[name].surface, found[name].role == "colour"
        stem = surface.rpartition("_")[0]
        if unknown and use.role != "colour" and stem in surfaces:
            surface = stem
        found[name] = MapName(surface=surface, role=use.role, channels=use.channels)
    return found


def _ends(path: str, end: str) -> bool:
    last = path.rpartition("/")[2]
    return len(last) > len(end) and last.lower().endswith(end.lower())
