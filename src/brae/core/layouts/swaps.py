"""The part of a swap list: which item stands in for which, of one object or everywhere."""

from __future__ import annotations

import re
from functools import cached_property
from typing import Annotated

from pydantic import Field, model_validator

from brae.core.layouts.fields import Hidden, Name, check_inside
from brae.core.layouts.records import Records

_HOLES = ("object", "old", "new")
_HOLE = re.compile(r"\{(\w+)\}")


class SwapsPart(Hidden):
    """One item in the place of another; they lie in a table, or in the lines of the whole file."""

    swaps: Name
    of: Name | None = Field(None, description="the table whose records are the swaps")
    line: Annotated[str, Field(min_length=1, max_length=200)] | None = Field(
        None, description="of a text: how a line of it looks, with {old}, {new} and perhaps {object}"
    )
    comments: list[Annotated[str, Field(min_length=1, max_length=4)]] = Field(
        default_factory=list, description="of a text: what begins a line that says nothing"
    )
    everywhere: str = Field("*", max_length=40, description="what is said for the object where it is so for all")
    items: str = Field("{name}", description="the items that are swapped: 'materials/{name}.txt'")
    objects: str = Field("{name}", description="the items that they are swapped on: 'models/{name}.shp'")

    @property
    def name(self) -> str:
        return self.swaps

    @property
    def holes(self) -> list[str]:
        """What stands in a line."""
        return _HOLE.findall(self.line or "")

    @cached_property
    def pattern(self) -> re.Pattern[str]:
        """What a line is read by; white space stands for any other."""
        found, at = [], 0
        line = (self.line or "").strip()
        for hole in _HOLE.finditer(line):
            found += [_plain(line[at : hole.start()]), rf"(?P<{hole[1]}>\S(?:.*?\S)?)"]
            at = hole.end()
        return re.compile(r"\s*" + "".join(found) + _plain(line[at:]) + r"\s*")

    def written(self, said: dict[str, str]) -> str:
        """A line that says something."""
        return _HOLE.sub(lambda hole: said[hole[1]], self.line or "")

    @staticmethod
    def item(pattern: str, name: str) -> str:
        """The name of the item that a name in the list means."""
        return pattern.replace("{name}", name)

    @staticmethod
    def said(pattern: str, item: str) -> str | None:
        """An item's name as the list says it; None where it cannot."""
        before, _, behind = pattern.partition("{name}")
        low = item.lower()
        fits = low.startswith(before.lower()) and low.endswith(behind.lower())
        return item[len(before) : len(item) - len(behind)] if fits and len(item) > len(before + behind) else None

    @model_validator(mode="after")
    def _whole(self) -> SwapsPart:
        if (self.of is None) == (self.line is None):
            raise ValueError("a swap list has a table ('of') or a 'line' of a text, one of them")
        if self.line is not None:
            holes, rest = self.holes, _HOLE.sub("", self.line)
            if "{" in rest or "}" in rest or set(holes) - set(_HOLES) or len(set(holes)) != len(holes):
                raise ValueError(
                    f"'{self.line}' has {{old}} and {{new}} once each, perhaps {{object}}, and no other"
                )
            if not {"old", "new"} <= set(holes):
                raise ValueError("a line of a swap list has {old} and {new}")
            if re.search(r"\}\{", self.line):
                raise ValueError(f"'{self.line}' has two holes with nothing between them")
        for pattern in (self.items, self.objects):
            check_inside(pattern)
            if pattern.count("{name}") != 1 or "{" in pattern.replace("{name}", ""):
                raise ValueError(f"'{pattern}' has {{name}} in it, once, and no other word in braces")
        return self


def _plain(text: str) -> str:
    return "".join(r"\s+" if one.isspace() else re.escape(one) for one in re.findall(r"\s+|\S", text))


def check_swaps(part: SwapsPart, table: Records | None) -> None:
    """A swap says both names, as texts. Raises ValueError."""
    if table is None:
        raise ValueError(f"'{part.swaps}' needs the table '{part.of}'")
    leaves = {str(leaf.meant.role): leaf for leaf in table.leaves if leaf.meant.role}
    for role in ("swap-old", "swap-new"):
        if role not in leaves:
            raise ValueError(f"the swaps of '{part.of}' need the role {role}")
    for role, leaf in leaves.items():
        if role.startswith("swap-") and leaf.column.number_like:
            raise ValueError(f"'{leaf.field}' of a swap is a name: a string")
