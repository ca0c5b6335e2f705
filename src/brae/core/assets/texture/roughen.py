"""Roughness whose smaller levels make good what the normal map's lose: bumps too small to be seen scatter light.

The mean of directions is the shorter the more they differ. As a von Mises-Fisher lobe its sharpness is near
``r (3 - r^2) / (1 - r^2)`` for a mean of length r (Banerjee and others, 2005); each axis of the slopes then varies
by one over it, and of a Beckmann lobe of width alpha by ``alpha^2 / 2``, so alpha squared grows by two over the
sharpness (normal maps filtered so: Toksvig, 2005; Han and others, 2007; all from memory). Alpha is the square of
the roughness that is stored (common practice, no source).
"""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np

from brae.core.assets.texture import mips
from brae.core.assets.texture.formats import Picture, white_of
from brae.core.assets.texture.formats.precision import Floats
from brae.core.errors import FormatError

_PART = re.compile(r"([rgba]):(roughness|smoothness)")


@dataclass(frozen=True)
class Roughening:
    """Which channel is meant, and whether it holds roughness or the smoothness that is one less it."""

    channel: str
    holds: str = "roughness"

    @classmethod
    def of(cls, part: str) -> Roughening:
        """As the file beside an edit is called, such as ``r:roughness``; FormatError for any other name."""
        found = _PART.fullmatch(part)
        if found is None:
            raise FormatError(
                f"'{part}' is no part of a texture.", expected="a level, or a channel such as r:roughness"
            )
        return cls(*found.groups())

    @property
    def words(self) -> str:
        """For a person."""
        return f"{self.holds} in {self.channel.upper()}"


def scatter(normals: Picture, width: int, height: int) -> Floats:
    """By how much alpha squared grows where directions (R, G, B) are averaged to these sides (height x width)."""
    values = normals[..., :3].astype(np.float32) * np.float32(2 / white_of(normals)) - 1
    length = np.maximum(np.linalg.norm(values, axis=2, keepdims=True), 1e-6)
    directions = np.zeros((*normals.shape[:2], 4), np.float32)
    directions[..., :3] = values / length
    mean = mips.resample(directions, width, height)
    r = np.clip(np.linalg.norm(mean[..., :3], axis=2), 1e-3, 1 - 1e-6)
    return np.asarray(2 * (1 - r * r) / (r * (3 - r * r)), np.float32)


def roughened(level: Picture, normals: Picture, meant: Roughening) -> Picture:
    """A level of a roughness or packed map, as rough as the directions that it cannot show any more make it."""
    place = "rgba".index(meant.channel)
    most = np.float32(white_of(level))
    stored = level[..., place].astype(np.float32) / most
    rough = stored if meant.holds == "roughness" else 1 - stored
    alpha = np.minimum(rough**4 + scatter(normals, level.shape[1], level.shape[0]), 1)
    made = alpha**0.25 if meant.holds == "roughness" else 1 - alpha**0.25
    result = level.copy()
    value = made * most
    result[..., place] = value if level.dtype == np.float32 else np.rint(value)
    return result


def roughened_levels(
    picture: Picture, count: int, rule: mips.MipRule, normals: dict[Roughening, Picture]
) -> dict[int, Picture]:
    """The levels from 1 on of a picture whose channels follow these normal maps."""
    if not normals:
        return {}
    levels = dict(enumerate(mips.make_levels(picture, count, rule)))
    del levels[0]
    for meant, directions in normals.items():
        if not directions[..., 2].any():
            directions = mips.with_third(directions)  # of two channels
        levels = {number: roughened(level, directions, meant) for number, level in levels.items()}
    return levels
