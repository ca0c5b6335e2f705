"""Ogg and FLAC written anew like the original: tags stay, and what they say of loops and places follows.

FLAC's blocks and frames: RFC 9639, 8 and 9.
"""

from __future__ import annotations

import struct
from bisect import bisect_right
from collections.abc import Sequence

from brae.core.assets.sound import ogg, opus, vorbis
from brae.core.assets.sound.flac import frames_at
from brae.core.assets.sound.loops import Loop
from brae.core.assets.sound.pieces import Pieces
from brae.core.assets.sound.sound import Sound
from brae.core.assets.sound.tags import COMMENT, INFO, PLACES, Comments, blocks_of, comments_of

_NO_POINT = 0xFFFFFFFFFFFFFFFF


def _kept(original: bytes, loops: Sequence[Loop]) -> Comments | None:
    found = comments_of(original)
    return found.with_loop(loops[0]) if found is not None and found.loops and loops else found


def ogg_like(original: Sound, pieces: Pieces, loops: Sequence[Loop]) -> bytes:
    """An Ogg file at the original's quality, with its tags and its stream number."""
    packets = ogg.packets_of(original.data)
    if original.subtype == "OPUS":
        count = 2
        mean = sum(map(len, packets[2:])) / max(len(packets) - 2, 1)
        data = opus.file_of(pieces, mean)
    else:
        count = 3
        data = vorbis.file_of(pieces, vorbis.Stream.of(packets[:3]))
    headers, kept = ogg.packets_of(data, count), _kept(original.data, loops)
    if kept is not None:
        headers[1] = kept.whole()
    return ogg.numbered(ogg.with_headers(data, headers), ogg.serial_of(original.data))


def flac_like(original: Sound, made: bytes, loops: Sequence[Loop]) -> bytes:
    """A FLAC file with the blocks of the original: tags, pictures, a table of places that leads into this one."""
    new = list(blocks_of(made))
    begin = new[-1][2]
    info = new[0][1]
    kept = _kept(original.data, loops)
    blocks = [(INFO, info)]
    for kind, body, _ in blocks_of(original.data):
        if kind == PLACES:
            blocks.append((kind, _places(body, made, begin)))
        elif kind != INFO:
            blocks.append((kind, kept.whole() if kind == COMMENT and kept is not None else body))
    pieces = [
        bytes([kind | (0x80 if number == len(blocks) - 1 else 0)]) + len(body).to_bytes(3, "big") + body
        for number, (kind, body) in enumerate(blocks)
    ]
    return b"".join([b"fLaC", *pieces, memoryview(made)[begin:]])


def _places(table: bytes, made: bytes, begin: int) -> bytes:
    """A table of places of as many entries (RFC 9639, 8.5): each at the frame that holds its sample."""
    frames = list(frames_at(made, begin))
    firsts = [first for _, first, _ in frames]
    points: list[tuple[int, int, int]] = []
    for at in range(0, len(table) // 18 * 18, 18):
        sample = int.from_bytes(table[at : at + 8], "big")
        offset, first, size = frames[max(bisect_right(firsts, sample) - 1, 0)]
        if sample < first + size and (not points or points[-1][0] != first):
            points.append((first, offset - begin, size))
    points += [(_NO_POINT, 0, 0)] * (len(table) // 18 - len(points))
    return b"".join(struct.pack(">QQH", *point) for point in points)
