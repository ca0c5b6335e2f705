"""Block compression: 4 x 4 pixels packed by a kernel."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from typing import Any

import numpy as np

from brae.core.textures.formats.base import Alpha, Picture, blocks_of, check_size, exact, register
from brae.core.textures.kernels import over_rows


@dataclass(eq=False)
class BlockCompressed:
    """4 x 4 blocks packed by a kernel."""

    name: str
    title: str
    block_bytes: int
    alpha: Alpha
    #: names of functions in kernels.bc, imported when they are first needed
    decoder: str
    encoder: str
    holds: str = "rgba"
    block: int = 4

    @staticmethod
    def _kernel(name: str) -> Callable[..., Any]:
        from brae.core.textures.kernels import bc

        found: Callable[..., Any] = getattr(bc, name)
        return found

    def decode(self, data: bytes, width: int, height: int) -> Picture:
        words = np.frombuffer(exact(self, data, width, height), "<u4").astype(np.uint32)
        out = np.empty((height, width), np.uint32)
        over_rows(self._kernel(self.decoder), -(-height // 4), words, out)
        return out.view(np.uint8).reshape(height, width, 4)

    def encode(
        self,
        picture: Picture,
        *,
        keep: bytes | None = None,
        changed: np.ndarray[Any, Any] | None = None,
        clear: bool = True,
    ) -> bytes:
        height, width = picture.shape[:2]
        check_size(width, height)
        rows, columns = blocks_of(self, width, height)
        # Kernels are compiled for writable arrays only; a read-only one would compile them once more.
        words = np.require(picture, requirements=["C", "W"]).view(np.uint32).reshape(height, width)
        if keep is None or changed is None:
            out, todo = (
                np.zeros(rows * columns * self.block_bytes // 4, np.uint32),
                np.ones((rows, columns), bool),
            )
        else:
            out, todo = np.frombuffer(keep, "<u4").astype(np.uint32), np.require(changed, bool, ["C", "W"])
        over_rows(self._kernel(self.encoder), rows, words, todo, clear, *single_colour_tables(), out)
        return out.astype("<u4", copy=False).tobytes()


@cache
def single_colour_tables() -> tuple[np.ndarray[Any, Any], np.ndarray[Any, Any]]:
    """For each 8-bit value the pair of 5-bit (and of 6-bit) ends whose index 2 comes nearest to it."""

    def best(bits: int) -> np.ndarray[Any, Any]:
        steps = np.arange(1 << bits)
        wide = (steps << (8 - bits)) | (steps >> (2 * bits - 8))
        between = (2 * wide[:, None] + wide[None, :]) // 3
        # Among equally good pairs the closest ends: other hardware rounds the steps differently.
        cost = np.abs(between[None] - np.arange(256)[:, None, None]) * 1024 + np.abs(wide[:, None] - wide[None, :])
        first, second = np.divmod(cost.reshape(256, -1).argmin(axis=1), 1 << bits)
        return np.stack([first, second], axis=1).astype(np.uint32)

    return best(5), best(6)


BC1 = register(BlockCompressed("bc1", "BC1", 8, "binary", "decode_bc1", "encode_bc1"))
BC2 = register(BlockCompressed("bc2", "BC2", 16, "full", "decode_bc2", "encode_bc2"))
BC3 = register(BlockCompressed("bc3", "BC3", 16, "full", "decode_bc3", "encode_bc3"))
BC4 = register(BlockCompressed("bc4", "BC4", 8, "none", "decode_bc4", "encode_bc4", "l"))
BC5 = register(BlockCompressed("bc5", "BC5", 16, "none", "decode_bc5", "encode_bc5", "rg"))
