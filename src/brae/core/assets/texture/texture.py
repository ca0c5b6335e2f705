"""A texture behind one shape, whatever file it is in: a header, levels of pixels, and the way back."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Annotated, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from brae.core.assets.texture import formats
from brae.core.assets.texture.chain import Explained, explain
from brae.core.assets.texture.formats import Alpha, Effort, Picture, PixelFormat, Stored
from brae.core.assets.texture.mips import Content, Filter, MipRule, with_third
from brae.core.errors import LimitError, TruncatedError
from brae.core.layouts.roles import MapUse

Orientation = Literal["top-down", "bottom-up"]
#: one picture; six of them that surround; several; slices that lie behind one another
Shape = Literal["2d", "cube", "array", "volume"]
ColourSpace = Literal["srgb", "linear"]
#: fewer bytes behind the levels than that are no sign of a file cut short
_PADDING = 16
#: no texture has more layers, faces or slices (Direct3D 11: 2,048)
MOST_PICTURES = 2048


class Recipe(BaseModel):
    """All that encoding needs and decoding learns."""

    container: str
    format: str
    width: int
    height: int
    levels: int
    orientation: Orientation = "top-down"
    #: the transparency that the original really uses
    alpha: Alpha = "none"
    size: int
    packer: str | None = None
    packing_level: int | None = None
    shape: Shape = "2d"
    #: layers times faces; slices of a volume
    surfaces: int = 1
    depth: int = 1
    colour: ColourSpace | None = None
    premultiplied: bool = False
    #: how mip levels are made
    content: Content = "colour"
    filter: Filter = "box"
    wrap: bool = False
    #: whether colours are averaged as light, not as the numbers that are stored
    linear: bool = True
    #: how clearly the original's own levels told filter and light: 0 to 1
    levels_sure: float = 0.0
    effort: Effort = "normal"
    perceptual: bool = False


class Departures(BaseModel):
    """Where an edit's encoding departs from its original's recipe; what is None is taken from the original."""

    model_config = ConfigDict(extra="forbid")

    format: str | None = None
    levels: Annotated[int, Field(ge=1, le=16)] | None = None
    content: Content | None = None
    filter: Filter | None = None
    wrap: bool | None = None
    linear: bool | None = None
    effort: Effort | None = None
    perceptual: bool | None = None

    def applied(self, recipe: Recipe) -> Recipe:
        """The recipe with the choices in it."""
        return recipe.model_copy(update=self.model_dump(exclude_none=True))


@dataclass(frozen=True)
class Header:
    """What the first bytes of a texture say about it."""

    container: str
    format: PixelFormat
    width: int
    height: int
    levels: int
    orientation: Orientation = "top-down"
    shape: Shape = "2d"
    surfaces: int = 1
    depth: int = 1
    colour: ColourSpace | None = None
    premultiplied: bool = False
    #: what it is for, where its format says so
    use: MapUse | None = None

    def sides(self, level: int) -> tuple[int, int]:
        """Width and height of one picture of a level."""
        return formats.level_sides(self.width, self.height, level)

    def pictures(self, level: int = 0) -> int:
        """How many pictures a level has: surfaces, or the slices of a volume."""
        return self.surfaces * max(1, self.depth >> level)

    def level_size(self, level: int) -> int:
        """Bytes of a level, all its pictures."""
        return self.pictures(level) * self.format.size(*self.sides(level))

    def levels_beyond(self, held: int) -> int:
        """How many of the largest levels do not fit into so many bytes, if these are the smallest ones."""
        away, needed = 0, self.data_size
        while needed > held and away < self.levels:
            needed -= self.level_size(away)
            away += 1
        return away

    def without(self, away: int) -> Header:
        """The header of the levels that are left without the largest ones."""
        width, height = self.sides(away)
        depth = max(1, self.depth >> away)
        return replace(self, width=width, height=height, levels=self.levels - away, depth=depth)

    def grown(self, above: int) -> Header:
        """The header with so many larger levels: what ``without`` takes away."""
        depth = self.depth << above if self.depth > 1 else 1
        sides = self.width << above, self.height << above
        return replace(self, width=sides[0], height=sides[1], levels=self.levels + above, depth=depth)

    def lacks(self, held: int) -> int:
        """How many of the largest levels lie elsewhere, if just the smallest ones are in so many bytes; else 0."""
        away = self.levels_beyond(held)
        here = sum(self.level_size(level) for level in range(away, self.levels))
        return away if held - here < _PADDING else 0

    @property
    def data_size(self) -> int:
        """Bytes of all levels."""
        return sum(self.level_size(level) for level in range(self.levels))

    @property
    def sheet(self) -> tuple[int, int]:
        """Width and height of all pictures of the first level, one below the other."""
        return self.width, self.height * self.pictures()

    def check(self) -> Header:
        """Raise LimitError for what no texture has; returns itself."""
        formats.check_size(self.width, self.height)
        longest = formats.full_chain(max(self.width, self.depth), self.height)
        if not 1 <= self.levels <= longest:
            raise LimitError(
                f"{self.levels} mip levels are more than {self.width} x {self.height} pixels can have.",
                expected=f"1 to {longest}",
            )
        if not 1 <= self.pictures() <= MOST_PICTURES:
            raise LimitError(f"{self.pictures()} layers or slices are too many.", expected=f"1 to {MOST_PICTURES}")
        return self


@dataclass
class TextureFile:
    """A texture as read: level 0 first, rows in the file's own order.

    The bytes of a level are those of all its pictures, one behind the other, however the file keeps them.
    """

    header: Header
    levels: list[bytes]
    size: int
    #: the file with other levels: its header follows, what else it holds is kept
    rewrite: Callable[[Header, Sequence[bytes]], bytes]
    #: another file of the same kind
    reread: Callable[[bytes, Mapping[str, bytes]], TextureFile]
    #: what other files of the game hold of it, by their names: the larger levels of a streamed texture
    elsewhere: dict[str, bytes] = field(default_factory=dict)
    #: the same for other levels
    divide: Callable[[Header, Sequence[bytes]], dict[str, bytes]] | None = None
    #: bytes behind its pixels that an editor appended, and that are not written again
    appended: int = 0
    #: levels that its header states and that it does not hold
    missing: int = 0
    #: larger levels that its header states and that lie elsewhere: what is here can be looked at, not edited
    beyond: int = 0
    _decoded: dict[int, Picture] = field(default_factory=dict)

    def picture(self, level: int = 0) -> Picture:
        """One level as R, G, B, A, row 0 at the top; several pictures stand one below the other."""
        if level not in self._decoded:
            head, sides = self.header, self.header.sides(level)
            size = head.format.size(*sides)
            pictures = [
                head.format.decode(self.levels[level][size * index : size * (index + 1)], *sides)
                for index in range(head.pictures(level))
            ]
            if head.orientation == "bottom-up":
                pictures = [picture[::-1] for picture in pictures]
            self._decoded[level] = pictures[0] if len(pictures) == 1 else np.concatenate(pictures)
        return self._decoded[level]

    def region(self, level: int, left: int, top: int, width: int, height: int) -> Picture:
        """A part of one level, as ``picture`` gives it; only the rows that are needed are decoded.

        Raises LimitError outside the level.
        """
        head, (across, down) = self.header, self.header.sides(level)
        down *= head.pictures(level)
        if left < 0 or top < 0 or width < 1 or height < 1 or left + width > across or top + height > down:
            raise LimitError(f"{width} x {height} pixels at {left}, {top} are not all in {across} x {down}.")
        step = head.format.block[0]
        row = head.format.size(across, step)
        by_rows = head.format.size(across, down) == -(-down // step) * row and not isinstance(head.format, Stored)
        if level in self._decoded or head.pictures(level) > 1 or not by_rows:
            return self.picture(level)[top : top + height, left : left + width]
        stored_top = down - top - height if head.orientation == "bottom-up" else top
        first, last = stored_top // step, -(-(stored_top + height) // step)
        data = self.levels[level][first * row : last * row]
        rows = head.format.decode(data, across, min(last * step, down) - first * step)
        part = rows[stored_top - first * step :][:height, left : left + width]
        return part[::-1] if head.orientation == "bottom-up" else part

    def shown(self, level: int = 0, exposure: float = 0.0) -> Picture:
        """The same as a screen shows it, 8 bits a channel."""
        return formats.shown(self.picture(level), exposure)

    def content(self) -> Content:
        """What the channels mean, as far as header, format and pixels tell."""
        return _content(self.header, self.shown(), alpha_use(self.shown()[..., 3]))

    def _levels_by(self, content: Content) -> Explained:
        """What the levels were made with; of several pictures the first tells."""
        head = self.header
        if head.levels < 2 or head.shape == "volume" or head.format.precision == "float":
            return Explained(MipRule(content), 0.0)
        sides = [head.sides(level) for level in range(min(head.levels, 3))]
        levels = [self.picture(level)[:height, :width] for level, (width, height) in enumerate(sides)]
        if content == "normal" and head.format.holds == "rg":
            levels = [with_third(one) for one in levels]
        return explain(levels, content)

    def recipe(self) -> Recipe:
        """How this texture is encoded."""
        head = self.header
        used = alpha_use(self.shown()[..., 3])
        content = _content(head, self.shown(), used)
        levels = self._levels_by(content)
        return Recipe(
            container=head.container,
            format=head.format.name,
            width=head.width,
            height=head.height,
            levels=head.levels,
            orientation=head.orientation,
            alpha=used,
            size=self.size,
            shape=head.shape,
            surfaces=head.surfaces,
            depth=head.depth,
            colour=head.colour,
            premultiplied=head.premultiplied,
            content=content,
            filter=levels.rule.filter,
            linear=levels.rule.linear,
            levels_sure=round(levels.sure, 3),
        )

    def again(self, data: bytes, elsewhere: Mapping[str, bytes] | None = None) -> TextureFile:
        """Another file of the same kind, such as this one written anew, with what other files hold of it."""
        return self.reread(data, self.elsewhere | dict(elsewhere or {}))


#: 8-bit alpha from here on is seen as opaque: BC7 gives 254 and the like here and there in opaque pictures
OPAQUE = 252


def alpha_use(alpha: np.ndarray) -> Alpha:
    """The transparency that 8-bit alpha uses, as far as anybody can see it."""
    if alpha.min(initial=255) >= OPAQUE:
        return "none"
    return "full" if bool(((alpha > 255 - OPAQUE) & (alpha < OPAQUE)).any()) else "binary"


def looks_like_normals(picture: Picture) -> bool:
    """Whether 8-bit R, G, B are directions, whatever alpha holds.

    Directions are one long (packing makes some longer or shorter), point outwards, lean to no side on the whole,
    and z follows from x and y; in a bluish picture x and y follow its brightness together. The limits were set on
    maps made of photographs and hold on others (benchmarks/normals.py); common practice, no source.
    """
    # Of large pictures every so many pixels tell as much.
    step = max(1, max(picture.shape[:2]) // 512)
    sample = picture[::step, ::step].reshape(-1, 4)
    seen = sample[:, 3] > 0
    if seen.mean() > _SEEN:
        sample = sample[seen]  # where nothing is seen there is any colour
    directions = sample[:, :3].astype(np.float32) / 127.5 - 1
    x, y, z = directions.T
    off = np.abs(np.sqrt((directions**2).sum(axis=1)) - 1)
    lean, spread = max(abs(float(x.mean())), abs(float(y.mean()))), float(x.std() + y.std())
    if (z > -0.1).mean() < 0.98 or np.median(off) > 0.1:
        return False
    if spread < 0.15:  # nearly flat
        return bool(np.median(off) < 0.03 and lean < 0.1 and z.std() < 0.02 + spread**2)
    follows = _correlation(z, np.sqrt(np.clip(1 - x * x - y * y, 0, 1)))
    if _correlation(x, y) > 0.6 or follows < 0.35:
        return False
    one_long = float((off < 0.15).mean())
    return (one_long > 0.8 and lean < 0.3) or (one_long > 0.5 and lean < 0.06)


#: the share of the pixels that has to be seen for the others to be left aside
_SEEN = 0.05


def _correlation(one: np.ndarray, other: np.ndarray) -> float:
    """Pearson's; 0 where one of them does not change."""
    if one.std() < 1e-3 or other.std() < 1e-3:
        return 0.0
    return float(np.corrcoef(one, other)[0, 1])


