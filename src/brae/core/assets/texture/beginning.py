"""A new texture: the sides that hardware and the game's world want, encoded like one of the game's."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field

from brae.core.assets.sheet import MatchSheet
from brae.core.assets.texture.files import read_image
from brae.core.assets.texture.remedies import resize
from brae.core.assets.texture.sheet import match
from brae.core.assets.texture.texture import Recipe, TextureFile
from brae.core.errors import FormatError

#: sides beyond which few games go (common practice, no source)
_SENSIBLE = 2048


class NewTexture(BaseModel):
    """What can be wished of a new texture."""

    model_config = ConfigDict(extra="forbid")

    #: how long its longer side is in the world, in the world's units; without it the picture's own sides count
    units: Annotated[float, Field(gt=0, le=1e6)] | None = None
    #: units that a texel covers: of 0.25 there are four texels in a unit
    scale: Annotated[float, Field(gt=0, le=1e6)] = 1.0
    #: the longest side
    most: Annotated[int, Field(ge=4, le=16384)] = _SENSIBLE


def power_of_two(side: float, most: int) -> int:
    """The power of two that is nearest by ratio, at most the largest one that ``most`` allows."""
    exponent = math.floor(math.log2(max(side, 1)) + 0.5)
    return 1 << min(exponent, int(math.log2(most)))


def sides(width: int, height: int, wish: NewTexture) -> tuple[int, int]:
    """Width and height of a new texture for a picture of these sides: powers of two, nearly its proportions.

    Texels are units / scale: a wall of 128 units at a scale of 0.25 wants 512.
    """
    longest = max(width, height)
    wanted = longest if wish.units is None else wish.units / wish.scale
    long_side = power_of_two(wanted, wish.most)
    wide, high = (power_of_two(long_side * side / longest, wish.most) for side in (width, height))
    return wide, high


def begun(
    original: TextureFile, data: bytes, name: str, recipe: Recipe, wish: NewTexture
) -> tuple[MatchSheet, bytes]:
    """A new texture's match sheet beside the one that it is made like, and its bytes."""
    if original.header.pictures() > 1 or original.divide is not None:
        raise FormatError("It has several pictures, or lies in several files: nothing is made like it yet.")
    image = read_image(data, name)
    height, width = image.picture.shape[:2]
    wide, high = sides(width, height, wish)
    if (wide, high) != (width, height):
        image = replace(image, picture=resize(image.picture, wide, high))
    sheet, made = match(image, original, recipe, (), name)
    # It is no other size than anything was: nothing was there.
    told = [one for one in sheet.findings if one.id != "dimensions"]
    return sheet.model_copy(update={"findings": told}), made.data
