"""Texture files of every kind, behind one shape: a header, levels of pixels, and how to write it again."""

from __future__ import annotations

import io
import struct
import zlib
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np
from PIL import Image
from pydantic import BaseModel

from brae.core.errors import BraeError, FormatError, LimitError, TruncatedError, UnknownFormatError
from brae.core.layouts.library import Library
from brae.core.layouts.model import MAIN, Layout, PixelsPart
from brae.core.layouts.read import Parsed, first_value, parse
from brae.core.layouts.write import compose
from brae.core.sources import BytesSource
from brae.core.textures import dds, formats
from brae.core.textures.formats import Alpha, Picture, PixelFormat

Orientation = Literal["top-down", "bottom-up"]
#: bytes that are enough to recognise a file and read its header
HEAD = 512
Image.MAX_IMAGE_PIXELS = formats.LARGEST_SIDE**2


class Recipe(BaseModel):
    """All that encoding needs and decoding learns."""

    container: str
    format: str
    width: int
    height: int
    levels: int
    orientation: Orientation = "top-down"
    #: the transparency that the original really uses
    alpha: Alpha = "none"
    size: int
    packer: str | None = None
    packing_level: int | None = None


@dataclass(frozen=True)
class Header:
    """What the first bytes of a texture say about it."""

    container: str
    format: PixelFormat
    width: int
    height: int
    levels: int
    orientation: Orientation = "top-down"


@dataclass
class TextureFile:
    """A texture as read: level 0 first, rows in the file's own order."""

    header: Header
    levels: list[bytes]
    size: int
    raw_header: bytes = b""
    trailing: bytes = b""
    parsed: Parsed | None = None
    _decoded: dict[int, Picture] = field(default_factory=dict)

    def picture(self, level: int = 0) -> Picture:
        """One level as R, G, B, A, row 0 at the top of the picture."""
        if level not in self._decoded:
            sides = formats.level_sides(self.header.width, self.header.height, level)
            picture = self.header.format.decode(self.levels[level], *sides)
            self._decoded[level] = picture[::-1] if self.header.orientation == "bottom-up" else picture
        return self._decoded[level]

    def recipe(self) -> Recipe:
        """How this texture is encoded."""
        head = self.header
        alpha = self.picture()[..., 3]
        used: Alpha = "none"
        if alpha.min() < 255:
            used = "full" if ((alpha > 0) & (alpha < 255)).any() else "binary"
        return Recipe(
            container=head.container,
            format=head.format.name,
            width=head.width,
            height=head.height,
            levels=head.levels,
            orientation=head.orientation,
            alpha=used,
            size=self.size,
        )

    def again(self, data: bytes) -> TextureFile:
        """Another file of the same kind, such as this one written anew."""
        if self.parsed is not None:
            return read_described(self.parsed.layout, data)
        return read_dds(data) if self.header.container == "dds" else read_picture_file(data)

    def write(self, levels: Sequence[bytes], width: int, height: int) -> bytes:
        """The file with other pixels: its header follows, what else it holds is kept."""
        if self.parsed is not None:
            return _write_described(self.parsed, levels, width, height)
        if self.header.container == "dds":
            head = dds.write_header(self.header.format, width, height, len(levels), like=self.raw_header)
            return head + b"".join(levels) + self.trailing
        picture = self.header.format.decode(levels[0], width, height)
        return write_image(picture, self.header.container, alpha=self.header.format.alpha != "none")


# ---- pictures of open formats ---------------------------------------------------------------------------

_IMAGE_MAGIC = {
    b"\x89PNG\r\n\x1a\n": "png",
    b"BM": "bmp",
    b"GIF8": "gif",
    b"\xff\xd8\xff": "jpeg",
    b"II*\0": "tiff",
    b"MM\0*": "tiff",
}
#: what a game's own picture members are written as again
_WRITABLE = ("png", "bmp")


@dataclass(frozen=True)
class ImageFile:
    """A picture of an open format, as an editor saved it."""

    picture: Picture
    type: str
    mode: str
    has_alpha: bool
    bits: int
    #: mip levels in the file itself
    levels: int = 1


def image_type(head: bytes) -> str | None:
    """The open picture format of a file's first bytes."""
    if head[:4] == b"RIFF" and head[8:12] == b"WEBP":
        return "webp"
    return next((name for magic, name in _IMAGE_MAGIC.items() if head.startswith(magic)), None)


