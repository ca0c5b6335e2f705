"""What is wrong with a track's times, and what puts it right."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import TypeVar

from brae.core.voices.track import Phoneme, Track, Word

Piece = TypeVar("Piece", Word, Phoneme)
#: seconds: what is nearer than this is at the same time, and phonemes below the second are too short to be heard
#: (common practice, no source)
NEAR, SHORT = 0.0015, 0.02


def overlaps(track: Track) -> list[tuple[str, str]]:
    """Neighbours of which one begins before the other has ended, by what they say."""
    found = [(one.text, other.text) for one, other in _over(track.words)]
    return found + [(one.code, other.code) for one, other in _over(track.phonemes)]


def _over(pieces: Sequence[Piece]) -> Iterator[tuple[Piece, Piece]]:
    for one, other in zip(pieces, pieces[1:], strict=False):
        if other.start < one.end - NEAR:
            yield one, other


def gaps(track: Track) -> list[str]:
    """Words in which nothing is said for a while between two of their phonemes."""
    return [
        word.text
        for word in track.words
        if any(other.start > one.end + NEAR for one, other in zip(word.phonemes, word.phonemes[1:], strict=False))
    ]


def short(track: Track) -> list[str]:
    """Phonemes that are too short to be seen."""
    return [one.code for one in track.phonemes if one.end - one.start < SHORT - 1e-9]


def late(track: Track, seconds: float) -> list[str]:
    """Words that reach beyond the end of the sound."""
    return [word.text or "…" for word in track.words if word.end > seconds + NEAR]


def without_overlaps(track: Track, *, earlier: bool) -> Track:
    """Each moment belongs to one piece: where two share it, to the ``earlier`` one or to the later one."""
    words = [replace(word, phonemes=_apart(word.phonemes, earlier)) for word in track.words]
    return replace(track, words=tuple(_within(word) for word in _apart(tuple(words), earlier)))


def _apart(pieces: tuple[Piece, ...], earlier: bool) -> tuple[Piece, ...]:
    found: list[Piece] = []
    for piece in pieces:
        if found and piece.start < found[-1].end:
            if earlier:
                start = found[-1].end
                piece = replace(piece, start=start, end=max(piece.end, start))
            else:
                found[-1] = replace(found[-1], end=max(piece.start, found[-1].start))
        found.append(piece)
    return tuple(one for one in found if one.end > one.start)


def _within(word: Word) -> Word:
    """A word whose phonemes do not reach beyond it."""
    cut = (replace(one, start=max(one.start, word.start), end=min(one.end, word.end)) for one in word.phonemes)
    return replace(word, phonemes=tuple(one for one in cut if one.end > one.start))


def without_gaps(track: Track) -> Track:
    """Each phoneme of a word lasts until the next one of it begins."""
    words = []
    for word in track.words:
        phonemes = list(word.phonemes)
        for at, (one, other) in enumerate(zip(word.phonemes, word.phonemes[1:], strict=False)):
            if other.start > one.end:
                phonemes[at] = replace(one, end=other.start)
        words.append(replace(word, phonemes=tuple(phonemes)))
    return replace(track, words=tuple(words))


def within(track: Track, seconds: float) -> Track:
    """Nothing is said after the end: what reaches beyond it is cut, what lies behind it is gone."""
    words = (replace(word, end=min(word.end, seconds)) for word in track.words if word.start < seconds)
    return replace(track, words=tuple(_within(word) for word in words), seconds=seconds)
