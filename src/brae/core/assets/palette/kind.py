"""The kind of palettes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from brae.core.assets import recognised
from brae.core.assets.base import (
    AssetKind,
    Change,
    Context,
    Encoded,
    Exchange,
    ExchangeFile,
    Head,
    NoWords,
    Preview,
    Query,
    Question,
    Sniffed,
    Version,
    Viewed,
)
from brae.core.assets.facts import Fact, Facts, Value
from brae.core.assets.palette import palette
from brae.core.assets.palette.loud import loud
from brae.core.assets.palette.palette import Entries, PaletteFile, read, swatches, written
from brae.core.assets.sheet import Finding, MatchSheet, Property, Remedy
from brae.core.assets.texture import formats
from brae.core.assets.texture.files import read_image, write_image
from brae.core.assets.texture.metrics import ciede_map
from brae.core.errors import BraeError, FormatError, NotFoundError
from brae.core.layouts.expressions import evaluate
from brae.core.layouts.library import Library
from brae.core.layouts.model import Layout
from brae.core.layouts.pixels import ColoursPart
from brae.core.layouts.read import Parsed

REMEDIES = {"keep-reserved": "Keep the reserved entries as the game has them"}
_TOLD = 8


class PaletteFacts(Facts):
    """The facts of a palette."""

    entries: Annotated[int | None, Fact("Entries", order="down")] = None
    entry: Annotated[str | None, Fact("Format of an entry", case="capitals", facet=True)] = None


class PaletteRecipe(BaseModel):
    """How a palette is stored."""

    layout: str
    entries: int
    format: str
    reserved: dict[int, str]


class PaletteQuery(Query):
    """What can be asked of a palette's preview."""

    which: Literal["original", "edit"] = "original"
    side: Annotated[int, Field(ge=1, le=64)] = 8

    @property
    def small(self) -> bool:
        return self.which == "original" and self.side <= 16


class EntryView(BaseModel):
    """An entry: its colour as #rrggbb, what it became, and what it is reserved for."""

    colour: str
    edit: str
    reserved: str | None = None
    #: whether an index of it is not drawn
    clear: bool = False


class ColourChange(BaseModel):
    """Another colour for an entry."""

    model_config = ConfigDict(extra="forbid")

    index: Annotated[int, Field(ge=0, le=65535)]
    colour: Annotated[str, Field(pattern=r"^#[0-9a-fA-F]{6}$")]


def _hex(colour: Sequence[int]) -> str:
    return "#{:02x}{:02x}{:02x}".format(*colour[:3])


def _entries(viewed: Viewed[PaletteFile], query: NoWords, around: object) -> list[EntryView]:
    file = viewed.original
    edit = viewed.edit if viewed.edit is not None else file
    return [
        EntryView(colour=_hex(old), edit=_hex(new), reserved=file.reserved.get(index), clear=old[3] == 0)
        for index, (old, new) in enumerate(zip(file.entries.tolist(), edit.entries.tolist(), strict=True))
    ]


def _recolour(
    viewed: Viewed[PaletteFile], query: ColourChange, given: ExchangeFile | None
) -> tuple[ExchangeFile, str]:
    now = (viewed.edit or viewed.original).entries.copy()
    if query.index >= len(now):
        raise NotFoundError(f"There is no entry {query.index}.", expected=f"0 to {len(now) - 1}")
    now[query.index, :3] = list(bytes.fromhex(query.colour[1:]))
    return ExchangeFile("palette.png", written(now, ".png")), f"entry {query.index} is {query.colour}"


