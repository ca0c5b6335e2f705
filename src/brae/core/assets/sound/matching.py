"""A sound that came back beside its original: what differs, what puts it right, and the result."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from brae.core.assets.sheet import Finding, MatchSheet, Property, Remedy
from brae.core.assets.sound import bare, convert, peaks, spoken
from brae.core.assets.sound.loops import blended, jump
from brae.core.assets.sound.remedies import REMEDIES
from brae.core.assets.sound.riff import at_rate
from brae.core.assets.sound.sound import BITS, Samples, Sound, quantised, read
from brae.core.assets.track.matching import REMEDIES as WORDS
from brae.core.assets.track.matching import findings as track_findings
from brae.core.assets.track.matching import put_right
from brae.core.layouts.tracks import TrackPart

#: LU from which on a difference is plainly heard (common practice, no source)
_LOUDER = 3.0
#: full scale, from which on a constant offset clicks at start and end (common practice, no source)
_OFFSET = 0.01
#: seconds of silence that may stand at the start (common practice, no source)
_LATE = 0.02
#: seconds of a step of an envelope, how alike two have to be to be one sound, and seconds of them that are compared
_STEP, _ALIKE, _COMPARED = 0.001, 0.9, 120
#: samples of a window in which spectra are compared
_WINDOW = 1024
#: parts of a second over which an end is faded out
_FADE = 0.02
#: dBTP that a louder sound is kept below, and dB by which its peaks may give way (common practice, no source)
_CEILING, _GIVES = -1.0, 6.0


class SoundSheet(MatchSheet):
    """The whole comparison, and how loud the three are."""

    #: LUFS of the original, of what came back, and of the result; None where there is only silence
    loudness: tuple[float | None, float | None, float | None] = (None, None, None)
    #: how far the stored samples are from what was to be stored, as a signal-to-noise ratio in dB
    snr: float | None = None
    #: and how far their spectra are apart, in dB
    spectral: float | None = None


@dataclass(frozen=True)
class Compared:
    """A sound that came back, with the rate and the channels of its original."""

    original: Sound
    came: Sound
    samples: Samples
    remedies: Sequence[str]
    #: as they will be stored, but for what closes the seam of a loop
    ready: Samples

    def remedy(self, remedy: str) -> Remedy:
        """A remedy, and whether it is applied."""
        return Remedy(id=remedy, label=REMEDIES[remedy], applied=remedy in self.remedies)


def fitted(original: Sound, came: Sound) -> Samples:
    """What came back, with the rate and the channels of its original."""
    samples = convert.mixed(came.samples, original.channels)
    return peaks.resampled(samples, came.rate, original.rate)


def _loudness(samples: Samples, original: Sound) -> Samples:
    wanted = convert.loudness(original.samples, original.rate)
    here = convert.loudness(samples, original.rate)
    if min(wanted, here) < convert.SILENT:
        return samples
    ceiling = min(max(_CEILING, peaks.true_peak(original.samples, original.rate)), 0.0)
    # Peaks give way, but not by more than is hardly heard: beyond that all of it is less loud.
    louder = peaks.lowered(samples * 10 ** ((wanted - here) / 20), original.rate, ceiling + _GIVES)
    return peaks.limited(louder, original.rate, ceiling)


def _offset(samples: Samples, original: Sound) -> Samples:
    return samples - samples.mean(axis=0, keepdims=True) if len(samples) else samples


def late(samples: Samples, original: Sound) -> int:
    """How many samples something stands later than in the original: by the silence before it, or where the two are
    alike but for that, by the cross-correlation of their envelopes.
    """
    more = peaks.silence(samples) - peaks.silence(original.samples)
    if more > _LATE * original.rate or not len(samples) or not original.frames:
        return more
    from scipy.signal import correlate

    step = max(round(original.rate * _STEP), 1)
    here, there = (_envelope(one, step) for one in (samples, original.samples))
    size = float(np.sqrt((here**2).sum() * (there**2).sum()))
    if not size:
        return more
    found = correlate(here, there, method="fft") / size
    middle = len(there) - 1
    best = int(found.argmax())
    alike = best > middle and found[best] > _ALIKE and found[best] > found[middle] + (1 - _ALIKE)
    return max(_finely(samples, original.samples, (best - middle) * step, step), more) if alike else more


def _finely(samples: Samples, original: Samples, about: int, step: int) -> int:
    """The delay to the sample, near to one that is known to a step or two."""
    here, there = samples.mean(axis=1), original.mean(axis=1)
    lags = range(max(about - 2 * step, 0), about + 2 * step + 1)
    size = min(len(there), len(here) - lags[-1], round(_COMPARED / _STEP) * step)
    if size < 2:
        return about
    found = [float(here[lag : lag + size] @ there[:size]) for lag in lags]
    return lags[int(np.argmax(found))]


def _envelope(samples: Samples, step: int) -> Samples:
    """The loudest of each step of the first two minutes, less their mean."""
    most = np.abs(samples[: round(_COMPARED / _STEP) * step]).max(axis=1, initial=0)
    found: Samples = np.maximum.reduceat(most, np.arange(0, len(most), step))
    return found - found.mean()


def _start(samples: Samples, original: Sound) -> Samples:
    more = late(samples, original)
    return samples[more:] if more > 0 else samples


def _length(samples: Samples, original: Sound) -> Samples:
    frames = original.frames
    if len(samples) <= frames:
        return np.concatenate([samples, np.zeros((frames - len(samples), samples.shape[1]))])
    result = samples[:frames].copy()
    fade = min(int(_FADE * original.rate), frames)
    if fade:
        result[-fade:] *= np.linspace(1, 0, fade)[:, None]
    return result


_ACTIONS: dict[str, Callable[[Samples, Sound], Samples]] = {
    "offset": _offset,
    "start": _start,
    "length": _length,
    "loudness": _loudness,
    "seam": lambda samples, original: blended(samples, convert.loops_of(original, samples), original.rate),
}


def apply(samples: Samples, original: Sound, remedies: Sequence[str]) -> Samples:
    """Samples with the remedies applied, always in the same order."""
    for remedy, action in _ACTIONS.items():
        if remedy in remedies:
            samples = action(samples, original)
    return samples


def is_untouched(original: Sound, came: Sound) -> bool:
    """Whether what came back is, to the sample, what was sent."""
    if (original.rate, original.channels, original.frames) != (came.rate, came.channels, came.frames):
        return False
    if convert.notes_of(original, came) is not None:
        return False
    subtype = convert.sent_subtype(original)
    if subtype == "FLOAT":
        return np.array_equal(original.samples.astype(np.float32), came.samples.astype(np.float32))
    bits = BITS[subtype]
    return np.array_equal(quantised(original.samples, bits), quantised(came.samples, bits))


def _ready(samples: Samples, original: Sound, remedies: Sequence[str]) -> Samples:
    """What is to be stored, but for what closes the seam of a loop."""
    ready = apply(samples, original, [one for one in remedies if one != "seam"])
    return _length(ready, original) if original.length_is_said else ready


def wanted_of(original: Sound, came: Sound, remedies: Sequence[str]) -> Samples:
    """What is to be stored of a sound that came back."""
    ready = _ready(fitted(original, came), original, remedies)
    return apply(ready, original, [one for one in remedies if one == "seam"])


def match(original: Sound, came: Sound, remedies: Sequence[str]) -> tuple[SoundSheet, bytes]:
    """The match sheet of a sound that came back, and its bytes stored like the original's."""
    words = None if original.spoken is None else spoken.beside(original, came).spoken.track
    same = words is None or original.spoken.same(words, original.spoken.track)
    if same and is_untouched(original, came) and not remedies:
        samples, frames, result = original.samples, original.frames, original
        edit = Compared(original, came, samples, remedies, samples)
        data = original.data if original.bare is None else original.raw
    else:
        samples = fitted(original, came)
        ready = _ready(samples, original, remedies)
        edit = Compared(original, came, samples, remedies, ready)
        samples = apply(ready, original, [one for one in remedies if one == "seam"])
        exact = (
            not _ACTIONS.keys() & {*remedies} and came.rate == original.rate and came.channels == original.channels
        )
        made = convert.written(
            original,
            samples,
            exact_bits=exact and _bits(came) <= _bits(original),
            notes=_notes(original, came, remedies, len(samples)),
            chunks=_chunks(original, came, remedies, len(samples)),
        )
        data, frames = made.data, made.frames
        if original.bare is None:
            result = read(data)
        else:
            data = bare.again(original, data)
            result = bare.reread(original, data)
            frames = result.frames
    findings = [finding for rule in _RULES for finding in rule(edit)]
    if words is not None:
        findings += track_findings(original.spoken, words, remedies, len(samples) / original.rate)
    delay = (result.frames - len(samples)) / result.rate
    if result.container == "MP3" and delay > _LATE and data != original.data:
        findings.append(
            Finding(
                id="delay",
                severity="note",
                title=f"It begins up to {delay * 1000:.0f} ms later, as MP3 of so few bits does",
                in_game="Its frames have no room to say what the encoder put before it.",
            )
        )
    sheet = SoundSheet(
        properties=_properties(original, came, result, frames, len(data)),
        findings=findings,
        loudness=tuple(_said(one.samples, one.rate) for one in (original, came, result)),
        snr=_snr(samples, result),
        spectral=_spectral(samples, result),
    )
    return sheet, data


