"""What looks like the name of an item in texts and in other data: paths, names with an ending, quoted values."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

#: characters of a name, and of a whole path, at most
_LONGEST = 260
_STEP = r"[\w\-+@#~$%&.()]+"
_PATH = re.compile(rf"(?<![\w:/\\]){_STEP}(?:[\\/]+{_STEP})+|(?<![\w:/\\.])[\w\-+@#~$%&.]*\w\.[A-Za-z]\w{{0,5}}\b")
_NAME = re.compile(r"(?:[\w\-. ]*[\\/])*[\w\- ]{3,}(?:\.[A-Za-z]\w{0,5})?")
_QUOTED = re.compile(r"\"([^\"\n]+)\"|'([^'\n]+)'")
#: the one word on the other side of a = or a : at the end of a line
_VALUE = re.compile(r"[=:]\s*([^\s\"'=:;,{}<>\[\]]+)\s*[;,]?\s*$")
#: runs of characters in other data: of one byte each, or of two (as UTF-16 has them)
_RUNS = re.compile(rb"[\x20-\x7e]{5,}")
_WIDE = re.compile(rb"(?:[\x20-\x7e]\x00){5,}")
#: what lies on the network is no item of the game (RFC 3986)
_ADDRESS = re.compile(r"[a-z][a-z0-9+.-]*://[^\s\"'<>]*", re.IGNORECASE)


@dataclass(frozen=True)
class Mention:
    """A text that may name an item: where it stands, and in what."""

    text: str
    #: the line, counted from 1; in data without lines the byte, counted from 0
    place: int
    #: the line, or the run of characters, that it stands in
    line: str
    #: whether it stands by itself: a quoted text, a value, a string of its own
    whole: bool
    #: the name that it surely means, where rules say so
    means: str = ""


def mentions_in(lines: Iterable[tuple[int, str]], *, strings: bool = False) -> Iterator[Mention]:
    """All that may be names in lines with their places; each text once for a line.

    ``strings``: they are runs of characters in other data, of which many mean nothing: only what is a name from its
    first character to its last counts there.
    """
    for place, line in lines:
        seen: set[str] = set()
        for text, whole in _alone(line) if strings else _candidates(line):
            text = text.strip()
            if 0 < len(text) <= _LONGEST and text not in seen:
                seen.add(text)
                yield Mention(text, place, line.strip()[:_LONGEST], whole)


def _candidates(line: str) -> Iterator[tuple[str, bool]]:
    line = _ADDRESS.sub(" ", line)
    value = _VALUE.search(line)
    if value is not None:
        yield value[1], True
    for quoted in _QUOTED.finditer(line):
        yield quoted[1] or quoted[2], True
    for path in _PATH.finditer(line):
        yield path[0].rstrip("."), False


def _alone(run: str) -> Iterator[tuple[str, bool]]:
    if _NAME.fullmatch(run):
        yield run, True


def lines_of(text: str) -> Iterator[tuple[int, str]]:
    """The lines of a text, counted from 1."""
    return ((number, line) for number, line in enumerate(text.splitlines(), 1) if line.strip())


def strings_in(data: bytes) -> Iterator[tuple[int, str]]:
    """Runs of five and more printable characters in other data, with their places in bytes."""
    for found in _RUNS.finditer(data):
        yield found.start(), found[0].decode("ascii")
    for found in _WIDE.finditer(data):
        yield found.start(), found[0].decode("utf-16-le")
