"""Whether plain pixels lie in tiles or in Morton order, as consoles keep them: told by the bits they cost so."""

from __future__ import annotations

from collections.abc import Iterator

from brae.core.assets.texture import formats
from brae.core.assets.texture.formats import PixelFormat, Storage
from brae.core.assets.texture.guess.cost import CLOSER, Numbers
from brae.core.assets.texture.guess.part import Part
from brae.core.assets.texture.guess.sides import Sides
from brae.core.layouts.storage import Tile

_STORAGES = (
    Storage(morton="x-first"),
    Storage(tiles=(Tile(columns=8, rows=8),)),
    Storage(tiles=(Tile(columns=8, rows=4),)),
    Storage(tiles=(Tile(columns=4, rows=4),)),
    Storage(tiles=(Tile(columns=16, rows=8),)),
)
#: so many rows are looked at
_ROWS = 32
#: sides that are longer for their breadth have no tiles
_LONGEST = 2


def _whole(storage: Storage, width: int, height: int) -> bool:
    """Whether sides are filled by whole tiles, or by the curve."""
    if storage.morton:
        return width & (width - 1) == 0 and height & (height - 1) == 0
    return all(width % tile.columns == 0 and height % tile.rows == 0 for tile in storage.tiles or ())


def shares(
    pixel_format: PixelFormat, data: bytes, plain: int, sides: list[Sides]
) -> Iterator[tuple[Storage, float, float, Sides]]:
    """For each order and sides the bits of a pixel, as a share of those it is stored in; and of the same pixels in
    plain rows of ``plain``: a part of a picture may be emptier than the whole.

    Rows of tiles are as many rows of the picture; so many pixels of a Morton curve are a rectangle.
    """
    for one in sides:
        whole_width, whole_height, _ = one
        if max(whole_width, whole_height) > _LONGEST * min(whole_width, whole_height):
            continue
        rows = min(whole_height, _ROWS)
        start = pixel_format.size(whole_width, whole_height // 2 // rows * rows)
        part = data[start : start + pixel_format.size(whole_width, rows)]
        in_rows = Numbers(pixel_format, Part.of(part)).bits_of_pixel(plain, CLOSER)
        for storage in _STORAGES:
            if not _whole(storage, whole_width, whole_height):
                continue
            width, height = whole_width, rows
            if storage.morton:
                power = (width * height).bit_length() - 1
                short = min(1 << power // 2, whole_width, whole_height)
                long = (1 << power) // short
                width, height = (long, short) if whole_width >= whole_height else (short, long)
            order = formats.stored(pixel_format, storage)
            if not isinstance(order, formats.Stored):
                continue
            numbers = Numbers(pixel_format, Part.of(order.linear(part, width, height)))
            stored = 8 * pixel_format.block_bytes
            yield storage, numbers.bits_of_pixel(width, CLOSER) / stored, in_rows / stored, one
