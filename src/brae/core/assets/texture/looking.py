"""Previews of textures: any level, channel and part; the original, the edit, what was painted, the difference."""

from __future__ import annotations

import io
from dataclasses import dataclass
from typing import Annotated, Literal

import numpy as np
from PIL import Image
from pydantic import Field

from brae.core.assets.base import Preview, Query, Viewed
from brae.core.assets.texture import channels, formats
from brae.core.assets.texture.files import read_image, write_image
from brae.core.assets.texture.formats import Picture
from brae.core.assets.texture.metrics import heat
from brae.core.assets.texture.remedies import apply_remedies
from brae.core.assets.texture.texture import TextureFile
from brae.core.errors import FormatError, NotFoundError

#: sides of pictures of which every pixel is to be seen
_TINY = 64


class TextureQuery(Query):
    """What can be asked of a texture's preview.

    ``heat`` shows what the encoding cost: stored against painted (CIEDE2000), cold to hot. ``exposure`` in stops
    looks into the bright and the dark of light. ``fit`` asks for a small picture with sides up to that; a fitting
    mip level is used where there is one. ``tile`` asks for a part, ``left,top,side,times``, where ``times`` pixels
    each way become one. ``exact`` gives one channel as a grey file of the texture's own depth.
    """

    which: Literal["original", "edit", "painted", "difference", "heat"] = "original"
    level: Annotated[int, Field(ge=0, le=20)] = 0
    channels: Literal["rgba", "rgb", "r", "g", "b", "a"] = "rgba"
    fit: Annotated[int, Field(ge=16, le=1024)] | None = None
    exposure: Annotated[float, Field(ge=-20, le=20)] = 0.0
    tile: Annotated[str, Field(pattern=r"^\d{1,6},\d{1,6},\d{1,4},\d{1,3}$")] | None = None
    exact: bool = False

    @property
    def small(self) -> bool:
        """Whether it asks for a small picture of the original, which is kept for the next time."""
        return self.which == "original" and self.fit is not None and self.fit <= 256 and not self.exact


