"""The same picture stored more than once: in another archive, size or format, or hardly changed."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from brae.core.find.looks import resized
from brae.core.find.matches import SIDE, agreement, joined
from brae.core.find.pictures import Pictures

#: how alike pictures are at a first look, and when they are compared, to be copies
_FIRST, _COPY = 0.97, 0.975
#: logarithm by which the proportions may differ
_RATIO = 0.12
#: rows that are compared with all others at once, and pairs that are looked at again for each picture
_AT_ONCE, _NEAREST = 256, 24


@dataclass(frozen=True)
class Copies:
    """Pictures that a person would not tell apart; ``exact`` where all of them are equal once made small."""

    keys: tuple[str, ...]
    exact: bool


def copies_of(pictures: Pictures) -> list[Copies]:
    """The groups of two and more, the largest first; all in one are like its first, not only like the next."""
    count = len(pictures)
    shown = [resized(pictures.guise(row), SIDE, SIDE) for row in pictures.first]
    near: list[list[int]] = [[] for _ in range(count)]
    rows = np.array(pictures.first, np.int64)
    wholes = pictures.wholes[:, rows] if count else pictures.wholes
    for start in range(0, count, _AT_ONCE):
        some = wholes[:, start : start + _AT_ONCE]
        each = np.stack([some[plane] @ wholes[plane].T for plane in range(4)], axis=-1)
        alike = joined(each)
        alike[np.abs(pictures.ratios[start : start + len(alike), None] - pictures.ratios[None]) > _RATIO] = 0
        for number, scores in enumerate(alike, start):
            found = np.flatnonzero(scores >= _FIRST)
            found = found[found > number]
            near[number] = found[np.argsort(-scores[found])][:_NEAREST].tolist()
    taken: set[int] = set()
    groups = []
    for number in range(count):
        if number in taken or not near[number]:
            continue
        others = [other for other in near[number] if other not in taken]
        if not others:
            continue
        scores = agreement(np.stack([shown[number]] * len(others)), np.stack([shown[other] for other in others]))
        same = [other for other, score in zip(others, scores.tolist(), strict=True) if score >= _COPY]
        if same:
            taken.update([number, *same])
            first = pictures.kept[number]
            exact = all(pictures.kept[other].small == first.small for other in same)
            groups.append(Copies(tuple(pictures.keys[one] for one in [number, *same]), exact))
    return sorted(groups, key=lambda group: -len(group.keys))
