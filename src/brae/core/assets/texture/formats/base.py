"""Pixel formats, found by name: a pair of decode and encode, and the sizes of its blocks."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any, Literal, Protocol

import numpy as np

from brae.core.errors import LimitError, TruncatedError, UnknownFormatError

#: R, G, B, A, shape (height, width, 4), row 0 at the top; uint8, uint16 or float32 as the format's depth says
Picture = np.ndarray[Any, np.dtype[Any]]
Alpha = Literal["none", "binary", "full"]
#: how finely a channel is held: 8 or 16 bits for 0 to 1, or float32, where 1 is white and more is brighter
Precision = Literal["8", "16", "float"]
Effort = Literal["fast", "normal", "high", "best"]

#: the largest side of a texture (Direct3D 11's limit is 16,384)
LARGEST_SIDE = 16384


@dataclass(frozen=True)
class How:
    """How a picture is encoded, where a format leaves a choice."""

    #: bytes of the original, and which of its blocks (bool, block rows x block columns) are to be made anew
    keep: bytes | None = None
    changed: np.ndarray[Any, Any] | None = None
    #: whether a format with 1-bit alpha may use it
    clear: bool = True
    #: how long an encoder searches
    effort: Effort = "normal"
    #: weigh errors as the eye does (luma of ITU-R BT.709) instead of all channels alike
    perceptual: bool = False

    def keeping(self, keep: bytes | None, changed: np.ndarray[Any, Any] | None) -> How:
        """The same with other kept bytes."""
        return replace(self, keep=keep, changed=changed)

    def mixed(self, stored: np.ndarray[Any, Any]) -> np.ndarray[Any, Any]:
        """``stored`` (block rows, block columns, bytes), but kept bytes where nothing changed."""
        kept = self.kept(stored)
        return stored if kept is None or self.changed is None else np.where(self.changed[..., None], stored, kept)

    def kept(self, stored: np.ndarray[Any, Any]) -> np.ndarray[Any, Any] | None:
        """The kept bytes, as ``stored`` has its own; None where none are kept."""
        return None if self.keep is None else np.frombuffer(self.keep, stored.dtype).reshape(stored.shape)


DEFAULT = How()


class PixelFormat(Protocol):
    """How pixels are stored."""

    @property
    def name(self) -> str: ...

    @property
    def title(self) -> str:
        """For people."""
        ...

    @property
    def block(self) -> tuple[int, int]:
        """Rows and columns of pixels in a block (block_bytes: its bytes)."""
        ...

    @property
    def precision(self) -> Precision:
        """What ``decode`` answers with and ``encode`` is best given."""
        ...

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

    def size(self, width: int, height: int) -> int:
        """Bytes of a picture of these sides."""
        ...

    def decode(self, data: bytes, width: int, height: int) -> Picture:
        """Pixels from exactly ``size`` bytes; TruncatedError where there are fewer."""
        ...

    def encode(self, picture: Picture, how: How = DEFAULT) -> bytes:
        """Pixels as stored; a picture of another depth is converted."""
        ...


class Blocks:
    """What formats share whose blocks follow one another, rows of blocks from the top."""

    block: tuple[int, int] = (1, 1)
    precision: Precision = "8"
    block_bytes: int

    def size(self, width: int, height: int) -> int:
        """Bytes of a picture (Microsoft's DDS programming guide: max(1, (side + 3) / 4) blocks each way)."""
        rows, columns = blocks_of(self, width, height)
        return rows * columns * self.block_bytes


def check_size(width: int, height: int) -> None:
    """Raise LimitError for sides that no texture has."""
    if not (1 <= width <= LARGEST_SIDE and 1 <= height <= LARGEST_SIDE):
        raise LimitError(f"The dimensions are {width} x {height}.", expected=f"1 to {LARGEST_SIDE} pixels")


def blocks_of(pixel_format: Any, width: int, height: int) -> tuple[int, int]:
    """Rows and columns of blocks."""
    return -(-height // pixel_format.block[0]), -(-width // pixel_format.block[1])


def level_sides(width: int, height: int, level: int) -> tuple[int, int]:
    """Width and height of a mip level: halved and rounded down, at least 1."""
    return max(1, width >> level), max(1, height >> level)


def full_chain(width: int, height: int) -> int:
    """How many levels there are down to 1 x 1."""
    return max(width, height).bit_length()


def chain_size(pixel_format: PixelFormat, width: int, height: int, levels: int) -> int:
    """Bytes of the first ``levels`` levels."""
    return sum(pixel_format.size(*level_sides(width, height, level)) for level in range(levels))


def exact(pixel_format: Any, data: bytes, width: int, height: int) -> bytes:
    """The bytes of a picture of these sides; TruncatedError where there are fewer."""
    check_size(width, height)
    size = pixel_format.size(width, height)
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