def _notes(original: Sound, came: Sound, remedies: Sequence[str], frames: int) -> tuple[bytes, bytes] | None:
    """The cue points that are to be written; None where they only move along."""
    if (
        original.spoken is None
        or original.spoken.described.only(TrackPart).cues is None
        or (came.notes is None and not WORDS.keys() & {*remedies})
    ):
        return convert.notes_of(original, came)
    base = spoken.beside(original, came)
    made = put_right(base.spoken.track, remedies, frames / original.rate)
    notes = at_rate(spoken.notes_of(base, made, base.frames), base.rate, original.rate)
    return None if notes == original.notes else notes


def _chunks(original: Sound, came: Sound, remedies: Sequence[str], frames: int) -> dict[bytes, bytes]:
    """The chunk in which words lie, where they do."""
    if original.spoken is None:
        return {}
    base = spoken.beside(original, came)
    return spoken.chunk_of(original, put_right(base.spoken.track, remedies, frames / original.rate))


def _bits(sound: Sound) -> int:
    return BITS.get(sound.subtype, 16)


def _said(samples: Samples, rate: int) -> float | None:
    found = convert.loudness(samples, rate)
    return round(found, 2) if found > convert.SILENT else None


def _snr(wanted: Samples, result: Sound) -> float | None:
    got = result.samples[: len(wanted)]
    if got.shape != wanted.shape or not wanted.any():
        return None
    noise = float(((wanted - got) ** 2).mean())
    return None if noise == 0 else round(10 * float(np.log10((wanted**2).mean() / noise)), 1)


