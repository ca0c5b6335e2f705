"""A screen by its layout: its picture, its rectangles, and both back into the file."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Annotated, Any

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, TypeAdapter, ValidationError

from brae.core.assets.base import Fetch
from brae.core.assets.texture import described as textures
from brae.core.assets.texture.texture import TextureFile
from brae.core.errors import FormatError, LimitError
from brae.core.layouts.areas import NUMBER_ROLES, AreasPart
from brae.core.layouts.faults import in_words
from brae.core.layouts.fields import Leaf
from brae.core.layouts.heads import alike
from brae.core.layouts.model import Layout
from brae.core.layouts.parts import TablePart
from brae.core.layouts.read import Parsed, parse
from brae.core.layouts.rows import Rows, encode_record, named
from brae.core.layouts.write import Model, compose
from brae.core.sources import MAIN, BytesSource

#: rectangles of one screen: what is beyond is taken for damage
MOST = 10_000
Side = Annotated[int, Field(ge=-(1 << 31), le=1 << 31)]


class Area(BaseModel):
    """A rectangle in pixels from the top left corner of the picture, and what it does."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    x: Side
    y: Side
    width: Annotated[int, Field(ge=0, le=1 << 31)]
    height: Annotated[int, Field(ge=0, le=1 << 31)]
    #: what is said of it beside its place, by the roles without their hyphens: action, target, cursor_up ...
    numbers: dict[str, int] = Field(default_factory=dict)
    label: str | None = None
    #: the number of the original's rectangle whose other bytes it has; without it, what all of them have
    like: Annotated[int, Field(ge=0, le=MOST)] | None = None

    @property
    def key(self) -> tuple[object, ...]:
        """All of it, to be looked up."""
        return (
            self.x, self.y, self.width, self.height, tuple(sorted(self.numbers.items())), self.label, self.like,
        )  # fmt: skip

    @property
    def right(self) -> int:
        """The first column that no longer belongs to it."""
        return self.x + self.width

    @property
    def bottom(self) -> int:
        """The first row that no longer belongs to it."""
        return self.y + self.height


@dataclass(frozen=True, eq=False)
class ScreenFile:
    """A screen's file as it was read."""

    layout: Layout
    name: str
    picture: TextureFile
    areas: tuple[Area, ...]
    size: int
    parsed: Parsed
    fetch: Fetch

    @property
    def part(self) -> AreasPart:
        """What the layout says of the rectangles."""
        return self.layout.only(AreasPart)  # type: ignore[no-any-return]

    @property
    def table(self) -> TablePart:
        """The table that they are records of."""
        part = self.parsed.regions[self.part.of].part
        assert isinstance(part, TablePart)
        return part

    @property
    def can_say(self) -> list[str]:
        """What each rectangle has beside its place: numbers by their roles without hyphens, and 'label'."""
        found = [role.replace("-", "_") for role in NUMBER_ROLES if self.table.column(role) is not None]
        return found + (["label"] if self.table.column("name") is not None else [])

    @property
    def can_grow(self) -> bool:
        """Whether there can be more or fewer of them: where their number is a constant it stays."""
        return not isinstance(self.table.count, int)

    def meaning(self, role: str) -> Mapping[int, str | int]:
        """What the numbers of a role stand for, as far as the layout says."""
        leaf = self.table.column(role.replace("_", "-"))
        return (leaf.meant.values or {}) if leaf is not None else {}

    def rewrite(self, areas: Sequence[Area]) -> bytes:
        """The file with other rectangles; what nobody explained in a record stays.

        Raises FormatError or LayoutError where one cannot be stored so.
        """
        if not self.can_grow and len(areas) != len(self.areas):
            raise FormatError(
                f"This screen always has {len(self.areas)} rectangles.", expected=f"{len(self.areas)}"
            )
        name, part = self.part.of, self.table
        table = self.parsed.tables[name].copy()
        records = [self._record(table, part, area) for area in areas]
        old = len(table)
        table.insert_all(np.full(len(records), old, np.int64), records)
        table.keep(np.arange(old, old + len(records)))
        for row, area in enumerate(areas):
            _put(table, part, row, area, self._original(area))
        return b"".join(compose(self.parsed, model=Model({}, {}, {name: table})).read(MAIN))

    def _original(self, area: Area) -> Area | None:
        """The original's rectangle that one is like; None where there is none of that number."""
        return self.areas[area.like] if area.like is not None and area.like < len(self.areas) else None

    def _record(self, table: Rows, part: TablePart, area: Area) -> bytes:
        if area.like is not None and self._original(area) is not None:
            return table.record(area.like)
        return encode_record(part, table.endian, alike(part, table))


