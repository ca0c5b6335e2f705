"""Packers, checksums, hashes and obfuscation: against published values, libraries, and their own inverses."""

from __future__ import annotations

import bz2
import gzip
import hashlib
import lzma
import time
import tracemalloc
import zlib
from typing import Any

import brotli
import lz4.block
import lz4.frame
import numpy as np
import pytest
import zstandard
from hypothesis import given
from hypothesis import strategies as st
from pydantic import TypeAdapter, ValidationError

from brae.core import compression
from brae.core.compression.described import PackerSpec, check, describe
from brae.core.errors import BraeError, FormatError, LimitError
from brae.core.layouts.checksums import CRCS, Crc, as_bytes, checksum, names
from brae.core.layouts.hashes import NameHash, resolve
from brae.core.layouts.obfuscation import Step, hide, reveal
from brae.core.layouts.rows import varint

SPECS: dict[str, dict[str, Any]] = {
    "plain-lzss": {"kind": "lzss"},
    "window": {"kind": "lzss", "distance": "window", "start": 0xFEE, "fill": 32, "distance_add": 0},
    "high-first": {
        "kind": "lzss", "flag_order": "high-first", "literal": 0, "endian": "big",
        "reference": ["distance 12", "length 4"], "longer": 1,
    },
    "wide-flags": {
        "kind": "lzss", "flag_bytes": 4, "flag_order": "high-first", "reference": ["length 5", "distance 11"],
        "distance_add": 0, "end": "zero-distance", "endian": "big",
    },
    "three-bytes": {
        "kind": "lzss", "flag_bytes": 2, "reference": ["length 8", "distance 16"], "longer": 2, "length_add": 4,
    },
    "negative": {"kind": "runs", "form": "negative"},
    "top-bit": {"kind": "runs", "form": "top-bit", "run_add": 3, "copy_add": 1},
    "escape": {"kind": "runs", "form": "escape", "escape": 0x90},
    "pairs": {"kind": "runs", "form": "pairs", "run_add": 0},
    "blocks": {"kind": "blocks", "of": "zlib", "size": 256, "raw_bit": 31},
    "full-blocks": {"kind": "blocks", "of": "plain-lzss", "size": 512, "raw_if_full": True, "count_first": True},
    "sized": {"kind": "sized", "of": "deflate", "size": "u24", "endian": "big"},
}  # fmt: skip
DESCRIBED = TypeAdapter(dict[str, PackerSpec]).validate_python(SPECS)
PACKERS = {name: compression.get(name) for name in compression.names()}
PACKERS |= {name: describe(name, DESCRIBED) for name in SPECS}
every_packer = pytest.mark.parametrize("packer", PACKERS.values(), ids=PACKERS)
contents = st.binary(max_size=900) | st.lists(
    st.tuples(st.binary(min_size=1, max_size=9), st.integers(1, 200)), max_size=8
).map(lambda parts: b"".join(part * count for part, count in parts))


@given(st.sampled_from(list(PACKERS)), contents)
def test_what_is_packed_is_unpacked(name: str, data: bytes) -> None:
    packer = PACKERS[name]
    for level in packer.levels:
        packed = packer.pack(data, level)
        assert packer.unpack(packed, len(data)) == data
        for wrong in {len(data) + 1, max(len(data) - 1, 0)} - {len(data)}:
            if wrong < len(data) and packed[-1:] == b"\0":
                continue  # a last zero may as well be padding behind the stream
            if name == "full-blocks":
                continue  # whether a block is packed shows by its size only, so a wrong size reads it otherwise
            with pytest.raises(BraeError):
                packer.unpack(packed, wrong)


