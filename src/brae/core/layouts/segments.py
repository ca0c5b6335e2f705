"""The result of a rebuild: not bytes but *segments*, ranges to copy from the original, and new bytes.

So an archive of gigabytes is planned and proved without being read or written as a whole. An archive inside
another hands its segments outwards (``Ranges``): ranges of the inner one are ranges of the outer one, so even
what lies at depth is copied once, from file to file.
"""

from __future__ import annotations

import hashlib
import os
from bisect import bisect_right
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from brae.core.atomic import replace
from brae.core.errors import storage_error
from brae.core.sources import ByteSource, FileSource, check_range, chunks


@dataclass(frozen=True)
class Copy:
    """Bytes that stay as they are in the original."""

    offset: int
    length: int


@dataclass(frozen=True)
class New:
    """Bytes that are written anew."""

    data: bytes

    @property
    def length(self) -> int:
        return len(self.data)


@dataclass(frozen=True, eq=False)
class Take:
    """Bytes of another source than the original, read when they are written."""

    source: ByteSource
    offset: int
    length: int


Segment = Copy | New | Take


def parts(segments: Iterable[Segment], source: ByteSource) -> Iterator[bytes]:
    """The bytes of segments in order, piece by piece; ``source`` is what ``Copy`` copies from."""
    for segment in segments:
        if isinstance(segment, New):
            yield segment.data
        else:
            taken = segment.source if isinstance(segment, Take) else source
            # A MadeSource has them; asking the protocol takes longer than reading something small.
            pieces = getattr(taken, "pieces", None)
            if pieces is not None:
                yield from pieces(segment.offset, segment.length)
            else:
                yield from chunks(taken, segment.offset, segment.length)


@dataclass(frozen=True, eq=False)
class Ranges:
    """A member's new bytes as segments; ``Copy`` refers to ``source``, the file that holds the member."""

    segments: tuple[Segment, ...]
    source: ByteSource

    def __len__(self) -> int:
        return sum(segment.length for segment in self.segments)


#: a member's new bytes: in memory, or as ranges where they are an archive's that was rebuilt
Body = bytes | Ranges


def body_parts(body: Body) -> Iterator[bytes]:
    """A body's bytes, piece by piece."""
    if isinstance(body, bytes):
        yield body
    else:
        yield from parts(body.segments, body.source)


def body_segments(body: Body) -> list[Segment]:
    """A body as segments of the file that it is written into."""
    return [New(body)] if isinstance(body, bytes) else list(body.segments)


def whole(body: Body) -> bytes:
    """A body's bytes in memory."""
    return body if isinstance(body, bytes) else b"".join(body_parts(body))


def stays(segments: Iterable[Segment], size: int) -> bool:
    """Whether segments are nothing but the original's ``size`` bytes, each at its place."""
    position = 0
    for segment in segments:
        if segment.length and not (isinstance(segment, Copy) and segment.offset == position):
            return False
        position += segment.length
    return position == size


class SegmentSource:
    """Segments as a byte source: what they will be, without writing them anywhere."""

    def __init__(self, segments: Iterable[Segment], source: ByteSource) -> None:
        self._segments = [segment for segment in segments if segment.length]
        self._source = source
        self._starts: list[int] = []
        self._size = 0
        for segment in self._segments:
            self._starts.append(self._size)
            self._size += segment.length

    @property
    def size(self) -> int:
        return self._size

    def read(self, offset: int, length: int) -> bytes:
        check_range(self._size, offset, length)
        found = []
        at = bisect_right(self._starts, offset) - 1
        while length:
            segment = self._segments[at]
            start = offset - self._starts[at]
            count = min(length, segment.length - start)
            if isinstance(segment, New):
                found.append(segment.data[start : start + count])
            else:
                source = segment.source if isinstance(segment, Take) else self._source
                found.append(source.read(segment.offset + start, count))
            at, offset, length = at + 1, offset + count, length - count
        return b"".join(found)


