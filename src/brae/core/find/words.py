"""What a person types to find items: words of the path, conditions on what is known of an item, expressions.

boat sail              both are in the path, in any order
"old harbour"          with the space in it
-sketch                not in the path; a minus before anything takes away what fits
bo*t  tile_0?          * for any characters, ? for one
/tile_0+(12|34)$/      a regular expression on the path
width>=512  kind:texture  size:>1M  rate:8000..22050      conditions
"""

from __future__ import annotations

import re
import time
from collections.abc import Collection, Sequence
from contextlib import suppress
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import polars
import regex
from rapidfuzz import process
from rapidfuzz.distance import OSA

from brae.core.errors import FormatError, LimitError

Flags = np.ndarray[tuple[int], np.dtype[np.bool_]]
#: conditions of one search, and characters of one of them
MOST_WORDS, _LONGEST = 50, 1000
#: seconds that one regular expression may take, and texts that are asked before it is looked at the clock
_PATIENCE, _AT_ONCE = 0.5, 10_000
#: Expressions that mean the same to both engines, if the quick one takes them at all (it knows no way back). Left
#: out: large counts, groups that are more than groups, possessive repeats, sets within sets and sums of sets.
_OF_ONE_MEANING = re.compile(
    r"""(?: [^\\[({*+?]                      # a character
        | \\[^<>]                            # an escaped one
        | \((?!\?) | \(\?:                   # a group
        | (?:[*+?]|\{\d\d?(?:,\d?\d?)?\})(?!\+)  # a repeat
        | \[\^?\]?(?: [^\\[\]&~|-] | \\. | ([&~|-])(?!\1) )*\]  # a set
    )*""",
    re.VERBOSE | re.DOTALL,
)
#: What an expression may fit in small letters only if their size is no matter: large letters, those by number,
#: others than ASCII's, and stretches of the alphabet that begin or end at a sign.
_OF_OTHER_SIZE = re.compile(r"[A-Z]|\\[xu0]|[^\x00-\x7f]|[^\w\]]-|-[^\w\]]")
#: How alike two words are at least, by optimal string alignment (letters changed, left out, added or exchanged)
#: over the longer one's length; shorter words are alike too easily.
_ALIKE, _SHORTEST = 0.7, 4
_MOST_NEAR = 8
_SIGNS = ("<=", ">=", "!=", "=", "<", ">")
_WORD = re.compile(
    r"""(?P<without>-)?
    (?:(?P<name>[a-zA-Z][a-zA-Z0-9_-]*)(?P<sign>:?(?:<=|>=|!=|=|<|>)|:))?
    (?:"(?P<quoted>[^"]*)"?|/(?P<expression>(?:[^/\\\s]|\\.|\[[^\]]*\])+)/(?=\s|$)|(?P<plain>\S+))""",
    re.VERBOSE,
)
_UNITS = {"k": 1 << 10, "m": 1 << 20, "g": 1 << 30}
_NUMBER = re.compile(r"(-?[\d,]*\.?\d+)\s*([kmg]?)(?:i?b)?", re.IGNORECASE)
_RANGE = ".."


@dataclass(frozen=True)
class Condition:
    """One thing that has to be so (or, ``without``, not so) of every item that is found."""

    text: str
    without: bool = False
    #: what is asked of, and how; without a name it is the path
    name: str = ""
    sign: str = ""
    expression: bool = False
    #: of a word that looks like a condition on something that there is not: what that was
    unknown: str = ""


def conditions(words: str, names: Collection[str]) -> list[Condition]:
    """A search as its conditions. What looks like one on a name that is none of ``names`` is a word like others.

    Raises LimitError where there are too many, FormatError for a regular expression that is none.
    """
    found: list[Condition] = []
    for match in _WORD.finditer(words):
        name, sign = (match["name"] or "").lower(), (match["sign"] or "").lstrip(":") or "="
        without, text = match["without"] is not None, match["quoted"] or match["expression"] or match["plain"] or ""
        if len(text) > _LONGEST:
            raise LimitError(f"A word of {len(text):,} characters is too long.", expected=f"at most {_LONGEST:,}")
        if name and name in names and text:
            found.append(Condition(text, without, name, sign))
        elif name:
            word = match[0].removeprefix("-").replace('"', "")
            found.append(Condition(word, without, unknown="" if name in names else name))
        elif match["expression"] is not None and text.isalnum():  # a folder
            found.append(Condition(f"/{text}/", without))
        elif match["expression"] is not None:
            compiled(text)
            found.append(Condition(text, without, expression=True))
        elif text:
            found.append(Condition(text, without))
    if len(found) > MOST_WORDS:
        raise LimitError(f"A search of {len(found):,} words is too long.", expected=f"at most {MOST_WORDS}")
    return found


def numbers_of(condition: Condition) -> tuple[str, tuple[float, ...]]:
    """A condition's sign and its number; ``..`` and both ends of a range. Thousands may be parted, 1M is 1,048,576.

    Raises FormatError where it has none.
    """
    first, dots, last = condition.text.partition(_RANGE)
    ends = [_number(one) for one in ([first, last] if dots and condition.sign == "=" else [condition.text])]
    if None in ends:
        raise FormatError(
            f"'{condition.name}' is a number, and '{condition.text}' is none.",
            expected=f"such as {condition.name}>=512, {condition.name}:64..512 or {condition.name}>1M",
        )
    return (_RANGE if len(ends) == 2 else condition.sign), tuple(one for one in ends if one is not None)


