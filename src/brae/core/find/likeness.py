"""Which of many pictures another one shows: as a whole, as the part that was cut out, or somewhere in it.

Each way proposes some pictures and where; all of them are then compared in the same way, area against area, so that
what comes first is what looks most like it. What was measured stands in docs/decisions/0020-found-by-a-picture.md.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace

import cv2
import numpy as np

from brae.core.find.asking import LARGEST
from brae.core.find.looks import (
    BARE,
    FLAT,
    LOOK,
    WHOLE,
    Array,
    Rgb,
    Rgba,
    fitted,
    guises,
    planes,
    resized,
    units,
    value_of,
)
from brae.core.find.matches import Flip, Match, Proposed, agreement, joined
from brae.core.find.pictures import Pictures, shown_of
from brae.core.find.scenes import WIDE, scenes

#: pictures that are looked at again, as a whole and in part
_AGAIN, _AGAIN_PARTS = 40, 60
#: of which a thread compares so many
_SOME = 10
#: what the largest turn of the hue takes away; a part is mostly cut out as it is
_TURNED, _TURNED_PART = np.float32(0.01), np.float32(0.1)
#: the side at which whole pictures are compared
ALIKE = 32
#: which share of a picture's side a part may be (of the root of its area), coarsely and around that
_SHARES = (0.26, 0.31, 0.36, 0.42, 0.5, 0.6, 0.71, 0.85)
_AROUND = (0.9, 0.95, 1.0, 1.06, 1.12)
#: pixels of a part that say something
_NARROWEST = 4
#: the likeness of a whole picture that needs no further look
_SURE = 0.95
#: the longer side of a screenshot (what some small picture has a part of, by its looks, it mostly has by chance);
#: the likeness of what is somewhere inside, and of a part, from which nothing else is looked for
_SCREEN, _PLACED, _CERTAIN, _LESS, _LEAST = 480, 0.45, 0.93, 0.85, 0.75
_FLIPS: dict[Flip, tuple[slice, slice]] = {
    "": (slice(None), slice(None)),
    "sideways": (slice(None), slice(None, None, -1)),
    "upside down": (slice(None, None, -1), slice(None)),
    "both": (slice(None, None, -1), slice(None, None, -1)),
}


def search(pictures: Pictures, query: Rgba, limit: int = 20) -> list[Match]:
    """The pictures that a query (uint8, height, width, 4) shows, best first; 1 is the score of equal ones."""
    if not len(pictures):
        return []
    height, width = query.shape[:2]
    if max(height, width) > LARGEST:
        scale = LARGEST / max(height, width)
        query = resized(query, max(1, round(width * scale)), max(1, round(height * scale)))
    # Where a query itself says what is clear, what lies under that is not looked for; and a guise in which nothing
    # shows is no picture of anything.
    seen = [guise for guise in guises(query)[:2] if max(value_of(guise).std(), guise.std()) > BARE]
    if not seen:
        return []
    found = _whole(pictures, seen)
    if found and found[0].score >= _SURE:
        return _ranked(found, limit)
    # In what is nearly flat nothing is looked for that it would be a part of, or show somewhere.
    seen = [guise for guise in seen if max(value_of(guise).std(), guise.std()) > FLAT]
    if not seen:
        return _ranked(found, limit)
    if max(query.shape[:2]) < _SCREEN:
        found += _parts(pictures, seen)
        if max((one.score for one in found), default=0.0) < _CERTAIN:
            inside, outside = scenes(pictures, query)
            # What a small area explains counts less than what explains all of it, and in a small picture least.
            less = _LESS if max(query.shape[:2]) >= WIDE else _LEAST
            found += [replace(one, score=one.score * less) for one in inside] + _compared(outside)
        return _ranked(sorted(found, key=lambda match: -match.score), limit)
    inside, outside = scenes(pictures, query)
    if not inside or inside[0].score < _PLACED:
        found += _parts(pictures, seen)
    found += _compared(outside)
    return _ranked([*inside, *sorted(found, key=lambda match: -match.score)], limit)


def _ranked(found: Iterable[Match], limit: int) -> list[Match]:
    """Each picture once, where it comes first; no score is higher than the one before."""
    best: dict[int, Match] = {}
    least = 1.0
    for match in found:
        if match.number not in best and match.score > 0:
            least = min(least, match.score)
            best[match.number] = replace(match, score=least)
    return list(best.values())[:limit]


def _compared(proposed: Iterable[Proposed]) -> list[Match]:
    every = list(proposed)
    if not every:
        return []
    scores = agreement(np.stack([one.mine for one in every]), np.stack([one.its for one in every])).tolist()
    found = [
        replace(one.match, score=one.match.score * score + one.bonus)
        for one, score in zip(every, scores, strict=True)
    ]
    return sorted(found, key=lambda match: -match.score)


# ---- as a whole ---------------------------------------------------------------------------------------------


def _whole(pictures: Pictures, seen: Sequence[Rgb]) -> list[Match]:
    from brae.core.find.recoloured import explained_by

    scores = np.full(len(pictures.owners), -1.0, np.float32)
    for guise in seen:
        small = planes(resized(guise, WHOLE, WHOLE))
        turned = np.stack(
            [units(small[:, rows, columns].reshape(4, -1), BARE) for rows, columns in _FLIPS.values()]
        )
        # (rows, flips, planes): each plane's correlation
        each = np.stack([pictures.wholes[plane] @ turned[:, plane].T for plane in range(4)], axis=-1)
        scored = joined(each)
        best = scored.max(1) - 0.15 * np.abs(pictures.ratios[pictures.owners] - _ratio(guise))
        scores = np.maximum(scores, best)
    first = [number for number, _ in _first(pictures, scores, _AGAIN)]
    if not first:
        return []
    patterns = np.stack([shown_of(pictures.kept[number].picture(), ALIKE) for number in first])
    small = resized(seen[0], ALIKE, ALIKE).astype(np.float32)
    areas = np.stack([small[rows, columns] for rows, columns in _FLIPS.values()])
    explained = np.empty((len(first), len(areas)), np.float32)

    def tell(rows: slice) -> None:
        explained_by(patterns[rows], areas, _TURNED, explained[rows])

    with ThreadPoolExecutor(os.cpu_count()) as pool:
        list(pool.map(tell, (slice(start, start + _SOME) for start in range(0, len(first), _SOME))))
    # As it is stands before what is as alike mirrored.
    explained[:, 1:] -= 0.001
    away = np.minimum(1, np.abs(pictures.ratios[first] - _ratio(seen[0])))
    alike = _correlation(explained.max(1)) - 0.05 * away
    found = []
    for number, score, flip in zip(first, alike.tolist(), explained.argmax(1).tolist(), strict=True):
        score -= _enlarged(seen[0], pictures.kept[number].width, pictures.kept[number].height)
        found.append(Match(number, score, "whole", flip=list(_FLIPS)[flip]))
    return sorted(found, key=lambda match: -match.score)


def _correlation(explained: Array) -> Array:
    """On the scale of correlations, on which other ways are measured; what explains nothing has its place too."""
    return np.asarray(np.where(explained > 0.25, np.sqrt(np.maximum(explained, 0)), 0.5 / (1.25 - explained)))


def _ratio(picture: Rgb) -> float:
    return float(np.log(picture.shape[1] / picture.shape[0]))


def _enlarged(query: Rgb, width: float, height: float) -> float:
    """What speaks against an area of that many pixels: nobody looks for what is enlarged many times."""
    times = np.sqrt(query.shape[0] * query.shape[1] / max(width * height, 1e-6))
    return float(0.12 * max(0.0, abs(np.log2(times)) - 2.2))


def _first(pictures: Pictures, scores: Array, limit: int) -> list[tuple[int, int]]:
    """The pictures whose guises score highest, each with its best row."""
    best: dict[int, int] = {}
    for row in np.argsort(-scores, kind="stable").tolist():
        if len(best) >= limit or scores[row] <= 0:
            break
        best.setdefault(int(pictures.owners[row]), row)
    return list(best.items())


# ---- a part -------------------------------------------------------------------------------------------------


def _parts(pictures: Pictures, seen: Sequence[Rgb]) -> list[Match]:
    from brae.core.find.correlation import LANES, best_patterns
    from brae.core.find.recoloured import explained_by

    query = seen[0] if max(seen[0].shape[:2]) <= 2 * LOOK else fitted(seen[0], 2 * LOOK)
    value = value_of(query)
    scores = np.full(len(pictures.owners), -1.0, np.float32)
    shares = np.zeros(len(pictures.owners), np.float32)

    def correlate(group: tuple[Array, Array]) -> None:
        # Groups share no row, so threads do not meet.
        rows, images = group
        limits = images.shape[1], images.shape[2] // LANES
        patterns = np.zeros((len(_SHARES), *limits), np.float32)
        sizes: list[tuple[int, int]] = []
        its: list[float] = []
        for share in _SHARES:
            width, height = _sides(share, limits, query)
            if width > limits[1] or height > limits[0] or min(width, height) < _NARROWEST:
                continue
            pattern = units(resized(value, width, height).reshape(1, -1)).reshape(height, width)
            if pattern.any():
                patterns[len(sizes), :height, :width] = pattern
                sizes.append((height, width))
                its.append(share)
        if sizes:
            found, best = np.empty((len(images), LANES), np.float32), np.empty((len(images), LANES), np.int64)
            best_patterns(images, patterns, np.array(sizes), np.float32(FLAT), found, best)
            scores[rows], shares[rows] = found.ravel()[: len(rows)], np.array(its)[best.ravel()[: len(rows)]]

    with ThreadPoolExecutor(os.cpu_count()) as pool:
        list(pool.map(correlate, pictures.parts))
    found: list[Match] = []
    patterns: list[Array] = []
    for number, row in _first(pictures, scores, _AGAIN_PARTS):
        own = pictures.guise(row)
        placed = _placed(value_of(own), value, query, float(shares[row]))
        if placed is not None:
            x, y, width, height = placed
            tall, wide = own.shape[:2]
            corners = (x, y), (x + width, y), (x + width, y + height), (x, y + height)
            place = tuple((left / wide, top / tall) for left, top in corners)
            mine = shown_of(pictures.kept[number].picture()[y : y + height, x : x + width], ALIKE)
            one = pictures.kept[number]
            less = _enlarged(seen[0], one.width * width / wide, one.height * height / tall)
            found.append(Match(number, -less, "part", place))
            patterns.append(mine)
    if not found:
        return []
    explained = np.empty((len(found), 1), np.float32)
    explained_by(np.stack(patterns), resized(query, ALIKE, ALIKE)[None].astype(np.float32), _TURNED_PART, explained)
    alike = 0.99 * _correlation(explained[:, 0])
    return [replace(one, score=one.score + score) for one, score in zip(found, alike.tolist(), strict=True)]


def _sides(share: float, size: tuple[int, ...], query: Rgb) -> tuple[int, int]:
    """Width and height of that share (of the root of the area) of a picture, in the query's proportions."""
    root = share * np.sqrt(size[0] * size[1])
    ratio = np.sqrt(query.shape[1] / query.shape[0])
    return round(root * ratio), round(root / ratio)


def _placed(own: Array, value: Array, query: Rgb, share: float) -> tuple[int, int, int, int] | None:
    """Where a query lies in a picture (left, top, width, height), looked for around a share of its sides."""
    best: tuple[float, tuple[int, int, int, int]] | None = None
    squared = own * own
    for around in _AROUND:
        width, height = _sides(share * around, own.shape, query)
        width, height = min(width, own.shape[1]), min(height, own.shape[0])
        if min(width, height) < _NARROWEST:
            continue
        pattern = resized(value, width, height)
        if pattern.std() <= FLAT:
            continue
        scores = cv2.matchTemplate(own, pattern, cv2.TM_CCOEFF_NORMED)
        # Where the picture is flat its correlation is noise.
        mean, power = (cv2.boxFilter(one, -1, (width, height), anchor=(0, 0)) for one in (own, squared))
        spread = (power - mean * mean)[: scores.shape[0], : scores.shape[1]]
        scores = np.where((spread > FLAT * FLAT) & np.isfinite(scores), scores, -1)
        top, left = np.unravel_index(int(scores.argmax()), scores.shape)
        if best is None or scores[top, left] > best[0]:
            best = float(scores[top, left]), (int(left), int(top), width, height)
    return best[1] if best is not None else None
