"""How far what is stored lies from what was painted."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from pydantic import BaseModel

from brae.core.assets.texture import formats
from brae.core.assets.texture.formats import Picture
from brae.core.assets.texture.formats.precision import light_of_bytes
from brae.core.assets.texture.kernels import over_rows

Map = np.ndarray[Any, np.dtype[np.float32]]
#: side of SSIM's window and its constants (Wang et al. 2004: K1 = 0.01, K2 = 0.03)
_WINDOW, _C1, _C2 = 7, (0.01 * 255) ** 2, (0.03 * 255) ** 2
#: the difference at which the heat map is hottest
_HOTTEST = 12.0
#: cold to hot: dark slate, heather, gorse, white
_HEAT = np.array([[16, 20, 24], [74, 60, 92], [150, 84, 120], [226, 168, 40], [255, 250, 235]], np.float32)


class Quality(BaseModel):
    """What the encoding cost, at the first level."""

    #: peak signal-to-noise ratio over visible colour and alpha in dB; None where both are equal
    psnr: float | None = None
    #: structural similarity of the luma, 1 where both are equal
    ssim: float = 1.0
    #: CIEDE2000: mean, what 99 of 100 pixels keep within, and the greatest
    ciede_mean: float = 0.0
    ciede_99: float = 0.0
    ciede_most: float = 0.0
    #: of normal maps: the mean angle in degrees
    angle: float | None = None
    #: left upper corner of the block with the greatest mean difference, its side, and that difference
    worst: list[int] | None = None
    worst_side: int = 0
    worst_ciede: float = 0.0


def psnr(painted: Picture, stored: Picture) -> float | None:
    """PSNR in dB over visible colour and alpha (peak 255, or 65,535); None where both are equal.

    Floats are compared by their logarithm, as they are seen: the peak is then the range of light that is there.
    """
    peak = 65535.0 if painted.dtype == np.uint16 else 255.0
    a, b = painted.astype(np.float64), stored.astype(np.float64)
    if painted.dtype == np.float32:
        a, b = (np.log2(np.nan_to_num(np.maximum(part, 0)) + 2.0**-10) for part in (a, b))
        peak = max(float(a.max() - a.min()), 1.0)
    visible = painted[..., 3] > 0
    colour, alpha = (a[visible][:, :3] - b[visible][:, :3]) ** 2, (a[..., 3] - b[..., 3]) ** 2
    error = (colour.sum() + alpha.sum()) / (colour.size + alpha.size)
    return None if error == 0 else float(10 * np.log10(peak**2 / error))


def ciede_map(one: Picture, two: Picture) -> Map:
    """CIEDE2000 of two 8-bit pictures of the same sides (float32, height x width)."""
    from brae.core.assets.texture.kernels.difference import differences

    out = np.empty(one.shape[:2], np.float32)
    a, b = (np.require(part, np.uint8, ["C", "W"]) for part in (one, two))
    over_rows(differences, out.shape[0], a, b, light_of_bytes().astype(np.float64), out)
    return out


def _means(values: np.ndarray[Any, Any]) -> np.ndarray[Any, Any]:
    """Means over every window of a picture."""
    sums = np.pad(values.cumsum(0).cumsum(1), ((1, 0), (1, 0)))
    side = _WINDOW
    total = sums[side:, side:] - sums[:-side, side:] - sums[side:, :-side] + sums[:-side, :-side]
    return total / (side * side)


def ssim(one: Picture, two: Picture) -> float:
    """Structural similarity of the luma of two 8-bit pictures, over windows of 7 x 7.

    Source: Z. Wang et al., "Image Quality Assessment: From Error Visibility to Structural Similarity" (2004);
    sample covariance, as in scikit-image's default. A picture smaller than a window is compared as a whole.
    """
    weights = np.array([0.2126, 0.7152, 0.0722])
    a, b = (part[..., :3].astype(np.float64) @ weights for part in (one, two))
    if min(a.shape) < _WINDOW:
        a, b = (np.pad(part, [(0, max(0, _WINDOW - side)) for side in part.shape], "edge") for part in (a, b))
    count = _WINDOW**2
    mean_a, mean_b = _means(a), _means(b)
    scale = count / (count - 1)
    var_a, var_b = scale * (_means(a * a) - mean_a**2), scale * (_means(b * b) - mean_b**2)
    covariance = scale * (_means(a * b) - mean_a * mean_b)
    top = (2 * mean_a * mean_b + _C1) * (2 * covariance + _C2)
    return float((top / ((mean_a**2 + mean_b**2 + _C1) * (var_a + var_b + _C2))).mean())


def angle(one: Picture, two: Picture) -> float:
    """The mean angle between the directions of two 8-bit normal maps, in degrees; blue is made of the others.

    Formats that hold two channels leave blue out, so it is worked out for both.
    """

    def directions(picture: Picture) -> np.ndarray[Any, Any]:
        xy = picture[..., :2].astype(np.float64) / 127.5 - 1
        z = np.sqrt(np.maximum(1 - (xy**2).sum(axis=2), 0))
        full = np.dstack([xy, z])
        return full / np.maximum(np.linalg.norm(full, axis=2, keepdims=True), 1e-9)

    cosine = (directions(one) * directions(two)).sum(axis=2).clip(-1, 1)
    return float(np.degrees(np.arccos(cosine)).mean())


def quality(painted: Picture, stored: Picture, block: tuple[int, int], *, normals: bool = False) -> Quality:
    """All of it; ``block``: rows and columns of the format's blocks."""
    a, b = formats.shown(painted), formats.shown(stored)
    result = Quality(psnr=psnr(painted, stored))
    if normals:
        result.angle = angle(a, b)
    if result.psnr is None:
        return result
    found = ciede_map(a, b)
    result.ssim = ssim(a, b)
    result.ciede_mean, result.ciede_most = float(found.mean()), float(found.max())
    result.ciede_99 = float(np.percentile(found, 99))
    side = max(4, *block)
    rows, columns = -(-found.shape[0] // side), -(-found.shape[1] // side)
    padded = np.pad(found, ((0, rows * side - found.shape[0]), (0, columns * side - found.shape[1])))
    means = padded.reshape(rows, side, columns, side).mean(axis=(1, 3))
    row, column = np.unravel_index(int(means.argmax()), means.shape)
    result.worst, result.worst_side = [int(column) * side, int(row) * side], side
    result.worst_ciede = float(means[row, column])
    return result


def heat(painted: Picture, stored: Picture) -> Picture:
    """Where the two differ, cold to hot (8-bit R, G, B, A)."""
    found = ciede_map(formats.shown(painted), formats.shown(stored))
    place = np.minimum(np.sqrt(found / _HOTTEST), 1) * (len(_HEAT) - 1)
    low = np.minimum(place.astype(np.int64), len(_HEAT) - 2)
    part = (place - low)[..., None]
    out = np.full((*found.shape, 4), 255, np.uint8)
    out[..., :3] = np.rint(_HEAT[low] * (1 - part) + _HEAT[low + 1] * part)
    return out


def texels_per_unit(side: int, world: float) -> float:
    """How many texels fall on a unit of the world, for a side that covers ``world`` units."""
    if side < 1 or not world > 0:
        raise ValueError("A side has at least one texel, and covers more than nothing.")
    return side / world


@dataclass(frozen=True)
class Density:
    """How finely a texture covers a surface of the world; its texels are square."""

    #: texels that fall on a unit of the world
    per_unit: float
    #: units of the world that a texel covers, which level editors call the texture's scale (common practice)
    scale: float
    #: units that the height covers
    across: float
    #: the power of two that comes nearest to the wanted texels a unit, for the width
    side: int | None


def density(width: int, height: int, world: float, wanted: float | None = None) -> Density:
    """Of a texture whose width covers ``world`` units. ValueError where a number is nothing."""
    per_unit = texels_per_unit(width, world)
    side = None if wanted is None else side_for(world, wanted)
    return Density(per_unit, 1 / per_unit, height / per_unit, side)


def side_for(world: float, texels: float) -> int:
    """The power of two nearest to ``world`` units at ``texels`` a unit (a wall of 128 units at 4: 512)."""
    if not (world > 0 and texels > 0):
        raise ValueError("Both numbers are greater than nothing.")
    return int(2 ** round(float(np.log2(max(1.0, world * texels)))))
