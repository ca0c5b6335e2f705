"""The result of a rebuild: not bytes but *segments*, ranges to copy from the original, and new bytes.

So an archive of gigabytes is planned and proved without being read or written as a whole.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from brae.core.sources import ByteSource, FileSource, chunks


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


Segment = Copy | New


@dataclass
class Composed:
    """What a rebuild gives: for each file its segments in order, from the start."""

    sources: dict[str, ByteSource]
    segments: dict[str, list[Segment]] = field(default_factory=dict)

    def size(self, file: str) -> int:
        """How many bytes a file will have."""
        return sum(segment.length for segment in self.segments[file])

    def read(self, file: str) -> Iterator[bytes]:
        """A file's new bytes, piece by piece."""
        for segment in self.segments[file]:
            if isinstance(segment, New):
                yield segment.data
            else:
                yield from chunks(self.sources[file], segment.offset, segment.length)

    def fingerprint(self, file: str) -> str:
        """A hash of what the file is made of; equal for equal changes to the same original."""
        digest = hashlib.sha256()
        for segment in self.segments[file]:
            part = segment.data if isinstance(segment, New) else f"{segment.offset}+{segment.length}".encode()
            digest.update(f"{type(segment).__name__}:{len(part)}:".encode() + part)
        return digest.hexdigest()

    def changes(self, file: str) -> Iterator[tuple[int, bytes]]:
        """Offsets and new bytes wherever the file differs from the original, at equal positions.

        Only for a result of the original's own size in which nothing moves (a patch in place).
        """
        offset = 0
        for segment in self.segments[file]:
            if isinstance(segment, New):
                yield from differing_ranges(self.sources[file], offset, segment.data)
            else:
                assert segment.offset == offset, "a patch moves nothing"
            offset += segment.length

    def first_difference(self, file: str) -> int | None:
        """The first offset at which the file differs from the original, or None."""
        source, offset = self.sources[file], 0
        for segment in self.segments[file]:
            if isinstance(segment, New):
                same = min(segment.length, max(source.size - offset, 0))
                for start, _ in differing_ranges(source, offset, segment.data[:same]):
                    return start
                if same < segment.length:
                    return source.size
            elif segment.offset != offset:
                # Moved bytes may still be equal; comparing them is what decides.
                for part in chunks(source, segment.offset, segment.length):
                    same = min(len(part), max(source.size - offset, 0))
                    for start, _ in differing_ranges(source, offset, part[:same]):
                        return start
                    if same < len(part):
                        return source.size
                    offset += len(part)
                continue
            offset += segment.length
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
            if isinstance(segment, New):
                put(segment.data)
                continue
            start, length = segment.offset, segment.length
            source = composed.sources[file]
            if not digest and isinstance(source, FileSource):
                copied = source.copy_to(stream.fileno(), start, length, progress)
                start, length = start + copied, length - copied
            for part in chunks(source, start, length):
                put(part)
        os.fsync(stream.fileno())
    return total.hexdigest() if digest else ""
