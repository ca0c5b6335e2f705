"""Textures of which only the small levels are here, as their own bytes tell.

A header that says more levels than there are bytes for is the sign; or a file of a kilobyte or less, whole by its
own header, which may be the small end of a picture.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from brae.core.assets.texture import dds, described
from brae.core.assets.texture.texture import Header, TextureFile, split_levels
from brae.core.errors import FormatError
from brae.core.layouts.library import Library
from brae.core.layouts.pixels import PixelsPart

#: bytes of pixels that may be the small end of a picture, of a file with its header, levels that may lie above it,
#: and the longest side of these
_END, LARGEST_END, _ABOVE, _LONGEST = 1024, 1024 + 256, 8, 16384
#: where a DDS header has words that nothing is made of (Microsoft, DDS_HEADER): dwReserved1, dwCaps3, dwCaps4,
#: dwReserved2
FREE_WORDS = (*range(32, 76, 4), 116, 120, 124)


@dataclass(frozen=True)
class Stub:
    """A texture without its larger levels: its name, what its header says, and the bytes of its own levels."""

    name: str
    header: Header
    held: bytes
    #: levels that only its small size lets one think of: its header says nothing of them
    above: int = 0
    #: numbers of its header that no fact is made of, by the fields' names: one may say where larger levels begin
    numbers: Mapping[str, int] = field(default_factory=dict)

    @property
    def away(self) -> int:
        """How many levels are elsewhere."""
        return self.header.lacks(len(self.held))

    @property
    def missing(self) -> int:
        """Bytes of those levels."""
        return sum(self.header.level_size(level) for level in range(self.away))


def word_at(place: int) -> str:
    """What a free word of a DDS header is called in a layout."""
    return f"word_{place}"


def stub_of(data: bytes, name: str, library: Library) -> Stub | None:
    """What a texture is that says it has more levels than it has bytes for; None where it is no such texture."""
    stub = _begun(data, name, library)
    return stub if stub is not None and stub.away else None


def ends_of(data: bytes, name: str, library: Library) -> list[Stub]:
    """What a small texture that is whole may be the small end of: with one larger level, with two, and so on."""
    stub = _begun(data, name, library) if len(data) <= LARGEST_END else None
    if stub is None or stub.away or stub.header.data_size > min(_END, len(stub.held)):
        return []
    grown = (replace(stub, header=stub.header.grown(above), above=above) for above in range(1, _ABOVE + 1))
    return [one for one in grown if max(one.header.width, one.header.height) <= _LONGEST]


def _begun(data: bytes, name: str, library: Library) -> Stub | None:
    """A texture's header and what follows it; None where a layout already says where its levels are."""
    if library.joining(name, data[:512], len(data)) is not None:
        return None
    if data[: len(dds.MAGIC)] == dds.MAGIC:
        found = dds.read_header(data, len(data))
        header, start = found.header, len(found.raw)
        numbers = {word_at(at): int.from_bytes(data[at : at + 4], "little") for at in FREE_WORDS}
    else:
        layout = library.recognise(name, data[:512], "texture", size=len(data))
        if layout is None or layout.streamed or layout.only(PixelsPart) is None:
            return None
        header, begins = described.begun(layout, data)
        if begins is None:
            return None
        start, numbers = begins, described.numbers_of(layout, data)
    return Stub(name, header, data[start:], numbers=numbers)


def small_levels(data: bytes, stub: Stub) -> TextureFile | None:
    """The levels that are here, to be looked at; None where none is."""
    header, away = stub.header, stub.away
    if away == header.levels:
        return None
    small = header.without(away)
    levels, _ = split_levels(small, stub.held, 0)
    return TextureFile(small, levels, len(data), lambda *_: data, lambda *_: _refused(stub), beyond=away)


def _refused(stub: Stub) -> TextureFile:
    raise FormatError("Only its small levels are here.", address=stub.name)
