"""Voice tracks by their layouts. The files are laid out here by hand, with ``struct`` and format strings."""

from __future__ import annotations

import io
import struct
from dataclasses import replace
from typing import Any

import numpy as np
import pytest
import soundfile
from hypothesis import given
from hypothesis import strategies as st

from brae.core.assets.base import Context, ExchangeFile, Version
from brae.core.assets.track.kind import KIND
from brae.core.assets.track.trackfile import TrackFile
from brae.core.errors import BraeError, FormatError, LayoutError
from brae.core.layouts.library import Library
from brae.core.layouts.load import parse
from brae.core.voices.track import Phoneme, Track, Word, form_of

HEAD = "layout: {name}\ntitle: T\nkind: track\nmatch: {{names: ['*.{name}']}}\n"
#: what a layout says, and the file that it describes: two words, "rain" and "again", with their phonemes
SAID = [("rain", 0.1, 0.5, ["R", "EY", "N"]), ("again", 0.5, 1.1, ["AH", "G", "EH", "N"])]
CODES = ["silence", "R", "EY", "N", "AH", "G", "EH", "M"]
VALUES = ", ".join(f"{number}: {code}" for number, code in enumerate(CODES))


def spans() -> list[tuple[str, str, float, float]]:
    """Word, phoneme, start and end of each."""
    found = []
    for word, start, end, codes in SAID:
        step = (end - start) / len(codes)
        found += [(word, code, start + at * step, start + (at + 1) * step) for at, code in enumerate(codes)]
    return found


def millis(seconds: float) -> int:
    return round(seconds * 1000)


#: phonemes and silence in records of milliseconds, each with a byte that nobody explained
PTR = (
    """parts:
  - {field: magic, type: string, length: 4, value: MTH1}
  - {field: count, type: u16, is: count(moments)}
  - table: moments
    count: count
    record:
      - {field: at, type: u32, role: time-start}
      - {field: lasts, type: u16, role: time-length}
      - {field: shape, type: u8, role: phoneme, values: {VALUES}}
      - {field: spare, type: u8}
  - {track: said, of: moments, sound: "voices/{stem}.wav"}
""".replace("VALUES", VALUES),
    b"MTH1"
    + struct.pack("<H", 9)
    + struct.pack("<IHBB", 0, 100, 0, 9)
    + b"".join(
        struct.pack("<IHBB", millis(start), millis(end) - millis(start), CODES.index(code), 40 + at)
        for at, (_, code, start, end) in enumerate(spans())
    )
    + struct.pack("<IHBB", 1100, 300, 0, 7),
)
#: words alone, in seconds as floats, big-endian
FLT = (
    """endian: big
parts:
  - {field: count, type: u32, is: count(words)}
  - table: words
    count: count
    record:
      - {field: begin, type: f32, role: time-start}
      - {field: end, type: f32, role: time-end}
      - {field: text, type: string, length: 12, role: name}
  - {track: said, of: words, per_second: 1}
""",
    struct.pack(">I", 2)
    + b"".join(struct.pack(">ff12s", start, end, word.encode()) for word, start, end, _ in SAID),
)
#: words and then phonemes and an event, told apart by a number, in samples of a rate that the header says
LVL = (
    """parts:
  - {field: rate, type: u32}
  - {field: count, type: u8, is: count(moments)}
  - table: moments
    count: count
    record:
      - {field: level, type: u8, role: track-level, values: {1: word, 2: phoneme, 7: blink}}
      - {field: begin, type: u32, role: time-start}
      - {field: end, type: u32, role: time-end}
      - {field: code, type: string, length: 4, role: phoneme}
      - {field: text, type: string, length: 8, role: name}
  - {track: said, of: moments, per_second: rate}
""",
    struct.pack("<IB", 22050, 10)
    + b"".join(
        struct.pack("<BII4s8s", 1, round(start * 22050), round(end * 22050), b"", word.encode())
        for word, start, end, _ in SAID
    )
    + b"".join(
        struct.pack("<BII4s8s", 2, round(start * 22050), round(end * 22050), code.encode(), b"")
        for _, code, start, end in spans()
    )
    + struct.pack("<BII4s8s", 7, 5000, 5001, b"", b""),
)
OWN = {"R": "r", "EY": "e", "N": "n", "AH": "a", "G": "g", "EH": "h"}
#: a text of frames, with a comment, and codes of the game's own
TXT = (
    """parts:
  - {track: said, line: "{start} {end} {code}", per_second: 100,
     codes: {x: silence, r: R, e: EY, n: N, a: AH, g: G, h: EH}}
""",
    (
        "; mouth of the postwoman\r\n"
        + "".join(f"{round(start * 100)}\t{round(end * 100)} {OWN[code]}\r\n" for _, code, start, end in spans())
        + "end"
    ).encode(),
)
#: a word at each of its phonemes
PIP = (
    """parts:
  - {track: said, line: "{word}|{code}|{start}|{length}", per_second: 1, decimals: 4}
""",
    "".join(f"{word}|{code}|{start:.4f}|{end - start:.4f}\n" for word, code, start, end in spans()).encode(),
)
FORMS = {"ptr": PTR, "flt": FLT, "lvl": LVL, "txt": TXT, "pip": PIP}


