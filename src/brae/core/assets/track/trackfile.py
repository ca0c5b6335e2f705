"""A voice track by its layout: what its records or lines say, and other words and phonemes in their place."""

from __future__ import annotations

import io
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np

from brae.core.assets.base import Fetch, nowhere
from brae.core.assets.text import text as texts
from brae.core.assets.text.text import Text
from brae.core.errors import BraeError, FormatError
from brae.core.layouts.fields import Leaf
from brae.core.layouts.heads import alike
from brae.core.layouts.model import Layout
from brae.core.layouts.parts import TablePart
from brae.core.layouts.read import Parsed, parse
from brae.core.layouts.rows import Rows, encode_record, named
from brae.core.layouts.tracks import TrackPart
from brae.core.layouts.write import Model, compose
from brae.core.sources import MAIN, BytesSource
from brae.core.voices.phonemes import SILENCE, nearest
from brae.core.voices.track import Phoneme, Track, Word, checked, joined

#: characters of a line that says a word or a phoneme
_LONGEST = 400
_FLOATS = {"f32": "f4", "f64": "f8"}


@dataclass(frozen=True)
class Moment:
    """What one record or line says: times as they are stored, a word, a code."""

    start: float
    end: float
    word: str = ""
    code: str = ""
    #: 'word' or 'phoneme', where the file tells them apart
    level: str = ""

    @property
    def says(self) -> tuple[str, str, str]:
        """All but its times."""
        return self.word, self.code, self.level

    @property
    def other(self) -> bool:
        """Whether it is neither a word nor a phoneme."""
        return self.level not in ("", "word", "phoneme")

    @property
    def silent(self) -> bool:
        """Whether it only says that nobody speaks."""
        return not self.other and not self.word.strip() and self.code.lower() in SILENCE


