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
Numbers = np.ndarray[Any, np.dtype[np.float64]]
Flags = np.ndarray[Any, np.dtype[np.bool_]]
#: siblings from which on their spread tells something
FEWEST = 5
#: of the largest spread: below it there is a frame
_FRAME = 0.06
#: alphas of one place that are the same, and the share of the siblings of which they have to be
_SAME_ALPHA, _SHARED = 10 / 255, 0.8
#: terms of the surface that smooth shading is: x and y up to this power together
_POWER = 6
#: what is asked of the numbers at each place of at most so many, and how often
_QUANTILES, _PLACES, _ROUNDS = np.arange(1, 20) / 20, 1500, 5
#: groups of siblings that are left out in turn, and how many times its chance a weight has to be
_PARTS, _DOUBT = 12, 2.0
#: percentile of the gain that is 1: some art has no shadow; and of the light that is none
_FREE, _DARK = 98, 25
#: light below so many times its chance is none; from 1 + that many all of it
_CHANCES, _UNSURE = 2, 0.8
#: how much the mean counts for the gain beside the quantiles
_MEAN = 0.22


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
    """What lies over all of them.

    How often each number stands at a place is the art's own, times the gain, plus the light there; so is the
    mean. What could be chance (told by leaving out a few pictures at a time) is left out, so that where
    nothing lies over the art, nothing is found. One light is one colour.
    """
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
    terms = _terms(mean.shape[0], mean.shape[1], len(stack))
    parts = [np.arange(len(stack)) % min(_PARTS, len(stack)) != part for part in range(min(_PARTS, len(stack)))]
    gain, light = _by_numbers(stack, art, terms, parts)
    means = np.stack([mean, *(stack[part].mean(axis=0) for part in parts)])
    surfaces = np.log(np.maximum((means - light[..., None]).mean(axis=-1), 1e-3))[:, art]
    alone = terms @ _sure(np.linalg.pinv(terms[art]) @ surfaces.T)
    both = [each - each[art].mean() for each in (np.log(gain), alone)]
    gain = np.exp((1 - _MEAN) * both[0] + _MEAN * both[1])
    gain = np.minimum(gain / _free(gain[art], light[art]), 1.0)
    offset = light[..., None] * _colour(means[:, art], gain[art], light[art])
    gain = np.where(frame, 0, gain)
    offset = np.where(frame[..., None], mean, offset)
    return Shading(gain[..., None].astype(np.float32), offset.astype(np.float32), alpha, len(pictures))


