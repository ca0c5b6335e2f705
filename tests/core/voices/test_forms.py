"""Tracks in the open forms, out and back. praatio writes and reads TextGrid; WebVTT by the W3C's text."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st
from praatio import textgrid

from brae.core.errors import BraeError
from brae.core.voices.phonemes import ARPABET, SHAPES, nearest, viseme_of
from brae.core.voices.track import FORMS, Phoneme, Track, Word, form_of, read
from tests.core.voices.test_voices import ARPABET as DICTIONARY


def _tracks() -> st.SearchStrategy[Track]:
    """Words with their phonemes, in order, at whole milliseconds, with gaps between some of them."""
    letters = st.characters(min_codepoint=33, max_codepoint=0x24F, exclude_characters='<>&"')
    text = st.text(letters, min_size=1, max_size=8).filter(lambda said: said == said.strip())

    @st.composite
    def made(draw: st.DrawFn) -> Track:
        words, at = [], 0
        for said in draw(st.lists(text, min_size=1, max_size=5)):
            start = at + draw(st.integers(5, 300))
            lengths = draw(st.lists(st.integers(20, 400), min_size=1, max_size=4))
            phonemes, at = [], start
            for length, code in zip(lengths, ("AA", "B", "Z", "OW"), strict=False):
                phonemes.append(Phoneme(code, at / 1000, (at + length) / 1000))
                at += length
            words.append(Word(said, start / 1000, at / 1000, tuple(phonemes)))
        return Track(at / 1000, tuple(words))

    return made()


@given(_tracks())
def test_tracks_come_back_from_every_form(track: Track) -> None:
    for suffix in FORMS:
        again = read(form_of(suffix)(track).encode(), suffix)
        assert [word.text for word in again.words] == [word.text for word in track.words]
        for one, other in zip(again.words, track.words, strict=True):
            assert (one.start, one.end) == pytest.approx((other.start, other.end), abs=5e-4)
            if suffix != ".vtt":
                assert [phoneme.code for phoneme in one.phonemes] == [phoneme.code for phoneme in other.phonemes]
                edges = [edge for phoneme in one.phonemes for edge in (phoneme.start, phoneme.end)]
                wanted = [edge for phoneme in other.phonemes for edge in (phoneme.start, phoneme.end)]
                assert edges == pytest.approx(wanted, abs=5e-4)


@given(track=_tracks())
def test_grids_that_praatio_writes_are_read(track: Track, tmp_path_factory: pytest.TempPathFactory) -> None:
    """praatio's own writer, long and short (Praat's manual, "TextGrid file formats")."""
    grid = textgrid.Textgrid()
    tiers = {
        "Mary - words": [(word.start, word.end, word.text) for word in track.words],
        "Mary - phones": [(one.start, one.end, one.code) for one in track.phonemes],
    }
    for name, spans in tiers.items():
        grid.addTier(textgrid.IntervalTier(name, spans, 0, track.seconds))
    path = tmp_path_factory.getbasetemp() / "grid.TextGrid"
    for form in ("long_textgrid", "short_textgrid"):
        grid.save(str(path), format=form, includeBlankSpaces=True)
        again = read(path.read_bytes(), ".TextGrid")
        assert again.text == track.text
        assert [one.code for one in again.phonemes] == [one.code for one in track.phonemes]
        assert again.seconds == pytest.approx(track.seconds)
        again = read(path.read_bytes().decode().encode("utf-16"), ".TextGrid")
        assert again.text == track.text


@pytest.mark.parametrize(
    ("suffix", "data", "words"),
    [
        (".TextGrid", b"", "cut off"),
        (".TextGrid", b'"ooTextFile" "TextGrid" 0 1 <exists> 1 "IntervalTier" "words" 0 1 2 0 1', "cut off"),
        (".TextGrid", b'"ooTextFile" "TextGrid" 0 1 <exists> 0', "no tier"),
        (".TextGrid", b'"other" "TextGrid"', "no TextGrid"),
        (".vtt", b"1\n00:00.000 --> 00:01.000\nrain", "no WebVTT"),
        (".csv", b"word,begin\nrain,1", "no columns"),
        (".csv", b"word,phoneme,start,end\nrain,R,soon,2", "Line 2"),
        (
            ".json",
            b'{"seconds": 1, "words": [{"text": "rain", "start": 2, "end": 1, "phonemes": []}]}',
            "lies from 2",
        ),
        (".json", b'{"seconds": 1, "words": [{"text": "rain"}]}', "words.0.start"),
        (".txt", b"rain", "not read from"),
    ],
)
def test_tracks_that_are_none_are_refused_in_words(suffix: str, data: bytes, words: str) -> None:
    with pytest.raises(BraeError, match=words):
        read(data, suffix)


@given(st.sampled_from(sorted(FORMS)), st.binary(max_size=200))
def test_any_bytes_are_read_or_refused(suffix: str, data: bytes) -> None:
    try:
        read(data, suffix)
    except BraeError as error:
        assert str(error)


def test_cues_of_several_words_are_shared_out_by_their_letters() -> None:
    first = b"WEBVTT\n\n00:01.000 --> 00:02.000 align:start\n<b>rain</b> againn\n\n"
    track = read(first + b"1:00:00.500 --> 1:00:01.000\nend\n", ".vtt")
    assert [(word.text, word.start, word.end) for word in track.words] == [
        ("rain", 1.0, 1.4), ("againn", 1.4, 2.0), ("end", 3600.5, 3601.0),
    ]  # fmt: skip


def test_phonemes_look_alike_in_all_sets() -> None:
    """The CMU dictionary's phonemes; ISO/IEC 14496-2, table C-1 (from memory): p, b and m are viseme 1 ..."""
    assert sorted(ARPABET) == sorted(DICTIONARY.split())
    assert len(SHAPES) == 15
    for code, (ipa, viseme) in ARPABET.items():
        assert viseme_of(code) == viseme_of(f"{code}1") == viseme_of(ipa) == viseme_of(f"v{viseme}") == viseme
    by_viseme = [("PBM", 1), ("FV", 2), ("TD", 4), ("KG", 5), ("SZ", 7), ("NL", 8), ("R", 9)]
    assert all(viseme_of(code) == viseme for codes, viseme in by_viseme for code in codes)
    assert viseme_of("sil") == 0
    assert viseme_of("nonsense") is None
    assert nearest("AE1", ["IY", "AE", "EH"]) == "AE"
    assert nearest("ʃ", ["S", "SH"]) == "SH"
    assert nearest("B", ["silence", "v2", "v1"]) == "v1"
    assert nearest("B", ["F", "AA"]) == "F", "which is less open"
    assert nearest("HH", ["M", "K", "AA"]) == "K"
    assert nearest("spn", ["M", "EH", "AA", "T"]) == "T", "a mouth a little open"
    assert nearest("B", ["silence"]) is None
