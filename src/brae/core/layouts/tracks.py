"""The part of a voice track: when which words and phonemes are said, as records of a table or lines of a text."""

from __future__ import annotations

import re
from collections.abc import Mapping
from functools import cached_property
from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from brae.core.errors import FormatError
from brae.core.layouts.fields import Hidden, Name, check_inside
from brae.core.layouts.pixels import beside
from brae.core.layouts.records import Records

#: what stands in a line, and how it looks
_HOLES = {
    **{one: rf"(?P<{one}>-?\d+(?:\.\d+)?)" for one in ("start", "end", "length")},
    "code": r"(?P<code>\S+)", "word": r"(?P<word>.*?)", "level": r"(?P<level>\S+?)",
}  # fmt: skip
_HOLE = re.compile(r"\{(\w+)\}")


class TrackPart(Hidden):
    """Words and phonemes with their times; they lie in a table, or in the lines of the whole file."""

    track: Name
    of: Name | None = Field(None, description="the table whose records are the words and phonemes")
    line: Annotated[str, Field(min_length=1, max_length=200)] | None = Field(
        None,
        description="of a text: how a line of it looks, with {start}, {end} or {length}, {code}, {word}, {level}",
    )
    cues: Literal["label", "note", "text"] | None = Field(
        None,
        description="of a WAVE file: where cue points say it: 'labl', 'note' or 'ltxt'; 'line' is how it looks",
    )
    chunk: Annotated[str, Field(pattern="^[ -~]{4}$")] | None = Field(
        None, description="of a WAVE file: the chunk that holds the table, which the other parts describe"
    )
    spans: bool = Field(False, description="cue points last as long as their 'ltxt' says, also new ones")
    per_second: Annotated[float, Field(gt=0, le=1_000_000)] | Name = Field(
        1000,
        description="what times count in, so many a second (1000: milliseconds), or a field that says it",
    )
    decimals: Annotated[int, Field(ge=0, le=9)] = Field(
        0, description="digits behind the point of a time in a text"
    )
    codes: dict[Annotated[str, Field(max_length=40)], Annotated[str, Field(max_length=40)]] = Field(
        default_factory=dict,
        description="of a text: its codes, and the phonemes that they are: ARPABET, IPA, v0 to v14, or silence",
    )
    levels: dict[Annotated[str, Field(max_length=40)], Annotated[str, Field(pattern="^(word|phoneme)$")]] = Field(
        default_factory=dict, description="of a text: what {level} says, and whether that is a word or a phoneme"
    )
    sound: str | None = Field(
        None, description="the item in which it is said: '{path}.wav', with {folder} and {stem} of this one"
    )

    @property
    def name(self) -> str:
        return self.track

    @cached_property
    def pattern(self) -> re.Pattern[str]:
        """What a line is read by."""
        found, at = [], 0
        line = (self.line or "").strip()
        for hole in _HOLE.finditer(line):
            found += [_plain(line[at : hole.start()]), _HOLES[hole[1]]]
            at = hole.end()
        return re.compile(r"\s*" + "".join(found) + _plain(line[at:]) + r"\s*")

    @property
    def holds(self) -> tuple[bool, bool]:
        """Whether a line can say words, and phonemes: one place is for both where a level tells them apart."""
        either = "level" in self.holes and "code" not in self.holes and "phoneme" in self.levels.values()
        return "word" in self.holes, "code" in self.holes or either

    @property
    def holes(self) -> set[str]:
        """What stands in a line."""
        return set(_HOLE.findall(self.line or ""))

    def written(self, said: Mapping[str, str]) -> str:
        """A line that says something."""
        return _HOLE.sub(lambda hole: said[hole[1]], self.line or "")

    def item(self, name: str) -> str | None:
        """The name of the sound of the track ``name``; None where none is said."""
        return None if self.sound is None else beside(self.sound, name)

    def rate(self, values: Mapping[str, Any]) -> float:
        """So many a second, of a file whose fields say ``values``. Raises FormatError where that is no rate."""
        said = values.get(self.per_second) if isinstance(self.per_second, str) else self.per_second
        if not isinstance(said, int | float) or not 0 < said <= 10_000_000:
            raise FormatError(f"Times cannot count in {said} a second.", expected=f"{self.per_second} above 0")
        return float(said)

    @model_validator(mode="after")
    def _whole(self) -> TrackPart:
        if (self.of is None) == (self.line is None):
            raise ValueError("a track has a table ('of') or a 'line' of a text, one of them")
        if self.spans and self.cues is None:
            raise ValueError("'spans' is said of cue points: of 'cues'")
        if self.chunk is not None and self.of is None:
            raise ValueError("a 'chunk' holds the table that 'of' names")
        if self.cues is not None and self.line is None:
            raise ValueError("'cues' needs the 'line' that is said of a point: '{word}'")
        if self.line is not None and isinstance(self.per_second, str):
            raise ValueError("a text has no fields: 'per_second' is a number")
        if self.line is not None:
            holes, rest = _HOLE.findall(self.line), _HOLE.sub("", self.line)
            if "{" in rest or "}" in rest:
                raise ValueError(f"'{self.line}' has braces that hold no word: {', '.join(_HOLES)} are known")
            if unknown := sorted(set(holes) - set(_HOLES)):
                raise ValueError(f"a line has no {{{unknown[0]}}}; {', '.join(_HOLES)} are known")
            if len(set(holes)) != len(holes):
                raise ValueError(f"'{self.line}' has one hole twice")
            if re.search(r"\}\{", self.line):
                raise ValueError(f"'{self.line}' has two holes with nothing between them")
            times = {one for one in holes if one in ("start", "end", "length")}
            if self.cues is not None and times:
                raise ValueError("a cue point has its times by itself: its 'line' says words and codes")
            _needs({"start", "end"} if self.cues is not None else times, {*holes}, "{", "}")
        if self.sound is not None:
            check_inside(self.sound)
            self.item("a/b")
        return self


def _plain(text: str) -> str:
    """Text as a pattern: any white space stands for any other."""
    return "".join(r"\s+" if one.isspace() else re.escape(one) for one in re.findall(r"\s+|\S", text))


def _needs(times: set[str], said: set[str], before: str, behind: str) -> None:
    """A start, one of end and length, and a word or a code. Raises ValueError."""
    if "start" not in times or ("end" in times) == ("length" in times):
        raise ValueError(
            f"a track needs {before}start{behind}, and one of {before}end{behind} and {before}length{behind}"
        )
    if not {"code", "word"} & said:
        raise ValueError("a track needs words, or codes of phonemes")


def check_track(part: TrackPart, table: Records) -> None:
    """A word or phoneme has its times, and says something. Raises ValueError."""
    roles = {str(leaf.meant.role) for leaf in table.leaves if leaf.meant.role}
    times = {role.removeprefix("time-") for role in roles if role.startswith("time-")}
    said = {word for role, word in (("phoneme", "code"), ("name", "word")) if role in roles}
    try:
        _needs(times, said, "the role time-", "")
    except ValueError as error:
        raise ValueError(f"'{part.of}': {error}") from None
    if part.codes or part.levels:
        raise ValueError("codes and levels of a table are the 'values' of its fields")
