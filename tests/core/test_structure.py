"""Structures found from the bytes alone: how many of the flat families, and what is made of the others."""

from __future__ import annotations

import struct
import time
import zlib

import lz4.block
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from brae.core.layouts.load import parse
from brae.core.sources import ByteSource, BytesSource
from brae.core.structure import Proposal, companion_pattern, propose
from tests.core.families import BY_NAME, Family, Members, shaped

WORDS = [
    "anchor",
    "buoy",
    "dock",
    "gull",
    "hull",
    "islet",
    "jetty",
    "kelp",
    "locker",
    "mast",
    "net",
    "oar",
    "pier",
    "quay",
    "reef",
    "sail",
    "tide",
    "urchin",
    "vane",
    "wharf",
    "yawl",
]


def _members(family: Family) -> Members:
    """Some twenty members: words, and noise in between."""
    rng = np.random.default_rng(5)
    found = {}
    for number, word in enumerate(WORDS[: 1 if family.most == 1 else len(WORDS)]):
        size = int(rng.integers(30, 900))
        text = " ".join(rng.choice(WORDS, size // 5)).encode()
        found[word] = text if number % 3 else rng.bytes(size)
    return shaped(family, found)


def _found(family: Family, members: Members) -> list[Proposal]:
    files = family.write(members)
    sources: dict[str, ByteSource] = {"main": BytesSource(files["main"])}
    if "body" in files:
        sources["data"] = BytesSource(files["body"])
    return propose(sources, "{name}.bin", seconds=60)  # a busy machine may be slow


#: what must be found whole, and whether its names too
FLAT = {
    "flat": True, "footer": True, "folders": True, "sizes": True, "chunks": True, "bundle": True, "blocks": True,
    "lzss": True, "checks": True, "lone": True, "pays": True, "pair": False, "hashed": False, "offsets": False,
    "tail": False, "runs": True, "middle": True, "inline": True, "prefixed": True, "fixed-size": True,
    "linked": True, "forms": True,
}  # fmt: skip


@pytest.mark.parametrize("name", FLAT)
def test_flat_archives_are_found_without_help(name: str) -> None:
    family = BY_NAME[name]
    members = _members(family)
    best = _found(family, members)[0]
    assert best.proof.exact
    assert best.members == len(members)
    archive = family.open(family.write(members))
    sources = archive.parsed.sources
    if name == "pair":
        sources = {"main": sources["main"], "data": sources["body"]}
    from brae.core.containers.described import open_archive

    again = open_archive(parse(best.called(name)), dict(sources))
    assert sorted(again.offsets.tolist()) == sorted(archive.offsets.tolist())
    if FLAT[name] and family.named:
        endings = [found.rpartition("/")[2].partition(".")[0] for found in again.names]
        assert endings == [wanted.rpartition("/")[2].partition(".")[0] for wanted in archive.names]


def test_packing_and_checksums_are_found_by_trying() -> None:
    pays = _found(BY_NAME["pays"], _members(BY_NAME["pays"]))[0]
    assert "compression: lz4" in pays.text
    assert "unpacked: equal" in pays.text
    checks = _found(BY_NAME["checks"], _members(BY_NAME["checks"]))[0]
    assert "kind: fletcher32, over: [entries]" in checks.text
    pair = _found(BY_NAME["pair"], _members(BY_NAME["pair"]))[0]
    assert "kind: crc32, over: stored" in pair.text
    assert "{0: none, 7: deflate}" in pair.text


def test_checksums_of_packed_members_are_found() -> None:
    """LZ4 blocks need their real size to be unpacked, which the finder knows by then."""
    rows, body = b"", b""
    for number, word in enumerate(WORDS):
        data = f"{word} at {number} fathoms, ".encode() * (9 + number)
        packed = bytes(lz4.block.compress(data, store_size=False))
        place = 8 + 32 * len(WORDS) + len(body)
        rows += struct.pack("<16sIIII", word.encode(), place, len(packed), len(data), zlib.crc32(data))
        body += packed
    best = propose({"main": BytesSource(struct.pack("<4sI", b"SUMS", len(WORDS)) + rows + body)}, seconds=60)[0]
    assert best.members == len(WORDS)
    assert best.names[:2] == ("anchor", "buoy")
    assert "compression: lz4" in best.text
    assert "kind: crc32, over: real" in best.text


def test_data_files_are_named_by_what_they_share_with_their_index() -> None:
    assert companion_pattern("maps/a.idx", "maps/a.dat") == "{stem}.dat"
    assert companion_pattern("a.idx", "a.idx.bin") == "{name}.bin"
    assert companion_pattern("a.idx", "b.bin") == "b.bin"


def test_noise_has_no_structure_that_would_convince() -> None:
    noise = np.random.default_rng(3).bytes(20_000)
    for proposal in propose({"main": BytesSource(noise)}, seconds=6):
        assert not proposal.convincing(named=False)


@settings(max_examples=25)
@given(st.binary(max_size=3000))
def test_any_bytes_end_in_time(data: bytes) -> None:
    started = time.monotonic()
    for proposal in propose({"main": BytesSource(data)}, seconds=1):
        assert proposal.members
    assert time.monotonic() - started < 20
