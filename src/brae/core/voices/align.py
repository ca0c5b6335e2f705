"""Words and phonemes of an English sentence placed on the sound in which it is said.

The acoustic model is the one that pocketsphinx ships (US English, 16 kHz, frames of 10 ms). First the words are
placed, then the phonemes within them; the beams are as wide as they can be, so a sentence is always placed and it
is told afterwards whether it fits. The limits for that were set on sentences of espeak-ng in five voices; how they
hold on other sentences and voices is what benchmarks/voices.py prints.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cache
from threading import Lock
from typing import TYPE_CHECKING, Any

import numpy as np

from brae.core.errors import FormatError, LimitError
from brae.core.voices.onsets import Edges
from brae.core.voices.track import Phoneme, Track, Word
from brae.core.voices.words import sounds_of, words_of

if TYPE_CHECKING:
    from pocketsphinx import Decoder

RATE, _FRAME = 16_000, 0.01
#: silence that is put around the sound while it is listened to, as sentences may begin at its first sample
_AROUND = 0.1
#: seconds of one line
LONGEST = 120.0
_MOST_WORDS = 400
#: A sentence fits by its mean acoustic score a frame, less what the shares of its phonemes that are squeezed into
#: the least time and of its words that are doubtful take away (Fisher's discriminant of right and wrong sentences).
_FITS, _SQUEEZED, _DOUBTFUL, _LEAST = -62.0, 60.0, 75.0, 3
#: and a word by the same, below the sentence's own
_WORD_SCORE, _WORD_SQUEEZED = -70.0, 0.67
_LISTENING = Lock()


@dataclass(frozen=True)
class _Piece:
    name: str
    start: int
    length: int
    score: float
    parts: tuple[_Piece, ...] = ()

    @property
    def end(self) -> int:
        return self.start + self.length


@cache
def _decoder() -> Decoder:
    from pocketsphinx import Decoder

    return Decoder(
        loglevel="FATAL", samprate=RATE, lm=None, beam=1e-300, pbeam=1e-300, wbeam=1e-300, fwdflat=False,
        bestpath=False,
    )  # fmt: skip


def align(samples: np.ndarray[Any, Any], rate: int, text: str) -> Track:
    """Place a sentence on a sound: float samples of shape (frames, channels), full scale 1.

    Raises FormatError where there are no words, or the sound is shorter than they can be said, LimitError where
    it is longer than a line is.
    """
    seconds = len(samples) / rate
    spoken = words_of(text)
    if not spoken:
        raise FormatError("There are no words to place.", remedy="Say them with --text.")
    if seconds > LONGEST or len(spoken) > _MOST_WORDS:
        raise LimitError(
            f"{seconds:,.0f} s and {len(spoken):,} words are too many for one line.",
            expected=f"at most {LONGEST:.0f} s and {_MOST_WORDS} words",
        )
    mono = _heard(samples, rate)
    with _LISTENING:  # one decoder for all: to load it takes longer than to use it
        decoder = _decoder()
        names, worked_out = _known(decoder, spoken)
        pieces = _placed(decoder, mono, names, seconds)
    edges = Edges(samples, rate)

    def near(frame: int) -> float:
        return edges.near(frame * _FRAME - _AROUND)

    words: list[Word] = []
    for (written, _), own, spelt in zip(spoken, _by_word(pieces, spoken), worked_out, strict=True):
        phonemes = tuple(Phoneme(one.name, near(one.start), near(one.end)) for piece in own for one in piece.parts)
        words.append(
            Word(written, phonemes[0].start, phonemes[-1].end, phonemes, spelt=spelt, doubtful=_doubtful(own))
        )
    heard = [piece for piece, word in zip(_by_word(pieces, spoken), words, strict=True) if not word.doubtful]
    return _told(Track(seconds, tuple(words)), [one for some in heard for one in some])


def _heard(samples: np.ndarray[Any, Any], rate: int) -> bytes:
    """What the model listens to: one channel of 16 bits, with some silence around it."""
    import soxr

    mono = samples.mean(axis=1) if samples.ndim > 1 else samples
    if rate != RATE:
        mono = soxr.resample(mono, rate, RATE)
    peak = float(np.abs(mono).max(initial=0))
    if peak < 1e-4:
        raise FormatError("There is only silence.", remedy="Choose a sound in which somebody speaks.")
    silence = np.zeros(round(_AROUND * RATE))
    whole = np.concatenate([silence, mono * (0.7 / peak), silence])
    # Digital silence has no spectrum at all, which the model has never heard.
    whole += np.random.default_rng(0).normal(0, 3e-4, len(whole))
    return bytes(np.rint(np.clip(whole, -1, 1) * 32767).astype("<i2").tobytes())


def _known(decoder: Decoder, spoken: list[tuple[str, list[str]]]) -> tuple[list[str], list[bool]]:
    """The words as the decoder knows them; what no dictionary has is added with the sounds of its letters."""
    names: list[str] = []
    worked_out: list[bool] = []
    for _, parts in spoken:
        spelt = False
        for part in parts:
            sounds, guessed = sounds_of(part, decoder.lookup_word)
            name = part
            if guessed:
                spelt = True
                name = f"spelt-{'-'.join(sounds.split())}"
                if decoder.lookup_word(name) is None:
                    decoder.add_word(name, sounds, update=True)
            names.append(name)
        worked_out.append(spelt)
    return names, worked_out


def _placed(decoder: Decoder, data: bytes, names: list[str], seconds: float) -> list[_Piece]:
    def listen() -> None:
        decoder.start_utt()
        decoder.process_raw(data, full_utt=True)
        decoder.end_utt()

    try:
        decoder.set_align_text(" ".join(names))
        listen()
        decoder.set_alignment()
        listen()
        # Copied at once: the entries are gone with the next sentence.
        found = [_piece(word) for word in decoder.get_alignment()]
    except (RuntimeError, TypeError) as error:
        raise FormatError(
            f"{len(names):,} words do not fit into {seconds:.2f} s of sound.",
            remedy="Check that the text is what is said there.",
        ) from error
    words = [one for one in found if not one.name.startswith(("<", "["))]
    if len(words) != len(names):
        raise FormatError(f"Only {len(words):,} of {len(names):,} words are heard.", remedy="Check the text.")
    return words


def _piece(entry: Any) -> _Piece:
    parts = tuple(_Piece(part.name, part.start, part.duration, part.score) for part in entry)
    return _Piece(entry.name, entry.start, entry.duration, entry.score, parts)


def _squeezed(pieces: list[_Piece]) -> float:
    parts = [part for piece in pieces for part in piece.parts]
    return float(np.mean([part.length <= _LEAST for part in parts])) if parts else 0.0


def _mean(pieces: list[_Piece]) -> float:
    return sum(piece.score for piece in pieces) / max(sum(piece.length for piece in pieces), 1)


def _doubtful(pieces: list[_Piece]) -> bool:
    parts = sum(len(piece.parts) for piece in pieces)
    return _mean(pieces) < _WORD_SCORE or (parts > 2 and _squeezed(pieces) > _WORD_SQUEEZED)


def _by_word(pieces: list[_Piece], spoken: list[tuple[str, list[str]]]) -> list[list[_Piece]]:
    found, at = [], 0
    for _, parts in spoken:
        found.append(pieces[at : at + len(parts)])
        at += len(parts)
    return found


def _told(track: Track, heard: list[_Piece]) -> Track:
    """Whether the sentence is said there, by the words that are ``heard``."""
    doubtful = [word.text for word in track.words if word.doubtful]
    lost = _SQUEEZED * _squeezed(heard) + _DOUBTFUL * len(doubtful) / len(track.words)
    said = bool(heard) and _mean(heard) - lost > _FITS
    notes = []
    if not said:
        notes.append("This does not sound like the sentence: its words are placed, but are no good.")
    elif doubtful:
        notes.append(f"Not heard where it should be: {', '.join(doubtful)}.")
    spelt = [word.text for word in track.words if word.spelt]
    if spelt:
        notes.append(f"In no dictionary, so their sounds are guessed: {', '.join(spelt)}.")
    return replace(track, said=said, notes=tuple(notes))
