"""Words and phonemes with their times, and the open forms that they are written in."""

from __future__ import annotations

import csv
import html
import io
import json
import re
from bisect import bisect_right
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from typing import Any

from pydantic import ConfigDict, TypeAdapter, ValidationError

from brae.core.errors import FormatError, LimitError

#: words and phonemes of one track: what is beyond is taken for damage
MOST = 20_000
#: a time beyond which nothing is said, in seconds
_LATEST = 360_000.0

#: what is usual is in every answer too
_SENT = ConfigDict(json_schema_serialization_defaults_required=True)


@dataclass(frozen=True)
class Phoneme:
    """One sound of a language, as ARPABET writes it (as in the CMU dictionary), in seconds."""

    code: str
    start: float
    end: float


@dataclass(frozen=True)
class Word:
    """A word in seconds."""

    __pydantic_config__ = _SENT
    text: str
    start: float
    end: float
    phonemes: tuple[Phoneme, ...]
    #: its sounds were worked out from its letters: no dictionary has it
    spelt: bool = False
    #: what is heard there does not sound like it
    doubtful: bool = False


@dataclass(frozen=True)
class Track:
    """A sentence over a sound; what is between words is silence."""

    seconds: float
    words: tuple[Word, ...] = ()
    #: whether the sentence is what is said there
    said: bool = True
    notes: tuple[str, ...] = ()

    @property
    def phonemes(self) -> list[Phoneme]:
        """The phonemes of all words."""
        return [one for word in self.words for one in word.phonemes]

    @property
    def text(self) -> str:
        """What is said, in one line."""
        return " ".join(word.text for word in self.words if word.text)

    def as_dict(self) -> dict[str, Any]:
        """For JSON."""
        return asdict(self)


def _json(track: Track) -> str:
    return json.dumps(track.as_dict(), ensure_ascii=False, indent=1) + "\n"


def _webvtt(track: Track) -> str:
    """A cue for each word (W3C, WebVTT: The Web Video Text Tracks Format)."""
    parts = ["WEBVTT\n"]
    for number, word in enumerate(track.words, 1):
        text = word.text.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")
        parts.append(f"{number}\n{_clock(word.start)} --> {_clock(word.end)}\n{text}\n")
    return "\n".join(parts)


def _clock(seconds: float) -> str:
    thousandths = round(seconds * 1000)
    minutes, rest = divmod(thousandths, 60_000)
    return f"{minutes // 60:02}:{minutes % 60:02}:{rest // 1000:02}.{rest % 1000:03}"


def _textgrid(track: Track) -> str:
    """Two tiers of intervals, words and phonemes, without gaps (Praat's manual, "TextGrid file formats")."""
    tiers = {
        "words": [(word.start, word.end, word.text) for word in track.words],
        "phonemes": [(one.start, one.end, one.code) for word in track.words for one in word.phonemes],
    }
    lines = ['File type = "ooTextFile"', 'Object class = "TextGrid"', "", "xmin = 0", f"xmax = {track.seconds:.6f}"]
    lines += ["tiers? <exists>", f"size = {len(tiers)}", "item []:"]
    for number, (name, spans) in enumerate(tiers.items(), 1):
        whole = _without_gaps(spans, track.seconds)
        lines += [f"    item [{number}]:", '        class = "IntervalTier"', f'        name = "{name}"']
        lines += [
            "        xmin = 0",
            f"        xmax = {track.seconds:.6f}",
            f"        intervals: size = {len(whole)}",
        ]
        for place, (start, end, text) in enumerate(whole, 1):
            said = text.replace('"', '""')
            lines += [f"        intervals [{place}]:", f"            xmin = {start:.6f}"]
            lines += [f"            xmax = {end:.6f}", f'            text = "{said}"']
    return "\n".join(lines) + "\n"


def _without_gaps(spans: list[tuple[float, float, str]], seconds: float) -> list[tuple[float, float, str]]:
    whole, at = [], 0.0
    for start, end, text in spans:
        if start > at:
            whole.append((at, start, ""))
        whole.append((start, end, text))
        at = end
    if at < seconds or not whole:
        whole.append((at, seconds, ""))
    return whole


def _table(track: Track) -> str:
    """A line for each phoneme, for a spreadsheet."""
    stream = io.StringIO()
    table = csv.writer(stream, lineterminator="\n")
    table.writerow(("word", "phoneme", "start", "end"))
    for word in track.words:
        table.writerows((word.text, one.code, f"{one.start:.3f}", f"{one.end:.3f}") for one in word.phonemes)
    return stream.getvalue()


