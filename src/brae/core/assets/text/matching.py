"""What an editor changed by itself in a text, and what puts it right."""

from __future__ import annotations

import unicodedata
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from difflib import SequenceMatcher

from brae.core.assets.sheet import Finding, MatchSheet, Property, Remedy
from brae.core.assets.text.text import LINE_ENDS, Text

REMEDIES = {
    "white-space": "Take the spaces and tabs of otherwise equal lines from the original",
    "quotes": "Make the quotes, dashes and dots plain again",
    "last-line": "End the last line as the original does",
    "letters": "Replace what the encoding does not have by plain letters",
}
#: what word processors make of plain signs
_PLAIN = str.maketrans(
    {"\u201c": '"', "\u201d": '"', "\u201e": '"', "\u2018": "'", "\u2019": "'", "\u2013": "-", "\u2014": "-",
     "\u2026": "...", "\u00a0": " "}
)  # fmt: skip
_KEPT = "always"
#: what a person changes on purpose
_FREE = ("Lines", "Characters", "Bytes")


@dataclass(frozen=True)
class Compared:
    """A text that came back, in the original's encoding and with its line ends."""

    original: Text
    #: as the editor saved it, and as it goes back
    came: Text
    text: Text
    remedies: Sequence[str]

    def remedy(self, remedy: str) -> Remedy:
        """A remedy, and whether it is applied."""
        return Remedy(id=remedy, label=REMEDIES[remedy], applied=remedy in self.remedies)


def like(original: Text, came: Text) -> Text:
    """What came back, with the encoding, the mark and the line ends of the original."""
    text = replace(original, text=came.text)
    if not original.text:
        return text
    if len(original.ends) < 2:
        end = original.line_end or came.line_end
        return text.of_lines([(line, own and end) for line, own in came.lines])
    # Of mixed line ends each line that is still there keeps its own; the others get what most have.
    ends = dict(_pairs([line for line, _ in original.lines], [line for line, _ in came.lines]))
    old = original.lines
    made = []
    for number, (line, own) in enumerate(came.lines):
        before = old[ends[number]][1] if number in ends else ""
        made.append((line, own and (before or original.line_end)))
    return text.of_lines(made)


def _pairs(before: list[str], after: list[str]) -> Iterator[tuple[int, int]]:
    """Which line of ``after`` is which of ``before``."""
    for block in SequenceMatcher(None, before, after, autojunk=False).get_matching_blocks():
        for step in range(block.size):
            yield block.b + step, block.a + step


def _stripped(line: str) -> str:
    return "".join(line.split())


def _white_space(text: Text, original: Text) -> Text:
    before, lines = original.lines, text.lines
    same = dict(_pairs([_stripped(line) for line, _ in before], [_stripped(line) for line, _ in lines]))
    return text.of_lines(
        [(before[same[n]][0], end) if n in same else (line, end) for n, (line, end) in enumerate(lines)]
    )


def _quotes(text: Text, original: Text) -> Text:
    """Signs that the original has itself stay."""
    table = {sign: plain for sign, plain in _PLAIN.items() if chr(sign) not in original.text}
    return replace(text, text=text.text.translate(table))


def _last_line(text: Text, original: Text) -> Text:
    lines = text.lines
    while lines and not original.text.endswith(("\n", "\r")) and lines[-1][1]:
        lines[-1] = (lines[-1][0], "")
        if lines[-1] == ("", "") and len(lines) > 1:
            lines.pop()
    if lines and original.text.endswith(("\n", "\r")) and not lines[-1][1]:
        lines[-1] = (lines[-1][0], original.line_end)
    return text.of_lines(lines)


def _letters(text: Text, original: Text) -> Text:
    def plain(char: str) -> str:
        if _fits(char, text.encoding):
            return char
        letters = unicodedata.normalize("NFKD", char.translate(_PLAIN))
        kept = "".join(one for one in letters if not unicodedata.combining(one) and _fits(one, text.encoding))
        return kept or "?"

    return replace(text, text="".join(map(plain, text.text)))


def _fits(char: str, encoding: str) -> bool:
    try:
        char.encode(encoding)
    except UnicodeEncodeError:
        return False
    return True


_ACTIONS: dict[str, Callable[[Text, Text], Text]] = {
    "white-space": _white_space,
    "quotes": _quotes,
    "last-line": _last_line,
    "letters": _letters,
}


def apply(text: Text, original: Text, remedies: Sequence[str]) -> Text:
    """A text with its remedies applied, always in the same order."""
    for remedy, action in _ACTIONS.items():
        if remedy in remedies:
            text = action(text, original)
    return text


