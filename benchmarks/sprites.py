"""Sprites and screens: how fast frames are unpacked, laid on each other and shown."""

from __future__ import annotations

import time

import numpy as np

from benchmarks.report import report
from brae.core.assets.base import Context, Viewed
from brae.core.assets.screen.kind import KIND as SCREEN
from brae.core.assets.sprite.runs import Coding
from brae.core.assets.texture.looking import TextureQuery
from brae.core.containers.nesting import open_path
from brae.core.layouts.frames import Runs
from brae.core.layouts.library import Library
from brae.core.sprites.drift import drift
from brae.demo import LAYOUTS, disc

FRAMES, SIDE, SCREENS = 64, 256, 3000
_CODES = [
    {"from": 0, "end": "row"},
    {"from": 1, "to": 127, "copy": "code"},
    {"from": 128, "to": 191, "skip": "code - 127"},
    {"from": 192, "to": 255, "fill": "code - 190"},
]


def _figures() -> tuple[list[np.ndarray], list[np.ndarray]]:
    """A body that sways, and the same with a band painted on it."""
    y, x = np.mgrid[0:SIDE, 0:SIDE]
    before, after = [], []
    for number in range(FRAMES):
        middle = 128 + round(3 * np.sin(number / 5))
        body = np.hypot((x - middle) / 70, (y - 140) / 90) < 1
        picture = np.zeros((SIDE, SIDE, 4), np.uint8)
        picture[..., 0], picture[..., 1], picture[..., 2] = 120 + (x + y) % 40, 60, 80
        picture[..., 3] = 255
        picture[~body] = 0
        painted = picture.copy()
        painted[60:70, middle - 20 : middle + 20] = (250, 240, 20, 255)
        before.append(picture)
        after.append(painted)
    return before, after


def _best(work: object, turns: int = 3) -> float:
    times = []
    for _ in range(turns):
        started = time.perf_counter()
        work()  # type: ignore[operator]
        times.append(time.perf_counter() - started)
    return min(times)


def run() -> None:
    """Print the figures."""
    import tempfile
    from pathlib import Path

    before, after = _figures()
    seconds = _best(lambda: drift(before, after))
    report(f"drift over {FRAMES} frames of {SIDE} x {SIDE}", f"{seconds:.2f} s", "under 1 s", seconds < 1)
    coding = Coding.of(Runs.model_validate({"codes": _CODES}))
    indices = [np.where(one[..., 3] > 0, one[..., 0] // 4, 0).astype(np.uint8)[..., None] for one in before]
    masks = [one[..., 3] > 0 for one in before]
    packed = [np.frombuffer(coding.encode(a, b, False), np.uint8) for a, b in zip(indices, masks, strict=True)]
    unpack = _best(lambda: [coding.decode(one, 0, SIDE, SIDE, 1, False) for one in packed])
    pack = _best(lambda: [coding.encode(a, b, False) for a, b in zip(indices, masks, strict=True)])
    copy = _best(lambda: [one.copy() for one in indices])
    pixels = FRAMES * SIDE * SIDE / 1e6
    report("runs unpacked", f"{pixels / unpack:.0f} million pixels a second", "50", pixels / unpack > 50)
    report("runs packed", f"{pixels / pack:.0f} million pixels a second", "20", pixels / pack > 20)
    print(f"      numpy copying the same pixels: {pixels / copy:.0f} million a second")
    library = Library.of([LAYOUTS])
    with tempfile.TemporaryDirectory() as folder:
        game = disc.generate(Path(folder), screens=SCREENS, members=96, film=2)
        pack_ = open_path(game / "skerry.bin", ["CARGO.VOL", "MENUS.SCR"], library).container
        started = time.perf_counter()
        for number in range(SCREENS):
            asset = SCREEN.read(pack_.read(number), Context(library, pack_.names[number]))
            SCREEN.preview(Viewed(asset), TextureQuery(fit=256))
        seconds = time.perf_counter() - started
    report(f"{SCREENS:,} packed screens as thumbnails, one thread", f"{seconds:.1f} s", "20 s", seconds < 20)


if __name__ == "__main__":
    run()
