"""The kind of menu screens."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Annotated, Any, ClassVar

from pydantic import BaseModel

from brae.core.assets import recognised
from brae.core.assets.base import (
    Around,
    AssetKind,
    Context,
    Encoded,
    ExchangeFile,
    Head,
    NoWords,
    Preview,
    Question,
    Sniffed,
    Version,
    Viewed,
    fetching,
)
from brae.core.assets.facts import Fact, Facts, Value
from brae.core.assets.screen import matching
from brae.core.assets.screen.screen import Area, ScreenFile, areas_of, from_json, read, to_json
from brae.core.assets.sheet import MatchSheet
from brae.core.assets.texture.described import header_of
from brae.core.assets.texture.formats import Picture
from brae.core.assets.texture.kind import KIND as TEXTURE
from brae.core.assets.texture.looking import TextureQuery
from brae.core.errors import BraeError, FormatError
from brae.core.layouts.areas import AreasPart
from brae.core.layouts.library import Library
from brae.core.layouts.model import Layout
from brae.core.layouts.read import Parsed

#: screens whose rectangles are looked at for what a game knows
_MOST_TOLD = 40


class ScreenFacts(Facts):
    """The facts of a screen."""

    width: Annotated[int | None, Fact("Width", unit="pixels", order="down")] = None
    height: Annotated[int | None, Fact("Height", unit="pixels")] = None
    areas: Annotated[int | None, Fact("Rectangles", order="down")] = None
    actions: Annotated[str | None, Fact("Actions")] = None
    targets: Annotated[str | None, Fact("Targets")] = None


class ScreenRecipe(BaseModel):
    """How a screen is stored: what it is encoded like."""

    layout: str
    areas: int
    says: list[str]
    picture: dict[str, Any]


class Role(BaseModel):
    """A number that each rectangle has beside its place, what it can be, and what those numbers stand for."""

    id: str
    known: dict[int, str]


class AreasView(BaseModel):
    """What draws and edits a screen's rectangles."""

    width: int
    height: int
    grid: int
    least: int
    original: list[Area]
    #: as they are in the version in use
    edit: list[Area]
    roles: list[Role]
    labelled: bool
    #: pixels of a line of a label, where the game's font is known
    line: int | None
    can_grow: bool
    #: where targets lead: the addresses of screens by their numbers
    ways: dict[int, str]
    #: targets to which no screen belongs
    lost: list[int]


def _told(viewed: Viewed[ScreenFile], query: NoWords, around: Around) -> AreasView:
    file = viewed.original
    current = viewed.edit if viewed.edit is not None else file
    head = current.picture.header
    areas = [*file.areas, *current.areas]
    siblings = around.siblings() if file.part.target is not None else []
    places = {one.name.rpartition("/")[2]: one.address for one in siblings}
    ways, lost = {}, []
    for target in sorted({area.numbers["target"] for area in areas if "target" in area.numbers}):
        name = file.part.item(file.name, target)
        if name is None:
            continue
        address = places.get(name.rpartition("/")[2])
        if address is not None:
            ways[target] = address
        else:
            lost.append(target)
    return AreasView(
        width=head.width,
        height=head.height,
        grid=file.part.grid,
        least=file.part.least,
        original=list(file.areas),
        edit=list(current.areas),
        roles=[
            Role(id=role, known={number: str(words) for number, words in file.meaning(role).items()})
            for role in file.can_say
            if role != "label"
        ],
        labelled="label" in file.can_say,
        line=None if file.part.font is None else file.part.font.height,
        can_grow=file.can_grow,
        ways=ways,
        lost=lost,
    )


class ScreenKind(AssetKind[ScreenFile]):
    """Menu screens that a layout describes."""

    id = "screen"
    title, titles = "Screen", "Screens"
    rank = 12
    facts = ScreenFacts
    exchange = TEXTURE.exchange
    remedies: ClassVar[Mapping[str, str]] = matching.REMEDIES
    query = TextureQuery
    preview_media = "image"
    pictured = True
    colour_findings = TEXTURE.colour_findings
    questions: ClassVar[Mapping[str, Question]] = {"areas": Question(NoWords, AreasView, _told)}

    def sniff(self, heads: Sequence[Head], library: Library) -> Sequence[Sniffed | None]:
        return recognised.sniff(self.id, heads, library, _counted)

    def read(self, data: bytes, context: Context) -> ScreenFile:
        layout = recognised.layout_of(self.id, self.title, data, context)
        return read(layout, data, context.name, context.fetch)

    def weight(self, asset: ScreenFile) -> int:
        return 2 * asset.size

    def rebuild(self, asset: ScreenFile) -> bytes | None:
        return asset.rewrite(asset.areas)

    def preview(self, viewed: Viewed[ScreenFile], query: TextureQuery) -> Preview:
        edit = viewed.edit.picture if viewed.edit is not None else None
        version = viewed.version
        if version is not None:
            version = replace(version, beside={})
        return TEXTURE.preview(Viewed(viewed.original.picture, edit, version), query)

    def likeness(self, asset: ScreenFile, side: int = 512) -> Picture:
        return TEXTURE.likeness(asset.picture, side)

    def recipe(self, asset: ScreenFile) -> ScreenRecipe:
        return ScreenRecipe(
            layout=asset.layout.layout,
            areas=len(asset.areas),
            says=asset.can_say,
            picture=asset.picture.recipe().model_dump(),
        )

    def check_writable(self, asset: ScreenFile) -> None:
        TEXTURE.check_writable(asset.picture)

    def send(self, asset: ScreenFile) -> ExchangeFile:
        return TEXTURE.send(asset.picture)

    def saved(self, asset: ScreenFile, suffix: str) -> bytes:
        if suffix == ".json":
            return to_json(asset.areas)
        return TEXTURE.saved(asset.picture, suffix)

    def check_file(self, file: ExchangeFile) -> None:
        TEXTURE.check_file(file)

    def convert(self, file: ExchangeFile, suffix: str) -> bytes:
        return TEXTURE.convert(file, suffix)

    def match(
        self, original: ScreenFile, version: Version, recipe: Mapping[str, Any]
    ) -> tuple[MatchSheet, Encoded]:
        return matching.match(original, version, recipe)

    def again(self, original: ScreenFile, encoded: Encoded) -> ScreenFile:
        return read(original.layout, encoded.data, original.name, fetching(original.fetch, encoded.others))

    def check_beside(
        self, original: ScreenFile, edit: ScreenFile | None, part: str, file: ExchangeFile | None
    ) -> str:
        if part != matching.PART:
            raise FormatError(f"A screen has no part '{part}'.", expected=matching.PART)
        if file is not None:
            areas = from_json(file.data, file.name)
            original.rewrite(areas)  # for its error, where one cannot be stored
        return "rectangles"


def _counted(layout: Layout, parsed: Parsed) -> Mapping[str, Value]:
    """What the first bytes of a screen tell of it."""
    found: dict[str, Value] = {}
    try:
        header = header_of(layout, parsed)
        found |= {"width": header.width, "height": header.height}
    except BraeError:
        pass
    if layout.only(AreasPart).of in parsed.tables:
        areas = areas_of(layout, parsed)
        found["areas"] = len(areas)
        for name, role in (("actions", "action"), ("targets", "target")):
            numbers = [area.numbers[role] for area in areas[:_MOST_TOLD] if role in area.numbers]
            if numbers:
                found[name] = " ".join(map(str, dict.fromkeys(numbers)))
    return found


KIND = ScreenKind()