def _put(table: Rows, part: TablePart, row: int, area: Area, before: Area | None) -> None:
    """A rectangle's numbers into its record; what is as it was is not written anew."""
    values = {
        "area-x": area.x, "area-y": area.y, "area-width": area.width, "area-height": area.height,
        "area-right": area.right, "area-bottom": area.bottom,
    }  # fmt: skip
    values |= {role.replace("_", "-"): number for role, number in area.numbers.items()}
    was = {} if before is None else _values(before)
    for role, number in values.items():
        leaf = part.column(role)
        if leaf is None:
            if role.startswith("area-") and role != "area-order":
                continue
            raise FormatError(f"A rectangle of this file has no {role}.")
        if was.get(role) != number:
            _check(leaf, number)
            table.put(leaf.field, row, number)
    leaf = part.column("name")
    if area.label is not None and leaf is not None and (before is None or before.label != area.label):
        raw = named(leaf, area.label, table.endian)[leaf.field]
        assert isinstance(raw, bytes)
        if leaf.column.width and len(raw) > leaf.column.width:
            raise FormatError(f"'{area.label}' is too long: {leaf.column.width} bytes are there for it.")
        table.put_raw(leaf.field, row, raw)


def _values(area: Area) -> dict[str, int]:
    return {
        "area-x": area.x, "area-y": area.y, "area-width": area.width, "area-height": area.height,
        "area-right": area.right, "area-bottom": area.bottom,
        **{role.replace("_", "-"): number for role, number in area.numbers.items()},
    }  # fmt: skip


def _check(leaf: Leaf, number: int) -> None:
    """Refuse a number that the field cannot hold, in the words of the person who chose it."""
    signed = leaf.column.type.startswith("i") and leaf.whole
    most = (1 << leaf.bits - signed) - 1
    stored = (number - leaf.meant.add) / leaf.meant.unit
    if leaf.bits and not (-most - 1 if signed else 0) <= stored <= most:
        low = (-most - 1 if signed else 0) * leaf.meant.unit + leaf.meant.add
        raise FormatError(
            f"'{leaf.field}' of a rectangle cannot be {number}.",
            expected=f"{low} to {most * leaf.meant.unit + leaf.meant.add}",
        )


def read(layout: Layout, data: bytes, name: str, fetch: Fetch) -> ScreenFile:
    """A screen by its layout. Raises one of Brae's errors where the file cannot be one."""
    picture = textures.read(layout, data, name, fetch)
    parsed = parse(layout, {MAIN: BytesSource(data)})
    return ScreenFile(layout, name, picture, areas_of(layout, parsed), len(data), parsed, fetch)


def areas_of(layout: Layout, parsed: Parsed) -> tuple[Area, ...]:
    """The rectangles of a file that was read as far as its tables."""
    part: AreasPart = layout.only(AreasPart)
    table = parsed.tables[part.of]
    records = parsed.regions[part.of].part
    assert isinstance(records, TablePart)
    if len(table) > MOST:
        raise LimitError(f"{len(table):,} rectangles are more than a screen has.", expected=f"at most {MOST:,}")

    def numbers(role: str) -> list[int] | None:
        leaf = records.column(role)
        return None if leaf is None else table.numbers(leaf.field).tolist()

    x, y = numbers("area-x") or [], numbers("area-y") or []
    widths = numbers("area-width") or [far - near for far, near in zip(numbers("area-right") or [], x, strict=True)]
    heights = numbers("area-height") or [
        far - near for far, near in zip(numbers("area-bottom") or [], y, strict=True)
    ]
    more = {role.replace("-", "_"): found for role in NUMBER_ROLES if (found := numbers(role)) is not None}
    leaf = records.column("name")
    labels = table.texts(leaf.field) if leaf is not None else [None] * len(table)
    if any(side < 0 for side in [*widths, *heights]):
        row = next(n for n, sides in enumerate(zip(widths, heights, strict=True)) if min(sides) < 0)
        raise FormatError(f"Rectangle {row} ends before it begins.", offset=parsed.place(part.of, table.start(row)))
    return tuple(
        Area(
            x=x[row], y=y[row], width=widths[row], height=heights[row],
            numbers={role: found[row] for role, found in more.items()}, label=labels[row], like=row,
        )
        for row in range(len(table))
    )  # fmt: skip


_LIST: TypeAdapter[list[Area]] = TypeAdapter(list[Area])


def to_json(areas: Iterable[Area]) -> bytes:
    """Rectangles as a file: ``{"areas": [{"x", "y", "width", "height", "numbers", "label", "like"}]}``."""
    told = [area.model_dump(exclude_none=True) for area in areas]
    return (json.dumps({"areas": told}, indent=1) + "\n").encode()


def from_json(data: bytes, name: str = "") -> tuple[Area, ...]:
    """The inverse. Raises FormatError where the file says no rectangles."""
    try:
        said: Any = json.loads(data)
        if not isinstance(said, dict) or not isinstance(said.get("areas"), list):
            raise FormatError("The file says no rectangles.", address=name, expected='{"areas": [...]}')
        if len(said["areas"]) > MOST:
            raise LimitError(f"{len(said['areas']):,} rectangles are too many.", address=name)
        return tuple(_LIST.validate_python(said["areas"]))
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(map(str, first["loc"]))
        raise FormatError(f"Rectangle {where}: {in_words(first)[0]}", address=name) from None
    except ValueError as error:
        raise FormatError(f"This is no JSON: {error}", address=name) from error