FORMS: Mapping[str, Callable[[Track], str]] = {
    ".TextGrid": _textgrid, ".vtt": _webvtt, ".json": _json, ".csv": _table,
}  # fmt: skip


def form_of(suffix: str) -> Callable[[Track], str]:
    """What writes a track in the form that a file's ending asks for; FormatError for others."""
    form = next((form for own, form in FORMS.items() if own.lower() == suffix.lower()), None)
    if form is None:
        raise FormatError(f"Tracks are not written as '{suffix}'.", expected=".TextGrid, .vtt, .json or .csv")
    return form


def checked(track: Track) -> Track:
    """A track in the order of its times. Raises FormatError or LimitError where it says what no time is."""
    phonemes = track.phonemes
    if len(track.words) + len(phonemes) > MOST:
        raise LimitError(f"{len(track.words) + len(phonemes):,} words and phonemes are too many.")
    spans = [(one.text, one.start, one.end) for one in track.words]
    spans += [(one.code, one.start, one.end) for one in phonemes]
    for name, start, end in spans:
        if not (0 <= start <= end <= _LATEST):  # a time that is no number fails too
            raise FormatError(
                f"'{name}' lies from {start} to {end} s.", expected="a start of 0 or later, and an end behind it"
            )
    words = [
        replace(word, phonemes=tuple(sorted(word.phonemes, key=lambda one: (one.start, one.end))))
        for word in sorted(track.words, key=lambda word: (word.start, word.end))
    ]
    last = max((end for _, _, end in spans), default=0.0)
    seconds = track.seconds if 0 <= track.seconds <= _LATEST else 0.0
    return replace(track, words=tuple(words), seconds=max(seconds, last))


def joined(words: Iterable[Word], phonemes: Sequence[Phoneme], seconds: float = 0.0) -> Track:
    """Words and phonemes that were told apart from each other: each phoneme belongs to the word around its middle.

    Those that lie in none are words without a text, as many as there are gaps between them.
    """
    found = sorted(words, key=lambda word: word.start)
    starts = [word.start for word in found]
    own: list[list[Phoneme]] = [[] for _ in found]
    free: list[list[Phoneme]] = []
    for one in sorted(phonemes, key=lambda one: one.start):
        middle = (one.start + one.end) / 2
        place = bisect_right(starts, middle) - 1
        if place >= 0 and middle <= found[place].end:
            own[place].append(one)
        elif free and abs(free[-1][-1].end - one.start) < 1e-4:
            free[-1].append(one)
        else:
            free.append([one])
    made = [replace(word, phonemes=tuple(some)) for word, some in zip(found, own, strict=True)]
    made += [Word("", some[0].start, some[-1].end, tuple(some)) for some in free]
    return checked(Track(seconds, tuple(made)))


_TRACK: TypeAdapter[Track] = TypeAdapter(Track)


def _of_json(text: str) -> Track:
    try:
        return checked(_TRACK.validate_json(text))
    except ValidationError as error:
        first = error.errors()[0]
        raise FormatError(f"{'.'.join(map(str, first['loc']))}: {first['msg']}") from None


#: Praat reads free-standing texts and numbers and passes over all else (its manual, "TextGrid file formats")
_TOKEN = re.compile(r'"(?:[^"]|"")*"|(?<!\S)<(?:exists|absent)>|(?<!\S)[-+]?\d[\d.eE+-]*(?!\S)')


