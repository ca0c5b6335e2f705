"""Words and phonemes in the cue points of WAVE files.

The files are written and read here by the published layout of the chunks (Microsoft and IBM, Multimedia Programming
Interface and Data Specifications 1.0, 1991: 'cue ', 'adtl' with 'labl', 'note' and 'ltxt'); no code of Brae.
"""

from __future__ import annotations

import io
import json
import struct
from typing import Any

import numpy as np
import pytest
import soundfile

from brae.core.assets.base import Context, ExchangeFile, NoWords, Version, Viewed
from brae.core.assets.sound.kind import KIND
from brae.core.assets.sound.sound import Sound
from brae.core.assets.track.view import SetWords
from brae.core.errors import BraeError
from brae.core.layouts.library import Library
from brae.core.layouts.load import parse

RATE = 16000
SECONDS = 2

WORDS = "{track: said, cues: label, line: '{word}', spans: true}"
BOTH = "{track: said, cues: note, line: '{level}/{word}', levels: {w: word, p: phoneme}, codes: {sil: silence}}"
CODES = "{track: said, cues: text, line: '{code}', codes: {ah: AH, m: M, rest: silence}}"


def library(part: str) -> Library:
    layout = parse(f"layout: lines\ntitle: Lines\nkind: sound\nmatch: {{names: ['*.wav']}}\nparts: [{part}]\n")
    return Library({layout.layout: layout})


def chunk(name: bytes, body: bytes) -> bytes:
    return name + struct.pack("<I", len(body)) + body + bytes(len(body) % 2)


def line(points: list[tuple[int, int, dict[str, Any]]], more: bytes = b"", rate: int = RATE) -> bytes:
    """A tone with cue points: number, sample, and what is said: label, note, text, span."""
    body = struct.pack("<I", len(points))
    said = b""
    for number, sample, words in points:
        body += struct.pack("<II4sIII", number, sample, b"data", 0, 0, sample)
        for kind, name in (("label", b"labl"), ("note", b"note")):
            if kind in words:
                said += chunk(name, struct.pack("<I", number) + words[kind].encode() + b"\0")
        if "span" in words or "text" in words:
            text = words.get("text", "").encode()
            head = struct.pack("<II4sHHHH", number, words.get("span", 0), b"rgn ", 0, 0, 0, 0)
            said += chunk(b"ltxt", head + (text + b"\0" if text else b""))
    file = io.BytesIO()
    tone = 0.3 * np.sin(np.arange(rate * SECONDS) / 9)
    soundfile.write(file, tone, rate, format="WAV", subtype="PCM_16")
    data = file.getvalue()[12:] + chunk(b"cue ", body) + chunk(b"LIST", b"adtl" + said) + more
    return b"RIFF" + struct.pack("<I", 4 + len(data)) + b"WAVE" + data


def points_of(data: bytes) -> dict[int, dict[str, Any]]:
    """What a file says of each of its cue points."""
    found: dict[int, dict[str, Any]] = {}
    at = 12
    while at + 8 <= len(data):
        name, size = data[at : at + 4], int.from_bytes(data[at + 4 : at + 8], "little")
        body = data[at + 8 : at + 8 + size]
        if name == b"cue ":
            for k in range(int.from_bytes(body[:4], "little")):
                number, _, _, _, _, sample = struct.unpack_from("<II4sIII", body, 4 + 24 * k)
                found[number] = {"sample": sample}
        elif name == b"LIST" and body[:4] == b"adtl":
            place = 4
            while place + 8 <= len(body):
                kind, length = body[place : place + 4], int.from_bytes(body[place + 4 : place + 8], "little")
                one = body[place + 8 : place + 8 + length]
                own = found[int.from_bytes(one[:4], "little")]
                if kind == b"ltxt":
                    own["span"] = int.from_bytes(one[4:8], "little")
                text = one[20 if kind == b"ltxt" else 4 :].split(b"\0")[0].decode()
                if text:
                    own[{b"labl": "label", b"note": "note", b"ltxt": "text"}[kind]] = text
                place += 8 + length + length % 2
        at += 8 + size + size % 2
    return found


