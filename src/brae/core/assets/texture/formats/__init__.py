"""Pixel formats. A new one is a file here that registers itself."""

from brae.core.assets.texture.formats.base import (
    DEFAULT,
    LARGEST_SIDE,
    Alpha,
    Effort,
    How,
    Picture,
    PixelFormat,
    Precision,
    all_formats,
    blocks_of,
    chain_size,
    check_size,
    full_chain,
    get,
    level_sides,
)
from brae.core.assets.texture.formats.blocks import BC1, BC2, BC3, BC4, BC4S, BC5, BC5S, BC6H, BC6HS, BC7
from brae.core.assets.texture.formats.channels import BGR8, BGRA8, RGB8, RGBA8
from brae.core.assets.texture.formats.indexed import INDEX4, INDEX8, Indexed
from brae.core.assets.texture.formats.precision import as_precision, precision_of, shown, white_of
from brae.core.assets.texture.formats.swizzled import Swizzled
from brae.core.assets.texture.formats.tiles import Stored, stored
from brae.core.assets.texture.formats.wide import R11G11B10F, RGB9E5, RGBA16F
from brae.core.assets.texture.formats.yuv import UYVY, YUYV
from brae.core.layouts.storage import Storage

__all__ = [
    "BC1",
    "BC2",
    "BC3",
    "BC4",
    "BC4S",
    "BC5",
    "BC5S",
    "BC6H",
    "BC6HS",
    "BC7",
    "BGR8",
    "BGRA8",
    "DEFAULT",
    "INDEX4",
    "INDEX8",
    "LARGEST_SIDE",
    "R11G11B10F",
    "RGB8",
    "RGB9E5",
    "RGBA8",
    "RGBA16F",
    "UYVY",
    "YUYV",
    "Alpha",
    "Effort",
    "How",
    "Indexed",
    "Picture",
    "PixelFormat",
    "Precision",
    "Storage",
    "Stored",
    "Swizzled",
    "all_formats",
    "as_precision",
    "blocks_of",
    "chain_size",
    "check_size",
    "full_chain",
    "get",
    "level_sides",
    "precision_of",
    "shown",
    "stored",
    "white_of",
]