@given(st.sampled_from(list(PACKERS)), contents, st.data())
def test_damaged_streams_are_a_result_or_a_clear_error(name: str, data: bytes, draw: st.DataObject) -> None:
    packer = PACKERS[name]
    packed = bytearray(packer.pack(data, packer.levels[0]))
    for _ in range(draw.draw(st.integers(1, 4))):
        if packed:
            packed[draw.draw(st.integers(0, len(packed) - 1))] = draw.draw(st.integers(0, 255))
    cut = bytes(packed[: draw.draw(st.integers(0, len(packed)))])
    started = time.monotonic()
    for broken in (bytes(packed), cut):
        for size in (len(data), None, 3 * len(data) + 1):
            try:
                found = packer.unpack(broken, size)
                assert size is None or len(found) == size
            except BraeError as error:
                assert error.message
        assert len(packer.unpack_start(broken, 64)) <= 64
    assert time.monotonic() - started < 5


@every_packer
def test_the_beginning_is_found_without_the_end(packer: compression.Packer) -> None:
    data = b"".join(f"row {number} to pier {number % 7}\n".encode() for number in range(4000))
    start = packer.unpack_start(packer.pack(data, packer.levels[0])[:3000], 64)
    # Some streams give nothing before a whole block of them is read.
    assert start in (data[:64], b"") or data.startswith(start)
    assert start or packer.name in ("bzip2", "zstd", "lz4-frame", "blocks", "full-blocks")


@every_packer
def test_a_bomb_costs_nothing(packer: compression.Packer) -> None:
    """A megabyte of zeros that claims to be ten bytes is refused before it is unpacked."""
    packed = packer.pack(bytes(1 << 20), packer.levels[0])
    tracemalloc.start()
    with pytest.raises((FormatError, LimitError)):
        packer.unpack(packed, 10)
    peak = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    assert peak < 12 << 20


#: written by the reference libraries themselves, read by Brae
LIBRARIES = {
    "zlib": zlib.compress,
    "gzip": gzip.compress,
    "bzip2": bz2.compress,
    "xz": lzma.compress,
    "lzma": lambda data: lzma.compress(data, lzma.FORMAT_ALONE),
    "lz4": lambda data: lz4.block.compress(data, store_size=False),
    "lz4-frame": lz4.frame.compress,
    "zstd": lambda data: zstandard.ZstdCompressor(level=5).compress(data),
    "brotli": brotli.compress,
}


@given(contents)
def test_libraries_are_understood(data: bytes) -> None:
    for name, pack in LIBRARIES.items():
        assert PACKERS[name].unpack(pack(data), len(data)) == data


@given(contents)
def test_libraries_understand_brae(data: bytes) -> None:
    for name in ("zlib", "gzip", "bzip2", "xz", "lzma", "lz4-frame", "zstd", "brotli"):
        packed = PACKERS[name].pack(data, PACKERS[name].levels[0])
        unpack = {
            "zlib": zlib.decompress,
            "gzip": gzip.decompress,
            "bzip2": bz2.decompress,
            "xz": lzma.decompress,
            "lzma": lambda raw: lzma.decompress(raw, lzma.FORMAT_ALONE),
            "lz4-frame": lz4.frame.decompress,
            "zstd": lambda raw: zstandard.ZstdDecompressor().stream_reader(raw).read(1 << 20),
            "brotli": brotli.decompress,
        }[name]
        assert unpack(packed) == data


def test_packbits_worked_example() -> None:
    """Apple Technical Note TN1023, "Understanding PackBits" (from memory)."""
    packed = bytes.fromhex("FE AA 02 80 00 2A FD AA 03 80 00 2A 22 F7 AA")
    real = bytes.fromhex("AA AA AA 80 00 2A AA AA AA AA 80 00 2A 22" + "AA" * 10)
    assert PACKERS["negative"].unpack(packed, len(real)) == real
    assert PACKERS["negative"].pack(real, 0) == packed


def test_lzss_by_hand() -> None:
    """Three literals and a reference nine long, three back: "oaroaroaroar"."""
    packed = bytes([0b0111]) + b"oar" + bytes([2, 9 - 3])
    assert PACKERS["plain-lzss"].unpack(packed, 12) == b"oaroaroaroar"
    with pytest.raises(FormatError, match="before the data"):
        PACKERS["plain-lzss"].unpack(bytes([0]) + bytes([2, 6]), 9)
    # In a window, what was never written is the fill.
    assert PACKERS["window"].unpack(bytes([0]) + bytes([0, 0]), 3) == b"   "


