"""Mip levels: each half as wide and high as the one before, by a filter that suits what the picture means."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any, Literal

import numpy as np

from brae.core.assets.texture.formats import Picture, Precision, level_sides, precision_of
from brae.core.assets.texture.formats.precision import (
    TYPES,
    Floats,
    bytes_of_light,
    light_of_bytes,
    linear_to_srgb,
    srgb_to_linear,
)
from brae.core.assets.texture.kernels import over_rows

Filter = Literal["box", "triangle", "cubic", "kaiser", "lanczos"]
#: what the channels are: colour (averaged as light), plain numbers, directions, or colour with holes cut out
Content = Literal["colour", "data", "normal", "cut-out"]

#: half the width of a filter, in pixels of the smaller picture
_REACH = {"box": 0.5, "triangle": 1.0, "cubic": 2.0, "kaiser": 3.0, "lanczos": 3.0}
#: shape of the Kaiser window: ripples below a hundredth (J. F. Kaiser, 1974; alpha 4 is common practice)
_KAISER_ALPHA = 4.0
#: what counts as there in a cut-out
_HALF_ALPHA = 0.5


@dataclass(frozen=True)
class MipRule:
    """How levels are made."""

    content: Content = "colour"
    filter: Filter = "box"
    #: whether the picture repeats, so that its edges are averaged with the opposite ones
    wrap: bool = False
    #: whether colours are averaged as light, not as the numbers that are stored
    linear: bool = True

    @property
    def as_light(self) -> bool:
        """Whether numbers are turned into light and back."""
        return self.linear and self.content in ("colour", "cut-out")


PLAIN = MipRule()


def _weight(filter_: Filter, x: np.ndarray[Any, Any]) -> np.ndarray[Any, Any]:
    """A filter at distances ``x``, in pixels of the smaller picture."""
    away = np.abs(x)
    if filter_ == "triangle":
        return np.maximum(1 - away, 0)
    if filter_ == "cubic":
        # R. Keys, 1981, with a = -1/2.
        near = (1.5 * away - 2.5) * away * away + 1
        return np.where(away < 1, near, np.where(away < 2, ((2.5 - 0.5 * away) * away - 4) * away + 2, 0))
    if filter_ == "lanczos":
        return np.sinc(x) * np.sinc(x / 3) * (np.abs(x) < 3)
    window = np.sqrt(np.maximum(1 - (x / 3) ** 2, 0))
    return np.sinc(x) * np.i0(_KAISER_ALPHA * window) / np.i0(_KAISER_ALPHA) * (np.abs(x) < 3)


@lru_cache(maxsize=256)
def taps(old: int, new: int, filter_: Filter, wrap: bool) -> tuple[np.ndarray[Any, Any], Floats]:
    """For each of ``new`` places the old ones that it is made of, and their weights (new x taps, sums of 1).

    The box takes exactly what a new pixel covers, parts of pixels at its rims included; the others are sampled at
    the middles of the old pixels.
    """
    scale = old / new
    middles = (np.arange(new) + 0.5) * scale
    reach = _REACH[filter_] * scale
    first = np.floor(middles - reach + 1e-9).astype(np.int64)
    count = int(np.ceil(2 * reach)) + 1
    places = first[:, None] + np.arange(count)
    if filter_ == "box":
        low, high = np.arange(new)[:, None] * scale, (np.arange(new)[:, None] + 1) * scale
        weights = np.minimum(places + 1, high) - np.maximum(places, low)
        weights = np.where(weights > 1e-9, weights, 0)
    else:
        weights = _weight(filter_, (places + 0.5 - middles[:, None]) / scale)
    places = places % old if wrap else places.clip(0, old - 1)
    return places, (weights / weights.sum(axis=1, keepdims=True)).astype(np.float32)


def resample(values: Floats, width: int, height: int, filter_: Filter = "box", wrap: bool = False) -> Floats:
    """Floats of four channels (height x width x 4) at other sides."""
    from brae.core.assets.texture.kernels.resample import combine_columns, combine_rows

    old_height, old_width = values.shape[:2]
    if old_height != height:
        indices, weights = taps(old_height, height, filter_, wrap)
        rows = np.empty((height, old_width * 4), np.float32)
        over_rows(combine_rows, height, values.reshape(old_height, -1), indices, weights, rows)
        values = rows.reshape(height, old_width, 4)
    if old_width != width:
        indices, weights = taps(old_width, width, filter_, wrap)
        columns = np.empty((height, width, 4), np.float32)
        over_rows(combine_columns, height, values, indices, weights, columns)
        values = columns
    return values


def _to_light(picture: Picture, as_light: bool, weigh: bool) -> Floats:
    """A picture as numbers that may be averaged; with ``weigh`` colour is multiplied by alpha."""
    depth = precision_of(picture)
    out = np.empty(picture.shape, np.float32)
    if depth == "8":
        from brae.core.assets.texture.kernels.resample import to_light

        linear = np.arange(256, dtype=np.float32) / np.float32(255)
        table = light_of_bytes() if as_light else linear
        picture = np.require(picture, requirements=["C", "W"])
        over_rows(to_light, picture.shape[0], picture, table.copy(), linear, weigh, out)
        return out
    out[:] = picture if depth == "float" else picture / np.float32(65535)
    if depth == "16" and as_light:
        out[..., :3] = srgb_to_linear(out[..., :3])
    if weigh:
        out[..., :3] *= out[..., 3:]
    return out


def _from_light(light: Floats, plain: Floats, as_light: bool, weigh: bool, depth: Precision) -> Picture:
    """The way back; ``plain`` is the average without weights, for places where all is clear."""
    out = np.empty(light.shape, TYPES[depth])
    if depth == "8":
        from brae.core.assets.texture.kernels.resample import to_bytes

        table = bytes_of_light() if as_light else np.rint(np.arange(65536) / 257).astype(np.uint8)
        over_rows(to_bytes, light.shape[0], light, plain, table.copy(), weigh, out)
        return out
    value = light.copy()
    if weigh:
        seen = light[..., 3:] > 1e-6
        value[..., :3] = np.where(seen, light[..., :3] / np.maximum(light[..., 3:], 1e-6), plain[..., :3])
    if depth == "float":
        out[:] = value
        return out
    if as_light:
        value[..., :3] = linear_to_srgb(value[..., :3])
    out[:] = np.rint(value.clip(0, 1) * 65535)
    return out


def _unit_length(light: Floats) -> None:
    """Make directions (0 to 1 for -1 to 1) one long again; what has no direction points straight out."""
    directions = light[..., :3] * 2 - 1
    length = np.sqrt((directions**2).sum(axis=2, keepdims=True))
    straight = np.array([0, 0, 1], np.float32)
    light[..., :3] = np.where(length > 1e-4, directions / np.maximum(length, 1e-4), straight) * 0.5 + 0.5


def with_third(picture: Picture) -> Picture:
    """Directions of which only the first two components are kept, with the third in blue: they are one long.

    A two-channel normal map stores no third component, and what stands in blue instead is no direction to average.
    """
    depth = precision_of(picture)
    most = 1.0 if depth == "float" else 255.0 if depth == "8" else 65535.0
    x, y = (picture[..., channel].astype(np.float32) * np.float32(2 / most) - 1 for channel in (0, 1))
    third = np.sqrt(np.maximum(1 - x * x - y * y, 0)) * 0.5 + 0.5
    result = picture.copy()
    result[..., 2] = third if depth == "float" else np.rint(third * most)
    return result


def _keep_coverage(alpha: Floats, wanted: float) -> Floats:
    """Alpha scaled so that as large a part of it as ``wanted`` reaches one half (bisection, common practice)."""
    low, high = 0.0, 8.0
    for _ in range(14):
        middle = (low + high) / 2
        if float((alpha * middle >= _HALF_ALPHA).mean()) < wanted:
            low = middle
        else:
            high = middle
    below, above = (float((alpha * scale >= _HALF_ALPHA).mean()) for scale in (low, high))
    # Coverage goes in steps: take the nearer one, but not one that leaves nothing at all.
    scale = low if below > 0 and wanted - below < above - wanted else high
    return np.minimum(alpha * np.float32(scale), 1)


def make_levels(picture: Picture, count: int, rule: MipRule = PLAIN) -> list[Picture]:
    """The picture and its mip levels, ``count`` in all.

    Colour is averaged as light, weighted by alpha, so that what is clear does not bleed into edges; where all is
    clear the plain average is kept. Data are averaged as they are, directions made one long again, and of a
    cut-out as much is left at every level as at the first.
    """
    if count <= 1:
        return [picture]
    if _in_bands(picture, rule):
        return _banded(picture, count, rule)
    return [picture, *_smaller(_Lit.of(picture, rule), picture.shape[1::-1], count, rule)]


#: larger pictures are worked on in bands: floats take four times a picture's bytes, and twice that with alpha
_LARGE = 64 << 20
#: rows of a band, of which a box makes whole rows of so many levels
_BAND_LEVELS = 9
_BAND = 1 << _BAND_LEVELS


@dataclass
class _Lit:
    """A picture as numbers that may be averaged."""

    light: Floats
    #: the same not weighed by alpha, for where all is clear; the very same where nothing is weighed
    plain: Floats
    weigh: bool
    depth: Precision
    #: of a cut-out the part of alpha that is there
    coverage: float = 0.0

    @classmethod
    def of(cls, picture: Picture, rule: MipRule, weigh: bool | None = None) -> _Lit:
        """A picture; ``weigh``: whether it is a part of one that has clear places."""
        content = rule.content
        weigh = _has_clear(picture, content) if weigh is None else weigh
        light = _to_light(picture, rule.as_light, weigh)
        plain = _to_light(picture, rule.as_light, False) if weigh else light
        coverage = float((light[..., 3] >= _HALF_ALPHA).mean()) if content == "cut-out" else 0.0
        return cls(light, plain, weigh, precision_of(picture), coverage)

    def at(self, width: int, height: int, rule: MipRule) -> _Lit:
        """At other sides."""
        light = resample(self.light, width, height, rule.filter, rule.wrap)
        plain = resample(self.plain, width, height, rule.filter, rule.wrap) if self.weigh else light
        return replace(self, light=light, plain=plain)

    def picture(self, rule: MipRule) -> Picture:
        """As a level."""
        made = self.light
        if rule.content == "normal":
            made = self.light.copy()
            _unit_length(made)
        elif self.coverage and self.weigh:
            made = self.light.copy()
            alpha = _keep_coverage(self.light[..., 3], self.coverage)
            made[..., :3] *= (alpha / np.maximum(self.light[..., 3], 1e-6))[..., None]
            made[..., 3] = alpha
        return _from_light(made, self.plain if self.weigh else made, rule.as_light, self.weigh, self.depth)


def _has_clear(picture: Picture, content: Content) -> bool:
    """Whether colour has to be weighed by alpha."""
    opaque = {"float": 1.0, "8": 255, "16": 65535}[precision_of(picture)]
    return content in ("colour", "cut-out") and bool((picture[..., 3] < opaque).any())


def _smaller(lit: _Lit, sides: tuple[int, ...], count: int, rule: MipRule, done: int = 0) -> Iterator[Picture]:
    """The levels below one of ``sides``, up to ``count`` with it; ``lit`` is the level that is ``done`` already."""
    for level in range(done + 1, count):
        lit = lit.at(*level_sides(sides[0], sides[1], level), rule)
        yield lit.picture(rule)


def _in_bands(picture: Picture, rule: MipRule) -> bool:
    """Whether bands of rows give the same: a box reaches over no band's edge, and nothing is counted over all."""
    alone = rule.filter == "box" and rule.content != "cut-out" and picture.shape[0] % _BAND == 0
    return alone and picture.nbytes > _LARGE


