"""The kind of sprites."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated, Any, ClassVar

from pydantic import BaseModel

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
    Question,
    Sniffed,
    Version,
    Viewed,
    fetching,
)
from brae.core.assets.facts import Fact, Facts
from brae.core.assets.sheet import MatchSheet
from brae.core.assets.sprite import described, files, looking, matching, settling
from brae.core.assets.sprite.described import SpriteFile
from brae.core.assets.sprite.looking import SpriteQuery
from brae.core.assets.sprite.marks import MARKS, layered, marked
from brae.core.assets.sprite.sprite import Picture
from brae.core.assets.sprite.writing import rewrite
from brae.core.assets.texture.files import write_image
from brae.core.errors import FormatError
from brae.core.layouts.library import Library
from brae.core.sprites.moving import written
from brae.core.sprites.view import FramesView

_LARGEST = 1 << 29


class SpriteFacts(Facts):
    """The facts of a sprite."""

    frames: Annotated[int | None, Fact("Frames", facet=True, order="down")] = None
    sequences: Annotated[int | None, Fact("Sequences", order="down")] = None


class SpriteRecipe(BaseModel):
    """How a sprite is stored: what it is encoded like."""

    layout: str
    frames: int
    sequences: int
    #: of the canvas on which all frames fit
    width: int
    height: int
    format: str
    #: 'sheet', 'plain' or 'runs'
    stored: str
    palette: int


class SpriteKind(AssetKind[SpriteFile]):
    """Sprites that a layout describes."""

    id = "sprite"
    title, titles = "Sprite", "Sprites"
    rank = 15
    facts = SpriteFacts
    exchange = (
        Exchange(".png", "image/png"), Exchange(".gif", "image/gif"), Exchange(".apng", "image/apng"),
        Exchange(".ora", "image/openraster"), *map(Exchange, (".psd", ".webp", ".bmp", ".tga")),
    )  # fmt: skip
    remedies: ClassVar[Mapping[str, str]] = matching.REMEDIES
    query = SpriteQuery
    preview_media = "image"
    pictured = True
    marks: ClassVar[Mapping[str, str]] = MARKS
    colour_findings = frozenset({"gamma-applied", "colours-gone", "channels-swapped"})
    questions: ClassVar[Mapping[str, Question]] = {
        "frames": Question(NoWords, FramesView, looking.frames_of),
        "followed": Question(settling.AreaQuery, list[settling.FollowedView], settling.followed),
    }
    changes: ClassVar[Mapping[str, Change]] = {"settle": Change(settling.Settling, settling.settle)}

    def sniff(self, heads: Sequence[Head], library: Library) -> Sequence[Sniffed | None]:
        return recognised.sniff(self.id, heads, library, described.sniffed)

    def read(self, data: bytes, context: Context) -> SpriteFile:
        layout = recognised.layout_of(self.id, self.title, data, context)
        return described.read(layout, data, context.name, context.fetch)

    def weight(self, asset: SpriteFile) -> int:
        return 8 * asset.size + sum(one.picture.nbytes for one in asset.sprite.frames)

    def rebuild(self, asset: SpriteFile) -> bytes | None:
        return rewrite(asset, asset.sprite.frames)

    def check_large(self, head: bytes, tail: bytes, size: int, name: str) -> None:
        if size > _LARGEST:
            raise FormatError(f"A sprite of {size:,} bytes is too large.", expected=f"at most {_LARGEST:,}")

    def preview(self, viewed: Viewed[SpriteFile], query: SpriteQuery) -> Preview:
        return looking.shown(viewed, query)

    def likeness(self, asset: SpriteFile, side: int = 512) -> Picture:
        return looking.fitted(_sheet(asset), side)

    def recipe(self, asset: SpriteFile) -> SpriteRecipe:
        canvas, palette = asset.sprite.canvas, asset.palette
        own = asset.sheet.header.format if asset.sheet is not None else asset.format
        assert own is not None
        return SpriteRecipe(
            layout=asset.layout.layout,
            frames=len(asset.sprite.frames),
            sequences=len(asset.sprite.sequences),
            width=canvas.width,
            height=canvas.height,
            format=own.name,
            stored="sheet" if asset.sheet is not None else "runs" if asset.part.runs is not None else "plain",
            palette=0 if palette is None else len(palette),
        )

    def check_writable(self, asset: SpriteFile) -> None:
        if not asset.sprite.frames:
            raise FormatError("This sprite has no frames.")

    def send(self, asset: SpriteFile) -> ExchangeFile:
        return ExchangeFile("sprite.png", write_image(_sheet(asset)))

    def saved(self, asset: SpriteFile, suffix: str) -> bytes:
        if suffix in (".gif", ".apng"):
            steps = asset.sprite.sequences[0].steps
            return written(
                [asset.sprite.on_canvas(step.frame) for step in steps], [step.ms for step in steps], suffix
            )
        if suffix == ".ora":
            return layered(asset)
        return write_image(_sheet(asset), suffix[1:])

    def check_file(self, file: ExchangeFile) -> None:
        files.read(file.data, file.name)

    def painted(self, original: SpriteFile, file: ExchangeFile) -> list[Picture]:
        return matching.painted(original, files.read(file.data, file.name))

    def convert(self, file: ExchangeFile, suffix: str) -> bytes:
        came = files.read(file.data, file.name)
        if isinstance(came, files.Moving):
            raise FormatError("A moving file is no sheet.", address=file.name)
        return write_image(came.picture, suffix[1:])

    def match(
        self, original: SpriteFile, version: Version, recipe: Mapping[str, Any]
    ) -> tuple[MatchSheet, Encoded]:
        return matching.match(original, version, recipe)

    def again(self, original: SpriteFile, encoded: Encoded) -> SpriteFile:
        fetch = fetching(original.fetch, encoded.others)
        return described.read(original.layout, encoded.data, original.name, fetch)

    def mark(self, asset: SpriteFile, mark: str) -> Version:
        if mark not in MARKS:
            raise FormatError(f"There are no test colours '{mark}'.", expected=f"one of {', '.join(MARKS)}")
        return Version(ExchangeFile(f"{mark}.png", write_image(marked(asset))))


def _sheet(asset: SpriteFile) -> Picture:
    """What goes out to an editor: the sheet, or all frames beside and below each other."""
    return matching.arranged(asset, asset.cells)


KIND = SpriteKind()
