"""A palette by its layout: entries out of a file, and back; and as a picture of swatches for an editor."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from brae.core.assets.palette.riff import read as read_riff
from brae.core.assets.palette.riff import riff
from brae.core.assets.texture import formats
from brae.core.assets.texture.files import read_image, write_image
from brae.core.assets.texture.formats import PixelFormat
from brae.core.errors import BraeError, FormatError, LimitError
from brae.core.layouts.model import Layout
from brae.core.layouts.pixels import ColoursPart
from brae.core.layouts.read import Parsed, parse
from brae.core.layouts.write import Model, compose
from brae.core.sources import MAIN, BytesSource

#: R, G, B, A of each entry
Entries = np.ndarray[Any, np.dtype[np.uint8]]
#: swatches in a row, and the pixels of a side
ACROSS, SIDE = 16, 8
MOST = 65_536
ENDINGS = (".png", ".pal", ".txt")


@dataclass(frozen=True, eq=False)
class PaletteFile:
    """A palette's file as it was read."""

    layout: Layout
    entries: Entries
    size: int
    parsed: Parsed

    @property
    def part(self) -> ColoursPart:
        """What the layout says of it."""
        return self.layout.only(ColoursPart)  # type: ignore[no-any-return]

    @property
    def format(self) -> PixelFormat:
        """The pixel format of an entry."""
        return formats.get(self.part.format)

    @property
    def reserved(self) -> Mapping[int, str]:
        """Entries that are no colours to be chosen, and what each is for."""
        return self.part.reserved

    def stored(self, entries: Entries) -> Entries:
        """Colours as the file can hold them."""
        again = self.format.decode(self.format.encode(np.ascontiguousarray(entries[None])), len(entries), 1)
        return np.ascontiguousarray(formats.shown(again)[0])

    def rewrite(self, entries: Entries) -> bytes:
        """The file with other colours; entries that are the same keep their bytes."""
        step = self.format.block_bytes
        raw = np.frombuffer(self.parsed.content(self.part.name), np.uint8).copy()
        old = raw[: step * len(self.entries)].reshape(-1, step)
        new = np.frombuffer(self.format.encode(np.ascontiguousarray(entries[None])), np.uint8).reshape(-1, step)
        changed = (entries != self.entries).any(axis=1)
        old[changed] = new[changed]
        return b"".join(compose(self.parsed, model=Model({self.part.name: raw.tobytes()})).read(MAIN))


def read(layout: Layout, data: bytes) -> PaletteFile:
    """A palette by its layout. Raises one of Brae's errors where the file cannot be one."""
    parsed = parse(layout, {MAIN: BytesSource(data)})
    part: ColoursPart = layout.only(ColoursPart)
    stored = formats.get(part.format)
    content = parsed.content(part.name)
    count = len(content) // stored.block_bytes
    if stored.block != (1, 1) or stored.precision != "8":
        raise FormatError(f"Entries of {stored.title} are no colours of a palette.")
    if not count:
        raise FormatError("The palette has no entries.")
    if count > MOST:
        raise LimitError(f"{count:,} entries are more than a palette has.", expected=f"at most {MOST:,}")
    entries = formats.shown(stored.decode(content[: stored.size(count, 1)], count, 1))[0]
    return PaletteFile(layout, np.ascontiguousarray(entries), len(data), parsed)


# ---- as files for an editor ---------------------------------------------------------------------------------


def swatches(entries: Entries, side: int = SIDE) -> Entries:
    """A square for each entry, so many side by side; uint8 (height, width, 4)."""
    rows = -(-len(entries) // ACROSS)
    grid = np.zeros((rows * ACROSS, 4), np.uint8)
    grid[: len(entries)] = entries
    grid[: len(entries), 3] = 255
    return grid.reshape(rows, ACROSS, 4).repeat(side, axis=0).repeat(side, axis=1)


def written(entries: Entries, suffix: str) -> bytes:
    """Entries as a picture of swatches, a RIFF palette or lines of #rrggbb. FormatError for other endings."""
    if suffix == ".png":
        return write_image(swatches(entries))
    if suffix == ".pal":
        return riff(np.ascontiguousarray(entries[:, :3]))
    if suffix == ".txt":
        return "".join("#{:02x}{:02x}{:02x}\n".format(*colour[:3]) for colour in entries.tolist()).encode()
    raise FormatError(f"Palettes are not written as '{suffix}'.", expected=", ".join(ENDINGS))


@dataclass(frozen=True, eq=False)
class Came:
    """Colours that came back (n x 3), and the entries whose squares have several."""

    colours: Entries
    uneven: tuple[int, ...] = ()


def came(data: bytes, name: str, count: int) -> Came:
    """The colours of a file that came back for a palette of ``count`` entries; FormatError where it has none."""
    ending = name.lower().rpartition(".")[2]
    try:
        if ending == "pal":
            return Came(read_riff(data))
        if ending == "txt":
            return Came(_lines(data))
        return _squares(data, name, count)
    except BraeError as error:
        raise error.at(name) from None


def _lines(data: bytes) -> Entries:
    found = []
    for number, line in enumerate(data.decode("utf-8", "replace").splitlines(), 1):
        word = line.strip()
        if not word:
            continue
        try:
            if len(word) != 7 or word[0] != "#":
                raise ValueError(word)
            found.append(list(bytes.fromhex(word[1:])))
        except ValueError:
            raise FormatError(f"Line {number} is no colour: '{word[:40]}'.", expected="#rrggbb") from None
    if not found:
        raise FormatError("The file has no colours.", expected="a line #rrggbb for each entry")
    return np.array(found, np.uint8)


def _squares(data: bytes, name: str, count: int) -> Came:
    picture = read_image(data, name).picture
    rows = -(-count // ACROSS)
    height, width = picture.shape[:2]
    side = width // ACROSS
    if picture.dtype != np.uint8 or side < 1 or (height, width) != (rows * side, ACROSS * side):
        raise FormatError(
            f"The picture has {width} x {height} pixels.",
            expected=f"{ACROSS * SIDE} x {rows * SIDE}: {ACROSS} squares in a row, {rows} rows",
        )
    blocks = picture[..., :3].reshape(rows, side, ACROSS, side, 3).swapaxes(1, 2).reshape(-1, side * side, 3)
    blocks = blocks[:count]
    uneven = (blocks != blocks[:, :1]).any(axis=(1, 2))
    middle = blocks[:, (side // 2) * side + side // 2]
    return Came(np.ascontiguousarray(middle), tuple(np.flatnonzero(uneven).tolist()))
