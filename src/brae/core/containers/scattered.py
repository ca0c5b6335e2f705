"""Files of open formats in bytes that nobody has described, as a container: found by their signs, changed in place.

Nothing is known of the rest of the bytes, so nothing moves: a changed file keeps its length, or is shorter where
its format allows something behind its end. That is no proof that a game takes it: a checksum elsewhere may mind.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import astuple, replace
from functools import cached_property
from typing import Any

from brae.core.containers.base import Entry, Listed, Progress, Proof
from brae.core.containers.opened import Standard, register
from brae.core.errors import LayoutError
from brae.core.layouts.edits import Edits, MemberChange
from brae.core.layouts.segments import Body, Composed, Copy, New, Segment, body_segments, whole
from brae.core.signs.scan import Hit, Search, format_of
from brae.core.sources import MAIN, ByteSource

KIND = "scattered"
TITLE = "Files found by their signs"
#: formats that say themselves where they end, so that readers pass over what stands behind
_END_THEMSELVES = {"png", "jpeg", "gif", "bmp", "webp", "wav", "glb"}
_SUFFIXES = {"jpeg": ".jpg", "tiff": ".tif", "font": ".ttf", "text": ".txt", None: ".bin"}


class Scattered(Listed):
    """What a search by signs has found in a source."""

    def __init__(
        self,
        source: ByteSource,
        hits: Sequence[Hit],
        left_out: Sequence[str] = (),
        formats: Sequence[str | None] | None = None,
    ) -> None:
        self.hits, self.left_out = list(hits), list(left_out)
        entries = [Entry("", hit.offset, hit.length, hit.real, hit.packed or "none") for hit in hits]
        # Names need the beginnings of what is packed, and those need the entries.
        self._unnamed = entries
        self.title, self.sources, self.entries = TITLE, {MAIN: source}, entries
        self.labels = [str(hit.offset) for hit in self.hits]
        self.formats = self._formats() if formats is None else list(formats)
        named = [
            replace(entry, name=_name(hit, format_))
            for entry, hit, format_ in zip(entries, hits, self.formats, strict=True)
        ]
        self.__dict__.pop("names", None)
        super().__init__(TITLE, source, named)

    @classmethod
    def of(cls, source: ByteSource, tick: Callable[[int], None] = lambda amount: None) -> Scattered:
        """All that is found in a source."""
        search = Search(source, tick)
        hits = list(search.files())
        return cls(source, hits, search.left_out)

    @classmethod
    def kept(cls, source: ByteSource, rows: Sequence[Sequence[Any]]) -> Scattered:
        """What was found before, as ``rows`` says it."""
        return cls(source, [Hit(*row[1:]) for row in rows], (), [row[0] for row in rows])

    def rows(self) -> list[list[Any]]:
        """What was found, to be kept as JSON: the format, then the hit."""
        return [[said, *astuple(hit)] for said, hit in zip(self.formats, self.hits, strict=True)]

    def _formats(self) -> list[str | None]:
        """The format of each file, of packed ones by what they unpack to; None where no sign tells it."""
        inside = [number for number, hit in enumerate(self.hits) if hit.packed or hit.name]
        begun = dict(zip(inside, self.beginnings(inside, 64), strict=True))
        found: list[str | None] = []
        for number, hit in enumerate(self.hits):
            head = begun.get(number)
            found.append(hit.format if head is None else None if isinstance(head, Exception) else format_of(head))
        return found

    @cached_property
    def names(self) -> list[str]:
        return [entry.name for entry in self.entries]

    def slot(self, index: int) -> int:
        return self.hits[index].length

    def fits(self, index: int, length: int) -> bool:
        hit = self.hits[index]
        if hit.name is not None:  # a ZIP entry's records hold its checksum and sizes
            return False
        shorter = hit.packed is not None or hit.format in _END_THEMSELVES
        return length == hit.length or (shorter and length < hit.length)

    def pack(self, index: int, real: Body, level: int | None = None) -> MemberChange:
        packer = self.packer(index)
        if packer.name == "none":
            return MemberChange(real, real, True)
        data, best = whole(real), b""
        # As the original first, then as tight as it goes.
        for attempt in dict.fromkeys([packer.levels[0] if level is None else level, *packer.levels]):
            packed = packer.pack(data, attempt)
            if len(packed) <= self.slot(index):
                return MemberChange(packed, data)
            best = packed if not best or len(packed) < len(best) else best
        return MemberChange(best, data)

    def compose(self, edits: Edits, *, in_place: bool) -> Composed:
        if edits.added or edits.removed:
            raise LayoutError("Files found by their signs can be changed, but none added or taken out.")
        source, at = self.sources[MAIN], 0
        segments: list[Segment] = []
        for index in sorted(edits.changed, key=lambda index: self.hits[index].offset):
            hit, change = self.hits[index], edits.changed[index]
            if not self.fits(index, len(change.stored)):
                raise self._unfit(index, len(change.stored))
            segments += [Copy(at, hit.offset - at), *body_segments(change.stored)]
            segments.append(New(bytes(hit.length - len(change.stored))))
            at = hit.offset + hit.length
        segments.append(Copy(at, source.size - at))
        return Composed(dict(self.sources), {MAIN: segments})

    def _unfit(self, index: int, length: int) -> LayoutError:
        hit = self.hits[index]
        if hit.name is not None:
            return LayoutError(
                f"{hit.name} is an entry of a ZIP archive, whose records hold its checksum and size.",
                address=self.labels[index],
                remedy="Describe the archive, or change the ZIP file as a whole.",
            )
        what = f"{length:,} bytes, and its place has {hit.length:,}"
        return LayoutError(
            f"The changed file has {what}; nothing else can move, because nobody has described these bytes.",
            address=self.labels[index],
            remedy="Make it smaller (fewer colours or details, the same dimensions), or describe the archive.",
        )

    def prove(self, progress: Progress | None = None) -> Proof:
        return replace(super().prove(progress), scope="signs")


def _name(hit: Hit, format_: str | None) -> str:
    """What a file is called: by its offset, its own name if one stands with it, and an ending that editors know."""
    if hit.name is not None:
        return f"{hit.offset:010d}/{hit.name}"
    return f"{hit.offset:010d}{_SUFFIXES.get(format_, f'.{format_}')}"


register(Standard(KIND, TITLE, lambda source: False, lambda source, name: Scattered.of(source)))
