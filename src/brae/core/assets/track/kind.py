"""The kind of voice tracks."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated, Any, ClassVar, Literal

from pydantic import BaseModel, Field

from brae.core.assets import recognised
from brae.core.assets.base import (
    AssetKind,
    Change,
    Context,
    Encoded,
    Exchange,
    ExchangeFile,
    Head,
    NoWords,
    Preview,
    Query,
    Question,
    Sniffed,
    Version,
    Viewed,
)
from brae.core.assets.facts import Fact, Facts
from brae.core.assets.sheet import MatchSheet
from brae.core.assets.track import matching
from brae.core.assets.track.trackfile import TrackFile, read
from brae.core.assets.track.view import FORM, SetWords, TrackView, sent_track, view
from brae.core.errors import BraeError, FormatError
from brae.core.layouts.library import Library
from brae.core.voices import track as tracks
from brae.core.voices.track import FORMS, Track, form_of

_LARGEST = 8 << 20


class TrackFacts(Facts):
    """The facts of a track."""

    seconds: Annotated[float | None, Fact("Length", unit="s", order="down")] = None


class TrackRecipe(BaseModel):
    """How a track is stored."""

    layout: str
    words: bool
    phonemes: bool
    per_second: float
    size: int


class TrackQuery(Query):
    """What can be asked of a track's preview."""

    which: Literal["original", "edit"] = "original"
    most: Annotated[int, Field(ge=1, le=_LARGEST)] = _LARGEST


def _view(viewed: Viewed[TrackFile], query: NoWords, around: object) -> TrackView:
    return view(viewed.original, viewed.edit or viewed.original)


def _set(viewed: Viewed[TrackFile], query: SetWords, file: ExchangeFile | None) -> tuple[ExchangeFile, str]:
    track = sent_track(file)
    viewed.original.rewrite(track)  # for its error, where it cannot be stored
    return ExchangeFile(f"track{FORM}", form_of(FORM)(track).encode()), query.done or "Words and phonemes"


class TrackKind(AssetKind[TrackFile]):
    """Words and phonemes of voice lines with their times, described by a layout."""

    id = "track"
    title, titles = "Voice track", "Voice tracks"
    rank = 22
    facts = TrackFacts
    exchange = (
        Exchange(".textgrid", "text/plain"),
        Exchange(".vtt", "text/vtt"),
        Exchange(".json", "application/json"),
        Exchange(".csv", "text/csv"),
    )
    remedies: ClassVar[Mapping[str, str]] = matching.REMEDIES
    query = TrackQuery
    preview_media = "text"
    worded = True
    questions: ClassVar[Mapping[str, Question]] = {"words": Question(NoWords, TrackView, _view)}
    changes: ClassVar[Mapping[str, Change]] = {"set": Change(SetWords, _set)}

    def sniff(self, heads: Sequence[Head], library: Library) -> Sequence[Sniffed | None]:
        return recognised.sniff(self.id, heads, library, lambda layout, parsed: {})

    def read(self, data: bytes, context: Context) -> TrackFile:
        layout = recognised.layout_of(self.id, self.title, data, context)
        return read(layout, data, context.name, context.fetch)

    def rebuild(self, asset: TrackFile) -> bytes | None:
        return asset.again()

    def check_large(self, head: bytes, tail: bytes, size: int, name: str) -> None:
        if size > _LARGEST:
            raise FormatError(f"{size:,} bytes are no voice track.", expected=f"at most {_LARGEST:,}")

    def words(self, asset: TrackFile) -> str:
        return "".join(f"{word.text}\n" for word in asset.track.words if word.text)

    def pointed(self, asset: TrackFile) -> list[tuple[str, str, int]]:
        return [] if asset.sound is None else [(asset.sound, asset.sound, 0)]

    def came(self, original: TrackFile, file: ExchangeFile) -> TrackFile:
        return read(original.layout, original.rewrite(_track(file)), original.name, original.fetch)

    def renamed(self, original: TrackFile, file: ExchangeFile, instead: Mapping[str, str]) -> ExchangeFile:
        return file  # what is said is no name

    def preview(self, viewed: Viewed[TrackFile], query: TrackQuery) -> Preview:
        shown = viewed.edit if query.which == "edit" and viewed.edit is not None else viewed.original
        lines = [
            f"{word.start:8.3f}  {word.text or '…'}  {' '.join(one.code for one in word.phonemes)}\n"
            for word in shown.track.words
        ]
        return Preview("".join(lines)[: query.most].encode(), "text/plain; charset=utf-8")

    def recipe(self, asset: TrackFile) -> TrackRecipe:
        words, phonemes = asset.holds
        return TrackRecipe(
            layout=asset.layout.layout, words=words, phonemes=phonemes, per_second=asset.per_second,
            size=len(asset.data),
        )  # fmt: skip

    def send(self, asset: TrackFile) -> ExchangeFile:
        return ExchangeFile("track.textgrid", self.saved(asset, ".textgrid"))

    def saved(self, asset: TrackFile, suffix: str) -> bytes:
        # Bytes that are no text of the game's encoding are no text in the open file either.
        return form_of(suffix)(asset.track).encode(errors="replace")

    def check_file(self, file: ExchangeFile) -> None:
        try:
            _track(file)
        except BraeError as error:
            raise error.at(file.name) from None

    def convert(self, file: ExchangeFile, suffix: str) -> bytes:
        if suffix.lower() not in {one.lower() for one in FORMS}:
            return super().convert(file, suffix)
        return form_of(suffix)(_track(file)).encode()

    def match(self, original: TrackFile, version: Version, recipe: Mapping[str, Any]) -> tuple[MatchSheet, Encoded]:
        sheet, data = matching.match(original, _track(version.file), version.remedies, original.seconds)
        return sheet, Encoded(data)

    def again(self, original: TrackFile, encoded: Encoded) -> TrackFile:
        return read(original.layout, encoded.data, original.name, original.fetch)


def _track(file: ExchangeFile) -> Track:
    return tracks.read(file.data, file.suffix)


KIND = TrackKind()
