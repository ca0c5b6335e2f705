"""A sound that came back beside its original: what differs, what puts it right, and the result."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from brae.core.assets.sheet import Finding, MatchSheet, Property, Remedy
from brae.core.assets.sound import bare, convert, levels, peaks, spoken
from brae.core.assets.sound.levels import Levels, levels_of, measured
from brae.core.assets.sound.loops import blended, jump
from brae.core.assets.sound.pieces import Pieces, Samples
from brae.core.assets.sound.remedies import REMEDIES
from brae.core.assets.sound.riff import at_rate
from brae.core.assets.sound.sound import BITS, Sound, quantised, read
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
_STEP, _ALIKE, _COMPARED = 0.001, 0.9, 30
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
    """A sound that came back, with the rate and the channels of its original, and what is measured of both."""

    original: Sound
    came: Sound
    here: Levels
    there: Levels
    #: how often what came is cut off at full scale
    cut: int
    #: samples that it begins later
    more: int
    #: how far the signal jumps at the seam of a loop: the original's, and as it will be stored
    seams: tuple[float, float]
    remedies: Sequence[str]

    def remedy(self, remedy: str) -> Remedy:
        """A remedy, and whether it is applied."""
        return Remedy(id=remedy, label=REMEDIES[remedy], applied=remedy in self.remedies)


def fitted(original: Sound, came: Sound) -> Pieces:
    """What came back, with the rate and the channels of its original; in one piece where both are short."""
    pieces = came.pieces().each(lambda piece: convert.mixed(piece, original.channels))
    mixed = Pieces(came.rate, original.channels, pieces.of).resampled(original.rate)
    return mixed if original.long or came.long else mixed.at_once()


def _louder(pieces: Pieces, original: Sound) -> Pieces:
    wanted, now = measured(original), levels_of(pieces)
    if min(wanted.heard, now.heard) < levels.SILENT:
        return pieces
    ceiling = min(max(_CEILING, wanted.peak), 0.0)
    # Peaks give way, but not by more than is hardly heard: beyond that all of it is less loud.
    more = wanted.heard - now.heard
    more -= max(now.peak + more - (ceiling + _GIVES), 0)
    return peaks.limited(pieces.each(lambda piece: piece * 10 ** (more / 20)), ceiling)


def _centred(pieces: Pieces, original: Sound) -> Pieces:
    mean = levels_of(pieces).mean
    return pieces.each(lambda piece: piece - mean)


def late(pieces: Pieces, original: Sound, silent: int) -> int:
    """How many samples something stands later than in the original: by the silence before it (``silent``), or where
    the two are alike but for that, by the cross-correlation of the envelopes of their beginnings.
    """
    if silent > _LATE * original.rate or not original.frames:
        return silent
    from scipy.signal import correlate

    step = max(round(original.rate * _STEP), 1)
    most = round(_COMPARED / _STEP) * step
    samples, others = pieces.first(most), original.part(0, min(most, original.frames))
    if not len(samples):
        return silent
    here, there = (_envelope(one, step) for one in (samples, others))
    size = float(np.sqrt((here**2).sum() * (there**2).sum()))
    if not size:
        return silent
    found = correlate(here, there, method="fft") / size
    middle = len(there) - 1
    best = int(found.argmax())
    alike = best > middle and found[best] > _ALIKE and found[best] > found[middle] + (1 - _ALIKE)
    return max(_finely(samples, others, (best - middle) * step, step), silent) if alike else silent


def _finely(samples: Samples, original: Samples, about: int, step: int) -> int:
    """The delay to the sample, near to one that is known to a step or two."""
    here, there = samples.mean(axis=1), original.mean(axis=1)
    lags = range(max(about - 2 * step, 0), about + 2 * step + 1)
    size = min(len(there), len(here) - lags[-1])
    if size < 2:
        return about
    found = [float(here[lag : lag + size] @ there[:size]) for lag in lags]
    return lags[int(np.argmax(found))]


def _envelope(samples: Samples, step: int) -> Samples:
    """The loudest of each step, less their mean."""
    most = peaks.loudest(np.abs(samples))
    found: Samples = np.maximum.reduceat(most, np.arange(0, len(most), step))
    return found - found.mean()


def _more_silence(here: Levels, there: Levels) -> int:
    return here.silence[0] - there.silence[0]


def _earlier(pieces: Pieces, original: Sound) -> Pieces:
    silent = _more_silence(levels_of(pieces), measured(original))
    return pieces.without_first(max(late(pieces, original, silent), 0))


def _as_long(pieces: Pieces, original: Sound) -> Pieces:
    return pieces.of_length(original.frames, min(int(_FADE * original.rate), original.frames))


def _closed(pieces: Pieces, original: Sound) -> Pieces:
    if original.long or not pieces.is_whole:
        return pieces  # told as no finding, so nobody asked for it
    samples = pieces.all()
    return Pieces.whole(blended(samples, convert.loops_of(original, samples), original.rate), original.rate)


_ACTIONS: dict[str, Callable[[Pieces, Sound], Pieces]] = {
    "offset": _centred,
    "start": _earlier,
    "length": _as_long,
    "loudness": _louder,
    "seam": _closed,
}


def apply(pieces: Pieces, original: Sound, remedies: Sequence[str]) -> Pieces:
    """Samples with the remedies applied, always in the same order."""
    for remedy, action in _ACTIONS.items():
        if remedy in remedies:
            made = action(pieces, original)
            pieces = made.at_once() if pieces.is_whole else made
    return pieces


def is_untouched(original: Sound, came: Sound) -> bool:
    """Whether what came back is, to the sample, what was sent."""
    if (original.rate, original.channels, original.frames) != (came.rate, came.channels, came.frames):
        return False
    if convert.notes_of(original, came) is not None:
        return False
    subtype = convert.sent_subtype(original)
    for one, other in zip(original.pieces(), came.pieces(), strict=False):
        if subtype == "FLOAT":
            same = np.array_equal(one.astype(np.float32), other.astype(np.float32))
        else:
            same = np.array_equal(quantised(one, BITS[subtype]), quantised(other, BITS[subtype]))
        if not same:
            return False
    return True


def _ready(pieces: Pieces, original: Sound, remedies: Sequence[str]) -> Pieces:
    """What is to be stored, but for what closes the seam of a loop."""
    ready = apply(pieces, original, [one for one in remedies if one != "seam"])
    most = None if original.bare is None else original.bare.longest
    if original.length_is_said:
        made = _as_long(ready, original)
    elif most is not None and sum(map(len, ready)) > most:
        made = ready.of_length(most, min(int(_FADE * original.rate), most))
    else:
        return ready
    return made.at_once() if ready.is_whole else made


def wanted_of(original: Sound, came: Sound, remedies: Sequence[str]) -> Pieces:
    """What is to be stored of a sound that came back."""
    return apply(
        _ready(fitted(original, came), original, remedies), original, ["seam"] if "seam" in remedies else []
    )


def match(original: Sound, came: Sound, remedies: Sequence[str]) -> tuple[SoundSheet, bytes]:
    """The match sheet of a sound that came back, and its bytes stored like the original's."""
    words = None if original.spoken is None else spoken.beside(original, came).spoken.track
    same = words is None or original.spoken.same(words, original.spoken.track)
    there = measured(original)
    if same and is_untouched(original, came) and not remedies:
        samples, frames, result, here = original.pieces(), original.frames, original, there
        seam = _jumps(original, original.pieces())
        edit = Compared(original, came, here, there, there.cut, 0, (seam, seam), remedies)
        data = original.data if original.bare is None else original.raw
    else:
        pieces = fitted(original, came)
        here = levels_of(pieces)
        ready = _ready(pieces, original, remedies)
        more = late(pieces, original, _more_silence(here, there))
        seams = _jumps(original, original.pieces()), _jumps(original, ready)
        edit = Compared(original, came, here, there, measured(came).cut, more, seams, remedies)
        samples = apply(ready, original, ["seam"] if "seam" in remedies else [])
        frames = sum(map(len, samples))
        exact = (
            not _ACTIONS.keys() & {*remedies} and came.rate == original.rate and came.channels == original.channels
        )
        loops = convert.plain_loops_of(original, frames)
        if samples.is_whole:
            loops = convert.loops_of(original, samples.all())
        made = convert.written(
            original,
            samples,
            frames,
            loops,
            exact_bits=exact and _bits(came) <= _bits(original),
            notes=_notes(original, came, remedies, frames),
            chunks=_chunks(original, came, remedies, frames),
        )
        data = made.data
        if original.bare is None:
            result = read(data)
        else:
            data = bare.again(original, data)
            result = bare.reread(original, data)
    findings = [finding for rule in _RULES for finding in rule(edit)]
    room = None if original.bare is None else original.bare.room
    if room is not None and len(data) > room:
        findings.append(
            Finding(
                id="size",
                severity="stops",
                title=f"{len(data):,} bytes, and the game has room for {room:,}",
                in_game="It is not loaded, or overwrites what lies behind it. Make it shorter, or plainer.",
            )
        )
    if words is not None:
        findings += track_findings(original.spoken, words, remedies, frames / original.rate)
        if original.spoken.track.words and result is not original and spoken.beside(original, came) is original:
            findings.append(
                Finding(
                    id="words",
                    severity="note",
                    title="It came back without its words: those of the original are stored",
                    in_game="The program that saved it knows no such marks: place the words of a recording anew.",
                )
            )
    delay = (result.frames - frames) / result.rate
    if result.container == "MP3" and delay > _LATE and data != original.data:
        findings.append(
            Finding(
                id="delay",
                severity="note",
                title=f"It begins up to {delay * 1000:.0f} ms later, as MP3 of so few bits does",
                in_game="Its frames have no room to say what the encoder put before it.",
            )
        )
    after = there if result is original else measured(result)
    brought = here if (came.rate, came.channels) == (original.rate, original.channels) else measured(came)
    three = (there, brought, after)
    cost = _Cost(samples, result.pieces())
    sheet = SoundSheet(
        properties=_properties(original, came, result, three, len(data)),
        findings=findings,
        loudness=tuple(_said(one.loudness) for one in three),
        snr=cost.snr,
        spectral=cost.spectral,
    )
    return sheet, data


