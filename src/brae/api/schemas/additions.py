"""Items that the game has not."""

from __future__ import annotations

from pydantic import BaseModel

from brae.api.schemas.common import Row


class Neighbour(Row):
    """An item that another one names, or that names it."""

    address: str
    name: str
    kind: str


class NewProposal(BaseModel):
    """What a new item like another one could be."""

    #: a name that is free
    name: str
    #: whether it can be made of a file
    from_file: bool
    #: whether its sides follow from the game's world
    sized: bool
    #: what it surely names, and can be made of a file; what names it
    uses: list[Neighbour]
    used_by: list[Neighbour]
    #: whether what names it is known; else a job works it out
    ready: bool
    #: units of the world that a texel covers, and the longest side
    scale: float
    most: int


class MadeNew(BaseModel):
    """The addresses of what was made."""

    made: list[str]
