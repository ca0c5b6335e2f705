"""DDS files, read and written (Microsoft, "Programming Guide for DDS" and "DDS_HEADER structure").

Magic and header are 128 bytes; with the DX10 extension 148.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from brae.core.assets.texture import formats
from brae.core.assets.texture.formats import PixelFormat
from brae.core.assets.texture.texture import Header, Shape, TextureFile, join_levels, split_levels
from brae.core.errors import FormatError, TruncatedError, UnknownFormatError

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
_DEPTH, _CUBE_MAP, _ALL_FACES, _VOLUME = 0x800000, 0x200, 0xFC00, 0x200000
_DIMENSION_2D, _DIMENSION_3D, _MISC_CUBE = 3, 4, 4

#: the first code of a format is the one that is written; numbers are D3DFMT values
_FOUR_CC = {
    b"DXT1": "bc1",
    b"DXT3": "bc2",
    b"DXT2": "bc2",
    b"DXT5": "bc3",
    b"DXT4": "bc3",
    b"ATI1": "bc4",
    b"BC4U": "bc4",
    b"BC4S": "bc4s",
    b"ATI2": "bc5",
    b"BC5U": "bc5",
    b"BC5S": "bc5s",
    # Normal maps, the code naming what R, G, B and A hold; the first one names A, R, G and B.
    b"RXGB": "bc3-xgbr",
    b"xGBR": "bc3-xgbr",
    b"xGxR": "bc3-xgxr",
    b"RxBG": "bc3-rxbg",
    b"RBxG": "bc3-rbxg",
    b"xRBG": "bc3-xrbg",
    b"RGxB": "bc3-rgxb",
    b"YUY2": "yuyv",
    b"UYVY": "uyvy",
    **{
        number.to_bytes(4, "little"): name
        for number, name in {
            36: "rgba16", 81: "l16", 111: "r16f", 112: "rg16f", 113: "rgba16f", 114: "r32f", 115: "rg32f",
            116: "rgba32f",
        }.items()
    },
}  # fmt: skip
#: four-character codes whose colour is multiplied by alpha
_PREMULTIPLIED = (b"DXT2", b"DXT4")
#: DXGI_FORMAT numbers: UNORM (or the format's only type) and UNORM_SRGB
_DXGI = {
    2: "rgba32f", 6: "rgb32f", 10: "rgba16f", 11: "rgba16", 16: "rg32f", 24: "abgr2101010", 26: "r11g11b10f",
    28: "rgba8", 29: "rgba8", 34: "rg16f", 35: "rg16", 41: "r32f", 49: "rg8", 54: "r16f", 56: "r16", 61: "r8",
    65: "a8", 67: "rgb9e5", 71: "bc1", 72: "bc1", 74: "bc2", 75: "bc2", 77: "bc3", 78: "bc3", 80: "bc4", 81: "bc4s",
    83: "bc5", 84: "bc5s", 85: "rgb565", 86: "argb1555", 87: "bgra8", 88: "bgrx8", 91: "bgra8", 93: "bgrx8",
    95: "bc6h", 96: "bc6hs", 98: "bc7", 99: "bc7", 107: "yuyv", 115: "argb4444",
}  # fmt: skip
#: DXGI_FORMAT numbers that leave the meaning of the same bits to the game (TYPELESS), or say whole numbers (UINT):
#: they are shown as UNORM. Files of these keep their number.
_DXGI_KIN = {
    1: "rgba32f", 5: "rgb32f", 9: "rgba16", 12: "rgba16", 15: "rg32f", 23: "abgr2101010", 25: "abgr2101010",
    27: "rgba8", 30: "rgba8", 33: "rg16", 36: "rg16", 39: "r32f", 48: "rg8", 50: "rg8", 53: "r16", 57: "r16",
    60: "r8", 62: "r8", 70: "bc1", 73: "bc2", 76: "bc3", 79: "bc4", 82: "bc5", 90: "bgra8", 92: "bgrx8",
    94: "bc6h", 97: "bc7",
}  # fmt: skip
#: masks of formats that are no packed bits here: bits, masks of R, G, B, A, whether it is grey
_WIDE_MASKS = {
    (16, (0xFFFF, 0, 0, 0), True): "l16",
    (16, (0xFFFF, 0, 0, 0), False): "r16",
    (32, (0xFFFF, 0xFFFF0000, 0, 0), False): "rg16",
}
#: all that can be said
FORMATS = sorted({*_FOUR_CC.values(), *_DXGI.values()})
_DXGI_SRGB = (29, 72, 75, 78, 91, 93, 99)


def _masks_of(pixel_format: PixelFormat) -> tuple[int, tuple[int, int, int, int]] | None:
    """Bits of a pixel and the masks of R, G, B, A, for formats that a header can say by masks."""
    masks = getattr(pixel_format, "masks", None)
    return None if masks is None else masks()


def _by_masks(bits: int, masks: tuple[int, ...], grey: bool) -> str | None:
    """The format with these masks."""
    if (bits, masks, grey) in _WIDE_MASKS:
        return _WIDE_MASKS[bits, masks, grey]  # type: ignore[index]
    for pixel_format in formats.all_formats():
        if _masks_of(pixel_format) == (bits, masks) and ("l" in pixel_format.holds) == grey:
            return pixel_format.name
    return None


@dataclass(frozen=True)
class Head:
    """What a DDS header says; ``raw`` are its bytes, kept for writing it again."""

    header: Header
    raw: bytes
    #: levels that the header states and the file does not hold
    missing: int = 0


def read_header(data: bytes, size: int | None = None) -> Head:
    """Read the header of a DDS file from its first bytes (148 are enough); ``size`` is that of the whole file.

    Several writers state a number of mip levels without the flag that says so (DDSD_MIPMAPCOUNT), some set no flags
    at all: then the number holds if there are as many bytes.
    """
    if len(data) < HEADER.itemsize:
        raise TruncatedError(f"A DDS header has {HEADER.itemsize} bytes, but there are {len(data)}.")
    head = np.frombuffer(data, HEADER, 1)[0]
    # Some writers leave the sizes of the header and of its pixel format at 0.
    if data[:4] != MAGIC or head["size"] not in (124, 0) or head["pf_size"] not in (32, 0):
        raise FormatError("This is not a DDS file.", offset=0, expected="'DDS ', header size 124")
    length, four_cc = HEADER.itemsize, data[84:88]
    volume, cube = int(head["caps"][1]) & _VOLUME, int(head["caps"][1]) & _CUBE_MAP
    faces = int(head["caps"][1]) & _ALL_FACES
    # A cube map with some of its faces holds these in their order; without a word on them it has all six.
    surfaces, colour = (faces.bit_count() or 6) if cube else 1, None
    shape: Shape = "volume" if volume else "2d" if not cube else "cube" if surfaces == 6 else "array"
    shape = "2d" if shape == "array" and surfaces == 1 else shape
    if head["pf_flags"] & _PF_FOURCC and four_cc == b"DX10":
        length += DX10.itemsize
        if len(data) < length:
            raise TruncatedError(
                f"A DDS header with the DX10 extension has {length} bytes, but there are {len(data)}."
            )
        more = np.frombuffer(data, DX10, 1, HEADER.itemsize)[0]
        number, layers = int(more["dxgi"]), max(1, int(more["array"]))
        if more["dimension"] not in (_DIMENSION_2D, _DIMENSION_3D):
            raise UnknownFormatError("DDS files of one dimension are not read.", offset=HEADER.itemsize + 4)
        cube = int(more["misc"]) & _MISC_CUBE
        shape = (
            "volume" if more["dimension"] == _DIMENSION_3D else "cube" if cube else "array" if layers > 1 else "2d"
        )
        surfaces = layers * (6 if cube else 1)
        name, what = _DXGI.get(number, _DXGI_KIN.get(number)), f"DXGI format {number}"
        colour = "srgb" if number in _DXGI_SRGB else None
    elif head["pf_flags"] & _PF_FOURCC:
        name = _FOUR_CC.get(four_cc)
        printable = all(32 <= byte < 127 for byte in four_cc)
        what = f"four-character code {four_cc!r}" if printable else f"D3DFMT {int.from_bytes(four_cc, 'little')}"
    else:
        masks = tuple(int(mask) for mask in head["masks"])
        if not head["pf_flags"] & (_PF_ALPHA | _PF_ALPHA_ONLY):
            masks = (*masks[:3], 0)
        if head["pf_flags"] & (_PF_LUMINANCE | _PF_ALPHA_ONLY):
            masks = (masks[0] if head["pf_flags"] & _PF_LUMINANCE else 0, 0, 0, masks[3])
        name = _by_masks(int(head["bits"]), masks, bool(head["pf_flags"] & _PF_LUMINANCE))
        what = f"{head['bits']}-bit pixels with masks {', '.join(f'{mask:#x}' for mask in masks)}"
    if name is None:
        raise UnknownFormatError(
            f"This DDS file has a pixel format that is not read yet: {what}.",
            offset=84,
            remedy="Its bytes can still be exported as they are.",
        )
    stated = max(1, int(head["mip_count"]))
    header = Header(
        "dds",
        formats.get(name),
        int(head["width"]),
        int(head["height"]),
        stated if head["flags"] & _MIPMAPS else 1,
        shape=shape,
        surfaces=surfaces,
        depth=max(1, int(head["depth"])) if shape == "volume" else 1,
        colour=colour,  # type: ignore[arg-type]
        premultiplied=four_cc in _PREMULTIPLIED,
    )
    header = header.check()
    if stated > header.levels and size is not None and stated <= formats.full_chain(header.width, header.height):
        chain = replace(header, levels=stated)
        header = chain if length + chain.data_size <= size else header
    missing = 0
    if size is not None and header.surfaces == 1:
        # Of a chain that is cut short what is there is shown.
        held = header
        while held.levels > 1 and length + held.data_size > size:
            held = replace(held, levels=held.levels - 1)
        if length + held.data_size <= size:
            header, missing = held, header.levels - held.levels
    return Head(header, data[:length], missing)


def write_header(header: Header, *, like: bytes | None = None, dx10: bool = False, missing: int = 0) -> bytes:
    """A header for these pixels: a new one, or the original's (``like``) with dimensions and levels changed.

    ``missing``: so many levels more than it holds the original states, and goes on doing so. A new one has the DX10
    extension where nothing else can say the format.
    """
    pixel_format, levels = header.format, header.levels
    if like is not None and read_header(like).header.format.name == pixel_format.name:
        head = np.frombuffer(like[: HEADER.itemsize], HEADER, 1).copy()
        tail = like[HEADER.itemsize :]
    else:
        head, tail = _new_header(header, dx10 or (like is not None and len(like) > HEADER.itemsize))
        like = None
    row = head[0]
    old_width, old_height = int(row["width"]), int(row["height"])
    old_levels = max(1, int(row["mip_count"])) - missing
    row["width"], row["height"] = header.width, header.height
    # Numbers that the original leaves out or writes its own way stay so as long as they still hold.
    if like is None or (old_width, old_height) != (header.width, header.height):
        if row["flags"] & _LINEAR_SIZE:
            row["pitch_or_linear_size"] = pixel_format.size(header.width, header.height)
        elif row["flags"] & _PITCH:
            row["pitch_or_linear_size"] = pixel_format.size(header.width, 1)
    if like is None or old_levels != levels:
        row["mip_count"] = levels
        many = levels > 1
        row["flags"] = (int(row["flags"]) | _MIPMAPS) if many else int(row["flags"]) & ~_MIPMAPS
        extra = _CAPS_MIPMAP | (_CAPS_COMPLEX if header.shape == "2d" else 0)
        row["caps"][0] = (int(row["caps"][0]) | extra) if many else int(row["caps"][0]) & ~extra
    return head.tobytes() + tail


def _new_header(header: Header, dx10: bool) -> tuple[np.ndarray[Any, Any], bytes]:
    head = np.zeros(1, HEADER)
    row, pixel_format = head[0], header.format
    compressed = pixel_format.block != (1, 1)
    row["magic"], row["size"], row["pf_size"] = MAGIC, 124, 32
    row["flags"] = _CAPS | _HEIGHT | _WIDTH | _PIXELFORMAT | (_LINEAR_SIZE if compressed else _PITCH)
    row["caps"][0] = _CAPS_TEXTURE | (_CAPS_COMPLEX if header.shape != "2d" else 0)
    if header.shape == "volume":
        row["flags"] = int(row["flags"]) | _DEPTH
        row["depth"], row["caps"][1] = header.depth, _VOLUME
    elif header.shape == "cube":
        row["caps"][1] = _CUBE_MAP | _ALL_FACES
    numbers = [number for number, name in _DXGI.items() if name == pixel_format.name]
    four_cc = next((code for code, name in _FOUR_CC.items() if name == pixel_format.name), None)
    found = _masks_of(pixel_format)
    if not dx10 and (
        header.shape == "array" or header.surfaces > 6 or (four_cc is None and found is None and numbers)
    ):
        dx10 = True
    if dx10:
        if not numbers:
            raise UnknownFormatError(f"{pixel_format.title} has no DXGI number; write it with the 128-byte header.")
        row["pf_flags"], row["four_cc"] = _PF_FOURCC, np.void(b"DX10")
        more = np.zeros(1, DX10)
        srgb = [number for number in numbers if number in _DXGI_SRGB]
        more["dxgi"] = srgb[0] if header.colour == "srgb" and srgb else numbers[0]
        more["dimension"] = _DIMENSION_3D if header.shape == "volume" else _DIMENSION_2D
        more["array"] = header.surfaces // (6 if header.shape == "cube" else 1)
        more["misc"] = _MISC_CUBE if header.shape == "cube" else 0
        return head, more.tobytes()
    if four_cc is not None:
        row["pf_flags"], row["four_cc"] = _PF_FOURCC, np.void(four_cc)
        return head, b""
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


def read(data: bytes) -> TextureFile:
    """A DDS file with all its levels."""
    head = read_header(data, len(data))
    levels, end = split_levels(head.header, data, len(head.raw))
    trailing = data[end:]

    def rewrite(header: Header, levels: Sequence[bytes]) -> bytes:
        return write_header(header, like=head.raw, missing=head.missing) + join_levels(header, levels) + trailing

    return TextureFile(head.header, levels, len(data), rewrite, lambda again, _: read(again), missing=head.missing)


def end_of(data: bytes) -> int:
    """Where the pixels of a DDS file end."""
    head = read_header(data, len(data))
    return len(head.raw) + head.header.data_size


def write(header: Header, levels: Sequence[bytes], *, dx10: bool = False) -> bytes:
    """A new DDS file."""
    return write_header(replace(header, container="dds"), dx10=dx10) + join_levels(header, levels)