@dataclass(frozen=True, eq=False)
class TrackFile:
    """A track's file as it was read: a text, or records."""

    layout: Layout
    name: str
    data: bytes
    track: Track
    moments: tuple[Moment, ...]
    per_second: float
    text: Text | None = None
    parsed: Parsed | None = None
    fetch: Fetch = nowhere
    #: the layout that a person wrote, where ``layout`` was worked out from it
    described: Layout | None = None

    @property
    def part(self) -> TrackPart:
        """What the layout says of it."""
        return self.layout.only(TrackPart)  # type: ignore[no-any-return]

    @property
    def sound(self) -> str | None:
        """The name of the item in which it is said."""
        return self.part.item(self.name)

    @property
    def codes(self) -> list[str]:
        """The phonemes that the game knows; none where the file holds them as it likes."""
        if self.parsed is None:
            return [one for one in self.part.codes.values() if one.lower() not in SILENCE]
        leaf = _table(self.parsed, self.part).column("phoneme")
        values = (leaf.meant.values or {}) if leaf is not None else {}
        return [str(one) for one in values.values() if str(one).lower() not in SILENCE]

    @property
    def holds(self) -> tuple[bool, bool]:
        """Whether it can say words, and phonemes."""
        if self.parsed is None:
            return self.part.holds
        table = _table(self.parsed, self.part)
        return table.column("name") is not None, table.column("phoneme") is not None

    @property
    def can_grow(self) -> bool:
        """Whether there can be more or fewer: where their number is a constant it stays."""
        return self.parsed is None or not isinstance(_table(self.parsed, self.part).count, int)

    def same(self, one: Track, other: Track) -> bool:
        """Whether two tracks are stored alike."""
        return self._moments(one) == self._moments(other)

    @cached_property
    def seconds(self) -> float | None:
        """How long its sound is; None where nobody knows."""
        import soundfile

        if self.sound is None:
            return None
        try:
            return float(soundfile.info(io.BytesIO(self.fetch(self.sound))).duration)
        except (BraeError, soundfile.LibsndfileError, RuntimeError, TypeError):
            return None  # another sort of sound, or there is none: what is said of its length stays unsaid

    def again(self) -> bytes:
        """The file written anew, record by record."""
        moments = self._moments(self.track)
        return self._of_text(moments) if self.text is not None else self._of_records(moments)

    def rewrite(self, track: Track) -> bytes:
        """The file with other words and phonemes; records and lines that say the same keep their bytes.

        Raises FormatError where one cannot be stored so.
        """
        if self.same(track, self.track):
            return self.data
        moments = self._moments(track)
        if not self.can_grow and len(moments) != len(self.moments):
            raise FormatError(
                f"This file always has {len(self.moments)} entries, not {len(moments)}.",
                expected=f"{len(self.moments)}",
                remedy="Split or join words until it has as many.",
            )
        return self._of_text(moments) if self.text is not None else self._of_records(moments)

    # ---- a track as moments, and back

    def _moments(self, track: Track) -> list[Moment]:
        """What is to be stored, in order: times rounded to what the file counts in."""
        words, codes = self.holds
        levelled = any(one.level for one in self.moments) or self._levels
        known = self.codes
        found: list[Moment] = []

        own = {one.code for one in self.moments}

        def code_of(one: Phoneme) -> str:
            if not known or one.code in own:
                return one.code
            return nearest(one.code, known) or one.code

        def add(start: float, end: float, word: str, code: str, level: str) -> None:
            found.append(Moment(self._stored(start), self._stored(end), word, code, level))

        first_only = any(one.code and not one.word for one in self.moments if not one.silent)
        for word in track.words:
            if words and (levelled or not codes):
                add(word.start, word.end, word.text, "", "word" if levelled else "")
            if not codes:
                continue
            for at, one in enumerate(word.phonemes):
                said = word.text if words and not levelled and not (first_only and at) else ""
                add(one.start, one.end, said, code_of(one), "phoneme" if levelled else "")
            if words and not levelled and not word.phonemes:
                add(word.start, word.end, word.text, "", "")
        if codes:
            found += self._silences([one for one in found if one.code])
        # What is neither a word nor a phoneme stays.
        found += [self._rounded(one) for one in self.moments if one.other]
        return sorted(found, key=self._place)

    @cached_property
    def _ranks(self) -> dict[str, int]:
        """Where the file has first all of one level, then all of another: which comes first."""
        levels = [one.level for one in self.moments]
        order = [one for at, one in enumerate(levels) if not at or levels[at - 1] != one]
        return {level: at for at, level in enumerate(order)} if len(order) == len(set(order)) > 1 else {}

    def _place(self, one: Moment) -> tuple[float, float, float, float]:
        """What moments are ordered by."""
        if self._ranks:
            return self._ranks.get(one.level, len(self._ranks)), one.start, 0, one.end
        return 0, one.start, one.level != "word", one.end

    def _rounded(self, one: Moment) -> Moment:
        """A moment of the file as it is compared with others."""
        rate = self.per_second
        return replace(one, start=self._stored(one.start / rate), end=self._stored(one.end / rate))

    def _silences(self, said: list[Moment]) -> Iterator[Moment]:
        """Where nobody speaks, for a file that says so."""
        silent = [one for one in self.moments if one.silent and one.level != "word"]
        if not silent:
            return
        like, at = silent[0], min(one.start for one in self.moments)
        last = max(one.end for one in self.moments)
        # Pauses that the file does not spell out are so long at most.
        own = sorted((one for one in self.moments if not one.other), key=lambda one: one.start)
        unsaid = max((two.start - one.end for one, two in zip(own, own[1:], strict=False)), default=0.0)
        for one in sorted(said, key=lambda one: one.start):
            if one.start - at > max(unsaid, 0):
                yield replace(like, start=at, end=one.start)
            at = max(at, one.end)
        if any(one.end == last for one in silent) and last > at:
            yield replace(like, start=at, end=last)

    @property
    def step(self) -> float:
        """The least seconds by which times differ; 0 where they are floats."""
        if self.parsed is None:
            return float(10.0**-self.part.decimals / self.per_second)
        leaf = _table(self.parsed, self.part).column("time-start")
        if leaf is None or leaf.column.type in _FLOATS:
            return 0.0
        return leaf.meant.unit / self.per_second

    @property
    def _levels(self) -> bool:
        if self.parsed is None:
            return "level" in self.part.holes
        return _table(self.parsed, self.part).column("track-level") is not None

    def _stored(self, seconds: float) -> float:
        if self.parsed is not None:
            leaf = _table(self.parsed, self.part).column("time-start")
            if leaf is not None and leaf.column.type in _FLOATS:
                return float(np.dtype(_FLOATS[leaf.column.type]).type(seconds * self.per_second))
            unit = leaf.meant.unit if leaf is not None else 1
            return float(round(seconds * self.per_second / unit) * unit)
        return round(seconds * self.per_second, self.part.decimals)

    # ---- as a text

    def _of_text(self, moments: Sequence[Moment]) -> bytes:
        assert self.text is not None
        part, end = self.part, self.text.line_end or "\n"
        before: dict[Moment, list[str]] = {}
        #: lines that say nothing of the track, and the place of what follows them; those at the end stay there
        others: list[tuple[tuple[float, ...], tuple[str, str]]] = []
        waiting: list[tuple[str, str]] = []
        begun: set[float] = set()
        for line, ending in self.text.lines:
            moment = _moment(part, line)
            if moment is None:
                waiting.append((line, ending or end))
                continue
            before.setdefault(self._rounded(moment), []).append(line)
            place = self._place(moment)
            if place[0] not in begun:  # what stands above all of them stays there
                begun.add(place[0])
                place = (place[0], -np.inf, 0, 0)
            others += [(place, one) for one in waiting]
            waiting = []
        lines: list[tuple[str, str]] = []
        for moment in moments:
            while others and others[0][0] <= self._place(moment):
                lines.append(others.pop(0)[1])
            kept = before.get(moment)
            lines.append((kept.pop(0) if kept else self._line(moment), end))
        lines += [one for _, one in others]
        lines += waiting
        if self.text.lines and not self.text.lines[-1][1] and lines:
            lines[-1] = (lines[-1][0], "")
        return self.text.of_lines(lines).encode()

    def _line(self, moment: Moment) -> str:
        part = self.part
        code = next((own for own, meant in part.codes.items() if meant == moment.code), moment.code)
        level = next((own for own, meant in part.levels.items() if meant == moment.level), moment.level)
        said = {
            "start": self._number(moment.start), "end": self._number(moment.end),
            "length": self._number(moment.end - moment.start), "code": code or "-",
            "word": code if moment.level == "phoneme" and "code" not in part.holes else moment.word,
            "level": level,
        }  # fmt: skip
        return part.written(said)

    def _number(self, value: float) -> str:
        return f"{value:.{self.part.decimals}f}"

    # ---- as records

    def _of_records(self, moments: Sequence[Moment]) -> bytes:
        assert self.parsed is not None
        name = self.part.of or ""
        part, table = _table(self.parsed, self.part), self.parsed.tables[name].copy()
        own: dict[Moment, list[int]] = {}
        for row, moment in enumerate(self.moments):
            own.setdefault(self._rounded(moment), []).append(row)
        kept = [own[moment].pop(0) if own.get(moment) else None for moment in moments]
        # What says the same at another time keeps what nobody explained.
        left: dict[tuple[str, str, str], list[int]] = {}
        for row in sorted(row for rows in own.values() for row in rows):
            left.setdefault(self.moments[row].says, []).append(row)
        like = [
            left[moment.says].pop(0) if row is None and left.get(moment.says) else row
            for moment, row in zip(moments, kept, strict=True)
        ]
        fresh = encode_record(part, table.endian, alike(part, table))
        old = len(table)
        records = [fresh if row is None else table.record(row) for row in like]
        table.insert_all(np.full(len(records), old, np.int64), records)
        table.keep(np.arange(old, old + len(records)))
        for row, (moment, before) in enumerate(zip(moments, kept, strict=True)):
            if before is None:
                _put(table, part, row, moment)
        return b"".join(compose(self.parsed, model=Model({}, {}, {name: table})).read(MAIN))