def context(name: str, sound: bytes | None = None) -> Context:
    layout = parse(HEAD.format(name=name) + FORMS[name][0])
    fetch: dict[str, Any] = {} if sound is None else {"fetch": lambda _: sound}
    return Context(Library({name: layout}), f"mouths/line.{name}", **fetch)


def opened(name: str, sound: bytes | None = None) -> TrackFile:
    return KIND.read(FORMS[name][1], context(name, sound))


def match(original: TrackFile, track: Track, *remedies: str) -> tuple[dict[str, Any], TrackFile]:
    file = ExchangeFile("x.json", form_of(".json")(track).encode())
    sheet, made = KIND.match(original, Version(file, remedies), {})
    return {one.id: one for one in sheet.findings}, KIND.again(original, made)


@pytest.mark.parametrize("name", FORMS)
def test_what_is_said_is_read_and_written_as_it_was(name: str) -> None:
    original = opened(name)
    assert KIND.rebuild(original) == FORMS[name][1]
    words, codes = original.holds
    if words:
        assert [(word.text, round(word.start, 2), round(word.end, 2)) for word in original.track.words] == [
            (word, start, end) for word, start, end, _ in SAID
        ]
    if codes:
        for one, (_, code, start, end) in zip(original.track.phonemes, spans(), strict=True):
            assert one.code == code
            assert (one.start, one.end) == pytest.approx((start, end), abs=0.006)
    sent = KIND.send(original)
    sheet, made = KIND.match(original, Version(sent), {})
    assert made.data == FORMS[name][1], "out as a TextGrid and back"
    assert not sheet.findings
    assert KIND.rebuild(KIND.again(original, made)) == made.data


@pytest.mark.parametrize("name", FORMS)
@given(shift=st.floats(0.02, 3), stretch=st.floats(0.5, 3), drop=st.integers(0, 1))
def test_other_times_are_stored_to_what_the_file_counts_in(
    name: str, shift: float, stretch: float, drop: int
) -> None:
    original = opened(name)

    def at(seconds: float) -> float:
        return seconds * stretch + shift

    track = replace(
        original.track,
        words=tuple(
            Word(
                word.text, at(word.start), at(word.end),
                tuple(Phoneme(one.code, at(one.start), at(one.end)) for one in word.phonemes),
            )
            for word in original.track.words[min(drop, len(original.track.words) - 1) :]
        ),
        seconds=0.0,
    )  # fmt: skip
    found, result = match(original, track)
    assert not set(found) - {"short", "text"}
    step = 1 / original.per_second if name != "flt" else 1e-5
    for one, wanted in zip(result.track.words, track.words, strict=True):
        assert one.text == wanted.text or not original.holds[0]
        assert (one.start, one.end) == pytest.approx((wanted.start, wanted.end), abs=step)
        for phoneme, other in zip(one.phonemes, wanted.phonemes, strict=True):
            assert phoneme.code == other.code
            assert (phoneme.start, phoneme.end) == pytest.approx((other.start, other.end), abs=step)
    assert KIND.rebuild(result) == result.data


