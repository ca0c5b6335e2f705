"""Words placed on a sound without an acoustic model: for languages that the model does not know.

What can be told of any language from the signal alone: whether there is silence, a stop, a hiss, a hum or a vowel,
by how loud it is, how often it crosses zero and where its energy lies. Which of these a sentence should have, one
after the other, is guessed from its letters; the two are brought together by dynamic programming over durations
(Levinson, "Continuously variable duration hidden Markov models", 1986, in its plainest form). The measures of the
classes are those of sentences that espeak-ng spoke in English; how well it does on other languages is printed by
benchmarks/voices.py.
"""

from __future__ import annotations

import unicodedata
from typing import Any

import numpy as np

from brae.core.errors import FormatError, LimitError
from brae.core.voices.onsets import Edges
from brae.core.voices.track import Phoneme, Track, Word
from brae.core.voices.words import spelt, words_of

Floats = np.ndarray[Any, np.dtype[np.float64]]
#: seconds of a step, and of the window that is looked at in each
_STEP, _WINDOW = 0.01, 0.025
#: seconds and words of one line
LONGEST, _MOST_WORDS = 120.0, 400
SILENCE, STOP, HISS, HUM, VOWEL = range(5)
#: of each class the median and the spread of the four measures of a step, of 80 English sentences in four voices
_MEANS = np.array([
    [-41.2, 0.68, -0.15, -2.21], [-22.2, 1.43, -0.13, -1.18], [-19.7, 3.53, -0.17, -0.67],
    [-11.9, 0.70, -0.02, -2.81], [-6.9, 1.20, -0.12, -2.69],
])  # fmt: skip
_SPREADS = np.array([
    [20.6, 1.44, 1.30, 1.01], [11.6, 2.12, 0.58, 0.98], [7.4, 2.26, 0.80, 0.78],
    [11.8, 0.61, 0.47, 0.57], [13.2, 0.70, 0.47, 0.67],
])  # fmt: skip
#: steps that a sound of each class usually lasts there, and the spread of their logarithm
_LASTS, _UNEVEN = np.array([12.0, 5.1, 7.2, 5.5, 9.7]), 0.45
#: steps that one sound lasts at most, and how much likelier a pause has to be than none
_MOST, _PAUSES = 45, 2.0
_OF = {
    **dict.fromkeys(("P", "B", "T", "D", "K", "G", "CH", "JH"), STOP),
    **dict.fromkeys(("F", "V", "TH", "DH", "S", "Z", "SH", "ZH", "HH"), HISS),
    **dict.fromkeys(("M", "N", "NG", "L", "R", "W", "Y"), HUM),
}  # fmt: skip


def class_of(code: str) -> int:
    """What a phoneme of ARPABET is to the signal."""
    return _OF.get(code, VOWEL)


def latin(word: str) -> str:
    """A word of any script as letters from a to z, by the names of Unicode's letters; '' where it has none.

    The name of an alphabet's letter begins with its sound, or (EL, EM, ES) ends with it; a syllable's is its sound.
    """
    found = []
    for char in unicodedata.normalize("NFKD", word.lower()):
        if char.isascii():
            found.append(char)
            continue
        name = unicodedata.name(char, "")
        if name.startswith("CJK"):  # one sign, one syllable
            found.append("kan")
            continue
        last = name.rpartition(" ")[2].lower()
        if not char.isalpha() or not last.isalpha() or last == "sign":
            continue
        if len(last) == 2 and last[0] == "e" and last[1] not in "aeiouy":
            last = last[1]
        syllable = name.startswith(("HIRAGANA", "KATAKANA", "HANGUL"))
        found.append(last if syllable else last[:1])
    return "".join(found)


