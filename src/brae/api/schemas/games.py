"""Games that are open: their archives, files and folders, and what was found out about them."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal

from pydantic import BaseModel, Field, field_validator

from brae.api.schemas.common import Asked, Fault, Row
from brae.core.containers.base import Proof
from brae.core.containers.evidence import Evidence


class OpenRequest(Asked):
    """Which folder or archive to open."""

    path: str


class ArchiveView(Row):
    """An archive of a project."""

    address: str
    layout: str | None
    title: str
    files: dict[str, str]
    #: None until it has been worked out
    proof: Proof | None
    #: what speaks for its description, or against it: beside the proof, as that does not see wrong names
    evidence: list[Evidence] = Field(default_factory=list)
    fault: str | None
    member_count: int

    @field_validator("proof", mode="before")
    @classmethod
    def _not_yet(cls, value: object) -> object:
        return value or None


class GameFile(Row):
    """A file of the game and whether Brae changed it."""

    path: str
    size: int
    sha256: str
    state: Literal["original", "patched", "rebuilt", "created"]
    current_size: int
    #: what is kept of it: the whole file, or bytes of ranges
    kept_whole: bool
    kept_bytes: int
    changed_behind: str | None


class Counts(BaseModel):
    """What waits at each stage."""

    members: int
    in_work: int
    attention: int
    ready: int
    built_files: int


class ProjectSummary(Row):
    """A project in the list."""

    id: str
    name: str
    folder: str
    only: str | None
    opened: datetime


class UndescribedFile(BaseModel):
    """A file of the game that no layout describes."""

    path: str
    size: int
    #: what can be seen of it, one fact each
    words: list[str] = []
    #: how many files of open formats lie in it, by their signs, and what was left out
    found: int = 0
    left_out: list[str] = []
    #: whether its structure is worth a search
    like_archive: bool = False
    #: files that begin alike, or have the same ending
    family: list[str] = []


class StructureRequest(Asked):
    """Which file to look into, and the data file that belongs to it."""

    path: str
    data: str | None = None


class Proposal(BaseModel):
    """A layout that fits a file: its text, the share of bytes that it explains, its proof, some of the names."""

    text: str
    members: int
    explained: float
    exact: bool
    #: 'proved' where the rebuild is exact and nothing contradicts, else a beginning
    state: Literal["proved", "beginning"]
    evidence: list[Evidence] = []
    reason: str | None
    names: list[str]


class Structure(BaseModel):
    """What was found in a file, the best first."""

    path: str
    data: str | None = None
    proposals: list[Proposal]


class LayoutText(Asked):
    """A layout as a person wrote it, or took it."""

    text: Annotated[str, Field(max_length=1 << 20)]


class KeptLayout(BaseModel):
    """The file that a layout was saved to, in Brae's own folder."""

    file: str


class Choice(BaseModel):
    """One of several things to choose from."""

    name: str
    title: str


class GameView(BaseModel):
    """What the game's profile says, and what was chosen."""

    game: str
    title: str
    editions: list[Choice]
    #: what the files say, and what the person says instead
    edition: str | None
    chosen_edition: str | None
    ways: list[Choice]
    way: str


class Choices(Asked):
    """What a person chooses; what is left out stays, an empty edition takes the override away."""

    edition: str | None = None
    way: str | None = None


class KeptSearch(Asked):
    """A search, as the page asks with it (q=boat&where=kind:texture), to be kept or not any more."""

    query: Annotated[str, Field(min_length=1, max_length=2000)]
    kept: bool


class ProjectView(ProjectSummary):
    """A project with all that the stages need."""

    files_seen: int
    layout_faults: list[Fault]
    archives: list[ArchiveView]
    loose_files: int
    undescribed: list[UndescribedFile]
    counts: Counts
    standin: bool
    exchange: str
    game: GameView | None
    #: files that miss their other half
    game_faults: list[str]
    #: searches that are kept, the newest first
    searches: list[str]
