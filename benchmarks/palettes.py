"""One palette for many pictures beside the best of Pillow's quantizers and imagequant, on shipped pictures."""

from __future__ import annotations

import time

import imagequant
import numpy as np
import skimage.data
from PIL import Image

from benchmarks.report import report
from brae.core.palettes.best import Mapper, best, mapped
from brae.core.palettes.loss import loss

NAMES = ("retina", "immunohistochemistry", "hubble_deep_field", "colorwheel", "logo")
_SIDE = 320


def _ratio(ours: float, theirs: float) -> float:
    return 1.0 if ours == theirs else ours / max(theirs, 1e-9)


def _squared(one: np.ndarray, other: np.ndarray) -> float:
    return float(((one.astype(np.float64) - other) ** 2).mean())


def _others(whole: np.ndarray) -> tuple[list[np.ndarray], float]:
    """The picture in 256 colours by the others at their best, and imagequant's seconds."""
    image = Image.fromarray(whole)
    lib, ffi = imagequant.lib, imagequant.ffi
    raw = np.dstack([whole, np.full(whole.shape[:2], 255, np.uint8)]).tobytes()
    started = time.perf_counter()
    settings = lib.liq_attr_create()
    lib.liq_set_speed(settings, 1)  # its slowest, and best
    given = lib.liq_image_create_rgba(settings, raw, image.width, image.height, 0)
    result = ffi.new("liq_result**")
    lib.liq_image_quantize(given, settings, result)
    lib.liq_set_dithering_level(result[0], 0.0)
    indices = ffi.new("unsigned char[]", image.width * image.height)
    lib.liq_write_remapped_image(result[0], given, indices, image.width * image.height)
    seconds = time.perf_counter() - started
    entries = np.array([[one.r, one.g, one.b] for one in lib.liq_get_palette(result[0]).entries], np.uint8)
    made = [entries[np.frombuffer(ffi.buffer(indices), np.uint8)].reshape(whole.shape)]
    for method in (Image.Quantize.MEDIANCUT, Image.Quantize.MAXCOVERAGE):
        other = image.quantize(256, method, kmeans=3, dither=Image.Dither.NONE)
        made.append(np.asarray(other.convert("RGB")))
    return made, seconds


def _scene() -> None:
    """Sixty frames of figures in photographs' colours before a background of 640 x 480."""
    photographs = [getattr(skimage.data, name)()[..., :3] for name in ("astronaut", "coffee", "chelsea", "rocket")]
    ground = np.asarray(Image.fromarray(photographs[1]).resize((640, 480)))
    frames = [
        np.asarray(Image.fromarray(photographs[number % 4][:256, :256]).resize((64, 64))) for number in range(60)
    ]
    best([ground, *frames], 256)
    started = time.perf_counter()
    best([ground, *frames], 256)
    seconds = time.perf_counter() - started
    report("a palette for 60 frames and a background", f"{seconds:.2f} s", "under 1 s", seconds < 1)


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
        numbers = best(some, 256, way="numbers")
        others, theirs = _others(whole)
        mine = loss(whole, found.colours[mapped(whole, found)])
        its = [loss(whole, other) for other in others]
        mean, most = (min(one[what] for one in its) for what in ("mean", "p95"))
        words = f"{_ratio(mine['mean'], mean):.2f} x, 95 %: {_ratio(mine['p95'], most):.2f} x"
        ahead = mine["mean"] <= mean and mine["p95"] <= most
        report(f"CIEDE2000 of 256 colours / the best other, {name}", words, "at most 1 x", ahead)
        square = _squared(whole, numbers.colours[mapped(whole, numbers, "numbers")])
        ratio = _ratio(square, min(_squared(whole, other) for other in others))
        report(f"squared error for numbers / the best other, {name}", f"{ratio:.2f} x", "at most 1 x", ratio <= 1)
    report("the palette of all five / imagequant's time", f"{ours / theirs:.2f} x", "at most 1 x", ours <= theirs)
    _scene()
    # Frames of one figure share their colours: each is looked for once.
    sprites = [np.roll(pictures[4][:128, :128], number, axis=1) for number in range(200)]
    started = time.perf_counter()
    mapper = Mapper(found)
    for sprite in sprites:
        mapper.mapped(sprite)
    rate = 200 * 128 * 128 / (time.perf_counter() - started) / 1e6
    report("200 frames in other colours", f"{rate:.0f} million pixels a second", "at least 50", rate >= 50)
