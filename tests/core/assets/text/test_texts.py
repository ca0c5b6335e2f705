"""Texts: whatever an editor does to encoding and line ends, the original's come back.

Byte order marks: Unicode 15.0, 23.8. Windows-1252 as Python's codec has it (WHATWG Encoding, windows-1252).
"""

from __future__ import annotations

import codecs

import pytest
from hypothesis import given
from hypothesis import strategies as st

from brae.core.assets.base import Context, ExchangeFile, Head, Version
from brae.core.assets.text import matching
from brae.core.assets.text.kind import KIND
from brae.core.assets.text.text import Text, encoding_of, read
from brae.core.errors import FormatError
from brae.core.layouts.library import Library

LINES = ["title = Skerry", "\tkey\tvalue", 'say "Ahoy" -- twice', "naïve façade", ""]
ENDS = ("\n", "\r\n", "\r")


def stored(text: str, encoding: str, marked: bool) -> bytes:
    """A text by Python's codecs alone."""
    mark = {"utf-8": codecs.BOM_UTF8, "utf-16-le": codecs.BOM_UTF16_LE, "utf-16-be": codecs.BOM_UTF16_BE}
    return (mark[encoding] if marked else b"") + text.encode(encoding)


def matched(original: bytes, came: bytes, *remedies: str) -> tuple[set[str], bytes]:
    """Findings that stand or were put right, and the bytes for the game."""
    sheet, made = KIND.match(
        KIND.read(original, Context(Library())), Version(ExchangeFile("x.txt", came), remedies), {}
    )
    return {finding.id for finding in sheet.findings}, made.data


STORED = [("utf-8", False), ("utf-8", True), ("utf-16-le", True), ("utf-16-be", True), ("cp1252", False)]


@pytest.mark.parametrize(("encoding", "marked"), STORED)
@pytest.mark.parametrize("end", ENDS)
@pytest.mark.parametrize(("saved", "mark"), STORED)
@pytest.mark.parametrize("other", ENDS)
def test_what_an_editor_saves_otherwise_comes_back_as_it_was(
    encoding: str, marked: bool, end: str, saved: str, mark: bool, other: str
) -> None:
    original = stored(end.join(LINES), encoding, marked)
    found, data = matched(original, stored(other.join(LINES), saved, mark))
    assert data == original
    assert ("line-ends" in found) == (end != other)
    assert ("encoding" in found) == ((encoding, marked) != (saved, mark))


@given(
    st.lists(st.text(st.characters(codec="utf-8", categories=["L", "N", "P", "Zs"]), max_size=20), max_size=12),
    st.sampled_from(ENDS),
    st.booleans(),
)
def test_an_unchanged_text_is_the_same_to_the_byte(lines: list[str], end: str, marked: bool) -> None:
    original = stored(end.join(lines), "utf-8", marked)
    if encoding_of(original) is None:
        return
    assert KIND.rebuild(read(original)) == original
    assert matched(original, original) == (set(), original)


@given(st.binary(max_size=80))
def test_bytes_are_a_text_that_can_be_written_again_or_none(data: bytes) -> None:
    if encoding_of(data) is None:
        with pytest.raises(FormatError):
            read(data)
    else:
        assert KIND.rebuild(read(data)) == data


def test_mixed_line_ends_stay_with_their_lines() -> None:
    original = b"one\r\ntwo\nthree\r\nfour\n"
    assert matched(original, b"one\ntwo\nthree\nfour\n")[1] == original
    assert matched(original, b"one\nnew\ntwo\nthree\nfour\n")[1] == b"one\r\nnew\r\ntwo\nthree\r\nfour\n"


def test_what_editors_do_by_themselves_is_noticed_and_put_right() -> None:
    original = b'name\tvalue\r\n  "Oar" -- long...\r\nend'
    came = "name    value\n  “Oar” — long…\nend\n".encode()
    found, data = matched(original, came)
    assert found == {"line-ends", "white-space", "quotes", "last-line"}
    assert data == "name    value\r\n  “Oar” — long…\r\nend\r\n".encode()
    found, data = matched(original, came, "white-space", "quotes", "last-line")
    assert data == b'name\tvalue\r\n  "Oar" - long...\r\nend'
    assert found >= {"white-space", "quotes", "last-line"}, "they stay in sight, as put right"


def test_a_person_may_still_change_what_they_like() -> None:
    original = b"speed = 3\nname = Oar\n"
    assert matched(original, b"speed = 5\nname = Oar\nnew = 1\n", "white-space", "last-line") == (
        set(),
        b"speed = 5\nname = Oar\nnew = 1\n",
    )


def test_letters_that_the_encoding_does_not_have_stop_the_build() -> None:
    original = "Fähre, Möwe, Tür und Tor am Hafen\n".encode("cp1252")
    came = "Fähre, Möwe, Łódka ☂\n".encode()
    sheet, data = matching.match(read(original), read(came), [])
    stops = [finding for finding in sheet.findings if finding.severity == "stops"]
    assert [finding.title for finding in stops] == ["Windows-1252 does not have: Ł ☂"]
    assert data == "Fähre, Möwe, ?ódka ?\n".encode("cp1252")
    sheet, data = matching.match(read(original), read(came), ["letters"])
    assert not sheet.open_findings


def test_an_emptied_text_stops_the_build() -> None:
    assert matched(b"one line\n", b"")[0] >= {"empty"}


@pytest.mark.parametrize(
    ("data", "kind"),
    [
        (b"plain\n", "utf-8"),
        ("Möwe".encode(), "utf-8"),
        ("The gull said Möwe and left the pier".encode("cp1252"), "cp1252"),
        (codecs.BOM_UTF16_LE + "Möwe".encode("utf-16-le"), "utf-16-le"),
        (b"a\0b", None),
        (bytes(range(200, 256)), None),
        (b"", None),
        (b"RIFF\x01\x02\x03\x04", None),
    ],
)
def test_texts_are_told_by_their_beginning(data: bytes, kind: str | None) -> None:
    said = KIND.sniff([Head(data, "x", len(data))], Library())[0]
    assert (None if said is None else said.facts["encoding"]) == kind


def test_a_character_cut_in_two_by_the_end_of_what_was_read_is_no_fault() -> None:
    data = ("x" * 511 + "ö" + "y" * 100).encode()
    assert KIND.sniff([Head(data[:512], "x", len(data))], Library())[0] is not None
    assert isinstance(read(data), Text)
