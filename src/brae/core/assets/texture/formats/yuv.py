"""Luma for each pixel, colour difference for each two: YUV 4:2:2 in pairs.

Source: Microsoft, "About YUV Video" (studio range, ITU-R BT.601; the integer form of its conversion).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from brae.core.assets.texture.formats.base import DEFAULT, Alpha, Blocks, How, Picture, exact, register
from brae.core.assets.texture.formats.precision import as_precision


@dataclass(eq=False)
class Pairs(Blocks):
    """Four bytes for two pixels; ``order`` names them."""

    name: str
    title: str
    order: str
    block: tuple[int, int] = (1, 2)
    block_bytes: int = 4
    alpha: Alpha = "none"
    holds: str = "rgb"

    def decode(self, data: bytes, width: int, height: int) -> Picture:
        stored = np.frombuffer(exact(self, data, width, height), np.uint8).reshape(height, -1, 4).astype(np.int32)
        d, e = stored[..., self.order.index("U")] - 128, stored[..., self.order.index("V")] - 128
        first = self.order.index("Y")
        luma = stored[..., [first, self.order.index("Y", first + 1)]] - 16
        picture = np.full((height, luma.shape[1] * 2, 4), 255, np.uint8)
        for c, (u, v) in enumerate(((0, 409), (-100, -208), (516, 0))):
            value = (298 * luma + (u * d + v * e)[..., None] + 128) >> 8
            picture[..., c] = value.clip(0, 255).reshape(height, -1)
        return np.ascontiguousarray(picture[:, :width])

    def encode(self, picture: Picture, how: How = DEFAULT) -> bytes:
        colour = as_precision(picture, "8")[..., :3].astype(np.int32)
        colour = np.pad(colour, ((0, 0), (0, colour.shape[1] % 2), (0, 0)), "edge")
        luma = ((colour @ np.array([66, 129, 25]) + 128) >> 8) + 16
        pairs = (colour[:, 0::2] + colour[:, 1::2] + 1) >> 1
        values = {
            "U": ((pairs @ np.array([-38, -74, 112]) + 128) >> 8) + 128,
            "V": ((pairs @ np.array([112, -94, -18]) + 128) >> 8) + 128,
        }
        stored = np.empty((*pairs.shape[:2], 4), np.uint8)
        lumas = iter((luma[:, 0::2], luma[:, 1::2]))
        for place, letter in enumerate(self.order):
            stored[..., place] = next(lumas) if letter == "Y" else values[letter]
        return how.mixed(stored).tobytes()


YUYV = register(Pairs("yuyv", "YUV 4:2:2, luma first", "YUYV"))
UYVY = register(Pairs("uyvy", "YUV 4:2:2, colour first", "UYVY"))