def test_lzss_packs_about_as_well_as_it_can() -> None:
    text = b"".join(f"{number} letters for islet {number % 13}\n".encode() for number in range(3000))
    sizes = {level: len(PACKERS["plain-lzss"].pack(text, level)) for level in (1, 2, 3)}
    assert sizes[3] <= sizes[2] <= sizes[1] < len(text) // 3


def test_packers_that_stand_on_nothing_are_refused() -> None:
    with pytest.raises(ValueError, match="no packer 'lost'"):
        check(TypeAdapter(dict[str, PackerSpec]).validate_python({"a": {"kind": "sized", "of": "lost"}}))
    with pytest.raises(ValueError, match="built on itself"):
        check(TypeAdapter(dict[str, PackerSpec]).validate_python({"a": {"kind": "sized", "of": "a"}}))
    for wrong in (
        {"kind": "lzss", "reference": ["distance 12", "length 3"]},
        {"kind": "lzss", "end": "zero-distance"},
        {"kind": "lzss", "distance": "window", "window": 8192},
    ):
        with pytest.raises(ValidationError):
            TypeAdapter(PackerSpec).validate_python(wrong)


# ---- checksums

#: Each from the published catalogue of parametrised CRC algorithms: the value for "123456789".
CHECK_VALUES = {
    "crc16-arc": 0xBB3D,
    "crc16-kermit": 0x2189,
    "crc16-modbus": 0x4B37,
    "crc16-xmodem": 0x31C3,
    "crc16-ibm-3740": 0x29B1,
    "crc32": 0xCBF43926,
    "crc32-bzip2": 0xFC891918,
    "crc32-mpeg2": 0x0376E6E7,
    "crc32-jamcrc": 0x340BC6D9,
    "crc32c": 0xE3069283,
}


@pytest.mark.parametrize("kind", CHECK_VALUES)
def test_check_values(kind: str) -> None:
    assert checksum(kind, [b"123456789"]) == CHECK_VALUES[kind]
    assert checksum(kind, [b"1234", b"", b"56789"]) == CHECK_VALUES[kind]


def test_every_named_crc_has_its_check_value() -> None:
    assert set(CRCS) < set(CHECK_VALUES)


def test_a_crc_by_its_parameters() -> None:
    """CRC-64/XZ, from the published catalogue."""
    ones = (1 << 64) - 1
    spec = Crc(width=64, poly=0x42F0E1EBA9EA3693, init=ones, reflect=True, xor_out=ones)
    assert checksum(spec, [b"123456789"]) == 0x995DC9BBDF1939FA
    with pytest.raises(ValidationError):
        Crc(width=16, poly=0x11021)


def test_other_checksums_against_published_values() -> None:
    # Fletcher: the worked examples of the encyclopedia's article (from memory).
    assert checksum("fletcher16", [b"abcde"]) == 0xC8F0
    assert checksum("fletcher16", [b"abcdefgh"]) == 0x0627
    assert checksum("fletcher32", [b"abcde"]) == 0xF04FC729
    assert checksum("fletcher32", [b"abc", b"defgh"]) == 0xEBE19591
    # RFC 1321 appendix A.5, FIPS 180-4 ("abc"), the xxHash specification (empty input).
    assert checksum("md5", [b"abc"]) == bytes.fromhex("900150983cd24fb0d6963f7d28e17f72")
    assert checksum("sha1", [b"ab", b"c"]) == bytes.fromhex("a9993e364706816aba3e25717850c26c9cd0d89d")
    assert checksum("sha256", [b"abc"]) == hashlib.sha256(b"abc").digest()
    assert checksum("xxh32", [b""]) == 0x02CC5D05
    assert checksum("xxh64", [b""]) == 0xEF46DB3751D8E999


