"""Pixels that are numbers of a palette's entries, of 8 or 4 bits."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from brae.core.assets.texture.formats.base import DEFAULT, Alpha, Blocks, How, Picture, exact, register
from brae.core.assets.texture.formats.precision import as_precision
from brae.core.errors import FormatError

Entries = np.ndarray[Any, np.dtype[np.uint8]]


def grey_ramp(count: int) -> Entries:
    """What indices look like without a palette: greys from black to white, ``count`` x 4."""
    ramp = np.full((count, 4), 255, np.uint8)
    ramp[:, :3] = (np.arange(count) * 255 // max(1, count - 1)).astype(np.uint8)[:, None]
    return ramp


def nearest_entries(colours: Picture, palette: Entries) -> np.ndarray[Any, np.dtype[np.int64]]:
    """The entry nearest to each colour (n x 4): alpha counts, colour only as far as it is seen.

    An equal entry always wins, the first one where there are several.
    """
    words, back = np.unique(np.ascontiguousarray(colours).view("<u4").reshape(-1), return_inverse=True)
    unique = words.view(np.uint8).reshape(-1, 4)
    found = np.empty(len(unique), np.int64)
    seen = palette[:, 3].astype(np.float32) / 255
    for first in range(0, len(unique), 4096):
        part = unique[first : first + 4096]
        away = part[:, None, :].astype(np.float32) - palette[None].astype(np.float32)
        visible = np.maximum(part[:, None, 3] / np.float32(255), seen[None])
        cost = (away[..., :3] ** 2).sum(axis=2) * visible + 3 * away[..., 3] ** 2
        equal = (part[:, None, :] == palette[None]).all(axis=2)
        found[first : first + 4096] = np.where(equal, -1, cost).argmin(axis=1)
    return found[back.reshape(-1)]


@dataclass(eq=False)
class Indexed(Blocks):
    """Indices of ``bits`` bits; with 4 bits the left pixel is the low half of a byte, or the high one."""

    name: str
    title: str
    bits: int
    high_first: bool = False
    palette: Entries = field(default_factory=lambda: grey_ramp(256))
    holds: str = "rgba"

    @property
    def block(self) -> tuple[int, int]:  # type: ignore[override]
        return 1, 8 // self.bits

    @property
    def block_bytes(self) -> int:  # type: ignore[override]
        return 1

    @property
    def alpha(self) -> Alpha:
        values = self.palette[:, 3]
        return "none" if values.min() == 255 else "binary" if set(values.tolist()) <= {0, 255} else "full"

    def with_palette(self, palette: Entries) -> Indexed:
        """The same with colours: up to 2^bits entries (n x 4); indices beyond them show the last."""
        if not len(palette) >= 1:
            raise FormatError("The palette has no entries.")
        return replace(self, palette=np.ascontiguousarray(palette[: 1 << self.bits]))

    def indices(self, data: bytes, width: int, height: int) -> np.ndarray[Any, np.dtype[np.uint8]]:
        """The numbers themselves (height x width)."""
        stored = np.frombuffer(exact(self, data, width, height), np.uint8).reshape(height, -1)
        if self.bits == 8:
            return stored
        pairs = np.stack([stored & 15, stored >> 4], axis=2)
        if self.high_first:
            pairs = pairs[..., ::-1]
        return pairs.reshape(height, -1)[:, :width]

    def decode(self, data: bytes, width: int, height: int) -> Picture:
        words = np.ascontiguousarray(self.palette).view("<u4").reshape(-1)
        # Numbers beyond the palette show its last entry.
        shown = np.take(words, self.indices(data, width, height), mode="clip")
        return shown.view(np.uint8).reshape(height, width, 4)

    def encode(self, picture: Picture, how: How = DEFAULT) -> bytes:
        height, width = picture.shape[:2]
        nearest = nearest_entries(as_precision(picture, "8"), self.palette)
        index: np.ndarray[Any, Any] = nearest.reshape(height, width).astype(np.uint8)
        if self.bits == 4:
            index = np.pad(index, ((0, 0), (0, width % 2)))
            left, right = index[:, 0::2], index[:, 1::2]
            index = (left << 4 | right) if self.high_first else (right << 4 | left)
        return how.mixed(index[..., None]).tobytes()


INDEX8 = register(Indexed("index8", "8-bit palette indices", 8))
INDEX4 = register(Indexed("index4", "4-bit palette indices", 4, palette=grey_ramp(16)))
INDEX4_HIGH = register(
    Indexed("index4-high", "4-bit palette indices, high half first", 4, high_first=True, palette=grey_ramp(16))
)
