"""Pixel formats, found by name. Each module registers its own; a new one is one more file.

``base`` says what a pixel format is, ``channels`` holds plain pixels, ``blocks`` block compression.
"""

from brae.core.textures.formats.base import (
    LARGEST_SIDE,
    Alpha,
    Picture,
    PixelFormat,
    all_formats,
    blocks_of,
    chain_size,
    check_size,
    full_chain,
    get,
    level_sides,
    level_size,
    register,
)
from brae.core.textures.formats.blocks import BC1, BC2, BC3, BC4, BC5
from brae.core.textures.formats.channels import BGR8, BGRA8, RGB8, RGBA8

__all__ = [
    "BC1",
    "BC2",
    "BC3",
    "BC4",
    "BC5",
    "BGR8",
    "BGRA8",
    "LARGEST_SIDE",
    "RGB8",
    "RGBA8",
    "Alpha",
    "Picture",
    "PixelFormat",
    "all_formats",
    "blocks_of",
    "chain_size",
    "check_size",
    "full_chain",
    "get",
    "level_sides",
    "level_size",
    "register",
]