def measures(samples: Floats, rate: int) -> Floats:
    """Four numbers for each step, shape (steps, 4).

    How far it is below the loudest, in dB; how often it crosses zero; as logarithms the shares of its energy below
    1 kHz and above 4 kHz.
    """
    mono = samples.mean(axis=1) if samples.ndim > 1 else samples
    step, size = max(round(_STEP * rate), 1), max(round(_WINDOW * rate), 8)
    padded = np.concatenate([np.zeros(size // 2), mono, np.zeros(size)])
    count = len(mono) // step + 1
    windows = np.lib.stride_tricks.sliding_window_view(padded, size)[::step][:count]
    power = np.abs(np.fft.rfft(windows * np.hanning(size), axis=1)) ** 2
    hertz = np.fft.rfftfreq(size, 1 / rate)
    whole = power.sum(axis=1) + 1e-12
    loud = 10 * np.log10(whole)
    crossings = (np.diff(np.signbit(windows), axis=1)).mean(axis=1) * rate / 16_000
    low = np.log10(power[:, hertz < 1000].sum(axis=1) / whole + 1e-3)
    high = np.log10(power[:, hertz > 4000].sum(axis=1) / whole + 1e-3)
    return np.stack([np.maximum(loud - loud.max(initial=-120), -70), crossings * 10, low, high], axis=1)


def align(samples: Floats, rate: int, text: str) -> Track:
    """Place a sentence of any language on a sound: float samples of shape (frames, channels), full scale 1.

    Raises FormatError where there are no words or only silence, LimitError where it is longer than a line is.
    """
    seconds = len(samples) / rate
    written = [word for word, _ in words_of(text)]
    codes = [spelt(latin(word)).split() for word in written]
    if not written:
        raise FormatError("There are no words to place.", remedy="Say them with --text.")
    if seconds > LONGEST or len(written) > _MOST_WORDS:
        raise LimitError(f"{seconds:,.0f} s and {len(written):,} words are too many for one line.")
    if not len(samples) or float(np.abs(samples).max()) < 1e-4:
        raise FormatError("There is only silence.", remedy="Choose a sound in which somebody speaks.")
    found = _placed(measures(samples, rate), codes)
    if found is None:
        raise FormatError(
            f"{len(written):,} words do not fit into {seconds:.2f} s of sound.",
            remedy="Check that the text is what is said there.",
        )
    edges = Edges(samples, rate)
    words, at = [], 0
    for word, own in zip(written, codes, strict=True):
        spans = found[at : at + len(own)]
        at += len(own)
        phonemes = tuple(
            Phoneme(code, edges.near(start * _STEP), edges.near(end * _STEP))
            for code, (start, end) in zip(own, spans, strict=True)
        )
        words.append(Word(word, phonemes[0].start, phonemes[-1].end, phonemes, spelt=True))
    note = "Placed by loud and quiet, hiss and hum alone: look at each word."
    return Track(seconds, tuple(words), notes=(note,))


def _placed(seen: Floats, codes: list[list[str]]) -> list[tuple[int, int]] | None:
    """From which step to which each sound lasts; None where there are too few."""
    steps = len(seen)
    apart = ((seen[:, None] - _MEANS) / _SPREADS) ** 2
    likely = -0.5 * apart.sum(axis=2) - np.log(_SPREADS).sum(axis=1)
    sums = np.concatenate([np.zeros((1, 5)), np.cumsum(likely, axis=0)])
    #: the sounds one after the other; None for a silence that may be there
    chain: list[int | None] = [None]
    for own in codes:
        chain += [class_of(code) for code in own]
        chain.append(None)
    sounds = [one for one in chain if one is not None]
    speech = float((likely.argmax(axis=1) != SILENCE).sum())
    pace = np.clip(speech / max(float(_LASTS[sounds].sum()), 1), 0.4, 2.5)
    best = np.full(steps + 1, -np.inf)
    best[0] = 0
    before: list[np.ndarray[Any, np.dtype[np.int64]]] = []
    for one in chain:
        if one is None:  # a pause of any length, or none: it has to be heard to be one
            gained = best - sums[:, SILENCE]
            most = np.maximum.accumulate(gained)
            since = np.maximum.accumulate(np.where(gained == most, np.arange(steps + 1), 0))
            score = most + sums[:, SILENCE] - _PAUSES
            lasted = np.where(score > best, np.arange(steps + 1) - since, 0)
            best = np.maximum(score, best)
            before.append(lasted)
            continue
        reached, lasted = np.full(steps + 1, -np.inf), np.zeros(steps + 1, np.int64)
        for length in range(2, min(_MOST, steps) + 1):
            usual = -0.5 * (np.log(length / (_LASTS[one] * pace)) / _UNEVEN) ** 2
            score = best[: steps + 1 - length] + sums[length:, one] - sums[: steps + 1 - length, one] + usual
            better = score > reached[length:]
            reached[length:][better] = score[better]
            lasted[length:][better] = length
        best = reached
        before.append(lasted)
    if not np.isfinite(best[steps]):
        return None
    spans: list[tuple[int, int]] = []
    end = steps
    for one, lasted in zip(reversed(chain), reversed(before), strict=True):
        start = end - int(lasted[end])
        if one is not None:
            spans.append((start, end))
        end = start
    return spans[::-1]