def _spectral(wanted: Samples, result: Sound) -> float | None:
    """The log-spectral distance in dB: of windows of 1,024 samples, over what is at most 60 dB below the loudest.

    (Gray and Markel, Distance measures for speech processing, 1976, from memory.)
    """
    count = min(len(wanted), result.frames) // _WINDOW * _WINDOW
    if count < _WINDOW or not wanted.any():
        return None
    window = np.hanning(_WINDOW)
    powers = []
    for samples in (wanted, result.samples):
        frames = samples[:count].mean(axis=1).reshape(-1, _WINDOW) * window
        powers.append(20 * np.log10(np.abs(np.fft.rfft(frames, axis=1)) + 1e-9))
    heard = powers[0] > powers[0].max() - 60
    some = heard.any(axis=1)
    squares = np.where(heard, (powers[0] - powers[1]) ** 2, 0).sum(axis=1)[some] / heard.sum(axis=1)[some]
    return round(float(np.sqrt(squares).mean()), 2)


def _time(frames: int, rate: int) -> str:
    return f"{frames / rate:.3f} s"


def _properties(original: Sound, came: Sound, result: Sound, frames: int, size: int) -> list[Property]:
    def loops(sound: Sound) -> str:
        return ", ".join(f"{start:,} to {end:,}" for start, end in sound.loops) or "none"

    lengths = [(original.frames, original.rate), (came.frames, came.rate), (frames, result.rate)]
    rows = [
        ("Codec", original.codec, came.codec, result.codec),
        ("Sample rate", f"{original.rate:,} Hz", f"{came.rate:,} Hz", f"{result.rate:,} Hz"),
        ("Channels", str(original.channels), str(came.channels), str(result.channels)),
        ("Length", *(_time(*one) for one in lengths)),
        ("Loops", loops(original), loops(came), loops(result)),
        *([("Cue points", *(str(len(one.cues)) for one in (original, came, result)))] if original.cues else []),
        ("True peak", *(f"{peaks.true_peak(one.samples, one.rate):.1f} dBTP" for one in (original, came, result))),
        ("File type", original.type, came.type, result.type),
        ("Bytes", f"{original.size:,}", "–", f"{size:,}"),
    ]
    free = ("True peak", "Bytes", "Length", "Cue points")
    return [Property.of(*row, matters=row[0] not in free) for row in rows]


# ---- findings


def _converted(edit: Compared) -> Iterator[Finding]:
    original, came = edit.original, edit.came

    def note(name: str, title: str, in_game: str, label: str) -> Finding:
        remedy = Remedy(id="always", label=label, applied=True, automatic=True)
        return Finding(id=name, severity="note", title=title, in_game=in_game, remedy=remedy)

    if came.rate != original.rate:
        yield note(
            "rate",
            f"{came.rate:,} Hz instead of {original.rate:,}",
            "It would play too fast or too slow.",
            f"Resample to {original.rate:,} Hz",
        )
    if came.channels != original.channels:
        yield note(
            "channels",
            f"{came.channels} channels instead of {original.channels}",
            "A sound that has a place in the world stays silent in stereo.",
            f"Mix to {original.channels} channel{'s' if original.channels > 1 else ''}",
        )


