"""All files of open formats in a source, in the order in which they lie."""

from __future__ import annotations

import string
from bisect import bisect_right
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from functools import cache
from typing import NamedTuple

import numpy as np

from brae.core.signs import plain, streams
from brae.core.signs.streams import Budget, Unstream
from brae.core.signs.view import View
from brae.core.sources import ByteSource

#: bytes that are looked at in one go
WINDOW = 8 << 20
#: signs that one look may find; where there are more, it is looked again from there
_ROOM = 1 << 18
#: files that are told; a source with more has the rest left out
MOST_FILES = 100_000
#: signs of a source that may turn out to be none, for each of its bytes, and in all
_VAIN_SIGNS = 2_000_000
#: bytes of a text that is worth a line
LEAST_TEXT = 128
#: a footer's file is looked for so far before it
_TGA_REACH = 64 << 20
_TGA_FOOTER = b"TRUEVISION-XFILE.\0"


@dataclass(frozen=True)
class Hit:
    """A file that was found: where its bytes lie, and how they are packed."""

    offset: int
    length: int
    #: the format by its sign: "png", or of packed bytes that of the stream
    format: str
    #: the packer's name; None where the file lies as it is
    packed: str | None = None
    #: bytes when unpacked
    real: int = 0
    #: the name that stands with it, as in a ZIP entry
    name: str | None = None
    #: where all that belongs to it begins and ends: the record before it, a descriptor behind it
    begin: int = -1
    end: int = -1


@dataclass(frozen=True)
class _Sign:
    magic: bytes
    format: str
    tell: plain.End | None = None
    unpack: Unstream | None = None
    #: where in the file the sign stands
    at: int = 0
    #: what some of the bytes behind the magic can be, by their place: what rules most chance out in the kernel
    rest: Mapping[int, tuple[int, int]] = field(default_factory=dict)
    #: where deflate begins; 0 where there is none
    packed: int = 0


#: count of tables, their search range (its high byte), the first tag (ISO/IEC 14496-22, 4.3)
_FONT = {4: (0, 0), 5: (4, 64), 6: (0, 4), **dict.fromkeys(range(12, 16), (32, 126))}
#: reserved bytes, the header's size (BITMAPFILEHEADER, BITMAPINFOHEADER)
_BMP = {**dict.fromkeys((6, 7, 8, 9, 15), (0, 0)), 14: (40, 124)}
#: bytes of a sign that the kernel looks at
_REACH = 16


_SIGNS = (
    _Sign(b"DDS ", "dds", plain.dds),
    _Sign(b"\xabKTX", "ktx2", plain.ktx2),
    _Sign(b"\x89PNG", "png", plain.png),
    _Sign(b"GIF8", "gif", plain.gif),
    _Sign(b"\xff\xd8\xff", "jpeg", plain.jpeg),
    _Sign(b"RIFF", "riff", plain.riff),
    _Sign(b"OggS", "ogg", plain.ogg),
    _Sign(b"fLaC", "flac", plain.flac),
    _Sign(b"glTF", "glb", plain.glb),
    _Sign(b"II*\0", "tiff", plain.tiff),
    _Sign(b"MM\0*", "tiff", plain.tiff),
    _Sign(b"BM", "bmp", plain.bmp, rest=_BMP),
    _Sign(b"OTTO", "font", plain.font, rest=_FONT),
    _Sign(b"ttcf", "font", plain.font),
    _Sign(b"\0\1\0\0", "font", plain.font, rest=_FONT),
    _Sign(b"wOFF", "font", plain.woff),
    _Sign(b"wOF2", "font", plain.woff),
    _Sign(b"PK\3\4", "zip"),
    _Sign(b"\x1f\x8b\x08", "gzip", unpack=streams.gzip_stream),
    _Sign(b"\x28\xb5\x2f\xfd", "zstd", unpack=streams.zstd_stream),
    _Sign(b"\x04\x22\x4d\x18", "lz4-frame", unpack=streams.lz4_stream),
    _Sign(b"BZh", "bzip2", unpack=streams.bzip2_stream),
    _Sign(b"\xfd7zX", "xz", unpack=streams.xz_stream),
    _Sign(b"\x5d\0\0", "lzma", unpack=streams.lzma_stream),
    *(
        _Sign(bytes((0x78, flags)), "zlib", unpack=streams.zlib_stream, packed=2)
        for flags in (0x01, 0x5E, 0x9C, 0xDA)
    ),
    _Sign(b"TRUE", "tga"),
)


