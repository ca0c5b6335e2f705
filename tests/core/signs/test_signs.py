"""Files within any bytes: all of them, with their lengths, and next to nothing that is none."""

from __future__ import annotations

import io
import struct
import zlib

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from brae.core.assets.texture import formats, ktx2
from brae.core.assets.texture.encode import encode_levels
from brae.core.assets.texture.texture import Header
from brae.core.containers.scattered import Scattered
from brae.core.errors import LayoutError
from brae.core.layouts.edits import Edits
from brae.core.signs import scan
from brae.core.signs.kernels import deflates
from brae.core.signs.scan import Hit, Search, format_of
from brae.core.sources import MAIN, BytesSource
from tests.core.signs.mixture import Mixture, zipped


def _found(data: bytes) -> list[Hit]:
    return list(Search(BytesSource(data)).files())


@pytest.mark.parametrize("seed", [11, 12])
def test_files_of_other_libraries_are_found_with_their_lengths(seed: int) -> None:
    """At least 99 in 100, with the right length; at most 2 in 1,000 that are none."""
    mixture = Mixture(seed).fill(700)
    hits = {(hit.offset, hit.length, hit.format) for hit in _found(bytes(mixture.data))}
    wanted = set(mixture.wanted)
    missed = sorted(wanted - hits)
    assert len(missed) <= len(wanted) // 100, missed[:10]
    false = sorted(hits - wanted)
    assert len(false) <= len(wanted) // 500, false[:10]


