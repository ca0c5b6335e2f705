"""The stamps of Skerry Post, disc edition: forty motifs in three sizes, all under the same curved shading."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
from PIL import Image

from brae.demo import art

Picture = np.ndarray[Any, Any]
COUNT = 40
#: the letter of each size with its width and height; how dark its corner and how light its upper edge is
SIZES = {"L": (96, 72, 0.42, 0.26), "M": (48, 36, 0.36, 0.2), "S": (32, 24, 0.45, 0.24)}
_SEED = 1840
_PAPER = (0.93, 0.89, 0.78)


def motif(number: int) -> Picture:
    """What is on a stamp, (108, 144, 3), 0 to 1: a place and something in it."""
    rng = np.random.default_rng(_SEED + number)
    places = (
        lambda: art.sky(rng, 144, 108),
        lambda: art.water(rng, 144, float(rng.random())),
        lambda: art.rock(rng, 144),
        lambda: art.planks(rng, 144),
    )
    ground = np.asarray(places[int(rng.integers(4))](), np.float64)[:108, :144, :3] / 255
    if rng.random() < 0.5:
        ground = ground[:, ::-1]
    if rng.random() < 0.4:
        ground = ground[::-1]
    ground = np.roll(ground, int(rng.integers(3)), axis=2) ** rng.uniform(0.5, 2.2)
    side = int(rng.integers(55, 115))
    things = (
        lambda: art.seabird(side, int(rng.integers(4)), int(rng.integers(6))),
        lambda: art.parcel(rng, side, tuple(int(one) for one in rng.integers(40, 230, 3)), art.TAR),
        lambda: art.stamp(rng, side, int(rng.integers(12))),
        lambda: art.weather(side, int(rng.integers(12))),
    )
    thing = np.asarray(things[int(rng.integers(4))](), np.float64)[:108, :144] / 255
    thing[..., :3] = np.roll(thing[..., :3], int(rng.integers(3)), axis=2)
    y, x = int(rng.integers(0, 109 - thing.shape[0])), int(rng.integers(0, 145 - thing.shape[1]))
    here = ground[y : y + thing.shape[0], x : x + thing.shape[1]]
    here[:] = here * (1 - thing[..., 3:]) + thing[..., :3] * thing[..., 3:]
    return np.clip(ground, 0, 1)


def painted(picture: Picture, size: str) -> Picture:
    """A motif at a size, uint8 (height, width, 4): darker in a curve, lit from above, on paper with teeth."""
    width, height, curve, lit = SIZES[size]
    small = Image.fromarray(np.round(picture * 255).astype(np.uint8)).resize((width, height), Image.Resampling.BOX)
    x, y = np.meshgrid((np.arange(width) + 0.5) / width, (np.arange(height) + 0.5) / height)
    dark = 1 - curve * np.clip((x - 0.15) ** 2 + (y - 0.1) ** 2, 0, 1)
    light = (lit * np.clip(1 - 2.5 * y, 0, 1) ** 2)[..., None]
    colour = np.asarray(small) / 255 * dark[..., None] * (1 - light) + light
    border = max(2, width // 24)
    edge = np.minimum(np.minimum(np.arange(width), np.arange(width)[::-1])[None], 9999)
    edge = np.minimum(edge, np.minimum(np.arange(height), np.arange(height)[::-1])[:, None])
    colour[edge < border] = _PAPER
    alpha = np.ones((height, width))
    # Teeth: every second pixel of the outermost row is cut away.
    alpha[(edge == 0) & ((np.arange(width)[None] + np.arange(height)[:, None]) % 4 < 2)] = 0
    return np.round(np.dstack([colour, alpha]) * 255).astype(np.uint8)


def stamps(count: int = COUNT) -> Iterator[tuple[str, Picture]]:
    """Names and pictures of all of them, three for each motif."""
    for number in range(count):
        picture = motif(number)
        for size in SIZES:
            yield f"STMP{number:02d}_{size}.SLT", painted(picture, size)
