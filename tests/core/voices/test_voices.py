"""Words and phonemes on a sound.

Truth: espeak-ng's own times (Debian's package), on other sentences than those that the limits were set on.
References: entries of the CMU dictionary, praatio as a reader of TextGrid, the WebVTT format of the W3C.
"""

from __future__ import annotations

import csv
import io
import json
import re
from pathlib import Path

import numpy as np
import pytest
import soundfile
from hypothesis import given
from hypothesis import strategies as st
from praatio import textgrid
from typer.testing import CliRunner

from brae.cli.main import app
from brae.core.errors import BraeError, FormatError
from brae.core.voices import plainly
from brae.core.voices.align import align
from brae.core.voices.track import FORMS, Phoneme, Track, Word, form_of
from brae.core.voices.words import sounds_of, spelt, words_of
from tests.cli.test_cli import brae
from tests.core.voices.spoken import Spoken, speak

#: none of these is among the sentences of the bench
SENTENCES = [
    "the ferry waits for nobody",
    "seventeen stamps and a broken pencil",
    "did you hear the thunder last night",
    "my coat is hanging behind the door",
]


def placed(spoken: Spoken, text: str) -> Track:
    return align(spoken.samples[:, None] / 32768, spoken.rate, text)


@pytest.mark.parametrize("voice", ["en-us", "en-gb"])
def test_words_and_phonemes_are_where_they_are_said(voice: str) -> None:
    words, phonemes = [], []
    for text in SENTENCES:
        spoken = speak(text, voice)
        track = placed(spoken, text)
        assert track.said, track.notes
        assert [word.text for word in track.words] == text.split()
        edges = [edge for word in track.words for one in word.phonemes for edge in (one.start, one.end)]
        assert edges == sorted(edges)
        assert edges[-1] <= track.seconds == pytest.approx(len(spoken.samples) / spoken.rate)
        for number, (word, (_, start)) in enumerate(zip(track.words, spoken.words, strict=True)):
            words.append(abs(word.start - start))
            after = spoken.words[number + 1][1] if number + 1 < len(spoken.words) else np.inf
            own = [at for name, at in spoken.phonemes if start <= at < after and not name.startswith("_")]
            if len(own) == len(word.phonemes):
                phonemes += [abs(one.start - at) for one, at in zip(word.phonemes, own, strict=True)]
    assert np.median(words) <= 0.03
    assert len(phonemes) > 40
    assert np.median(phonemes) <= 0.02


def test_another_sentence_is_noticed_and_so_is_a_word_that_is_not_said() -> None:
    for number, text in enumerate(SENTENCES):
        track = placed(speak(text), SENTENCES[(number + 1) % len(SENTENCES)])
        assert not track.said
        assert "does not sound like the sentence" in track.notes[0]
    track = placed(speak(SENTENCES[0]), "the ferry waits chocolate for nobody")
    assert [word.text for word in track.words if word.doubtful] == ["chocolate"]


def test_what_no_dictionary_has_is_worked_out_and_marked() -> None:
    spoken = speak("the postwoman sleeps in the lighthouse")
    track = placed(spoken, "The postwoman sleeps in the lighthouse!")
    assert track.said
    assert [(word.text, word.spelt) for word in track.words][1] == ("postwoman", True)
    assert "postwoman" in track.notes[-1]
    start = dict(spoken.words)["sleeps"]
    assert next(word for word in track.words if word.text == "sleeps").start == pytest.approx(start, abs=0.06)


def test_the_sounds_of_words() -> None:
    """CMU dictionary: LIGHT L AY T, HOUSE HH AW S; rules are checked on words whose sounds they are made for."""
    known = {"light": "L AY T", "house": "HH AW S"}.get
    assert sounds_of("light", known) == ("L AY T", False)
    assert sounds_of("lighthouse", known) == ("L AY T HH AW S", True)
    assert {word: spelt(word) for word in ("skerry", "brape", "quish", "façade", "ice")} == {
        "skerry": "S K EH R IY", "brape": "B R EY P", "quish": "K W IH SH", "façade": "F AE K EY D", "ice": "AY S",
    }  # fmt: skip
    assert words_of("Bring 217 boats, Mr. O'Neil!") == [
        ("Bring", ["bring"]), ("217", ["two", "hundred", "seventeen"]), ("boats", ["boats"]), ("Mr", ["mr"]),
        ("O'Neil", ["o'neil"]),
    ]  # fmt: skip
    assert words_of("1905") == [("1905", ["one", "thousand", "nine", "hundred", "five"])]
    assert words_of(" ... ") == []


