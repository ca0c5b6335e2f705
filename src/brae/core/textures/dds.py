"""DDS files, read and written (Microsoft, "Programming Guide for DDS" and "DDS_HEADER structure").

Magic and header are 128 bytes; with the DX10 extension 148.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from brae.core.errors import FormatError, LimitError, TruncatedError, UnknownFormatError
from brae.core.textures import formats
from brae.core.textures.formats import PixelFormat

MAGIC = b"DDS "
HEADER = np.dtype(
    [
        ("magic", "S4"),
        ("size", "<u4"),
        ("flags", "<u4"),
        ("height", "<u4"),
        ("width", "<u4"),
        ("pitch_or_linear_size", "<u4"),
        ("depth", "<u4"),
        ("mip_count", "<u4"),
        ("reserved", "<u4", 11),
        ("pf_size", "<u4"),
        ("pf_flags", "<u4"),
        ("four_cc", "V4"),
        ("bits", "<u4"),
        ("masks", "<u4", 4),
        ("caps", "<u4", 4),
        ("reserved2", "<u4"),
    ]
)
DX10 = np.dtype([("dxgi", "<u4"), ("dimension", "<u4"), ("misc", "<u4"), ("array", "<u4"), ("misc2", "<u4")])

_CAPS, _HEIGHT, _WIDTH, _PITCH, _PIXELFORMAT, _MIPMAPS, _LINEAR_SIZE = 1, 2, 4, 8, 0x1000, 0x20000, 0x80000
_CAPS_TEXTURE, _CAPS_COMPLEX, _CAPS_MIPMAP = 0x1000, 0x8, 0x400000
_PF_ALPHA, _PF_ALPHA_ONLY, _PF_FOURCC, _PF_RGB, _PF_LUMINANCE = 1, 2, 4, 0x40, 0x20000
_CUBE_MAP, _VOLUME = 0x200, 0x200000

#: the first code of a format is the one that is written
_FOUR_CC = {
    b"DXT1": "bc1",
    b"DXT3": "bc2",
    b"DXT2": "bc2",
    b"DXT5": "bc3",
    b"DXT4": "bc3",
    b"ATI1": "bc4",
    b"BC4U": "bc4",
    b"ATI2": "bc5",
    b"BC5U": "bc5",
}
#: DXGI_FORMAT numbers: UNORM and UNORM_SRGB of each
_DXGI = {
    24: "abgr2101010", 28: "rgba8", 29: "rgba8", 49: "rg8", 61: "r8", 65: "a8", 71: "bc1", 72: "bc1", 74: "bc2",
    75: "bc2", 77: "bc3", 78: "bc3", 80: "bc4", 83: "bc5", 85: "rgb565", 86: "argb1555", 87: "bgra8", 88: "bgrx8",
    91: "bgra8", 93: "bgrx8", 115: "argb4444",
}  # fmt: skip


def _masks_of(pixel_format: PixelFormat) -> tuple[int, tuple[int, int, int, int]] | None:
    """Bits of a pixel and the masks of R, G, B, A, for formats that a header can say by masks."""
    masks = getattr(pixel_format, "masks", None)
    return None if masks is None else masks()


def _by_masks(bits: int, masks: tuple[int, ...], grey: bool) -> str | None:
    """The format with these masks."""
    for pixel_format in formats.all_formats():
        if _masks_of(pixel_format) == (bits, masks) and ("l" in pixel_format.holds) == grey:
            return pixel_format.name
    return None


@dataclass(frozen=True)
class Header:
    """What a DDS header says; ``raw`` are its bytes, kept for writing it again."""

    format: PixelFormat
    width: int
    height: int
    levels: int
    raw: bytes

    @property
    def data_size(self) -> int:
        """Bytes of all levels."""
        return formats.chain_size(self.format, self.width, self.height, self.levels)


def read_header(data: bytes) -> Header:
    """Read the header of a DDS file from its first bytes (148 are enough)."""
    if len(data) < HEADER.itemsize:
        raise TruncatedError(f"A DDS header has {HEADER.itemsize} bytes, but there are {len(data)}.")
    head = np.frombuffer(data, HEADER, 1)[0]
    if data[:4] != MAGIC or head["size"] != 124 or head["pf_size"] != 32:
        raise FormatError("This is not a DDS file.", offset=0, expected="'DDS ', header size 124")
    length = HEADER.itemsize
    four_cc = data[84:88]
    if head["pf_flags"] & _PF_FOURCC and four_cc == b"DX10":
        length += DX10.itemsize
        if len(data) < length:
            raise TruncatedError(
                f"A DDS header with the DX10 extension has {length} bytes, but there are {len(data)}."
            )
        more = np.frombuffer(data, DX10, 1, HEADER.itemsize)[0]
        if more["dimension"] != 3 or more["array"] > 1 or more["misc"] & 4:
            raise UnknownFormatError("DDS arrays, cube maps and volumes are not read yet.", offset=HEADER.itemsize)
        name = _DXGI.get(int(more["dxgi"]))
        what = f"DXGI format {more['dxgi']}"
    elif head["pf_flags"] & _PF_FOURCC:
        name, what = _FOUR_CC.get(four_cc), f"four-character code {four_cc!r}"
    else:
        masks = tuple(int(mask) for mask in head["masks"])
        if not head["pf_flags"] & (_PF_ALPHA | _PF_ALPHA_ONLY):
            masks = (*masks[:3], 0)
        if head["pf_flags"] & (_PF_LUMINANCE | _PF_ALPHA_ONLY):
            masks = (masks[0] if head["pf_flags"] & _PF_LUMINANCE else 0, 0, 0, masks[3])
        name = _by_masks(int(head["bits"]), masks, bool(head["pf_flags"] & _PF_LUMINANCE))
        what = f"{head['bits']}-bit pixels with masks {', '.join(f'{mask:#x}' for mask in masks)}"
    if int(head["caps"][1]) & (_CUBE_MAP | _VOLUME):
        raise UnknownFormatError("DDS cube maps and volumes are not read yet.", offset=112)
    if name is None:
        raise UnknownFormatError(
            f"This DDS file has a pixel format that is not read yet: {what}.",
            offset=84,
            remedy="Its bytes can still be exported as they are.",
        )
    width, height = int(head["width"]), int(head["height"])
    formats.check_size(width, height)
    levels = max(1, int(head["mip_count"])) if head["flags"] & _MIPMAPS else 1
    if levels > formats.full_chain(width, height):
        raise LimitError(
            f"{levels} mip levels are more than {width} x {height} pixels can have.",
            offset=28,
            expected=f"at most {formats.full_chain(width, height)}",
        )
    return Header(formats.get(name), width, height, levels, data[:length])


def write_header(
    pixel_format: PixelFormat,
    width: int,
    height: int,
    levels: int,
    *,
    like: bytes | None = None,
    dx10: bool = False,
) -> bytes:
    """A header for these pixels: a new one, or the original's (``like``) with sizes and levels changed."""
    if like is not None:
        head = np.frombuffer(like[: HEADER.itemsize], HEADER, 1).copy()
        tail = like[HEADER.itemsize :]
    else:
        head, tail = _new_header(pixel_format, dx10)
    row = head[0]
    old_width, old_height, old_levels = int(row["width"]), int(row["height"]), max(1, int(row["mip_count"]))
    row["width"], row["height"] = width, height
    # Numbers that the original leaves out or writes its own way stay so as long as they still hold.
    if like is None or (old_width, old_height) != (width, height):
        if row["flags"] & _LINEAR_SIZE:
            row["pitch_or_linear_size"] = formats.level_size(pixel_format, width, height)
        elif row["flags"] & _PITCH:
            row["pitch_or_linear_size"] = width * pixel_format.block_bytes
    if like is None or old_levels != levels:
        row["mip_count"] = levels
        many = levels > 1
        row["flags"] = (int(row["flags"]) | _MIPMAPS) if many else int(row["flags"]) & ~_MIPMAPS
        extra = _CAPS_COMPLEX | _CAPS_MIPMAP
        row["caps"][0] = (int(row["caps"][0]) | extra) if many else int(row["caps"][0]) & ~extra
    return head.tobytes() + tail


