"""What a layout that is wrong is told: the line, in plain words, with what was probably meant."""

from __future__ import annotations

import pytest

from brae.core.errors import LayoutError
from brae.core.layouts.load import parse

LAYOUT = """layout: raft
title: Rafts
kind: archive
endian: little
parts:
  - {field: magic, type: bytes, length: 4, value: "RAFT"}
  - {field: count, type: u32, is: count(list)}
  - {field: check, type: u32, checksum: {kind: crc32, over: [list]}}
  - table: list
    count: count
    record:
      - {field: name, type: string, length: 16, role: name}
      - {field: at, type: u32, role: offset}
      - {field: size, type: u32, role: stored-size}
      - {field: blocks, type: u16, is: (stored_size + 511) // 512}
  - {members: data, of: list, compression: none}
"""
#: what stands there, what a person writes, the line, and the words
WRONG = [
    ("type: u32, role: offset", "type: u33, role: offset", 13, "'u33' is not known here; did you mean 'u32'?"),
    ("role: stored-size", "role: storedsize", 14, "'storedsize' is not known here; did you mean 'stored-size'?"),
    ("    count: count", "    coutn: count", 10, "there is no key 'coutn' here; did you mean 'count'?"),
    ("kind: archive", "kind: archiv", 3, "'archiv' is not known here; did you mean 'archive'?"),
    ("endian: little", "endain: little", 4, "there is no key 'endain' here; did you mean 'endian'?"),
    ("of: list", "of: lits", 16, "needs the table 'lits' before it; did you mean 'list'?"),
    ("is: count(list)", "is: cuont(list)", 7, "asks for 'cuont', which is not known; did you mean 'count'?"),
    ("is: count(list)", "is: count(lsit)", 7, "'lsit', which is no part; did you mean 'list'?"),
    ("over: [list]", "over: [lost]", 8, "'lost', which is no part; did you mean 'list'?"),
    ("kind: crc32,", "kind: crc23,", 8, "crc23"),
    ("(stored_size + 511)", "(stord_size + 511)", 15, "'stord_size', which is nothing of a member; did you mean"),
    ("    count: count", "    count: cuont", 9, "reads 'cuont' before it is known; did you mean 'count'?"),
    ("compression: none", "compression: zlob", 16, "there is no packer 'zlob'"),
    ("length: 4", "length: four four", 6, "four four"),
    ("title: Rafts", "title: [Rafts]", 2, "a text is wanted"),
    ("layout: raft", "layout: My Raft", 1, "'My Raft' has letters that are not allowed here"),
    ("title: Rafts\n", "", 1, "'title' is missing"),
    ("of: list,", "of: list, align: 0,", 16, "0 is too small; the limit is 1"),
    ("of: list,", "of: list, fill: many,", 16, "a whole number is wanted, not 'many'"),
]
#: words of the libraries underneath, which say nothing to a person
LIBRARY_WORDS = ("Input should", "Extra inputs", "Field required", "validation error", "pydantic", "Traceback")


def test_the_layout_itself_is_right() -> None:
    assert parse(LAYOUT).layout == "raft"


@pytest.mark.parametrize(("right", "wrong", "line", "words"), WRONG, ids=[wrong for _, wrong, _, _ in WRONG])
def test_a_mistake_is_told_on_its_line_with_what_was_meant(right: str, wrong: str, line: int, words: str) -> None:
    assert LAYOUT.count(right) >= 1
    with pytest.raises(LayoutError) as told:
        parse(LAYOUT.replace(right, wrong, 1))
    said = str(told.value)
    assert words in said
    assert told.value.line == line, said
    assert not any(word in said for word in LIBRARY_WORDS), said
    assert "?." not in said


def test_the_first_mistake_in_the_text_is_told_first() -> None:
    text = LAYOUT.replace("compression: none", "compression: zlob").replace("type: u16", "type: u17")
    with pytest.raises(LayoutError) as told:
        parse(text)
    assert told.value.line == 15