@given(st.text(max_size=30))
def test_any_text_has_sounds_that_the_model_knows(text: str) -> None:
    arpabet = set(re.findall(r"\w+", ARPABET))
    for _, parts in words_of(text):
        for part in parts:
            assert set(sounds_of(part, lambda _: None)[0].split()) <= arpabet


ARPABET = """
AA AE AH AO AW AY B CH D DH EH ER EY F G HH IH IY JH K L M N NG OW OY P R S SH T TH UH UW V W Y Z ZH
"""
TRACK = Track(
    2.0,
    (
        Word("Row", 0.25, 0.5, (Phoneme("R", 0.25, 0.3), Phoneme("OW", 0.3, 0.5))),
        Word('he said "now" & <left>', 0.75, 1.5, (Phoneme("N", 0.75, 1.0), Phoneme("AW", 1.0, 1.5))),
    ),
)


def test_a_textgrid_is_read_by_another_program(tmp_path: Path) -> None:
    file = tmp_path / "line.TextGrid"
    file.write_text(form_of(".TextGrid")(TRACK))
    grid = textgrid.openTextgrid(str(file), includeEmptyIntervals=False)
    assert grid.tierNames == ("words", "phonemes")
    assert (grid.minTimestamp, grid.maxTimestamp) == (0, 2)
    assert [tuple(one) for one in grid.getTier("words").entries] == [
        (0.25, 0.5, "Row"), (0.75, 1.5, 'he said "now" & <left>'),
    ]  # fmt: skip
    assert [one.label for one in grid.getTier("phonemes").entries] == ["R", "OW", "N", "AW"]
    whole = textgrid.openTextgrid(str(file), includeEmptyIntervals=True).getTier("words").entries
    assert [one.label == "" for one in whole] == [True, False, True, False, True]


def test_the_other_forms() -> None:
    cues = re.findall(r"(\S+) --> (\S+)\n(.*)\n", form_of(".vtt")(TRACK))
    assert form_of(".vtt")(TRACK).startswith("WEBVTT\n\n")
    assert cues[0] == ("00:00:00.250", "00:00:00.500", "Row")
    assert cues[1][2] == 'he said "now" &amp; &lt;left&gt;'
    rows = list(csv.DictReader(io.StringIO(form_of(".csv")(TRACK))))
    assert [(row["phoneme"], float(row["start"])) for row in rows] == [
        ("R", 0.25), ("OW", 0.3), ("N", 0.75), ("AW", 1.0),
    ]  # fmt: skip
    assert json.loads(form_of(".json")(TRACK))["words"][0]["phonemes"][1] == {
        "code": "OW",
        "start": 0.3,
        "end": 0.5,
    }
    assert all(form_of(suffix)(Track(0.0)) for suffix in FORMS)
    with pytest.raises(FormatError, match="not written as"):
        form_of(".doc")(TRACK)


@pytest.mark.parametrize(
    ("samples", "text", "words"),
    [
        (np.zeros((16_000, 1)), "hello there", "only silence"),
        (np.random.default_rng(1).normal(0, 0.1, (2000, 1)), "hello there my good friend from afar", "words"),
        (np.ones((16_000, 1)), "...", "no words"),
        (np.ones((16_000 * 130, 1)), "hello", "too many for one line"),
    ],
)
def test_what_cannot_be_placed_is_told(samples: np.ndarray, text: str, words: str) -> None:
    with pytest.raises(BraeError, match=words):
        align(samples, 16_000, text)


def test_noise_and_odd_rates_do_no_harm() -> None:
    noise = np.random.default_rng(2).normal(0, 0.2, (30_000, 2))
    track = align(noise, 11_025, "the boat leaves at seven")
    assert not track.said
    assert track.words[-1].end <= track.seconds


def test_what_a_page_asks_is_the_edit_or_the_original_and_no_hour_of_it() -> None:
    from brae.core.assets.base import Viewed
    from brae.core.assets.sound.kind import KIND, SpokenQuery
    from brae.core.assets.sound.sound import plain, read

    spoken = speak(SENTENCES[0])
    voice = read(plain(spoken.samples[:, None] / 32768, spoken.rate))
    other = read(plain(speak(SENTENCES[1]).samples[:, None] / 32768, spoken.rate))
    ask = KIND.questions["spoken"].ask
    found = ask(Viewed(other, voice), SpokenQuery(text=SENTENCES[0]), None)
    assert found.said
    assert set(found.files) == set(FORMS)
    assert not ask(Viewed(other, voice), SpokenQuery(text=SENTENCES[0], which="original"), None).said
    long = read(plain(np.zeros((8000 * 31, 1)), 8000))
    with pytest.raises(BraeError, match="too long for one line"):
        ask(Viewed(long), SpokenQuery(text="hello"), None)


