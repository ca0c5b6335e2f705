"""Textures whose header a layout describes."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from brae.core.errors import FormatError, LayoutError, UnknownFormatError
from brae.core.layouts.model import MAIN, Layout, PixelsPart
from brae.core.layouts.read import Parsed, first_value, parse
from brae.core.layouts.write import compose
from brae.core.sources import BytesSource
from brae.core.textures import formats
from brae.core.textures.formats import Indexed, PixelFormat
from brae.core.textures.texture import Header, Shape, TextureFile, join_levels, split_levels


def read(layout: Layout, data: bytes) -> TextureFile:
    """A texture by its layout."""
    parsed = parse(layout, {MAIN: BytesSource(data)})
    header = header_of(layout, parsed)
    part = layout.only(PixelsPart)
    content = parsed.content(part.name)
    levels, end = _split(header, part, content, 0)
    behind = content[end:]

    def rewrite(new: Header, levels: Sequence[bytes]) -> bytes:
        pixels = _join(new, part, levels) + behind
        values = _values(layout, parsed, new)
        return b"".join(compose(parsed, pixels=pixels, values=values).read(MAIN))

    return TextureFile(header, levels, len(data), rewrite, lambda again: read(layout, again))


def _split(header: Header, part: PixelsPart, data: bytes, start: int) -> tuple[list[bytes], int]:
    if not part.smallest_first:
        return split_levels(header, data, start, by_picture=part.by == "picture")
    # Level by level from the smallest one; split as if they were the only ones.
    levels, at = [], start
    for level in reversed(range(header.levels)):
        size = header.level_size(level)
        levels.append(data[at : at + size])
        at += size
    split_levels(header, data, start)  # for its error, where there are too few bytes
    return levels[::-1], at


def _join(header: Header, part: PixelsPart, levels: Sequence[bytes]) -> bytes:
    if part.smallest_first:
        return b"".join(reversed(levels))
    return join_levels(header, levels, by_picture=part.by == "picture")


def _number(parsed: Parsed, role: str) -> int | None:
    found = first_value(role, parsed)
    return None if found is None else found[2]


def _meaning(layout: Layout, parsed: Parsed, role: str, what: str, default: Any) -> Any:
    """What the value of a role stands for, or the layout's own word where no field has the role."""
    found = first_value(role, parsed)
    if found is None:
        return default
    meaning = found[0].meaning(found[2])
    if not isinstance(meaning, str):
        raise UnknownFormatError(
            f"The layout '{layout.layout}' does not say what {what} {meaning} is.",
            offset=parsed.regions[found[1]].start,
        )
    return meaning


def _with_palette(layout: Layout, part: PixelsPart, parsed: Parsed, pixel_format: PixelFormat) -> PixelFormat:
    if part.palette is None:
        return pixel_format
    if not isinstance(pixel_format, Indexed):
        raise FormatError(f"'{part.name}' has a palette, but {pixel_format.title} has no indices.")
    stored = formats.get(part.palette.format)
    data = parsed.content(part.palette.of)
    count = len(data) // stored.block_bytes
    if count < 1:
        raise FormatError(f"The palette '{part.palette.of}' has no entries.")
    entries = formats.shown(stored.decode(data[: stored.size(count, 1)], count, 1))[0]
    if part.palette.order is not None:
        # Which stored entry is entry i: old hardware keeps them in another order.
        order = np.arange(count)
        for low, high in part.palette.order:
            order = _exchange_bits(order, low, high)
        entries = entries[order[order < count]]
    if part.palette.alpha_scale != 1:
        entries = entries.copy()
        entries[:, 3] = np.minimum(entries[:, 3].astype(np.int64) * part.palette.alpha_scale, 255)
    return pixel_format.with_palette(entries)


def _exchange_bits(numbers: np.ndarray, low: int, high: int) -> np.ndarray:
    a, b = (numbers >> low) & 1, (numbers >> high) & 1
    return (numbers & ~((1 << low) | (1 << high))) | (a << high) | (b << low)


def header_of(layout: Layout, parsed: Parsed) -> Header:
    """What the fields of a layout say about its texture."""
    part = layout.only(PixelsPart)
    width, height = _number(parsed, "width"), _number(parsed, "height")
    if width is None or height is None:
        raise FormatError(f"The layout '{layout.layout}' does not say where width and height are.")
    formats.check_size(width, height)
    name = _meaning(layout, parsed, "pixel-format", "pixel format", layout.pixel_format)
    if name is None:
        raise UnknownFormatError(f"The layout '{layout.layout}' does not say what pixel format this is.")
    orientation = _meaning(layout, parsed, "orientation", "orientation", layout.orientation)
    if orientation not in ("top-down", "bottom-up"):
        raise FormatError(f"The layout '{layout.layout}' does not say what orientation {orientation} is.")
    layers, depth = max(1, _number(parsed, "layers") or 1), max(1, _number(parsed, "depth") or 1)
    faces = _number(parsed, "faces") or 1
    shape: Shape = "volume" if depth > 1 else "cube" if faces == 6 else "array" if layers * faces > 1 else "2d"
    pixel_format = formats.stored(_with_palette(layout, part, parsed, formats.get(name)), part.storage)
    return Header(
        layout.layout,
        pixel_format,
        width,
        height,
        max(1, _number(parsed, "mip-count") or 1),
        orientation,
        shape,
        layers * faces,
        depth,
        layout.colour,
        layout.premultiplied,
    ).check()


def _values(layout: Layout, parsed: Parsed, new: Header) -> dict[str, int]:
    """The header's fields for other sides, levels or another pixel format."""
    values: dict[str, int] = {}
    for role, wanted in {"width": new.width, "height": new.height, "mip-count": new.levels}.items():
        found = first_value(role, parsed)
        # No level at all stands for one in some formats.
        if found is not None and not (role == "mip-count" and found[2] == 0 and wanted == 1):
            values[found[0].field] = wanted
    found = first_value("pixel-format", parsed)
    before = found[0].meaning(found[2]) if found else layout.pixel_format
    if before != new.format.name:
        meanings = found[0].values if found else None
        number = next((key for key, name in (meanings or {}).items() if name == new.format.name), None)
        if found is None or number is None:
            raise LayoutError(
                f"A file of '{layout.title}' cannot say that its pixels are {new.format.title}.",
                expected=", ".join(str(name) for name in (meanings or {}).values()) or str(before),
            )
        values[found[0].field] = int(number)
    return values
