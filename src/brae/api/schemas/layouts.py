"""Layouts that know a game, layouts that people give to each other, and new archives by one."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, Field

from brae.api.schemas.common import Asked


class VersionView(BaseModel):
    """A version of a layout that is kept."""

    version: str
    title: str
    author: str
    licence: str
    #: whether it is the one that is used
    used: bool


class KnownLayoutView(BaseModel):
    """A layout, and what it makes of a game's archives."""

    layout: str
    title: str
    kind: str
    #: with the game, the person's own, shipped with Brae, or only kept as a version
    place: Literal["game", "yours", "shipped", "kept"]
    archives: int
    proved: int
    contradicted: int
    differs: int
    versions: list[VersionView]


class GiveRequest(Asked):
    """What to say of a layout that is given away."""

    version: Annotated[str, Field(pattern=r"^[0-9A-Za-z][0-9A-Za-z.\-]{0,31}$")] = "1"
    author: Annotated[str, Field(max_length=200)] = ""
    licence: Annotated[str, Field(max_length=200)] = ""
    about: Annotated[str, Field(max_length=4000)] = ""


class GivenLayout(BaseModel):
    """A layout as a file to give away."""

    file: str
    text: str
    #: on how many of the game's files it was tested
    tested: int


class TakeRequest(Asked):
    """A shared layout, as text."""

    text: Annotated[str, Field(max_length=16 << 20)]


class UseRequest(Asked):
    """Which version to use."""

    version: Annotated[str, Field(max_length=64)]


class TriedFile(BaseModel):
    """What a shared layout makes of a file of one's own."""

    path: str
    outcome: Literal["proved", "beginning", "unreadable"]
    members: int
    words: str
    #: whether it was tested with this very file, and whether it lists the same here
    known: bool
    same: bool


class TakenLayout(BaseModel):
    """What came of taking a shared layout; it is kept, and not used yet."""

    layout: str
    title: str
    version: str
    author: str
    licence: str
    about: str
    tested: int
    recognised: int
    trials: list[TriedFile]


class MakeRequest(Asked):
    """A new archive from a folder."""

    folder: Annotated[str, Field(max_length=4096)]
    out: Annotated[str, Field(max_length=4096)]
    #: the address of an archive of the game whose header and packing it takes
    like: str | None = None


class MadeArchive(BaseModel):
    """What was made."""

    members: int
    files: list[str]
