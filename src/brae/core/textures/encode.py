"""Encoding a picture like its original."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from brae.core.errors import LimitError
from brae.core.textures import dds, formats, mips
from brae.core.textures.files import Recipe, TextureFile
from brae.core.textures.formats import Picture, PixelFormat


@dataclass(frozen=True)
class Encoded:
    """A texture file made from a picture."""

    data: bytes
    #: blocks (or pixels, where the format has no blocks) that kept the original's bytes, and all of them
    kept: int
    blocks: int


def encode_levels(
    picture: Picture,
    pixel_format: PixelFormat,
    count: int,
    *,
    clear: bool = True,
    original: TextureFile | None = None,
) -> tuple[list[bytes], int, int]:
    """The first ``count`` mip levels of a picture, and how many blocks were kept, of how many.

    Blocks that depend on no pixel in which the picture differs from ``original`` keep the original's bytes: an
    edit costs nothing where nothing was painted, and what comes back untouched is equal to the byte.
    ``clear``: whether 1-bit alpha may be used. Rows are stored as they come.
    """
    height, width = picture.shape[:2]
    levels = mips.make_levels(picture, count)
    masks: list[np.ndarray[Any, Any]] | None = None
    if original is not None and (original.header.width, original.header.height) == (width, height):
        before = original.header.format.decode(original.levels[0], width, height)
        masks = mips.changed_levels((before != picture).any(axis=2), count)
    data, kept, blocks = [], 0, 0
    for level, pixels in enumerate(levels):
        rows, columns = formats.blocks_of(pixel_format, pixels.shape[1], pixels.shape[0])
        blocks += rows * columns
        changed = None
        if masks is not None and original is not None and level < len(original.levels):
            changed = mips.reduce_blocks(masks[level], pixel_format.block)
            kept += int(changed.size - np.count_nonzero(changed))
        keep = original.levels[level] if changed is not None and original is not None else None
        data.append(pixel_format.encode(pixels, keep=keep, changed=changed, clear=clear))
    return data, kept, blocks


def encode_like(picture: Picture, original: TextureFile, recipe: Recipe) -> Encoded:
    """A picture as a file like its original: pixel format, levels, orientation, header.

    ``recipe.levels`` is kept where the sides are; a picture of other sides that had a full chain gets one.
    """
    height, width = picture.shape[:2]
    stored = np.ascontiguousarray(picture[::-1] if recipe.orientation == "bottom-up" else picture)
    pixel_format = formats.get(recipe.format)
    count = recipe.levels
    if count == formats.full_chain(recipe.width, recipe.height):
        count = formats.full_chain(width, height) if count > 1 else 1
    count = min(count, formats.full_chain(width, height))
    levels, kept, blocks = encode_levels(
        stored, pixel_format, count, clear=recipe.alpha != "none", original=original
    )
    return Encoded(original.write(levels, width, height), kept, blocks)


def encode_new(picture: Picture, pixel_format: PixelFormat, levels: int | None, *, dx10: bool = False) -> bytes:
    """A DDS file; ``levels`` None makes the full chain."""
    height, width = picture.shape[:2]
    formats.check_size(width, height)
    longest = formats.full_chain(width, height)
    count = longest if levels is None else levels
    if not 1 <= count <= longest:
        raise LimitError(f"{width} x {height} pixels cannot have {count} levels.", expected=f"1 to {longest}")
    data, _, _ = encode_levels(picture, pixel_format, count)
    return dds.write_header(pixel_format, width, height, count, dx10=dx10) + b"".join(data)
