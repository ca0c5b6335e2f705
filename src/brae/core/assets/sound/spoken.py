"""Words and phonemes in the cue points of a WAVE file, as a layout says: read and written as a voice track.

A cue point has a number; the 'adtl' list has labels ('labl'), notes ('note') and labelled texts ('ltxt', with a
length in samples) by these numbers (Microsoft and IBM, Multimedia Programming Interface 1.0, 1991). Each point is
taken for a line of a text, its two times and what is said of it, so that all that tracks can do holds here too.
"""

from __future__ import annotations

import struct
from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import chain

from brae.core.assets.sound.riff import Chunk, Riff, at_rate
from brae.core.assets.sound.sound import Sound, read
from brae.core.assets.track import trackfile
from brae.core.assets.track.trackfile import TrackFile
from brae.core.layouts.model import Layout
from brae.core.layouts.tracks import TrackPart
from brae.core.voices.phonemes import SILENCE
from brae.core.voices.track import Track

_PLACES = {"label": b"labl", "note": b"note", "text": b"ltxt"}
#: what stands in 'ltxt' between its length and its text: purpose, country, language, dialect, code page
_PURPOSE = b"rgn " + bytes(8)


@dataclass(frozen=True)
class Point:
    """A cue point: its number, its sample, how many samples it lasts (None: until the next), what is said of it.

    Of one with ``text`` None nothing is said in that place, so it is no word and no phoneme.
    """

    number: int
    sample: int
    span: int | None
    text: str | None


@dataclass(frozen=True)
class _Notes:
    """A 'cue ' chunk as points, and an 'adtl' list as its pieces (kind, number, the rest)."""

    records: dict[int, bytes]
    points: tuple[Point, ...]
    pieces: tuple[tuple[bytes, bytes], ...]


