"""Pixel formats, found by name: a pair of decode and encode, and the sizes of its blocks."""

from __future__ import annotations

from typing import Any, Literal, Protocol

import numpy as np

from brae.core.errors import LimitError, TruncatedError, UnknownFormatError

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

    @property
    def alpha(self) -> Alpha:
        """What its transparency can hold."""
        ...

    @property
    def holds(self) -> str:
        """Which channels it keeps: letters of "rgba", or "l" for a grey one."""
        ...

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


def exact(pixel_format: PixelFormat, data: bytes, width: int, height: int) -> bytes:
    check_size(width, height)
    size = level_size(pixel_format, width, height)
    if len(data) < size:
        raise TruncatedError(
            f"{width} x {height} pixels of {pixel_format.title} are {size} bytes, but there are {len(data)}."
        )
    return data[:size]


_FORMATS: dict[str, PixelFormat] = {}


def register(pixel_format: PixelFormat) -> PixelFormat:
    """Make a pixel format known by its name."""
    _FORMATS[pixel_format.name] = pixel_format
    return pixel_format


def all_formats() -> list[PixelFormat]:
    """Every registered pixel format."""
    return list(_FORMATS.values())


def get(name: str) -> PixelFormat:
    """The pixel format of that name; UnknownFormatError where there is none."""
    if name not in _FORMATS:
        raise UnknownFormatError(f"There is no pixel format '{name}'.", expected=f"one of {', '.join(_FORMATS)}")
    return _FORMATS[name]
