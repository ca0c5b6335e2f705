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
from dataclasses import dataclass

import numpy as np
import regex
from rapidfuzz import process
from rapidfuzz.distance import OSA

from brae.core.errors import FormatError, LimitError

Flags = np.ndarray[tuple[int], np.dtype[np.bool_]]
#: conditions of one search, and characters of one of them
MOST_WORDS, _LONGEST = 50, 1000
#: seconds that one regular expression may take
_PATIENCE = 0.5
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
    """Texts in small letters, ready to be searched many times: as one long text, a line for each.

    A call for each of a hundred thousand texts would take longer than the search itself.
    """

    def __init__(self, texts: Sequence[str]) -> None:
        self.texts = texts
        self._whole = "\n".join(text.replace("\n", " ") for text in texts)
        self._starts = np.cumsum([0, *(len(text) + 1 for text in texts)])

    def __len__(self) -> int:
        return len(self.texts)

    def with_word(self, word: str) -> Flags:
        """Which texts have a word in them; * and ? stand for any characters and any one."""
        word = word.lower()
        if "*" in word or "?" in word:
            inner = re.escape(word.strip("*")).replace(r"\*", "[^\n]*").replace(r"\?", "[^\n]")
            found = np.zeros(len(self), bool)
            if not len(self):
                return found
            found[
                self._lines(np.array([match.start() for match in re.finditer(inner + "[^\n]*", self._whole)]))
            ] = True
            return found
        # That it is in none of them is told by one look at all: so it is while somebody types a misspelt word.
        if word not in self._whole and "\n" not in word:
            return np.zeros(len(self), bool)
        return np.array([word in one for one in self.texts], bool)

    def _lines(self, places: np.ndarray) -> np.ndarray:
        """The lines in which places of the long text lie."""
        found = np.searchsorted(self._starts, places.astype(np.int64), "right") - 1
        return np.asarray(np.minimum(found, len(self) - 1))

    def fitting(self, expression: str) -> Flags:
        """Which texts a regular expression fits somewhere. LimitError where it takes too long to tell."""
        pattern, found = compiled(expression), np.zeros(len(self), bool)
        if not len(self):
            return found
        until = time.monotonic() + _PATIENCE
        try:
            # Each time to the end of the line: one hit for a text is enough.
            hits = compiled(f"(?:{expression})[^\n]*").finditer(self._whole, timeout=_PATIENCE)
            spans = np.array([match.span() for match in hits] or np.empty((0, 2)), np.int64)
            first, last = self._lines(spans[:, 0]), self._lines(spans[:, 1])
            found[first[first == last]] = True
            # What ran on into the next line is none of its business: those are asked one by one.
            for start, end in zip(first[first != last].tolist(), last[first != last].tolist(), strict=True):
                for number in range(start, end + 1):
                    left = max(until - time.monotonic(), 1e-6)
                    found[number] = pattern.search(self.texts[number], timeout=left) is not None
        except TimeoutError:
            raise LimitError(
                f"/{expression}/ takes too long.",
                remedy="Repeat less within what is repeated: (a+)+ as a+.",
            ) from None
        return found


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