def test_what_nobody_explained_stays_and_silence_follows() -> None:
    original = opened("ptr")
    words = list(original.track.words)
    phonemes = list(words[0].phonemes)
    phonemes[-1] = replace(phonemes[-1], end=phonemes[-1].end - 0.02)
    words[0] = replace(words[0], phonemes=tuple(phonemes))
    _, result = match(original, Track(0.0, tuple(words)))
    records = [result.data[6 + 8 * at : 14 + 8 * at] for at in range((len(result.data) - 6) // 8)]
    before = [FORMS["ptr"][1][6 + 8 * at : 14 + 8 * at] for at in range(9)]
    assert set(before) - set(records) == set(before[7:]), "two records are others"
    assert records[7:] == [struct.pack("<IHBB", 950, 130, 3, 46), struct.pack("<IHBB", 1080, 320, 0, 7)]
    other = opened("lvl")
    _, moved = match(other, replace(other.track, words=other.track.words[:1]))
    assert moved.data.endswith(FORMS["lvl"][1][-21:]), "the blink is no word, and stays"
    text = opened("txt")
    _, cut = match(text, replace(text.track, words=()))
    assert cut.data == b"; mouth of the postwoman\r\nend"


def test_pauses_that_the_file_does_not_spell_out_stay_unsaid() -> None:
    """Silence is an entry where it lasts, and nothing where it is short."""
    lines = [(10, 20, "r"), (23, 30, "a"), (30, 80, "x"), (80, 95, "n"), (97, 110, "g")]
    data = "".join(f"{start} {end} {code}\n" for start, end, code in lines).encode()
    original = KIND.read(data, context("txt"))
    assert KIND.rebuild(original) == data
    words = list(original.track.words)
    first = replace(words[0], phonemes=(replace(words[0].phonemes[0], start=0.05),), start=0.05)
    _, result = match(original, replace(original.track, words=(first, *words[1:])))
    assert result.data == data.replace(b"10 20 r", b"5 20 r")


def test_sections_of_a_text_stay_where_they_are() -> None:
    text = """parts:
  - {track: said, line: "{level} {start} {end} {word}/{code}", per_second: 1, decimals: 2,
     levels: {W: word, P: phoneme}}
"""
    layout = parse(HEAD.format(name="sec") + text)
    data = b"[words]\nW 0.10 0.50 rain/-\nW 0.50 1.10 again/-\n\n[phonemes]\n"
    data += b"".join(b"P %.2f %.2f /%s\n" % (start, end, code.encode()) for _, code, start, end in spans())
    original = KIND.read(data, Context(Library({"sec": layout}), "a.sec"))
    assert KIND.rebuild(original) == data
    assert [word.text for word in original.track.words] == ["rain", "again"]
    words = list(original.track.words)
    _, result = match(original, replace(original.track, words=(replace(words[0], start=0.05), words[1])))
    assert result.data == data.replace(b"W 0.10 0.50", b"W 0.05 0.50")


def test_phonemes_that_the_game_does_not_know_are_the_ones_that_look_alike() -> None:
    original = opened("ptr")
    track = Track(
        0.0, (Word("bet", 0.1, 0.4, (Phoneme("B", 0.1, 0.2), Phoneme("AE1", 0.2, 0.3), Phoneme("N", 0.3, 0.4))),)
    )
    found, result = match(original, track)
    assert found["phonemes"].title.endswith("AE1 as EY, B as M")
    assert [one.code for one in result.track.phonemes] == ["M", "EY", "N"]


def overlapping() -> Track:
    return Track(
        0.0,
        (
            Word("rain", 0.1, 0.6, (Phoneme("R", 0.1, 0.3), Phoneme("N", 0.4, 0.6))),
            Word("again", 0.5, 2.5, (Phoneme("AH", 0.5, 0.51), Phoneme("N", 0.51, 2.5))),
        ),
    )


def test_overlaps_gaps_and_what_lies_after_the_end_are_told_and_put_right() -> None:
    stream = io.BytesIO()
    soundfile.write(stream, np.zeros(2 * 8000), 8000, format="WAV")
    original = opened("ptr", stream.getvalue())
    assert original.sound == "voices/line.wav"
    found, _ = match(original, overlapping())
    assert set(found) == {"overlap", "gap", "after-end", "short"}
    assert found["overlap"].others[0].id == "later"
    _, right = match(original, overlapping(), "earlier", "close", "cut")
    assert [(one.code, millis(one.start), millis(one.end)) for one in right.track.phonemes] == [
        ("R", 100, 400), ("N", 400, 600), ("N", 600, 2000),
    ]  # fmt: skip
    _, later = match(original, overlapping(), "later", "close", "cut")
    assert [(one.code, millis(one.start), millis(one.end)) for one in later.track.phonemes] == [
        ("R", 100, 400), ("N", 400, 500), ("AH", 500, 510), ("N", 510, 2000),
    ]  # fmt: skip


def test_words_alone_lose_phonemes_and_say_so() -> None:
    original = opened("flt")
    found, result = match(original, opened("pip").track)
    assert "words-only" in found
    assert [word.text for word in result.track.words] == ["rain", "again"]
    with pytest.raises(FormatError, match="too long"):
        match(original, Track(0.0, (Word("extraordinarily", 0, 1, ()),)))
    stops, _ = match(opened("ptr"), Track(0.0, (Word("rain", 0, 1, ()),)))
    assert stops["no-phonemes"].severity == "stops"


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        ("role: time-start", "role: action", "needs the role time-start"),
        ("of: moments, sound", "of: moment, sound", "needs the table 'moment'; did you mean 'moments'"),
        ('sound: "voices/{stem}.wav"', "line: '{start} {end} {code}'", "one of them"),
        ("voices/{stem}.wav", "../{stem}.wav", "leads out of"),
        ("of: moments, sound", "of: moments, per_second: rate, sound", "which no field says"),
    ],
)
def test_layouts_are_refused_in_words(old: str, new: str, words: str) -> None:
    text = HEAD.format(name="ptr") + PTR[0]
    assert old in text
    with pytest.raises(LayoutError) as caught:
        parse(text.replace(old, new))
    assert words in str(caught.value.as_dict())