class _Tables(NamedTuple):
    """What the kernels are told of the signs, in their order, and of each byte whether it is of a text."""

    begins: np.ndarray
    lows: np.ndarray
    highs: np.ndarray
    packed: np.ndarray
    kinds: np.ndarray


@cache
def _tables() -> _Tables:
    count = len(_SIGNS)
    assert count <= 32, "a sign is one bit of 32"
    told = _Tables(
        np.zeros((4, 256), np.uint32),
        np.zeros((count, _REACH), np.uint8),
        np.full((count, _REACH), 255, np.uint8),
        np.zeros(count, np.int64),
        np.zeros(256, np.uint8),
    )
    for number, sign in enumerate(_SIGNS):
        for place in range(4):
            values = sign.magic[place] if place < len(sign.magic) else slice(None)
            told.begins[place, values] |= np.uint32(1 << number)
        told.packed[number] = sign.packed
        for place, (low, high) in sign.rest.items():
            told.lows[number, place], told.highs[number, place] = low, high
    told.kinds[32:127] = 3
    told.kinds[128:] = 3
    for byte in (string.ascii_letters + string.digits).encode():
        told.kinds[byte] = 1
    for byte in b" \t\r\n":
        told.kinds[byte] = 2
    return told


@dataclass
class Search:
    """Looks through one source; ``left_out`` says afterwards what was passed over, and why."""

    source: ByteSource
    #: told of bytes that were looked through
    tick: Callable[[int], None] = lambda amount: None
    left_out: list[str] = field(default_factory=list)

    def files(self) -> Iterator[Hit]:
        """Every file, in the order in which they lie; none within another."""
        size = self.source.size
        budget = Budget(4 * size + (64 << 20))
        free, at, vain, told = 0, 0, 0, 0
        held = 0  # a text that goes on in the next window begins here
        while at < size:
            begin = min(held, at)
            data = np.frombuffer(self.source.read(begin, min(WINDOW + at - begin + 3, size - begin)), np.uint8)
            found: list[Hit] = []
            for place, sign in self._places(data, at - begin):
                offset = begin + place - sign.at
                if offset < free:
                    continue
                if vain > _VAIN_SIGNS or (sign.unpack is not None and budget.left < 0):
                    self._leave("Signs without a file behind them were too many; weak ones were passed over.")
                    continue
                hit = self._tell(sign, offset, budget, free)
                if hit is None:
                    vain += 1
                    continue
                found.append(hit)
                free = hit.end
            here = min(WINDOW, size - at)
            last = at + here >= size
            ready, held = self._texts(data, begin, found, free, last=last)
            for hit in ready:
                if told == MOST_FILES:
                    self._leave(f"There are more than {MOST_FILES:,} files; what lies behind them was left out.")
                    return
                told += 1
                yield hit
            at += here
            self.tick(here)

    def _leave(self, words: str) -> None:
        if words not in self.left_out:
            self.left_out.append(words)

    def _places(self, data: np.ndarray, start: int) -> Iterator[tuple[int, _Sign]]:
        """Where signs stand, from a place on."""
        from brae.core.signs import kernels

        places, signs = np.empty(_ROOM, np.int64), np.empty(_ROOM, np.int64)
        while start < len(data):
            count = int(kernels.stands(data[start:], *_tables()[:-1], places, signs))
            for place, sign in zip(places[:count].tolist(), signs[:count].tolist(), strict=True):
                yield start + place, _SIGNS[sign]
            if count < _ROOM:
                return
            start += int(places[count - 1]) + 1

    def _tell(self, sign: _Sign, offset: int, budget: Budget, free: int) -> Hit | None:
        """The file whose sign stands at an offset; None where there is none."""
        view = View(self.source, offset)
        if sign.format == "zip":
            entry = streams.zip_entry(view, budget)
            if entry is None:
                return None
            packed = None if entry.packer == "none" else entry.packer
            begin = offset + entry.head
            return Hit(begin, entry.stored, "zip", packed, entry.real, entry.name, offset, offset + entry.length)
        if sign.format == "tga":
            start = self._tga(offset, free) if view.read(0, 18) == _TGA_FOOTER else None
            length = None if start is None else offset + 18 - start
            offset = offset if start is None else start
        elif sign.unpack is not None:
            stream = sign.unpack(view, budget)
            if stream is None:
                return None
            end = offset + stream.length
            return Hit(offset, stream.length, sign.format, sign.format, stream.real, None, offset, end)
        else:
            assert sign.tell is not None
            length = sign.tell(view)
        if length is None:
            return None
        name = sign.format
        if name == "riff":
            name = "webp" if view.read(8, 4) == b"WEBP" else "wav"
        return Hit(offset, length, name, None, length, None, offset, offset + length)

    def _tga(self, footer: int, free: int) -> int | None:
        """Where the TGA file begins whose footer's signature stands here (TGA 2.0): header and pixels fit exactly.

        The footer's two offsets say whether an extension or a developer area lies between.
        """
        if footer < 8 + 18:
            return None
        extension, developer = np.frombuffer(self.source.read(footer - 8, 8), "<u4").tolist()
        first = max(free, footer - _TGA_REACH)
        data = np.frombuffer(self.source.read(first, footer - 8 - first), np.uint8)
        if len(data) < 18:
            return None
        count = len(data) - 17
        kind, depth = data[2 : 2 + count], data[16 : 16 + count]
        likely = (
            np.isin(kind, (1, 2, 3, 9, 10, 11)) & np.isin(depth, (8, 15, 16, 24, 32)) & (data[1 : 1 + count] < 2)
        )
        for place in np.flatnonzero(likely).tolist():
            head = data[place : place + 18]
            mapped = bool(head[1])
            if mapped != (head[2] in (1, 9)) or (not mapped and head[3:8].any()) or head[17] & 0xC0:
                continue
            width, height = (int(head[at]) | int(head[at + 1]) << 8 for at in (12, 14))
            colours = (int(head[5]) | int(head[6]) << 8) * ((int(head[7]) + 7) // 8) if mapped else 0
            begin = 18 + int(head[0]) + colours
            pixels = width * height
            step = (int(head[16]) + 7) // 8
            areas = [one for one in (extension, developer) if one]
            end = min(areas) if areas else len(data) - place
            if not pixels or end > len(data) - place:
                continue
            if head[2] < 8:
                if begin + pixels * step == end:
                    return first + place
            elif _runs_end(data[place + begin : place + end], pixels, step) == end - begin:
                return first + place
        return None

    def _texts(
        self, data: np.ndarray, begin: int, found: list[Hit], free: int, *, last: bool
    ) -> tuple[list[Hit], int]:
        """The files of a window with the texts between them, and where a text begins that goes on behind it."""
        from brae.core.signs import kernels

        kinds = _tables().kinds
        starts, ends = np.empty(1 << 16, np.int64), np.empty(1 << 16, np.int64)
        count = int(kernels.texts(data, kinds, LEAST_TEXT, starts, ends))
        end = begin + len(data)
        # The last bytes are looked at again with the next window, so a text that reaches them is told there.
        reach = end if last else begin + int(kernels.text_at_end(data[: len(data) - 3], kinds))
        held = reach if end - reach < WINDOW // 2 else end
        more: list[Hit] = []
        taken = [(hit.begin, hit.end) for hit in found]
        for start, stop in zip((starts[:count] + begin).tolist(), (ends[:count] + begin).tolist(), strict=True):
            if start >= held:
                continue
            for one, other in _without(start, stop, taken, free, bool(found)):
                if other - one >= LEAST_TEXT:
                    more.append(Hit(one, other - one, "text", None, other - one, None, one, other))
        return sorted([*found, *more], key=lambda hit: hit.offset), held


def _without(
    start: int, stop: int, taken: list[tuple[int, int]], free: int, any_here: bool
) -> Iterator[tuple[int, int]]:
    """The parts of a range that no file has taken."""
    number = max(0, bisect_right(taken, (start, 1 << 62)) - 1)
    if not any_here:
        start = max(start, free)
    for begin, end in taken[number:]:
        if begin >= stop:
            break
        if begin > start:
            yield start, begin
        start = max(start, end)
    if start < stop:
        yield start, stop


def _runs_end(data: np.ndarray, pixels: int, step: int) -> int:
    """Where run-length packets of TGA (2.0, "RLE") have told all pixels; -1 where they do not."""
    at, done, raw = 0, 0, data.tobytes()
    while done < pixels:
        if at >= len(raw):
            return -1
        count = (raw[at] & 0x7F) + 1
        at += 1 + (step if raw[at] & 0x80 else count * step)
        done += count
    return at if done == pixels else -1


def format_of(head: bytes) -> str | None:
    """The format of a file by its first bytes alone (64 are enough); None where no sign tells it."""
    for sign in _SIGNS:
        if head.startswith(sign.magic) and sign.format not in ("tga", "zlib", "bmp"):
            if sign.format == "riff":
                return {b"WAVE": "wav", b"WEBP": "webp"}.get(head[8:12])
            return sign.format
    if head[:2] == b"BM" and head[6:10] == bytes(4):
        return "bmp"
    kinds = _tables().kinds
    return "text" if head and all(kinds[byte] for byte in head) else None
