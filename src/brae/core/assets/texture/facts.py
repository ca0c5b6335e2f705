"""What is said of a texture in the catalogue."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Literal, get_args

from pydantic import AfterValidator, BaseModel, ConfigDict, Field

from brae.core.assets.base import as_said
from brae.core.assets.facts import Fact, Facts, Value
from brae.core.assets.texture import formats
from brae.core.assets.texture.formats import PixelFormat
from brae.core.assets.texture.formats.base import Alpha
from brae.core.assets.texture.texture import Header, Shape
from brae.core.layouts.fields import near
from brae.core.layouts.roles import Channel, Role, use_of


class TextureFacts(Facts):
    """The facts of a texture."""

    dimensions: Annotated[str | None, Fact("Dimensions", unit="pixels", facet=True, order_by="pixels")] = None
    width: Annotated[int | None, Fact("Width", unit="pixels", line=False)] = None
    height: Annotated[int | None, Fact("Height", unit="pixels", line=False)] = None
    pixels: Annotated[int | None, Fact("Dimensions", order="down", line=False)] = None
    format: Annotated[str | None, Fact("Pixel format", case="capitals", facet=True, order="up")] = None
    mips: Annotated[int | None, Fact("Mip levels", words={"1": "none but itself"})] = None
    #: what its format can hold of alpha; whether its pixels make use of it is not looked at
    alpha: Annotated[str | None, Fact("Room for alpha", facet=True)] = None
    #: levels that it says it has and has no bytes for: they lie elsewhere, and no layout says where
    beyond: Annotated[int | None, Fact("Larger levels", unit="elsewhere", facet=True)] = None
    rows: Annotated[str | None, Fact("Rows", words={"top-down": "", "bottom-up": "stored upside down"})] = None
    #: what it is for, where its format says so: a role, or of a packed map those of its channels ("r=metallic")
    map: Annotated[str | None, Fact("Map")] = None


_ROOM: dict[Alpha, str] = {"none": "none", "binary": "one-bit", "full": "soft"}


def facts_of(header: Header, held: int | None = None) -> dict[str, Value]:
    """A texture's facts, from its header; ``held``: the bytes of pixels that it has, where all should be there."""
    found: dict[str, Value] = {
        "dimensions": f"{header.width} × {header.height}",
        "width": header.width,
        "height": header.height,
        "pixels": header.width * header.height,
        "format": header.format.name,
        "mips": header.levels,
        "alpha": _ROOM[header.format.alpha],
        "rows": header.orientation,
    }
    if held is not None and header.lacks(held):
        found["beyond"] = header.lacks(held)
    if header.use is not None:
        found["map"] = header.use.role or " ".join(f"{one}={role}" for one, role in header.use.channels.items())
    return found


def _known_format(name: str) -> str:
    known = [one.name for one in formats.all_formats()]
    if name not in known:
        raise ValueError(f"there is no pixel format '{name}'{near(name, known)}")
    return name


def _known_map(said: str) -> str:
    """A role, or of a packed map one for each channel: ``r=roughness g=metallic``."""
    roles, channels = get_args(Role), get_args(Channel)
    pairs = [part.partition("=") for part in said.split()] if "=" in said else [("r", "=", said)]
    if not all(channel in channels and role in roles for channel, _, role in pairs):
        raise ValueError(
            f"'{said}' is nothing that a map is for; known are {', '.join(roles)}, and of a packed map its "
            "channels, such as 'r=roughness g=metallic'"
        )
    return said


class SaidFacts(BaseModel):
    """What a layout can say of a texture: of its header, or of a member whose bytes are nothing but pixels."""

    model_config = ConfigDict(extra="forbid")
    kind: str = "texture"
    width: Annotated[int, Field(ge=1, le=65536)]
    height: Annotated[int, Field(ge=1, le=65536)]
    format: Annotated[str, AfterValidator(_known_format)]
    #: no level, layer, face or slice at all stands for one in some formats
    mips: Annotated[int, Field(ge=0, le=17)] = 1
    rows: Literal["top-down", "bottom-up"] = "top-down"
    map: Annotated[str, AfterValidator(_known_map)] | None = None
    layers: Annotated[int, Field(ge=0, le=65536)] = 1
    faces: Annotated[int, Field(ge=0, le=6)] = 1
    depth: Annotated[int, Field(ge=0, le=65536)] = 1
    colour: Literal["srgb", "linear"] | None = None
    premultiplied: bool = False

    def header(self, container: str, pixel_format: PixelFormat) -> Header:
        """The header of a texture of which this is said; FormatError where it cannot be."""
        formats.check_size(self.width, self.height)
        count, depth = max(1, self.layers) * max(1, self.faces), max(1, self.depth)
        shape: Shape = "volume" if depth > 1 else "cube" if self.faces == 6 else "array" if count > 1 else "2d"
        return Header(
            container,
            pixel_format,
            self.width,
            self.height,
            max(1, self.mips),
            self.rows,
            shape,
            count,
            depth,
            self.colour,
            self.premultiplied,
            use_of(self.map),
        ).check()


def header_of(said: Mapping[str, Value]) -> Header | None:
    """A texture's header, as its container says it; None where that says nothing of it.

    Raises FormatError for facts that textures do not have, or have not of that sort.
    """
    facts = as_said(SaidFacts, said, "texture")
    if facts is None:
        return None
    return facts.header("raw", formats.get(facts.format))
