"""Byte sources: bytes by offset. Nothing is loaded whole, nothing is ever written."""

from __future__ import annotations

import errno
import io
import os
import threading
from bisect import bisect_right
from collections.abc import Callable, Iterator, Sequence
from itertools import accumulate
from pathlib import Path
from typing import Any, Protocol, runtime_checkable

from brae.core.errors import TruncatedError, storage_error

CHUNK = 1 << 20
#: of several files that belong together, the one by which the others are found
MAIN = "main"


@runtime_checkable
class ByteSource(Protocol):
    """Anything with a size whose bytes can be read at any offset."""

    @property
    def size(self) -> int:
        """How many bytes there are."""
        ...

    def read(self, offset: int, length: int) -> bytes:
        """Exactly ``length`` bytes from ``offset``.

        Raises TruncatedError where the source ends before that.
        """
        ...


@runtime_checkable
class MadeSource(Protocol):
    """A source whose bytes are worked out when they are read, best in large pieces on all cores."""

    def pieces(self, offset: int, length: int) -> Iterator[bytes]:
        """The bytes of a range, piece by piece, in order."""
        ...


def check_range(size: int, offset: int, length: int) -> None:
    """Raise TruncatedError unless ``offset`` and ``length`` lie within ``size`` bytes."""
    if offset < 0 or length < 0 or offset + length > size:
        raise TruncatedError(
            f"{length} bytes were announced, but the file ends at {size}.",
            offset=max(offset, 0),
            remedy="The file is cut short or its directory is damaged: fetch it again from the game.",
        )


class BytesSource:
    """Bytes that are in memory already."""

    def __init__(self, data: bytes) -> None:
        self._data = data

    @property
    def size(self) -> int:
        return len(self._data)

    def read(self, offset: int, length: int) -> bytes:
        check_range(len(self._data), offset, length)
        return self._data[offset : offset + length]


class FileSource:
    """A file, opened for reading only, safe to share between threads."""

    def __init__(self, path: Path) -> None:
        self.path = path
        try:
            self._file = path.open("rb", buffering=0)
        except OSError as error:
            raise storage_error(error, "read", path) from error
        self._size = os.fstat(self._file.fileno()).st_size
        self._lock = threading.Lock()

    @property
    def size(self) -> int:
        return self._size

    def read(self, offset: int, length: int) -> bytes:
        check_range(self._size, offset, length)
        parts: list[bytes] = []
        while length:
            part = self._read_some(offset, min(length, 1 << 30))
            if not part:
                check_range(offset, offset, length)  # the file shrank while it was open
            parts.append(part)
            offset += len(part)
            length -= len(part)
        return parts[0] if len(parts) == 1 else b"".join(parts)

    def _read_some(self, offset: int, length: int) -> bytes:
        if hasattr(os, "pread"):
            data: bytes = os.pread(self._file.fileno(), length, offset)
            return data
        with self._lock:  # Windows has no positioned read
            self._file.seek(offset)
            return self._file.read(length) or b""

    def copy_to(
        self, descriptor: int, offset: int, length: int, progress: Callable[[int], None] | None = None
    ) -> int:
        """Let the operating system copy a range to an open file; returns how many bytes it copied (maybe none)."""
        check_range(self._size, offset, length)
        copied = 0
        if hasattr(os, "copy_file_range"):
            try:
                while copied < length:
                    want = min(length - copied, 64 * CHUNK)
                    count = os.copy_file_range(self._file.fileno(), descriptor, want, offset + copied)
                    if count == 0:
                        break
                    copied += count
                    if progress:
                        progress(count)
            except OSError as error:
                # Some file systems cannot; what is left is then copied through memory.
                if error.errno not in (errno.EXDEV, errno.EINVAL, errno.ENOSYS, errno.EOPNOTSUPP, errno.EBADF):
                    raise
        return copied

    def close(self) -> None:
        """Give the file back to the operating system."""
        self._file.close()

    def __del__(self) -> None:
        # A source may still be read by one thread when another has dropped it: the last one closes it.
        if hasattr(self, "_file"):
            self._file.close()

    def __enter__(self) -> FileSource:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


class SliceSource:
    """A range of another source."""

    def __init__(self, source: ByteSource, offset: int, length: int) -> None:
        check_range(source.size, offset, length)
        self._source, self._offset, self._length = source, offset, length

    @property
    def size(self) -> int:
        return self._length

    def read(self, offset: int, length: int) -> bytes:
        check_range(self._length, offset, length)
        return self._source.read(self._offset + offset, length)


class JoinedSource:
    """Several sources read as one, end to end; ``starts`` says where each begins, and where the last one ends."""

    def __init__(self, pieces: Sequence[ByteSource]) -> None:
        self.joined = list(pieces)
        self.starts = [0, *accumulate(piece.size for piece in self.joined)]

    @property
    def size(self) -> int:
        return self.starts[-1]

    def ranges(self, offset: int, length: int) -> Iterator[tuple[int, int, int]]:
        """A range as number, offset and length in each piece that it touches."""
        check_range(self.size, offset, length)
        while length:
            number = bisect_right(self.starts, offset) - 1
            count = min(length, self.starts[number + 1] - offset)
            yield number, offset - self.starts[number], count
            offset, length = offset + count, length - count

    def read(self, offset: int, length: int) -> bytes:
        found = [self.joined[number].read(at, count) for number, at, count in self.ranges(offset, length)]
        return found[0] if len(found) == 1 else b"".join(found)


class OverlaySource:
    """Another source with some ranges replaced: how a patched file looked before it was patched."""

    def __init__(self, source: ByteSource, ranges: Sequence[tuple[int, bytes]]) -> None:
        self.below = source
        self._ranges = sorted(ranges)

    @property
    def size(self) -> int:
        return self.below.size

    def read(self, offset: int, length: int) -> bytes:
        data = bytearray(self.below.read(offset, length))
        for start, replacement in self._ranges:
            low, high = max(start, offset), min(start + len(replacement), offset + length)
            if low < high:
                data[low - offset : high - offset] = replacement[low - start : high - start]
        return bytes(data)


def chunks(source: ByteSource, offset: int = 0, length: int | None = None, step: int = CHUNK) -> Iterator[bytes]:
    """The bytes of a range, a MiB at a time."""
    end = source.size if length is None else offset + length
    while offset < end:
        part = source.read(offset, min(CHUNK, end - offset))
        yield part
        offset += len(part)


class SourceFile(io.RawIOBase):
    """A source as a file object, for libraries that read from one."""

    def __init__(self, source: ByteSource) -> None:
        self._source, self._place = source, 0

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def tell(self) -> int:
        return self._place

    def seek(self, offset: int, whence: int = 0) -> int:
        self._place = max(offset + (0, self._place, self._source.size)[whence], 0)
        return self._place

    def read(self, size: int | None = -1) -> bytes:
        left = max(self._source.size - self._place, 0)
        count = left if size is None or size < 0 else min(size, left)
        data = self._source.read(self._place, count) if count else b""
        self._place += count
        return data

    def readinto(self, buffer: Any) -> int:
        data = self.read(len(buffer))
        buffer[: len(data)] = data
        return len(data)