def _content(head: Header, picture: Picture, alpha: Alpha) -> Content:
    """What the channels mean, as far as header, format and pixels tell; a person may say otherwise."""
    if head.use is not None and head.use.role not in ("colour", "emission"):
        return "normal" if head.use.role == "normal" else "data"
    if head.format.holds == "rg" or looks_like_normals(picture):
        return "normal"
    if head.colour == "linear" or head.format.holds in ("l", "r", "a"):
        return "data"
    return "cut-out" if alpha == "binary" and head.levels > 1 else "colour"


def split_levels(header: Header, data: bytes, start: int, *, by_picture: bool = True) -> tuple[list[bytes], int]:
    """The levels that follow ``start``, and where they end.

    ``by_picture``: all levels of a picture follow one another (as in DDS); else all pictures of a level.
    Raises TruncatedError where there are fewer bytes.
    """
    if start + header.data_size > len(data):
        raise TruncatedError(
            f"{header.width} x {header.height} pixels of {header.format.title} with {header.levels} levels are "
            f"{header.data_size} bytes, but {max(0, len(data) - start)} follow the header.",
            offset=start,
        )
    if header.surfaces == 1 or not by_picture:
        levels = []
        for level in range(header.levels):
            size = header.level_size(level)
            levels.append(data[start : start + size])
            start += size
        return levels, start
    parts: list[list[bytes]] = [[] for _ in range(header.levels)]
    for _ in range(header.surfaces):
        for level in range(header.levels):
            size = header.level_size(level) // header.surfaces
            parts[level].append(data[start : start + size])
            start += size
    return [b"".join(level) for level in parts], start


def join_levels(header: Header, levels: Sequence[bytes], *, by_picture: bool = True) -> bytes:
    """The way back."""
    if header.surfaces == 1 or not by_picture:
        return b"".join(levels)
    result = []
    for surface in range(header.surfaces):
        for data in levels:
            size = len(data) // header.surfaces
            result.append(data[surface * size : (surface + 1) * size])
    return b"".join(result)


def with_sides(header: Header, width: int, height: int, levels: int) -> Header:
    """A header for other sides and levels."""
    return replace(header, width=width, height=height, levels=levels)