def _of_textgrid(text: str) -> Track:
    tokens = iter(_TOKEN.findall(text))

    def word() -> str:
        token = next(tokens)
        if not token.startswith('"'):
            raise FormatError(f"A TextGrid has a text where '{token}' stands.")
        return str(token[1:-1].replace('""', '"'))

    tiers: list[tuple[str, list[tuple[float, float, str]]]] = []
    try:
        if (word(), word()) != ("ooTextFile", "TextGrid"):
            raise FormatError("This is no TextGrid.", offset=0, expected='"ooTextFile" and "TextGrid"')
        _, seconds, _ = float(next(tokens)), float(next(tokens)), next(tokens)
        for _ in range(int(next(tokens))):
            sort, name = word(), word()
            _, _, count = next(tokens), next(tokens), int(next(tokens))
            spans = []
            for _ in range(count):
                start = float(next(tokens))
                end = float(next(tokens)) if sort == "IntervalTier" else start
                spans.append((start, end, word()))
            if sort == "IntervalTier":
                tiers.append((name, spans))
    except StopIteration:
        raise FormatError("The TextGrid is cut off.", remedy="Save it again.") from None
    except ValueError as error:
        raise FormatError(f"This is no TextGrid: {error}.") from None
    if not tiers:
        raise FormatError("There is no tier of intervals in it.", expected="a tier 'words', and 'phonemes'")
    sounds = next((spans for name, spans in tiers if "phon" in name.lower()), None)
    words = next((spans for name, spans in tiers if "word" in name.lower()), None)
    if sounds is None and words is None:  # by their order
        words, sounds = tiers[0][1], tiers[1][1] if len(tiers) > 1 else None
    elif words is None:
        words = next((spans for _, spans in tiers if spans is not sounds), None)
    return joined(
        (Word(said, start, end, ()) for start, end, said in words or () if said.strip()),
        [Phoneme(said, start, end) for start, end, said in sounds or () if said.strip()],
        seconds,
    )


_CUE = re.compile(r"^(?:(\d+):)?(\d{2}):(\d{2})\.(\d{3})\s+-->\s+(?:(\d+):)?(\d{2}):(\d{2})\.(\d{3})")


def _of_webvtt(text: str) -> Track:
    lines = text.replace("\r\n", "\n").replace("\r", "\n").split("\n")
    if not lines[0].startswith("WEBVTT"):
        raise FormatError("This is no WebVTT.", offset=0, expected="WEBVTT")
    words: list[Word] = []
    for number, line in enumerate(lines):
        found = _CUE.match(line)
        if found is None:
            continue
        times = [int(one or 0) for one in found.groups()]
        start, end = (
            hours * 3600 + minutes * 60 + whole + parts / 1000
            for hours, minutes, whole, parts in (times[:4], times[4:])
        )
        said = []
        for more in lines[number + 1 :]:
            if not more.strip():
                break
            said.append(more)
        text = html.unescape(re.sub(r"<[^>]*>", "", " ".join(said)))
        words += _spread(re.split(r"[ \t]+", text.strip()), start, end)
    return checked(Track(0.0, tuple(words)))


def _spread(texts: list[str], start: float, end: float) -> list[Word]:
    """Words of a cue that has several, by their letters."""
    whole, at, found = sum(map(len, texts)), start, []
    for text in texts:
        until = at + (end - start) * len(text) / max(whole, 1)
        found.append(Word(text, round(at, 4), round(until, 4), ()))
        at = until
    return found


def _of_table(text: str) -> Track:
    table = csv.DictReader(io.StringIO(text))
    words: list[Word] = []
    try:
        if not {"start", "end"} <= set(table.fieldnames or ()):
            raise FormatError("The table has no columns 'start' and 'end'.", expected="word,phoneme,start,end")
        for row in table:
            start, end = float(row["start"]), float(row["end"])
            said, code = (row.get("word") or "").strip(), (row.get("phoneme") or "").strip()
            own = (Phoneme(code, start, end),) if code else ()
            last = words[-1] if words else None
            goes_on = last is not None and code and last.phonemes and last.text == said
            if last is not None and goes_on and abs(last.end - start) < 2e-3:
                words[-1] = replace(last, end=end, phonemes=(*last.phonemes, *own))
            else:
                words.append(Word(said, start, end, own))
    except (TypeError, ValueError, csv.Error) as error:
        raise FormatError(f"Line {table.line_num} of the table: {error}.") from None
    return checked(Track(0.0, tuple(words)))


_READ: Mapping[str, Callable[[str], Track]] = {
    ".textgrid": _of_textgrid, ".vtt": _of_webvtt, ".json": _of_json, ".csv": _of_table,
}  # fmt: skip


def read(data: bytes, suffix: str) -> Track:
    """A track from a file of one of the open forms. Raises one of Brae's errors where it is none."""
    form = _READ.get(suffix.lower())
    if form is None:
        raise FormatError(f"Tracks are not read from '{suffix}'.", expected=", ".join(FORMS))
    try:
        # Praat writes UTF-16 where there are other letters than ASCII's.
        text = data.decode("utf-16" if data[:2] in (b"\xff\xfe", b"\xfe\xff") else "utf-8-sig")
    except UnicodeDecodeError:
        text = data.decode("latin-1")
    return form(text)
