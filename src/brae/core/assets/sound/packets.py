"""Vorbis and Opus as bare packets, as games keep them: how they lie is described, an Ogg file is made of them.

A member holds, one after the other: a table of places to begin from (``seek``), Vorbis's headers where they stand
in front, and packets, each behind a head that says its size, or all of one size. That games keep them so is common
practice, no source.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from brae.core.assets.sound import ogg, opus, vorbis
from brae.core.assets.sound.bits import Head
from brae.core.assets.sound.library import NOTHING
from brae.core.assets.sound.pieces import Pieces
from brae.core.errors import FormatError

if TYPE_CHECKING:
    from brae.core.assets.sound.facts import SaidSound

Numbers = np.ndarray[Any, Any]
_OTHER_BOOKS = (
    "These packets share their headers with other sounds, and Brae's encoder makes other codebooks than those: "
    "the sound is heard, but not written."
)
_NO_HEADS = np.zeros(0, np.int64)


@dataclass(frozen=True)
class Seek:
    """A table of places: its entries as numbers, the packet that each one means, and from where offsets count.

    That is the member, its packets with the headers, or those that are heard: 0, 1 or 2.
    """

    entries: Numbers
    packets: Numbers
    origin: int


@dataclass(frozen=True)
class Packets:
    """A member's packets, and what is needed to write others in their place."""

    said: SaidSound
    #: how many of them are headers; they stand in front
    headers: int
    packets: tuple[bytes, ...]
    #: the heads before them, as numbers
    heads: Numbers
    seek: Seek | None
    #: what lies behind the last
    tail: bytes
    stream: vorbis.Stream | None

    @property
    def sound(self) -> tuple[bytes, ...]:
        """The packets that are heard."""
        return self.packets[self.headers :]

    def ogg(self) -> bytes:
        """An Ogg file of them, of as many samples as are said. FormatError where there are fewer."""
        if self.stream is not None:
            headers: Sequence[bytes] = self.stream.headers
            positions, scale, skip = self.stream.positions(self.sound), 1, 0
        else:
            headers = opus.head(self.said.channels, self.said.rate, self.said.skip), opus.tags()
            positions, scale, skip = opus.positions(self.sound), 48000 // self.said.rate, self.said.skip
        if self.said.samples is not None and positions:
            last = self.said.samples * scale + skip
            if positions[-1] < last:
                raise FormatError(
                    f"{self.said.samples:,} samples are said, but there are {(positions[-1] - skip) // scale:,}.",
                    remedy="The layout may mean other samples, or those of all channels together.",
                )
            positions = [min(one, last) for one in positions]
        return ogg.file_of(headers, self.sound, positions)

    def again(self, file: bytes) -> bytes:
        """The bytes of a member with the packets of an Ogg file: its own, or those of an edit."""
        found = ogg.packets_of(file)
        front, sound = list(self.packets[: self.headers]), found[3 if self.stream is not None else 2 :]
        if self.stream is not None and found[2] != self.stream.setup:
            if not self.headers:
                raise FormatError(_OTHER_BOOKS)
            # Comments stay; which of the three are there does not change.
            new = {one[:7]: one for one in found[:3]}
            front = [one if one[:7] == vorbis.COMMENTS else new[one[:7]] for one in front]
        packets = (*front, *sound)
        heads = self._heads(packets)
        size = self._form.size if self._form is not None else 0
        numbers = self._form.bytes(heads) if self._form is not None else np.zeros((len(packets), 0), np.uint8)
        pieces = [numbers[at].tobytes() + one for at, one in enumerate(packets)]
        starts = np.cumsum([0, *(size + len(one) for one in packets)])[:-1]
        return self._table(packets, starts) + b"".join(pieces) + self.tail

    def check_writable(self) -> None:
        """FormatError where others cannot be written in their place."""
        if self.stream is not None and not self.headers and vorbis.exact_level(self.stream) is None:
            raise FormatError(_OTHER_BOOKS)

    def encoded(self, pieces: Pieces) -> bytes:
        """An Ogg file of other samples at the same rate, in packets like these."""
        frames = sum(map(len, pieces))
        if not frames:
            raise FormatError(NOTHING, remedy="Save the sound again.")
        if self.stream is not None:
            return vorbis.file_of(pieces, self.stream)
        mean = sum(map(len, self.packets)) / max(len(self.packets), 1)
        packets = opus.encoded(pieces, mean, self.said.block, self.said.skip)
        headers = opus.head(self.said.channels, self.said.rate, self.said.skip), opus.tags()
        last = frames * (48000 // self.said.rate) + self.said.skip
        return ogg.file_of(headers, packets, [min(one, last) for one in opus.positions(packets)])

    @property
    def _form(self) -> Head | None:
        return self.said.packet_head

    def _heads(self, packets: Sequence[bytes]) -> Numbers:
        form, last = self._form, len(self.heads) - 1
        if form is None:
            return _NO_HEADS
        templates = (
            self.heads[np.minimum(np.arange(len(packets)), last)] if last >= 0 else np.zeros(len(packets), np.int64)
        )
        sizes = np.array([len(packet) for packet in packets], np.int64)
        for name, more in (("size", 0), ("whole", form.size)):
            if len(sizes) and form.bits(name) and int(sizes.max()) + more >= 1 << form.bits(name):
                raise FormatError(
                    f"A packet of {int(sizes.max()):,} bytes does not fit {form.bits(name)} bits.",
                    remedy="Make the sound quieter or plainer, so that its packets are smaller.",
                )
            templates = form.put(templates, name, sizes + more)
        before = form.get(self.heads, "samples")
        if not form.bits("samples") or before.tolist() != self._lengths(self.packets):
            return templates  # it says something else
        return form.put(templates, "samples", np.array(self._lengths(packets), np.int64))

    def _lengths(self, packets: Sequence[bytes]) -> list[int]:
        """The samples that each packet adds."""
        ends = self._ends(packets)
        return [0] * self.headers + [one - before for before, one in zip([0, *ends], ends, strict=False)]

    def _ends(self, packets: Sequence[bytes]) -> list[int]:
        sound = packets[self.headers :]
        if self.stream is not None:
            return self.stream.positions(sound)
        return [one * self.said.rate // 48000 for one in opus.positions(sound)]

    def _table(self, packets: Sequence[bytes], starts: Numbers) -> bytes:
        form = self.said.seek_head
        if form is None or self.seek is None:
            return b""
        begins = np.array([0, *self._ends(packets)[:-1]], np.int64)
        places = np.minimum(self.seek.packets, len(begins) - 1)
        entries = self.seek.entries
        if form.bits("sample"):
            before = np.array([0, *self._ends(self.packets)[:-1]], np.int64)
            samples = form.get(entries, "sample")
            # The first packet that begins there, or the last before it.
            places = np.minimum(np.searchsorted(begins, samples), len(begins) - 1)
            places = np.where(begins[places] > samples, np.maximum(places - 1, 0), places)
            if np.array_equal(before[self.seek.packets], samples):
                samples = begins[places]
            entries = form.put(entries, "sample", np.minimum(samples, begins[-1]))
        base = (-form.size * len(entries), 0, starts[self.headers])[self.seek.origin]
        return form.bytes(form.put(entries, "offset", starts[self.headers + places] - base)).tobytes()


def taken_apart(data: bytes, said: SaidSound, headers: bytes = b"") -> Packets:
    """A member's packets by what is said of them; ``headers``: the item that holds Vorbis's, where it is another.

    FormatError where sizes lead beyond the end, or headers are missing.
    """
    form, seek = said.packet_head, said.seek_head
    front = seek.size * (said.seeks or 0) if seek is not None else 0
    if front > len(data):
        raise FormatError(f"A table of {said.seeks:,} places does not fit {len(data):,} bytes.", offset=0)
    packets, heads, starts, end = _walk(data, front, form, said.block)
    stream, own = None, 0
    if said.codec == "vorbis":
        known = None
        if said.short is not None and said.long is not None:
            known = vorbis.identification(said.rate, said.channels, said.short, said.long)
        if said.headers == "front":
            sound = (at for at, one in enumerate(packets[:4]) if one[0] & 1 == 0)
            own = next(sound, min(len(packets), 3))
            stream = vorbis.Stream.of(packets[:own], known)
        else:
            stream = vorbis.Stream.of(_headers(headers, form), known)
        if (stream.channels, stream.rate) != (said.channels, said.rate):
            raise FormatError(
                f"The headers say {stream.channels} channels at {stream.rate:,} Hz, the layout {said.channels} "
                f"at {said.rate:,}.",
                remedy="Say the same in the layout's facts.",
            )
    if len(packets) == own:
        raise FormatError(
            "There is no packet in it.", offset=front, remedy="Look at what 'packet' says of its head."
        )
    found = Packets(said, own, tuple(packets), heads, None, data[end:], stream)
    if seek is None or not front:
        return found
    entries = seek.numbers(np.frombuffer(data, np.uint8)[:front].reshape(-1, seek.size))
    return Packets(said, own, found.packets, heads, _seek(seek, entries, starts, own, front), found.tail, stream)


def _walk(
    data: bytes, at: int, form: Head | None, block: int | None
) -> tuple[list[bytes], Numbers, list[int], int]:
    """Packets, their heads as numbers, where each begins (its head), and where the last one ends."""
    packets: list[bytes] = []
    heads, starts = [], []
    if form is None:
        assert block is not None
        starts = list(range(at, len(data) - block + 1, block))
        return (
            [data[one : one + block] for one in starts],
            _NO_HEADS,
            starts,
            (starts[-1] + block if starts else at),
        )
    name = "whole" if form.bits("whole") else "size"
    while at + form.size <= len(data):
        head = form.numbers(np.frombuffer(data, np.uint8, form.size, at)[None])
        size = int(form.get(head, name)[0]) - (form.size if name == "whole" else 0)
        if size <= 0:
            break  # what follows is not used
        if at + form.size + size > len(data):
            raise FormatError(
                f"Packet {len(packets):,} has {size:,} bytes, it is said, of {len(data) - at - form.size:,} left.",
                offset=at,
                remedy="The sound is cut off, or its packets have another head than the layout says.",
            )
        packets.append(data[at + form.size : at + form.size + size])
        heads.append(int(head[0]))
        starts.append(at)
        at += form.size + size
    return packets, np.array(heads, np.int64), starts, at


def _headers(data: bytes, form: Head | None) -> list[bytes]:
    """Vorbis's headers in an item of their own: an Ogg file, packets with such heads, or one after the other."""
    if data[:4] == b"OggS":
        return ogg.packets_of(data)[:3]
    marks = [data.find(one) for one in (vorbis.IDENTIFICATION, vorbis.COMMENTS, vorbis.SETUP)]
    if form is not None and 0 not in marks:
        return _walk(data, 0, form, None)[0]
    places = sorted(mark for mark in marks if mark >= 0)
    return [data[one:other] for one, other in zip(places, [*places[1:], len(data)], strict=True)]


def _seek(form: Head, entries: Numbers, starts: list[int], headers: int, front: int) -> Seek:
    """Which packet each entry means. FormatError where they mean no packets."""
    offsets, places = form.get(entries, "offset"), np.array(starts, np.int64)
    for origin, base in enumerate((0, front, starts[headers])):
        found = np.searchsorted(places, offsets + base)
        if (
            (found < len(places)).all()
            and np.array_equal(places[found], offsets + base)
            and (found >= headers).all()
        ):
            return Seek(entries, found - headers, origin)
    raise FormatError(
        "The table of places to begin from leads to no beginnings of packets.",
        offset=0,
        remedy="Say what its numbers are; 'offset' counts from the member's, the packets' or the sound's start.",
    )
