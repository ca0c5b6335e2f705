"""KTX2 files, read and written (Khronos, "KTX File Format Specification" 2.0).

Data format descriptors as in the Khronos Data Format Specification 1.3, basic descriptor block; format numbers are
those of Vulkan's VkFormat.
"""

from __future__ import annotations

import math
import struct
import zlib
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import zstandard

from brae.core.assets.texture import formats
from brae.core.assets.texture.formats import PixelFormat
from brae.core.assets.texture.formats.channels import PackedBits
from brae.core.assets.texture.texture import MOST_PICTURES, Header, Shape, TextureFile
from brae.core.errors import FormatError, LimitError, TruncatedError, UnknownFormatError

MAGIC = b"\xabKTX 20\xbb\r\n\x1a\n"
_HEAD = struct.Struct("<12s9I4I2Q")
_LEVEL = struct.Struct("<3Q")
_MOST_LEVELS = 16
_NONE, _ZSTD, _ZLIB = 0, 2, 3
_SCHEMES = {_NONE: "none", _ZSTD: "zstd", _ZLIB: "zlib"}

#: VkFormat numbers of each format: UNORM (or its only type), and SRGB where there is one
_VK: dict[str, tuple[int, ...]] = {
    "rgba4444": (2,), "bgra4444": (3,), "rgb565": (4,), "bgr565": (5,), "rgba5551": (6,), "bgra5551": (7,),
    "argb1555": (8,), "r8": (9, 15), "rg8": (16, 22), "rgb8": (23, 29), "bgr8": (30, 36), "rgba8": (37, 43),
    "bgra8": (44, 50), "argb2101010": (58,), "abgr2101010": (64,), "r16": (70,), "r16f": (76,), "rg16": (77,),
    "rg16f": (83,), "rgb16": (84,), "rgb16f": (90,), "rgba16": (91,), "rgba16f": (97,), "r32f": (100,),
    "rg32f": (103,), "rgb32f": (106,), "rgba32f": (109,), "r11g11b10f": (122,), "rgb9e5": (123,),
    "bc1": (133, 134), "bc2": (135, 136), "bc3": (137, 138), "bc4": (139,), "bc4s": (140,), "bc5": (141,),
    "bc5s": (142,), "bc6h": (143,), "bc6hs": (144,), "bc7": (145, 146),
}  # fmt: skip
FORMATS = sorted(_VK)
#: BC1 without alpha, read as BC1
_BC1_RGB = {131: False, 132: True}
_BY_NUMBER = {numbers[0]: (name, False) for name, numbers in _VK.items()}
_BY_NUMBER |= {numbers[1]: (name, True) for name, numbers in _VK.items() if len(numbers) > 1}
_BY_NUMBER |= {number: ("bc1", srgb) for number, srgb in _BC1_RGB.items()}
#: colour models of block formats, and their samples as (bit offset, bits, channel)
_MODELS = {
    "bc1": (128, [(0, 64, 1)]), "bc2": (129, [(0, 64, 15), (64, 64, 0)]), "bc3": (130, [(0, 64, 15), (64, 64, 0)]),
    "bc4": (131, [(0, 64, 0)]), "bc4s": (131, [(0, 64, 0)]), "bc5": (132, [(0, 64, 0), (64, 64, 1)]),
    "bc5s": (132, [(0, 64, 0), (64, 64, 1)]), "bc6h": (133, [(0, 128, 0)]), "bc6hs": (133, [(0, 128, 0)]),
    "bc7": (134, [(0, 128, 0)]),
}  # fmt: skip
_RGBSDA, _BT709, _LINEAR, _SRGB = 1, 1, 1, 2
_FLOAT, _SIGNED, _EXPONENT, _LINEAR_SAMPLE = 0x80, 0x40, 0x20, 0x10
_CHANNELS = {"R": 0, "G": 1, "B": 2, "A": 15}


@dataclass(frozen=True)
class _Samples:
    """The samples of a descriptor: bit offset, bits, channel with qualifiers, lower and upper value."""

    model: int
    rows: list[tuple[int, int, int, int, int]]


