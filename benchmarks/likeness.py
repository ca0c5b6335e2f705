"""Found by a picture: how often what comes first is right, and how long it takes."""

from __future__ import annotations

import os
import time
from collections.abc import Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import skimage.data
from tests.core.find.photos import changed, cropped, in_a_scene, on_grey, opaque_of, pieces

from benchmarks.art import art, behind
from benchmarks.report import best, report
from brae.core.find.copies import COPY, RATIO
from brae.core.find.likeness import search
from brae.core.find.looks import planes, resized, units
from brae.core.find.matches import SIDE, agreement
from brae.core.find.pictures import Kept, Pictures, Shown

MANY = 20_000


#: how often what comes first, and one of the first five, is right
Shares = tuple[float, float]
_SEED, _FLAT = 2026, 20
#: the correlation of two planes from which pictures are compared at all
_LIKELY = 0.9
#: how often each whole picture is changed, and scenes there are at least: what hangs on a single draw evens out
_DRAWN, _DRAWN_SCENES = 3, 60
#: screenshots that are looked for among very many pictures
_SCENES = 16


def _shares(pictures: Pictures, groups: dict[str, int], queries: Iterable[tuple[str, np.ndarray]]) -> Shares:
    firsts, fives = [], []
    for name, query in queries:
        found = [groups[pictures.keys[match.number]] for match in search(pictures, query, 5)]
        firsts.append(found[:1] == [groups[name]])
        fives.append(groups[name] in found)
    return float(np.mean(firsts)), float(np.mean(fives))


def _groups(pictures: Pictures) -> dict[str, int]:
    """Those that nobody can tell apart once hue and brightness are changed and they are mirrored, by the measure
    with which the program tells copies, whatever the turn of the hue: joined where any two are so alike."""
    rows = [pictures.first[number] for number in range(len(pictures))]
    shown = np.stack([resized(pictures.guise(row), SIDE, SIDE) for row in rows])
    own = units(planes(shown).reshape(len(shown), 4, -1))
    group = np.arange(len(rows))
    for down, across in ((1, 1), (1, -1), (-1, 1), (-1, -1)):
        mirrored = np.ascontiguousarray(shown[:, ::down, ::across])
        its = units(planes(mirrored).reshape(len(shown), 4, -1))
        each = np.stack([own[:, plane] @ its[:, plane].T for plane in range(4)], axis=-1)
        # What has no chroma or no edges is told by the rest: any two planes may speak for a pair at first.
        likely = np.sort(each, axis=-1)[..., 2:].mean(-1) >= _LIKELY
        likely &= np.abs(pictures.ratios[:, None] - pictures.ratios[None]) <= RATIO
        for one, other in np.argwhere(np.triu(likely, 1)).tolist():
            if group[one] != group[other] and agreement(shown[one], mirrored[other], any_hue=True) >= COPY:
                group[group == group[other]] = group[one]
    return dict(zip(pictures.keys, group.tolist(), strict=True))


def _parts(
    names: list[str], its: dict[str, np.ndarray], chance: np.random.Generator
) -> Iterator[tuple[str, np.ndarray]]:
    """Quarters that show something: whose values vary by 20 levels at least."""
    for name in names:
        tries = (cropped(its[name], chance)[0] for _ in range(20))
        found = next((one for one in tries if one[..., :3].std() > _FLAT), None)
        if found is not None:
            yield name, found


