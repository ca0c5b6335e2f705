"""RIFF as chunks (Microsoft and IBM, Multimedia Programming Interface 1.0, 1991): what is unchanged stays."""

from __future__ import annotations

import struct
from collections.abc import Callable
from dataclasses import dataclass, replace

from brae.core.errors import FormatError, TruncatedError

#: what stands for a size that the 'ds64' chunk of an RF64 file says (EBU Tech 3306)
_LONG = 0xFFFFFFFF
#: the two kinds of files that are chunks, by their first bytes: the order of their numbers, and what they hold
_FORMS = {b"RIFF": ("<", (b"WAVE",)), b"RF64": ("<", (b"WAVE",)), b"FORM": (">", (b"AIFF", b"AIFC"))}


@dataclass(frozen=True)
class Chunk:
    """One chunk, and the byte that pads it to an even length, where there is one."""

    id: bytes
    data: bytes
    pad: bytes = b""
    #: whether its size stands elsewhere
    long: bool = False


@dataclass(frozen=True)
class Riff:
    """A WAVE or AIFF file as its chunks.

    ``off``: how far the size in its header is wrong (None: it stands elsewhere), ``tail``: what lies behind.
    """

    chunks: tuple[Chunk, ...]
    off: int | None = 0
    tail: bytes = b""
    form: bytes = b"RIFF"
    type: bytes = b"WAVE"

    @classmethod
    def of(cls, data: bytes) -> Riff:
        """From bytes; FormatError where they are no WAVE or AIFF file, TruncatedError where a chunk is cut off."""
        form, kind = data[:4], data[8:12]
        order, kinds = _FORMS.get(form, ("<", ()))
        if kind not in kinds:
            raise FormatError("This is no WAVE or AIFF file.", offset=0, expected="RIFF ... WAVE")
        stated = struct.unpack(f"{order}I", data[4:8])[0]
        elsewhere = form == b"RF64" and stated == _LONG
        end = min(8 + stated, len(data)) if stated and not elsewhere else len(data)
        long = _sizes_of(data) if form == b"RF64" else None
        chunks: list[Chunk] = []
        at = 12
        while at + 8 <= end:
            name, size = data[at : at + 4], struct.unpack(f"{order}I", data[at + 4 : at + 8])[0]
            marked = long is not None and name == b"data" and size == _LONG
            if marked and long is not None:
                size = long
            begin, stop = at + 8, at + 8 + size
            if stop > len(data):
                # Recorders that were cut off leave a 'data' chunk that promises more than there is.
                raise TruncatedError(
                    f"The chunk '{name.decode('latin-1')}' has {size:,} bytes, but {len(data) - begin:,} follow.",
                    offset=at,
                    remedy="Save the file again; it may still be written.",
                )
            pad = data[stop : stop + 1] if size % 2 and stop < len(data) else b""
            chunks.append(Chunk(name, data[begin:stop], pad, marked))
            at = stop + len(pad)
        return cls(tuple(chunks), None if elsewhere else stated - (at - 8), data[at:], form, kind)

    @property
    def order(self) -> str:
        """How its numbers stand, as ``struct`` has it."""
        return _FORMS[self.form][0]

    def _chunk(self, chunk: Chunk) -> bytes:
        size = _LONG if chunk.long else len(chunk.data)
        return chunk.id + struct.pack(f"{self.order}I", size) + chunk.data + chunk.pad

    @property
    def data(self) -> bytes:
        """The file's bytes."""
        body = b"".join(self._chunk(chunk) for chunk in self.chunks)
        size = _LONG if self.off is None else max(len(body) + 4 + self.off, 0)
        return self.form + struct.pack(f"{self.order}I", size) + self.type + body + self.tail

    def get(self, name: bytes) -> bytes | None:
        """The first chunk of a name."""
        return next((chunk.data for chunk in self.chunks if chunk.id == name), None)

    def each(self, name: bytes, make: Callable[[bytes], bytes]) -> Riff:
        """Each chunk of a name with other data of the same length: lists of several sorts have one name."""
        return replace(
            self,
            chunks=tuple(replace(one, data=make(one.data)) if one.id == name else one for one in self.chunks),
        )

    @property
    def notes(self) -> tuple[bytes, bytes] | None:
        """Its cue points and what is said of them: the 'cue ' chunk and the 'adtl' list; None without points."""
        points = self.get(b"cue ")
        if points is None or not cues(points):
            return None
        said = next((one.data for one in self.chunks if one.id == b"LIST" and one.data[:4] == b"adtl"), b"adtl")
        return points, said

    def with_said(self, said: bytes) -> Riff:
        """With another 'adtl' list: in the place of the one that is there, or behind all other chunks."""
        listed = Chunk(b"LIST", said, bytes(len(said) % 2))
        chunks = list(self.chunks)
        place = next((at for at, one in enumerate(chunks) if one.id == b"LIST" and one.data[:4] == b"adtl"), None)
        if place is not None:
            chunks[place] = listed
        elif len(said) > 4:
            chunks.append(listed)
        return replace(self, chunks=tuple(chunks))

    def with_cues(self, points: bytes, said: bytes) -> Riff:
        """With other cue points, and with what is said of them."""
        made = self
        if self.get(b"cue ") is None:
            made = replace(self, chunks=(*self.chunks, Chunk(b"cue ", points)))
        return made.with_said(said).with_chunks({b"cue ": points})

    def with_chunks(self, new: dict[bytes, bytes]) -> Riff:
        """Some chunks with other data, each at its place; the size in the header is right then."""
        chunks = [
            replace(chunk, data=new[chunk.id], pad=bytes(len(new[chunk.id]) % 2)) if chunk.id in new else chunk
            for chunk in self.chunks
        ]
        made = replace(self, chunks=tuple(chunks), off=None if self.off is None else 0)
        if self.form != b"RF64" or not chunks or chunks[0].id != b"ds64":
            return made
        whole, part = len(made.data) - len(self.tail) - 8, len(made.get(b"data") or b"")
        frames = struct.unpack_from("<Q", chunks[0].data, 16)[0]
        before = len(self.get(b"data") or b"")
        if before:
            frames = frames * part // before
        sizes = struct.pack("<3Q", whole, part, frames) + chunks[0].data[24:]
        return replace(made, chunks=(replace(chunks[0], data=sizes), *chunks[1:]))