class PaletteKind(AssetKind[PaletteFile]):
    """Palettes that a layout describes."""

    id = "palette"
    title, titles = "Palette", "Palettes"
    rank = 42
    facts = PaletteFacts
    exchange = (Exchange(".png", "image/png"), Exchange(".pal"), Exchange(".txt", "text/plain"))
    remedies: ClassVar[Mapping[str, str]] = REMEDIES
    query = PaletteQuery
    preview_media = "image"
    questions: ClassVar[Mapping[str, Question]] = {"entries": Question(NoWords, list[EntryView], _entries)}
    changes: ClassVar[Mapping[str, Change]] = {"colour": Change(ColourChange, _recolour)}
    marks: ClassVar[Mapping[str, str]] = {"loud": "every entry in a loud colour of its own"}

    def sniff(self, heads: Sequence[Head], library: Library) -> Sequence[Sniffed | None]:
        return recognised.sniff(self.id, heads, library, _counted)

    def read(self, data: bytes, context: Context) -> PaletteFile:
        layout = recognised.layout_of(self.id, self.title, data, context)
        return read(layout, data)

    def rebuild(self, asset: PaletteFile) -> bytes | None:
        return asset.rewrite(asset.entries)

    def preview(self, viewed: Viewed[PaletteFile], query: PaletteQuery) -> Preview:
        shown = viewed.edit if query.which == "edit" and viewed.edit is not None else viewed.original
        return Preview(write_image(swatches(shown.entries, query.side), quick=True), "image/png")

    def recipe(self, asset: PaletteFile) -> PaletteRecipe:
        return PaletteRecipe(
            layout=asset.layout.layout,
            entries=len(asset.entries),
            format=asset.part.format,
            reserved=dict(asset.reserved),
        )

    def send(self, asset: PaletteFile) -> ExchangeFile:
        return ExchangeFile("palette.png", written(asset.entries, ".png"))

    def saved(self, asset: PaletteFile, suffix: str) -> bytes:
        return written(asset.entries, suffix)

    def check_file(self, file: ExchangeFile) -> None:
        # How many entries it must have is known when it is matched; here it has to be readable at all.
        if file.suffix == ".png":
            try:
                read_image(file.data, file.name)
            except BraeError as error:
                raise error.at(file.name) from None
        else:
            palette.came(file.data, file.name, 1)

    def convert(self, file: ExchangeFile, suffix: str) -> bytes:
        found = palette.came(file.data, file.name, 256).colours
        alpha = np.full((len(found), 1), 255, np.uint8)
        return written(np.hstack([found, alpha]), suffix)

    def match(
        self, original: PaletteFile, version: Version, recipe: Mapping[str, Any]
    ) -> tuple[MatchSheet, Encoded]:
        count = len(original.entries)
        found = palette.came(version.file.data, version.file.name, count)
        entries, findings = original.entries.copy(), []
        both = min(count, len(found.colours))
        entries[:both, :3] = found.colours[:both]
        if found.uneven:
            findings.append(
                Finding(
                    id="uneven", severity="shows", title=f"{_listed(found.uneven)}: a square of several colours",
                    in_game="The colour in its middle is taken.",
                )
            )  # fmt: skip
        if len(found.colours) != count:
            findings.append(
                Finding(
                    id="entry-count", severity="shows", title=f"{len(found.colours)} entries came back for {count}",
                    in_game="What is missing stays as it is; what is more is left out.",
                )
            )  # fmt: skip
        held = [n for n in sorted(original.reserved) if n < count and (entries[n] != original.entries[n]).any()]
        if held:
            what = ", ".join(dict.fromkeys(original.reserved[n] for n in held))
            applied = "keep-reserved" in version.remedies
            findings.append(
                Finding(
                    id="reserved", severity="shows", title=f"{_listed(held)}: reserved ({what})",
                    in_game="The game uses these for something else than a colour.",
                    remedy=Remedy(id="keep-reserved", label=REMEDIES["keep-reserved"], applied=applied),
                )
            )  # fmt: skip
            if applied:
                entries[held] = original.entries[held]
        findings += _rounded(original, entries)
        changed = int((entries != original.entries).any(axis=1).sum())
        data = original.rewrite(entries)
        lines = [
            Property.of("Entries", str(count), str(len(found.colours)), str(count)),
            Property.of("Entries changed", "0", str(changed), str(changed), matters=False),
            Property.of("Format of an entry", original.part.format, "#rrggbb", original.part.format),
        ]
        return MatchSheet(properties=lines, findings=findings), Encoded(data)

    def mark(self, asset: PaletteFile, mark: str) -> Version:
        if mark not in self.marks:
            raise FormatError(f"There are no test colours '{mark}'.", expected=f"one of {', '.join(self.marks)}")
        return Version(ExchangeFile("loud.png", written(loud(asset), ".png")))

    def again(self, original: PaletteFile, encoded: Encoded) -> PaletteFile:
        return read(original.layout, encoded.data)


def _listed(numbers: Sequence[int]) -> str:
    words = ", ".join(map(str, numbers[:_TOLD])) + (" ..." if len(numbers) > _TOLD else "")
    return f"Entry {words}" if len(numbers) == 1 else f"Entries {words}"


def _rounded(original: PaletteFile, entries: Entries) -> list[Finding]:
    """Colours that the file cannot hold, and how far the nearest ones are."""
    changed = np.flatnonzero((entries != original.entries).any(axis=1))
    if not len(changed):
        return []
    wanted = np.ascontiguousarray(entries[changed])
    held = original.stored(wanted)
    off = changed[(wanted[:, :3] != held[:, :3]).any(axis=1)]
    if not len(off):
        return []
    opaque = [np.hstack([one[:, :3], np.full((len(one), 1), 255, np.uint8)])[None] for one in (wanted, held)]
    return [
        Finding(
            id="rounded", severity="note",
            title=f"{_listed(off.tolist())}: the nearest colour that {formats.get(original.part.format).title} has",
            in_game=f"CIEDE2000 {float(ciede_map(*opaque).max()):.1f} at most from what you chose.",
        )
    ]  # fmt: skip


def _counted(layout: Layout, parsed: Parsed) -> Mapping[str, Value]:
    part: ColoursPart = layout.only(ColoursPart)
    found: dict[str, Value] = {"entry": part.format}
    # The entries themselves may lie behind what was read.
    found["entries"] = evaluate(part.size, parsed.values) // formats.get(part.format).block_bytes
    return found


KIND = PaletteKind()
