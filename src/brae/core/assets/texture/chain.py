"""What a texture's own mip levels were made with: told by making the second level in every way there is.

Common practice, no source.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cache
from typing import get_args

import numpy as np

from brae.core.assets.texture.formats import Picture, shown
from brae.core.assets.texture.mips import Content, Filter, MipRule, make_levels, taps

#: of larger levels a part of so many pixels each way is looked at
_PART = 256
#: pixels at its rim that filters reach over
_RIM = 8
#: levels of fewer pixels each way tell nothing
_LEAST = 16
#: another rule has to explain the level by so much better than the usual one
_BETTER = 0.997


@dataclass(frozen=True)
class Explained:
    """A rule, and how clear it is: 0 no other explains the level worse, 1 all others do by far."""

    rule: MipRule
    sure: float


def explain(levels: Sequence[Picture], content: Content) -> Explained:
    """The filter, and whether light or stored numbers were averaged, that make each level of the one before.

    Where nothing tells, as in a flat picture, it is what Brae uses by itself.
    """
    usual = MipRule(content)
    lights = (True, False) if usual.as_light else (True,)
    rules = [replace(usual, filter=one, linear=light) for light in lights for one in get_args(Filter)]
    found: dict[MipRule, float] = {}
    for first, second in itertools.pairwise(levels):
        halved = second.shape[0] * 2 == first.shape[0] and second.shape[1] * 2 == first.shape[1]
        if not halved or min(second.shape[:2]) < _LEAST:
            break
        large, small = _part(shown(first), shown(second))
        away = {rule: _away(make_levels(large, 2, rule)[1], small) for rule in rules}
        for rule, one in away.items():
            found[rule] = found.get(rule, 0.0) + one
    if not found:
        return Explained(usual, 0.0)
    # What was lost when the first level was stored goes into what is made of it, the less the more a filter blurs;
    # the second level has a loss of its own. Without this blurring filters would be taken for sharp ones.
    least = min(found, key=lambda rule: found[rule])
    loss = found[least] / (1 + _passed(least.filter))
    found = {rule: away - loss * (_passed(rule.filter) - _passed(least.filter)) for rule, away in found.items()}
    best = min(found, key=lambda rule: found[rule])
    if found[best] > _BETTER * found[usual]:
        best = usual
    others = min(away for rule, away in found.items() if rule != best)
    return Explained(best, float(np.clip(1 - found[best] / others, 0, 1)) if others > 1e-6 else 0.0)


@cache
def _passed(filter_: Filter) -> float:
    """The part of the power of noise that is left when sides are halved."""
    _, weights = taps(64, 32, filter_, False)
    return float((weights[16] ** 2).sum() ** 2)


def _part(first: Picture, second: Picture) -> tuple[Picture, Picture]:
    """The same part of two levels of 8 bits, from their middle."""
    rows, columns = (min(side, _PART // 2) for side in second.shape[:2])
    top, left = (second.shape[0] - rows) // 2, (second.shape[1] - columns) // 2
    large = first[2 * top : 2 * (top + rows), 2 * left : 2 * (left + columns)]
    return np.ascontiguousarray(large), second[top : top + rows, left : left + columns]


def _away(made: Picture, own: Picture) -> float:
    """How far two levels lie apart (mean square) where something is seen, without the rim."""
    inner = slice(_RIM // 2, -_RIM // 2)
    one, other = (picture[inner, inner].astype(np.float32) for picture in (made, own))
    seen = np.maximum(one[..., 3:], other[..., 3:]) / 255
    squares = (one - other) ** 2
    return float((squares[..., :3] * seen).mean() + squares[..., 3].mean() / 3)
