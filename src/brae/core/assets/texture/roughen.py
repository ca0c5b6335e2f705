"""Roughness whose smaller levels make good what the normal map's lose: bumps too small to be seen scatter light.

The mean of directions is the shorter the more they differ. As a von Mises-Fisher lobe its sharpness is near
``r (3 - r^2) / (1 - r^2)`` for a mean of length r (Banerjee and others, 2005); each axis of the slopes then varies
by one over it, and of a Beckmann lobe of width alpha by ``alpha^2 / 2``, so alpha squared grows by two over the
sharpness (normal maps filtered so: Toksvig, 2005; Han and others, 2007; all from memory). Alpha is the square of
the roughness that is stored (common practice, no source).
"""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import BaseModel, ConfigDict

from brae.core.assets.base import ExchangeFile, Made, Viewed
from brae.core.assets.texture import formats, mips
from brae.core.assets.texture.files import read_image, write_image
from brae.core.assets.texture.formats import Picture, white_of
from brae.core.assets.texture.formats.precision import Floats
from brae.core.assets.texture.looking import painted
from brae.core.assets.texture.texture import TextureFile
from brae.core.errors import BraeError, FormatError
from brae.core.layouts.roles import Channel


class Roughening(BaseModel):
    """Which channel is meant, and whether it holds roughness or the smoothness that is one less it."""

    model_config = ConfigDict(extra="forbid")

    channel: Channel
    holds: Literal["roughness", "smoothness"] = "roughness"


def scatter(normals: Picture, width: int, height: int) -> Floats:
    """By how much alpha squared grows where directions (R, G, B) are averaged to these sides (height x width)."""
    values = normals[..., :3].astype(np.float32) * np.float32(2 / white_of(normals)) - 1
    length = np.maximum(np.linalg.norm(values, axis=2, keepdims=True), 1e-6)
    directions = np.zeros((*normals.shape[:2], 4), np.float32)
    directions[..., :3] = values / length
    mean = mips.resample(directions, width, height)
    r = np.clip(np.linalg.norm(mean[..., :3], axis=2), 1e-3, 1 - 1e-6)
    return np.asarray(2 * (1 - r * r) / (r * (3 - r * r)), np.float32)


def roughened(level: Picture, normals: Picture, query: Roughening) -> Picture:
    """A level of a roughness or packed map, as rough as the directions that it cannot show any more make it."""
    place = "rgba".index(query.channel)
    most = np.float32(white_of(level))
    stored = level[..., place].astype(np.float32) / most
    rough = stored if query.holds == "roughness" else 1 - stored
    alpha = np.minimum(rough**4 + scatter(normals, level.shape[1], level.shape[0]), 1)
    made = alpha**0.25 if query.holds == "roughness" else 1 - alpha**0.25
    result = level.copy()
    value = made * most
    result[..., place] = value if level.dtype == np.float32 else np.rint(value)
    return result


def roughen(viewed: Viewed[TextureFile], query: Roughening, file: ExchangeFile | None) -> Made:
    """Mip levels of an edit by the normal map that was given with it, as levels made by hand.

    Raises FormatError where there is no normal map, or the edit has no levels.
    """
    if file is None:
        raise FormatError("There is no normal map.", expected="the normal map of the same surface")
    try:
        normals = read_image(file.data, file.name).picture
    except BraeError as error:
        raise error.at(file.name) from None
    if not normals[..., 2].any():
        normals = mips.with_third(normals)  # of two channels
    base = painted(viewed)
    asset = viewed.edit or viewed.original
    head = asset.header
    if head.levels < 2 or head.pictures() > 1:
        raise FormatError("This texture has no mip levels that could follow the normal map.")
    recipe = asset.recipe()
    rule = mips.MipRule("data", recipe.filter, recipe.wrap)
    levels = mips.make_levels(formats.as_precision(base, head.format.precision), head.levels, rule)
    kind = "exr" if head.format.precision == "float" else "png"
    named = f"{file.name.rpartition('.')[0] or file.name}.{kind}"
    beside = {
        str(number): ExchangeFile(named, write_image(roughened(level, normals, query), kind))
        for number, level in enumerate(levels)
        if number
    }
    return Made(f"{query.holds} in {query.channel.upper()} follows {file.name}", beside=beside)
