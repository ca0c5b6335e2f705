"""Files without a table: chunks that follow each other, and one packed stream."""

from __future__ import annotations

import re
from collections.abc import Iterator

from brae.core import compression
from brae.core.errors import BraeError
from brae.core.sources import ByteSource
from brae.core.structure.header import magic

_TAG = re.compile(rb"[A-Za-z0-9_ ]{4}")
_LARGEST = 64 << 20
_STREAMS = {
    b"\x1f\x8b\x08": "gzip", b"\x28\xb5\x2f\xfd": "zstd", b"\x04\x22\x4d\x18": "lz4-frame", b"BZh": "bzip2",
    b"\xfd7zXZ\0": "xz", b"\x78\x01": "zlib", b"\x78\x5e": "zlib", b"\x78\x9c": "zlib", b"\x78\xda": "zlib",
}  # fmt: skip


def _walk(
    source: ByteSource, start: int, end: int, endian: str, add: int, align: int
) -> list[tuple[bytes, int, int]]:
    """Chunks from ``start`` that end exactly at ``end``: tag, place of the data, size; none where they do not."""
    found: list[tuple[bytes, int, int]] = []
    at = start
    while at + 8 <= end and len(found) < 100_000:
        head = source.read(at, 8)
        size = int.from_bytes(head[4:], "little" if endian == "little" else "big") + add
        if not _TAG.fullmatch(head[:4]) or size < 0 or at + 8 + size > end:
            return []
        found.append((head[:4], at + 8, size))
        at += 8 + size
        at = min(at + -at % align, end)
    return found if found and at == end else []


def chunked(source: ByteSource) -> Iterator[str]:
    """Layouts of a file that is made of chunks: a tag of four letters, a size, data."""
    for start in (0, 4, 8, 12, 16):
        for endian in ("little", "big"):
            for align in (2, 4, 1):
                for add in (0, -8):
                    found = _walk(source, start, source.size, endian, add, align)
                    if found:
                        yield _chunk_text(source, start, endian, add, align, found)
                        break


def _chunk_text(
    source: ByteSource, start: int, endian: str, add: int, align: int, found: list[tuple[bytes, int, int]]
) -> str:
    nest: dict[str, int] = {}
    todo = list(found)
    while todo and len(nest) < 20:
        tag, at, size = todo.pop()
        name = tag.decode("latin-1")
        if name in nest or size < 8:
            continue
        for inner in (0, 4, 8):
            below = _walk(source, at + inner, at + size, endian, add, align) if size > inner + 8 else []
            if below and (inner or len(below) > 1 or below[0][2] > 0):
                nest[name] = inner
                todo += below
                break
    lines = ["layout: proposed", "title: Tagged chunks", "kind: archive", f"endian: {endian}", "parts:"]
    if start:
        head = source.read(0, start)
        if magic(head[:4]) == 4:
            lines.append(f'  - {{field: magic, type: bytes, length: 4, value: "{head[:4].decode("latin-1")}"}}')
            if start > 4:
                lines.append(f"  - {{bytes: header, size: {start - 4}}}")
        else:
            lines.append(f"  - {{bytes: header, size: {start}}}")
    lines += ["  - chunks: pieces", f"    align: {align}"]
    if nest:
        lines.append("    nest: {" + ", ".join(f'"{name}": {inner}' for name, inner in sorted(nest.items())) + "}")
    adds = f", add: {add}" if add else ""
    lines += [
        "    record:",
        "      - {field: tag, type: string, length: 4, encoding: latin-1, role: name}",
        f"      - {{field: size, type: u32, role: stored-size{adds}}}",
    ]
    return "\n".join(lines) + "\n"


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
                (real, "real_size", "measures_real: content"),
                (stored, "stored_size", "measures: content"),
                (whole, "file_bytes", "measures_file: main"),
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
