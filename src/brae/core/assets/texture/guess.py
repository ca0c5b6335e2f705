"""Pixels without a header: what could they be?

Three things tell: the number of bytes, which only some sides and level counts explain; the format, in which
neighbours are alike and others are not; the width, at which rows fit the rows above. A second level that looks like
the first one at half the size settles it. All of it is common practice, no source.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import lru_cache
from typing import Annotated, Any

import numpy as np
import yaml
from pydantic import BaseModel, ConfigDict, Field

from brae.core.assets.base import Headless, Preview
from brae.core.assets.texture import formats
from brae.core.assets.texture.files import read_raw, write_image
from brae.core.assets.texture.formats import Picture, PixelFormat, Storage
from brae.core.assets.texture.formats.base import full_chain, level_sides
from brae.core.assets.texture.looking import shrink
from brae.core.assets.texture.mips import resample
from brae.core.assets.texture.texture import Header
from brae.core.errors import FormatError
from brae.core.layouts.storage import Tile

#: the formats that are tried, the likelier one of two that cannot be told apart first
_TRIED = (
    "bc7", "bc3", "bc1", "bc5", "bc4", "bc2", "bc6h", "rgba8", "rgb565", "index8", "rgb8", "argb1555", "argb4444",
    "l8", "rgba16f", "la8", "index4",
)  # fmt: skip
#: what is looked at: as many bytes of the first level
_LOOK = 1 << 17
#: and of those so many blocks for each width
_SAMPLE = 1 << 13
#: the order of pixels in plain formats, beside row by row
_STORAGES = (
    Storage(morton="x-first"),
    Storage(tiles=(Tile(columns=8, rows=8),)),
    Storage(tiles=(Tile(columns=8, rows=4),)),
    Storage(tiles=(Tile(columns=4, rows=4),)),
    Storage(tiles=(Tile(columns=16, rows=8),)),
)
#: entries and bytes of an entry of a palette that may stand before or behind the indices
_PALETTES = {"index8": [(256, 4), (256, 3), (256, 2)], "index4": [(16, 4), (16, 2)]}
_ENTRIES = {4: "rgba8", 3: "rgb8", 2: "argb1555"}
_SIDES = [2**power for power in range(2, 14)]
#: levels of this side are compared with the next
_COMPARED = 256
_Floats = np.ndarray[Any, np.dtype[np.float32]]


class PaletteAt(BaseModel):
    """Where the entries of a palette are, and their pixel format."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    at: Annotated[int, Field(ge=0)]
    format: str


class Guess(BaseModel):
    """One explanation of the bytes; ``fit`` from 0 (as noise) to 1 (neighbours and levels all agree)."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    format: str
    width: Annotated[int, Field(ge=1, le=65536)]
    height: Annotated[int, Field(ge=1, le=65536)]
    levels: Annotated[int, Field(ge=1, le=17)] = 1
    fit: float = 0
    storage: Storage | None = None
    #: bytes before the pixels
    offset: Annotated[int, Field(ge=0)] = 0
    palette: PaletteAt | None = None

    def header(self, data: bytes) -> Header:
        """A header for reading the bytes this way."""
        pixel_format = formats.get(self.format)
        if self.palette is not None and isinstance(pixel_format, formats.Indexed):
            start, name = self.palette.at, self.palette.format
            entry, count = formats.get(name), 1 << pixel_format.bits
            colours = entry.decode(data[start : start + entry.size(count, 1)], count, 1)[0]
            pixel_format = pixel_format.with_palette(colours)
        return Header("raw", formats.stored(pixel_format, self.storage), self.width, self.height, self.levels)

    def layout(self, identifier: str, title: str, pattern: str, size: int | None) -> str:
        """A layout's text for this file and its siblings: names as ``pattern``, of ``size`` bytes if it says so."""
        said: dict[str, Any] = {"layout": identifier, "title": title, "kind": "texture"}
        said["match"] = {"names": [pattern]} | ({"size": size} if size is not None else {})
        facts = {"width": self.width, "height": self.height, "format": self.format, "mips": self.levels}
        pixels: dict[str, Any] = {"pixels": "pixels", "facts": facts}
        if self.storage is not None:
            pixels["storage"] = self.storage.model_dump(exclude_defaults=True)
        parts: list[dict[str, Any]] = []
        if self.palette is not None:
            start, name = self.palette.at, self.palette.format
            bits = getattr(formats.get(self.format), "bits", 8)
            colours = {"bytes": "colours", "size": formats.get(name).size(1 << bits, 1)}
            pixels |= {"at": self.offset, "palette": {"of": "colours", "format": name}}
            parts = [colours | {"at": start}, pixels]
            if start > self.offset:
                pixels["size"] = start - self.offset
        else:
            parts = [{"bytes": "before", "size": self.offset}] if self.offset else []
            parts.append(pixels)
        text = yaml.safe_dump(said, sort_keys=False, allow_unicode=True)
        lines = [
            f"  - {yaml.safe_dump(part, default_flow_style=True, sort_keys=False, width=1000)}" for part in parts
        ]
        return f"{text}parts:\n{''.join(lines)}"

    @property
    def words(self) -> str:
        """A line for a person."""
        pixel_format = formats.get(self.format)
        order = f", {self.storage.words}" if self.storage else ""
        levels = f"{self.levels} levels" if self.levels > 1 else "one level"
        skipped = f", from byte {self.offset}" if self.offset else ""
        palette = f", palette of {self.palette.format} at {self.palette.at}" if self.palette else ""
        return f"{self.width} x {self.height}, {pixel_format.title}{order}, {levels}{skipped}{palette}"


