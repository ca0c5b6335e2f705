"""Files without a table: chunks that follow each other, and one packed stream."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import product

from brae.core import compression
from brae.core.errors import BraeError
from brae.core.layouts import checksums
from brae.core.sources import ByteSource
from brae.core.structure.header import CHECKS, magic

_TAG = re.compile(rb"[A-Za-z0-9_ ]{4}")
_LARGEST = 64 << 20
_STREAMS = {
    b"\x1f\x8b\x08": "gzip", b"\x28\xb5\x2f\xfd": "zstd", b"\x04\x22\x4d\x18": "lz4-frame", b"BZh": "bzip2",
    b"\xfd7zXZ\0": "xz", b"\x78\x01": "zlib", b"\x78\x5e": "zlib", b"\x78\x9c": "zlib", b"\x78\xda": "zlib",
}  # fmt: skip


@dataclass(frozen=True)
class _Form:
    """How chunks are written: bytes of a record behind tag and size, what is added to the size, alignment."""

    endian: str
    add: int
    align: int
    rest: int

    @property
    def head(self) -> int:
        return 8 + self.rest


Chunk = tuple[bytes, int, int]


def _walk(source: ByteSource, start: int, end: int, form: _Form) -> list[Chunk]:
    """Chunks from ``start`` that end exactly at ``end``: tag, place of the data, size; none where they do not."""
    found: list[Chunk] = []
    at = start
    while at + form.head <= end and len(found) < 100_000:
        head = source.read(at, 8)
        size = int.from_bytes(head[4:], "little" if form.endian == "little" else "big") + form.add
        if not _TAG.fullmatch(head[:4]) or size < 0 or at + form.head + size > end:
            return []
        found.append((head[:4], at + form.head, size))
        at += form.head + size
        at = min(at + -at % form.align, end)
    return found if found and at == end else []


def chunked(source: ByteSource) -> Iterator[str]:
    """Layouts of a file that is made of chunks: a tag of four letters, a size (and more), data."""
    for start, rest, endian in product((0, 4, 8, 12, 16), (0, 4, 8), ("little", "big")):
        # Where chunks at the top fit several alignments, those within them tell which it is.
        texts: list[tuple[int, str]] = []
        for align, add in product((2, 4, 1), (0, -8 - rest)):
            form = _Form(endian, add, align, rest)
            found = _walk(source, start, source.size, form)
            if found:
                texts.append(_chunk_text(source, start, form, found))
        for _, text in sorted(texts, key=lambda one: -one[0])[:2]:
            yield text


def _chunk_text(source: ByteSource, start: int, form: _Form, found: list[Chunk]) -> tuple[int, str]:
    """How many chunks there are at all depths, and the layout."""
    nest: dict[str, int] = {}
    todo, every = list(found), list(found)
    while todo and len(nest) < 20:
        tag, at, size = todo.pop()
        name = tag.decode("latin-1")
        if name in nest or size < form.head:
            continue
        for inner in (0, 4, 8):
            below = _walk(source, at + inner, at + size, form) if size > inner + form.head else []
            if below and (inner or len(below) > 1 or below[0][2] > 0):
                nest[name] = inner
                todo += below
                every += below
                break
    lines = ["layout: proposed", "title: Tagged chunks", "kind: archive", f"endian: {form.endian}", "parts:"]
    if start:
        head = source.read(0, start)
        if magic(head[:4]) == 4:
            lines.append(f'  - {{field: magic, type: bytes, length: 4, value: "{head[:4].decode("latin-1")}"}}')
            if start > 4:
                lines.append(f"  - {{bytes: header, size: {start - 4}}}")
        else:
            lines.append(f"  - {{bytes: header, size: {start}}}")
    lines += ["  - chunks: pieces", f"    align: {form.align}"]
    if nest:
        lines.append("    nest: {" + ", ".join(f'"{name}": {inner}' for name, inner in sorted(nest.items())) + "}")
    adds = f", add: {form.add}" if form.add else ""
    lines += [
        "    record:",
        "      - {field: tag, type: string, length: 4, encoding: latin-1, role: name}",
        f"      - {{field: size, type: u32, role: stored-size{adds}}}",
    ]
    lines += [f"      - {line}" for line in _more(source, form, every)]
    return len(every), "\n".join(lines) + "\n"


def _more(source: ByteSource, form: _Form, found: list[Chunk]) -> Iterator[str]:
    """The fields of a chunk's record behind its size: checksums of the data, where they are such."""
    some = [chunk for chunk in found if 0 < chunk[2] <= _LARGEST][:24]
    for number in range(form.rest // 4):
        back = form.rest - 4 * number
        words = [
            int.from_bytes(source.read(at - back, 4), "little" if form.endian == "little" else "big")
            for _, at, _ in some
        ]
        kinds = (
            kind
            for kind in CHECKS
            if max(words, default=0) > 0xFFFF
            and all(
                checksums.checksum(kind, [source.read(at, size)]) == word
                for (_, at, size), word in zip(some, words, strict=True)
            )
        )
        kind = next(kinds, None)
        more = "" if kind is None else f", checksum: {{kind: {kind}, over: stored}}"
        yield f"{{field: {'unknown' if kind is None else 'check'}_{number + 1}, type: u32{more}}}"


def packed(source: ByteSource) -> Iterator[str]:
    """Layouts of a file that is one packed stream behind a small header."""
    if source.size > _LARGEST:
        return
    data = source.read(0, source.size)
    for start in range(min(65, len(data))):
        packer = next((name for magic_, name in _STREAMS.items() if data.startswith(magic_, start)), None)
        if packer is None:
            continue
        try:
            real = len(compression.get(packer).unpack(data[start:], None))
        except BraeError:
            continue
        if _ends_earlier(packer, data[start:-1]):
            continue
        yield _packed_text(data[:start], packer, real, len(data) - start, len(data))


def _ends_earlier(packer: str, data: bytes) -> bool:
    """Whether the stream needs not even all of these bytes: then it is one of several."""
    try:
        compression.get(packer).unpack(data, None)
    except BraeError:
        return False
    return True


def _packed_text(head: bytes, packer: str, real: int, stored: int, whole: int) -> str:
    best: list[str] = []
    score = -1
    for endian in ("little", "big"):
        lines, hits, keys = [f"endian: {endian}", "parts:"], 0, ""
        at = magic(head)
        if at:
            lines.append(f'  - {{field: magic, type: bytes, length: {at}, value: "{head[:at].decode("latin-1")}"}}')
        number = 0
        while at + 4 <= len(head):
            word = int.from_bytes(head[at : at + 4], "little" if endian == "little" else "big")
            number += 1
            name, text = f"unknown_{number}", ""
            for value, key, meaning in (
                (real, "real_size", "is: real_size(content)"),
                (stored, "stored_size", "is: size(content)"),
                (whole, "file_bytes", "is: file_size(main)"),
            ):
                if word == value and key not in keys:
                    name, text, hits, keys = key, f", {meaning}", hits + 1, keys + key
                    break
            lines.append(f"  - {{field: {name}, type: u32{text}}}")
            at += 4
        if at < len(head):
            lines.append(f"  - {{bytes: rest, size: {len(head) - at}}}")
        more = ", real: real_size" if "real_size" in keys else ""
        more += ", size: stored_size" if "stored_size" in keys else ""
        lines.append(f"  - {{members: content, compression: {packer}{more}}}")
        if hits > score:
            best, score = lines, hits
    return "\n".join(["layout: proposed", "title: One packed file", "kind: archive", *best]) + "\n"
