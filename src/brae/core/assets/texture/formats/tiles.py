"""Pixels that are not stored row by row: tiles within tiles, Morton order, padded rows, split bytes.

Whatever the order, it is a permutation of a format's blocks; it is worked out once for a pair of sides and then
applied to bytes, so any pixel format can lie in any order.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np

from brae.core.assets.texture.formats.base import (
    DEFAULT,
    Alpha,
    How,
    Picture,
    PixelFormat,
    Precision,
    blocks_of,
    check_size,
    exact,
)
from brae.core.layouts.storage import Storage, Tile

Numbers = np.ndarray[Any, np.dtype[np.int64]]


def _spread_bits(values: Numbers, other_bits: int) -> Numbers:
    """Make room behind each of the lowest ``other_bits`` bits for a bit of the other coordinate."""
    result = np.zeros_like(values)
    for bit in range(16):
        result |= ((values >> bit) & 1) << (bit + min(bit, other_bits))
    return result


def _morton(columns: int, rows: int, first: str) -> Numbers:
    """The place of each block (rows x columns) in Morton order; sides are powers of two."""
    x, y = np.arange(columns)[None, :], np.arange(rows)[:, None]
    x_bits, y_bits = (columns - 1).bit_length(), (rows - 1).bit_length()
    shared = min(x_bits, y_bits)
    low_x, low_y = x & ((1 << shared) - 1), y & ((1 << shared) - 1)
    one, two = (low_x, low_y) if first == "x-first" else (low_y, low_x)
    place = _spread_bits(one, shared) | (_spread_bits(two, shared) << 1)
    rest = (x >> shared) if x_bits > shared else (y >> shared)
    return place + (rest << (2 * shared))


def _tiled(columns: int, rows: int, tiles: tuple[Tile, ...]) -> Numbers:
    """The place of each block in tiles of tiles, the outermost row by row."""
    x, y = np.broadcast_arrays(np.arange(columns)[None, :], np.arange(rows)[:, None])
    place, size, across = np.zeros((rows, columns), np.int64), 1, columns
    for tile in tiles:
        in_x, in_y = x % tile.columns, y % tile.rows
        inner = in_y * tile.columns + in_x if tile.order == "rows" else in_x * tile.rows + in_y
        place = place + inner * size
        x, y, size, across = (
            x // tile.columns,
            y // tile.rows,
            size * tile.columns * tile.rows,
            across // tile.columns,
        )
    return place + (y * across + x) * size


@lru_cache(maxsize=64)
def _places(storage: Storage, columns: int, rows: int, block_bytes: int) -> tuple[Numbers, int]:
    """Where each byte of each block lies (rows x columns x block bytes), and all bytes with padding."""
    if not storage.tiles and not storage.morton and not storage.split:
        # A row's padding need not be whole pixels: three bytes each, and rows of a multiple of four.
        row = -(-columns * block_bytes // storage.pitch) * storage.pitch
        x, y = np.arange(columns)[None, :, None], np.arange(rows)[:, None, None]
        return y * row + x * block_bytes + np.arange(block_bytes), row * rows
    wide, high = 1, 1
    for tile in storage.tiles:
        wide, high = wide * tile.columns, high * tile.rows
    across, down = -(-columns // wide) * wide, -(-rows // high) * high
    if storage.morton:
        across, down = 1 << (columns - 1).bit_length(), 1 << (rows - 1).bit_length()
        place = _morton(across, down, storage.morton)
    else:
        while across * block_bytes % storage.pitch:
            across += wide
        place = _tiled(across, down, storage.tiles)
    count = storage.tiles[0].columns * storage.tiles[0].rows if storage.tiles else 1
    within = np.arange(block_bytes)
    if storage.split:
        at, offsets = 0, np.empty(block_bytes, np.int64)
        strides = np.empty(block_bytes, np.int64)
        for group in storage.split:
            for order, byte in enumerate(group):
                offsets[byte], strides[byte] = at + order, len(group)
            at += len(group) * count
        number, inside = np.divmod(place[:rows, :columns], count)
        found = number[..., None] * (count * block_bytes) + inside[..., None] * strides + offsets
    else:
        found = place[:rows, :columns, None] * block_bytes + within
    return found, across * down * block_bytes


@dataclass(frozen=True, eq=False)
class Stored:
    """A pixel format whose blocks lie in another order."""

    inner: PixelFormat
    storage: Storage

    @property
    def name(self) -> str:
        return self.inner.name

    @property
    def title(self) -> str:
        return f"{self.inner.title}, {self.storage.words}"

    @property
    def block(self) -> tuple[int, int]:
        return self.inner.block

    @property
    def block_bytes(self) -> int:
        return self.inner.block_bytes

    @property
    def alpha(self) -> Alpha:
        return self.inner.alpha

    @property
    def holds(self) -> str:
        return self.inner.holds

    @property
    def precision(self) -> Precision:
        return self.inner.precision

    def _sides(self, width: int, height: int) -> tuple[int, int]:
        check_size(width, height)
        rows, columns = blocks_of(self.inner, width, height)
        return columns, rows

    def size(self, width: int, height: int) -> int:
        """Bytes of a level, padding included."""
        _, size = _places(self.storage, *self._sides(width, height), self.block_bytes)
        return -(-size // self.storage.align) * self.storage.align

    def linear(self, data: bytes, width: int, height: int) -> bytes:
        """The blocks row by row, from exactly the bytes of these sides."""
        places, _ = _places(self.storage, *self._sides(width, height), self.block_bytes)
        return np.frombuffer(data, np.uint8)[places].tobytes()

    def decode(self, data: bytes, width: int, height: int) -> Picture:
        return self.inner.decode(self.linear(exact(self, data, width, height), width, height), width, height)

    def encode(self, picture: Picture, how: How = DEFAULT) -> bytes:
        """Padding is kept from the original, or zero."""
        height, width = picture.shape[:2]
        places, _ = _places(self.storage, *self._sides(width, height), self.block_bytes)
        out = np.zeros(self.size(width, height), np.uint8)
        if how.keep is not None:
            out[:] = np.frombuffer(how.keep, np.uint8)
            how = how.keeping(self.linear(how.keep, width, height), how.changed)
        linear = np.frombuffer(self.inner.encode(picture, how), np.uint8)
        out[places.reshape(-1)] = linear
        return out.tobytes()


def stored(pixel_format: PixelFormat, storage: Storage | None) -> PixelFormat:
    """A pixel format in that order of blocks."""
    if storage is None or storage.plain:
        return pixel_format
    inner = pixel_format.inner if isinstance(pixel_format, Stored) else pixel_format
    if storage.split and sorted(sum(storage.split, ())) != list(range(inner.block_bytes)):
        from brae.core.errors import FormatError

        raise FormatError(
            f"The split of bytes does not name each of a block's {inner.block_bytes} bytes once.",
            remedy=f"{inner.title} has {inner.block_bytes} bytes a block, counted from 0.",
        )
    return Stored(inner, storage)
