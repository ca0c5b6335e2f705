"""What pictures of one size have in common: the alpha that they share, and the light and dark that lie over all.

Each sibling is taken for ``art * gain + offset``, with one gain and one offset for each place: a shadow lowers the
gain, a light adds to the offset, a frame has no gain at all. Where many pictures are laid over each other, their
spread tells the gain and their mean the offset; of a smaller size, its own pictures beside those of the larger one
tell both exactly. Where nothing lies over the art the gain is 1 and the offset 0: shadows and lights both lower it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np

Floats = np.ndarray[Any, np.dtype[np.float32]]
#: siblings from which on their spread tells something
FEWEST = 5
#: of the largest spread: below it there is a frame
_FRAME = 0.06
#: alphas of one place that are the same, and the share of the siblings of which they have to be
_SAME_ALPHA, _SHARED = 10 / 255, 0.8
#: how much the mean counts for the gain where there is no light; times the chance of a mean that are no light yet
_MEAN, _CHANCES = 0.7, 0.6
#: terms of the surface that smooth shading is: x and y up to this power together
_POWER = 6


@dataclass(frozen=True)
class Shading:
    """What lies over all pictures of one size; (height, width, 1) and (height, width, 3)."""

    gain: Floats
    offset: Floats
    #: (height, width), 0 to 1; None where they share none
    alpha: Floats | None
    #: how many pictures it was worked out from
    siblings: int

    def seen(self, what: Literal["gain", "offset"]) -> Floats:
        """The gain or the offset where there is art, and no frame."""
        found: Floats = getattr(self, what)[self.gain[..., 0] > 0]
        return found

    def on(self, art: Floats) -> Floats:
        """Art (height, width, 4) as a picture of this size: mask, frame and shading on it."""
        colour = np.clip(art[..., :3] * self.gain + self.offset, 0, 1)
        alpha = art[..., 3] if self.alpha is None else self.alpha
        return np.dstack([colour, alpha]).astype(np.float32)

    def off(self, picture: Floats) -> Floats:
        """The inverse as far as there is one: the art under the shading; under a frame there is none."""
        seen = np.maximum(self.gain, 0.05)
        return np.dstack([np.clip((picture[..., :3] - self.offset) / seen, 0, 1), picture[..., 3]]).astype(
            np.float32
        )


def covering(cover: Floats) -> Shading:
    """A picture (height, width, 4) that is laid over the art by its alpha; the art's own alpha stays."""
    alpha = cover[..., 3:]
    return Shading(1 - alpha, cover[..., :3] * alpha, None, 0)


def shared_alpha(pictures: Sequence[Floats]) -> Floats | None:
    """The alpha that most of them have; None where they have different ones, or none at all."""
    stack = np.stack([picture[..., 3] for picture in pictures])
    middle = np.median(stack, axis=0)
    alike = np.abs(stack - middle) <= _SAME_ALPHA
    if alike.mean(axis=(1, 2)).mean() < 0.99 or (alike.mean(axis=0) < _SHARED).mean() > 0.02:
        return None
    return None if (middle >= 1 - _SAME_ALPHA).all() else middle.astype(np.float32)


def plain(pictures: Sequence[Floats]) -> Shading:
    """Of too few siblings: no shading, and the alpha that they share."""
    height, width = pictures[0].shape[:2]
    flat = np.ones((height, width, 1), np.float32)
    return Shading(flat, np.zeros((height, width, 3), np.float32), shared_alpha(pictures), len(pictures))