def _put(table: Rows, part: TablePart, row: int, moment: Moment) -> None:
    times = {"time-start": moment.start, "time-end": moment.end, "time-length": moment.end - moment.start}
    for role, value in times.items():
        leaf = part.column(role)
        if leaf is None:
            continue
        form = _FLOATS.get(leaf.column.type)
        if form is None:
            table.put(leaf.field, row, round(value))
        else:
            table.put_raw(leaf.field, row, np.array([value], _order(leaf, table) + form).tobytes())
    for role, text in (("name", moment.word), ("phoneme", moment.code), ("track-level", moment.level)):
        leaf = part.column(role)
        if leaf is not None:
            _say(table, leaf, row, text)


def _say(table: Rows, leaf: Leaf, row: int, text: str) -> None:
    """A text into a field: as the number that stands for it, or as it is."""
    if leaf.column.number_like:
        values: Mapping[int, str | int] = leaf.meant.values or {}
        silent = text.lower() in SILENCE
        number = next(
            (one for one, meant in values.items() if meant == text or (silent and str(meant).lower() in SILENCE)),
            0 if silent else None,
        )
        if number is None and text.lstrip("-").isdigit():
            number = int(text)  # one that the layout does not explain
        if number is None:
            raise FormatError(
                f"'{text}' is nothing that '{leaf.field}' says.", expected=", ".join(map(str, values.values()))
            )
        table.put(leaf.field, row, number * leaf.meant.unit + leaf.meant.add)
        return
    raw = named(leaf, text, table.endian)[leaf.field]
    assert isinstance(raw, bytes)
    if leaf.column.width and len(raw) > leaf.column.width:
        raise FormatError(f"'{text}' is too long: {leaf.column.width} bytes are there for it.")
    table.put_raw(leaf.field, row, raw)