@pytest.mark.parametrize("name", sorted(Mixture(0).makers))
def test_each_format_across_the_border_of_two_windows(name: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """A file may begin or end anywhere in what is read at a time."""
    file = Mixture(5).makers[name]()
    # A text needs more room: it is held back until its end is seen.
    window = max(2 * len(file), 4096)
    monkeypatch.setattr(scan, "WINDOW", window)
    for begin in (window - len(file) // 2, window - 3, window - 1, window, 2 * window - 2):
        data = bytes(begin) + file + bytes(window)
        assert [(hit.offset, hit.length, hit.format) for hit in _found(data)] == [(begin, len(file), name)]


def test_ktx2_and_zip_entries() -> None:
    picture = np.random.default_rng(1).integers(0, 256, (24, 40, 4), dtype=np.uint8)
    header = Header("ktx2", formats.BC7, 40, 24, 6)
    texture = ktx2.write(header, encode_levels(picture, header)[0])
    for descriptor in (False, True):
        archive = zipped({"a/tide.txt": b"the tide " * 40, "b.bin": bytes(range(200))}, descriptor=descriptor)
        data = b"\7" * 33 + texture + b"\0" * 9 + archive
        hits = _found(data)
        assert (hits[0].offset, hits[0].length, hits[0].format) == (33, len(texture), "ktx2")
        assert [(hit.name, hit.packed, hit.real) for hit in hits[1:]] == [
            ("a/tide.txt", "deflate", 360),
            ("b.bin", "deflate", 200),
        ]
        found = Scattered(BytesSource(data), hits)
        assert found.read(1) == b"the tide " * 40
        assert found.names[1].endswith("/a/tide.txt")


def test_a_sign_alone_is_no_file() -> None:
    """Signatures without a header that makes sense, headers that promise the rest of the disk, files cut short."""
    signs = b"".join(sign.magic + b"\0" * (k % 5 + 1) for k, sign in enumerate(scan._SIGNS) for _ in range(50))
    assert _found(signs) == []
    huge = struct.pack("<2sIIIIiiHHIIiiII", b"BM", 0xFFFFFFF0, 0, 54, 40, 60000, 60000, 1, 32, 0, 0, 0, 0, 0, 0)
    riff = b"RIFF\xf0\xff\xff\xffWAVEfmt " + bytes(40)
    dds = b"DDS " + struct.pack("<7I", 124, 0x1007, 65535, 65535, 0, 0, 1) + bytes(44)
    dds += struct.pack("<2I4s5I", 32, 4, b"DXT5", 0, 0, 0, 0, 0)
    assert _found(huge + riff + dds + bytes(4000)) == []
    mixture = Mixture(3)
    for name in ("png", "jpeg", "wav", "ogg", "flac", "zlib", "xz", "glb", "webp", "tiff"):
        file = mixture.makers[name]()
        assert [hit for hit in _found(file[: len(file) * 2 // 3]) if hit.format == name] == [], name


def test_work_is_bounded_where_signs_are_everywhere(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(scan, "_VAIN_SIGNS", 1000)
    search = Search(BytesSource(b"\x78\x9c\x03\x02" * 5000))
    assert list(search.files()) == []
    assert any("too many" in words for words in search.left_out)
    # A stream that unpacks without end, and one that is no more than a bomb.
    bomb = zlib.compress(bytes(300 << 20), 9)
    assert [hit for hit in _found(bomb) if hit.packed] == []
    monkeypatch.setattr(scan, "MOST_FILES", 10)
    search = Search(BytesSource(b"".join(Mixture(4).picture("PNG") for _ in range(12))))
    assert len(list(search.files())) == 10
    assert any("more than 10 files" in words for words in search.left_out)


@given(st.binary(max_size=600), st.sampled_from([sign.magic for sign in scan._SIGNS]), st.binary(max_size=200))
def test_any_bytes_are_looked_through(before: bytes, magic: bytes, after: bytes) -> None:
    data = before + magic + after
    end = 0
    for hit in _found(data):
        assert end <= hit.begin <= hit.offset
        assert hit.offset + hit.length <= hit.end <= len(data)
        end = hit.end


def test_formats_by_their_beginnings() -> None:
    mixture = Mixture(9)
    for name, make in mixture.makers.items():
        if name not in ("zlib", "tga"):
            assert format_of(make()[:64]) == name
    assert format_of(b"\0\1\2\3") is None


# ---- changed in place


@pytest.fixture
def scattered() -> Scattered:
    mixture = Mixture(21)
    for name in ("png", "wav", "zlib", "dds", "text"):
        mixture.add(name)
    archive = zipped({"tide.txt": b"the tide is out. " * 9})
    return Scattered.of(BytesSource(bytes(mixture.data) + bytes(7) + archive))


def _number(found: Scattered, name: str) -> int:
    return next(number for number, hit in enumerate(found.hits) if hit.format == name)


def _rebuilt(found: Scattered, changes: dict[int, bytes]) -> bytes:
    edits = {number: found.pack(number, data, found.packing_level(number)) for number, data in changes.items()}
    composed = found.patch(Edits(changed=edits))
    return b"".join(composed.read(MAIN))


def test_a_change_touches_its_own_bytes_only(scattered: Scattered) -> None:
    source = scattered.sources[MAIN]
    before = source.read(0, source.size)
    for name in ("png", "wav", "zlib", "dds", "text"):
        number = _number(scattered, name)
        hit, real = scattered.hits[number], scattered.read(number)
        changed = bytes(reversed(real)) if name == "text" else real[:-1] + bytes([real[-1] ^ 1])
        if name == "zlib":
            changed = bytes(len(real))  # packs tighter, so it is shorter and zeros stand behind it
        after = _rebuilt(scattered, {number: changed})
        assert len(after) == len(before)
        differs = np.flatnonzero(np.frombuffer(before, np.uint8) != np.frombuffer(after, np.uint8))
        assert differs.min() >= hit.offset
        assert differs.max() < hit.offset + hit.length
        again = Scattered.of(BytesSource(after))
        assert again.hits[number].offset == hit.offset
        if name not in ("png", "wav"):
            assert again.read(number) == changed


def test_what_does_not_fit_is_refused(scattered: Scattered) -> None:
    png = _number(scattered, "png")
    with pytest.raises(LayoutError, match="nothing else can move"):
        _rebuilt(scattered, {png: scattered.read(png) + b"more"})
    dds = _number(scattered, "dds")
    with pytest.raises(LayoutError, match="its place has"):
        _rebuilt(scattered, {dds: scattered.read(dds)[:-8]})
    entry = next(number for number, hit in enumerate(scattered.hits) if hit.name)
    with pytest.raises(LayoutError, match="entry of a ZIP archive"):
        _rebuilt(scattered, {entry: scattered.read(entry)})
    shorter = io.BytesIO()
    Image.new("RGB", (3, 3)).save(shorter, "PNG")
    after = _rebuilt(scattered, {png: shorter.getvalue()})
    assert Image.open(io.BytesIO(after[scattered.hits[png].offset :])).size == (3, 3)


def test_its_proof_says_that_it_is_none(scattered: Scattered) -> None:
    proof = scattered.prove()
    assert (proof.exact, proof.scope, proof.members) == (True, "signs", len(scattered))


@pytest.mark.parametrize("strategy", [zlib.Z_DEFAULT_STRATEGY, zlib.Z_HUFFMAN_ONLY, zlib.Z_RLE, zlib.Z_FIXED])
@pytest.mark.parametrize("level", [0, 1, 6, 9])
def test_where_deflate_begins_is_never_passed_over(level: int, strategy: int) -> None:
    """What the standard library's zlib wrote, on bytes of many sorts."""
    mixture = Mixture(7)
    for _ in range(40):
        packer = zlib.compressobj(level, zlib.DEFLATED, -15, 9, strategy)
        packed = packer.compress(mixture.payload()) + packer.flush()
        assert deflates(np.frombuffer(packed + bytes(16), np.uint8), 0)


def test_what_is_passed_over_is_no_deflate() -> None:
    """The standard library's zlib refuses the same first bytes; and most of chance's bytes are passed over."""
    rows = np.random.default_rng(4).integers(0, 256, (20_000, 320), np.uint8)
    left = [row for row in rows if deflates(row, 0)]
    assert len(left) < len(rows) * 0.3
    passed_over = [row for row in rows if not deflates(row, 0)]
    for row in passed_over:
        with pytest.raises(zlib.error):
            zlib.decompressobj(-15).decompress(row.tobytes())