def _taken(notes: tuple[bytes, bytes] | None, place: str) -> _Notes:
    chunk, said = notes or (bytes(4), b"adtl")
    pieces, at = [], 4
    while at + 8 <= len(said):
        size = int.from_bytes(said[at + 4 : at + 8], "little")
        pieces.append((said[at : at + 4], said[at + 8 : at + 8 + size]))
        at += 8 + size + size % 2
    texts: dict[int, str] = {}
    spans: dict[int, int] = {}
    for kind, body in pieces:
        number = int.from_bytes(body[:4], "little")
        if kind == b"ltxt" and len(body) >= 8:
            spans[number] = int.from_bytes(body[4:8], "little")
        if kind == _PLACES[place]:
            text = body[20:] if kind == b"ltxt" else body[4:]
            texts[number] = _words(text)
    count = min(int.from_bytes(chunk[:4], "little"), (len(chunk) - 4) // 24)
    records = {}
    points = []
    for index in range(count):
        record = chunk[4 + 24 * index : 28 + 24 * index]
        number, sample = int.from_bytes(record[:4], "little"), int.from_bytes(record[20:24], "little")
        records[number] = record
        points.append(Point(number, sample, spans.get(number) or None, texts.get(number)))
    return _Notes(records, tuple(points), tuple(pieces))


def _words(text: bytes) -> str:
    """A text of the list in one line."""
    return " ".join(text.split(b"\0")[0].decode("utf-8", "replace").split())


def _part(layout: Layout) -> TrackPart:
    part: TrackPart = layout.only(TrackPart)
    return part


def _layout(spoken: TrackFile) -> Layout:
    assert spoken.described is not None
    return spoken.described


def _lines(points: Sequence[Point], part: TrackPart, frames: int) -> list[str]:
    """Each point as a line: its first sample, the one behind its last, and what is said of it."""
    lines: list[str] = []
    #: of each level the next sample at which something begins, and the one behind it
    following: dict[str | None, tuple[int, int]] = {}
    for point in reversed(points):
        if point.text is None:
            continue
        level, last = _level(part, point.text), max(frames, point.sample)
        first, second = following.get(level, (last, last))
        end = second if first == point.sample else first
        following[level] = point.sample, end
        lines.append(f"{point.sample} {end if point.span is None else point.sample + point.span} {point.text}")
    return lines[::-1]


def _level(part: TrackPart, text: str) -> str | None:
    """Whether a text is a word or a phoneme, where that is said; None of what is neither."""
    found = part.pattern.fullmatch(text)
    return None if found is None else part.levels.get(found.groupdict().get("level") or "", "")


def of(sound: Sound, layout: Layout, name: str) -> Sound:
    """A sound with its words, as the layout says that its cue points or a chunk of its own hold them."""
    part, notes = _part(layout), sound.notes
    if part.chunk is not None:
        held = sound.riff.get(part.chunk.encode()) if sound.riff is not None else None
        found = None if held is None else replace(trackfile.read(layout, held, name), described=layout)
        return replace(sound, spoken=found)
    points = sorted(_taken(notes, part.cues or "label").points, key=lambda one: one.sample)
    lines = _lines(points, part, sound.frames)
    return replace(sound, spoken=_file(layout, part, lines, sound.rate, name))


def _file(layout: Layout, part: TrackPart, lines: Sequence[str], rate: int, name: str) -> TrackFile:
    line = part.model_copy(
        update={"line": f"{{start}} {{end}} {part.line}", "per_second": float(rate), "cues": None, "decimals": 0}
    )
    line.__dict__.pop("pattern", None)  # of the line before
    own = layout.model_copy(update={"parts": [line]})
    found = trackfile.read(own, "".join(f"{one}\n" for one in lines or [""]).encode(), name)
    return replace(found, described=layout)


def beside(original: Sound, came: Sound) -> Sound:
    """A file that came back with its words, as the original's layout has them; the original's where it has none."""
    spoken: TrackFile = original.spoken
    if _part(_layout(spoken)).cues is not None and came.notes is None:
        return original
    found = of(came, _layout(spoken), spoken.name)
    return original if found.spoken is None else found


def notes_of(sound: Sound, track: Track, frames: int) -> tuple[bytes, bytes]:
    """A sound's cue points and what is said of them with other words and phonemes, at its rate.

    Points that say the same at the same time stay as they are; others keep what is said of them elsewhere. Raises
    FormatError where a word or a phoneme cannot be said so.
    """
    spoken: TrackFile = sound.spoken
    part = _part(_layout(spoken))
    before = _taken(sound.notes, part.cues or "label")
    wanted = [line for line in spoken.rewrite(track).decode().splitlines() if line]
    ordered = sorted(before.points, key=lambda one: one.sample)
    if wanted == _lines(ordered, part, sound.frames) and sound.notes is not None:
        points: tuple[bytes, bytes] = sound.notes
        return points
    lasting = part.spans or any(one.span is not None for one in before.points)
    made = _points(wanted, part, frames, lasting=lasting)
    same: dict[tuple[int, str], list[int]] = {}
    for one in ordered:
        if one.text is not None:
            same.setdefault((one.sample, one.text), []).append(one.number)
    kept = [same[key].pop(0) if same.get(key := (one.sample, one.text or "")) else None for one in made]
    left = [number for numbers in same.values() for number in numbers]
    free = chain(left, range(max(before.records, default=0) + 1, 1 << 32))
    numbered = [
        replace(one, number=next(free) if number is None else number)
        for one, number in zip(made, kept, strict=True)
    ]
    numbered += [one for one in ordered if one.text is None]
    return _chunks(before, sorted(numbered, key=lambda one: one.sample), _PLACES[part.cues or "label"])


def _points(lines: Sequence[str], part: TrackPart, frames: int, *, lasting: bool) -> list[Point]:
    found = []
    for line in lines:
        start, end, text = (*line.split(" ", 2), "")[:3]
        sample = min(int(start), max(frames - 1, 0))
        # What is neither a word nor a phoneme has the length that it has.
        lasts = lasting and _level(part, text) is not None
        found.append(Point(0, sample, max(int(end) - sample, 1) if lasts else None, text))
    if lasting:
        return found
    # What ends before the next begins is followed by a point that says so.
    silent = next((own for own, meant in part.codes.items() if meant.lower() in SILENCE), "")
    ends = [int(line.split(" ", 2)[1]) for line in lines]
    levels = [_level(part, one.text or "") for one in found]
    marks = {meant: own for own, meant in part.levels.items()}
    begun = {(level, one.sample) for one, level in zip(found, levels, strict=True)}
    for level, stop in zip(levels, ends, strict=True):
        if level is not None and stop < frames - 1 and (level, stop) not in begun:
            begun.add((level, stop))
            text = part.written({"level": marks.get(level, ""), "word": silent, "code": silent or "-"})
            found.append(Point(0, stop, None, " ".join(text.split())))
    return sorted(found, key=lambda one: one.sample)


def _chunks(before: _Notes, points: Sequence[Point], place: bytes) -> tuple[bytes, bytes]:
    records = []
    for point in points:
        record = before.records.get(point.number)
        if record is None:
            record = struct.pack("<II4sIII", point.number, point.sample, b"data", 0, 0, point.sample)
        elif int.from_bytes(record[20:24], "little") != point.sample:
            play = record[4:8] if record[4:8] != record[20:24] else struct.pack("<I", point.sample)
            record = record[:4] + play + record[8:20] + struct.pack("<I", point.sample)
        records.append(record)
    said, own = {one.number: one for one in points}, set()
    pieces: list[tuple[bytes, bytes]] = []
    for kind, body in before.pieces:
        number = int.from_bytes(body[:4], "little")
        of_it = said.get(number)
        if of_it is None:
            if number in before.records:
                continue  # a point that is no more
        elif kind == place:
            own.add(number)
            body = _said(kind, body, of_it)
        elif kind == b"ltxt" and of_it.span is not None and of_it.text is not None:
            body = body[:4] + struct.pack("<I", of_it.span) + body[8:]
        pieces.append((kind, body))
    lasts = {int.from_bytes(body[:4], "little") for kind, body in pieces if kind == b"ltxt"}
    for point in points:
        if point.text is None:
            continue
        if point.number not in own:
            pieces.append((place, _said(place, b"", point)))
        if point.span is not None and place != b"ltxt" and point.number not in lasts:
            pieces.append((b"ltxt", _said(b"ltxt", b"", replace(point, text=""))))
    body_ = b"".join(kind + struct.pack("<I", len(one)) + one + bytes(len(one) % 2) for kind, one in pieces)
    return struct.pack("<I", len(records)) + b"".join(records), b"adtl" + body_


def _said(kind: bytes, before: bytes, point: Point) -> bytes:
    """What is said of a point: as it is, where it says that already."""
    head = struct.pack("<I", point.number)
    if kind == b"ltxt":
        more = before[8:20] if len(before) >= 20 else _PURPOSE
        head += struct.pack("<I", point.span or 0) + more
    text = point.text or ""
    if before and _words(before[len(head) :]) == text:
        return head + before[len(head) :]
    return head + (text.encode() + b"\0" if text or kind != b"ltxt" else b"")


def chunk_of(sound: Sound, track: Track) -> dict[bytes, bytes]:
    """The chunk that says a track, by its name; nothing where cue points say it. FormatError as ``notes_of``."""
    spoken: TrackFile = sound.spoken
    name = _part(_layout(spoken)).chunk
    return {} if name is None else {name.encode(): spoken.rewrite(track)}


def said_in(file: bytes, original: Sound, track: Track) -> bytes:
    """A WAVE file, of whatever rate, in which its cue points say a track; its samples stay."""
    chunk = chunk_of(original, track)
    if chunk:
        riff = Riff.of(file)
        missing = [Chunk(name, b"") for name in chunk if riff.get(name) is None]
        return replace(riff, chunks=(*riff.chunks, *missing)).with_chunks(chunk).data
    came = read(file)
    if came.notes is None and original.notes is not None:
        file = Riff.of(file).with_cues(*at_rate(original.notes, original.rate, came.rate)).data
        came = read(file)
    spoken: TrackFile = original.spoken
    came = of(came, _layout(spoken), spoken.name)
    return Riff.of(file).with_cues(*notes_of(came, track, came.frames)).data