def read_image(data: bytes) -> ImageFile:
    """A picture that any image program saved; its type is told by its bytes, not by its name.

    A DDS file is read too (its largest level). Raises FormatError for damage, LimitError for absurd sides.
    """
    if data[:4] == dds.MAGIC:
        texture = read_dds(data)
        head = texture.header
        return ImageFile(texture.picture(), "dds", head.format.title, head.format.alpha != "none", 8, head.levels)
    kind = image_type(data[:16])
    if kind is None:
        raise UnknownFormatError(
            "This is not a picture that Brae reads." if data else "The file is empty.",
            offset=0,
            expected="PNG, DDS, BMP, TIFF, WebP, GIF or JPEG",
            remedy="Save it as PNG.",
        )
    try:
        with Image.open(io.BytesIO(data), formats=[kind]) as image:
            formats.check_size(*image.size)
            mode = image.mode
            bits = 16 if mode in ("I;16", "I;16B", "I", "F") else 8
            if kind == "png" and data[24:25] == b"\x10":
                bits = 16
            has_alpha = mode in ("RGBA", "LA", "PA", "RGBa", "La") or "transparency" in image.info
            if bits == 16 and mode != "RGBA" and mode != "RGB":
                wide = np.asarray(image).astype(np.float64)
                gray = np.rint(wide / 257 if mode != "F" else wide * 255).clip(0, 255).astype(np.uint8)
                image_8 = Image.fromarray(gray).convert("RGBA")
            else:
                image_8 = image.convert("RGBA")
            return ImageFile(np.array(image_8), kind, mode, has_alpha, bits)
    except BraeError:
        raise
    except Image.DecompressionBombError as error:
        raise LimitError(
            "The picture is absurdly large.", expected=f"sides up to {formats.LARGEST_SIDE}"
        ) from error
    except (
        OSError,
        ValueError,
        SyntaxError,
        EOFError,
        struct.error,
        IndexError,
        KeyError,
        TypeError,
        MemoryError,
        OverflowError,
    ) as error:
        raise FormatError(
            f"The {kind.upper()} file is damaged or not complete ({error}).", remedy="Save it again."
        ) from error


def write_image(picture: Picture, kind: str = "png", *, alpha: bool = True, quick: bool = False) -> bytes:
    """A picture as a file of an open format ('png', 'bmp', 'dds' as RGBA); ``quick`` favours time over size."""
    if kind == "dds":
        height, width = picture.shape[:2]
        return dds.write_header(formats.RGBA8, width, height, 1) + formats.RGBA8.encode(picture)
    if kind == "png" and quick:
        return _quick_png(picture)
    image = Image.fromarray(np.ascontiguousarray(picture))
    stream = io.BytesIO()
    # Pillow writes 32-bit BMP files without an alpha mask, which many programs then drop.
    if not alpha or kind == "bmp":
        image = image.convert("RGB")
    image.save(stream, kind)
    return stream.getvalue()


def _quick_png(picture: Picture) -> bytes:
    """A PNG (RFC 2083) with every row filtered by 'Sub': twice as fast as choosing a filter for each row.

    For the pictures of a page, of which there are hundreds at a time.
    """
    height, width = picture.shape[:2]
    rows = np.ones((height, 1 + 4 * width), np.uint8)
    filtered = rows[:, 1:].reshape(height, width, 4)
    filtered[:, 0] = picture[:, 0]
    filtered[:, 1:] = picture[:, 1:] - picture[:, :-1]

    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    header = struct.pack(">IIBBBBB", width, height, 8, 6, 0, 0, 0)
    pixels = zlib.compress(rows.tobytes(), 1)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", header) + chunk(b"IDAT", pixels) + chunk(b"IEND", b"")


# ---- reading --------------------------------------------------------------------------------------------


def read_dds(data: bytes) -> TextureFile:
    """A DDS file with all its levels."""
    head = dds.read_header(data)
    levels, end = _split_levels(data, len(head.raw), head.format, head.width, head.height, head.levels)
    header = Header("dds", head.format, head.width, head.height, head.levels)
    return TextureFile(header, levels, len(data), head.raw, data[end:])


def _split_levels(
    data: bytes, start: int, pixel_format: PixelFormat, width: int, height: int, count: int
) -> tuple[list[bytes], int]:
    need = formats.chain_size(pixel_format, width, height, count)
    if start + need > len(data):
        raise TruncatedError(
            f"{width} x {height} pixels of {pixel_format.title} with {count} levels are {need} bytes, "
            f"but {len(data) - start} follow the header.",
            offset=start,
        )
    levels = []
    for level in range(count):
        size = formats.level_size(pixel_format, *formats.level_sides(width, height, level))
        levels.append(data[start : start + size])
        start += size
    return levels, start