def read(data: bytes, part: str) -> Sound:
    found: Sound = KIND.read(data, Context(library(part), "a.wav"))
    return found


def set_words(original: Sound, words: list[dict[str, Any]], version: Version | None = None) -> ExchangeFile:
    sent = ExchangeFile("track.json", json.dumps({"seconds": SECONDS, "words": words}).encode())
    file, done = KIND.changes["set"].make(Viewed(original, None, version), SetWords(), sent)
    assert done == "Words and phonemes"
    return file


def built(original: Sound, file: ExchangeFile, *remedies: str) -> tuple[set[str], bytes]:
    sheet, encoded = KIND.match(original, Version(file, remedies), {})
    return {finding.id for finding in sheet.findings}, encoded.data


def word(
    text: str, start: float, end: float, phonemes: tuple[tuple[str, float, float], ...] = ()
) -> dict[str, Any]:
    codes = [{"code": code, "start": one, "end": other} for code, one, other in phonemes]
    return {"text": text, "start": start, "end": end, "phonemes": codes}


SPANNED = [
    (1, 1600, {"label": "row", "span": 3200, "note": "loud"}),
    (2, 8000, {"label": "before it turns", "span": 8000}),
    (7, 20000, {"note": "breath"}),
]


def test_words_that_last_as_long_as_their_text_says() -> None:
    data = line(SPANNED, chunk(b"LIST", b"INFO" + chunk(b"INAM", b"Tide")))
    original = read(data, WORDS)
    said = [(one.text, one.start, one.end) for one in original.spoken.track.words]
    assert said == [("row", 0.1, 0.3), ("before it turns", 0.5, 1.0)]
    # Nothing changed: the same bytes. A word moved, one more, and one less.
    again = [word(*one) for one in said]
    assert built(original, set_words(original, again)) == (set(), data)
    file = set_words(original, [word("row", 0.15, 0.3), again[1], word("now", 1.2, 1.5)])
    ids, made = built(original, file)
    assert ids == {"text"}
    assert points_of(made) == {
        1: {"sample": 2400, "label": "row", "span": 2400, "note": "loud"},
        2: {"sample": 8000, "label": "before it turns", "span": 8000},
        7: {"sample": 20000, "note": "breath"},
        8: {"sample": 19200, "label": "now", "span": 4800},
    }
    assert b"INAMM" not in made
    assert b"Tide" in made
    samples = [soundfile.read(io.BytesIO(one), dtype="int16")[0] for one in (data, made)]
    assert np.array_equal(*samples)
    fewer = built(original, set_words(original, again[:1]))[1]
    assert set(points_of(fewer)) == {1, 7}