def _samples(pixel_format: PixelFormat, srgb: bool) -> _Samples:
    name = pixel_format.name
    one = 0x3F800000
    if name in _MODELS:
        model, places = _MODELS[name]
        rows = []
        for offset, bits, channel in places:
            if name in ("bc4s", "bc5s"):
                rows.append((offset, bits, channel | _SIGNED, 0x80000000, 0x7FFFFFFF))
            elif name in ("bc6h", "bc6hs"):
                signed = name == "bc6hs"
                rows.append(
                    (
                        offset,
                        bits,
                        channel | _FLOAT | (_SIGNED if signed else 0),
                        one | 1 << 31 if signed else 0,
                        one,
                    )
                )
            else:
                alpha = channel == 15 and srgb
                rows.append((offset, bits, channel | (_LINEAR_SAMPLE if alpha else 0), 0, 0xFFFFFFFF))
        return _Samples(model, rows)
    if name == "rgb9e5":
        rows = []
        for c in range(3):
            rows += [(9 * c, 9, c, 0, 8448), (27, 5, c | _EXPONENT, 15, 31)]
        return _Samples(_RGBSDA, rows)
    if name == "r11g11b10f":
        return _Samples(
            _RGBSDA, [(o, b, c | _FLOAT, 0, one) for c, (o, b) in enumerate(((0, 11), (11, 11), (22, 10)))]
        )
    if isinstance(pixel_format, PackedBits):
        places = [(shift, bits, _CHANNELS[channel]) for channel, bits, shift in pixel_format.shifts()]
        return _Samples(_RGBSDA, [(o, b, c, 0, (1 << b) - 1) for o, b, c in sorted(places)])
    order = getattr(pixel_format, "order", "")
    bits = 8 * pixel_format.block_bytes // len(order)
    rows = []
    for place, channel in enumerate(order):
        number, most = _CHANNELS[channel], (1 << bits) - 1
        if pixel_format.precision == "float":
            rows.append((place * bits, bits, number | _FLOAT | _SIGNED, one | 1 << 31, one))
        else:
            rows.append((place * bits, bits, number | (_LINEAR_SAMPLE if number == 15 and srgb else 0), 0, most))
    return _Samples(_RGBSDA, rows)


def descriptor(pixel_format: PixelFormat, srgb: bool) -> bytes:
    """The data format descriptor of a pixel format, its total size in front."""
    samples = _samples(pixel_format, srgb)
    size = 24 + 16 * len(samples.rows)
    rows, columns = pixel_format.block
    block = struct.pack("<HHHH", 0, 0, 2, size)
    block += bytes([samples.model, _BT709, _SRGB if srgb else _LINEAR, 0, columns - 1, rows - 1, 0, 0])
    block += bytes([pixel_format.block_bytes, *[0] * 7])
    for offset, bits, channel, lower, upper in samples.rows:
        block += struct.pack("<HBB4xII", offset, bits - 1, channel, lower, upper)
    return struct.pack("<I", 4 + len(block)) + block


@dataclass(frozen=True)
class Head:
    """What the beginning of a KTX2 file says."""

    header: Header
    number: int
    scheme: int
    index: list[tuple[int, int, int]]
    descriptor: tuple[int, int]
    values: tuple[int, int]


def _upwards(data: bytes, offset: int, size: int) -> bool:
    """Whether the rows begin at the bottom: KTXorientation (KTX 2.0, section 5.2) goes right and up."""
    values, at = data[offset : offset + size], 0
    while at + 4 <= len(values):
        (length,) = struct.unpack_from("<I", values, at)
        key, _, value = values[at + 4 : at + 4 + length].partition(b"\0")
        if key == b"KTXorientation":
            return value[:2] == b"ru"
        at += 4 + length + -length % 4
    return False


def read_header(data: bytes) -> Head:
    """Read header and index of levels."""
    if len(data) < _HEAD.size:
        raise TruncatedError(f"A KTX2 header has {_HEAD.size} bytes, but there are {len(data)}.")
    magic, number, _, width, height, depth, layers, faces, count, scheme, *places = _HEAD.unpack_from(data)
    if magic != MAGIC:
        raise FormatError("This is not a KTX2 file.", offset=0)
    if number not in _BY_NUMBER:
        raise UnknownFormatError(
            f"This KTX2 file has a pixel format that is not read yet: VkFormat {number}.",
            offset=12,
            remedy="Its bytes can still be exported as they are.",
        )
    if scheme not in _SCHEMES:
        raise UnknownFormatError(
            f"Supercompression scheme {scheme} is not read.", offset=44, expected="none, Zstandard or ZLIB"
        )
    if faces not in (1, 6) or layers > MOST_PICTURES or count > _MOST_LEVELS:
        raise LimitError(f"{layers} layers, {faces} faces and {count} levels are no texture.", offset=32)
    name, srgb = _BY_NUMBER[number]
    shape: Shape = "volume" if depth > 1 else "cube" if faces == 6 else "array" if layers > 1 else "2d"
    header = Header(
        "ktx2",
        formats.get(name),
        width,
        max(1, height),
        max(1, count),
        shape=shape,
        surfaces=max(1, layers) * faces,
        depth=max(1, depth),
        colour="srgb" if srgb else "linear" if number in _BC1_RGB or len(_VK[name]) > 1 else None,
        orientation="bottom-up" if _upwards(data, places[2], places[3]) else "top-down",
    ).check()
    if len(data) < _HEAD.size + header.levels * _LEVEL.size:
        raise TruncatedError("The KTX2 index of levels is cut off.", offset=_HEAD.size)
    index = [_LEVEL.unpack_from(data, _HEAD.size + level * _LEVEL.size) for level in range(header.levels)]
    return Head(header, number, scheme, index, (places[0], places[1]), (places[2], places[3]))