def _number(text: str) -> float | None:
    found = _NUMBER.fullmatch(text.strip())
    return float(found[1].replace(",", "")) * _UNITS.get(found[2].lower(), 1) if found else None


def compiled(text: str) -> regex.Pattern[str]:
    """A regular expression; FormatError where it is none."""
    try:
        return regex.compile(text, regex.IGNORECASE | regex.MULTILINE)
    except regex.error as error:
        raise FormatError(
            f"/{text}/ is no regular expression: {error}.",
            remedy="Write the search without the slashes, or correct it.",
        ) from None


def wildcards(word: str) -> re.Pattern[str]:
    """A word with * and ? as a pattern."""
    return re.compile(re.escape(word).replace(r"\*", ".*").replace(r"\?", "."), re.DOTALL)


class Paths:
    """Texts in small letters, ready to be searched many times.

    They lie in a column of the package polars, which searches all of them in one call; a call for each of a hundred
    thousand texts would take longer than the search itself.
    """

    def __init__(self, texts: Sequence[str]) -> None:
        # ^ and $ are the beginning and the end of the whole text.
        self._column = polars.Series([_whole(one) for one in texts], dtype=polars.String).str.replace_all(
            "\n", " ", literal=True
        )

    def __len__(self) -> int:
        return len(self._column)

    def with_word(self, word: str) -> Flags:
        """Which texts have a word in them; * and ? stand for any characters and any one."""
        word = _whole(word.lower())
        if "*" in word or "?" in word:
            pattern = polars.escape_regex(word.strip("*")).replace(r"\*", ".*").replace(r"\?", ".")
            return np.array(self._column.str.contains(pattern), bool)
        return np.array(self._column.str.contains(word, literal=True), bool)

    def fitting(self, expression: str) -> Flags:
        """Which texts a regular expression fits somewhere. LimitError where it takes too long to tell."""
        expression, until = _whole(expression), time.monotonic() + _PATIENCE
        pattern = compiled(expression)
        try:
            if _OF_ONE_MEANING.fullmatch(expression):
                with suppress(polars.exceptions.ComputeError):
                    return self._without_going_back(expression, until)
            return self._going_back(expression, pattern, until)
        except TimeoutError:
            raise LimitError(
                f"/{expression}/ takes too long.",
                remedy="Repeat less within what is repeated: (a+)+ as a+.",
            ) from None

    def _without_going_back(self, expression: str, until: float) -> Flags:
        """By an engine whose time grows with the texts and no faster. ComputeError where it cannot tell."""
        found = np.zeros(len(self), bool)
        # Letters of either size are twice the work, and the texts have small ones only.
        flags = "im" if _OF_OTHER_SIZE.search(expression) else "m"
        for at in range(0, len(self), _AT_ONCE):
            _left(until)
            found[at : at + _AT_ONCE] = self._column.slice(at, _AT_ONCE).str.contains(f"(?{flags}){expression}")
        return found

    def _going_back(self, expression: str, pattern: regex.Pattern[str], until: float) -> Flags:
        """By the engine that knows every sort of expression, in one text that has a line for each of ours."""
        found = np.zeros(len(self), bool)
        if not len(self):
            return found
        # Each time to the end of the line: one hit for a text is enough.
        hits = compiled(f"(?:{expression})[^\n]*").finditer(self._whole, timeout=_left(until))
        spans = np.array([match.span() for match in hits] or np.empty((0, 2)), np.int64)
        lines = np.searchsorted(self._starts, spans, "right") - 1
        first, last = np.minimum(lines, len(self) - 1).T
        found[first[first == last]] = True
        # What ran on into the next line is none of its business: those are asked one by one.
        for start, end in zip(first[first != last].tolist(), last[first != last].tolist(), strict=True):
            for number in range(start, end + 1):
                found[number] = pattern.search(self._lines[number], timeout=_left(until)) is not None
        return found

    @cached_property
    def _lines(self) -> list[str]:
        return self._column.to_list()

    @cached_property
    def _whole(self) -> str:
        return "\n".join(self._lines)

    @cached_property
    def _starts(self) -> np.ndarray:
        return np.cumsum([0, *(len(line) + 1 for line in self._lines)])


def _whole(text: str) -> str:
    """A text without lone surrogates, which stand for bytes that are no text (PEP 383): a column has none."""
    return text if text.isascii() else text.encode("utf-8", "replace").decode()


def _left(until: float) -> float:
    """The seconds that are left; TimeoutError where none are."""
    left = until - time.monotonic()
    if left <= 0:
        raise TimeoutError
    return left


def near(word: str, known: Sequence[str]) -> list[str]:
    """The known words that are most like one that nothing has: misspelt, or a letter more or less."""
    if len(word) < _SHORTEST or not word.isalpha():
        return []
    alike = process.extract(
        word.lower(), known, scorer=OSA.normalized_similarity, score_cutoff=_ALIKE, limit=_MOST_NEAR
    )
    best = max((score for _, score, _ in alike), default=0.0)
    return [one for one, score, _ in alike if score >= best - 0.05]


def parts_of(texts: Sequence[str]) -> list[str]:
    """The different words of texts, without numbers."""
    return sorted({part for text in texts for part in _PART.findall(text)})


_PART = re.compile(r"[^\W\d_]{3,}")
