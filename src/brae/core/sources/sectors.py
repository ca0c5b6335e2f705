"""Raw CD images: 2,352-byte sectors seen as their 2,048 bytes of data, and written back with EDC and ECC right.

ECMA-130 section 14 for the sector (12 bytes of synchronisation, 3 of address, the mode), CD-ROM XA for mode 2.
"""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np

from brae.core.sources import ByteSource, check_range

RAW, COOKED, XA = 2352, 2048, 2336
SYNC = b"\0" + b"\xff" * 10 + b"\0"
#: sectors handled at once
_BATCH = 900


def is_raw(source: ByteSource) -> bool:
    """Whether these are raw sectors that hold data."""
    if source.size < RAW or source.size % RAW:
        return False
    head = source.read(0, 16)
    return head[:12] == SYNC and head[15] in (1, 2)


def is_form2(header: bytes | Any) -> bool:
    """Whether a raw sector (its first 19 bytes) is of mode 2 form 2: more data, no correction."""
    return bool(header[15] == 2 and header[18] & 0x20)


def _address(frames: int) -> bytes:
    """Minute, second and frame, in binary-coded decimal."""
    return bytes(part // 10 << 4 | part % 10 for part in (frames // 4500, frames // 75 % 60, frames % 75))


def _frames(address: bytes) -> int:
    minute, second, frame = ((part >> 4) * 10 + (part & 15) for part in address)
    return (minute * 60 + second) * 75 + frame


class SectorView:
    """Raw sectors as the bytes of user data in them, ``width`` of each: 2,048, or 2,336 with the XA subheader."""

    def __init__(self, raw: ByteSource, width: int = COOKED) -> None:
        self.raw, self.width = raw, width
        mode = raw.read(15, 1)[0]
        self.begin = 16 if mode == 1 or width == XA else 24
        self._size = raw.size // RAW * width

    @property
    def size(self) -> int:
        return self._size

    def read(self, offset: int, length: int) -> bytes:
        check_range(self._size, offset, length)
        if not length:
            return b""
        first, last = offset // self.width, (offset + length - 1) // self.width
        if first == last:
            return self.raw.read(first * RAW + self.begin + offset % self.width, length)
        sectors = np.frombuffer(self.raw.read(first * RAW, (last + 1 - first) * RAW), np.uint8).reshape(-1, RAW)
        data = sectors[:, self.begin : self.begin + self.width].reshape(-1)
        return data[offset - first * self.width :][:length].tobytes()


class SectorsSource:
    """Raw sectors made of new user data: what a changed image will be, sector by sector.

    ``data`` are all sectors' 2,048 (or 2,336) bytes; headers and subheaders are those of ``raw``, but for the
    sectors in ``templates``: they get a header of their own, and the subheader of the sector that it names.
    """

    def __init__(
        self, raw: ByteSource, data: ByteSource, width: int, templates: Mapping[int, int] | None = None
    ) -> None:
        self._raw, self._data, self._width = raw, data, width
        self._begin = SectorView(raw, width).begin
        self._templates = templates or {}
        self._count = data.size // width

    @property
    def size(self) -> int:
        return self._count * RAW

    def read(self, offset: int, length: int) -> bytes:
        check_range(self.size, offset, length)
        if not length:
            return b""
        return b"".join(self.pieces(offset, length))

    def pieces(self, offset: int, length: int) -> Iterator[bytes]:
        """The same bytes piece by piece, in order, made on all cores a little ahead of who takes them."""
        first, last = offset // RAW, (offset + length - 1) // RAW
        spans = [range(start, min(start + _BATCH, last + 1)) for start in range(first, last + 1, _BATCH)]
        for span, data in zip(spans, _in_threads(self._sectors, spans), strict=True):
            begin = max(offset - span.start * RAW, 0)
            end = min(offset + length - span.start * RAW, len(data))
            yield data if end - begin == len(data) else data[begin:end]

    def _sectors(self, span: range) -> bytes:
        from brae.core.sources import kernels

        existing = min(max(self._raw.size // RAW - span.start, 0), len(span))
        # One buffer that is changed in place: copies cost as much as the codes.
        buffer = bytearray(self._raw.read(span.start * RAW, existing * RAW)) if existing else bytearray()
        buffer += bytes((len(span) - existing) * RAW)
        sectors = np.frombuffer(buffer, np.uint8).reshape(len(span), RAW)
        for number in span if self._templates else span[existing:]:
            if number in self._templates or number - span.start >= existing:
                head = self._head(number)
                sectors[number - span.start, : len(head)] = np.frombuffer(head, np.uint8)
        data = np.frombuffer(self._data.read(span.start * self._width, len(span) * self._width), np.uint8)
        sectors[:, self._begin : self._begin + self._width] = data.reshape(len(span), self._width)
        kernels.encode_sectors(sectors, kernels.UNDO, kernels.EDC)
        return bytes(buffer)

    def _head(self, number: int) -> bytes:
        """The header of a sector that holds something else than before, or was not there."""
        first = self._raw.read(0, 16)
        head = SYNC + _address(_frames(first[12:15]) + number) + first[15:16]
        if first[15] == 1:
            return head
        like = self._templates.get(number)
        # CD-ROM XA: submode bit 3 is data of form 1.
        return head + (bytes([0, 0, 8, 0]) * 2 if like is None else self._raw.read(like * RAW + 16, 8))


def _in_threads(work: Callable[[range], bytes], spans: Sequence[range]) -> Iterator[bytes]:
    if len(spans) == 1:
        yield work(spans[0])
        return
    cores = os.cpu_count() or 1
    with ThreadPoolExecutor(cores) as pool:
        waiting = deque(pool.submit(work, span) for span in spans[: 2 * cores])
        for span in [*spans[2 * cores :], *[None] * len(waiting)]:
            yield waiting.popleft().result()
            if span is not None:
                waiting.append(pool.submit(work, span))


def wrong_sectors(raw: ByteSource, first: int, count: int) -> list[int]:
    """The sectors of a range whose EDC or ECC are not what their bytes give."""
    from brae.core.sources import kernels

    old = np.frombuffer(raw.read(first * RAW, count * RAW), np.uint8).reshape(-1, RAW)
    new = old.copy()
    kernels.encode_sectors(new, kernels.UNDO, kernels.EDC)
    return [first + int(number) for number in np.flatnonzero((old != new).any(axis=1))]
