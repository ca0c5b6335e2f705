"""Textures whose header a layout describes."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from brae.core.assets.texture import formats
from brae.core.assets.texture.formats import Indexed, PixelFormat
from brae.core.assets.texture.texture import Header, Shape, TextureFile, join_levels, split_levels
from brae.core.errors import FormatError, LayoutError, NotFoundError, UnknownFormatError
from brae.core.layouts.model import Layout
from brae.core.layouts.parts import PixelsPart
from brae.core.layouts.read import Parsed, first_value, parse, parse_some
from brae.core.layouts.roles import MapUse
from brae.core.layouts.write import compose
from brae.core.sources import MAIN, BytesSource

#: the bytes of another file of the game by its name; NotFoundError where there is none
Fetch = Callable[[str], bytes]


def _nowhere(name: str) -> bytes:
    raise NotFoundError(f"The texture's larger levels are in {name}, and only this file is known here.")


def read(layout: Layout, data: bytes, name: str = "", fetch: Fetch = _nowhere) -> TextureFile:
    """A texture by its layout; ``fetch`` gives the files in which a streamed one keeps its larger levels."""
    parsed = parse(layout, {MAIN: BytesSource(data)})
    header = header_of(layout, parsed)
    part = layout.only(PixelsPart)
    away = _levels_away(part, parsed, header)
    content = parsed.content(part.name)
    levels, end = _split(_smaller(header, away), part, content, 0)
    behind = content[end:]
    files = {file: fetch(file) for file in _files_of(part, name, away)}
    levels = [*_take(header, part, name, files, away), *levels]
    stated = _number(parsed, "bytes-elsewhere")
    if stated is not None and stated != sum(map(len, files.values())):
        raise FormatError(
            f"The header says that {stated} bytes are elsewhere.", expected=str(sum(map(len, files.values())))
        )

    def away_of(new: Header) -> int:
        """As many levels stay here as before."""
        return max(new.levels - (header.levels - away), 0) if away else 0

    def rewrite(new: Header, levels: Sequence[bytes]) -> bytes:
        count = away_of(new)
        pixels = _join(_smaller(new, count), part, levels[count:]) + behind
        values = _values(layout, parsed, new)
        for role, number in (
            ("levels-here", new.levels - count),
            ("bytes-elsewhere", sum(len(level) for level in levels[:count])),
        ):
            found = first_value(role, parsed)
            if found is not None and (away or number != header.levels):
                values[found[0].field] = number
        return b"".join(compose(parsed, pixels=pixels, values=values).read(MAIN))

    def divide(new: Header, levels: Sequence[bytes]) -> dict[str, bytes]:
        return _give(part, name, levels[: away_of(new)])

    def reread(again: bytes, elsewhere: Mapping[str, bytes]) -> TextureFile:
        def known(file: str) -> bytes:
            return elsewhere[file] if file in elsewhere else fetch(file)

        return read(layout, again, name, known)

    size = len(data) + sum(map(len, files.values()))
    return TextureFile(header, levels, size, rewrite, reread, files, divide if part.elsewhere else None)


def sniff(layout: Layout, head: bytes) -> Header:
    """What the first bytes of a texture say, without its pixels."""
    parsed, error = parse_some(layout, {MAIN: BytesSource(head)})
    part = layout.only(PixelsPart)
    # A palette may lie behind what was read; it is not needed to say what the file is.
    beyond = error is not None and part is not None and part.name in parsed.regions
    if error is not None and not beyond:
        palette = part.palette.of if part is not None and part.palette is not None else None
        if palette is None or palette in parsed.regions:
            raise error
    return header_of(layout, parsed)


def parts_of(layout: Layout, data: bytes, name: str) -> list[str]:
    """The other files of the game that hold the larger levels of a streamed texture, told by its header."""
    part = layout.only(PixelsPart)
    if part is None or part.elsewhere is None:
        return []
    parsed = parse(layout, {MAIN: BytesSource(data)})
    return _files_of(part, name, _levels_away(part, parsed, header_of(layout, parsed)))


def _levels_away(part: PixelsPart, parsed: Parsed, header: Header) -> int:
    """How many of the largest levels are elsewhere."""
    here = _number(parsed, "levels-here")
    if part.elsewhere is None or here is None:
        return 0
    if not 0 <= here <= header.levels:
        raise FormatError(f"{here} of {header.levels} levels are said to be in this file.")
    return header.levels - here


def _smaller(header: Header, away: int) -> Header:
    """The header of the levels that are left without the largest ones."""
    width, height = header.sides(away)
    return replace(
        header, width=width, height=height, levels=header.levels - away, depth=max(1, header.depth >> away)
    )


def _files_of(part: PixelsPart, name: str, away: int) -> list[str]:
    if part.elsewhere is None:
        return []
    return list(dict.fromkeys(part.elsewhere.of(name, level) for level in range(away)))


def _by_file(part: PixelsPart, name: str, away: int) -> Iterator[tuple[str, list[int]]]:
    """Each other file, and the levels in it in their order."""
    assert part.elsewhere is not None
    for file in _files_of(part, name, away):
        inside = [level for level in range(away) if part.elsewhere.of(name, level) == file]
        yield file, inside[::-1] if part.elsewhere.smallest_first else inside


def _take(header: Header, part: PixelsPart, name: str, files: Mapping[str, bytes], away: int) -> list[bytes]:
    """The largest levels, out of the other files."""
    levels = [b""] * away
    for file, inside in _by_file(part, name, away) if away else ():
        data, at = files[file], 0
        needed = sum(header.level_size(level) for level in inside)
        if len(data) != needed:
            raise FormatError(
                f"The texture's larger levels are {needed} bytes, but {file} has {len(data)}.",
                expected=f"{len(inside)} levels from {header.width} x {header.height} down",
            )
        for level in inside:
            levels[level] = data[at : at + header.level_size(level)]
            at += header.level_size(level)
    return levels


def _give(part: PixelsPart, name: str, levels: Sequence[bytes]) -> dict[str, bytes]:
    """The other files, from the largest levels."""
    return {file: b"".join(levels[level] for level in inside) for file, inside in _by_file(part, name, len(levels))}


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
    if part.palette is None or part.palette.of not in parsed.regions:
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
    width, height = _number(parsed, "width") or layout.width, _number(parsed, "height") or layout.height
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
        max(1, _number(parsed, "mip-count") or layout.mip_count),
        orientation,
        shape,
        layers * faces,
        depth,
        layout.colour,
        layout.premultiplied,
        _use(layout, parsed),
    ).check()


def _use(layout: Layout, parsed: Parsed) -> MapUse | None:
    """What the texture is for; a number that the layout does not explain says nothing."""
    found = first_value("map", parsed)
    word = layout.map if found is None else (found[0].values or {}).get(found[2])
    if word == "packed":
        return MapUse(channels=layout.packed)
    return None if word is None else MapUse.model_validate({"role": word})


def _values(layout: Layout, parsed: Parsed, new: Header) -> dict[str, int]:
    """The header's fields for other sides, levels or another pixel format."""
    values: dict[str, int] = {}
    for role, wanted in {"width": new.width, "height": new.height, "mip-count": new.levels}.items():
        found = first_value(role, parsed)
        said = {"width": layout.width, "height": layout.height, "mip-count": layout.mip_count}[role]
        if found is None and said is not None and wanted != said:
            raise LayoutError(
                f"A file of '{layout.title}' has no field for its {role}, so it cannot be another.",
                expected=str(said),
            )
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
