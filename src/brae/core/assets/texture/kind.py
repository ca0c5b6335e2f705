"""The kind of textures."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from brae.core.assets.base import (
    AssetKind,
    Change,
    Context,
    Details,
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
    fit_to_begin,
)
from brae.core.assets.texture import beginning, described, formats, looking
from brae.core.assets.texture.facts import SaidFacts, TextureFacts, facts_of, header_of
from brae.core.assets.texture.files import (
    TGA_END,
    can_write,
    check_picture,
    read_image,
    read_raw,
    read_texture,
    sayable,
    write_image,
)
from brae.core.assets.texture.formats import Picture, Precision
from brae.core.assets.texture.framing import SheetQuery, SheetView, sheet
from brae.core.assets.texture.guess import HEADLESS
from brae.core.assets.texture.looking import TextureQuery
from brae.core.assets.texture.maps import MapView, sets, surface
from brae.core.assets.texture.marks import MARKS, marked
from brae.core.assets.texture.metrics import Density, Quality, density
from brae.core.assets.texture.packed import ChannelChange, change_channel
from brae.core.assets.texture.remedies import REMEDIES
from brae.core.assets.texture.roughen import Roughening
from brae.core.assets.texture.sheet import TextureSheet, match
from brae.core.assets.texture.stub import small_levels, stub_of
from brae.core.assets.texture.telling import tell
from brae.core.assets.texture.texture import Departures, Header, Recipe, TextureFile
from brae.core.errors import BraeError, FormatError, NotFoundError, TruncatedError
from brae.core.layouts.library import Library

_EXCHANGE = (
    Exchange(".png", "image/png"),
    Exchange(".exr"),
    *map(
        Exchange,
        (".dds", ".ktx2", ".bmp", ".tga", ".tif", ".tiff", ".webp", ".hdr", ".gif", ".jpg", ".jpeg", ".psd"),
    ),
)


class TextureDetails(Details):
    """What the page of a texture needs to know of an edit."""

    kind: Literal["texture"] = "texture"
    recipe: Recipe  # type: ignore[assignment]
    choices: Departures  # type: ignore[assignment]
    #: the pixel formats that this kind of file can say
    formats: list[str]
    precision: Precision
    width: int
    #: of all pictures, one below the other
    height: int
    mips: int
    #: of a full chain
    most_mips: int
    #: mip levels made by hand: their files' names
    own_mips: dict[int, str] = Field(default_factory=dict)
    result_mips: int
    #: whether original and edit can be compared pixel by pixel
    comparable: bool
    blocks_kept: int = 0
    blocks: int = 0
    quality: Quality | None = None


class PixelQuery(BaseModel):
    """A place of the original, or of what is stored of the edit."""

    model_config = ConfigDict(extra="forbid")

    x: Annotated[int, Field(ge=0)]
    y: Annotated[int, Field(ge=0)]
    which: Literal["original", "edit"] = "original"
    level: Annotated[int, Field(ge=0, le=20)] = 0


class PixelView(BaseModel):
    """What is stored at a place."""

    x: int
    y: int
    #: R, G, B, A as the format holds them: 0 to 255, 0 to 65,535, or floats
    values: list[float | None]


class TexelsQuery(BaseModel):
    """How many units of the world a texture's width covers, and how many texels a unit should have."""

    model_config = ConfigDict(extra="forbid")

    world: Annotated[float, Field(gt=0, le=1e9)]
    wanted: Annotated[float | None, Field(gt=0, le=1e9)] = None


def _pixel(viewed: Viewed[TextureFile], query: PixelQuery, around: object) -> PixelView:
    texture = viewed.original if query.which == "original" else looking.edit_of(viewed)
    looking.check_level(texture, query.level)
    width, height = texture.header.sides(query.level)
    height *= texture.header.pictures(query.level)
    if query.y >= height or query.x >= width:
        raise NotFoundError(f"There is no pixel at {query.x}, {query.y}.", expected=f"{width} x {height}")
    values = [float(value) for value in texture.region(query.level, query.x, query.y, 1, 1)[0, 0]]
    return PixelView(x=query.x, y=query.y, values=[value if np.isfinite(value) else None for value in values])


def _texels(viewed: Viewed[TextureFile], query: TexelsQuery, around: object) -> Density:
    head = (viewed.edit or viewed.original).header
    return density(*head.sheet, query.world, query.wanted)