def test_words_and_phonemes_that_last_until_the_next() -> None:
    points = [
        (1, 1600, {"note": "w/row"}), (2, 1600, {"note": "p/R"}), (3, 3200, {"note": "p/OW"}),
        (4, 4800, {"note": "p/sil"}), (5, 4800, {"note": "w/sil"}), (6, 9000, {"label": "step"}),
        (7, 16000, {"note": "w/now"}), (8, 16000, {"note": "p/N"}), (9, 20000, {"note": "p/AW"}),
    ]  # fmt: skip
    data = line([(number, sample, words) for number, sample, words in points])
    original = read(data, BOTH)
    track = original.spoken.track
    assert [(one.text, one.start, one.end) for one in track.words] == [
        ("row", 0.1, 0.3), ("now", 1.0, SECONDS),
    ]  # fmt: skip
    assert [(one.code, one.start, one.end) for one in track.phonemes] == [
        ("R", 0.1, 0.2), ("OW", 0.2, 0.3), ("N", 1.0, 1.25), ("AW", 1.25, SECONDS),
    ]  # fmt: skip
    now = KIND.questions["words"].ask(Viewed(original), NoWords(), None)  # type: ignore[arg-type]
    assert (now.words, now.phonemes, now.step) == (True, True, 1 / RATE)
    same = json.loads(json.dumps([one.__dict__ for one in track.words], default=lambda one: one.__dict__))
    assert built(original, set_words(original, same)) == (set(), data)
    # It ends earlier: a point says that nobody speaks any more; what is neither stays.
    changed = [word("row", 0.1, 0.3, (("R", 0.1, 0.15), ("OW", 0.15, 0.3)))]
    changed += [word("now", 1.0, 1.5, (("N", 1.0, 1.25), ("AW", 1.25, 1.5)))]
    ids, made = built(original, set_words(original, changed))
    assert ids == set()
    after = sorted((one["sample"], one.get("note", one.get("label", ""))) for one in points_of(made).values())
    assert after == [
        (1600, "p/R"), (1600, "w/row"), (2400, "p/OW"), (4800, "p/sil"), (4800, "w/sil"), (9000, "step"),
        (16000, "p/N"), (16000, "w/now"), (20000, "p/AW"), (24000, "p/sil"), (24000, "w/sil"),
    ]  # fmt: skip
    again = read(made, BOTH)
    assert [(one.code, one.start, one.end) for one in again.spoken.track.phonemes][-1] == ("AW", 1.25, 1.5)


def test_codes_of_a_games_own_and_a_sound_without_points() -> None:
    original = read(line([]), CODES)
    assert original.spoken.track.words == ()
    said = [word("", 0.25, 0.75, (("AH0", 0.25, 0.5), ("M", 0.5, 0.75)))]
    file = set_words(original, said)
    _, made = built(original, file)
    assert [(one["sample"], one["text"]) for one in points_of(made).values()] == [
        (4000, "ah"), (8000, "m"), (12000, "rest"),
    ]  # fmt: skip
    phonemes = read(made, CODES).spoken.track.phonemes
    assert [(one.code, one.start, one.end) for one in phonemes] == [("AH", 0.25, 0.5), ("M", 0.5, 0.75)]


LIPS = """
  - {field: count, type: u16, is: count(moves)}
  - table: moves
    count: count
    record:
      - {field: at, type: u16, role: time-start}
      - {field: lasts, type: u16, role: time-length}
      - {field: shape, type: u8, role: phoneme, values: {0: silence, 1: AA, 2: M}}
      - {field: loud, type: u8}
  - {track: said, of: moves, per_second: 100, chunk: "lips"}
"""


def test_words_in_a_chunk_of_the_games_own() -> None:
    layout = parse(f"layout: lips\ntitle: Lips\nkind: sound\nmatch: {{names: ['*.wav']}}\nparts:{LIPS}")
    context = Context(Library({"lips": layout}), "a.wav")
    moves = [(10, 20, 1, 7), (30, 10, 2, 9)]
    body = struct.pack("<H", 2) + b"".join(struct.pack("<HHBB", *one) for one in moves)
    data = line([(1, 400, {"label": "mark"})], chunk(b"lips", body))
    original: Sound = KIND.read(data, context)
    assert [(one.code, one.start, one.end) for one in original.spoken.track.phonemes] == [
        ("AA", 0.1, 0.3), ("M", 0.3, 0.4),
    ]  # fmt: skip
    said = [word("", 0.1, 0.5, (("AA", 0.1, 0.3), ("M", 0.35, 0.5), ("AA", 0.5, 0.6)))]
    file = set_words(original, said)
    _, made = built(original, file)
    at = made.index(b"lips") + 8
    stored = [struct.unpack_from("<HHBB", made, at + 2 + 6 * k) for k in range(3)]
    assert struct.unpack_from("<H", made, at) == (3,)
    assert stored == [(10, 20, 1, 7), (35, 15, 2, 9), (50, 10, 1, 0)]
    assert points_of(made) == {1: {"sample": 400, "label": "mark"}}
    # A program that knows no such chunk takes nothing away.
    other = io.BytesIO()
    soundfile.write(other, 0.2 * np.sin(np.arange(RATE * SECONDS) / 20), RATE, format="WAV", subtype="PCM_16")
    _, again = built(original, ExchangeFile("b.wav", other.getvalue()))
    assert body in again


