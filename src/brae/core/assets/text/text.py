"""A text and how it is stored: encoding, byte order mark, line ends. Unicode 15, 23.8 (byte order marks)."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, replace

from brae.core.errors import FormatError

#: byte order marks; UTF-16 without one is no text to us, as nothing tells it from data
MARKS = {"utf-8": b"\xef\xbb\xbf", "utf-16-le": b"\xff\xfe", "utf-16-be": b"\xfe\xff"}
ENCODINGS = {
    "utf-8": "UTF-8", "utf-16-le": "UTF-16 LE", "utf-16-be": "UTF-16 BE", "cp1252": "Windows-1252",
    "latin-1": "ISO 8859-1",
}  # fmt: skip
LINE_ENDS = {"\n": "LF", "\r\n": "CRLF", "\r": "CR", "": "none"}
_END = re.compile("\r\n|\n|\r")
#: how much of a text without a mark may be other than printable, one in so many
_FEW = 100


@dataclass(frozen=True)
class Text:
    """A text, decoded, with its line ends as they are."""

    text: str
    encoding: str
    marked: bool = False

    @property
    def line_end(self) -> str:
        """The line end that most lines have; "" where there is one line only."""
        ends = self.ends
        return ends.most_common(1)[0][0] if ends else ""

    @property
    def ends(self) -> Counter[str]:
        """How many lines end in what."""
        return Counter(_END.findall(self.text))

    @property
    def lines(self) -> list[tuple[str, str]]:
        """Each line and its end, the last one's perhaps empty."""
        found, at = [], 0
        for end in _END.finditer(self.text):
            found.append((self.text[at : end.start()], end.group()))
            at = end.end()
        if at < len(self.text):
            found.append((self.text[at:], ""))
        return found

    @property
    def encoding_words(self) -> str:
        """Its encoding, for people."""
        mark = " with a byte order mark" if self.marked and self.encoding == "utf-8" else ""
        return ENCODINGS.get(self.encoding, self.encoding) + mark

    @property
    def end_words(self) -> str:
        """Its line ends, for people."""
        ends = self.ends
        if len(ends) < 2:
            return LINE_ENDS[self.line_end]
        return ", ".join(f"{count} {LINE_ENDS[end]}" for end, count in ends.most_common())

    def of_lines(self, lines: list[tuple[str, str]]) -> Text:
        """The same with other lines."""
        return replace(self, text="".join(line + end for line, end in lines))

    def renamed(self, instead: Mapping[str, str]) -> Text:
        """The same with other names in the place of some, wherever those stand by themselves."""
        text = self.text
        for old, new in instead.items():
            text = re.sub(rf"(?<![\w./\\]){re.escape(old)}(?![\w/\\])", new.replace("\\", r"\\"), text)
        return replace(self, text=text)

    def encode(self, *, lenient: bool = False) -> bytes:
        """Its bytes; characters that the encoding has not become ``?`` if ``lenient``, else FormatError."""
        try:
            data = self.text.encode(self.encoding, "replace" if lenient else "strict")
        except UnicodeEncodeError as error:
            raise FormatError(
                f"{self.text[error.start]!r} cannot be written in {self.encoding_words}.", offset=error.start
            ) from error
        return (MARKS[self.encoding] if self.marked else b"") + data


def encoding_of(data: bytes, *, whole: bool = True) -> tuple[str, bool] | None:
    """The encoding of a text and whether it has a byte order mark; None where the bytes are no text.

    ``whole`` False: only the beginning is there, and its last character may be cut in two. Without a mark it is
    UTF-8 where it can be that, else Windows-1252 where nearly all of it is plain (common practice, no source).
    """
    for encoding, mark in MARKS.items():
        if data.startswith(mark) and len(data) > len(mark):
            return (encoding, True) if _reads(data[len(mark) :], encoding, whole) else None
    if not data or b"\0" in data:
        return None
    if _reads(data, "utf-8", whole):
        return "utf-8", False
    plain = sum(byte in b"\t\r\n" or 32 <= byte < 127 for byte in data)
    high = sum(byte >= 0xA0 or byte in b"\x80\x82\x84\x85\x91\x92\x93\x94\x95\x96\x97\x99" for byte in data)
    if len(data) >= 16 and plain + high == len(data) and plain >= len(data) * 0.7:
        return "cp1252", False
    return None


def _reads(data: bytes, encoding: str, whole: bool) -> bool:
    if encoding != "utf-8" and len(data) % 2:
        if whole:
            return False
        data = data[:-1]
    try:
        text = data.decode(encoding)
    except UnicodeDecodeError as error:
        if whole or error.start < len(data) - 4:
            return False
        text = data[: error.start].decode(encoding)
    odd = sum(not (char.isprintable() or char in "\r\n\t") for char in text)
    return bool(text) and "\0" not in text and odd <= len(text) // _FEW


def read(data: bytes, like: Text | None = None) -> Text:
    """A text; FormatError where the bytes are none. What nothing tells is taken as what it is ``like``."""
    found = encoding_of(data)
    if found is None and like is not None and like.encoding in ("cp1252", "latin-1") and b"\0" not in data:
        found = (like.encoding, False)
    if found is None:
        raise FormatError(
            "These bytes are no text: they are neither UTF-8, nor UTF-16 with a byte order mark, nor Windows-1252.",
            offset=0,
        )
    encoding, marked = found
    body = data[len(MARKS[encoding]) :] if marked else data
    try:
        return Text(body.decode(encoding), encoding, marked)
    except UnicodeDecodeError:
        return Text(body.decode("latin-1"), "latin-1")
