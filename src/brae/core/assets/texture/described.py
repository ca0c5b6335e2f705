"""Textures whose header a layout describes."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

import numpy as np

from brae.core.addresses import stretch
from brae.core.assets.base import Fetch, as_said, nowhere
from brae.core.assets.texture import formats
from brae.core.assets.texture.facts import SaidFacts
from brae.core.assets.texture.formats import Indexed, PixelFormat
from brae.core.assets.texture.texture import Header, TextureFile, join_levels, split_levels
from brae.core.errors import FormatError, LayoutError, NotFoundError, UnknownFormatError
from brae.core.layouts.expressions import evaluate, field_names
from brae.core.layouts.model import Layout
from brae.core.layouts.pixels import PaletteOf, PixelsPart
from brae.core.layouts.read import Parsed, parse, parse_some
from brae.core.layouts.records import Fact, Said
from brae.core.layouts.said import KIND
from brae.core.layouts.write import compose
from brae.core.sources import MAIN, BytesSource


def read(layout: Layout, data: bytes, name: str = "", fetch: Fetch = nowhere) -> TextureFile:
    """A texture by its layout; ``fetch`` gives the files in which a streamed one keeps its larger levels."""
    parsed = parse(layout, {MAIN: BytesSource(data)})
    part = layout.only(PixelsPart)
    header = _whole(part, header_of(layout, parsed, elsewhere_of(part.palette, name, fetch)))
    away = _levels_away(part, parsed, header, len(data))
    content = parsed.content(part.name)
    levels, end = _split(header.without(away), part, content, 0)
    behind = content[end:]
    elsewhere = part.elsewhere
    begins = evaluate(elsewhere.at, parsed.values) if elsewhere is not None and elsewhere.at is not None else None
    by_file = dict(_by_file(header, part, name, away, begins))
    files = {file: fetch(file) for file in by_file}
    levels = [*_take(header, by_file, files, away), *levels]
    stated = parsed.values[elsewhere.stored] if elsewhere is not None and elsewhere.stored is not None else None
    if stated is not None and stated != sum(map(len, files.values())):
        raise FormatError(
            f"The header says that {stated} bytes are elsewhere.", expected=str(sum(map(len, files.values())))
        )

    def away_of(new: Header) -> int:
        """As many levels stay here as before, or as many are elsewhere."""
        if elsewhere is not None and elsewhere.above is not None:
            if new.levels <= elsewhere.above:
                raise FormatError(
                    f"{elsewhere.above} of its levels lie elsewhere, and {new.levels} are all that it would have.",
                    expected=f"{elsewhere.above + 1} or more",
                )
            return elsewhere.above
        return max(new.levels - (header.levels - away), 0) if away else 0

    def rewrite(new: Header, levels: Sequence[bytes]) -> bytes:
        count = away_of(new)
        pixels = _join(new.without(count), part, levels[count:]) + behind
        above = elsewhere.above if elsewhere is not None else None
        values = _values(layout, parsed, new.without(above or 0))
        if elsewhere is not None and elsewhere.here is not None and (away or new.levels - count != header.levels):
            values[elsewhere.here] = new.levels - count
        if elsewhere is not None and elsewhere.stored is not None:
            values[elsewhere.stored] = sum(len(level) for level in levels[:count])
        return b"".join(compose(parsed, pixels=pixels, values=values).read(MAIN))

    def divide(new: Header, levels: Sequence[bytes]) -> dict[str, bytes]:
        away = away_of(new)
        its = _by_file(new, part, name, away, begins)
        return {file: b"".join(levels[level] for level in inside) for file, inside in its}

    def reread(again: bytes, elsewhere: Mapping[str, bytes]) -> TextureFile:
        def known(file: str) -> bytes:
            return elsewhere[file] if file in elsewhere else fetch(file)

        return read(layout, again, name, known)

    size = len(data) + sum(map(len, files.values()))
    return TextureFile(header, levels, size, rewrite, reread, files, divide if part.elsewhere else None)


def sniff(layout: Layout, head: bytes) -> Header:
    """What the first bytes of a texture say, without its pixels."""
    return begun(layout, head)[0]


def begun(layout: Layout, head: bytes) -> tuple[Header, int | None]:
    """What the first bytes of a texture say, and where its pixels begin, if all of them should be in this file."""
    parsed, error = parse_some(layout, {MAIN: BytesSource(head)})
    part = layout.only(PixelsPart)
    # A palette may lie behind what was read; it is not needed to say what the file is.
    beyond = error is not None and part is not None and part.name in parsed.regions
    if error is not None and not beyond:
        palette = part.palette.of if part is not None and part.palette is not None else None
        if palette is None or palette in parsed.regions:
            raise error
    here = parsed.regions.get(part.name) if part.elsewhere is None else None
    header = header_of(layout, parsed)
    return header if part is None else _whole(part, header), None if here is None else here.start


def numbers_of(layout: Layout, head: bytes) -> dict[str, int]:
    """Numbers that the fields of a header hold and of which no fact is made, by the fields' names."""
    parsed, _ = parse_some(layout, {MAIN: BytesSource(head)})
    part = layout.only(PixelsPart)
    used: set[str] = set()
    for fact in part.facts.values() if part is not None else ():
        if layout.source(fact) is not None:
            used |= field_names(str(fact.of if isinstance(fact, Said) else fact))
    return {name: value for name, value in parsed.values.items() if name not in used}