def _banded(picture: Picture, count: int, rule: MipRule) -> list[Picture]:
    height, width = picture.shape[:2]
    weigh = _has_clear(picture, rule.content)
    many = min(count - 1, _BAND_LEVELS)
    levels = [np.empty((height >> k, max(1, width >> k), 4), picture.dtype) for k in range(1, many + 1)]
    rest: list[_Lit] = []
    for top in range(0, height, _BAND):
        lit = _Lit.of(picture[top : top + _BAND], rule, weigh)
        for level, out in enumerate(levels, 1):
            lit = lit.at(max(1, width >> level), _BAND >> level, rule)
            out[top >> level : (top + _BAND) >> level] = lit.picture(rule)
        rest.append(lit)
    light = np.concatenate([one.light for one in rest])
    plain = np.concatenate([one.plain for one in rest]) if weigh else light
    last = _Lit(light, plain, weigh, precision_of(picture))
    return [picture, *levels, *_smaller(last, (width, height), count, rule, many)]


def halve_depth(slices: list[Picture], rule: MipRule = PLAIN) -> list[Picture]:
    """The slices of a volume's next level: pairs averaged, a last odd one joined to the pair before."""
    if len(slices) < 2:
        return slices
    light = [_to_light(one, rule.as_light, False) for one in slices]
    count = len(slices) // 2
    result = []
    for index in range(count):
        group = light[2 * index : 2 * index + 2] if index < count - 1 else light[2 * index :]
        mean: Any = np.mean(group, axis=0, dtype=np.float32)
        result.append(_from_light(mean, mean, rule.as_light, False, precision_of(slices[0])))
    return result


def reduce_blocks(mask: np.ndarray[Any, Any], block: tuple[int, int]) -> np.ndarray[Any, Any]:
    """Which blocks (rows x columns of pixels) hold a true pixel (bool, block rows x block columns)."""
    if block == (1, 1):
        return mask
    height, width = mask.shape
    padded = np.pad(mask, ((0, -height % block[0]), (0, -width % block[1])))
    rows, columns = padded.shape[0] // block[0], padded.shape[1] // block[1]
    return np.asarray(padded.reshape(rows, block[0], columns, block[1]).any(axis=(1, 3)))