def _new_header(pixel_format: PixelFormat, dx10: bool) -> tuple[np.ndarray[Any, Any], bytes]:
    head = np.zeros(1, HEADER)
    row = head[0]
    compressed = pixel_format.block > 1
    row["magic"], row["size"], row["pf_size"] = MAGIC, 124, 32
    row["flags"] = _CAPS | _HEIGHT | _WIDTH | _PIXELFORMAT | (_LINEAR_SIZE if compressed else _PITCH)
    row["caps"][0] = _CAPS_TEXTURE
    if dx10:
        numbers = [number for number, name in _DXGI.items() if name == pixel_format.name]
        if not numbers:
            raise UnknownFormatError(f"{pixel_format.title} has no DXGI number; write it with the 128-byte header.")
        row["pf_flags"], row["four_cc"] = _PF_FOURCC, np.void(b"DX10")
        more = np.zeros(1, DX10)
        more["dxgi"], more["dimension"], more["array"] = numbers[0], 3, 1
        return head, more.tobytes()
    if compressed:
        four_cc = next(code for code, name in _FOUR_CC.items() if name == pixel_format.name)
        row["pf_flags"], row["four_cc"] = _PF_FOURCC, np.void(four_cc)
    else:
        found = _masks_of(pixel_format)
        if found is None:
            raise UnknownFormatError(f"A DDS header cannot say {pixel_format.title}.")
        bits, masks = found
        row["bits"], row["masks"] = bits, masks
        if pixel_format.holds == "a":
            row["pf_flags"] = _PF_ALPHA_ONLY
        else:
            grey = "l" in pixel_format.holds
            row["pf_flags"] = (_PF_LUMINANCE if grey else _PF_RGB) | (_PF_ALPHA if masks[3] else 0)
    return head, b""