def parts_of(layout: Layout, data: bytes, name: str, size: int | None = None) -> list[str]:
    """The other files of the game that hold the larger levels of a streamed texture, told by its header.

    ``size``: of the whole file, for layouts that say it by that alone.
    """
    part = layout.only(PixelsPart)
    if part is None or part.elsewhere is None:
        return []
    parsed = parse(layout, {MAIN: BytesSource(data)})
    away = _levels_away(part, parsed, _whole(part, header_of(layout, parsed)), size)
    return list(dict.fromkeys(part.elsewhere.of(name, level) for level in range(away)))


def _whole(part: PixelsPart, said: Header) -> Header:
    """The header of all levels, where that in the file is of its own alone."""
    above = part.elsewhere.above if part.elsewhere is not None else None
    return said.grown(above) if above else said


def _levels_away(part: PixelsPart, parsed: Parsed, header: Header, size: int | None) -> int:
    """How many of the largest levels are elsewhere; ``size``: of the file, where that is known."""
    if part.elsewhere is None:
        return 0
    if part.elsewhere.above is not None:
        return part.elsewhere.above
    if part.elsewhere.here is None:
        region = parsed.regions.get(part.name)
        return 0 if region is None or size is None else header.levels_beyond(size - region.start)
    here = parsed.values[part.elsewhere.here]
    if not 0 <= here <= header.levels:
        raise FormatError(f"{here} of {header.levels} levels are said to be in this file.")
    return header.levels - here


def _by_file(
    header: Header, part: PixelsPart, name: str, away: int, begins: int | None
) -> Iterator[tuple[str, list[int]]]:
    """Each other file, or the stretch of it that ``begins`` there, and the levels in it in their order."""
    if part.elsewhere is None:
        return
    for file in dict.fromkeys(part.elsewhere.of(name, level) for level in range(away)):
        inside = [level for level in range(away) if part.elsewhere.of(name, level) == file]
        if begins is not None:
            if begins < 0:
                raise FormatError(f"Its larger levels are said to begin at {begins} of {file}.")
            file = stretch(file, begins, sum(header.level_size(level) for level in inside))
        yield file, inside[::-1] if part.elsewhere.smallest_first else inside


def _take(
    header: Header, by_file: Mapping[str, Sequence[int]], files: Mapping[str, bytes], away: int
) -> list[bytes]:
    """The largest levels, out of the other files."""
    levels = [b""] * away
    for file, inside in by_file.items():
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


def elsewhere_of(palette: PaletteOf | None, name: str, fetch: Fetch) -> bytes | None:
    """The colours that another item holds for the item ``name``; None where they are no other item's."""
    if palette is None or not palette.elsewhere:
        return None
    other = palette.item(name)
    if other is None:
        raise FormatError(f"The layout has no case that says where the colours of {name} are.")
    try:
        return fetch(other)[palette.at :]
    except NotFoundError:
        raise NotFoundError(
            f"The colours of this picture are in {other}, which is not known here.",
            remedy="Open the game's folder, or the archive that holds both.",
        ) from None


