"""Swap lists: texts and records described by layouts, changed and back, every other byte as it was."""

from __future__ import annotations

import csv
import io
import struct

import pytest
from hypothesis import given
from hypothesis import strategies as st

from brae.core.assets.base import ExchangeFile, Head, Version
from brae.core.assets.registry import kinds
from brae.core.assets.swap.matching import findings
from brae.core.assets.swap.swaps import Swap, SwapList, from_csv, read, to_csv
from brae.core.errors import BraeError, FormatError
from brae.core.layouts.library import Library
from brae.core.layouts.load import parse

DRESS = """
layout: dress
title: Swaps
kind: swap
match: {names: ["*.swp"]}
parts:
  - {swaps: list, line: "{object}: {old} -> {new}", comments: [";"], items: "materials/{name}.txt",
     objects: "models/{name}.shp"}
"""
TEXT = parse(DRESS)
TABLE = parse(
    """
layout: dress-table
title: Swaps
kind: swap
parts:
  - {field: magic, type: bytes, length: 4, value: "SWAP"}
  - {field: count, type: u16, is: count(rows)}
  - table: rows
    count: count
    record:
      - {field: where, type: string, length: 8, role: swap-object}
      - {field: was, type: string, length: 8, role: swap-old}
      - {field: now, type: string, length: 8, role: swap-new}
      - {field: stamp, type: u16}
  - {swaps: list, of: rows, everywhere: ""}
  - {bytes: rest, size: file_size - 6 - 26 * count}
"""
)
LINES = b"; what\r\n\r\nboat:  hull   -> hull_wet ; no comment here\r\n*: lamp -> lamp_lit\r\nnonsense\r\n"


def table(rows: list[tuple[str, str, str]]) -> bytes:
    out = struct.pack("<4sH", b"SWAP", len(rows))
    for number, row in enumerate(rows):
        out += struct.pack("<8s8s8sH", *(one.encode() for one in row), 700 + number)
    return out + b"tail"


ROWS = [("boat", "hull", "wet"), ("", "lamp", "lit")]


def test_a_text_is_read_line_by_line() -> None:
    found = read(TEXT, LINES)
    assert found.swaps == (Swap("boat", "hull", "hull_wet ; no comment here"), Swap("", "lamp", "lamp_lit"))
    assert found.rewrite(found.swaps) == LINES


def test_records_are_read_and_what_nobody_explained_stays() -> None:
    found = read(TABLE, table(ROWS))
    assert found.swaps == tuple(Swap(*row) for row in ROWS)
    assert found.rewrite(found.swaps) == table(ROWS)
    made = found.rewrite([found.swaps[0], Swap("mill", "lamp", "out"), Swap("", "a", "b")])
    assert made[:6] == struct.pack("<4sH", b"SWAP", 3)
    assert made[6:32] == table(ROWS)[6:32]
    assert made[32:58] == struct.pack("<8s8s8sH", b"mill", b"lamp", b"out", 701)
    assert made.endswith(b"tail")
    assert found.rewrite([]) == struct.pack("<4sH", b"SWAP", 0) + b"tail"
    with pytest.raises(FormatError, match="too long"):
        found.rewrite([Swap("", "a", "much-too-long")])


def test_only_changed_lines_change() -> None:
    found = read(TEXT, LINES)
    made = found.rewrite([found.swaps[0], Swap("boat", "sail", "red"), Swap("", "lamp", "out")])
    assert made == LINES.replace(b"*: lamp -> lamp_lit\r\n", b"boat: sail -> red\r\n*: lamp -> out\r\n")
    assert found.rewrite([found.swaps[1]]) == b"; what\r\n\r\n*: lamp -> lamp_lit\r\nnonsense\r\n"
    assert read(TEXT, b"").rewrite([Swap("", "a", "b")]) == b"*: a -> b\n"
    assert read(TEXT, b"*: a -> b").rewrite([Swap("", "a", "b"), Swap("x", "c", "d")]) == b"*: a -> b\nx: c -> d\n"


NAMES = st.text(st.characters(codec="ascii", categories=["L", "N"]), min_size=1, max_size=8)
SWAPS = st.lists(st.builds(Swap, st.one_of(st.just(""), NAMES), NAMES, NAMES), max_size=12)


@given(SWAPS)
def test_any_swaps_come_back(swaps: list[Swap]) -> None:
    for held in (read(TEXT, LINES), read(TABLE, table(ROWS))):
        assert read(held.layout, held.rewrite(swaps)).swaps == tuple(swaps)
    assert from_csv(to_csv(swaps)) == tuple(swaps)
    # Beside the standard library's reader.
    rows = list(csv.DictReader(io.StringIO(to_csv(swaps).decode(), newline="")))
    assert [(row["object"], row["old"], row["new"]) for row in rows] == [(s.object, s.old, s.new) for s in swaps]


