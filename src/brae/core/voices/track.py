"""Words and phonemes with their times, and the open forms that they are written in."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Callable, Mapping
from dataclasses import asdict, dataclass
from typing import Any

from pydantic import ConfigDict

from brae.core.errors import FormatError

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