@given(st.lists(st.binary(max_size=70), max_size=6))
def test_checksums_do_not_depend_on_the_pieces(parts: list[bytes]) -> None:
    for kind in names():
        assert checksum(kind, parts) == checksum(kind, [b"".join(parts)])


def test_sums_and_folds_by_hand() -> None:
    data = bytes([1, 2, 3, 4, 5])
    assert checksum("sum8", [data]) == 15
    assert checksum("sum16le", [data]) == 0x0201 + 0x0403 + 5
    assert checksum("xor8", [data]) == 1 ^ 2 ^ 3 ^ 4 ^ 5
    assert checksum("xor16be", [data]) == 0x0102 ^ 0x0304 ^ 0x0500
    assert as_bytes(0x12345, 2, "big") == b"\x23\x45"
    assert as_bytes(b"\x01\x02\x03", 2, "little") == b"\x01\x02"


# ---- hashes of names


def test_name_hashes_against_published_vectors() -> None:
    """The vectors of draft-eastlake-fnv; djb2 worked out by hand."""
    assert NameHash(kind="fnv1a32").of(["", "a", "foo"]).tolist() == [0x811C9DC5, 0xE40C292C, 0xA9F37ED7]
    assert NameHash(kind="fnv1a64").of(["a", "foo"]).tolist() == [0xAF63DC4C8601EC8C, 0xDCB27518FED9D577]
    assert NameHash(kind="fnv1-32").of(["a"]).tolist() == [0x050C5D7E]
    assert NameHash(kind="djb2").of(["ab"]).tolist() == [(5381 * 33 + 97) * 33 + 98]
    assert NameHash(kind="crc32").of(["123456789"]).tolist() == [0xCBF43926]
    assert NameHash(kind="polynomial", factor=31, bits=32).of(["Ab"]).tolist() == [65 * 31 + 98]
    assert NameHash(kind="crc32", case="upper", slash="\\").of(["a/b"]).tolist() == [zlib.crc32(b"A\\B")]


def test_known_names_are_found_and_others_keep_their_hash() -> None:
    spec = NameHash(kind="fnv1a32", case="lower")
    stored = spec.of(["UI/Sail.tex", "unknown"]).astype(np.uint32)
    assert resolve(spec, stored, 32, ["ui/oar.tex", "ui/sail.tex"]) == ["ui/sail.tex", f"#{int(stored[1]):08x}"]


def test_leb128_examples() -> None:
    """DWARF Debugging Information Format, appendix C: examples of unsigned LEB128."""
    for number, raw in ((2, "02"), (127, "7f"), (128, "8001"), (129, "8101"), (130, "8201"), (12857, "b964")):
        assert varint(number).hex() == raw


# ---- obfuscation

STEPS = [
    [Step(xor=90)],
    [Step(xor="oar\xff")],
    [Step.model_validate({"xor_running": {"seed": 7, "multiply": 75, "add": 74, "bits": 32, "shift": 16}})],
    [Step(subtract=3), Step(rotate=3)],
    [Step(rotate=4), Step(xor=1), Step(xor="ab")],
]


@given(st.sampled_from(STEPS), st.binary(max_size=300), st.integers(0, 300))
def test_obfuscation_undoes_itself_from_any_place(steps: list[Step], data: bytes, at: int) -> None:
    masked = hide(steps, data)
    assert reveal(steps, masked) == data
    assert reveal(steps, masked[at:], at) == data[at:]


def test_obfuscation_by_hand() -> None:
    assert reveal([Step(rotate=4)], b"\x12\xf0") == b"\x21\x0f"
    assert reveal([Step(swap=2)], b"abcde") == b"badce"
    assert reveal([Step(swap=4)], b"abcd") == b"dcba"
    assert reveal([Step(subtract=1)], b"\x00b") == b"\xffa"
    running = Step.model_validate({"xor_running": {"seed": 1, "add": 2}})
    assert reveal([running], b"\x01\x03\x05") == b"\x00\x00\x00"
    with pytest.raises(ValidationError):
        Step(xor=1, rotate=2)