def test_on_the_command_line(tmp_path: Path) -> None:
    spoken = speak(SENTENCES[0])
    soundfile.write(tmp_path / "line.flac", spoken.samples, spoken.rate)
    out = tmp_path / "line.TextGrid"
    arguments = ("align", tmp_path / "line.flac", "--text", SENTENCES[0], "-o", out)
    said = json.loads(brae(*arguments, "--json"))
    assert [word["text"] for word in said["words"]] == SENTENCES[0].split()
    assert said["said"] is True
    assert 'text = "ferry"' in out.read_text()
    (tmp_path / "line.txt").write_text(SENTENCES[0])
    told = brae("align", tmp_path / "line.flac", "--text", f"@{tmp_path / 'line.txt'}")
    assert re.search(r"ferry  \(F EH R IY\)", told)
    assert "not written as" in brae(
        "align", tmp_path / "line.flac", "--text", "a", "-o", tmp_path / "a.doc", fails=True
    )
    words = ["align", str(tmp_path / "line.flac"), "--text", SENTENCES[0], "--language", "other"]
    other = CliRunner().invoke(app, words)
    assert other.exit_code == 0
    assert other.stdout.splitlines()[1].endswith(")"), "words with their phonemes, as with the model"
    assert "look at each word" in other.stderr
    assert "no sound" in brae("align", tmp_path / "line.txt", "--text", "a", fails=True)


# ---- without a model


@pytest.mark.parametrize(
    ("voice", "sentences"),
    [
        ("de", ["der alte mann sitzt am fenster", "gib mir bitte das brot"]),
        ("es", ["la niña come una manzana", "el perro duerme en la cocina"]),
        ("ru", ["сегодня светит солнце", "мама варит кофе"]),
        ("en-us", SENTENCES),
    ],
)
def test_words_of_any_language_are_placed(voice: str, sentences: list[str]) -> None:
    """espeak-ng's own times, on other sentences than the bench's and those that the measures are of."""
    far = []
    for text in sentences:
        spoken = speak(text, voice, 150)
        track = plainly.align(spoken.samples[:, None] / 32768, spoken.rate, text)
        assert [word.text for word in track.words] == text.split()
        edges = [edge for one in track.phonemes for edge in (one.start, one.end)]
        assert edges == sorted(edges)
        assert edges[-1] <= track.seconds
        said = [start for word, start in spoken.words if word]
        if len(said) == len(track.words):
            far += [abs(word.start - start) for word, start in zip(track.words, said, strict=True)]
    assert far
    assert np.median(far) <= 0.07, "for words without a model at most 70 ms in the median"


def test_letters_of_any_script_have_a_sound() -> None:
    """By the names of Unicode's character database."""
    assert plainly.latin("Größe") == "grose"
    assert plainly.latin("лодка") == "lodka"
    assert plainly.latin("さくら") == "sakura"
    assert plainly.latin("λόγος") == "logos"
    assert plainly.latin("島") == "kan"
    assert [plainly.class_of(code) for code in ("S", "T", "M", "AA")] == [
        plainly.HISS, plainly.STOP, plainly.HUM, plainly.VOWEL,
    ]  # fmt: skip


def test_what_is_placed_without_a_model_is_refused_where_it_cannot_be() -> None:
    noise = np.random.default_rng(0).normal(0, 0.1, (2000, 1))
    with pytest.raises(FormatError, match="do not fit"):
        plainly.align(noise, 22050, "this is far too much for a tenth of a second")
    with pytest.raises(FormatError, match="only silence"):
        plainly.align(np.zeros((22050, 1)), 22050, "nothing")
    with pytest.raises(FormatError, match="no words"):
        plainly.align(noise, 22050, "…")
    with pytest.raises(BraeError, match="too many for one line"):
        plainly.align(np.zeros((22050 * 130, 1)), 22050, "long")


@given(st.binary(min_size=2, max_size=4000), st.text(min_size=1, max_size=30))
def test_any_sound_and_any_text_are_placed_or_refused(data: bytes, text: str) -> None:
    samples = np.frombuffer(data[: len(data) // 2 * 2], "<i2")[:, None] / 32768
    try:
        track = plainly.align(samples, 8000, text)
    except BraeError as error:
        assert str(error)
        return
    assert all(0 <= word.start <= word.end <= track.seconds for word in track.words)
