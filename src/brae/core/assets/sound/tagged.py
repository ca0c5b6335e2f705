"""Ogg and FLAC written anew like the original: tags stay, and what they say of loops and places follows.

FLAC's blocks and frames: RFC 9639, 8 and 9.
"""

from __future__ import annotations

import struct
from collections.abc import Sequence

from brae.core.assets.sound import ogg, opus, vorbis
from brae.core.assets.sound.loops import Loop
from brae.core.assets.sound.sound import Samples, Sound
from brae.core.assets.sound.tags import COMMENT, INFO, PLACES, Comments, blocks_of, comments_of
from brae.core.layouts.checksums import Crc, checksum

#: the checksum of a frame's header (RFC 9639, 9.1.8)
_HEADER = Crc(width=8, poly=0x07, init=0, reflect=False, xor_out=0)
_NO_POINT = 0xFFFFFFFFFFFFFFFF


def _kept(original: bytes, loops: Sequence[Loop]) -> Comments | None:
    found = comments_of(original)
    return found.with_loop(loops[0]) if found is not None and found.loops and loops else found


def ogg_like(original: Sound, samples: Samples, loops: Sequence[Loop]) -> bytes:
    """An Ogg file at the original's quality, with its tags and its stream number."""
    packets = ogg.packets_of(original.data)
    if original.subtype == "OPUS":
        count = 2
        mean = sum(map(len, packets[2:])) / max(len(packets) - 2, 1)
        data = opus.file_of(samples, original.rate, mean)
    else:
        count = 3
        data = vorbis.file_of(samples, vorbis.Stream.of(packets[:3]))
    headers, kept = ogg.packets_of(data, count), _kept(original.data, loops)
    if kept is not None:
        headers[1] = kept.whole()
    return ogg.numbered(ogg.with_headers(data, headers), ogg.serial_of(original.data))


def flac_like(original: Sound, made: bytes, frames: int, loops: Sequence[Loop]) -> bytes:
    """A FLAC file with the blocks of the original: tags, pictures, a table of places that leads into this one."""
    new = list(blocks_of(made))
    begin = new[-1][2]
    info = new[0][1]
    kept = _kept(original.data, loops)
    blocks = [(INFO, info)]
    for kind, body, _ in blocks_of(original.data):
        if kind == PLACES:
            blocks.append((kind, _places(body, made, begin, int.from_bytes(info[:2], "big"), frames)))
        elif kind != INFO:
            blocks.append((kind, kept.whole() if kind == COMMENT and kept is not None else body))
    pieces = [
        bytes([kind | (0x80 if number == len(blocks) - 1 else 0)]) + len(body).to_bytes(3, "big") + body
        for number, (kind, body) in enumerate(blocks)
    ]
    return b"fLaC" + b"".join(pieces) + made[begin:]


def _places(table: bytes, made: bytes, begin: int, size: int, frames: int) -> bytes:
    """A table of places of as many entries (RFC 9639, 8.5): each at the frame that holds its sample."""
    starts = _frames(made, begin)
    points: list[tuple[int, int, int]] = []
    for at in range(0, len(table) // 18 * 18, 18):
        sample = int.from_bytes(table[at : at + 8], "big")
        if sample < frames and sample // size < len(starts):
            number = sample // size
            point = (number * size, starts[number] - begin, min(size, frames - number * size))
            if not points or points[-1] != point:
                points.append(point)
    points += [(_NO_POINT, 0, 0)] * (len(table) // 18 - len(points))
    return b"".join(struct.pack(">QQH", *point) for point in points)


def _frames(data: bytes, at: int) -> list[int]:
    """Where each frame begins, of frames of one size: by its mark, its number and its header's checksum."""
    found: list[int] = []
    while (at := data.find(b"\xff\xf8", at)) >= 0:
        number, size = _number(data, at + 4)
        more = {6: 1, 7: 2}.get(data[at + 2] >> 4 if at + 2 < len(data) else 0, 0)
        more += {12: 1, 13: 2, 14: 2}.get(data[at + 2] & 15 if at + 2 < len(data) else 0, 0)
        end = at + 4 + size + more
        if number == len(found) and end < len(data) and checksum(_HEADER, [data[at:end]]) == data[end]:
            found.append(at)
            at = end
        at += 1
    return found


def _number(data: bytes, at: int) -> tuple[int, int]:
    """A number as UTF-8 writes code points, and its bytes; -1 where it is none."""
    first = data[at] if at < len(data) else 255
    if first < 0x80:
        return first, 1
    size = 8 - (first ^ 0xFF).bit_length()
    if not 2 <= size <= 7:
        return -1, 1
    value = first & (1 << (7 - size)) - 1 if size < 7 else 0
    for byte in data[at + 1 : at + size]:
        value = value << 6 | byte & 0x3F
    return value, size
