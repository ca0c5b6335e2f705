"""A proof that is exact and a description that is wrong: names one record off are told, right ones never are."""

from __future__ import annotations

import re
import struct

import numpy as np
import pytest

from brae.core.containers.base import Proof
from brae.core.containers.described import Archive, open_archive
from brae.core.containers.evidence import gather, state
from brae.core.containers.follows import unexplained
from brae.core.layouts.load import parse
from brae.core.sources import BytesSource
from tests.core.families import FAMILIES
from tests.core.families.cookbook import blocks_counted
from tests.core.families.family import Family, in_cookbook

LAYOUT = """
layout: shelf
title: A shelf
kind: archive
parts:
  - {field: magic, type: string, length: 4, value: SHLF}
  - {field: count, type: u32, is: count(entries)}
  - table: entries
    count: count
    record:
      - {field: name, type: string, length: 16, role: name}
      - {field: offset, type: u32, role: offset}
      - {field: size, type: u32, role: stored-size}
  - {members: data, of: entries}
"""
OPEN = {"png": b"\x89PNG\r\n\x1a\n", "wav": b"RIFF....", "ogg": b"OggS...."}
OWN = {"tex": b"TX01", "anm": b"AN07", "scr": b"SCRP"}


def shelf(endings: list[str], beginnings: dict[str, bytes], *, shift: int = 0, overlap: int = 0) -> Archive:
    """An archive whose names are off by ``shift`` records, written with struct alone."""
    rng = np.random.default_rng(len(endings))
    data = [beginnings.get(ending, b"") + rng.bytes(int(rng.integers(8, 60))) for ending in endings]
    names = [f"m{number:03}.{ending}" for number, ending in enumerate(endings)]
    names = names[shift:] + names[:shift]
    head, body = b"SHLF" + struct.pack("<I", len(data)), b""
    start = len(head) + 24 * len(data)
    for name, content in zip(names, data, strict=True):
        head += name.encode().ljust(16, b"\0") + struct.pack("<2I", start + len(body), len(content) + overlap)
        body += content
    return open_archive(parse(LAYOUT), {"main": BytesSource(head + body + bytes(overlap))})


def _mixed(kinds: dict[str, bytes], count: int) -> list[str]:
    rng = np.random.default_rng(count)
    return [str(one) for one in rng.choice(list(kinds), count)]


@pytest.mark.parametrize("kinds", [OPEN, OWN])
@pytest.mark.parametrize("count", [8, 40, 9000])
def test_right_names_are_never_spoken_against(kinds: dict[str, bytes], count: int) -> None:
    found = gather(shelf(_mixed(kinds, count), kinds))
    # Of eight members nothing can be concluded but by beginnings that are known.
    assert {one.speaks for one in found} - ({"nothing"} if count == 8 else set()) == {"for"}
    assert state(Proof(True), found) == "proved"
    assert state(Proof(False), found) == "beginning"


@pytest.mark.parametrize("kinds", [OPEN, OWN])
@pytest.mark.parametrize("count", [40, 9000])
@pytest.mark.parametrize("shift", [1, -1])
def test_names_one_record_off_are_told(kinds: dict[str, bytes], count: int, shift: int) -> None:
    archive = shelf(_mixed(kinds, count), kinds, shift=shift)
    assert archive.prove().exact, "the proof alone does not see it"
    against = [one for one in gather(archive) if one.speaks == "against"]
    assert against
    assert f"moved by {-shift:+} record" in " ".join(one.words for one in against)
    assert state(Proof(True), against) == "beginning"


def test_where_nothing_tells_nothing_is_claimed() -> None:
    for endings in (["tex"] * 20, [f"e{number}" for number in range(20)]):
        found = gather(shelf(endings, OWN))
        assert [one.speaks for one in found if one.id in ("pairing", "beginnings")] == ["nothing"]
    assert gather(shelf(["tex"], OWN)) == []


def test_members_inside_others_are_told() -> None:
    found = gather(shelf(_mixed(OWN, 30), OWN, overlap=3))
    assert (found[0].id, found[0].speaks) == ("tiling", "against")
    assert "29 members begin inside the data of others" in found[0].words


def test_kinds_that_differ_within_an_ending_are_no_contradiction() -> None:
    """Every file of every ending begins otherwise: moved names are no better, so nothing is said against these."""
    found = gather(shelf(_mixed({"a": b"", "b": b"", "c": b""}, 200), {}))
    assert all(one.speaks != "against" for one in found)


# ---- numbers that would go stale


def _counted(extra: str = "") -> str:
    """The cookbook's layout of counted blocks, without the lines that say what follows."""
    text = in_cookbook("cook-blocks-counted")
    return text if extra else re.sub(r", is: (name_length|\(stored_size[^}]*|end_offset)", "", text)


def test_numbers_that_would_go_stale_are_told_with_the_line_to_add() -> None:
    rng = np.random.default_rng(3)
    members = [
        (f"{'m' * (number % 5 + 1)}{number}.x", rng.bytes(int(rng.integers(1, 5000)))) for number in range(20)
    ]
    files = {name: BytesSource(data) for name, data in blocks_counted(members).items()}
    archive = open_archive(parse(_counted()), files)
    assert archive.prove().exact
    assert unexplained(archive) == [
        ("letters", "is: name_length"),
        ("blocks", "is: (stored_size + 511) // 512"),
        ("end", "is: end_offset"),
    ]
    told = [one.words for one in gather(archive) if one.speaks == "against"]
    assert len(told) == 3
    assert "Add to it: is: (stored_size + 511) // 512" in told[1]
    assert unexplained(open_archive(parse(_counted("with")), files)) == []


def test_what_a_field_is_has_to_be_true_of_every_record() -> None:
    rng = np.random.default_rng(4)
    members = [(f"m{number}.x", rng.bytes(int(rng.integers(1, 5000)))) for number in range(9)]
    data = bytearray(blocks_counted(members)["main"])
    data[8 + 40 * 5 + 2] ^= 1  # the blocks of the sixth record
    archive = open_archive(parse(_counted("with")), {"main": BytesSource(bytes(data))})
    proof = archive.prove()
    assert not proof.exact
    assert proof.field == "entries[5].blocks"


@pytest.mark.parametrize("family", FAMILIES, ids=lambda family: family.name)
@pytest.mark.parametrize("seed", [1, 2, 3])
def test_a_right_layout_is_never_spoken_against(family: Family, seed: int) -> None:
    rng = np.random.default_rng(seed)
    words = ["pier", "oar", "gull", "kelp", "buoy", "tide", "wrack", "skerry", "ness", "holm", "geo", "stack"]
    members = [
        (family.shape(word), rng.bytes(int(rng.integers(max(family.least, 1), 6000))))
        for word in words[: family.most]
    ]
    archive = family.open(family.write(family.order(members)))
    assert [one.words for one in gather(archive) if one.speaks == "against"] == []