def common(pictures: Sequence[Floats]) -> Shading:
    """What lies over all of them, by their spread and their mean."""
    if len(pictures) < FEWEST:
        return plain(pictures)
    alpha = shared_alpha(pictures)
    stack = np.stack([picture[..., :3] for picture in pictures]).astype(np.float64)
    seen = np.ones(stack.shape[1:3], bool) if alpha is None else alpha > 0.5
    mean = stack.mean(axis=0)
    spread = np.sqrt(stack.var(axis=0).mean(axis=-1))
    most = np.percentile(spread[seen], 90) if seen.any() else 0.0
    if most < 1 / 255:
        return plain(pictures)
    frame = seen & (spread < _FRAME * most)
    art = seen & ~frame
    gain = np.exp(_surface(np.log(np.maximum(spread, 1e-4)), art, stack.shape[0]))
    gain /= np.percentile(gain[art], 98) if art.any() else 1.0
    gain = np.minimum(gain, 1.0)
    free = art & (gain > 0.97)
    middle = mean[free].mean(axis=0) if free.any() else mean[art].mean(axis=0)
    light, chance = _light(mean, gain, middle, art, len(stack)), float(most) / np.sqrt(len(stack))
    # Where there is no light the mean tells the gain as well, and with less chance in it.
    alone = _surface(np.log(np.maximum(mean / middle, 1e-3)).mean(axis=-1), art, len(stack))
    dark = _MEAN * np.clip(1 - light.mean(axis=-1) / chance, 0, 1)
    gain = np.exp((1 - dark) * np.log(np.maximum(gain, 1e-3)) + dark * alone)
    gain = np.minimum(gain / (np.percentile(gain[art], 98) if art.any() else 1.0), 1.0)
    offset = _light(mean, gain, middle, art, len(stack))
    # What is no more than the chance of a mean is no light.
    offset = offset * np.clip(offset.mean(axis=-1, keepdims=True) / chance - _CHANCES, 0, 1)
    gain = np.where(frame, 0, gain)
    offset = np.where(frame[..., None], mean, offset)
    return Shading(gain[..., None].astype(np.float32), offset.astype(np.float32), alpha, len(pictures))


def _light(
    mean: np.ndarray[Any, Any], gain: np.ndarray[Any, Any], middle: np.ndarray[Any, Any],
    where: np.ndarray[Any, Any], many: int,
) -> np.ndarray[Any, Any]:  # fmt: skip
    """What the mean has more than the art's own under the gain."""
    left = [_surface(mean[..., channel] - gain * middle[channel], where, many) for channel in range(3)]
    return np.asarray(np.maximum(np.dstack(left), 0))


def _surface(values: np.ndarray[Any, Any], where: np.ndarray[Any, Any], many: int) -> np.ndarray[Any, Any]:
    """A smooth surface through values of which chance makes some too large and some too small.

    Of few siblings a stiff one; the powers of x and y are fitted where there is art, and go on beyond it.
    """
    height, width = values.shape
    rows, columns = np.mgrid[-1 : 1 : complex(0, height), -1 : 1 : complex(0, width)]
    power = _POWER if many >= 24 else 4 if many >= 12 else 2
    terms = [
        np.polynomial.legendre.Legendre.basis(i)(rows) * np.polynomial.legendre.Legendre.basis(j)(columns)
        for i in range(power + 1)
        for j in range(power + 1 - i)
    ]
    table = np.stack([term[where] for term in terms], axis=1)
    found, *_ = np.linalg.lstsq(table, values[where], rcond=None)
    return np.asarray(sum(weight * term for weight, term in zip(found, terms, strict=True)))


def beside(pictures: Sequence[Floats], larger: Sequence[Floats]) -> Shading:
    """What lies over pictures, of which the same without anything over them are known (at the same size).

    At each place the line through all pairs, by least squares.
    """
    alpha = shared_alpha(pictures)
    here = np.stack([picture[..., :3] for picture in pictures]).astype(np.float64)
    art = np.stack([picture[..., :3] for picture in larger]).astype(np.float64)
    art_mean, here_mean = art.mean(axis=0), here.mean(axis=0)
    with_, of_ = (art - art_mean), (here - here_mean)
    against = (with_**2).sum(axis=(0, -1))
    gain = (with_ * of_).sum(axis=(0, -1)) / np.maximum(against, 1e-9)
    gain = np.clip(gain, 0, 1.5)
    offset = here_mean - gain[..., None] * art_mean
    return Shading(gain[..., None].astype(np.float32), offset.astype(np.float32), alpha, len(pictures))
