"""One palette for many pictures beside Pillow's quantizer, on shipped pictures that nothing was tuned on."""

from __future__ import annotations

import time

import numpy as np
import skimage.data
from PIL import Image

from benchmarks.report import report
from brae.core.palettes.best import Mapper, best, mapped
from brae.core.palettes.loss import loss

NAMES = ("retina", "immunohistochemistry", "hubble_deep_field", "colorwheel", "logo")
_SIDE = 320


def run() -> None:
    """All lines of this part."""
    pictures = [
        np.asarray(Image.fromarray(getattr(skimage.data, name)()[..., :3]).resize((_SIDE, _SIDE))) for name in NAMES
    ]
    for name, some in [*((name, [one]) for name, one in zip(NAMES, pictures, strict=True)), ("all five", pictures)]:
        whole = np.concatenate(some)
        started = time.perf_counter()
        found = best(some, 256)
        ours = time.perf_counter() - started
        started = time.perf_counter()
        other = Image.fromarray(whole).quantize(256, Image.Quantize.MEDIANCUT, kmeans=3, dither=Image.Dither.NONE)
        theirs = time.perf_counter() - started
        mine, its = loss(whole, found.colours[mapped(whole, found)]), loss(whole, np.asarray(other.convert("RGB")))
        words = f"{mine['mean'] / its['mean']:.2f} x, 95 %: {mine['p95'] / its['p95']:.2f} x"
        ahead = mine["mean"] < its["mean"] and mine["p95"] < its["p95"]
        report(f"CIEDE2000 of 256 colours / Pillow's, {name}", words, "below 1 x", ahead)
    report("the palette of all five / Pillow's time", f"{ours / theirs:.2f} x", "below 1 x", ours < theirs)
    # Frames of one figure share their colours: each is looked for once.
    sprites = [np.roll(pictures[4][:128, :128], number, axis=1) for number in range(200)]
    started = time.perf_counter()
    mapper = Mapper(found)
    for sprite in sprites:
        mapper.mapped(sprite)
    rate = 200 * 128 * 128 / (time.perf_counter() - started) / 1e6
    report("200 frames in other colours", f"{rate:.0f} million pixels a second", "at least 50", rate >= 50)
