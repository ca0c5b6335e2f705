"""Records read one by one, wherever they lie in a file, out of a window that moves over it."""

from __future__ import annotations

import numpy as np

from brae.core.errors import TruncatedError
from brae.core.layouts.records import Records
from brae.core.layouts.rows import frozen, program
from brae.core.sources import ByteSource

#: a record that stands by itself may be this long
LONGEST = 1 << 16
#: so much is read at once
WINDOW = 1 << 16


class Window:
    """Reads records of one sort; ``spans`` and ``values`` are those of the last one (see ``kernels.record``)."""

    def __init__(self, part: Records, endian: str, source: ByteSource) -> None:
        from brae.core.layouts import kernels

        self.kernels, self.endian, self.source = kernels, endian, source
        self.columns = program(part.record, endian)
        self.spans = np.empty((len(part.record), 2), np.int64)
        self.values = np.empty(len(part.record), np.int64)
        self.at, self.bytes_, self.data = 0, b"", frozen(np.empty(0, np.uint8))
        self._least = (part.record_size or 0) if part.fixed else 0

    def read(self, at: int, length: int) -> bytes:
        """At most ``length`` bytes from ``at``; fewer at the end of the file."""
        length = min(length, self.source.size - at)
        if not (self.at <= at and at + length <= self.at + len(self.bytes_)):
            self.at = at
            self.bytes_ = self.source.read(at, min(max(length, WINDOW), self.source.size - at))
            self.data = frozen(np.frombuffer(self.bytes_, np.uint8))
        return self.bytes_[at - self.at : at - self.at + length]

    def record(self, at: int, limit: int, what: str) -> bytes:
        """The bytes of the record at ``at``, which ends by ``limit``; TruncatedError where it does not."""
        length = 512
        while True:
            room = min(length, limit - at)
            self.read(at, room)
            begin = at - self.at
            end = self.kernels.record(self.data, begin, self.columns, self.spans, self.values)
            if end >= 0 and end - begin < self._least:
                end = begin + self._least
            if 0 <= end <= len(self.bytes_) and end - begin <= limit - at:
                return self.bytes_[begin:end]
            if room >= limit - at or length >= LONGEST:
                raise TruncatedError(f"{what} is cut short.", offset=at)
            length *= 16

    def content(self, place: int) -> bytes:
        """What the last record's column number ``place`` holds."""
        low, high = self.spans[place]
        return self.bytes_[low:high]