def _sizes_of(data: bytes) -> int:
    """How large the 'data' chunk of an RF64 file is: its 'ds64' comes first (EBU Tech 3306, 3)."""
    if data[12:16] != b"ds64" or len(data) < 44:
        raise FormatError("This RF64 file does not begin with its sizes.", offset=12, expected="ds64")
    return int.from_bytes(data[28:36], "little")


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


def wave(
    samples_: bytes, *, tag: int, channels: int, rate: int, bits: int, notes: tuple[bytes, bytes] | None = None
) -> bytes:
    """A plain new WAVE file, with cue points and what is said of them, if any; the same bytes every time."""
    align = channels * bits // 8
    form = struct.pack("<HHIIHH", tag, channels, rate, rate * align, align, bits)
    chunks = [Chunk(b"fmt ", form), Chunk(b"data", samples_, bytes(len(samples_) % 2))]
    if notes is not None:
        points, said = notes
        chunks.append(Chunk(b"cue ", points))
        if len(said) > 4:
            chunks.append(Chunk(b"LIST", said, bytes(len(said) % 2)))
    return Riff(tuple(chunks)).data


def cues(chunk: bytes | None) -> list[int]:
    """The samples at which the points of a 'cue ' chunk stand (dwSampleOffset)."""
    if chunk is None or len(chunk) < 4:
        return []
    count = min(int.from_bytes(chunk[:4], "little"), (len(chunk) - 4) // 24)
    return [int.from_bytes(chunk[4 + 24 * index + 20 : 4 + 24 * index + 24], "little") for index in range(count)]


def with_cues(chunk: bytes, moved: list[int]) -> bytes:
    """The same chunk with its points at other samples; their places in a play list follow where they were equal."""
    result = bytearray(chunk)
    for index, sample in enumerate(moved):
        at = 4 + 24 * index
        if result[at + 4 : at + 8] == result[at + 20 : at + 24]:
            struct.pack_into("<I", result, at + 4, sample)
        struct.pack_into("<I", result, at + 20, sample)
    return bytes(result)


def with_spans(chunk: bytes, scale: float) -> bytes:
    """A 'LIST' chunk whose labelled texts ('ltxt') last as many times as long."""
    if chunk[:4] != b"adtl":
        return chunk
    result, at = bytearray(chunk), 4
    while at + 8 <= len(chunk):
        size = int.from_bytes(chunk[at + 4 : at + 8], "little")
        if chunk[at : at + 4] == b"ltxt" and size >= 8 and at + 16 <= len(chunk):
            span = int.from_bytes(chunk[at + 12 : at + 16], "little")
            struct.pack_into("<I", result, at + 12, min(round(span * scale), _LONG))
        at += 8 + size + size % 2
    return bytes(result)


def at_rate(notes: tuple[bytes, bytes], before: int, after: int) -> tuple[bytes, bytes]:
    """Cue points and what is said of them at another sample rate."""
    if before == after:
        return notes
    points = with_cues(notes[0], [round(sample * after / before) for sample in cues(notes[0])])
    return points, with_spans(notes[1], after / before)


def markers(chunk: bytes | None) -> list[tuple[int, int]]:
    """Where each marker of an AIFF file's 'MARK' chunk stands in the chunk, and the sample that it names.

    Audio Interchange File Format 1.3 (1989), "Marker Chunk".
    """
    found: list[tuple[int, int]] = []
    at = 2
    for _ in range(int.from_bytes((chunk or b"")[:2], "big")):
        if chunk is None or at + 7 > len(chunk):
            break
        found.append((at + 2, int.from_bytes(chunk[at + 2 : at + 6], "big")))
        named = chunk[at + 6] + 1
        at += 6 + named + named % 2
    return found
