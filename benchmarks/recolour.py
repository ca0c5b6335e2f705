"""Colour steps on many pictures beside one multiplication of the same bytes by numpy."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor

import numpy as np
import skimage.data
from PIL import Image

from benchmarks.report import in_turn, report
from brae.core.recolour.files import Changer
from brae.core.recolour.steps import Steps

_NAMES = ("astronaut", "chelsea", "coffee", "rocket")
_STEPS = Steps.model_validate(
    {
        "steps": [
            {"hue": 30}, {"saturation": 0.8},
            {"gradient": ["#20140a", "#8a4b2c", "#f6e7c8"], "amount": 0.3, "mask": {"light": [0.2, 0.8]}},
        ]
    }
)  # fmt: skip


def _pictures() -> list[np.ndarray]:
    """A thousand of 256 x 256, two hundred of them different: game art has its colours again and again."""
    whole = [
        np.asarray(Image.fromarray(getattr(skimage.data, name)()[..., :3]).resize((512, 512))) for name in _NAMES
    ]
    random = np.random.default_rng(0)
    found = []
    for number in range(200):
        y, x = (int(one) for one in random.integers(0, 256, 2))
        piece = whole[number % len(whole)][y : y + 256, x : x + 256]
        found.append(np.dstack([piece, np.full((256, 256), 255, np.uint8)]))
    return [found[number % 200] for number in range(1000)]


def run() -> None:
    """All lines of this part."""
    pictures = _pictures()
    factor = np.float32(0.5)

    def ours() -> None:
        changer = Changer(_STEPS, lambda name: np.zeros((1, 1, 4), np.float32))
        with ThreadPoolExecutor(2) as pool:
            list(pool.map(changer.changed, pictures))

    # All results are kept, as a job needs them: without that numpy writes into the same few bytes of its cache.
    def times() -> None:
        _ = [picture * factor for picture in pictures]

    def doubled() -> None:
        _ = [np.multiply(picture, 2) for picture in pictures]

    mine, numbers, bytes_ = in_turn([ours, times, doubled])
    words = f"{numbers / mine:.2f} x, {1000 * 65_536 / mine / 1e6:.0f} million pixels a second"
    report("1,000 pictures in other colours / numpy times 0.5", words, "at least 0.5 x", numbers / mine >= 0.5)
    print(f"      beside numpy doubling the bytes as bytes: {bytes_ / mine:.2f} x")