@given(st.sampled_from(sorted(FORMS)), st.integers(0, 200), st.binary(min_size=1, max_size=4), st.booleans())
def test_damaged_tracks_are_refused_or_kept(name: str, at: int, what: bytes, cut: bool) -> None:
    data = bytearray(FORMS[name][1])
    at %= len(data)
    data[at : at + len(what)] = what
    whole = bytes(data[:at] if cut else data)
    try:
        found = KIND.read(whole, context(name))
        assert KIND.rebuild(found) is not None
        KIND.send(found)
    except BraeError as error:
        assert str(error)


@pytest.mark.parametrize("more", ["{code.__class__}", "{}", "}", "{0}", "{code!r}"])
def test_a_line_of_a_layout_has_words_in_braces_and_nothing_else(more: str) -> None:
    """Layouts come from strangers."""
    text = HEAD.format(name="txt") + "parts:\n  - {track: said, line: '{start} {end} {code} " + more + "'}\n"
    with pytest.raises(LayoutError):
        parse(text)


def test_numbers_are_stored_as_their_own_fields_have_them() -> None:
    """A field of the other byte order, a shape that is some bits of a byte, and times of 64 bits."""
    text = HEAD.format(name="mix") + (
        "parts:\n"
        "  - {field: count, type: u8, is: count(moves)}\n"
        "  - table: moves\n"
        "    count: count\n"
        "    record:\n"
        "      - {field: begin, type: f64, endian: big, role: time-start}\n"
        "      - {field: end, type: f64, endian: big, role: time-end}\n"
        "      - {field: shape, type: u16, endian: big, role: phoneme, values: {300: AA, 301: M}}\n"
        "  - {track: said, of: moves, per_second: 1}\n"
    )
    data = b"\x02" + struct.pack(">ddH", 0.1, 0.25, 300) + struct.pack(">ddH", 0.25, 0.3, 301)
    original = KIND.read(data, Context(Library({"mix": parse(text)}), "a.mix"))
    assert KIND.rebuild(original) == data
    assert [one.code for one in original.track.phonemes] == ["AA", "M"]
    word = original.track.words[0]
    changed = replace(word.phonemes[1], code="AA", end=0.123456789012 + 0.3)
    _, result = match(original, Track(0.0, (replace(word, phonemes=(word.phonemes[0], changed)),)))
    assert result.data == data[:19] + struct.pack(">ddH", 0.25, 0.123456789012 + 0.3, 300)


def test_other_words_than_the_originals_are_told() -> None:
    original = opened("flt")
    same = Track(
        0.0, tuple(Word(word.text.upper() + ",", word.start, word.end, ()) for word in original.track.words)
    )
    assert "text" not in match(original, same)[0]
    found, _ = match(original, Track(0.0, (Word("snow", 0, 1, ()),)))
    assert found["text"].severity == "note"
    assert "snow" in found["text"].title
