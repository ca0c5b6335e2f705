"""How often pixels without a header are understood: drawings, photographs, art of other packages."""

from __future__ import annotations

import time

import numpy as np
from PIL import Image
from tests.core.assets.texture.bare import MEASURED, bare, photographs

from benchmarks import art
from benchmarks.report import report
from brae.core.assets.texture import formats
from brae.core.assets.texture.encode import encode_levels
from brae.core.assets.texture.formats import How, Picture
from brae.core.assets.texture.formats.base import full_chain
from brae.core.assets.texture.guess import propose
from brae.core.assets.texture.texture import Header
from brae.demo import art as drawn_art

FORMATS = ("bc1", "bc2", "bc3", "bc4", "bc5", "bc6h", "bc7", "rgba8", "rgb565", "index8")
COUNT = 200
PHOTOGRAPHS, OTHERS = 240, 240
_SAME = {"index8": "l8"}


def _drawing(rng: np.random.Generator, width: int, height: int, kind: int) -> Picture:
    """A made-up texture: rock, planks, sky, a sail with a soft edge, a stamp, or waves with soft alpha."""
    if kind == 5:
        y, x = np.mgrid[0:height, 0:width]
        phase, scale = rng.uniform(0, 6, 6), rng.uniform(8, 60, 6)
        waves = [np.sin(x / scale[k] + phase[k]) * np.cos(y / scale[k - 1] - phase[k - 2]) for k in range(4)]
        picture = np.stack([127 + 100 * wave for wave in waves], axis=-1) + rng.normal(0, 5, (height, width, 4))
        return picture.clip(0, 255).astype(np.uint8)
    side = 256
    drawn = (
        lambda: drawn_art.rock(rng, side),
        lambda: drawn_art.planks(rng, side),
        lambda: drawn_art.sky(rng, side, side),
        lambda: drawn_art.sail(rng, side, side),
        lambda: drawn_art.stamp(rng, side, int(rng.integers(0, 12))),
    )[kind]()
    large = Image.fromarray(np.ascontiguousarray(drawn)).resize((width, height), Image.Resampling.BICUBIC)
    grain = rng.normal(0, 2, (height, width, 1))
    picture = np.asarray(large).astype(np.float32)
    picture[..., :3] += grain
    return picture.clip(0, 255).astype(np.uint8)


def _shares(count: int) -> np.ndarray:
    weights = np.array([6, 6, 6, 4, 1.5, 0.5][:count], float)
    return weights / weights.sum()


def generated(count: int = COUNT, longest: int = 2048) -> list[tuple[str, int, int, int, bytes]]:
    """Format, sides, levels and bytes of each."""
    rng = np.random.default_rng(2024)
    found = []
    for number in range(count):
        name = FORMATS[number % len(FORMATS)]
        powers = int(np.log2(longest))
        # Every size there is, the largest ones less often: they take longest to make.
        width = 2 ** int(rng.choice(np.arange(6, powers + 1), p=_shares(powers - 5)))
        height = int(min(longest, max(64, width * 2.0 ** int(rng.integers(-1, 2)))))
        levels = full_chain(width, height) if rng.random() < 0.5 else 1
        picture = _drawing(rng, width, height, int(rng.integers(0, 6)))
        pixel_format = formats.get(name)
        if isinstance(pixel_format, formats.Indexed):
            step = picture[::4, ::4].reshape(-1, 4)
            colours = step[rng.permutation(len(step))[:256]]
            entries = np.unique(np.concatenate([colours, np.zeros((256 - len(colours), 4), np.uint8)]), axis=0)
            pixel_format = pixel_format.with_palette(
                np.concatenate([entries, np.zeros((256 - len(entries), 4), np.uint8)])
            )
        header = Header("raw", pixel_format, width, height, levels)
        data, _, _ = encode_levels(picture, header, How(effort="fast"))
        found.append((name, width, height, levels, b"".join(data)))
    return found


def run() -> None:
    """Print the shares that are right: format or the very same picture, sides and levels."""
    right: int = 0
    wrong: list[str] = []
    items = generated()
    for name, width, height, levels, data in items:
        guess = next(iter(propose(data)), None)
        sides = guess is not None and (guess.width, guess.height, guess.levels) == (width, height, levels)
        # Indices whose palette is elsewhere are shown as greys.
        if guess is not None and sides and guess.format in (name, _SAME.get(name)):
            right += 1
        else:
            wrong.append(f"{name} {width}x{height} {levels}: {guess.words if guess else 'nothing'}")
    share = right / len(items)
    for line in wrong[:40]:
        print("    ", line)
    report(
        f"headerless drawings understood at first choice, of {len(items)}",
        f"{share:.1%}",
        "at least 90 %",
        share >= 0.9,
    )
    told = _of_pictures("photographs that nothing was tuned on", {"skimage": photographs(MEASURED)}, PHOTOGRAPHS)
    others = {"arcade": art.art(), **art.of_other_packages()}
    if not all(others.values()) or len(others) < 4:
        print("    pictures of other packages are missing: make art")
        return
    told += _of_pictures("sprites, textures and signs of four packages", others, OTHERS)
    _report("pictures of both", told)


#: whether the first choice is right, one of the first three, the first but for red and blue
Told = tuple[bool, bool, bool]


def _of_pictures(what: str, groups: dict[str, dict[str, np.ndarray]], count: int) -> list[Told]:
    """Each of as many from every group; for flat colours nothing tells red from blue."""
    told: list[Told] = []
    longest = 0.0
    for group, pictures in groups.items():
        for one in bare(pictures, count // len(groups), 2026):
            started = time.perf_counter()
            guesses = propose(one.data)
            longest = max(longest, time.perf_counter() - started)
            hits = [one.fits(guess) for guess in guesses[:3]]
            first, three = any(hits[:1]), any(hits)
            # The same with red and blue exchanged stands right behind.
            turned = any(hits[:2]) and not first and guesses[0].order_guessed
            told.append((first, three, turned))
            if not first and not turned:
                print(
                    "    ", group, one.form, one.palette, one.width, one.height, one.levels, "->", guesses[0].words
                )
    _report(what, told)
    report("the longest of them", f"{longest:.2f} s", "under 1 s", longest < 1)
    return told


def _report(what: str, told: list[Told]) -> None:
    first, three, turned = np.mean(told, axis=0)
    report(
        f"headerless {what}, of {len(told)}: first choice, within three",
        f"{first:.1%} (red for blue: {turned:.1%} more), {three:.1%}",
        "at least 90 %, 97 %",
        bool(first >= 0.9 and three >= 0.97),
    )


if __name__ == "__main__":
    run()
