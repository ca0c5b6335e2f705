"""BC3 whose channels have changed places, as normal maps are stored: a channel in alpha has a block of its own and
six steps, one among the colours three.

The names say what the stored R, G, B and A hold, ``x`` being nothing; DDS files say them by four-character codes
(common practice, from memory; no source).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from brae.core.assets.texture.formats.base import DEFAULT, Alpha, Blocks, How, Picture, register
from brae.core.assets.texture.formats.blocks import BC3, BC3_DATA
from brae.core.assets.texture.formats.precision import as_precision


@dataclass(eq=False)
class Swizzled(Blocks):
    """BC3 that stores the channels in this order."""

    #: which channel R, G, B and A of the blocks hold, "x" for none
    order: str
    block: tuple[int, int] = (4, 4)
    block_bytes: int = 16
    alpha: Alpha = "none"

    @property
    def name(self) -> str:
        return f"bc3-{self.order}"

    @property
    def title(self) -> str:
        return f"BC3 holding {self.order.upper()}"

    @property
    def holds(self) -> str:
        return "".join(channel for channel in "rgb" if channel in self.order)

    def decode(self, data: bytes, width: int, height: int) -> Picture:
        stored = BC3.decode(data, width, height)
        picture = np.zeros_like(stored)
        picture[..., 3] = 255
        for place, channel in enumerate(self.order):
            if channel != "x":
                picture[..., "rgb".index(channel)] = stored[..., place]
        return picture

    def encode(self, picture: Picture, how: How = DEFAULT) -> bytes:
        picture = as_precision(picture, "8")
        stored = np.zeros(picture.shape, np.uint8)
        for place, channel in enumerate(self.order):
            if channel != "x":
                stored[..., place] = picture[..., "rgb".index(channel)]
        return BC3_DATA.encode(stored, how)


for _order in ("xgbr", "xgxr", "rxbg", "rbxg", "xrbg", "rgxb"):
    register(Swizzled(_order))