def _jumps(original: Sound, pieces: Pieces) -> float:
    """How far the signal jumps at the seams of loops; of long sounds nobody looks."""
    if not original.loops or not pieces.is_whole:
        return 0.0
    samples = pieces.all()
    return max((jump(samples, loop, original.rate) for loop in convert.loops_of(original, samples)), default=0.0)


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


def _said(loudness: float) -> float | None:
    return round(loudness, 2) if loudness > levels.SILENT else None


class _Cost:
    """How far what is stored is from what was to be stored, in one go through both.

    As a signal-to-noise ratio, and as the log-spectral distance of windows of 1,024 samples, over what is at most
    60 dB below the loudest (Gray and Markel, Distance measures for speech processing, 1976, from memory); in dB.
    """

    def __init__(self, wanted: Pieces, stored: Pieces) -> None:
        self._power = self._noise = self._apart = 0.0
        self._count = 0
        held = [np.zeros((0, wanted.channels)), np.zeros((0, stored.channels))]
        sources: list[Iterator[Samples]] = [iter(wanted), iter(stored)]
        if wanted.channels != stored.channels:
            return
        while all(self._fill(held, sources)):
            count = min(map(len, held))
            count = count // _WINDOW * _WINDOW or count
            self._take(held[0][:count], held[1][:count])
            held = [one[count:] for one in held]

    @staticmethod
    def _fill(held: list[Samples], sources: list[Iterator[Samples]]) -> list[bool]:
        for at, source in enumerate(sources):
            while len(held[at]) < _WINDOW and (piece := next(source, None)) is not None:
                held[at] = np.concatenate([held[at], piece])
        return [len(one) > 0 for one in held]

    def _take(self, wanted: Samples, stored: Samples) -> None:
        self._power += float((wanted**2).sum())
        self._noise += float(((wanted - stored) ** 2).sum())
        whole = len(wanted) // _WINDOW * _WINDOW
        if not whole:
            return
        window = np.hanning(_WINDOW)
        first, second = (
            20
            * np.log10(np.abs(np.fft.rfft(one[:whole].mean(axis=1).reshape(-1, _WINDOW) * window, axis=1)) + 1e-9)
            for one in (wanted, stored)
        )
        heard = first > max(first.max() - 60, -60)
        some = heard.any(axis=1)
        squares = np.where(heard, (first - second) ** 2, 0).sum(axis=1)[some] / heard.sum(axis=1)[some]
        self._apart += float(np.sqrt(squares).sum())
        self._count += int(some.sum())

    @property
    def snr(self) -> float | None:
        """None of silence, and where nothing was lost."""
        if not self._power or not self._noise:
            return None
        return round(10 * float(np.log10(self._power / self._noise)), 1)

    @property
    def spectral(self) -> float | None:
        """None where there is nothing to compare."""
        return round(self._apart / self._count, 2) if self._count else None