@dataclass(frozen=True)
class Part:
    """A square of a picture, and how many of its pixels become one; cut where the picture ends."""

    left: int
    top: int
    side: int
    times: int

    @classmethod
    def of(cls, text: str) -> Part:
        """From ``left,top,side,times``."""
        left, top, side, times = map(int, text.split(","))
        return cls(left, top, max(side, 1), max(times, 1))

    def box(self, width: int, height: int) -> tuple[int, int, int, int]:
        """Left, top, width and height inside a picture of these sides.

        Raises NotFoundError where nothing is left.
        """
        wide, high = (
            min(self.side * self.times, whole - at) for whole, at in ((width, self.left), (height, self.top))
        )
        if wide < 1 or high < 1:
            raise NotFoundError(f"There is nothing at {self.left}, {self.top}.", expected=f"{width} x {height}")
        return self.left, self.top, wide, high

    @property
    def even(self) -> bool:
        """Whether the next mip level has exactly the same part."""
        return not (self.left | self.top | self.times) & 1

    def halved(self) -> Part:
        """The same part of the next mip level."""
        return Part(self.left // 2, self.top // 2, self.side, self.times // 2)

    def reduced(self, pixels: Picture) -> Picture:
        """The part's pixels, averaged."""
        if self.times == 1:
            return pixels
        image = Image.fromarray(np.ascontiguousarray(pixels)).convert("RGBa").reduce(self.times)
        return np.asarray(image.convert("RGBA"))


def shrink(pixels: Picture, fit: int) -> Picture:
    """The same with sides up to ``fit``."""
    height, width = pixels.shape[:2]
    scale = fit / max(width, height)
    if scale >= 1:
        return pixels
    # Pillow resizes RGBA with colour weighted by alpha ("RGBa").
    image = Image.fromarray(np.ascontiguousarray(pixels)).convert("RGBa")
    size = (max(1, round(width * scale)), max(1, round(height * scale)))
    return np.asarray(image.resize(size, Image.Resampling.BOX).convert("RGBA"))


def shown(viewed: Viewed[TextureFile], query: TextureQuery) -> Preview:
    """A texture as a PNG."""
    if query.exact and query.channels in ("r", "g", "b", "a"):
        picture = painted(viewed)
        kind = "exr" if formats.precision_of(picture) == "float" else "png"
        grey = channels.split(picture, query.channels)[query.channels]
        media = "image/png" if kind == "png" else "application/octet-stream"
        return Preview(write_image(grey, kind, alpha=False), media)
    part = None if query.tile is None else Part.of(query.tile)
    if query.which in ("painted", "heat"):
        pixels = _painted(viewed, query)
        if part is not None:
            left, top, width, height = part.box(pixels.shape[1], pixels.shape[0])
            pixels = part.reduced(pixels[top : top + height, left : left + width])
    else:
        pixels = _stored(viewed, query, part)
    if query.fit is not None:
        pixels = shrink(pixels, query.fit)
    if query.small:
        return Preview(_webp(_channels(pixels, query.channels)), "image/webp")
    return Preview(write_image(_channels(pixels, query.channels), quick=True), "image/png")


def _webp(pixels: Picture) -> bytes:
    """A small picture for the light table: without loss where it is tiny, as its single pixels count then."""
    stream = io.BytesIO()
    tiny = max(pixels.shape[:2]) <= _TINY
    Image.fromarray(np.ascontiguousarray(pixels)).save(
        stream, "WEBP", lossless=tiny, quality=30 if tiny else 82, method=1, exact=tiny
    )
    return stream.getvalue()


def painted(viewed: Viewed[TextureFile]) -> Picture:
    """A texture's picture as it was painted last, remedies applied; its original where nothing was painted."""
    if viewed.version is None:
        return viewed.original.picture()
    file = viewed.version.file
    image = read_image(file.data, file.name)
    return apply_remedies(image.picture, viewed.original, viewed.version.remedies)


def edit_of(viewed: Viewed[TextureFile]) -> TextureFile:
    """The edit; NotFoundError where there is none."""
    if viewed.edit is None:
        raise NotFoundError("No file has come back yet.")
    return viewed.edit


def check_level(texture: TextureFile, level: int) -> None:
    """NotFoundError where a texture has no such mip level."""
    if level >= len(texture.levels):
        raise NotFoundError(f"There is no mip level {level}.", expected=f"0 to {len(texture.levels) - 1}")


def _painted(viewed: Viewed[TextureFile], query: TextureQuery) -> Picture:
    """What a person painted, or what storing it cost."""
    texture, picture = edit_of(viewed), painted(viewed)
    if query.which == "painted":
        return formats.shown(picture, query.exposure)
    check_level(texture, query.level)
    stored = texture.picture(query.level)
    if stored.shape[:2] != picture.shape[:2]:
        raise NotFoundError("The loss is worked out for the first level.")
    return heat(formats.as_precision(picture, formats.precision_of(stored)), stored)


def _stored(viewed: Viewed[TextureFile], query: TextureQuery, part: Part | None) -> Picture:
    """What is stored of an item, now or after the edit, or where the two differ."""
    textures = []
    if query.which != "edit":
        textures.append(viewed.original)
    if query.which != "original":
        textures.append(edit_of(viewed))
    level = query.level if query.fit is None else _fitting_level(textures[0], query.fit)
    while part is not None and part.even and all(level + 1 < len(texture.levels) for texture in textures):
        # A smaller level is what the game itself would show from so far away.
        level, part = level + 1, part.halved()
    pictures = []
    for texture in textures:
        check_level(texture, level)
        width, height = texture.header.sides(level)
        height *= texture.header.pictures(level)
        box = (0, 0, width, height) if part is None else part.box(width, height)
        pixels = formats.shown(texture.region(level, *box), query.exposure)
        pictures.append(pixels if part is None else part.reduced(pixels))
    if query.which != "difference":
        return pictures[0]
    before, after = pictures
    if textures[0].header.sides(level) != textures[1].header.sides(level) or before.shape != after.shape:
        raise FormatError("The dimensions differ, so there is no difference to show.")
    difference = np.abs(before.astype(np.int16) - after)
    result = np.full_like(after, 255)
    # Four times as strong, or nobody would see the last bits; alpha counts for all channels.
    result[..., :3] = np.minimum(np.maximum(difference[..., :3], difference[..., 3:]) * 4, 255)
    return result


def likeness(texture: TextureFile, side: int) -> Picture:
    """The picture by which a texture is found: of several (faces, slices) the first."""
    level = _fitting_level(texture, side // 2)
    width, height = texture.header.sides(level)
    return shrink(formats.shown(texture.region(level, 0, 0, width, height)), side)


def _fitting_level(texture: TextureFile, fit: int) -> int:
    level = 0
    while level + 1 < len(texture.levels):
        sides = formats.level_sides(texture.header.width, texture.header.height, level + 1)
        if max(sides) < fit:
            break
        level += 1
    return level


def _channels(pixels: Picture, which: str) -> Picture:
    if which == "rgba":
        return pixels
    result = np.full_like(pixels, 255)
    result[..., :3] = pixels[..., :3] if which == "rgb" else pixels[..., "rgba".index(which), None]
    return result