def _of_set(what: str, its: dict[str, np.ndarray], behind: list[np.ndarray], wanted: dict[str, float]) -> None:
    """The half of a set on which nothing was tuned, searched among all of it."""
    pictures = Pictures.of(list(its), [Shown.of(picture) for picture in its.values()])
    groups, names, chance = _groups(pictures), list(its)[1::2], np.random.default_rng(_SEED)
    first, five = _shares(pictures, groups, ((name, changed(its[name], chance)) for name in names * _DRAWN))
    words = f"{what} in other sizes, hues, mirrored"
    report(f"{words}: first (five)", f"{first:.1%} ({five:.1%})", "at least 98 %", first >= 0.98)
    first, five = _shares(pictures, groups, _parts(names, its, chance))
    share, place = (first, "first") if "first" in wanted else (five, "five")
    limit = wanted[place]
    found = f"{first:.1%} ({five:.1%})"
    report(f"a quarter of {what}: first (five)", found, f"{place} at least {limit:.0%}", share >= limit)
    for sides, size in ((0.5, "a quarter of the pixels"), (0.25, "a quarter of the sides")):
        # A few pictures are drawn more than once: each comes before each thing that lies behind it.
        drawn = names * max(1, -(-_DRAWN_SCENES // len(names)))
        scenes = (
            (name, in_a_scene(its[name], behind[(number + number // len(names)) % len(behind)], chance, sides)[0])
            for number, name in enumerate(drawn)
        )
        first, five = _shares(pictures, groups, scenes)
        limit = wanted["scene"]
        found = f"{first:.1%} ({five:.1%})"
        report(f"{what} in a scene, {size}: first (five)", found, f"five at least {limit:.0%}", five >= limit)


def run() -> None:
    """All lines of this part."""
    chance = np.random.default_rng(_SEED)
    pieces()  # they are cut beforehand
    started = time.perf_counter()
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        shown = dict(zip(pieces(), pool.map(Shown.of, pieces().values()), strict=True))
    rate = len(shown) / (time.perf_counter() - started)
    report("pictures looked at, all cores", f"{rate:.0f} a second", "at least 100", rate >= 100)
    tables = [skimage.data.retina(), skimage.data.immunohistochemistry(), on_grey(opaque_of(skimage.data.brick()))]
    _of_set("photographs", pieces(), tables, {"first": 0.95, "scene": 0.8})
    if art():
        _of_set("game art", art(), behind(), {"five": 0.75, "scene": 0.6})
    else:
        report("game art", "not measured", "`make art` first", False)
    _of_many({**pieces(), **art()}, [*behind(), *tables] if art() else tables, chance)


def _of_many(its: dict[str, np.ndarray], behind: list[np.ndarray], chance: np.random.Generator) -> None:
    """As many pictures as a large game has: parts of these, more or less cut away, in one of three hues."""
    names, whole = list(its), list(its.values())
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        shown = list(pool.map(Shown.of, whole))
        small = list(pool.map(lambda number: Kept.of(_variant(whole, number)), range(MANY - len(its))))
    # Their points are those of what they are cut from: looking for them takes minutes.
    features = [one.features for one in shown]
    large = [Shown(one, features[number % len(its)]) for number, one in enumerate(small)]
    many = Pictures.of([str(number) for number in range(MANY)], [*shown, *large])
    name = "coffee-0-192"
    took = best(lambda: search(many, its[name])) * 1000
    report(f"a whole picture among {MANY:,}", f"{took:.0f} ms", "under 100 ms", took < 100)
    query = cropped(its[name], chance)[0]
    took = best(lambda: search(many, query))
    report(f"a part of a picture among {MANY:,}", f"{took:.2f} s", "under 2 s", took < 2)
    seconds, fives = [], []
    for number, one in enumerate(chance.choice(len(names), _SCENES, replace=False).tolist()):
        scene = in_a_scene(whole[one], behind[number % len(behind)], chance, 0.5)[0]
        started = time.perf_counter()
        found = search(many, scene, 5)
        seconds.append(time.perf_counter() - started)
        fives.append(one in {match.number % len(its) for match in found})
    took = float(np.median(seconds))
    # A variant of the piece counts as well.
    words = f"a screenshot among {MANY:,} (within five)"
    report(words, f"{took:.2f} s ({np.mean(fives):.0%})", "under 2 s", took < 2)


def _variant(pictures: list[np.ndarray], number: int) -> np.ndarray:
    """Another picture made of one of them, whose number is the same but for a multiple of their count."""
    picture, turn = pictures[number % len(pictures)], number // len(pictures) + 1
    height, width = picture.shape[:2]
    top, bottom, left, right = turn % 5, turn // 5 % 4, turn % 3, turn // 3 % 4
    part = picture[top * height // 16 : height - bottom * height // 12]
    part = part[:, left * width // 12 : width - right * width // 16]
    return np.dstack([np.roll(part[..., :3], turn % 3, axis=2), part[..., 3]])
