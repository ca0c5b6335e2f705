"""Every pixel loop compiled, group by group."""

from __future__ import annotations

import numpy as np

from brae.core.assets.texture import formats, guess, metrics, mips


def warm(group: str) -> None:
    """Compile the kernels of a group of GROUPS, or load them from the cache."""
    # A block of each kind, soft, of one colour and cut out, as each has kernels of its own.
    picture = np.zeros((4, 12, 4), np.uint8)
    picture[:, :4] = np.arange(64).reshape(4, 4, 4)
    picture[:2, 8:] = 255
    for pixel_format in formats.all_formats():
        if _group_of(pixel_format.name) == group:
            pixel_format.decode(pixel_format.encode(picture), 12, 4)
    if group == "rest":
        mips.make_levels(picture, 3)
        metrics.quality(picture, picture ^ 1, (4, 4))
        guess.propose((np.arange(1024 + 64 * 64) % 251).astype(np.uint8).tobytes())


#: kernels that are compiled together, as they share steps; the longest first
GROUPS = ("bc7", "colour", "bc6h", "rest")


def _group_of(name: str) -> str:
    if name.startswith(("bc7", "bc6h")):
        return name.rstrip("s")
    return "colour" if name.startswith("bc") else "rest"
