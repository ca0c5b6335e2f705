"""Textures that appear somewhere in a screenshot: smaller, turned, lit, in perspective."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor

import cv2
import numpy as np

from brae.core.find.features import Features
from brae.core.find.looks import Array, Rgba, resized
from brae.core.find.matches import SIDE, Match, Proposed
from brae.core.find.pictures import Pictures
from brae.core.find.windows import FINE, MANY, MOVED, Seen, likely, scaled, settled

#: points of a screenshot, and the side to which smaller ones are enlarged
_POINTS, _SMALLEST = 1500, 900
#: neighbours of a point that vote, and pictures whose votes are looked at
_NEIGHBOURS, _AGAIN = 12, 40
#: votes that a placing needs, and how far off (in pixels of the screenshot) one of them may be
_VOTES, _OFF = 4, 5.0
#: pixels that a texture covers at least
_AREA = 300
#: inliers that leave no doubt
_SURE = 20
#: how much votes count beside the areas' likeness, and how much of a texture is to be seen to be inside
_WEIGHT, _WITHIN = 0.38, 0.6
#: the side from which a query may be a screenshot; how much an area may change by being moved about; what a
#: likeness elsewhere takes away
WIDE, _GROWN, _ELSEWHERE = 160, 2.5, 0.3
#: windows that are then moved about finely; of very many pictures coarsely, and finely
_SETTLED, _MOVED_OF_MANY, _SETTLED_OF_MANY = 150, 500, 80
#: the grey behind clear pixels
_BEHIND = 128.0
_UNIT = np.array([[0, 0], [1, 0], [1, 1], [0, 1]], np.float32)
_BACK = cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP
#: signs that are compared at once
_AT_ONCE = 20_000


def scenes(pictures: Pictures, query: Rgba) -> tuple[list[Match], list[Proposed]]:
    """Pictures that appear inside a query (uint8, height, width, 4), the best first; and those it is a part of."""
    scene = scaled(query)
    height, width = query.shape[:2]
    side = max(height, width, min(_SMALLEST, 3 * max(height, width)))
    with ThreadPoolExecutor(1) as pool:
        # OpenCV looks for points on one core only, while windows are cut.
        points = pool.submit(Features.of, query, side=side, most=_POINTS, contrast=0.015)
        windows = likely(pictures, scene) if max(height, width) >= WIDE else {}
        places, parts = _by_points(pictures, query, windows, points.result())
    scale = np.array([scene.shape[1] / width, scene.shape[0] / height])
    every = [
        (score - _ELSEWHERE * seen.elsewhere, number, corners.astype(np.float64))
        for number, seen in windows.items()
        for score, corners in zip(seen.scores.tolist(), seen.corners, strict=True)
    ]
    every.sort(key=lambda one: -one[0])
    # Moved about coarsely first: where a window lies askew its score says little.
    moves, stays = (MOVED, _SETTLED) if len(pictures) <= MANY else (_MOVED_OF_MANY, _SETTLED_OF_MANY)
    starts = [(number, corners) for _, number, corners in every[:moves]]
    moved = zip(starts, settled(pictures, scene, starts, FINE // 2), strict=True)
    best = sorted(((score, number, corners) for (number, _), (score, corners) in moved), key=lambda one: -one[0])
    starts = [(number, corners) for _, number, corners in best[:stays]]
    starts += [(number, _of_box(pictures, number, corners * scale)) for number, (corners, _) in places.items()]
    found: dict[int, Match] = {}
    for (number, start), (score, corners) in zip(starts, settled(pictures, scene, starts), strict=True):
        shape = corners.astype(np.float32)
        grown = abs(cv2.contourArea(shape)) / max(abs(cv2.contourArea(start.astype(np.float32))), 1)
        if not cv2.isContourConvex(shape) or not 1 / _GROWN < grown < _GROWN:
            continue
        other = windows[number].elsewhere if number in windows else 0.0
        agreeing = places[number][1] if number in places else 0
        score += _WEIGHT * min(1.0, agreeing / _SURE) - _ELSEWHERE * other
        score = float(np.clip(score, 0, 1))
        if number not in found or score > found[number].score:
            whole = _of_whole(pictures, number, corners)
            place = tuple((float(x), float(y)) for x, y in whole / scene.shape[1::-1])
            found[number] = Match(number, score, "inside", place)
    return sorted(found.values(), key=lambda match: -match.score), parts


def _of_box(pictures: Pictures, number: int, corners: Array) -> Array:
    """Where the part of a picture that is seen (its box) lies, of where all of it lies (4, 2)."""
    return _carried(_UNIT, corners, _sides_of(pictures, number))


def _of_whole(pictures: Pictures, number: int, corners: Array) -> Array:
    """Where all of a picture lies, of where the part of it that is seen lies (4, 2)."""
    return _carried(_sides_of(pictures, number), corners, _UNIT)


def _sides_of(pictures: Pictures, number: int) -> Array:
    left, top, right, bottom = pictures.boxes[number]
    return np.array([[left, top], [right, top], [right, bottom], [left, bottom]], np.float32)


def _carried(own: Array, corners: Array, other: Array) -> Array:
    """Where a perspective that puts one quadrangle at ``corners`` puts another one."""
    if own is other or (own == other).all():
        return corners
    turn = cv2.getPerspectiveTransform(own, corners.astype(np.float32))
    return np.asarray(cv2.perspectiveTransform(other[None], turn)[0], np.float64)


def _by_points(
    pictures: Pictures, query: Rgba, windows: Mapping[int, Seen], shown: Features
) -> tuple[dict[int, tuple[Array, int]], list[Proposed]]:
    """Where points of pictures are found again: corners in pixels, and how many; and what a query is part of."""
    placed: dict[int, tuple[Array, int]] = {}
    parts: list[Proposed] = []
    some: Sequence[int] = range(len(pictures))
    if len(pictures) > MANY:
        some = sorted(windows)
    owners, signs = pictures.signs(some)
    if not len(owners) or len(shown) < _VOTES:
        return placed, parts
    height, width = query.shape[:2]
    points = shown.points * np.array([width, height], np.float32)
    places, weights = _nearest(shown.signs, signs)
    votes = np.zeros(len(pictures))
    np.add.at(votes, owners[places], weights)
    firsts = np.searchsorted(owners, np.arange(len(pictures)))
    for number in np.argsort(-votes)[:_AGAIN].tolist():
        of_query, of_neighbour = np.nonzero(owners[places] == number)
        if len(of_query) < _VOTES:
            continue
        mine = pictures.features[number].points[places[of_query, of_neighbour] - firsts[number]]
        found = _placed(mine, points[of_query])
        if found is None:
            continue
        turn, inliers = found
        corners = _turned(turn)
        area = abs(cv2.contourArea(corners))
        if not cv2.isContourConvex(corners) or area < _AREA:
            continue
        shared = cv2.intersectConvexConvex(
            corners, np.array([[0, 0], [width, 0], [width, height], [0, height]], np.float32)
        )[0]
        if shared >= _WITHIN * area:
            placed[number] = corners.astype(np.float64), inliers
            continue
        # Most of it lies outside: what is looked for is a part of it.
        own = pictures.kept[number].picture().astype(np.float32)
        alpha = own[..., 3:] / 255
        flat = own[..., :3] * alpha + _BEHIND * (1 - alpha)
        back = np.linalg.inv(turn) @ np.diag([width, height, 1.0])
        place = tuple((float(x), float(y)) for x, y in _turned(back))
        part = _taken(flat, np.diag([own.shape[1], own.shape[0], 1.0]) @ back)
        parts.append(
            Proposed(
                Match(number, 0.98 - _WEIGHT, "part", place),
                part,
                resized(query[..., :3].astype(np.float32), SIDE, SIDE),
                _WEIGHT * min(1.0, inliers / _SURE),
            )
        )
    return placed, parts


def _turned(turn: Array) -> Array:
    """Where the corners of a unit square come to lie."""
    return np.asarray(cv2.perspectiveTransform(_UNIT[None], turn)[0])


def _taken(picture: Array, turn: Array) -> Array:
    """What lies in a picture where ``turn`` puts the unit square, as a picture of SIDE x SIDE."""
    return np.asarray(
        cv2.warpPerspective(picture, turn @ np.diag([1 / SIDE, 1 / SIDE, 1.0]), (SIDE, SIDE), flags=_BACK)
    )


def _nearest(these: Array, those: Array) -> tuple[Array, Array]:
    """For each of ``these`` signs the places of its nearest ones, and how much nearer than the last they are."""
    from brae.core.find import kernels

    query = these.astype(np.float32) / 510
    scores = np.full((len(query), _NEIGHBOURS), -1.0, np.float32)
    places = np.zeros((len(query), _NEIGHBOURS), np.int64)
    for start in range(0, len(those), _AT_ONCE):
        found = query @ (those[start : start + _AT_ONCE].astype(np.float32) / 510).T
        kernels.nearest(found, start, scores, places)
    return places, scores - scores.min(1, keepdims=True)


def _placed(mine: Array, its: Array) -> tuple[Array, int] | None:
    """How a picture (points as shares of its sides) lies in a query (points in pixels); how many votes agree."""
    found, agree = cv2.estimateAffine2D(mine, its, ransacReprojThreshold=_OFF, maxIters=500)
    if found is None or (inliers := _points(mine, its, agree)) < _VOTES:
        return None
    turn = np.vstack([found, [0, 0, 1]])
    if inliers >= 2 * _VOTES:
        # With enough of them the perspective is told as well, by those that the affine turn nearly places.
        away = np.linalg.norm(mine @ found[:, :2].T + found[:, 2] - its, axis=1)
        near = away < 4 * _OFF
        exact, better = cv2.findHomography(mine[near], its[near], cv2.RANSAC, _OFF * 0.8, maxIters=200)
        if exact is not None and (agreeing := _points(mine[near], its[near], better)) >= inliers:
            turn, inliers = exact, agreeing
    return turn, inliers


def _points(mine: Array, its: Array, agree: Array) -> int:
    """How many points agree; one that several others take for their own counts once."""
    chosen = agree.ravel().astype(bool)
    return min(len(np.unique(points[chosen], axis=0)) for points in (mine, its))
