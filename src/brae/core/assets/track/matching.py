"""A track that came back beside its original: what is said when, what is wrong with it, and what puts it right."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from brae.core.assets.sheet import Finding, MatchSheet, Property, Remedy
from brae.core.assets.track.trackfile import TrackFile
from brae.core.voices import mending
from brae.core.voices.phonemes import nearest
from brae.core.voices.track import Track

REMEDIES = {
    "earlier": "Where two overlap, the earlier one stays",
    "later": "Where two overlap, the later one stays",
    "close": "Let each phoneme last until the next one",
    "cut": "Cut what lies after the end of the sound",
}
_TOLD = 6


def put_right(track: Track, remedies: Sequence[str], seconds: float | None) -> Track:
    """A track with the remedies applied, always in the same order; ``seconds``: of its sound, if that is known."""
    if "earlier" in remedies or "later" in remedies:
        track = mending.without_overlaps(track, earlier="later" not in remedies)
    if "close" in remedies:
        track = mending.without_gaps(track)
    if "cut" in remedies and seconds is not None:
        track = mending.within(track, seconds)
    return track


def match(
    original: TrackFile, came: Track, remedies: Sequence[str], seconds: float | None
) -> tuple[MatchSheet, bytes]:
    """The match sheet of a track that came back, and its file with the remedies applied."""
    made = put_right(came, remedies, seconds)
    data = original.rewrite(made)

    def told(of: Callable[[Track], int | str]) -> tuple[str, str, str]:
        return str(of(original.track)), str(of(came)), str(of(made))

    properties = [
        Property.of("Words", *told(lambda track: len(track.words)), matters=False),
        Property.of("Phonemes", *told(lambda track: len(track.phonemes)), matters=False),
        Property.of("Ends at", *told(lambda track: f"{_end(track):.3f} s"), matters=False),
        Property.of("Bytes", f"{len(original.data):,}", "–", f"{len(data):,}", matters=False),
    ]
    return MatchSheet(properties=properties, findings=list(findings(original, came, remedies, seconds))), data


def _plain(track: Track) -> list[str]:
    """The words, however they are spelt with capitals and signs."""
    found = ["".join(one for one in word.text.casefold() if one.isalnum()) for word in track.words]
    return [word for word in found if word]


def _end(track: Track) -> float:
    return max((word.end for word in track.words), default=0.0)


def _few(names: Sequence[str]) -> str:
    told = ", ".join(dict.fromkeys(names[:_TOLD]))
    return told + (f" and {len(names) - _TOLD} more" if len(names) > _TOLD else "")


def findings(original: TrackFile, came: Track, remedies: Sequence[str], seconds: float | None) -> Iterator[Finding]:
    """What is wrong with a track that came back, unless the original has it too; ``seconds``: of its sound."""

    def remedy(name: str) -> Remedy:
        return Remedy(id=name, label=REMEDIES[name], applied=name in remedies)

    before = original.track
    over = [one for one in mending.overlaps(came) if one not in mending.overlaps(before)]
    if over:
        yield Finding(
            id="overlap",
            severity="shows",
            title=f"Said at the same time: {_few([f'{one} and {other}' for one, other in over])}",
            in_game="The mouth jumps from one to the other.",
            remedy=remedy("earlier"),
            others=[remedy("later")],
        )
    open_ = [one for one in mending.gaps(came) if one not in mending.gaps(before)]
    if open_:
        yield Finding(
            id="gap",
            severity="shows",
            title=f"Nothing is said for a while within: {_few(open_)}",
            in_game="The mouth closes in the middle of the word.",
            remedy=remedy("close"),
        )
    if seconds is not None:
        late = mending.late(came, seconds)
        if late and not mending.late(before, seconds):
            yield Finding(
                id="after-end",
                severity="shows",
                title=f"After the end of the sound ({seconds:.2f} s): {_few(late)}",
                in_game="The mouth goes on when nothing is heard.",
                remedy=remedy("cut"),
            )
    short = mending.short(came)
    if len(short) > len(mending.short(before)):
        yield Finding(
            id="short",
            severity="note",
            title=f"Shorter than {mending.SHORT * 1000:.0f} ms: {_few(short)}",
            in_game="It is too short to be seen.",
        )
    yield from _changed(original, came)
    said, now = (_plain(track) for track in (before, came))
    if said and now and said != now:
        yield Finding(
            id="text",
            severity="note",
            title=f"It says other words than the original: {_few(now)}",
            in_game="A text that the game shows beside it stays as it is: change it too.",
        )


def _changed(original: TrackFile, came: Track) -> Iterator[Finding]:
    words, codes = original.holds
    known = original.codes
    if codes and known:
        strange = {one.code for one in came.phonemes} - {*known} - {one.code for one in original.moments}
        instead = {code: nearest(code, known) or code for code in sorted(strange)}
        other = [f"{code} as {own}" for code, own in instead.items() if code.rstrip("012") != own]
        if other:
            yield Finding(
                id="phonemes",
                severity="note",
                title=f"The game knows other phonemes: {_few(other)}",
                in_game="Those are stored that look alike on a mouth.",
            )
    if codes and not came.phonemes and original.track.phonemes:
        yield Finding(
            id="no-phonemes",
            severity="stops",
            title="There are words in it, but no phonemes",
            in_game="The mouth does not move.",
        )
    if not words and any(word.text for word in came.words):
        return  # what the game does not hold is on the page only, and no loss
    if not codes and came.phonemes:
        yield Finding(
            id="words-only",
            severity="note",
            title="This file holds words, and no phonemes",
            in_game="The phonemes stay out of the game.",
        )
