"""One change of colours over many items."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import BaseModel, Field


class ColourStepsView(BaseModel):
    """Colour steps as data, as docs/recolour.md describes them, and as the text that others can read."""

    title: str
    steps: list[dict[str, Any]]
    text: str


class KeptColours(BaseModel):
    """Colour steps that are kept, with their name."""

    name: str
    steps: ColourStepsView


class ColourSteps(BaseModel):
    """Colour steps as the page has them; what is wrong in them is told by the rules of docs/recolour.md."""

    title: Annotated[str, Field(max_length=200)] = ""
    steps: Annotated[list[dict[str, Any]], Field(max_length=100)]


class ColourText(BaseModel):
    """Colour steps as text."""

    text: Annotated[str, Field(max_length=100_000)]


class Recolour(BaseModel):
    """Items, and the steps that change their colours."""

    addresses: Annotated[list[str], Field(min_length=1)]
    steps: ColourSteps


class Some(BaseModel):
    """Items that are looked at, in pictures with no side longer than ``side``."""

    addresses: Annotated[list[str], Field(min_length=1, max_length=50)]
    side: Annotated[int, Field(ge=16, le=1024)] = 160
