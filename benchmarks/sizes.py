"""One picture in three sizes, beside what their painter would have made: photographs and drawings, new ones."""

from __future__ import annotations

import numpy as np
from skimage.color import deltaE_ciede2000, rgb2lab
from tests.core.sizes.stamps import SIDES, art, drawn, painted, stamps

from benchmarks.report import report
from brae.core.sizes.families import Sibling, make, sizes_of

_NEW = range(900, 915)


def run() -> None:
    """All lines of this part."""
    for what, source in (("photographs", art), ("drawings", drawn)):
        for shading in ("curve", "none", "gloss", "corner", "below"):
            originals = [
                Sibling(f"{number}.png", (one.pixels / 255).astype(np.float32))
                for number, one in enumerate(stamps(67, source, shading))
            ]
            figures = []
            for size, name in zip(sizes_of(originals), SIDES, strict=True):
                off = []
                for number in _NEW:
                    master = np.dstack([source(number) / 255, np.ones((288, 384))]).astype(np.float32)
                    truth, ours = painted(number, name, source, shading) / 255, make(master, size)
                    seen = truth[..., 3] > 0.5
                    off.append(deltaE_ciede2000(rgb2lab(ours[..., :3]), rgb2lab(truth[..., :3]))[seen].mean())
                figures.append(float(np.mean(off)))
            words = ", ".join(f"{one:.2f}" for one in figures)
            report(f"three sizes of new {what}, {shading}: CIEDE2000", words, "at most 1", max(figures) <= 1)