def _by_numbers(stack: Numbers, art: Flags, terms: Numbers, parts: Sequence[Flags]) -> tuple[Numbers, Numbers]:
    """Gain and light (height, width) by the quantiles of all pictures' numbers at each place of the art."""
    rows, columns = np.nonzero(art)
    places = np.s_[:: max(len(rows) // _PLACES, 1)]
    values, here = stack[:, rows[places], columns[places]], terms[rows[places], columns[places]]
    whole = _quantiles(values)
    inverse = np.asarray(np.linalg.pinv(here), np.float64)
    found = [_fitted(whole, here, inverse)]
    found += [_fitted(_quantiles(values[part]), here, inverse) for part in parts]
    gains, lights = (np.stack([each[which] for each in found], axis=-1) for which in (0, 1))
    offsets = here @ lights[:, 1:]
    offsets = offsets - np.percentile(offsets, _DARK, axis=0)
    chance = np.sqrt((len(parts) - 1) * offsets.var(axis=1)).mean()
    shares = [_share(each) for each in (gains, lights)]
    gain, light = _fitted(whole, here, inverse, shares)
    gain, light = np.exp(terms @ gain), terms @ light
    gain = gain / _free(gain[art], light[art])
    light = light - gain * np.percentile((light / gain)[art], _DARK)
    return gain, np.maximum(light, 0) * np.clip(light / max(_CHANCES * chance, 1e-6) - _UNSURE, 0, 1)


def _quantiles(values: Numbers) -> Numbers:
    """(places, quantiles) of (pictures, places, 3)."""
    flat = np.sort(values.transpose(1, 0, 2).reshape(values.shape[1], -1), axis=1)
    at = _QUANTILES * (flat.shape[1] - 1)
    below = np.floor(at).astype(int)
    part = at - below
    return np.asarray(flat[:, below] * (1 - part) + flat[:, np.minimum(below + 1, flat.shape[1] - 1)] * part)


def _fitted(
    quantiles: Numbers, terms: Numbers, inverse: Numbers, shares: Sequence[Numbers] | None = None
) -> tuple[Numbers, Numbers]:
    """Weights of the terms (places, terms) for the logarithm of the gain and for the light; ``inverse``: theirs.

    A line at each place through the quantiles of the art, by generalised least squares with the covariance that
    quantiles have (F. Mosteller, "On some useful inefficient statistics", 1946; W. Lloyd, "Least-squares estimation
    of location and scale parameters using order statistics", 1952; both from memory). What the art's own are is
    known better with each round.
    """
    gain, light = np.ones(len(terms)), np.zeros(len(terms))
    for _ in range(_ROUNDS):
        usual = ((quantiles - light[:, None]) / gain[:, None]).mean(axis=0)
        rising = np.maximum(np.gradient(usual, _QUANTILES), 0.02)
        lower = np.minimum.outer(_QUANTILES, _QUANTILES)
        spread = lower * (1 - np.maximum.outer(_QUANTILES, _QUANTILES)) * np.outer(rising, rising)
        line = np.stack([usual, np.ones_like(usual)], axis=1)
        weights = np.linalg.inv(spread + np.eye(len(usual)) * 1e-5)
        found = quantiles @ (np.linalg.pinv(line.T @ weights @ line) @ line.T @ weights).T
        logs, lights = inverse @ np.log(np.maximum(found[:, 0], 0.05)), inverse @ found[:, 1]
        if shares is not None:
            logs, lights = logs * shares[0], lights * shares[1]
        gain, light = np.exp(terms @ logs), terms @ lights
        gain = gain / _free(gain, light)
        light = light - gain * np.percentile(light / gain, _DARK)
    return logs, lights


def _free(gain: Numbers, light: Numbers) -> float:
    """The gain where there is no shadow: a light that is laid over hides as much of the art as it adds."""
    return float(np.percentile(gain / np.maximum(1 - light, 0.05), _FREE))


def _share(weights: Numbers) -> Numbers:
    """How much of each weight is no chance, of weights (terms, 1 + parts): of all pictures, and without each part.

    By the jackknife's variance (J. Tukey, 1958; from memory).
    """
    parts = weights.shape[1] - 1
    chance = (parts - 1) * weights[:, 1:].var(axis=1)
    share = np.clip(1 - _DOUBT * chance / np.maximum(weights[:, 0] ** 2, 1e-12), 0, 1)
    share[0] = 1
    return np.asarray(share)


def _sure(weights: Numbers) -> Numbers:
    return np.asarray(weights[:, 0] * _share(weights))


def _colour(means: Numbers, gain: Numbers, light: Numbers) -> Numbers:
    """The light's colour, 1 in the mean of red, green and blue; white where another could be chance.

    ``means`` (1 + parts, places, 3): of all pictures, and without each part.
    """
    if not light.any():
        return np.ones(3)
    solve = np.linalg.pinv(np.stack([gain, light], axis=1))
    found = np.einsum("kp,npc->cnk", solve, means)[..., 1]
    found = found / np.maximum(found.mean(axis=0), 1e-3) - 1
    share = _share(np.concatenate([np.ones((1, found.shape[1])), found]))[1:]
    return np.asarray(np.clip(1 + found[:, 0] * share, 0, 2))


def _terms(height: int, width: int, many: int) -> Numbers:
    """Smooth surfaces (height, width, terms): powers of x, y by Legendre's polynomials; of few siblings stiff."""
    rows, columns = np.mgrid[-1 : 1 : complex(0, height), -1 : 1 : complex(0, width)]
    power = _POWER if many >= 24 else 4 if many >= 12 else 2
    basis = np.polynomial.legendre.Legendre.basis
    return np.stack(
        [basis(i)(rows) * basis(j)(columns) for i in range(power + 1) for j in range(power + 1 - i)], axis=-1
    )


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