@pytest.mark.parametrize(
    ("swap", "words"),
    [
        (Swap("", "", "b"), "what is replaced"),
        (Swap("", "a\nb", "c"), "one line"),
        (Swap("", "a ", "c"), "cannot be written"),
        (Swap("", "x" * 500, "c"), "not endless"),
    ],
)
def test_what_a_line_cannot_say_is_refused(swap: Swap, words: str) -> None:
    with pytest.raises(FormatError, match=words):
        read(TEXT, LINES).rewrite([swap])


def told(*swaps: tuple[str, str, str]) -> list[str]:
    return [one.id.partition("-")[0] for one in findings([Swap(*one) for one in swaps])]


def test_circles_doubles_and_swaps_of_nothing_are_told() -> None:
    assert told(("", "a", "b"), ("", "b", "c")) == []
    assert told(("", "a", "b"), ("", "b", "A")) == ["circle"]
    assert told(("", "a", "b"), ("boat", "b", "a")) == ["circle"], "on the boat it goes round"
    assert told(("mill", "a", "b"), ("boat", "b", "a")) == []
    assert told(("", "a", "a")) == ["itself"]
    assert told(("", "a", "b"), ("", "A", "c")) == ["twice"]
    assert told(("", "a", "b"), ("boat", "a", "c")) == []
    before = [Swap("", "a", "a")]
    assert findings([*before, Swap("", "x", "y")], before) == []


def test_many_thousand_swaps_are_judged_and_written() -> None:
    """Each on an object of its own, over as many everywhere: nothing is compared with everything."""
    half = 20_000
    swaps = [Swap("", f"a{n}", f"b{n}") for n in range(half)] + [
        Swap(f"o{n}", f"c{n}", f"d{n}") for n in range(half)
    ]
    assert findings([*swaps, Swap("x", "b7", "a7")])[0].id == "circle-a7-b7"
    assert len(findings([*swaps, Swap("x", "b7", "a7")])) == 1
    held = read(TABLE, table(ROWS))
    assert read(TABLE, held.rewrite(swaps)).swaps == tuple(swaps)


def test_the_kind_says_which_items_are_meant() -> None:
    kind = kinds()["swap"]
    held = read(TEXT, LINES)
    assert [name for _, name, _ in kind.pointed(held)][:3] == [
        "materials/hull.txt", "materials/hull_wet ; no comment here.txt", "models/boat.shp",
    ]  # fmt: skip
    assert [kind.spelt(held, name) for name in ("materials/red.txt", "models/mill.shp")] == ["red", "mill"]
    with pytest.raises(FormatError, match="cannot be said"):
        kind.spelt(held, "sounds/bell.wav")
    known = Library({"dress": TEXT})
    heads = [Head(LINES, "a.swp", len(LINES)), Head(LINES, "a.swp", 99_999), Head(b"\0\1\2", "a.swp", 3)]
    told = kind.sniff(heads, known)
    assert [None if one is None else dict(one.facts) for one in told] == [{"swaps": 2}, {}, None]
    renamed = kind.renamed(held, kind.send(held), {"lamp_lit": "lamp_out"})
    sheet, made = kind.match(held, Version(renamed), {})
    assert made.data == LINES.replace(b"lamp_lit", b"lamp_out")
    assert sheet.findings == []
    assert kind.match(held, Version(kind.send(held)), {})[1].data == LINES


@pytest.mark.parametrize("data", [b"", b"a,b\n", b"\xff\xfe", b'old,new\n"a', b"object,old,new\nx,y\n"])
def test_tables_that_are_none_are_refused(data: bytes) -> None:
    with pytest.raises(FormatError):
        kinds()["swap"].check_file(ExchangeFile("swaps.csv", data))


@given(st.binary(max_size=40))
def test_damaged_lists_raise_errors_of_the_job(noise: bytes) -> None:
    for layout, data in ((TEXT, LINES), (TABLE, table(ROWS))):
        try:
            found = read(layout, data[:6] + noise + data[6 + len(noise) :])
        except BraeError as error:
            assert str(error)
        else:
            assert isinstance(found, SwapList)


@pytest.mark.parametrize(
    ("was", "now", "words"),
    [
        ("{object}: {old} -> {new}", "{object}: {old}", r"\{old\} and \{new\}"),
        ("{object}: {old} -> {new}", "{object}{old} -> {new}", "nothing between"),
        ("{object}: {old} -> {new}", "{old} {old} {new}", "once each"),
        ("materials/{name}.txt", "materials/x.txt", "in it, once"),
        ("materials/{name}.txt", "../{name}.txt", "leads"),
    ],
)
def test_layouts_of_lists_that_make_no_sense_are_refused(was: str, now: str, words: str) -> None:
    text = """
layout: dress
title: Swaps
kind: swap
parts:
  - {swaps: list, line: "{object}: {old} -> {new}", items: "materials/{name}.txt"}
"""
    assert was in text
    with pytest.raises(BraeError, match=words):
        parse(text.replace(was, now))
