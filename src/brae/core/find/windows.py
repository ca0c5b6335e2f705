"""Every window of a screenshot beside every picture, at one gain: small flat art has no corners for points.

Windows of several sizes, proportions and turns are made as small as the patterns (8 x 8), so that all of one size
are one product of matrices. What is likely is then moved about, at 24 x 24, until it explains best what lies there.
"""

from __future__ import annotations

import os
import threading
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cache

import cv2
import numpy as np
from threadpoolctl import ThreadpoolController

from brae.core.find.coarse import Coarse
from brae.core.find.looks import FLAT, Array, Rgb, resized
from brae.core.find.pictures import Pictures

#: the longer side at which a screenshot is looked at
LONGEST = 640
#: pixels (there) of the smallest window's side, the steps in size, and the share of the scene of the largest
_SMALLEST, _STEP, _LARGEST = 15.0, 1.26, 0.8
#: proportions and turns (radians) of windows
_RATIOS, _TURNS = (0.5, 0.7, 1.0, 1.4, 2.0), (0.0, -0.26, 0.26)
#: side at which what is likely is moved about, how many windows are, coarsely, and of each picture at least
FINE, MOVED, _STARTS = 24, 900, 6
#: pictures beyond which windows are compared at 4 x 4, unturned, in larger steps; so many of the pictures stay
MANY, _STAY, _ROUGH = 1500, 400, 1.6
#: pixels of the smallest window's side of so many
_SMALLEST_OF_MANY = 19.0
#: pixels by which a window elsewhere is away from the best one, and what a likeness there takes away from the rank
_APART, _ELSEWHERE = 48.0, 0.5
#: patterns and windows of which a thread makes the products at once (they stay in its cache); patterns it moves
_PATTERNS, _AT_ONCE, _PIECES = 256, 724, 16
#: two searches at once would only take each other's memory and cores
_ALONE = threading.Lock()


@dataclass(frozen=True)
class Seen:
    """Where a picture is likely seen: how well a window elsewhere is explained, and the best windows.

    ``scores``: float32 (n), how well each of these is explained, the best first; ``corners``: float32 (n, 4, 2), in
    pixels of the scene.
    """

    elsewhere: float
    scores: Array
    corners: Array

    @property
    def rank(self) -> float:
        """What is explained as well elsewhere is so simple that it is explained everywhere."""
        return float(self.scores[0]) - _ELSEWHERE * self.elsewhere


@cache
def _blas() -> ThreadpoolController:
    """The libraries behind NumPy's products. Their own threads wait in busy loops, beside ours."""
    return ThreadpoolController()


def scaled(query: Array) -> Rgb:
    """A screenshot (height, width, 3 or 4) as it is looked at: float32 (height, width, 3)."""
    rgb = query[..., :3].astype(np.float32)
    longer = max(rgb.shape[:2])
    if longer <= LONGEST:
        return rgb
    return resized(rgb, *(max(1, round(side * LONGEST / longer)) for side in rgb.shape[1::-1]))


def likely(pictures: Pictures, scene: Rgb) -> dict[int, Seen]:
    """The pictures by number, with the windows of a scene that each explains best."""
    numbers = np.flatnonzero(pictures.coarse.shows)
    many = len(numbers) > MANY
    with _ALONE, _blas().limit(limits=1, user_api="blas"):
        found = _best(pictures, scene, numbers, _STAY if many else len(numbers), rough=many)
    return dict(sorted(found, key=lambda seen: -seen[1].rank)[:_STAY] if many else found)


def _best(pictures: Pictures, scene: Rgb, numbers: Array, most: int, *, rough: bool) -> list[tuple[int, Seen]]:
    """Of each proportion at most so many pictures, the likeliest ones."""
    found: list[tuple[int, Seen]] = []
    coarse = pictures.coarse.rough if rough else pictures.coarse
    ratios = np.abs(pictures.shapes[numbers, None] - np.log(np.array(_RATIOS, np.float32))).argmin(1)
    turned = [_turned(scene, turn) for turn in ((0.0,) if rough else _TURNS)]
    for kind, ratio in enumerate(_RATIOS):
        group = numbers[ratios == kind]
        windows = _windows(turned, scene.shape[1::-1], ratio, coarse.side, rough=rough) if len(group) else []
        if windows:
            # Those seen through one mask one behind the other.
            found += _of_group(coarse, windows, group[np.argsort(coarse.which[group], kind="stable")], most)
    return found


