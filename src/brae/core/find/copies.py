"""The same picture stored more than once: in another archive, size or format, or hardly changed."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np

from brae.core.find.looks import Rgba, resized
from brae.core.find.matches import SIDE, agreement, joined
from brae.core.find.pictures import Pictures

#: how alike pictures are at a first look, and when they are compared, to be copies
_FIRST, COPY = 0.97, 0.975
#: logarithm by which the proportions may differ
RATIO = 0.12
#: levels of 255 by which some spot of two pictures may differ once compression is smoothed away (standard deviation
#: in pixels of the smaller one)
_SPOT, _SMOOTH = 52.0, 1.0
#: rows that are compared with all others at once
_AT_ONCE = 256


@dataclass(frozen=True)
class Copies:
    """Pictures that a person would not tell apart; ``exact`` where all of them are equal once made small."""

    keys: tuple[str, ...]
    exact: bool


def copies_of(pictures: Pictures) -> list[Copies]:
    """The groups of two and more, the largest first; all in one are like its first, not only like the next."""
    same = _same(pictures)
    firsts = [numbers[0] for numbers in same]
    alike = _alike(pictures, firsts)
    groups = []
    for place, others in enumerate(alike):
        if others is None:
            continue
        numbers = sorted(number for one in [place, *others] for number in same[one])
        if len(numbers) > 1:
            groups.append(Copies(tuple(pictures.keys[number] for number in numbers), not others))
    return sorted(groups, key=lambda group: -len(group.keys))


def shows_the_same(these: Rgba, those: Rgba) -> bool:
    """Whether two pictures differ nowhere, as far as the smaller one's size and compression tell.

    What ``copies_of`` tells is told from small pictures: a stamp with another digit is alike, and no copy.
    """
    width, height = (min(one.shape[axis] for one in (these, those)) for axis in (1, 0))
    flat = []
    for one in (these, those):
        alpha = resized(one[..., 3].astype(np.float32) / 255, width, height)
        colour = resized(one[..., :3] * (one[..., 3:].astype(np.float32) / 255), width, height)
        behind = 128 * (1 - alpha)
        flat.append(cv2.GaussianBlur(colour + behind[..., None], (0, 0), _SMOOTH))
    return bool(np.abs(flat[0] - flat[1]).max() <= _SPOT)


def _same(pictures: Pictures) -> list[list[int]]:
    """The numbers of pictures that are equal once made small, those together; what shows nothing is left out."""
    found: dict[tuple[object, ...], list[int]] = {}
    for number, (row, kept) in enumerate(zip(pictures.first, pictures.kept, strict=True)):
        if pictures.wholes[:, row].any():
            found.setdefault((kept.small_width, kept.small_height, kept.small), []).append(number)
    return list(found.values())


def _alike(pictures: Pictures, numbers: list[int]) -> list[list[int] | None]:
    """For each of some pictures the places of those that are copies of it; None where it is one of another's."""
    rows = np.array([pictures.first[number] for number in numbers], np.int64)
    shown = [resized(pictures.guise(row), SIDE, SIDE) for row in rows.tolist()]
    wholes, ratios = pictures.wholes[:, rows], pictures.ratios[np.array(numbers, np.int64)]
    found: list[list[int] | None] = [[] for _ in numbers]
    taken: set[int] = set()
    for start in range(0, len(numbers), _AT_ONCE):
        some = wholes[:, start : start + _AT_ONCE]
        scores = joined(np.stack([some[plane] @ wholes[plane].T for plane in range(4)], axis=-1))
        scores[np.abs(ratios[start : start + len(scores), None] - ratios[None]) > RATIO] = 0
        for place, likely in enumerate(scores >= _FIRST, start):
            others = [one for one in np.flatnonzero(likely).tolist() if one > place and one not in taken]
            if place in taken:
                found[place] = None
            elif others:
                agree = agreement(np.stack([shown[place]] * len(others)), np.stack([shown[one] for one in others]))
                copies = [one for one, score in zip(others, agree.tolist(), strict=True) if score >= COPY]
                found[place] = copies
                taken.update(copies)
    return found