class TextureKind(AssetKind[TextureFile]):
    """Textures: pictures in DDS, KTX2, open picture formats, and whatever a layout describes."""

    id = "texture"
    title, titles = "Texture", "Textures"
    rank = 10
    facts = TextureFacts
    layout_facts = SaidFacts
    exchange = _EXCHANGE
    remedies: ClassVar[Mapping[Any, str]] = REMEDIES
    wishes = beginning.NewTexture
    choices = Departures
    query = TextureQuery
    preview_media = "image"
    details = TextureDetails
    marks: ClassVar[Mapping[Any, str]] = MARKS
    pictured = True
    colour_findings = frozenset({"gamma-applied", "colours-gone", "channels-swapped"})
    questions: ClassVar[Mapping[str, Question]] = {
        "pixel": Question(PixelQuery, PixelView, _pixel),
        "texels": Question(TexelsQuery, Density, _texels),
        "maps": Question(NoWords, list[MapView], surface),
        "sheet": Question(SheetQuery, SheetView, sheet),
    }
    changes: ClassVar[Mapping[str, Change]] = {"channel": Change(ChannelChange, change_channel)}
    headless = HEADLESS

    def sniff(self, heads: Sequence[Head], library: Library) -> Sequence[Sniffed | None]:
        return tell(heads, library)

    def told(self, head: Head, library: Library) -> Sniffed:
        header = header_of(head.said or {})
        if header is None:
            return super().told(head, library)
        if head.size is not None and head.size < header.data_size:
            raise FormatError(
                f"The layout says {header.width} x {header.height} in {header.format.name} with {header.levels} "
                f"levels, which need {header.data_size:,} bytes, and the member has {head.size:,}.",
            )
        return Sniffed(header.container, facts_of(header))

    def read(self, data: bytes, context: Context) -> TextureFile:
        header = header_of(context.said or {})
        if header is not None:
            return read_raw(data, header)
        if context.layout is not None:
            return described.read(context.layout, data, context.name, context.fetch)
        try:
            return read_texture(data, context.library, context.name, context.fetch)
        except TruncatedError:
            stub = stub_of(data, context.name, context.library)
            small = small_levels(data, stub) if stub is not None else None
            if small is None:
                raise
            return small

    def weight(self, asset: TextureFile) -> int:
        return asset.size

    def rebuild(self, asset: TextureFile) -> bytes | None:
        return asset.rewrite(asset.header, asset.levels) if can_write(asset.header.container) else None

    def check_large(self, head: bytes, tail: bytes, size: int, name: str) -> None:
        check_picture(head, tail or TGA_END, size, name)

    def preview(self, viewed: Viewed[TextureFile], query: TextureQuery) -> Preview:
        return looking.shown(viewed, query)

    def colourless(self, asset: TextureFile) -> str | None:
        header = asset.header
        if header.format.precision == "float":
            return "holds light (HDR)"
        if header.use is not None and header.use.role not in ("colour", "emission"):
            return f"a {header.use.role} map" if header.use.role else "a packed map"
        content = asset.content()
        return {"normal": "a normal map", "data": "holds data"}.get(content)

    def likeness(self, asset: TextureFile, side: int = 512) -> Picture:
        return looking.likeness(asset, side)

    def sets(self, members: Mapping[str, Mapping[str, Any]], profile: Any) -> Mapping[str, str]:
        return sets(members, profile)

    def recipe(self, asset: TextureFile) -> Recipe:
        return asset.recipe()

    def check_writable(self, asset: TextureFile) -> None:
        if asset.beyond:
            raise FormatError(
                "Only its small levels are here; the game shows larger ones, which lie elsewhere.",
                remedy="Join them first, on Find.",
            )
        if not can_write(asset.header.container):
            raise FormatError(f"{asset.header.container.upper()} files are read, but not written.")

    def send(self, asset: TextureFile) -> ExchangeFile:
        # Light goes out as floats: a PNG would cut what is brighter than white.
        kind = "exr" if asset.header.format.precision == "float" else "png"
        data = write_image(asset.picture(), kind, alpha=asset.header.format.alpha != "none")
        return ExchangeFile(f"picture.{kind}", data)

    def check_file(self, file: ExchangeFile) -> None:
        _picture(file)

    def painted(self, original: TextureFile, file: ExchangeFile) -> list[Picture]:
        return [formats.as_precision(read_image(file.data, file.name).picture, "8")]

    def convert(self, file: ExchangeFile, suffix: str) -> bytes:
        return write_image(_picture(file), suffix[1:])

    def match(
        self, original: TextureFile, version: Version, recipe: Mapping[str, Any]
    ) -> tuple[TextureSheet, Encoded]:
        file = version.file
        wanted = Departures.model_validate(version.choices).applied(Recipe.model_validate(recipe))
        replaced = {int(part): _picture(own) for part, own in version.beside.items() if part.isdecimal()}
        normals = {
            Roughening.of(part): _picture(own) for part, own in version.beside.items() if not part.isdecimal()
        }
        image = read_image(file.data, file.name)
        sheet, made = match(
            image, original, wanted, version.remedies, file.name, replaced=replaced, normals=normals,
            target=among(original, version.others),
        )  # fmt: skip
        return sheet, Encoded(made.data, made.elsewhere, version.others)

    def begun(
        self, original: TextureFile, file: ExchangeFile, recipe: Mapping[str, Any], wish: beginning.NewTexture
    ) -> bytes:
        sheet, data = beginning.begun(original, file.data, file.name, Recipe.model_validate(recipe), wish)
        return fit_to_begin(sheet, Encoded(data))

    def again(self, original: TextureFile, encoded: Encoded) -> TextureFile:
        return original.again(encoded.data, {**encoded.elsewhere, **encoded.others})

    def unchanged(self, original: TextureFile, encoded: Encoded) -> bool:
        return encoded.elsewhere == original.elsewhere

    def tell(
        self,
        recipe: Mapping[str, Any],
        choices: Mapping[str, Any],
        sheet: Mapping[str, Any] | None,
        beside: Mapping[str, str],
        library: Library,
    ) -> TextureDetails:
        known = Recipe.model_validate(recipe)
        made = TextureSheet.model_validate(sheet) if sheet else None
        return TextureDetails(
            recipe=known,
            choices=Departures.model_validate(choices),
            formats=sayable(known.container, library),
            precision=formats.get(known.format).precision,
            width=known.width,
            height=known.height * known.surfaces * known.depth,
            mips=known.levels,
            most_mips=formats.full_chain(max(known.width, known.depth), known.height),
            own_mips={int(part): name for part, name in beside.items() if part.isdecimal()},
            result_mips=made.mips if made else 0,
            comparable=bool(made and made.properties and made.properties[0].same),
            blocks_kept=made.blocks_kept if made else 0,
            blocks=made.blocks if made else 0,
            quality=made.quality if made else None,
        )

    def check_beside(
        self, original: TextureFile, edit: TextureFile | None, part: str, file: ExchangeFile | None
    ) -> str:
        head = (edit or original).header
        if not part.isdecimal():
            meant = Roughening.of(part)
            if head.levels < 2 or head.pictures() > 1:
                raise FormatError("This texture has no mip levels that could follow a normal map.")
            if file is not None:
                _picture(file)
            return f"{meant.words} follows" if file is not None else f"the levels of {meant.words}"
        level = int(part) if part.isdecimal() and len(part) < 4 else 0
        if not 1 <= level < head.levels:
            raise FormatError(
                f"Level {part} cannot be made by hand.",
                expected=f"a level from 1 to {head.levels - 1}; level 0 is the picture itself",
            )
        if file is not None:
            _check_sides(_picture(file), file.name, head, level)
        return f"level {level} by hand" if file is not None else f"level {level}"

    def mark(self, asset: TextureFile, mark: str) -> Version:
        if mark not in MARKS:
            raise FormatError(f"There are no test colours '{mark}'.", expected=f"one of {', '.join(MARKS)}")
        picture, levels = marked(asset, mark)
        named = f"{mark}.png"
        beside = {str(level): ExchangeFile(named, write_image(own)) for level, own in levels.items()}
        return Version(ExchangeFile(named, write_image(picture)), beside=beside)


def among(original: TextureFile, others: Mapping[str, bytes]) -> TextureFile:
    """An original as it looks among other items as they will be: its palette may have other colours."""
    if not others:
        return original
    data = original.rewrite(original.header, original.levels)
    return original.again(data, {**original.elsewhere, **others})


def _picture(file: ExchangeFile) -> Picture:
    try:
        return read_image(file.data, file.name).picture
    except BraeError as error:
        raise error.at(file.name) from None


def _check_sides(picture: Picture, name: str, head: Header, level: int) -> None:
    width, height = head.sides(level)
    height *= head.pictures(level)
    if picture.shape[:2] != (height, width):
        raise FormatError(
            f"The picture has {picture.shape[1]} x {picture.shape[0]} pixels.",
            address=name,
            expected=f"{width} x {height}, the dimensions of level {level}",
        )


KIND = TextureKind()