def _by_itself(edit: Compared) -> Iterator[Finding]:
    """What is always put back: encoding, mark, line ends."""
    original, came = edit.original, edit.came
    kept = Remedy(id=_KEPT, label="Keep the original's", applied=True, automatic=True)
    if (original.encoding, original.marked) != (came.encoding, came.marked) and not came.text.isascii():
        yield Finding(
            id="encoding",
            severity="note",
            title=f"The editor saved {came.encoding_words} instead of {original.encoding_words}",
            in_game="Letters beyond A to Z would be wrong.",
            remedy=kept.model_copy(update={"label": f"Store it as {original.encoding_words} again"}),
        )
    if original.ends and came.ends and set(original.ends) != set(came.ends):
        yield Finding(
            id="line-ends",
            severity="note",
            title=f"The editor saved line ends as {came.end_words} instead of {original.end_words}",
            in_game="Some games read the end of a line as part of its last word.",
            remedy=kept.model_copy(update={"label": f"Store line ends as {original.end_words} again"}),
        )


def _missing_letters(edit: Compared) -> Iterator[Finding]:
    text = edit.text if "letters" not in edit.remedies else replace(edit.text, text=edit.came.text)
    signs = sorted({char for char in text.text if not _fits(char, text.encoding)})
    if signs:
        some = " ".join(signs[:12]) + (" …" if len(signs) > 12 else "")
        yield Finding(
            id="letters",
            severity="stops",
            title=f"{edit.original.encoding_words} does not have: {some}",
            in_game="The game would show other signs in their place, or stop reading.",
            remedy=edit.remedy("letters"),
        )


def _changed_by(edit: Compared, remedy: str) -> bool:
    """Whether a remedy does, or did, anything."""
    base = apply(like(edit.original, edit.came), edit.original, [one for one in edit.remedies if one != remedy])
    return apply(base, edit.original, [remedy]) != base


def _spaces(edit: Compared) -> Iterator[Finding]:
    if _changed_by(edit, "white-space"):
        yield Finding(
            id="white-space",
            severity="shows",
            title="Spaces or tabs differ in lines that are otherwise the same",
            in_game="Editors do this by themselves; columns that a game counts, or divides at tabs, break.",
            remedy=edit.remedy("white-space"),
        )


def _signs(edit: Compared) -> Iterator[Finding]:
    if _changed_by(edit, "quotes"):
        yield Finding(
            id="quotes",
            severity="shows",
            title="There are curly quotes, long dashes or the like that the original has nowhere",
            in_game="A game's own font often has no such signs, and its reader takes only plain quotes.",
            remedy=edit.remedy("quotes"),
        )


def _last(edit: Compared) -> Iterator[Finding]:
    if edit.original.text and _changed_by(edit, "last-line"):
        ends = edit.original.text.endswith(("\n", "\r"))
        yield Finding(
            id="last-line",
            severity="shows",
            title=f"The last line {'has no' if ends else 'has a'} line end, unlike the original's",
            in_game="Many editors add one by themselves. Some games miss the last line, others read one too many.",
            remedy=edit.remedy("last-line"),
        )


def _emptied(edit: Compared) -> Iterator[Finding]:
    if edit.original.text.strip() and not edit.text.text.strip():
        yield Finding(
            id="empty", severity="stops", title="The text is empty", in_game="The game finds nothing to read."
        )


_RULES = (_by_itself, _missing_letters, _emptied, _spaces, _signs, _last)


def match(original: Text, came: Text, remedies: Sequence[str]) -> tuple[MatchSheet, bytes]:
    """The match sheet of a text that came back, and its bytes stored like the original's."""
    text = apply(like(original, came), original, remedies)
    edit = Compared(original, came, text, remedies)
    data = text.encode(lenient=True)

    def last(one: Text) -> str:
        return LINE_ENDS[one.lines[-1][1]] if one.lines else "none"

    columns = [original, came, text]
    rows: list[tuple[str, list[str]]] = [
        ("Encoding", [one.encoding_words for one in columns]),
        ("Line ends", [one.end_words for one in columns]),
        ("End of the last line", [last(one) for one in columns]),
        ("Lines", [f"{len(one.lines):,}" for one in columns]),
        ("Characters", [f"{len(one.text):,}" for one in columns]),
        ("Bytes", [f"{len(one.encode(lenient=True)):,}" for one in columns]),
    ]
    sheet = MatchSheet(
        properties=[Property.of(name, *found, matters=name not in _FREE) for name, found in rows],
        findings=[finding for rule in _RULES for finding in rule(edit)],
    )
    return sheet, data