def _order(leaf: Leaf, table: Rows) -> str:
    """How a field's numbers stand, as numpy has it."""
    return "<" if leaf.column.order(table.endian) == "little" else ">"


def _table(parsed: Parsed, part: TrackPart) -> TablePart:
    found = parsed.regions[part.of or ""].part
    assert isinstance(found, TablePart)
    return found


def _moment(part: TrackPart, line: str) -> Moment | None:
    """What a line says; None where it is none of the track's."""
    found = part.pattern.fullmatch(line) if len(line) <= _LONGEST else None
    if found is None:
        return None
    said: dict[str, Any] = found.groupdict()
    start = float(said["start"])
    end = float(said["end"]) if "end" in said else round(start + float(said["length"]), part.decimals or None)
    code, level = said.get("code", ""), said.get("level", "")
    if code == "-":
        code = ""
    word, level = said.get("word", ""), part.levels.get(level, level)
    if level == "phoneme" and "code" not in said:
        word, code = "", word  # one place is for both
    if level == "word" and part.codes.get(word, "-").lower() in SILENCE:
        word = ""
    return Moment(start, end, word, part.codes.get(code, code), level)


def _of_table(part: TrackPart, parsed: Parsed) -> tuple[Moment, ...]:
    table, records = parsed.tables[part.of or ""], _table(parsed, part)

    def column(role: str, of: Callable[[Leaf], list[Any]]) -> list[Any] | None:
        leaf = records.column(role)
        return None if leaf is None else of(leaf)

    def times(leaf: Leaf) -> list[float]:
        form = _FLOATS.get(leaf.column.type)
        if form is None:
            return [float(one) for one in table.numbers(leaf.field).tolist()]
        raw = np.ascontiguousarray(table.raw_bytes(leaf.column))
        return raw.view(_order(leaf, table) + form).reshape(-1).astype(float).tolist()

    def words(leaf: Leaf) -> list[str]:
        if not leaf.column.number_like:
            return table.texts(leaf.field)
        values = leaf.meant.values or {}
        return [str(values.get(int(one), one)) for one in table.raw(leaf.field).tolist()]

    starts = column("time-start", times) or []
    ends = column("time-end", times)
    if ends is None:
        lengths = column("time-length", times) or []
        ends = [start + length for start, length in zip(starts, lengths, strict=True)]
    count = len(starts)
    said, codes, levels = (column(role, words) or [""] * count for role in ("name", "phoneme", "track-level"))
    return tuple(map(Moment, starts, ends, said, codes, levels))


def _track(moments: Sequence[Moment], per_second: float, holds: tuple[bool, bool]) -> Track:
    """Words and phonemes of moments, in seconds."""
    words: list[Word] = []
    phonemes: list[Phoneme] = []
    both = holds == (True, True) and not any(one.level for one in moments)
    for one in moments:
        start, end = one.start / per_second, one.end / per_second
        if one.silent or one.other:
            continue
        if not holds[1] or one.level == "word":
            words.append(Word(one.word, start, end, ()))
        elif one.level == "phoneme" or not both:
            phonemes.append(Phoneme(one.code, start, end))
        else:
            own = (Phoneme(one.code, start, end),) if one.code else ()
            last = words[-1] if words else None
            # The word stands at each of its phonemes, or at the first of them.
            if last is not None and own and one.word in ("", last.text) and abs(last.end - start) < 0.05:
                words[-1] = replace(last, end=end, phonemes=(*last.phonemes, *own))
            else:
                words.append(Word(one.word, start, end, own))
    return checked(Track(0.0, tuple(words))) if both else joined(words, phonemes)


def read(layout: Layout, data: bytes, name: str, fetch: Fetch = nowhere) -> TrackFile:
    """A track by its layout. Raises one of Brae's errors where the file cannot be one."""
    part: TrackPart = layout.only(TrackPart)
    if part.line is not None:
        text = texts.read(data)
        moments = tuple(one for line, _ in text.lines if (one := _moment(part, line)) is not None)
        rate = part.rate({})
        track = _track(moments, rate, part.holds)
        return TrackFile(layout, name, data, track, moments, rate, text=text, fetch=fetch)
    parsed = parse(layout, {MAIN: BytesSource(data)})
    table = _table(parsed, part)
    moments = _of_table(part, parsed)
    rate = part.rate(parsed.values)
    track = _track(moments, rate, (table.column("name") is not None, table.column("phoneme") is not None))
    return TrackFile(layout, name, data, track, moments, rate, parsed=parsed, fetch=fetch)
