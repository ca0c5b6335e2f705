"""What a search by picture finds, and how all of it is compared: area against area."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from brae.core.find.looks import FLAT, Array, Rgb, planes, units

#: the side at which two areas are compared
SIDE = 48
Flip = Literal["", "sideways", "upside down", "both"]


@dataclass(frozen=True)
class Match:
    """A picture that another one shows.

    ``how``: "whole", "part" (the query is a part of it) or "inside" (it appears in the query). ``place``: corners
    (x, y) as shares of the sides: of the picture for a part, of the query for what is inside it.
    """

    number: int
    score: float
    how: Literal["whole", "part", "inside"]
    place: tuple[tuple[float, float], ...] = ()
    flip: Flip = ""


@dataclass(frozen=True)
class Proposed:
    """A match, both areas (SIDE x SIDE), and what else speaks for it; its score is what their likeness counts."""

    match: Match
    mine: Rgb
    its: Rgb
    bonus: float = 0.0


def joined(each: Array) -> Array:
    """One score of the correlations of four planes (last axis): colours may have changed in all but two of them."""
    one, other, third = each[..., 0], each[..., 1], each[..., 2]
    larger, smaller = np.maximum(one, other), np.minimum(one, other)
    second = np.maximum(smaller, np.minimum(larger, third))
    return np.asarray(0.4 * np.maximum(larger, third) + 0.3 * second + 0.3 * each[..., 3])


def agreement(these: Rgb, those: Rgb, any_hue: bool = False) -> Array:
    """How alike pictures of one size are, 0 to 1, whatever was done to hue and brightness of all of one.

    Both: float32 (..., height, width, 3). A turn of the hues counts as a small difference, or as none: ``any_hue``.
    """
    mine, its = (planes(one).reshape(*one.shape[:-3], 4, -1) for one in (these, those))
    each = (units(mine) * units(its)).sum(-1)
    # Where neither has a chroma, or neither has edges, that is no difference.
    blank = (mine.std(-1) <= FLAT) & (its.std(-1) <= FLAT)
    each = np.where(blank, each[..., :2].max(-1, keepdims=True), each)
    return np.asarray(0.85 * joined(each) + 0.15 * _one_turn(these, those, any_hue))


def _one_turn(these: Rgb, those: Rgb, any_hue: bool) -> Array:
    """Whether one turn of the hues makes the colours of one those of the other: 1 where it does, or none are there.

    A turn of nothing is a little better than another one, unless any will do.
    """
    mine, its = (_chroma(one).reshape(*one.shape[:-3], -1) for one in (these, those))
    lengths = np.abs(mine), np.abs(its)
    weight = np.minimum(*lengths)
    both = mine * its.conj() * (weight / np.maximum(lengths[0] * lengths[1], 1e-6))
    turned = both.sum(-1) / np.maximum(weight.sum(-1), 1e-6)
    score = np.abs(turned) * (1 if any_hue else 0.9 + 0.1 * np.cos(np.angle(turned)))
    return np.asarray(np.where(weight.mean(-1) < FLAT, 1 if any_hue else 0.9, score))


def _chroma(picture: Rgb) -> Array:
    """Colours as complex numbers in the plane of the hues (the hexagon of HSV): length chroma, angle hue."""
    red, green, blue = picture[..., 0], picture[..., 1], picture[..., 2]
    return np.asarray(red - 0.5 * (green + blue) + 1j * np.float32(np.sqrt(3) / 2) * (green - blue), np.complex64)