def _empty(edit: Compared) -> Iterator[Finding]:
    if not len(edit.samples) or peaks.peak(edit.samples) < -90:
        yield Finding(
            id="silent", severity="stops", title="There is nothing to hear in it", in_game="The game plays silence."
        )


def _clipped(edit: Compared) -> Iterator[Finding]:
    loud = np.abs(edit.came.samples).max(axis=1, initial=0) >= 0.9999
    runs = int((loud[1:] & loud[:-1]).sum()) if len(loud) > 1 else 0
    before = np.abs(edit.original.samples).max(axis=1, initial=0) >= 0.9999
    if runs > 8 and runs > 4 * int((before[1:] & before[:-1]).sum()):
        yield Finding(
            id="clipped",
            severity="shows",
            title=f"{runs:,} samples in a row are at full scale: it was recorded or amplified too loud",
            in_game="It crackles. Make it quieter in your editor, from a recording that is not cut off.",
        )


def _loud(edit: Compared) -> Iterator[Finding]:
    wanted = convert.loudness(edit.original.samples, edit.original.rate)
    here = convert.loudness(edit.samples, edit.original.rate)
    if min(wanted, here) < convert.SILENT or abs(here - wanted) < _LOUDER:
        return
    yield Finding(
        id="loudness",
        severity="shows",
        title=f"{abs(here - wanted):.1f} LU {'louder' if here > wanted else 'quieter'} than the original",
        in_game="It stands out among the other sounds, or is not heard at all.",
        remedy=edit.remedy("loudness"),
    )


def _constant(edit: Compared) -> Iterator[Finding]:
    if not len(edit.samples):
        return
    here = float(np.abs(edit.samples.mean(axis=0)).max())
    before = float(np.abs(edit.original.samples.mean(axis=0)).max(initial=0))
    if here > max(_OFFSET, 2 * before):
        yield Finding(
            id="offset",
            severity="shows",
            title=f"The signal lies {here:.1%} of full scale beside the middle",
            in_game="It clicks where it begins and ends.",
            remedy=edit.remedy("offset"),
        )


def _late(edit: Compared) -> Iterator[Finding]:
    more = late(edit.samples, edit.original) / edit.original.rate
    if more > _LATE:
        silent = (peaks.silence(edit.samples) - peaks.silence(edit.original.samples)) / edit.original.rate > _LATE
        words = (
            "of silence at the start that the original does not have" if silent else "later than in the original"
        )
        yield Finding(
            id="start",
            severity="shows",
            title=f"{more * 1000:.0f} ms {words}",
            in_game="It comes too late for what is seen.",
            remedy=edit.remedy("start"),
        )


def _long(edit: Compared) -> Iterator[Finding]:
    here, wanted = len(edit.samples), edit.original.frames
    rate = edit.original.rate
    if abs(here - wanted) <= max(rate // 1000, 1):
        return
    loops = bool(edit.original.loops)
    if edit.original.length_is_said:
        label = f"Make it {wanted:,} samples long, with a short fade where it is cut"
        yield Finding(
            id="length",
            severity="shows" if here > wanted else "note",
            title=f"{here / rate:.2f} s instead of {wanted / rate:.2f} s",
            in_game="The archive says how many samples there are, so it has as many.",
            remedy=Remedy(id="always", label=label, applied=True, automatic=True),
        )
        return
    words = "Its loops are moved in proportion: listen to their seam." if loops else ""
    if loops and edit.original.bare is not None:
        words = "Its loop stays where the archive says."
    more = "It may be cut off" if here > wanted else "Silence may follow"
    yield Finding(
        id="length",
        severity="shows" if loops or abs(here - wanted) > wanted // 10 else "note",
        title=f"{here / rate:.2f} s instead of {wanted / rate:.2f} s",
        in_game=f"{more} where the game plays by time. {words}".strip(),
        remedy=edit.remedy("length"),
    )


def _clicks(edit: Compared) -> Iterator[Finding]:
    rate = edit.original.rate
    before = max((jump(edit.original.samples, loop, rate) for loop in edit.original.loops), default=0.0)
    here = max((jump(edit.ready, loop, rate) for loop in convert.loops_of(edit.original, edit.ready)), default=0.0)
    if here > 1.5 * before:
        yield Finding(
            id="seam",
            severity="shows",
            title=f"The signal jumps by {here:.0%} of its height where the loop begins again",
            in_game="It clicks each time round.",
            remedy=edit.remedy("seam"),
        )


_RULES = (_empty, _converted, _clipped, _constant, _late, _long, _loud, _clicks)
