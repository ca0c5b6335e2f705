"""RIFF as chunks (Microsoft and IBM, Multimedia Programming Interface 1.0, 1991): what is unchanged stays."""

from __future__ import annotations

import struct
from dataclasses import dataclass, replace

from brae.core.errors import FormatError, TruncatedError


@dataclass(frozen=True)
class Chunk:
    """One chunk, and the byte that pads it to an even length, where there is one."""

    id: bytes
    data: bytes
    pad: bytes = b""


@dataclass(frozen=True)
class Riff:
    """A WAVE file as its chunks; ``off``: how far the size in its header is wrong, ``tail``: what lies behind."""

    chunks: tuple[Chunk, ...]
    off: int = 0
    tail: bytes = b""

    @classmethod
    def of(cls, data: bytes) -> Riff:
        """From bytes; FormatError where they are no WAVE file, TruncatedError where a chunk is cut off."""
        if data[:4] != b"RIFF" or data[8:12] != b"WAVE":
            raise FormatError("This is no WAVE file.", offset=0, expected="RIFF ... WAVE")
        stated = int.from_bytes(data[4:8], "little")
        end = min(8 + stated, len(data)) if stated else len(data)
        chunks: list[Chunk] = []
        at = 12
        while at + 8 <= end:
            name, size = data[at : at + 4], int.from_bytes(data[at + 4 : at + 8], "little")
            begin, stop = at + 8, at + 8 + size
            if stop > len(data):
                # Recorders that were cut off leave a 'data' chunk that promises more than there is.
                raise TruncatedError(
                    f"The chunk '{name.decode('latin-1')}' has {size:,} bytes, but {len(data) - begin:,} follow.",
                    offset=at,
                    remedy="Save the file again; it may still be written.",
                )
            pad = data[stop : stop + 1] if size % 2 and stop < len(data) else b""
            chunks.append(Chunk(name, data[begin:stop], pad))
            at = stop + len(pad)
        return cls(tuple(chunks), stated - (at - 8), data[at:])

    @property
    def data(self) -> bytes:
        """The file's bytes."""
        body = b"".join(
            chunk.id + struct.pack("<I", len(chunk.data)) + chunk.data + chunk.pad for chunk in self.chunks
        )
        return b"RIFF" + struct.pack("<I", max(len(body) + 4 + self.off, 0)) + b"WAVE" + body + self.tail

    def get(self, name: bytes) -> bytes | None:
        """The first chunk of a name."""
        return next((chunk.data for chunk in self.chunks if chunk.id == name), None)

    def with_chunks(self, new: dict[bytes, bytes]) -> Riff:
        """Some chunks with other data, each at its place; the size in the header is right then."""
        chunks = tuple(
            replace(chunk, data=new[chunk.id], pad=bytes(len(new[chunk.id]) % 2)) if chunk.id in new else chunk
            for chunk in self.chunks
        )
        return Riff(chunks, 0, self.tail)


def loops(smpl: bytes | None) -> list[tuple[int, int]]:
    """The loops of a 'smpl' chunk: first and last sample, both included."""
    if smpl is None or len(smpl) < 36:
        return []
    count = min(int.from_bytes(smpl[28:32], "little"), (len(smpl) - 36) // 24)
    found = [struct.unpack_from("<2I", smpl, 36 + 24 * index + 8) for index in range(count)]
    return [(int(start), int(end)) for start, end in found]


def with_loops(smpl: bytes, moved: list[tuple[int, int]]) -> bytes:
    """The same chunk with its loops at other samples."""
    result = bytearray(smpl)
    for index, (start, end) in enumerate(moved):
        struct.pack_into("<2I", result, 36 + 24 * index + 8, start, end)
    return bytes(result)


def wave(samples_: bytes, *, tag: int, channels: int, rate: int, bits: int) -> bytes:
    """A plain new WAVE file; the same bytes every time."""
    align = channels * bits // 8
    form = struct.pack("<HHIIHH", tag, channels, rate, rate * align, align, bits)
    return Riff((Chunk(b"fmt ", form), Chunk(b"data", samples_, bytes(len(samples_) % 2)))).data
