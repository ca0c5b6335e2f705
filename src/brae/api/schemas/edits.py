"""Items in work."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING, Annotated, Any, Literal, Union

from pydantic import BaseModel, Field

from brae.api.schemas.common import Asked, Row
from brae.api.schemas.games import ArchiveView
from brae.api.schemas.items import MemberView
from brae.core.assets.base import Details
from brae.core.assets.registry import kinds
from brae.core.assets.sheet import MatchSheet


def _any_details() -> Any:
    """The details of every kind; of kinds that have no more to say, what all have."""
    own = [kind.details for kind in kinds().values() if kind.details is not Details]
    return Union[(*own, Details)]


if TYPE_CHECKING:
    AnyDetails = Details
else:
    AnyDetails = _any_details()


class StepView(Row):
    """One version of an edit."""

    number: int
    what: str
    file_name: str
    remedies: list[str]
    made: datetime


class SpoiltView(Row):
    """An item that looks otherwise with an edit: the share of its pixels, and how far those are off (CIEDE2000)."""

    address: str
    name: str
    share: float
    mean: float
    most: float
    edited: bool


class EditView(BaseModel):
    """An item in work."""

    address: str
    name: str
    kind: str
    state: Literal["waiting", "ready", "attention", "same"]
    file: str
    file_exists: bool
    fault: str | None
    position: int
    steps: list[StepView]
    sheet: MatchSheet | None
    #: what the page of its kind needs to know beyond that
    details: AnyDetails
    #: files that replace parts of it: their names, by the kind's names for the parts
    beside: dict[str, str] = {}
    #: the version in use makes it obvious for a trial
    marked: bool = False
    #: the last build put this version into the game, and it lies there still
    built: bool = False
    revision: str


class ItemView(BaseModel):
    """One item with all that is known of it."""

    member: MemberView
    archive: ArchiveView
    offset: int | None
    edit: EditView | None


class GiveTo(Asked):
    """An item, and copies of it that get its edit."""

    address: str
    copies: Annotated[list[str], Field(min_length=1, max_length=10_000)]


class TestColours(Asked):
    """Items, and the test colours that they get; none to take them back."""

    __test__ = False  # no test of pytest's
    addresses: list[str]
    mark: str | None


class Remedies(Asked):
    """Exactly the remedies to apply."""

    remedies: list[str]


class Meant(Asked):
    """A finding, and for what it is meant; null takes it back."""

    finding: str
    scope: Literal["item", "folder", "game"] | None


class EditChoices(Asked):
    """Where the encoding departs from the original's; what is left out is taken from the original."""

    choices: dict[str, Any]


class Position(Asked):
    """How many versions count."""

    position: int