def by_hand() -> list[str]:
    """The pixel formats that a person may try: first those that ``propose`` tries, then all others by name."""
    return [*_TRIED, *sorted({one.name for one in formats.all_formats()} - set(_TRIED))]


def _distance(a: _Floats, b: _Floats) -> float:
    """How far pixels lie apart on the average; the root makes one hard edge count less than many soft ones."""
    return float(np.sqrt(np.abs(a - b).sum(axis=-1)).mean())


def _strip(pixel_format: PixelFormat, data: bytes) -> _Floats:
    """The blocks of the first bytes, one after another: (blocks, rows, columns, 4)."""
    rows, columns = pixel_format.block
    step = formats.LARGEST_SIDE // columns
    parts = []
    at = 0
    total = min(len(data), _LOOK) // pixel_format.block_bytes
    while at < total:
        many = min(step, total - at)
        piece = data[at * pixel_format.block_bytes : (at + many) * pixel_format.block_bytes]
        picture = formats.shown(pixel_format.decode(piece, many * columns, rows)).astype(np.float32)
        parts.append(picture.reshape(rows, many, columns, 4).swapaxes(0, 1))
        at += many
    blocks = np.concatenate(parts)
    blocks[..., :3] *= blocks[..., 3:] / 255
    return blocks


def _chance(edges: _Floats) -> float:
    """How far any two edges lie apart."""
    return _distance(edges, edges[np.random.default_rng(0).permutation(len(edges))])


def _alike(near: float, far: float) -> float:
    """How much more alike neighbours are than any two: 0 not at all, 1 wholly."""
    return max(0.0, 1 - (near + 0.05) / (far + 0.05)) if far > 0.02 else 0.0


def _likeness(blocks: _Floats) -> float:
    """How alike blocks are to the next."""
    if len(blocks) < 8:
        return 0.0
    return _alike(_distance(blocks[:-1, :, -1], blocks[1:, :, 0]), _chance(blocks[:, :, -1]))


def _rows_fit(blocks: _Floats, across: int, far: float) -> float:
    """How alike they are to those below, for rows of so many; ``far``: to any."""
    if across >= len(blocks):
        return 0.0
    some = slice(0, max(_SAMPLE, 2 * across))
    return _alike(_distance(blocks[:-across, -1][some], blocks[across:, 0][some]), far)


