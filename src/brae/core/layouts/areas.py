"""The part of a screen: rectangles on its picture that act, as records of a table."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated

from pydantic import Field, model_validator

from brae.core.layouts.fields import Hidden, Name, Strict, check_inside
from brae.core.layouts.pixels import beside
from brae.core.layouts.records import Records

#: what is said of a rectangle beside its place, as numbers
NUMBER_ROLES = (
    "action",
    "target",
    "shows",
    "area-order",
    "cursor-up",
    "cursor-down",
    "cursor-left",
    "cursor-right",
)


class LabelFont(Strict):
    """How large the game draws a label: in cells of one size, or letters of widths of their own."""

    advance: Annotated[int, Field(ge=1, le=256)] = Field(description="pixels from one letter to the next")
    height: Annotated[int, Field(ge=1, le=256)] = Field(description="pixels of a line")
    widths: dict[Annotated[str, Field(min_length=1, max_length=40)], Annotated[int, Field(ge=0, le=256)]] = Field(
        default_factory=dict, description="letters that are narrower or wider: {'il.': 3, 'MW': 9}"
    )

    def size(self, text: str) -> tuple[int, int]:
        """Width and height of a label in pixels."""
        own = {letter: width for letters, width in self.widths.items() for letter in letters}
        return sum(own.get(letter, self.advance) for letter in text), self.height if text else 0


class AreasPart(Hidden):
    """Rectangles on a screen's picture; they lie in a table, and take no bytes themselves."""

    areas: Name
    of: Name = Field(description="the table whose records are the rectangles")
    grid: Annotated[int, Field(ge=1, le=256)] = Field(1, description="places are multiples of so many pixels")
    least: Annotated[int, Field(ge=1, le=1024)] = Field(1, description="the smallest side that a cursor meets")
    font: LabelFont | None = Field(None, description="what labels are drawn in, to tell those that do not fit")
    target: str | None = Field(
        None, description="how the item is called to which a target leads: '{number:04}', with {folder} of this one"
    )

    leads: list[int] | None = Field(
        None, description="the actions that lead to a target; without it every rectangle with a target does"
    )

    @property
    def name(self) -> str:
        return self.areas

    def follows(self, numbers: Mapping[str, int]) -> bool:
        """Whether a rectangle with these numbers leads to its target."""
        return "target" in numbers and (self.leads is None or numbers.get("action") in self.leads)

    @model_validator(mode="after")
    def _named(self) -> AreasPart:
        if self.target is not None:
            check_inside(self.target)
            self.item("a/b", 0)
        return self

    def item(self, name: str, number: int) -> str | None:
        """The name of the item to which a target of the item ``name`` leads; None where none is said."""
        return None if self.target is None else beside(self.target, name, number=number)


def check_areas(part: AreasPart, table: Records) -> None:
    """A rectangle has a place and sides. Raises ValueError."""
    roles = {str(leaf.meant.role) for leaf in table.leaves if leaf.meant.role}
    for near, size, far in (("area-x", "area-width", "area-right"), ("area-y", "area-height", "area-bottom")):
        if near not in roles:
            raise ValueError(f"the rectangles of '{part.of}' need the role {near}")
        if (size in roles) == (far in roles):
            raise ValueError(f"the rectangles of '{part.of}' need one of the roles {size} and {far}")
