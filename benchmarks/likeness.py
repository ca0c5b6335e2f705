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
#: how often each whole picture is changed: what hangs on a single size or hue of it evens out
_DRAWN = 3


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
        scenes = (
            (name, in_a_scene(its[name], behind[number % len(behind)], chance, sides)[0])
            for number, name in enumerate(names)
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
    # Small pictures in many sizes stand for a large game, with the points of others.
    features = [one.features for one in shown.values()]
    small = [Kept.of(one[: 96 + 8 * (k % 9), : 96 + 8 * (k % 7)]) for k, one in enumerate(pieces().values())]
    large = [Shown(small[k % len(small)], features[k % len(features)]) for k in range(MANY - len(shown))]
    many = Pictures.of([str(k) for k in range(MANY)], [*shown.values(), *large])
    name = "coffee-0-192"
    whole = best(lambda: search(many, pieces()[name])) * 1000
    report(f"a whole picture among {MANY:,}", f"{whole:.0f} ms", "under 100 ms", whole < 100)
    query = cropped(pieces()[name], chance)[0]
    part = best(lambda: search(many, query))
    report(f"a part of a picture among {MANY:,}", f"{part:.2f} s", "under 2 s", part < 2)
    scene = in_a_scene(pieces()[name], tables[0], chance, 0.5)[0]
    took = best(lambda: search(many, scene))
    report(f"a screenshot among {MANY:,}", f"{took:.2f} s", "under 2 s", took < 2)
