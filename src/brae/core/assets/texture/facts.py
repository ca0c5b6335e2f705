"""What is said of a texture in the catalogue."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

from brae.core.assets.base import as_said
from brae.core.assets.facts import Fact, Facts, Value
from brae.core.assets.texture import formats
from brae.core.assets.texture.texture import Header
from brae.core.layouts.roles import MapUse


class TextureFacts(Facts):
    """The facts of a texture."""

    dimensions: Annotated[str | None, Fact("Dimensions", unit="pixels", facet=True, order_by="pixels")] = None
    width: Annotated[int | None, Fact("Width", unit="pixels", line=False)] = None
    height: Annotated[int | None, Fact("Height", unit="pixels", line=False)] = None
    pixels: Annotated[int | None, Fact("Dimensions", order="down", line=False)] = None
    format: Annotated[str | None, Fact("Pixel format", case="capitals", facet=True, order="up")] = None
    mips: Annotated[int | None, Fact("Mip levels", words={"1": "none but itself"})] = None
    rows: Annotated[str | None, Fact("Rows", words={"top-down": "", "bottom-up": "stored upside down"})] = None
    #: what it is for, where its format says so: a role, or of a packed map those of its channels ("r=metallic")
    map: Annotated[str | None, Fact("Map")] = None


def facts_of(header: Header) -> dict[str, Value]:
    """A texture's facts, from its header."""
    found: dict[str, Value] = {
        "dimensions": f"{header.width} × {header.height}",
        "width": header.width,
        "height": header.height,
        "pixels": header.width * header.height,
        "format": header.format.name,
        "mips": header.levels,
        "rows": header.orientation,
    }
    if header.use is not None:
        found["map"] = header.use.role or " ".join(f"{one}={role}" for one, role in header.use.channels.items())
    return found


class SaidFacts(BaseModel):
    """What an archive's records can say of a texture: then its bytes are pixels and nothing else."""

    model_config = ConfigDict(extra="forbid")
    kind: str
    width: Annotated[int, Field(ge=1, le=65536)]
    height: Annotated[int, Field(ge=1, le=65536)]
    format: str
    mips: Annotated[int, Field(ge=1, le=17)] = 1
    rows: Literal["top-down", "bottom-up"] = "top-down"
    map: str | None = None


def header_of(said: Mapping[str, Value]) -> Header | None:
    """A texture's header, as its container says it; None where that says nothing of it.

    Raises FormatError for facts that textures do not have, or have not of that sort.
    """
    facts = as_said(SaidFacts, said, "texture")
    if facts is None:
        return None
    header = Header("raw", formats.get(facts.format), facts.width, facts.height, facts.mips, facts.rows)
    return replace(header, use=use_of(facts.map)).check()


def use_of(said: object) -> MapUse | None:
    """What a texture is for, from its fact ``map``."""
    if not isinstance(said, str) or not said:
        return None
    if "=" not in said:
        return MapUse.model_validate({"role": said})
    return MapUse.model_validate({"channels": dict(part.split("=", 1) for part in said.split())})