@lru_cache(maxsize=64)
def _chains(block: tuple[int, int], block_bytes: int) -> dict[int, list[tuple[int, int, int]]]:
    """For each number of bytes the sides (powers of two) and level counts that have it."""
    found: dict[int, list[tuple[int, int, int]]] = {}
    for width in _SIDES:
        for height in _SIDES:
            size = 0
            if max(width, height) > 16 * min(width, height):
                continue
            for level in range(full_chain(width, height)):
                w, h = level_sides(width, height, level)
                size += -(-w // block[1]) * -(-h // block[0]) * block_bytes
                found.setdefault(size, []).append((width, height, level + 1))
    return found


def _other_sides(pixel_format: PixelFormat, size: int) -> Iterator[tuple[int, int, int]]:
    """Sides that are no powers of two: without levels, or with all of them."""
    rows, columns = pixel_format.block
    units = size // pixel_format.block_bytes
    if units * pixel_format.block_bytes != size:
        return
    for across in range(2, min(units, 4096 // columns) + 1):
        if units % across == 0 and across * columns <= 16 * (units // across) * rows <= 256 * across * columns:
            yield across * columns, units // across * rows, 1
    bytes_each = pixel_format.block_bytes / (rows * columns)
    step = max(columns, 4)
    for width in range(step, 4097, step):
        height = int(size * 0.75 / bytes_each / width) // step * step
        for near in (height - step, height, height + step):
            if step <= near <= 16 * width and width <= 16 * near:
                count = full_chain(width, near)
                if formats.chain_size(pixel_format, width, near, count) == size:
                    yield width, near, count


def _second_level(header: Header, data: bytes) -> float:
    """How well a level is the one before it at half the size: 0 not at all, 1 wholly.

    Of large textures smaller levels are compared; they tell as much.
    """
    level, start = 0, 0
    while level + 2 < header.levels and min(header.sides(level)) > _COMPARED:
        start += header.level_size(level)
        level += 1
    size, next_size = header.level_size(level), header.level_size(level + 1)
    first = formats.shown(header.format.decode(data[start : start + size], *header.sides(level))).astype(np.float32)
    behind = data[start + size : start + size + next_size]
    second = formats.shown(header.format.decode(behind, *header.sides(level + 1)))
    made = resample(np.ascontiguousarray(first), *header.sides(level + 1))
    away = float(np.abs(made - second).mean())
    shuffled = second.reshape(-1, 4)[np.random.default_rng(0).permutation(second.size // 4)].reshape(second.shape)
    chance = float(np.abs(made - shuffled).mean())
    return max(0.0, 1 - (away + 0.5) / (chance + 0.5)) if chance > 0.5 else 0.5


def propose(data: bytes, most: int = 10) -> list[Guess]:
    """The likeliest explanations of bytes, best first; empty where there are too few."""
    found: list[Guess] = []
    for name in _TRIED:
        pixel_format = formats.get(name)
        for offset, end, palette in _spans(name, len(data)):
            found += _of_format(name, pixel_format, data[offset:end], offset, palette)
    found.sort(key=lambda guess: -guess.fit)
    best = found[: 2 * most]
    best = sorted([*best, *_other_orders(best[:6], data)], key=lambda guess: -guess.fit)
    return best[:most]


def _spans(name: str, size: int) -> Iterator[tuple[int, int, PaletteAt | None]]:
    """Where the pixels may lie: all of the bytes, or beside a palette."""
    yield 0, size, None
    for count, width in _PALETTES.get(name, []):
        palette = count * width
        if palette < size:
            yield palette, size, PaletteAt(at=0, format=_ENTRIES[width])
            yield 0, size - palette, PaletteAt(at=size - palette, format=_ENTRIES[width])


def _of_format(
    name: str, pixel_format: PixelFormat, data: bytes, offset: int, palette: PaletteAt | None
) -> list[Guess]:
    size = len(data)
    sides = _chains(pixel_format.block, pixel_format.block_bytes).get(size, [])
    # What powers of two explain is not explained better by other numbers.
    candidates = sides or (list(_other_sides(pixel_format, size)) if palette is None else [])
    if not candidates or size < 64:
        return []
    blocks = _strip(pixel_format, data)
    likeness = _likeness(blocks)
    if isinstance(pixel_format, formats.Indexed):
        likeness = _same_neighbours(blocks)
    likelihood = _likelihood(name, data[:_LOOK])
    guesses, far = [], _chance(blocks[:, -1])
    for width, height, levels in candidates:
        down = _rows_fit(blocks, -(-width // pixel_format.block[1]), far)
        guesses.append((likeness * 0.5 + down * 0.5, width, height, levels))
    guesses.sort(reverse=True)
    result = []
    for fit, width, height, levels in guesses[:6]:
        if levels > 1:
            agrees = _second_level(Header("raw", pixel_format, width, height, levels), data)
            fit = fit * 0.4 + agrees * 0.6
        plain = width & (width - 1) == 0 and height & (height - 1) == 0
        # A chain that ends early, odd sides and long strips are rarer.
        fit *= 1.0 if levels in (1, full_chain(width, height)) else 0.9
        fit *= (1.0 if plain else 0.97) * (1.0 - 0.01 * abs(np.log2(width / height))) * likelihood
        result.append(
            Guess(
                format=name,
                width=width,
                height=height,
                levels=levels,
                fit=float(fit),
                offset=offset,
                palette=palette,
            )
        )
    return result


def _likelihood(name: str, data: bytes) -> float:
    """What bytes of a format give away, where two formats show nearly the same picture: 1 likely, 0 impossible."""
    if name in ("bc2", "bc3"):
        # Opaque alpha is eight bytes of 255 in BC2, two and no index in BC3; of soft alpha the smoother one is it.
        blocks = np.frombuffer(data[: len(data) // 16 * 16], np.uint8).reshape(-1, 16)
        opaque = float((blocks[:, :8] == 255).all(axis=1).mean())
        if opaque > 0.05:
            return 1.0 if name == "bc2" else 0.8
        alpha = {one: _strip(formats.get(one), data)[..., 3:] for one in ("bc2", "bc3")}
        smooth = {one: _likeness(np.repeat(values, 4, axis=3)) for one, values in alpha.items()}
        return 1.0 if smooth[name] >= max(smooth.values()) and (name == "bc3" or smooth[name] > 0.1) else 0.85
    if name == "argb1555":
        top = float((np.frombuffer(data[: len(data) // 2 * 2], "<u2") >> 15).mean())
        return 1.0 if top > 0.98 else 0.75
    if name == "rgba16f":
        halves = np.abs(np.frombuffer(data[: len(data) // 8 * 8], "<f2").astype(np.float32))
        odd = float((~(halves < 4096) | ((halves > 0) & (halves < 2.0**-14))).mean())
        return 0.95 if odd < 0.005 else 0.0
    # Greys show the same picture as indices whose palette is elsewhere, which are commoner.
    return {"argb4444": 0.85, "l8": 0.85, "la8": 0.8}.get(name, 1.0)


def _same_neighbours(blocks: _Floats) -> float:
    """For indices, which are names and not amounts: how much oftener neighbours are equal than any two."""
    values = blocks.reshape(-1, 4)[:, 0]
    near = float((values[1:] == values[:-1]).mean())
    chance = float((values == np.random.default_rng(0).permutation(values)).mean())
    return max(0.0, (near - chance) / (1 - chance)) if chance < 0.98 else 0.0


def _neighbours(guess: Guess, data: bytes, storage: Storage | None) -> float:
    """How near the pixels of a guess lie to those beside and below them, in that order: 1 equal, 0 far off."""
    order = formats.stored(formats.get(guess.format), storage)
    end = guess.offset + formats.get(guess.format).size(guess.width, guess.height)
    if order.size(guess.width, guess.height) != end - guess.offset:
        return 0.0
    picture = order.decode(data[guess.offset : end], guess.width, guess.height)
    seen = formats.shown(picture)[:_COMPARED, :_COMPARED].astype(np.float32)
    return 1 / (1 + _distance(seen[:, 1:], seen[:, :-1]) + _distance(seen[1:], seen[:-1]))


def _other_orders(guesses: list[Guess], data: bytes) -> Iterator[Guess]:
    """The same pixels in tiles or in Morton order, where that fits better than row by row at any sides."""
    fitting = [one for one in guesses if formats.get(one.format).block == (1, 1)]
    fitting = [one for one in fitting if one.width * one.height <= 1 << 20]
    plain: dict[str, float] = {}
    fits: dict[str, float] = {}
    for guess in fitting:
        plain[guess.format] = max(plain.get(guess.format, 0.0), _neighbours(guess, data, None))
        fits[guess.format] = max(fits.get(guess.format, 0.0), guess.fit)
    for guess in fitting:
        for storage in _STORAGES:
            found = _neighbours(guess, data, storage)
            if found > plain[guess.format] * 1.15:
                fit = min(1.0, fits[guess.format] * found / plain[guess.format])
                yield guess.model_copy(update={"fit": fit, "storage": storage})


def thumbnail(data: bytes, guess: Guess, side: int = 128) -> Picture:
    """What the bytes look like by a guess, at most ``side`` pixels each way (8 bits)."""
    head = guess.header(data)
    level = 0
    start = guess.offset
    while level + 1 < head.levels and max(head.sides(level)) > 2 * side:
        start += head.level_size(level)
        level += 1
    part = data[start : start + head.level_size(level)]
    seen = formats.shown(head.format.decode(part, *head.sides(level)))
    scale = max(1, -(-max(seen.shape[:2]) // side))
    return np.ascontiguousarray(seen[::scale, ::scale])


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