def _described_header(layout: Layout, parsed: Parsed) -> Header:
    def number(role: str) -> int | None:
        found = first_value(role, parsed)
        return None if found is None else found[2]

    width, height = number("width"), number("height")
    if width is None or height is None:
        raise FormatError(f"The layout '{layout.layout}' does not say where width and height are.")
    formats.check_size(width, height)
    found = first_value("pixel-format", parsed)
    meaning = found[0].meaning(found[2]) if found else layout.pixel_format
    if not isinstance(meaning, str):
        raise UnknownFormatError(
            f"The layout '{layout.layout}' does not say what pixel format {meaning} is.",
            offset=parsed.regions[found[1]].start if found else None,
        )
    orientation: Any = layout.orientation
    turned = first_value("orientation", parsed)
    if turned is not None:
        orientation = turned[0].meaning(turned[2])
        if orientation not in ("top-down", "bottom-up"):
            raise FormatError(
                f"The layout '{layout.layout}' does not say what orientation {orientation} is.",
                offset=parsed.regions[turned[1]].start,
            )
    levels = number("mip-count")
    levels = 1 if levels is None else max(1, levels)
    if levels > formats.full_chain(width, height):
        raise LimitError(
            f"{levels} mip levels are more than {width} x {height} pixels can have.",
            expected=f"at most {formats.full_chain(width, height)}",
        )
    return Header(layout.layout, formats.get(meaning), width, height, levels, orientation)


def read_described(layout: Layout, data: bytes) -> TextureFile:
    """A texture whose header a layout describes."""
    parsed = parse(layout, {MAIN: BytesSource(data)})
    header = _described_header(layout, parsed)
    region = parsed.regions[layout.only(PixelsPart).name]
    pixels = data[: region.start] + parsed.content(region.part.name)
    levels, _ = _split_levels(pixels, region.start, header.format, header.width, header.height, header.levels)
    return TextureFile(header, levels, len(data), parsed=parsed)


def _write_described(parsed: Parsed, levels: Sequence[bytes], width: int, height: int) -> bytes:
    layout = parsed.layout
    region = parsed.regions[layout.only(PixelsPart).name]
    new = {"width": width, "height": height, "mip-count": len(levels)}
    values = {}
    for role, number in new.items():
        found = first_value(role, parsed)
        # No level at all stands for one in some formats.
        if found is not None and not (role == "mip-count" and found[2] == 0 and number == 1):
            values[found[0].field] = number
    old = parsed.content(region.part.name)
    head = _described_header(layout, parsed)
    behind = old[formats.chain_size(head.format, head.width, head.height, head.levels) :]
    composed = compose(parsed, pixels=b"".join(levels) + behind, values=values)
    return b"".join(composed.read(MAIN))


def read_picture_file(data: bytes) -> TextureFile:
    """A picture of an open format (PNG, BMP ...) that the game itself uses as a texture."""
    image = read_image(data)
    pixel_format = formats.RGBA8 if image.has_alpha else formats.RGB8
    height, width = image.picture.shape[:2]
    header = Header(image.type, pixel_format, width, height, 1)
    return TextureFile(header, [pixel_format.encode(image.picture)], len(data))


def read_texture(data: bytes, library: Library, name: str = "") -> TextureFile:
    """A texture of any known kind; UnknownFormatError where the bytes are none.

    ``name`` tells layouts apart whose files have no magic.
    """
    if data[:4] == dds.MAGIC:
        return read_dds(data)
    layout = library.recognise(name, data[:HEAD], "texture")
    if layout is not None:
        return read_described(layout, data)
    if image_type(data[:16]) is not None:
        return read_picture_file(data)
    raise UnknownFormatError("These bytes are no texture that Brae knows.", offset=0)


def sniff_texture(head: bytes, library: Library, name: str = "") -> Header | None:
    """What the first bytes (HEAD of them) say, without the pixels; None where they are no texture.

    Raises one of Brae's errors where they are a texture that is damaged or of an unknown pixel format.
    """
    if head[:4] == dds.MAGIC:
        found = dds.read_header(head)
        return Header("dds", found.format, found.width, found.height, found.levels)
    layout = library.recognise(name, head, "texture")
    if layout is not None:
        return _described_header(layout, parse(layout, {MAIN: BytesSource(head)}))
    kind = image_type(head)
    if kind is None:
        return None
    if kind == "png" and head[12:16] == b"IHDR" and len(head) >= 26:
        width, height = struct.unpack(">II", head[16:24])
        alpha = head[25] in (4, 6)
        return Header("png", formats.RGBA8 if alpha else formats.RGB8, width, height, 1)
    try:
        with Image.open(io.BytesIO(head), formats=[kind]) as image:
            alpha = image.mode in ("RGBA", "LA", "PA")
            return Header(kind, formats.RGBA8 if alpha else formats.RGB8, *image.size, 1)
    except (OSError, ValueError, SyntaxError, struct.error, IndexError, KeyError, TypeError):
        raise FormatError(f"The {kind.upper()} header is damaged.", offset=0) from None


def can_write(container: str) -> bool:
    """Whether a texture of this container can be written again."""
    return container in ("dds", *_WRITABLE) or container not in set(_IMAGE_MAGIC.values()) | {"webp"}