def _unpack(data: bytes, scheme: int, size: int) -> bytes:
    try:
        if scheme == _ZSTD:
            return zstandard.ZstdDecompressor().decompress(data, max_output_size=size)
        if scheme == _ZLIB:
            unpacker = zlib.decompressobj()
            return unpacker.decompress(data, size)
    except (zlib.error, zstandard.ZstdError) as error:
        raise FormatError(f"A KTX2 level is damaged ({error}).") from error
    return data


def read(data: bytes) -> TextureFile:
    """A KTX2 file with all its levels."""
    head = read_header(data)
    levels = []
    for level, (offset, size, _) in enumerate(head.index):
        want = head.header.level_size(level)
        if offset + size > len(data):
            raise TruncatedError(f"Level {level} lies behind the end of the file.", offset=offset)
        unpacked = _unpack(data[offset : offset + size], head.scheme, want)
        if len(unpacked) < want:
            raise TruncatedError(f"Level {level} has {len(unpacked)} bytes instead of {want}.", offset=offset)
        levels.append(unpacked[:want])
    kept = data[head.descriptor[0] : sum(head.descriptor)]
    values = data[head.values[0] : sum(head.values)]

    def rewrite(header: Header, new: Sequence[bytes]) -> bytes:
        """The same scheme, descriptor and values; levels whose bytes did not change keep their packed ones."""
        same = header.format.name == head.header.format.name
        packed = {
            level: data[offset : offset + size]
            for level, (offset, size, _) in enumerate(head.index)
            if level < len(new) and new[level] == levels[level]
        }
        return write(
            header,
            new,
            scheme=_SCHEMES[head.scheme],
            values=values,
            number=head.number if same else None,
            kept=kept if same else None,
            packed=packed,
        )

    return TextureFile(head.header, levels, len(data), rewrite, lambda again, _: read(again))


def write(
    header: Header,
    levels: Sequence[bytes],
    *,
    scheme: str = "none",
    values: bytes = b"",
    number: int | None = None,
    kept: bytes | None = None,
    packed: dict[int, bytes] | None = None,
) -> bytes:
    """A KTX2 file; the smallest level lies first, each aligned as the specification asks.

    ``values`` is the block of keys and values, ``kept`` a descriptor and ``packed`` packed levels to be used again.
    """
    if number is None:
        numbers = _VK.get(header.format.name)
        if numbers is None:
            raise UnknownFormatError(f"KTX2 has no number for {header.format.title}.")
        number = numbers[-1] if header.colour == "srgb" else numbers[0]
    srgb = _BY_NUMBER[number][1]
    about = kept or descriptor(header.format, srgb)
    place = _HEAD.size + _LEVEL.size * len(levels)
    about_at = place
    place += len(about)
    place += -place % 4 if values else 0
    values_at = place if values else 0
    place += len(values)
    body, index = [], []
    kind = next(key for key, name in _SCHEMES.items() if name == scheme)
    align = 1 if kind != _NONE else math.lcm(header.format.block_bytes, 4)
    for level in reversed(range(len(levels))):
        data = levels[level]
        stored = (packed or {}).get(level)
        if stored is None:
            stored = zstandard.ZstdCompressor(level=12).compress(data) if kind == _ZSTD else data
            stored = zlib.compress(data, 9) if kind == _ZLIB else stored
        padding = -place % align
        body.append(b"\0" * padding + stored)
        index.append((place + padding, len(stored), len(data)))
        place += padding + len(stored)
    faces = 6 if header.shape == "cube" else 1
    layers = header.surfaces // faces
    head = _HEAD.pack(
        MAGIC,
        number,
        _type_size(header.format),
        header.width,
        header.height,
        header.depth if header.shape == "volume" else 0,
        layers if layers > 1 or header.shape == "array" else 0,
        faces,
        len(levels),
        kind,
        about_at,
        len(about),
        values_at,
        len(values),
        0,
        0,
    )
    entries = b"".join(_LEVEL.pack(*entry) for entry in reversed(index))
    start = head + entries + about
    start += b"\0" * ((values_at or len(start)) - len(start)) + values
    return start + b"".join(body)


def _type_size(pixel_format: PixelFormat) -> int:
    """The bytes of the unit whose byte order matters: 1 for blocks and bytes."""
    if pixel_format.block != (1, 1):
        return 1
    if isinstance(pixel_format, PackedBits) or pixel_format.name in ("rgb9e5", "r11g11b10f"):
        return pixel_format.block_bytes
    kind = getattr(pixel_format, "type", None)
    return int(np.dtype(kind).itemsize) if kind else 1