def _time(frames: int, rate: int) -> str:
    return f"{frames / rate:.3f} s"


def _properties(
    original: Sound, came: Sound, result: Sound, three: tuple[Levels, Levels, Levels], size: int
) -> list[Property]:
    def loops(sound: Sound) -> str:
        return ", ".join(f"{start:,} to {end:,}" for start, end in sound.loops) or "none"

    lengths = [(one.frames, one.rate) for one in (original, came, result)]
    rows = [
        ("Codec", original.codec, came.codec, result.codec),
        ("Sample rate", f"{original.rate:,} Hz", f"{came.rate:,} Hz", f"{result.rate:,} Hz"),
        ("Channels", str(original.channels), str(came.channels), str(result.channels)),
        ("Length", *(_time(*one) for one in lengths)),
        ("Loops", loops(original), loops(came), loops(result)),
        *([("Cue points", *(str(len(one.cues)) for one in (original, came, result)))] if original.cues else []),
        ("True peak", *(f"{one.peak:.1f} dBTP" for one in three)),
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
    if not edit.here.frames or edit.here.peak < -90:
        yield Finding(
            id="silent", severity="stops", title="There is nothing to hear in it", in_game="The game plays silence."
        )


def _clipped(edit: Compared) -> Iterator[Finding]:
    if edit.cut > 8 and edit.cut > 4 * edit.there.cut:
        yield Finding(
            id="clipped",
            severity="shows",
            title=f"{edit.cut:,} samples in a row are at full scale: it was recorded or amplified too loud",
            in_game="It crackles. Make it quieter in your editor, from a recording that is not cut off.",
        )


def _loud(edit: Compared) -> Iterator[Finding]:
    wanted, here = edit.there.heard, edit.here.heard
    if min(wanted, here) < levels.SILENT or abs(here - wanted) < _LOUDER:
        return
    yield Finding(
        id="loudness",
        severity="shows",
        title=f"{abs(here - wanted):.1f} LU {'louder' if here > wanted else 'quieter'} than the original",
        in_game="It stands out among the other sounds, or is not heard at all.",
        remedy=edit.remedy("loudness"),
    )


def _constant(edit: Compared) -> Iterator[Finding]:
    here = edit.here.offset
    if here > max(_OFFSET, 2 * edit.there.offset):
        yield Finding(
            id="offset",
            severity="shows",
            title=f"The signal lies {here:.1%} of full scale beside the middle",
            in_game="It clicks where it begins and ends.",
            remedy=edit.remedy("offset"),
        )


def _late(edit: Compared) -> Iterator[Finding]:
    more = edit.more / edit.original.rate
    if more > _LATE:
        silent = _more_silence(edit.here, edit.there) / edit.original.rate > _LATE
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
    here, wanted = edit.here.frames, edit.original.frames
    rate = edit.original.rate
    if abs(here - wanted) <= max(rate // 1000, 1):
        return
    loops = bool(edit.original.loops)
    most = None if edit.original.bare is None else edit.original.bare.longest
    if most is not None and here > most and not edit.original.length_is_said:
        yield Finding(
            id="length",
            severity="shows",
            title=f"{here / rate:.2f} s, and there is room for {most / rate:.2f} s",
            in_game="What is longer has no place in the game's memory.",
            remedy=Remedy(
                id="always", label=f"Cut it to {most:,} samples, with a short fade", applied=True, automatic=True
            ),
        )
        return
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
    before, here = edit.seams
    if here > 1.5 * before:
        yield Finding(
            id="seam",
            severity="shows",
            title=f"The signal jumps by {here:.0%} of its height where the loop begins again",
            in_game="It clicks each time round.",
            remedy=edit.remedy("seam"),
        )


_RULES = (_empty, _converted, _clipped, _constant, _late, _long, _loud, _clicks)
