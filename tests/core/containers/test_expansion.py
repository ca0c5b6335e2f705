"""Packed bytes that become very many: read as streams in bounded memory, refused where they are absurdly many."""

from __future__ import annotations

import bz2
import gzip
import io
import lzma
import resource
import sys
import zipfile
import zlib
from collections.abc import Callable

import pytest

from brae.core import compression
from brae.core.containers import base
from brae.core.containers.recognise import open_container, recognise
from brae.core.errors import FormatError, LimitError
from brae.core.layouts.library import Library
from brae.core.sources import BytesSource

SIZE = 96 << 20
ZEROS = bytes(SIZE)
STREAMS = ["zlib", "deflate", "gzip", "bzip2", "xz", "zstd", "brotli", "lz4-frame"]


def _grown(work: Callable[[], object]) -> int:
    """How many bytes the process's memory has grown at most, in a process of its own."""
    import os

    reading, writing = os.pipe()
    child = os.fork()
    if child == 0:
        code = 1
        try:
            scale = 1 if sys.platform == "darwin" else 1024
            before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
            work()
            after = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
            os.write(writing, str((after - before) * scale).encode())
            code = 0
        finally:
            os._exit(code)
    os.close(writing)
    with os.fdopen(reading) as stream:
        said = stream.read()
    assert os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 0
    return int(said)


@pytest.fixture(scope="module")
def packed() -> dict[str, bytes]:
    """Zeros, packed by the libraries."""
    import brotli
    import lz4.frame
    import zstandard

    raw = zlib.compressobj(9, zlib.DEFLATED, -15)
    return {
        "zlib": zlib.compress(ZEROS, 9),
        "deflate": raw.compress(ZEROS) + raw.flush(),
        "gzip": gzip.compress(ZEROS, 6, mtime=0),
        "bzip2": bz2.compress(ZEROS),
        "xz": lzma.compress(ZEROS),
        "zstd": zstandard.ZstdCompressor().compress(ZEROS),
        "brotli": brotli.compress(ZEROS, quality=1),
        "lz4-frame": lz4.frame.compress(ZEROS),
    }


@pytest.mark.parametrize("name", STREAMS)
def test_streams_are_read_piece_by_piece(name: str, packed: dict[str, bytes]) -> None:
    packer = compression.get(name)

    def read() -> None:
        total = 0
        for part in compression.unpack_parts(packer, packed[name], SIZE):
            assert len(part) <= 64 << 20
            assert not any(part[:100])
            total += len(part)
        assert total == SIZE

    assert _grown(read) < SIZE // 2, "far less than what comes out"


@pytest.mark.parametrize("name", STREAMS)
def test_a_stream_says_what_unpacking_as_a_whole_says(name: str) -> None:
    packer = compression.get(name)
    data = b"tide tables " * 700_000
    whole = packer.pack(data, packer.levels[-1] if name != "brotli" else 1)

    def streamed(stored: bytes, size: int | None) -> bytes:
        return b"".join(compression.unpack_parts(packer, stored, size))

    assert streamed(whole, len(data)) == streamed(whole, None) == data
    for stored, size in (
        (whole, len(data) - 1),
        (whole, len(data) + 1),
        (whole[: len(whole) // 2], len(data)),
        (whole[: len(whole) // 2], None),
        (b"\xff" * 50, None),
        (b"", None),
    ):
        with pytest.raises(FormatError):
            streamed(stored, size)


def test_a_packed_file_becomes_no_memory(packed: dict[str, bytes]) -> None:
    """Told, opened and proved without ever being in memory as a whole."""
    source = BytesSource(packed["gzip"])

    def look() -> None:
        assert recognise(source, "sea.gz", Library()) == "gzip"
        container = open_container("gzip", {"main": source}, "sea.gz", Library())
        assert int(container.real_sizes[0]) == SIZE
        assert container.read_start(0, 512) == bytes(512)
        container.prove()

    assert _grown(look) < 60 << 20


def test_what_becomes_absurdly_much_is_not_unpacked_for_a_proof(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(base, "_SWOLLEN", 1 << 20)
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("trap", bytes(4 << 20))
        archive.writestr("note.txt", "harmless")
    container = open_container("zip", {"main": BytesSource(stream.getvalue())}, "a.zip", Library())
    monkeypatch.setattr(type(container), "unpacked", lambda *_: pytest.fail("it is unpacked"))
    proof = container.prove()
    assert not proof.exact
    assert "200 times as much" in (proof.reason or "")
    assert container.read(1) == b"harmless", "members can be read one by one"


def test_a_member_beyond_the_limit_is_refused_while_it_is_read(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("brae.core.compression.base.LARGEST_MEMBER", 1 << 20)
    trap = zlib.compress(bytes(8 << 20), 9)
    parts, seen = compression.unpack_parts(compression.get("zlib"), trap, None), []
    with pytest.raises(LimitError, match="more than"):
        seen.extend(map(len, parts))
    assert sum(seen) <= 1 << 20
    with pytest.raises(LimitError):
        open_container("gzip", {"main": BytesSource(gzip.compress(bytes(8 << 20)))}, "a.gz", Library())
