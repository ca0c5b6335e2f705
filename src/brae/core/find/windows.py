"""Every window of a screenshot beside every picture, at one gain: small flat art has no corners for points.

Windows of several sizes, proportions and turns are made as small as the patterns (8 x 8), so that all of one size
are one product of matrices. What is likely is then moved about, at 24 x 24, until it explains best what lies there.
"""

from __future__ import annotations

import heapq
import os
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field

import cv2
import numpy as np

from brae.core.find.looks import FLAT, Array, Rgb, resized
from brae.core.find.pictures import COARSE, Pictures

#: the longer side at which a screenshot is looked at
LONGEST = 640
#: pixels (there) of the smallest window's side, the steps in size, and the share of the scene of the largest
_SMALLEST, _STEP, _LARGEST = 15.0, 1.26, 0.8
#: proportions and turns (radians) of windows
_RATIOS, _TURNS = (0.5, 0.7, 1.0, 1.4, 2.0), (0.0, -0.26, 0.26)
#: side at which what is likely is moved about, and how many windows of a picture are
FINE, _STARTS = 24, 6
#: pictures beyond which most are left out at a first look: at their quarters, unturned
MANY, _STAY, _ROUGH = 1500, 600, 1.6
#: pixels of the smallest window's side in such a first look, and in the second one
_ROUGH_SMALLEST, _SMALLEST_OF_MANY = 24.0, 19.0
#: how far a second window is to lie from the first, in sizes of it
_APART = 0.7
#: products that are made at once, and of at least so many windows; patterns that a thread moves
_PRODUCTS, _FEWEST, _PIECES = 8_000_000, 64, 16


@dataclass
class Seen:
    """Where a picture is likely seen: how well its best window is explained, and one elsewhere."""

    score: float
    elsewhere: float
    #: the best windows: how well each is explained, and its corners (4, 2) in pixels of the scene
    starts: list[tuple[float, Array]] = field(default_factory=list)


def scaled(query: Array) -> Rgb:
    """A screenshot (height, width, 3 or 4) as it is looked at: float32 (height, width, 3)."""
    rgb = query[..., :3].astype(np.float32)
    longer = max(rgb.shape[:2])
    if longer <= LONGEST:
        return rgb
    return resized(rgb, *(max(1, round(side * LONGEST / longer)) for side in rgb.shape[1::-1]))


def likely(pictures: Pictures, scene: Rgb) -> dict[int, Seen]:
    """The pictures by number, with the windows of a scene that each explains best."""
    numbers = np.flatnonzero(pictures.spreads > 0)
    smallest = _SMALLEST
    if len(numbers) > MANY:
        rough = _best(pictures, scene, numbers, _ROUGH_SMALLEST, rough=True)
        numbers = np.array(sorted(heapq.nlargest(_STAY, rough, key=lambda one: rough[one].score)), np.int64)
        smallest = _SMALLEST_OF_MANY
    return _best(pictures, scene, numbers, smallest)


def _best(
    pictures: Pictures, scene: Rgb, numbers: Array, smallest: float, *, rough: bool = False
) -> dict[int, Seen]:
    found: dict[int, Seen] = {}
    ratios = np.abs(pictures.shapes[numbers, None] - np.log(np.array(_RATIOS, np.float32))).argmin(1)
    solid = pictures.weights[numbers].min(1) > 0.98
    turned = [_turned(scene, turn) for turn in ((0.0,) if rough else _TURNS)]
    for kind, ratio in enumerate(_RATIOS):
        if not (ratios == kind).any():
            continue
        windows = _windows(turned, scene.shape[1::-1], ratio, smallest, rough=rough)
        for group in (numbers[(ratios == kind) & solid], numbers[(ratios == kind) & ~solid]):
            if len(group) and windows:
                found |= _of_group(pictures, windows, group, rough=rough)
    return found


