"""Packed maps: a picture's channels as pictures of their own, and put together again."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from brae.core.assets.texture import formats
from brae.core.assets.texture.formats import Picture
from brae.core.errors import FormatError

LETTERS = "rgba"


@dataclass(frozen=True)
class Part:
    """Where a channel of a composed picture comes from."""

    picture: Picture
    #: which channel of it; of a grey picture all three are alike
    channel: str = "r"
    #: white for black: roughness becomes smoothness, the green direction is turned round
    inverted: bool = False


def split(picture: Picture, channels: str = LETTERS) -> dict[str, Picture]:
    """Each channel as an opaque grey picture of the same depth."""
    result = {}
    for letter in channels:
        grey = np.empty_like(picture)
        grey[..., :3] = picture[..., LETTERS.index(letter), None]
        grey[..., 3] = formats.white_of(picture)
        result[letter] = grey
    return result


def compose(parts: Mapping[str, Part], base: Picture | None = None) -> Picture:
    """A picture whose channels come from several; those that ``parts`` does not name are the base's.

    Without a base they are black, alpha is opaque. FormatError where the sides differ.
    """
    if not parts:
        raise FormatError("No channel is named.", expected="at least one of r, g, b and a")
    unknown = set(parts) - set(LETTERS)
    if unknown:
        raise FormatError(f"There is no channel '{unknown.pop()}'.", expected="r, g, b or a")
    first = base if base is not None else next(iter(parts.values())).picture
    sides = {part.picture.shape[:2] for part in parts.values()} | {first.shape[:2]}
    if len(sides) > 1:
        words = ", ".join(f"{width} x {height}" for height, width in sorted(sides))
        raise FormatError(f"The pictures have different dimensions: {words}.", remedy="Resize them first.")
    result = first.copy() if base is not None else np.zeros_like(first)
    if base is None:
        result[..., 3] = formats.white_of(first)
    depth = formats.precision_of(first)
    for letter, part in parts.items():
        source = formats.as_precision(part.picture, depth)[..., LETTERS.index(part.channel)]
        value = formats.white_of(first) - source if part.inverted else source
        result[..., LETTERS.index(letter)] = value
    return result
