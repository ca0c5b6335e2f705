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
from brae.core.assets.sheet import Finding, MatchSheet
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
#: numbers that are offered at once
_MOST_LEARNT = 60
#: what is learnt from all screens of a game: the facts, and the roles of the numbers in them
LEARNT = {"actions": "action", "targets": "target"}


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
    #: the actions that lead to a target; null where every rectangle with a target does
    leads: list[int] | None
    #: where targets lead: the addresses of screens by their numbers
    ways: dict[int, str]
    #: targets to which no screen belongs
    lost: list[int]


def _ways(file: ScreenFile, targets: Sequence[int], around: Around) -> tuple[dict[int, str], list[int]]:
    """To which items targets lead, and those that lead to none; neither where nothing says what they mean."""
    places = around.places() if file.part.target is not None else {}
    ways, lost = {}, []
    for target in targets:
        name = file.part.item(file.name, target)
        if name is None:
            continue
        address = places.get(name.rpartition("/")[2])
        if address is not None:
            ways[target] = address
        else:
            lost.append(target)
    return ways, lost


def _learnt(viewed: Viewed[ScreenFile], query: LearntQuery, around: Around) -> LearntView:
    """What the screens of a game do and where they lead, by how many of them."""
    file = viewed.original
    found: dict[str, list[KnownNumber]] = {}
    for fact, role in LEARNT.items():
        told = _tally(around.values(fact))
        meant = file.meaning(role)
        numbers = {**dict.fromkeys(meant, (0, "")), **told} if role in file.can_say else {}
        wanted = sorted(
            (number for number in numbers if str(number).startswith(query.starts)),
            key=lambda number: (-numbers[number][0], number),
        )[:_MOST_LEARNT]
        ways = _ways(file, wanted, around)[0] if role == "target" else {}
        found[fact] = [
            KnownNumber(
                number=number, words=str(meant.get(number, "")), screens=numbers[number][0],
                example=ways.get(number) or numbers[number][1],
            )
            for number in wanted
            # What leads nowhere is no example of where to lead.
            if role != "target" or file.part.target is None or number in ways
        ]  # fmt: skip
    return LearntView(**found)


def _tally(values: Sequence[tuple[str, str]]) -> dict[int, tuple[int, str]]:
    """How many screens have each number, and one of them."""
    found: dict[int, tuple[int, str]] = {}
    for text, address in values:
        for number in map(int, text.split()):
            screens, example = found.get(number, (0, address))
            found[number] = screens + 1, example
    return found


def _told(viewed: Viewed[ScreenFile], query: NoWords, around: Around) -> AreasView:
    file = viewed.original
    current = viewed.edit if viewed.edit is not None else file
    head = current.picture.header
    areas = [*file.areas, *current.areas]
    targets = {area.numbers["target"] for area in areas if file.part.follows(area.numbers)}
    ways, lost = _ways(file, sorted(targets), around)
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
        leads=file.part.leads,
        ways=ways,
        lost=lost,
    )


class LearntQuery(BaseModel):
    """Which numbers: those that begin with these digits."""

    starts: str = ""


class KnownNumber(BaseModel):
    """A number that screens of a game have, in how many of them, and the address of a screen that shows it."""

    number: int
    words: str
    screens: int
    #: of an action a screen that has it, of a target the screen to which it leads; "" where there is none
    example: str


class LearntView(BaseModel):
    """What can be chosen, as all screens of a game have it; the most frequent first."""

    actions: list[KnownNumber]
    targets: list[KnownNumber]


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
    questions: ClassVar[Mapping[str, Question]] = {
        "areas": Question(NoWords, AreasView, _told),
        "learnt": Question(LearntQuery, LearntView, _learnt),
    }
    social = True

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

    def among(self, original: ScreenFile, edit: ScreenFile, around: Around) -> list[Finding]:
        new = {number: edit.areas[number] for number in matching.new_ones(original, edit.areas)}
        wanted = {area.numbers["target"] for area in new.values() if edit.part.follows(area.numbers)}
        lost = set(_ways(edit, sorted(wanted), around)[1])
        astray = [n for n, one in new.items() if edit.part.follows(one.numbers) and one.numbers["target"] in lost]
        known: set[int] | None = None
        if not original.meaning("action"):
            known = set(_tally(around.values("actions")))
        odd = [n for n, one in new.items() if known and one.numbers.get("action", min(known)) not in known]
        return [*matching.astray(edit.areas, astray), *matching.unknown(edit.areas, odd)]

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
        part = layout.only(AreasPart)
        for name, role in LEARNT.items():
            numbers = [
                area.numbers[role]
                for area in areas[:_MOST_TOLD]
                if role in area.numbers and (role != "target" or part.follows(area.numbers))
            ]
            if numbers:
                found[name] = " ".join(map(str, dict.fromkeys(numbers)))
    return found


KIND = ScreenKind()
