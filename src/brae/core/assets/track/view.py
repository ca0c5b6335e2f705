"""What draws and edits a track on its page."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, Field

from brae.core.assets.base import ExchangeFile
from brae.core.assets.track.trackfile import TrackFile
from brae.core.errors import FormatError
from brae.core.voices import track as tracks
from brae.core.voices.phonemes import ARPABET, SHAPES, viseme_of
from brae.core.voices.track import Track

#: the open form in which the page sends it
FORM = ".json"


class Mouth(BaseModel):
    """How a mouth looks: how far open and how wide (0 to 1), whether teeth or tongue are seen, and examples."""

    example: str
    opened: float
    wide: float
    teeth: bool
    tongue: bool


class TrackView(BaseModel):
    """What draws and edits a track."""

    original: Track
    edit: Track
    #: the item in which it is said, by the layout
    sound: str | None
    #: the least seconds by which its times differ
    step: float
    #: whether the file holds words, and phonemes
    words: bool
    phonemes: bool
    #: the phonemes to choose from: the game's own, or ARPABET; and what each shows, a place in ``mouths``
    codes: dict[str, int]
    mouths: list[Mouth]


def view(original: TrackFile, edit: TrackFile) -> TrackView:
    """A track and an edit of it."""
    codes = original.codes or list(ARPABET)
    said = [one.code for track in (original.track, edit.track) for one in track.phonemes]
    words, phonemes = original.holds
    return TrackView(
        original=original.track, edit=edit.track, sound=original.sound, step=original.step,
        words=words, phonemes=phonemes,
        codes={code: viseme_of(code) or 0 for code in dict.fromkeys([*codes, *said])},
        mouths=[Mouth.model_validate(vars(shape)) for shape in SHAPES],
    )  # fmt: skip


class SetWords(BaseModel):
    """Words and phonemes in the place of those that are there: a track as JSON comes with it."""

    done: Annotated[str, Field(max_length=200)] = ""


def sent_track(file: ExchangeFile | None) -> Track:
    """The track that the page sent. FormatError where it sent none."""
    if file is None:
        raise FormatError("There are no words.", remedy="Send them as JSON.")
    return tracks.read(file.data, FORM)
