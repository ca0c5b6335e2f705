"""Many pictures as very small patterns, side by side, to be compared with every window of a screenshot."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property

import cv2
import numpy as np

from brae.core.find.looks import FLAT, Array

#: the side at which every picture is compared with every window of a screenshot
COARSE = 8
#: weight of a pixel from which it counts in full
_SOLID = 0.98
#: the share of a picture that is to be seen
_LEAST = 0.1
#: masks of the first look at very many pictures, and the rounds in which they are found (k-means, Lloyd 1982)
_MASKS, _ROUNDS = 192, 8


@dataclass(frozen=True)
class Coarse:
    """Patterns of many pictures. Those that are seen through one mask share what is worked out from it.

    ``masks``: float32 (masks, pixels), weights from 0 to 1. ``which``: int64 (n), the mask of each picture.
    ``colours``: float32 (n, pixels x 3), times the weights. ``area``, ``energy``, ``spread``: float32 (n), the sums
    of the weights, of the squares of the colours, and of those about their mean.
    """

    masks: Array
    which: Array
    colours: Array
    area: Array
    energy: Array
    spread: Array

    @classmethod
    def of(cls, colours: Array, weights: Array) -> Coarse:
        """Of patterns: colours (n, pixels x 3) times weights (n, pixels)."""
        weights = np.where(weights.min(1, keepdims=True) > _SOLID, np.float32(1), weights)
        masks, which = np.unique(weights, axis=0, return_inverse=True)
        return cls._of(colours, masks, which.ravel())

    @classmethod
    def _of(cls, colours: Array, masks: Array, which: Array) -> Coarse:
        planes = colours.reshape(len(colours), masks.shape[1], 3)
        area = masks.sum(1)[which]
        energy = (planes**2 / np.maximum(masks[which][..., None], 1e-3)).sum((1, 2))
        spread = energy - (planes.sum(1) ** 2).sum(1) / np.maximum(area, 1e-3)
        return cls(masks, which, colours, area, energy, np.maximum(spread, 1e-3))

    @property
    def side(self) -> int:
        """Pixels of a pattern's side."""
        return math.isqrt(self.masks.shape[1])

    @property
    def shows(self) -> Array:
        """Which of the pictures show anything, in more than hardly any of the whole."""
        large = self.area > _LEAST * self.masks.shape[1]
        return np.asarray(large & (self.spread > 3 * FLAT * FLAT * self.area))

    @cached_property
    def rough(self) -> Coarse:
        """The same at half the side, for a first look at very many: what is seen of each is one of a few masks.

        Each mask of its own would be most of the work: as many products as the colours need, and twice more.
        """
        weights, colours = _halved(self.masks, 1)[self.which], _halved(self.colours, 3)
        if len(np.unique(weights, axis=0)) <= _MASKS:
            return Coarse.of(colours, weights)
        masks, which = _few(weights)
        own = weights[..., None]
        planes = colours.reshape(*weights.shape, 3) / np.maximum(own, 1e-3) * masks[which][..., None]
        return Coarse._of(np.ascontiguousarray(planes.reshape(len(planes), -1)), masks, which)


def _few(weights: Array) -> tuple[Array, Array]:
    """As many masks as stand for all of these, and which one is nearest to each."""
    every = np.unique(weights, axis=0)
    chosen = every[np.random.default_rng(0).choice(len(every), _MASKS, replace=False)]
    # All that are solid keep a mask of their own: it is the one that most pictures have.
    chosen[0] = 1
    nearest = ((chosen * chosen).sum(1) - 2 * weights @ chosen.T).argmin(1).astype(np.int32)
    ends = cv2.TERM_CRITERIA_MAX_ITER, _ROUNDS, 0.0
    _, which, masks = cv2.kmeans(weights, _MASKS, nearest, ends, 1, cv2.KMEANS_USE_INITIAL_LABELS)
    return np.asarray(masks), which.ravel().astype(np.int64)


def _halved(flat: Array, planes: int) -> Array:
    """Patterns (n, pixels x planes) at half their sides, each pixel the mean of four."""
    half = math.isqrt(flat.shape[1] // planes) // 2
    parts = flat.reshape(len(flat), half, 2, half, 2, planes).mean((2, 4))
    return np.ascontiguousarray(parts.reshape(len(flat), half * half * planes))
