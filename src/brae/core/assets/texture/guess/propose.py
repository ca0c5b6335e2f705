"""Pixels without a header: what could they be?

Three things tell: the number of bytes, which only some sides and level counts explain; the bits that the bytes
cost when they are read as a format, at a width, by a palette; and whether a second level is the first one at half
the size.
Which of red and blue comes first nothing tells but what colours pictures usually have, so both are proposed.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from brae.core.assets.base import Headless, Preview
from brae.core.assets.texture import formats
from brae.core.assets.texture.files import read_raw, write_image
from brae.core.assets.texture.formats import PixelFormat
from brae.core.assets.texture.formats.base import full_chain
from brae.core.assets.texture.guess import cost, looks, order, tiles
from brae.core.assets.texture.guess.guess import Guess, PaletteAt
from brae.core.assets.texture.guess.part import Part
from brae.core.assets.texture.guess.sides import Sides, chains, other_sides
from brae.core.assets.texture.looking import shrink
from brae.core.assets.texture.texture import Header
from brae.core.errors import FormatError

#: the formats that are tried
_TRIED = (
    "bc7", "bc3", "bc1", "bc5", "bc4", "bc2", "bc6h", "rgba8", "rgb565", "index8", "rgb8", "argb1555", "argb4444",
    "l8", "rgba16f", "la8", "index4", "argb8",
)  # fmt: skip
#: blocks whose bits are not taken apart: told by how alike neighbours look
_BY_LOOKS = ("bc7", "bc6h", "rgba16f")
#: a likeness of 1 is worth so much
_LOOKS_WORTH = 0.8
#: what the bytes of BC7 cost at most, as a share of what they cost as if they were BC3
_BY_MODES = 0.9
#: a share of blocks that mean nothing
_RESERVED = 0.01
#: formats that few files have
_RARE = {"argb8": 1.05, "rgba16f": 1.05}
#: what speaks against a format whose alpha does not look like one, or that splits the byte that does: so many times
#: the bits, and a share more
_NO_ALPHA, _AT_LEAST = 1.3, 0.03
_WITH_ALPHA, _OF_16_BITS = ("argb8", "argb4444", "la8"), ("rgb565", "argb1555", "argb4444")
_AS_GREYS = 1.1
#: what speaks against BC7 in whose blocks the usual modes are seldom
_FEW_MODES = 1.15
_IN_TILES = 1.1
#: and tiles have to explain so much more of the bits; of an empty picture every order explains nearly all
_CLEARLY = 0.03
_BLOCKS = ("bc1", "bc2", "bc3", "bc4", "bc5")
#: entries and bytes of an entry of a palette that may stand before or behind the indices
_PALETTES = {"index8": [(256, 4), (256, 3), (256, 2)], "index4": [(16, 4), (16, 3), (16, 2)]}
_ENTRIES = {4: "rgba8", 3: "rgb8", 2: "argb1555"}
#: so many sides are looked at closely
_CLOSELY = 6
#: and none whose pixels take so many times the bits of the best at a first look
_FAR = 1.2
#: and with a palette, which takes longer
_BY_PALETTE = 4
#: pixels that take this share of their bits are as good as chance
_NOISE = 0.99
#: of so many guesses other orders of their pixels are tried
_ORDERED = 4
#: and so many sides of each
_SIDES_TILED = 2
#: so many are worked out at once, but for files of more bytes: each takes about as much memory
_AT_ONCE, _LARGE = 4, 64 << 20
#: fits below are told apart all the same
_FAINT = 0.01
#: what a side twice as long as the other counts against a guess
_LONG = 0.004
#: what sides count against a guess that are no powers of two, by what divides both
_UNEVEN, _ODD_SIDES = ((8, 0.02), (4, 0.04), (2, 0.07)), 0.1
#: bytes of which nothing can be told
_FEWEST = 64


def by_hand() -> list[str]:
    """The pixel formats that a person may try: first those that ``propose`` tries, then all others by name."""
    return [*_TRIED, *sorted({one.name for one in formats.all_formats()} - set(_TRIED))]


def propose(data: bytes, most: int = 10) -> list[Guess]:
    """The likeliest explanations of bytes, best first; empty where there are too few."""
    found: list[Guess] = []
    if len(data) >= _FEWEST:
        whole = Part.of(data)
        asked = [(name, whole, *span) for name in _TRIED for span in _spans(name, len(data))]
        many = min(_AT_ONCE, os.cpu_count() or 1) if len(data) <= _LARGE else 1
        with ThreadPoolExecutor(many) as at_once:
            for some in at_once.map(lambda one: _of_format(*one), asked):
                found += some
    found.sort(key=lambda guess: -guess.fit)
    found += _in_tiles(found, data)
    found.sort(key=lambda guess: -guess.fit)
    return order.both(found[: 2 * most], data)[:most]


def _in_tiles(guesses: list[Guess], data: bytes) -> Iterator[Guess]:
    """Other orders of the same pixels, for the plain formats among the first guesses."""
    plain = {one.format: one for one in reversed(guesses[:_ORDERED]) if one.palette is None}
    for name, guess in plain.items():
        pixel_format = formats.get(name)
        if pixel_format.block != (1, 1) or name in _BY_LOOKS:
            continue
        own = [(one.width, one.height, one.levels) for one in guesses if one.format == name][:_SIDES_TILED]
        also = chains(pixel_format.block, pixel_format.block_bytes).get(len(data), [])
        sides = list(dict.fromkeys(own + [one for one in also if one[2] == guess.levels]))
        for storage, share, in_rows, (width, height, levels) in tiles.shares(
            pixel_format, data, guess.width, sides
        ):
            if share < min(1 - guess.fit, in_rows) - _CLEARLY:
                head = Header("raw", formats.stored(pixel_format, storage), width, height, levels)
                fit = _fit(head, share * _IN_TILES, data, len(data), 0.0)
                fit = min(fit, max(0.0, guess.fit + in_rows - share * _IN_TILES))
                yield Guess(format=name, width=width, height=height, levels=levels, storage=storage, fit=fit)


def _spans(name: str, size: int) -> Iterator[tuple[int, int, PaletteAt | None]]:
    """Where the pixels may lie: all of the bytes, or beside a palette."""
    yield 0, size, None
    for count, width in _PALETTES.get(name, []):
        palette = count * width
        if palette + _FEWEST <= size:
            yield palette, size, PaletteAt(at=0, format=_ENTRIES[width])
            yield 0, size - palette, PaletteAt(at=size - palette, format=_ENTRIES[width])


def _of_format(name: str, whole: Part, offset: int, end: int, palette: PaletteAt | None) -> list[Guess]:
    """What the bytes from ``offset`` to ``end`` are in this format, at its likeliest sides."""
    pixel_format, size = formats.get(name), end - offset
    # What powers of two explain is not explained better by other numbers.
    sides = chains(pixel_format.block, pixel_format.block_bytes).get(size, [])
    sides = sides or list(other_sides(pixel_format, size))
    if not sides:
        return []
    data, part = whole.data, whole.within(offset, end)
    if name in _BY_LOOKS:
        shares = _by_looks(name, pixel_format, part, sides)
    elif name in _BLOCKS:
        shares = _by_blocks(name, pixel_format, part, sides)
    else:
        shares = _by_pixels(name, pixel_format, part, palette, sides)
    aside = 0.0
    if palette is not None:
        start = palette.at
        entry = formats.get(palette.format).block_bytes
        raw = np.frombuffer(data[start : start + (len(data) - size)], np.uint8)
        aside = cost.bits_of_palette(raw[: len(raw) // entry * entry].reshape(-1, entry))
    result = []
    for share, (width, height, levels) in shares[:_CLOSELY]:
        head = Header("raw", pixel_format, width, height, levels)
        fit = _fit(head, share * _RARE.get(name, 1.0), part.data, len(data), aside)
        guess = Guess(format=name, width=width, height=height, levels=levels, offset=offset, palette=palette)
        result.append(guess.model_copy(update={"fit": fit}))
    return result


def _fit(head: Header, share: float, part: bytes, size: int, aside: float) -> float:
    """How well pixels (``part`` of ``size`` bytes) are explained, whose first level takes this share of its bits.

    ``aside``: bits of what is beside them.
    """
    first = head.level_size(0)
    bits = share * first * 8
    if head.levels > 1:
        # Where the first level is as noise, so are the others.
        made = looks.second_level(head, part) if share < _NOISE else 0.0
        bits += (1 - made) * (len(part) - first) * 8
    rare = _rarity(head.width, head.height, head.levels)
    fit = 1 - (bits + aside) / (8 * size) * rare - _odd(head.width, head.height)
    # Of what is hardly explained at all the order is kept.
    return float(min(1.0, max(fit, _FAINT * np.exp(min(0.0, fit / _FAINT - 1)))))


def _rarity(width: int, height: int, levels: int) -> float:
    """More than 1 for what is rarer: a chain that ends early, long strips."""
    rare = 1.0 + 0.01 * abs(float(np.log2(width / height)))
    return rare * (1.0 if levels in (1, full_chain(width, height)) else 1.05)


def _odd(width: int, height: int) -> float:
    """What sides count against a guess, also where nearly nothing is left to be explained."""
    return _LONG * float(np.log2(width / height)) ** 2 + _uneven(width, height)


def _uneven(width: int, height: int) -> float:
    if width & (width - 1) == 0 and height & (height - 1) == 0:
        return 0.0
    return next((against for step, against in _UNEVEN if width % step == 0 and height % step == 0), _ODD_SIDES)


def _widths(sides: list[Sides]) -> list[int]:
    return sorted({width for width, _, _ in sides})


def _by_width(shares: dict[int, float], sides: list[Sides]) -> list[tuple[float, Sides]]:
    """Sides by the share of bits that their width leaves, the least first."""
    return sorted(((shares[one[0]], one) for one in sides if one[0] in shares), key=lambda one: one[0])


def _by_pixels(
    name: str, pixel_format: PixelFormat, part: Part, palette: PaletteAt | None, sides: list[Sides]
) -> list[tuple[float, Sides]]:
    """For each of the likeliest sides the share of bits that plain pixels or indices take."""
    numbers = cost.Numbers(pixel_format, part)
    stored = pixel_format.block_bytes * 8 / (pixel_format.block[0] * pixel_format.block[1])
    first = {width: numbers.bits_of_pixel(width, cost.FIRST_LOOK) for width in _widths(sides)}
    nearest = sorted(first, key=lambda width: first[width])[:_CLOSELY]
    nearest = [width for width in nearest if first[width] <= _FAR * first[nearest[0]] + _FAR - 1]
    if palette is not None:
        guess = Guess(format=name, width=2, height=1, offset=0, palette=palette)
        colours = guess.header(part.whole).format.palette.astype(np.int64)  # type: ignore[attr-defined]
        if not numbers.told_apart(colours):
            return []
        # What is a palette at the other end are indices by this reading, which does not explain them.
        many = min(len(numbers), 8 * (len(part.whole) - len(part.data)) // pixel_format.bits)  # type: ignore[attr-defined]
        aside = (len(numbers) - many, len(numbers)) if palette.at == 0 else (0, many)
        closer = {}
        for width in nearest[:_BY_PALETTE]:
            bits, more = numbers.bits_by_palette(width, colours, aside)
            # Entries by their lightness can be foretold as greys, too.
            closer[width] = min(bits, _AS_GREYS * numbers.bits_of_pixel(width, cost.CLOSER)) + more
    elif isinstance(pixel_format, formats.Indexed):
        closer = {
            width: min(numbers.bits_of_pixel(width, cost.CLOSER) * 1.02, numbers.bits_as_names(width, cost.CLOSER))
            for width in nearest
        }
    else:
        doubted = name in _WITH_ALPHA and not numbers.like_alpha()
        doubted |= name in _OF_16_BITS and cost.ends_in_alpha(part)
        rare, more = (_NO_ALPHA, _AT_LEAST * stored) if doubted else (1.0, 0.0)
        closer = {width: rare * numbers.bits_of_pixel(width, cost.CLOSER) + more for width in nearest}
    return _by_width({width: bits / stored for width, bits in closer.items()}, sides)


def _by_blocks(name: str, pixel_format: PixelFormat, part: Part, sides: list[Sides]) -> list[tuple[float, Sides]]:
    """The same of blocks whose fields are known; which width fits, their pixels' neighbours tell too."""
    strip, bits = looks.Strip(pixel_format, part.data), cost.Blocks(name, part)
    across, down = strip.across(), {width: strip.down(-(-width // 4)) for width in _widths(sides)}
    nearest = sorted(down, key=lambda width: -down[width])[:_CLOSELY]
    shares, most = {}, max(down.values())
    for width in nearest:
        share = bits.bits_of_block(-(-width // 4)) / (8 * pixel_format.block_bytes)
        # Indices of three bits are foretold badly, but what they show is not.
        seen = 1 - (across + down[width]) / 2
        shares[width] = min(share, (share + seen) / 2) + 0.1 * (most - down[width])
    return _by_width(shares, sides)


def _by_looks(name: str, pixel_format: PixelFormat, part: Part, sides: list[Sides]) -> list[tuple[float, Sides]]:
    """The same, as far as the look of the pixels tells."""
    if name == "rgba16f":
        halves = np.abs(np.frombuffer(looks.middle(part.data, 8), "<f2").astype(np.float32))
        if (~(halves < 4096) | ((halves > 0) & (halves < 2.0**-14))).mean() >= 0.005:
            return []
    elif cost.reserved_share(name, part.data) > _RESERVED:
        return []
    strip = looks.Strip(pixel_format, part.data)
    across = strip.across()
    middle = looks.middle(part.data, pixel_format.block_bytes)
    new = cost.new_blocks(part, pixel_format.block_bytes)
    shares = {
        width: new * (1 - _LOOKS_WORTH * (across + strip.down(-(-width // pixel_format.block[1]))) / 2)
        for width in _widths(sides)
    }
    if name == "bc7" and cost.has_bc7_modes(middle):
        # Drawings of few colours leave much alike in the bytes, which then look like those of another format.
        width = min(shares, key=lambda one: shares[one])
        as_bytes = cost.Blocks("bc3", part).bits_of_block(-(-width // 4)) / 128 * _BY_MODES
        less = max(0.0, shares[width] - as_bytes)
        shares = {one: share - less for one, share in shares.items()}
    elif name == "bc7":
        shares = {one: share * _FEW_MODES for one, share in shares.items()}
    return _by_width(shares, sides)


def _preview(data: bytes, guess: Guess, fit: int | None) -> Preview:
    """The first level as a guess has it, as a PNG of 8 bits a channel."""
    picture = read_raw(data, guess.header(data), guess.offset).shown()
    return Preview(write_image(picture if fit is None else shrink(picture, fit), quick=True), "image/png")


def _layout(data: bytes, guess: Guess, identifier: str, title: str, pattern: str, size: int | None) -> str:
    again = read_raw(data, guess.header(data), guess.offset)
    if again.rewrite(again.header, again.levels) != data:
        raise FormatError("Read this way, the file cannot be written again as it is.")
    return guess.layout(identifier, title, pattern, size)


HEADLESS = Headless("Look for a picture in it", Guess, propose, by_hand, _preview, _layout)
