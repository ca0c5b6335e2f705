"""Telling many textures by their beginnings at once.

Of a hundred thousand textures few headers differ in what matters: the bytes of a header that can change what it
says are compared as rows of one array, and each different row is read once, by the code that reads a single file.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import lru_cache, partial

import numpy as np

from brae.core.assets.base import HEAD, Head, Sniffed
from brae.core.assets.texture import dds, described, images, ktx2
from brae.core.assets.texture.facts import facts_of
from brae.core.assets.texture.files import sniff_picture
from brae.core.errors import BraeError, ShortError
from brae.core.layouts.fields import FieldPart
from brae.core.layouts.library import Library
from brae.core.layouts.model import Layout
from brae.core.layouts.pixels import PixelsPart
from brae.core.sources import MAIN

Bytes = np.ndarray[tuple[int, int], np.dtype[np.uint8]]
#: of a DDS file's header: all but pitch, reserved words, and what only a 'DX10' header has (DDS_HEADER, Microsoft)
_DDS = np.r_[0:20, 24:32, 76:128]
_DDS_MORE = np.r_[128:148]


@dataclass(frozen=True)
class _Group:
    """Members of one file type: where they are, how one is told, and the bytes of each that matter."""

    where: np.ndarray
    tell: Callable[[Head], Sniffed]
    #: none where each is told by itself
    keys: Bytes | None = None


def tell(heads: Sequence[Head], library: Library) -> list[Sniffed | None]:
    """What each of many members is, if it is a texture."""
    found: list[Sniffed | None] = [None] * len(heads)
    if not heads:
        return found
    joined = b"".join(head.data[:HEAD].ljust(HEAD, b"\0") for head in heads)
    rows = np.frombuffer(joined, np.uint8).reshape(len(heads), HEAD)
    lengths = np.fromiter((len(head.data) for head in heads), np.int64, len(heads))
    for group in _groups(heads, rows, lengths, library):
        if group.keys is None:
            firsts, inverse = np.arange(len(group.where)), np.arange(len(group.where))
        else:
            whole = np.ascontiguousarray(group.keys).view(np.dtype((np.void, group.keys.shape[1])))[:, 0]
            _, firsts, inverse = np.unique(whole, return_index=True, return_inverse=True)
        told = [_safely(group.tell, heads[group.where[first]]) for first in firsts]
        for place, which in zip(group.where.tolist(), inverse.ravel().tolist(), strict=True):
            found[place] = told[which]
    return found


def _safely(tell_one: Callable[[Head], Sniffed | None], head: Head) -> Sniffed | None:
    try:
        return tell_one(head)
    except ShortError as error:
        return Sniffed(None, fault=str(error), short=head.size is None or len(head.data) < head.size)
    except BraeError as error:
        return Sniffed(None, fault=str(error))


def _groups(heads: Sequence[Head], rows: Bytes, lengths: np.ndarray, library: Library) -> list[_Group]:
    groups: list[_Group] = []
    free = np.ones(len(heads), bool)

    def claim(mask: np.ndarray) -> np.ndarray:
        where = np.flatnonzero(mask & free)
        free[where] = False
        return where

    sizes = np.array([-1 if head.size is None else head.size for head in heads], np.int64)
    names = [head.name for head in heads]
    for layout, mask in library.joined(names, rows, lengths, sizes, free.copy()):
        groups.append(_Group(claim(mask), partial(_described, layout)))
    is_dds = claim(_begins(rows, lengths, dds.MAGIC))
    if len(is_dds):
        more = (rows[is_dds][:, 84:88] == np.frombuffer(b"DX10", np.uint8)).astype(np.uint8).min(axis=1)
        behind = rows[is_dds][:, _DDS_MORE] * more[:, None]
        numbers = np.stack([np.maximum(sizes[is_dds], 0), lengths[is_dds]], axis=1).view(np.uint8)
        groups.append(_Group(is_dds, _dds, np.concatenate([rows[is_dds][:, _DDS], behind, numbers], axis=1)))
    groups.append(_Group(claim(_begins(rows, lengths, ktx2.MAGIC)), _ktx2))
    for layout, mask in library.recognised(names, rows, lengths, sizes, "texture", free.copy()):
        where = claim(mask)
        relevant = _relevant(layout)
        alike = relevant is not None and len(where) > 1
        if relevant is None or not alike:
            groups.append(_Group(where, partial(_described, layout)))
            continue
        whole = lengths[where] > relevant[1]
        groups.append(_Group(where[~whole], partial(_described, layout)))
        where = where[whole]
        numbers = sizes[where][:, None].view(np.uint8)
        keys = np.concatenate([rows[where][:, relevant[0]], numbers], axis=1)
        groups.append(_Group(where, partial(_described, layout), keys))
    rest = np.flatnonzero(free)
    pictures = [place for place in rest.tolist() if images.is_picture(heads[place].data, heads[place].name)]
    groups.append(_Group(np.array(pictures, np.int64), _picture))
    return [group for group in groups if len(group.where)]


def _begins(rows: Bytes, lengths: np.ndarray, magic: bytes) -> np.ndarray:
    return (rows[:, : len(magic)] == np.frombuffer(magic, np.uint8)).all(axis=1) & (lengths >= len(magic))


def _dds(head: Head) -> Sniffed:
    found = dds.read_header(head.data, head.size)
    return Sniffed("dds", facts_of(found.header, None if head.size is None else head.size - len(found.raw)))


def _ktx2(head: Head) -> Sniffed:
    return Sniffed("ktx2", facts_of(ktx2.read_header(head.data).header))


def _described(layout: Layout, head: Head) -> Sniffed:
    header, start = described.begun(layout, head.data)
    held = None if start is None or head.size is None else head.size - start
    return Sniffed(
        layout.layout, facts_of(header, held), tuple(described.parts_of(layout, head.data, head.name, head.size))
    )


def _picture(head: Head) -> Sniffed:
    header = sniff_picture(head.data, head.name)
    assert header is not None
    return Sniffed(header.container, facts_of(header))


@lru_cache(maxsize=256)
def _relevant_of(text: str) -> tuple[tuple[int, ...], int] | None:
    layout = Layout.model_validate_json(text)
    part = layout.only(PixelsPart)
    if part is None or part.elsewhere is not None or part.palette is not None:
        return None
    places: list[int] = []
    at = 0
    for one in layout.parts:
        if isinstance(one, PixelsPart):
            return tuple(places), at
        fixed = isinstance(one, FieldPart) and one.prefix is None and one.end is None and not one.obfuscation
        if not fixed or not isinstance(one, FieldPart) or one.file != MAIN or one.align != 1:
            return None
        if one.at is not None and one.at != at:
            return None
        width = one.length if one.type in ("string", "bytes") else one.width
        if not isinstance(width, int) or at + width >= HEAD:
            return None
        used = one.bits or one.value is not None or one.checksum is not None
        if used or len(re.findall(rf"\b{re.escape(one.field)}\b", text)) > 1 or one.is_ is not None:
            places += range(at, at + width)
        at += width
    return None


def _relevant(layout: Layout) -> tuple[np.ndarray, int] | None:
    """The bytes of a header that can change what it says, and where it ends; None where its places can move.

    A number that nothing else in the layout speaks of (a stamp, a hash) says nothing of the texture.
    """
    if any(part.sums for part in layout.parts):
        return None
    found = _relevant_of(layout.model_dump_json(by_alias=True, exclude_none=True))
    return None if found is None else (np.array(found[0], np.int64), found[1])