def test_another_recording_keeps_the_words_and_findings_are_told() -> None:
    """A file of another rate, saved by a program that knows no cue points; then words on it, overlapping."""
    original = read(line(SPANNED), WORDS)
    other = io.BytesIO()
    soundfile.write(other, 0.2 * np.sin(np.arange(48000 * SECONDS) / 20), 48000, format="WAV", subtype="PCM_16")
    version = Version(ExchangeFile("b.wav", other.getvalue()))
    ids, made = built(original, version.file)
    assert "words" in ids
    assert {one["sample"] for one in points_of(made).values()} == {1600, 8000, 20000}
    words = [word("row", 0.2, 0.7), word("before it turns", 0.5, 1.0)]
    file = set_words(original, words, version)
    assert soundfile.info(io.BytesIO(file.data)).samplerate == 48000
    ids, made = built(original, file)
    assert {"overlap", "rate"} <= ids
    assert points_of(made)[1] == {"sample": 3200, "label": "row", "span": 8000, "note": "loud"}
    _, made = built(original, file, "earlier")
    assert points_of(made)[2]["sample"] == 11200
    flac = io.BytesIO()
    soundfile.write(flac, 0.2 * np.sin(np.arange(RATE * SECONDS) / 20), RATE, format="FLAC")
    file = set_words(original, words, Version(ExchangeFile("b.flac", flac.getvalue())))
    assert points_of(file.data)[2]["sample"] == 8000


@pytest.mark.parametrize(
    ("part", "words"),
    [
        ("{track: said, cues: label, line: '{start} {word}'}", "has its times by itself"),
        ("{track: said, cues: label}", "a 'line' of a text"),
        ("{track: said, line: '{start} {end} {word}'}", "only there"),
        ("{track: said, line: '{start} {end} {word}', spans: true}", "is said of cue points"),
        ("{track: said, cues: margin, line: '{word}'}", "cues"),
    ],
)
def test_what_a_layout_cannot_say(part: str, words: str) -> None:
    with pytest.raises(BraeError, match=words):
        library(part)


MARKED = "{track: said, cues: label, line: '{level}:{word}', levels: {w: word}, spans: true}"


def test_points_that_are_no_words_stay_as_they_are() -> None:
    points = [
        (0, 1600, {"label": "w:row", "span": 800}),
        (4, 3000, {"label": "splash"}),
        (5, 9000, {"label": "w:now"}),
    ]
    original = read(line(points), MARKED)
    file = set_words(original, [word("now", 0.5, 0.75), word("row", 0.1, 0.2), word("again", 1.0, 1.5)])
    _, made = built(original, file)
    found = points_of(made)
    assert found[4] == {"sample": 3000, "label": "splash"}
    assert {(one["label"], one["sample"], one.get("span")) for one in found.values()} == {
        ("splash", 3000, None), ("w:row", 1600, 1600), ("w:now", 8000, 4000), ("w:again", 16000, 8000),
    }  # fmt: skip


def test_a_sound_with_too_many_points_is_heard() -> None:
    points = [(number, number, {"label": "la"}) for number in range(20_001)]
    found = read(line(points), WORDS)
    assert found.spoken is None
    assert found.frames == RATE * SECONDS


def test_damaged_points_are_read_as_far_as_they_go() -> None:
    random = np.random.default_rng(6)
    data = line(SPANNED)
    start = data.index(b"cue ")
    for _ in range(200):
        broken = np.frombuffer(data, np.uint8).copy()
        broken[random.integers(start + 8, len(data), 4)] = random.integers(0, 256, 4)
        try:
            original = read(broken.tobytes(), WORDS)
            set_words(original, [word("row", 0.1, 0.3)])
        except BraeError as error:
            assert str(error)