def _of_group(pictures: Pictures, windows: Sequence[_Windows], group: Array, *, rough: bool) -> dict[int, Seen]:
    """The best windows of some pictures of one proportion, all of them solid or none."""
    from brae.core.find import kernels

    side = COARSE // 2 if rough else COARSE
    weights = (pictures.rough_weights if rough else pictures.weights)[group]
    colours = (pictures.rough_colours if rough else pictures.colours)[group]
    area = weights.sum(1)
    energy = (colours**2 / np.maximum(np.repeat(weights, 3, 1), 1e-3)).sum(1)
    means = colours.reshape(len(group), side * side, 3).sum(1)
    spread = np.maximum(energy - (means**2).sum(1) / area, 1e-3)
    solid = bool(weights.min() > 0.98)
    # Sums over the pixels of each colour, as products of matrices too.
    three = [
        np.ascontiguousarray((weights[..., None] * (np.arange(3) == one)).reshape(len(group), -1))
        for one in range(3)
    ]
    every = np.repeat(weights, 3, 1)
    # One room for all products: memory that is new each time takes as long as what is done with it.
    at_once = max(_FEWEST, min(_PRODUCTS // len(group), max(len(window.shown) for window in windows)))
    room = np.empty(at_once * len(group), np.float32)
    scores = np.empty((len(windows), len(group)), np.float32)
    corners = np.empty((len(windows), len(group), 4, 2), np.float32)
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        for number, window in enumerate(windows):
            best, at = scores[number], np.zeros(len(group), np.int64)
            best[:] = -9
            for start in range(0, len(window.shown), at_once):
                here = slice(start, start + at_once)
                some = window.shown[here]
                if solid:
                    sums, powers = window.sums[here].T[:, None], window.powers[here][None]
                else:
                    sums, powers = np.stack([one @ some.T for one in three]), every @ (some**2).T
                score, place = np.empty(len(group), np.float32), np.zeros(len(group), np.int64)
                dots = np.matmul(colours, some.T, out=room[: len(group) * len(some)].reshape(len(group), -1))
                sums = np.ascontiguousarray(sums)

                def tell(rows: slice, dots=dots, sums=sums, powers=powers, score=score, place=place) -> None:  # type: ignore[no-untyped-def]
                    of = slice(None) if solid else rows
                    kernels.best_windows(
                        dots[rows], sums[:, of], powers[of], area[rows], energy[rows], spread[rows],
                        np.float32(3 * FLAT * FLAT), score[rows], place[rows],
                    )  # fmt: skip

                share = -(-len(group) // (os.cpu_count() or 1))
                list(pool.map(tell, (slice(at, at + share) for at in range(0, len(group), share))))
                better = score > best
                best[better], at[better] = score[better], place[better] + start
            corners[number] = window.corners[at]
    if rough:
        return {
            number: Seen(score, 0.0) for number, score in zip(group.tolist(), scores.max(0).tolist(), strict=True)
        }
    return {int(number): _seen(scores[:, place], corners[:, place]) for place, number in enumerate(group)}


def _seen(scores: Array, corners: Array) -> Seen:
    """Of the best windows of each size and turn those to begin with, and the best that is another place."""
    order = np.argsort(-scores)[:_STARTS]
    centres = (corners[:, 0] + corners[:, 2]) / 2
    first = corners[order[0]]
    size = np.sqrt(np.linalg.norm(first[1] - first[0]) * np.linalg.norm(first[3] - first[0]))
    away = np.linalg.norm(centres - centres[order[0]], axis=1) > _APART * size
    elsewhere = float(scores[away].max()) if away.any() else 0.0
    return Seen(
        float(scores[order[0]]), elsewhere, [(float(scores[one]), corners[one].astype(np.float64)) for one in order]
    )


@dataclass(frozen=True)
class _Windows:
    """Windows of one size and turn: pixels (n, side x side x 3), corners (n, 4, 2), sums of colours, of squares."""

    shown: Array
    corners: Array
    sums: Array
    powers: Array


def _windows(
    scenes: Sequence[tuple[Rgb, Array]], limits: tuple[int, ...], ratio: float, smallest: float, *, rough: bool
) -> list[_Windows]:
    """Windows of one proportion, in all sizes; ``scenes``: one in all turns, ``limits``: its width and height."""
    side = COARSE // 2 if rough else COARSE
    tasks = []
    for turned, back in scenes:
        size = smallest
        while size <= _LARGEST * min(limits):
            across = round(turned.shape[1] * side / (size * np.sqrt(ratio)))
            down = round(turned.shape[0] * side / (size / np.sqrt(ratio)))
            if min(across, down) >= side:
                tasks.append((turned, back, across, down))
            size *= _ROUGH if rough else _STEP

    def cut(task: tuple[Rgb, Array, int, int]) -> _Windows:
        return _cut(*task, side, limits, 1 if rough else 2)

    with ThreadPoolExecutor(os.cpu_count()) as pool:
        return [one for one in pool.map(cut, tasks) if len(one.shown)]


def _cut(
    turned: Rgb, back: Array, across: int, down: int, side: int, limits: tuple[int, ...], step: int
) -> _Windows:
    """All windows of a scene made so small that each has ``side`` pixels, but those that are flat or outside."""
    from brae.core.find import kernels

    scale = np.array([turned.shape[1] / across, turned.shape[0] / down], np.float32)
    small = np.ascontiguousarray(resized(turned, across, down))
    # Sums from running ones, and nothing is copied of what is left out: cutting takes longest otherwise.
    sums, powers = (
        cv2.boxFilter(one, -1, (side, side), anchor=(0, 0), normalize=False)[::step, ::step]
        for one in (small, (small * small).sum(-1))
    )
    down, across = (down - side) // step + 1, (across - side) // step + 1
    sums, powers = sums[:down, :across], powers[:down, :across]
    rows, columns = np.mgrid[:down, :across] * step
    middle = (np.stack([columns, rows], -1) + side / 2) * scale @ back[:, :2].T + back[:, 2]
    pixels = side * side
    varies = powers - (sums * sums).sum(-1) / pixels > 3 * FLAT * FLAT * pixels
    there = ((middle > 0) & (middle < limits)).all(-1) & varies
    square = np.array([[0, 0], [side, 0], [side, side], [0, side]], np.float32)
    corners = (np.stack([columns[there], rows[there]], 1)[:, None] + square) * scale
    corners = (corners @ back[:, :2].T + back[:, 2]).astype(np.float32)
    # By a kernel: NumPy would let no other thread cut meanwhile.
    shown = np.empty((len(corners), 3 * pixels), np.float32)
    kernels.cut(small.reshape(len(small), -1), np.stack([rows[there], columns[there]], 1), side, shown)
    return _Windows(shown, corners, np.ascontiguousarray(sums[there]), np.ascontiguousarray(powers[there]))


def _turned(scene: Rgb, turn: float) -> tuple[Rgb, Array]:
    """A scene turned about its middle, all of it in sight, and the way back (2, 3)."""
    if not turn:
        return scene, np.eye(2, 3, dtype=np.float32)
    height, width = scene.shape[:2]
    cosine, sine = np.cos(turn), np.sin(turn)
    wide, tall = int(width * cosine + height * abs(sine)), int(width * abs(sine) + height * cosine)
    way = np.array([[cosine, sine, 0], [-sine, cosine, 0]])
    way[:, 2] = np.array([wide, tall]) / 2 - way[:, :2] @ np.array([width, height]) / 2
    turned = cv2.warpAffine(scene, way, (wide, tall), borderMode=cv2.BORDER_REPLICATE)
    return np.asarray(turned), np.asarray(cv2.invertAffineTransform(way), np.float32)


def settled(
    pictures: Pictures, scene: Rgb, starts: Sequence[tuple[int, Array]], side: int = FINE
) -> list[tuple[float, Array]]:
    """For pictures and corners to begin with: how well each explains the scene where it fits best, and where.

    ``side``: of the patterns that are moved about, in pixels.
    """
    from brae.core.find import kernels

    levels: dict[int, list[int]] = {}
    for place, (_, corners) in enumerate(starts):
        size = np.sqrt(abs(cv2.contourArea(corners.astype(np.float32))))
        levels.setdefault(max(0, round(2 * np.log2(max(size / side, 1)))), []).append(place)
    known: dict[int, Array] = {}
    found: list[tuple[float, Array]] = [(-9.0, corners) for _, corners in starts]
    for level, places in levels.items():
        share = 2.0 ** (-level / 2)
        shown = scene
        if level:
            shown = resized(scene, *(max(2, round(side * share)) for side in scene.shape[1::-1]))
        scale = np.array([shown.shape[1] / scene.shape[1], shown.shape[0] / scene.shape[0]])
        for place in places:
            number = starts[place][0]
            if number not in known:
                known[number] = pictures.kept[number].pattern(side)
        patterns = np.stack([known[starts[place][0]] for place in places])
        moved = np.stack([(starts[place][1] * scale).reshape(8) for place in places]).astype(np.float64)
        scores, fine = np.empty(len(places)), np.ascontiguousarray(shown, np.float32)

        def move(part: slice, patterns=patterns, fine=fine, moved=moved, scores=scores) -> None:  # type: ignore[no-untyped-def]
            kernels.settle(patterns[part], fine, moved[part], scores[part])

        with ThreadPoolExecutor(os.cpu_count()) as pool:
            list(pool.map(move, (slice(at, at + _PIECES) for at in range(0, len(places), _PIECES))))
        for place, score, corners in zip(places, scores.tolist(), moved, strict=True):
            found[place] = score, corners.reshape(4, 2) / scale
    return found
