"""Items in the catalogue, by what they are found, and what their kinds say of them."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, Field

from brae.api.schemas.common import Asked, Row
from brae.core.find.links import Link, Missing


class MemberView(BaseModel):
    """A member in the catalogue."""

    address: str
    name: str
    kind: str
    container: str | None
    packer: str
    stored: int
    real: int
    #: what its kind says of it
    facts: dict[str, int | float | str]
    fault: str | None
    #: the address of the copy that the game uses instead
    winner: str | None = None
    #: whether a person made it: the game has none of that name until it is built
    made: bool = False
    edit: str | None = None


class MemberPage(BaseModel):
    """Part of the catalogue."""

    total: int
    offset: int
    items: list[MemberView]
    #: words of the search that are in no path, with those that were looked for instead
    read_as: dict[str, list[str]]
    #: where nothing fits, in words: conditions that there are not, and values that nothing has
    puzzling: list[str] = []


class LinksView(BaseModel):
    """What an item needs, what needs it, and the names in it of nothing that is there."""

    #: whether it is known; else a job works it out
    ready: bool
    needs: list[Link]
    used_by: list[Link]
    missing: list[Missing]
    #: whether nothing names it though most of its kind beside it are named
    alone: bool = False


class FacetValue(BaseModel):
    """One value by which the catalogue can be narrowed."""

    value: str
    count: int


class Facet(BaseModel):
    """One thing by which the catalogue can be narrowed."""

    name: str
    label: str
    values: list[FacetValue]


class Facets(BaseModel):
    """All of them, and the folders."""

    facets: list[Facet]
    folders: list[FacetValue]


class Corner(BaseModel):
    """A point of a picture, as shares of its sides."""

    x: float
    y: float


class LikeFound(BaseModel):
    """An item that a picture shows."""

    address: str
    #: 1 where nothing differs
    score: float
    #: the whole item, a part of it, or the item somewhere inside the picture
    how: Literal["whole", "part", "inside"]
    #: the corners: in the item for a part, in the picture for what is inside it
    place: list[Corner]
    flip: Literal["", "sideways", "upside down", "both"]


class LikeView(BaseModel):
    """A picture that is looked for, and what it shows, best first."""

    id: str
    width: int
    height: int
    #: whether it was looked for to the end
    ready: bool
    #: how many pictures were searched
    searched: int
    fault: str | None
    found: list[LikeFound]


class FactView(Row):
    """How a fact is called and written."""

    name: str
    label: str
    unit: str
    case: Literal["as-is", "capitals"]
    words: dict[str, str]
    facet: bool
    #: how the catalogue is ordered by it: from the smallest, or from the largest
    order: Literal["", "up", "down"]
    line: bool


class Named(BaseModel):
    """Something by its identifier, with the words for it."""

    id: str
    words: str


class KindView(BaseModel):
    """A kind of item: how it is called, what it says, and what can be done with it."""

    id: str
    title: str
    titles: str
    facts: list[FactView]
    #: endings of the files that go out and come back; none where it is only looked at
    suffixes: list[str]
    preview: Literal["image", "audio", "text", "none"]
    remedies: list[Named]
    marks: list[Named]
    #: whether it has a picture by which it is found, and colours that can be changed
    pictured: bool
    #: whether a file of the game's own type is taken back as well
    own_files: bool
    #: the search for such an item in bytes without a header, in words; null where there is none
    headless: str | None


class KindsView(BaseModel):
    """Every kind, and in what the catalogue can be ordered."""

    kinds: list[KindView]
    orders: list[Named]
    groupings: list[Named]


class Addresses(Asked):
    """Items by their addresses."""

    addresses: list[str]


class Chosen(BaseModel):
    """Items that were chosen by their places: those that can be edited, and the number of the others."""

    addresses: list[str]
    others: int


class ExportRequest(Asked):
    """What goes to which folder: the items named, or (where none is) all that a search finds."""

    folder: str
    addresses: list[str] | None = None
    q: str = ""
    where: list[str] = Field(default_factory=list)
    inside: str | None = None
    in_work: bool = False
    like: str | None = None


class ManyRequest(Asked):
    """What is done with many items; ``mark`` says which test colours."""

    addresses: list[str]
    act: Literal["edit", "mark", "unmark"]
    mark: str = ""


class ImportRequest(Asked):
    """A folder that was exported, to be taken back."""

    folder: str
