"""A line in a text file of the game: put in above the game's own, everything else untouched."""

from __future__ import annotations

import re

from brae.core.errors import FormatError, LimitError
from brae.core.games.model import Register


def register(text: bytes, rule: Register, lines: list[str]) -> bytes:
    """The settings with these lines in their place; lines that are there already are not repeated.

    Raises FormatError where the section is missing or the text is of another encoding, LimitError where the loader
    would choke: a line that is too long, or more lines than it has room for.
    """
    try:
        found = text.decode(rule.encoding)
    except UnicodeDecodeError as error:
        raise FormatError(
            f"{rule.file} is not {rule.encoding} text.", address=rule.file, offset=error.start
        ) from error
    existing = found.splitlines(keepends=True)
    first, last = _section(existing, rule)
    own = [number for number in range(first, last) if _counts(existing[number], rule)]
    known = {_folded(existing[number]) for number in own}
    fresh = [line for line in lines if _folded(line) not in known]
    for line in fresh:
        try:
            length = len(line.encode(rule.encoding))
        except UnicodeEncodeError as error:
            raise FormatError(f"'{line}' cannot be written as {rule.encoding}.", address=rule.file) from error
        if rule.longest is not None and length > rule.longest:
            raise LimitError(
                f"The line '{line}' has {length} bytes; the game reads {rule.longest}.",
                address=rule.file,
                remedy="Choose a shorter name.",
            )
    if rule.most is not None and len(own) + len(fresh) > rule.most:
        raise LimitError(
            f"The game has room for {rule.most} lines, and there would be {len(own) + len(fresh)}.",
            address=rule.file,
            remedy="Take another add-on out first.",
        )
    end = next((re.search(r"\r?\n$|\r$", line)[0] for line in existing if line.endswith(("\n", "\r"))), "\n")  # type: ignore[index]
    for line in fresh:
        place = _place(existing, own, first, last, rule, line)
        if place and not existing[place - 1].endswith(("\n", "\r")):
            existing[place - 1] += end
        existing.insert(place, line + end)
        own = sorted([number + (number >= place) for number in own] + [place])
        last += 1
        if rule.place == "top":
            # The next of our lines comes below this one.
            own = [number for number in own if number > place]
            first = place + 1
    return "".join(existing).encode(rule.encoding)


def _section(lines: list[str], rule: Register) -> tuple[int, int]:
    """The lines of the section, without its heading."""
    if rule.section is None:
        return 0, len(lines)
    heading = f"[{rule.section}]".casefold()
    for number, line in enumerate(lines):
        if line.strip().casefold() == heading:
            following = range(number + 1, len(lines))
            end = next((k for k in following if re.match(r"\s*\[.*\]\s*$", lines[k])), len(lines))
            return number + 1, end
    raise FormatError(
        f"{rule.file} has no section [{rule.section}].",
        address=rule.file,
        remedy="The file may be of another edition of the game, or damaged.",
    )


def _counts(line: str, rule: Register) -> bool:
    text = line.strip()
    return bool(text) and text[0] not in rule.comment


def _folded(line: str) -> str:
    return re.sub(r"\s+", "", line).casefold()


def _place(lines: list[str], own: list[int], first: int, last: int, rule: Register, line: str) -> int:
    if rule.place == "bottom":
        return own[-1] + 1 if own else first
    if rule.place == "sorted":
        return next(
            (number for number in own if lines[number].strip().casefold() > line.casefold()),
            (own[-1] + 1) if own else first,
        )
    # Comments above the game's first line belong to the section, so ours comes below them.
    return own[0] if own else first