@dataclass
class Composed:
    """What a rebuild gives: for each file its segments in order, from the start.

    ``ends`` are the places at which numbered files that were read as one are to be divided, where that is known.
    """

    sources: dict[str, ByteSource]
    segments: dict[str, list[Segment]] = field(default_factory=dict)
    ends: dict[str, list[int]] = field(default_factory=dict)

    def size(self, file: str) -> int:
        """How many bytes a file will have."""
        return sum(segment.length for segment in self.segments[file])

    def read(self, file: str) -> Iterator[bytes]:
        """A file's new bytes, piece by piece."""
        yield from parts(self.segments[file], self.sources[file])

    def fingerprint(self, file: str) -> str:
        """A hash of what the file is made of; equal for equal changes to the same original."""
        digest = hashlib.sha256()
        for segment in self.segments[file]:
            if isinstance(segment, Copy):
                digest.update(f"Copy:{segment.offset}+{segment.length}".encode())
                continue
            digest.update(f"New:{segment.length}:".encode())
            for part in parts([segment], self.sources[file]):
                digest.update(part)
        return digest.hexdigest()

    def changes(self, file: str) -> Iterator[tuple[int, bytes]]:
        """Offsets and new bytes wherever the file differs from the original, at equal positions.

        Only for a result of the original's own size (a patch in place).
        """
        source, offset = self.sources[file], 0
        for segment in self.segments[file]:
            if isinstance(segment, Copy) and segment.offset == offset:
                offset += segment.length
                continue
            for part in parts([segment], source):
                yield from differing_ranges(source, offset, part)
                offset += len(part)

    def moved(self, file: str) -> int:
        """How many bytes do not stay where they are in the original, so would have to be written by a patch."""
        total, offset = 0, 0
        for segment in self.segments[file]:
            if not (isinstance(segment, Copy) and segment.offset == offset):
                total += segment.length
            offset += segment.length
        return total

    def first_difference(self, file: str) -> int | None:
        """The first offset at which the file differs from the original, or None."""
        source, offset = self.sources[file], 0
        for segment in self.segments[file]:
            if isinstance(segment, Copy) and segment.offset == offset:
                offset += segment.length
                continue
            # Moved bytes may still be equal; comparing them is what decides.
            for part in parts([segment], source):
                same = min(len(part), max(source.size - offset, 0))
                for start, _ in differing_ranges(source, offset, part[:same]):
                    return start
                if same < len(part):
                    return source.size
                offset += len(part)
        return offset if offset < source.size else None


def differing_ranges(source: ByteSource, offset: int, data: bytes) -> Iterator[tuple[int, bytes]]:
    """The runs of ``data`` that differ from the source at ``offset``; runs closer than 64 bytes are one."""
    if not data:
        return
    new = np.frombuffer(data, np.uint8)
    old = np.frombuffer(source.read(offset, len(data)), np.uint8)
    places = np.flatnonzero(new != old)
    if not len(places):
        return
    for run in np.split(places, np.flatnonzero(np.diff(places) > 64) + 1):
        yield offset + int(run[0]), data[run[0] : run[-1] + 1]


def write_beside(
    composed: Composed,
    file: str,
    target: Path,
    progress: Callable[[int], None] | None = None,
    *,
    digest: bool = False,
) -> str:
    """Write one file of a result to ``target`` and flush it to the disk; ``progress`` is told how many bytes.

    Returns its SHA-256 where ``digest`` asks for it. Without it the operating system copies what is only copied.
    """
    total = hashlib.sha256()
    with target.open("wb", buffering=0) as stream:

        def put(data: bytes) -> None:
            view = memoryview(data)
            while view:
                view = view[stream.write(view) :]
            if digest:
                total.update(data)
            if progress:
                progress(len(data))

        for segment in composed.segments[file]:
            source = composed.sources[file]
            if isinstance(segment, Copy) and not digest and isinstance(source, FileSource):
                copied = source.copy_to(stream.fileno(), segment.offset, segment.length, progress)
                segment = Copy(segment.offset + copied, segment.length - copied)
            for part in parts([segment], source):
                put(part)
        os.fsync(stream.fileno())
    return total.hexdigest() if digest else ""


def write_all(composed: Composed, targets: Mapping[str, Path]) -> None:
    """Write every file of a result; none of them is half there."""
    for name in composed.segments:
        target = targets[name]
        draft = target.with_name(f".{target.name}.brae-new")
        try:
            target.parent.mkdir(parents=True, exist_ok=True)
            try:
                write_beside(composed, name, draft)
                replace(draft, target)
            finally:
                draft.unlink(missing_ok=True)
        except OSError as error:
            raise storage_error(error, "write", target) from error
