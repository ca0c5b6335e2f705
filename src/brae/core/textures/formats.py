"""Pixel formats, found by name: a pair of decode and encode, and the sizes of its blocks."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cache
from typing import Any, Literal, Protocol

import numpy as np

from brae.core.errors import LimitError, TruncatedError, UnknownFormatError
from brae.core.textures.kernels import over_rows

#: R, G, B, A of 8 bits, shape (height, width, 4), row 0 at the top
Picture = np.ndarray[Any, np.dtype[np.uint8]]
Alpha = Literal["none", "binary", "full"]

#: the largest side of a texture (Direct3D 11's limit is 16,384)
LARGEST_SIDE = 16384


class PixelFormat(Protocol):
    """How pixels are stored."""

    name: str
    title: str
    #: side of a block in pixels (block_bytes: its bytes)
    block: int
    #: what its transparency can hold
    alpha: Alpha

    @property
    def block_bytes(self) -> int: ...

    def decode(self, data: bytes, width: int, height: int) -> Picture:
        """Pixels from exactly ``level_size`` bytes; TruncatedError where there are fewer."""
        ...

    def encode(
        self,
        picture: Picture,
        *,
        keep: bytes | None = None,
        changed: np.ndarray[Any, Any] | None = None,
        clear: bool = True,
    ) -> bytes:
        """Pixels as stored.

        Blocks that ``changed`` (bool, block rows x block columns) does not name are taken from ``keep``.
        ``clear``: whether a format with 1-bit alpha may use it.
        """
        ...


def check_size(width: int, height: int) -> None:
    """Raise LimitError for sides that no texture has."""
    if not (1 <= width <= LARGEST_SIDE and 1 <= height <= LARGEST_SIDE):
        raise LimitError(f"The sides are {width} x {height}.", expected=f"1 to {LARGEST_SIDE} pixels")


def blocks_of(pixel_format: PixelFormat, width: int, height: int) -> tuple[int, int]:
    """Rows and columns of blocks."""
    return -(-height // pixel_format.block), -(-width // pixel_format.block)


def level_size(pixel_format: PixelFormat, width: int, height: int) -> int:
    """Bytes of one level (Microsoft's DDS programming guide: max(1, (side + 3) / 4) blocks each way)."""
    rows, columns = blocks_of(pixel_format, width, height)
    return rows * columns * pixel_format.block_bytes


def level_sides(width: int, height: int, level: int) -> tuple[int, int]:
    """Width and height of a mip level: halved and rounded down, at least 1."""
    return max(1, width >> level), max(1, height >> level)


def full_chain(width: int, height: int) -> int:
    """How many levels there are down to 1 x 1."""
    return max(width, height).bit_length()


def chain_size(pixel_format: PixelFormat, width: int, height: int, levels: int) -> int:
    """Bytes of the first ``levels`` levels."""
    return sum(level_size(pixel_format, *level_sides(width, height, level)) for level in range(levels))


def _exact(pixel_format: PixelFormat, data: bytes, width: int, height: int) -> bytes:
    check_size(width, height)
    size = level_size(pixel_format, width, height)
    if len(data) < size:
        raise TruncatedError(
            f"{width} x {height} pixels of {pixel_format.title} are {size} bytes, but there are {len(data)}."
        )
    return data[:size]


@dataclass(eq=False)
class Channels:
    """8-bit channels in some order; ``order`` gives for each stored byte the channel of R, G, B, A it holds."""

    name: str
    title: str
    order: Sequence[int]
    alpha: Alpha
    block: int = 1

    @property
    def block_bytes(self) -> int:
        return len(self.order)

    def decode(self, data: bytes, width: int, height: int) -> Picture:
        stored = np.frombuffer(_exact(self, data, width, height), np.uint8).reshape(height, width, -1)
        picture = np.full((height, width, 4), 255, np.uint8)
        for place, channel in enumerate(self.order):
            picture[..., channel] = stored[..., place]
        return picture

    def encode(
        self,
        picture: Picture,
        *,
        keep: bytes | None = None,
        changed: np.ndarray[Any, Any] | None = None,
        clear: bool = True,
    ) -> bytes:
        stored = np.ascontiguousarray(picture[..., list(self.order)])
        if keep is not None and changed is not None:
            old = np.frombuffer(keep, np.uint8).reshape(stored.shape)
            stored = np.where(changed[..., None], stored, old)
        return stored.tobytes()


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
    block: int = 4

    @staticmethod
    def _kernel(name: str) -> Callable[..., Any]:
        from brae.core.textures.kernels import bc

        found: Callable[..., Any] = getattr(bc, name)
        return found

    def decode(self, data: bytes, width: int, height: int) -> Picture:
        words = np.frombuffer(_exact(self, data, width, height), "<u4").astype(np.uint32)
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


_FORMATS: dict[str, PixelFormat] = {}


def register(pixel_format: PixelFormat) -> PixelFormat:
    """Make a pixel format known by its name."""
    _FORMATS[pixel_format.name] = pixel_format
    return pixel_format


BC1 = register(BlockCompressed("bc1", "BC1", 8, "binary", "decode_bc1", "encode_bc1"))
BC3 = register(BlockCompressed("bc3", "BC3", 16, "full", "decode_bc3", "encode_bc3"))
RGBA8 = register(Channels("rgba8", "RGBA 8-bit", (0, 1, 2, 3), "full"))
BGRA8 = register(Channels("bgra8", "BGRA 8-bit", (2, 1, 0, 3), "full"))
RGB8 = register(Channels("rgb8", "RGB 24-bit", (0, 1, 2), "none"))
BGR8 = register(Channels("bgr8", "BGR 24-bit", (2, 1, 0), "none"))


def all_formats() -> list[PixelFormat]:
    """Every registered pixel format."""
    return list(_FORMATS.values())


def get(name: str) -> PixelFormat:
    """The pixel format of that name; UnknownFormatError where there is none."""
    if name not in _FORMATS:
        raise UnknownFormatError(f"There is no pixel format '{name}'.", expected=f"one of {', '.join(_FORMATS)}")
    return _FORMATS[name]