def with_palette(
    palette: PaletteOf | None, parsed: Parsed, pixel_format: PixelFormat, colours: bytes | None = None
) -> PixelFormat:
    """A format of indices with its palette; ``colours``: the bytes of one that another item holds."""
    if palette is None or (colours is None and (palette.of is None or palette.of not in parsed.regions)):
        return pixel_format
    if not isinstance(pixel_format, Indexed):
        raise FormatError(f"There is a palette, but {pixel_format.title} has no indices.")
    stored = formats.get(palette.format)
    data = parsed.content(palette.of) if colours is None and palette.of is not None else colours or b""
    most = palette.entries if palette.elsewhere and palette.entries is not None else 1 << 16
    count = min(len(data) // stored.block_bytes, most)
    if count < 1:
        raise FormatError(f"The palette '{palette.of or 'of another item'}' has no entries.")
    entries = formats.shown(stored.decode(data[: stored.size(count, 1)], count, 1))[0]
    if palette.order is not None:
        # Which stored entry is entry i: old hardware keeps them in another order.
        order = np.arange(count)
        for low, high in palette.order:
            order = _exchange_bits(order, low, high)
        entries = entries[order[order < count]]
    if palette.alpha_scale != 1:
        entries = entries.copy()
        entries[:, 3] = np.minimum(entries[:, 3].astype(np.int64) * palette.alpha_scale, 255)
    if palette.clear is not None and palette.clear < len(entries):
        entries = entries.copy()
        entries[palette.clear, 3] = 0
    return pixel_format.with_palette(entries)


def _exchange_bits(numbers: np.ndarray, low: int, high: int) -> np.ndarray:
    a, b = (numbers >> low) & 1, (numbers >> high) & 1
    return (numbers & ~((1 << low) | (1 << high))) | (a << high) | (b << low)


def header_of(layout: Layout, parsed: Parsed, colours: bytes | None = None) -> Header:
    """What the facts of a layout say about its texture; ``colours``: of a palette that another item holds."""
    part: PixelsPart = layout.only(PixelsPart)
    told = {name: value for name, fact in part.facts.items() if (value := value_of(parsed, name, fact)) is not None}
    facts = as_said(SaidFacts, {KIND: "texture", **told}, "texture")
    assert facts is not None
    pixel_format = formats.stored(
        with_palette(part.palette, parsed, formats.get(facts.format), colours), part.storage
    )
    return facts.header(layout.layout, pixel_format)


def value_of(parsed: Parsed, name: str, fact: Fact) -> bool | int | float | str | None:
    """A fact of this file; None where the layout says nothing of it."""
    source = parsed.layout.source(fact)
    if source is None:
        return fact.is_ if isinstance(fact, Said) else fact
    meant, values = source
    of = str(fact.of if isinstance(fact, Said) else fact)
    number = evaluate(of, parsed.values) if meant is None or meant.field in parsed.values else _text(parsed, of)
    if values is None:
        return number
    if number in values:
        return values[number]
    if isinstance(fact, Said) and fact.otherwise is not None:
        return fact.otherwise or None
    if name in _OPTIONAL:
        return None
    raise UnknownFormatError(
        f"The layout '{parsed.layout.layout}' does not say what {name} {number} is.",
        offset=parsed.regions[of].start if of in parsed.regions else None,
        expected=", ".join(f"{key}: {word}" for key, word in values.items()),
        remedy="Add it to the 'values'.",
    )


#: a number of these that the layout does not explain says nothing, and the texture can be read all the same
_OPTIONAL = ("map", "colour")


def _text(parsed: Parsed, name: str) -> str:
    """A header's text, such as four letters."""
    return parsed.texts[name].rstrip(b"\0 ").decode("latin-1")


def _values(layout: Layout, parsed: Parsed, new: Header) -> dict[str, int]:
    """The header's fields for other sides, levels or another pixel format."""
    part: PixelsPart = layout.only(PixelsPart)
    before = header_of(layout, parsed)
    wanted = {"width": new.width, "height": new.height, "mips": new.levels, "format": new.format.name}
    was = {"width": before.width, "height": before.height, "mips": before.levels, "format": before.format.name}
    values: dict[str, int] = {}
    for name, value in wanted.items():
        # What is as it was stays as it is written: no level at all stands for one in some formats.
        if value == was[name]:
            continue
        fact = part.facts.get(name)
        meant, meanings = (layout.source(fact) if fact is not None else None) or (None, None)
        if meant is None or meant.field not in parsed.values:
            raise LayoutError(
                f"A file of '{layout.title}' has no number for its {_TITLES[name]}, so it cannot be another.",
                expected=str(was[name]),
            )
        number = value if meanings is None else next((key for key, word in meanings.items() if word == value), None)
        if not isinstance(number, int):
            raise LayoutError(
                f"A file of '{layout.title}' cannot say that its {_TITLES[name]} is {value}.",
                expected=", ".join(str(word) for word in (meanings or {}).values()),
            )
        values[meant.field] = number
    return values


_TITLES = {"width": "width", "height": "height", "mips": "mip count", "format": "pixel format"}
