"""Files of a game that nobody has described: what lies in them by its signs, and what a look at each shows."""

from __future__ import annotations

import logging
import time
from collections import deque
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass, field
from typing import Any

from brae import __version__
from brae.core import addresses, catalogue
from brae.core.build.journal import Seen
from brae.core.catalogue import Item
from brae.core.containers import scattered
from brae.core.containers.base import Proof
from brae.core.containers.recognise import labels_of_parts
from brae.core.errors import BraeError, CancelledError
from brae.core.signs.scan import Hit, Search
from brae.core.sources import MAIN, FileSource
from brae.core.structure.glance import families, glance
from brae.store.models import ArchiveRow
from brae.work.archives import FIRST, MOST_NESTED, Archives, Candidate, Listed

log = logging.getLogger(__name__)
#: smaller files are no archives
_WORTH_DESCRIBING = 64
_MOST_UNDESCRIBED = 100
#: files found by their signs that are listed at once, and seconds after which fewer are
_SOONEST, _PATIENCE = 12, 0.4
#: files of a family that a look is taken at
_OF_A_FAMILY = 3
_MOST_ALIKE = 20


@dataclass
class Undescribed:
    """The files that no layout fits, with what was seen of them; those of ``before`` are not looked at again."""

    archives: Archives
    before: list[dict[str, Any]]
    entries: list[dict[str, Any]] = field(default_factory=list)
    #: how many files were found by their signs in each, and what was left out of them
    _by_signs: dict[str, tuple[int, list[str]]] = field(default_factory=dict)
    _inside: list[Candidate] = field(default_factory=list)

    def __post_init__(self) -> None:
        self._before = {entry["path"]: entry for entry in self.before}

    def add(self, relative: str, size: int) -> None:
        """One more file, if it is worth a look."""
        if size >= _WORTH_DESCRIBING:
            self.entries.append({"path": relative, "size": size})

    def look_through(self) -> None:
        """What lies in the files that nobody has described, smallest first, so that something is there soon."""
        listed: list[Listed] = []
        sizes = {entry["path"]: int(entry["size"]) for entry in self.entries}
        for relative in sorted(sizes, key=lambda path: sizes[path]):
            found = Candidate(scattered.KIND, addresses.quote(relative), relative, {MAIN: relative})
            known = self.archives.known(found)
            if known is not None:
                before = self._before.get(relative, {})
                self._by_signs[relative] = known.member_count, before.get("left_out", [])
                if known.member_count:
                    self.archives.note_original(relative)
                    one = Listed(known, found, reused=True)
                    self.archives.outermost(one)
                    if not known.proof:
                        listed.append(one)
                continue
            try:
                listed += self._scattered(found, relative)
            except CancelledError:
                raise
            except (BraeError, OSError) as error:
                log.info("looking through %s failed: %s", relative, error)
        waiting: deque[Candidate] = deque(self._inside)
        while waiting:
            self.archives.take(waiting.popleft(), waiting, listed)
        self.archives.settle(listed)
        self.entries.sort(key=lambda entry: -int(entry["size"]))
        self.entries = self.entries[:_MOST_UNDESCRIBED]
        self._glance()

    def _scattered(self, found: Candidate, relative: str) -> Iterator[Listed]:
        """Look through one file; what is found can be seen while the rest is looked through."""
        source = self.archives.workspace.original_source(self.archives.project, relative)
        self.archives.ticker.begin(source.size, "bytes looked through")
        search = Search(source, self.archives.ticker.tick)
        row = ArchiveRow(
            project_id=self.archives.project.id,
            address=found.address,
            layout=scattered.KIND,
            title=scattered.TITLE,
            files=found.files,
        )
        batch: list[Hit] = []
        kept: list[list[Any]] = []
        inside: list[tuple[int, Item]] = []
        told = time.monotonic()

        def tell() -> None:
            if not kept:
                self.archives.note_original(relative)
                self.archives.listing.add(row, None)
            part = scattered.Scattered(source, batch)
            items = list(catalogue.catalogue(part, self.archives.library))
            archives = (at for at, item in enumerate(items) if item.kind == catalogue.ARCHIVE)
            inside.extend((len(kept) + at, items[at]) for at in archives)
            self.archives.listing.fill(row, items, len(kept))
            self.archives.names += [item.name for item in items]
            kept.extend(part.rows())
            batch.clear()

        for hit in search.files():
            batch.append(hit)
            if len(batch) >= (FIRST if kept else _SOONEST) or time.monotonic() - told > _PATIENCE:
                tell()
                told = time.monotonic()
        if batch:
            tell()
        self._by_signs[relative] = len(kept), search.left_out
        if not kept:
            # Remembered, so that it is not looked through again until it changes.
            self.archives.listing.add(row, None)
            nothing = Proof(True, scope="signs").as_dict()
            self.archives.listing.settle(
                row, listed_from=self.archives.listed_from(found, by_hash=False), hits=[], proof=nothing
            )
            return
        row.member_count, row.hits = len(kept), kept
        listed_from = self.archives.listed_from(found, by_hash=False)
        self.archives.listing.settle(row, member_count=len(kept), hits=kept, listed_from=listed_from)
        one = Listed(row, found, scattered.Scattered.kept(source, kept))
        self.archives.outermost(one)
        assert one.container is not None
        for number, item in inside[:MOST_NESTED]:
            kind = item.container or ""
            files = labels_of_parts(kind, one.container, number, self.archives.library)
            self._inside.append(Candidate(kind, addresses.join(row.address, item.label), item.name, files, one))
        yield one

    def _glance(self) -> None:
        """One line for each file that nobody has described: what can be seen of it."""
        heads: dict[str, bytes] = {}
        for entry in self.entries:
            with suppress(BraeError, OSError), FileSource(self.archives.folder / entry["path"]) as source:
                heads[entry["path"]] = source.read(0, min(8, source.size))
        family = families(heads)
        members: dict[str, list[str]] = {}
        sizes = {entry["path"]: int(entry["size"]) for entry in self.entries}
        for entry in reversed(self.entries):  # smallest first
            if entry["path"] in family:
                members.setdefault(family[entry["path"]], []).append(entry["path"])
        self.archives.ticker.begin(len(self.entries), "files looked at")
        for entry in self.entries:
            self.archives.ticker.tick()
            path = str(entry["path"])
            found, left_out = self._by_signs.get(path, (0, []))
            seen = Seen.at(self.archives.folder / path)
            entry |= {"found": found, "left_out": left_out}
            entry |= {"seen": None if seen is None else [seen.size, seen.mtime, __version__]}
            alike = [other for other in members.get(family.get(path, ""), []) if other != path]
            entry["family"] = alike[:_MOST_ALIKE]
            before = self._before.get(path)
            if before is not None and before.get("seen") == entry["seen"] and "words" in before:
                entry |= {"words": before["words"], "like_archive": before["like_archive"]}
                continue
            try:
                # Of a large family only the smallest are looked at: the others begin alike.
                place = len([other for other in alike if sizes[other] < sizes[path]])
                with FileSource(self.archives.folder / path) as source:
                    shown = glance(source) if place < _OF_A_FAMILY else None
            except (BraeError, OSError) as error:
                log.info("looking at %s failed: %s", path, error)
                continue
            if shown is not None:
                entry |= {"words": shown.words(), "like_archive": shown.like_archive}
