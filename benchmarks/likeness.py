"""Found by a picture: how often what comes first is right, and how long it takes."""

from __future__ import annotations

import time

import numpy as np
from tests.core.find.photos import changed, cropped, pieces

from benchmarks.report import best, report
from brae.core.find.likeness import search
from brae.core.find.pictures import Kept, Pictures, Shown

MANY = 20_000


def _share(pictures: Pictures, queries: list[tuple[str, np.ndarray]]) -> float:
    return float(np.mean([pictures.keys[search(pictures, query, 1)[0].number] == name for name, query in queries]))


def run() -> None:
    """All lines of this part."""
    chance = np.random.default_rng(2026)
    started = time.perf_counter()
    shown = {name: Shown.of(picture) for name, picture in pieces().items()}
    rate = len(shown) / (time.perf_counter() - started)
    report("pictures looked at, one core", f"{rate:.0f} a second", "at least 50", rate >= 50)
    pictures = Pictures.of(list(shown), list(shown.values()))
    wholes = [(name, changed(picture, chance)) for name, picture in pieces().items()]
    share = _share(pictures, wholes)
    report("photographs in other sizes, hues, mirrored: first", f"{share:.1%}", "at least 98 %", share >= 0.98)
    parts = [(name, cropped(picture, chance)[0]) for name, picture in pieces().items()]
    share = _share(pictures, parts)
    report("a quarter of a photograph: first", f"{share:.1%}", "at least 95 %", share >= 0.95)
    # Small pictures of noise in many sizes stand for a large game; they have no points.
    empty = next(iter(shown.values())).features.from_bytes(b"")
    noise = [Kept.of(chance.integers(0, 256, (8 + k % 9, 8, 4), dtype=np.uint8)) for k in range(64)]
    large = [*shown.values(), *(Shown(noise[k % 64], empty) for k in range(MANY - len(shown)))]
    many = Pictures.of([str(k) for k in range(MANY)], large)
    whole = best(lambda: search(many, pieces()["coffee-0-192"])) * 1000
    report(f"a whole picture among {MANY:,}", f"{whole:.0f} ms", "under 100 ms", whole < 100)
    part = best(lambda: search(many, parts[5][1]))
    report(f"a part of a picture among {MANY:,}", f"{part:.2f} s", "under 2 s", part < 2)