def _of_group(coarse: Coarse, windows: Sequence[_Windows], group: Array, most: int) -> list[tuple[int, Seen]]:
    """The best windows of the likeliest of some pictures of one proportion, given in the order of their masks."""
    from brae.core.find import kernels

    colours, area, energy, spread = (
        one[group] for one in (coarse.colours, coarse.area, coarse.energy, coarse.spread)
    )
    offsets = np.cumsum([0, *(len(window.shown) for window in windows)])
    tiles = []
    for start in range(0, len(group), _PATTERNS):
        rows = slice(start, start + _PATTERNS)
        own, mask = np.unique(coarse.which[group[rows]], return_inverse=True)
        tiles.append((rows, coarse.masks[own], mask))
    scores = np.empty((len(group), len(windows)), np.float32)
    places = np.empty((len(group), len(windows)), np.int64)

    # Each thread has one room for its products: memory that is new each time takes as long as what is done with it.
    rooms = threading.local()

    def tell(number: int) -> None:
        window = windows[number]
        if not hasattr(rooms, "all"):
            rooms.all = np.empty(5 * _PATTERNS * _AT_ONCE, np.float32)
        planes = window.planes()
        found, at = np.empty(len(group), np.float32), np.empty(len(group), np.int64)
        for rows, masks, mask in tiles:
            across = len(window.shown)
            dots, sums = np.split(rooms.all[: (len(mask) + 4 * len(masks)) * across], [len(mask) * across])
            dots, sums = dots.reshape(len(mask), across), sums.reshape(4, len(masks), across)
            np.matmul(colours[rows], window.shown.T, out=dots)
            # Sums over the pixels of each colour, and of the squares, as products of matrices too.
            for plane, out in zip(planes, sums, strict=True):
                np.matmul(masks, plane.T, out=out)
            kernels.best_windows(
                dots, sums[:3], sums[3], mask, area[rows], energy[rows], spread[rows],
                np.float32(3 * FLAT * FLAT), found[rows], at[rows],
            )  # fmt: skip
        scores[:, number], places[:, number] = found, offsets[number] + at

    with ThreadPoolExecutor(os.cpu_count()) as pool:
        list(pool.map(tell, range(len(windows))))
    corners = np.concatenate([window.corners for window in windows])
    centres = (corners[:, 0] + corners[:, 2]) / 2
    best = places[np.arange(len(group)), scores.argmax(1)]
    away = np.linalg.norm(centres[places] - centres[best][:, None], axis=-1) > _APART
    elsewhere = np.where(away, scores, 0).max(1)
    likeliest = np.argsort(_ELSEWHERE * elsewhere - scores.max(1), kind="stable")[:most]
    scores, places = scores[likeliest], places[likeliest]
    first = np.argsort(-scores, axis=1, kind="stable")[:, : max(_STARTS, MOVED // most)]
    scores, places = np.take_along_axis(scores, first, 1), np.take_along_axis(places, first, 1)
    seen = map(Seen, elsewhere[likeliest].tolist(), scores, corners[places])
    return list(zip(group[likeliest].tolist(), seen, strict=True))


@dataclass(frozen=True)
class _Windows:
    """Some windows of one size and turn, as many as are looked at at once.

    ``shown``: (n, side x side x 3). ``corners``: (n, 4, 2).
    """

    shown: Array
    corners: Array

    def planes(self) -> Array:
        """Each colour by itself, and the sums of their squares: (4, n, side x side)."""
        colours = self.shown.reshape(len(self.shown), -1, 3)
        return np.stack([*colours.transpose(2, 0, 1), (colours**2).sum(2)])


def _windows(
    scenes: Sequence[tuple[Rgb, Array]], limits: tuple[int, ...], ratio: float, side: int, *, rough: bool
) -> list[_Windows]:
    """Windows of one proportion, in all sizes; ``scenes``: one in all turns, ``limits``: its width and height."""
    tasks = []
    for turned, back in scenes:
        size = _SMALLEST_OF_MANY if rough else _SMALLEST
        while size <= _LARGEST * min(limits):
            across = round(turned.shape[1] * side / (size * np.sqrt(ratio)))
            down = round(turned.shape[0] * side / (size / np.sqrt(ratio)))
            if min(across, down) >= side:
                tasks.append((turned, back, across, down))
            size *= _ROUGH if rough else _STEP

    def cut(task: tuple[Rgb, Array, int, int]) -> list[_Windows]:
        return _cut(*task, side, limits, 1 if rough else 2)

    with ThreadPoolExecutor(os.cpu_count()) as pool:
        return [one for some in pool.map(cut, tasks) for one in some]


def _cut(
    turned: Rgb, back: Array, across: int, down: int, side: int, limits: tuple[int, ...], step: int
) -> list[_Windows]:
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
    return [
        _Windows(shown[part], corners[part])
        for part in (slice(at, at + _AT_ONCE) for at in range(0, len(corners), _AT_ONCE))
    ]


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
