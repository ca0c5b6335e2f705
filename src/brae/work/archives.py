"""The archives of a game, listed at any depth and proved; what did not change since is not read again."""

from __future__ import annotations

import hashlib
import json
import logging
from collections import deque
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from brae import __version__
from brae.core import addresses, catalogue
from brae.core.assets.facts import declared
from brae.core.assets.registry import kinds
from brae.core.build.journal import Seen
from brae.core.catalogue import Item
from brae.core.containers import scattered
from brae.core.containers.base import Container, Proof
from brae.core.containers.evidence import judge
from brae.core.containers.recognise import labels_of_parts, open_container, title
from brae.core.errors import BraeError, CancelledError, FormatError, NotFoundError, internal
from brae.core.layouts.library import Library
from brae.core.sources import MAIN, ByteSource, BytesSource
from brae.jobs import Ticker
from brae.store.models import ArchiveRow, Original, Project
from brae.work.listing import Listing
from brae.work.workspace import Workspace

log = logging.getLogger(__name__)
#: a file of more bytes than this shows its own progress while it is hashed
_LARGE = 64 << 20
#: archives inside archives: how deep, how many, and how many bytes one may unpack to
_DEEPEST = 8
MOST_NESTED = 20_000
_LARGEST_UNPACKED = 256 << 20
#: members listed before they are written down; the first ones sooner, so that there is something to see
_BATCH, FIRST = 4096, 500


@dataclass
class Candidate:
    """An archive that was recognised and waits to be listed."""

    kind: str
    address: str
    name: str
    files: dict[str, str]
    parent: Listed | None = None


@dataclass
class Listed:
    """An archive whose members are known; its container is opened when it is needed."""

    row: ArchiveRow
    found: Candidate
    container: Container | None = None
    nesting: int = 0
    #: it was listed before, from the very same
    reused: bool = False


@dataclass
class Archives:
    """Lists the archives that were recognised, in turn; ``settle`` then hashes and proves what is new."""

    workspace: Workspace
    project: Project
    library: Library
    listing: Listing
    ticker: Ticker
    #: the game's files as they are known
    originals: dict[str, Original]
    #: names of everything found so far: archives that hold only hashes of names look theirs up here
    names: list[str] = field(default_factory=list)
    _noted: set[str] = field(default_factory=set)
    _to_hash: list[str] = field(default_factory=list)
    _to_settle: list[Listed] = field(default_factory=list)
    _nested: int = 0

    def __post_init__(self) -> None:
        self.folder = Path(self.project.folder)
        # Items are told anew when Brae has more to say of them, and not only by another version of it.
        said = {kind.id: sorted(declared(kind.facts)) for kind in kinds().values()}
        self._layouts = _digest([__version__, said, *sorted(self.library.versions.items())])

    def is_hashed(self, found: Candidate) -> bool:
        return found.kind in self.library.layouts and self.library.layouts[found.kind].hashed

    def listed_from(self, found: Candidate, *, by_hash: bool) -> str:
        """What an archive is listed from: its files as they are, and the layouts; "" where that cannot be told.

        Files are told by their hashes, or (until those are known) by size and time.
        """
        # Sorted: what was listed before is met in another order.
        names = sorted(set(self.names)) if self.is_hashed(found) else []
        if found.parent is not None:  # what holds it says the rest
            return _digest([found.kind, sorted(found.files.items()), names])
        files: list[object] = []
        for name, path in sorted(found.files.items()):
            known, seen = self.originals.get(path), Seen.at(self.folder / path)
            if seen is None:
                return ""
            if known is not None and seen != Seen(known.current_size, known.current_mtime):
                return ""
            if by_hash:
                if known is None:
                    return ""
                # The original is what is listed, whatever was built since.
                files.append([name, path, known.sha256])
            elif known is None or known.state == "original":
                files.append([name, path, seen.size, seen.mtime])
            else:
                return ""
        return _digest([found.kind, files, self._layouts, names])

    def known(self, found: Candidate) -> ArchiveRow | None:
        """The archive as it was listed before, if it need not be read again."""
        if found.parent is not None and not found.parent.reused:
            return None
        for by_hash in (True, False):
            row = self.listing.reuse(found.address, self.listed_from(found, by_hash=by_hash), found.kind or None)
            if row is not None:
                return row
        return None

    def take(self, found: Candidate, waiting: deque[Candidate], listed: list[Listed]) -> None:
        """Open one archive and write its members down; archives among them wait for their turn."""
        parent = found.parent
        if parent is None:
            for file in found.files.values():
                self.note_original(file)
        nesting = parent.nesting + 1 if parent else 0
        known = self.known(found)
        if known is not None:
            one = Listed(known, found, None, nesting, reused=True)
            self.outermost(one)
            self._go_on(one, waiting)
            if not known.proof:
                listed.append(one)
            return
        row = ArchiveRow(
            project_id=self.project.id,
            address=found.address,
            layout=found.kind,
            title=title(found.kind, self.library),
            files=found.files,
        )
        self.listing.add(row, parent.row if parent else None)
        one = Listed(row, found, None, nesting)
        try:
            container = one.container = self._open(one)
            self.ticker.begin(len(container), "members")
            self._list_members(one, waiting)
            # What was unpacked into memory is proved while it is there.
            if any(isinstance(source, BytesSource) for source in container.sources.values()):
                self.prove(one)
            else:
                listed.append(one)
        except CancelledError:
            raise
        except BraeError as error:
            self._fail(row, error, error.offset)
        except Exception as error:  # whatever one archive does, the others open
            log.exception("opening %s failed", found.address)
            self._fail(row, internal(error, found.address), None)

    def outermost(self, one: Listed) -> None:
        """Told by hash from now on, as soon as the hashes are known."""
        if one.found.parent is None:
            self._to_settle.append(one)

    def _fail(self, row: ArchiveRow, error: BraeError, offset: int | None) -> None:
        proof = Proof(False, offset=offset, reason=error.message)
        self.listing.settle(row, fault=str(error), proof=proof.as_dict())

    def _go_on(self, one: Listed, waiting: deque[Candidate]) -> None:
        """The archives inside one that is not read again."""
        names, inside = self.listing.known_members(one.row)
        self.names += names
        for number, label, name, kind in inside:
            if one.nesting >= _DEEPEST or self._nested >= MOST_NESTED:
                break
            self._nested += 1
            address = addresses.join(one.row.address, label)
            files = self.listing.files_of(address)
            if files is None:  # it was not reached before
                container = one.container = one.container or self._open(one)
                files = labels_of_parts(kind, container, number, self.library)
            waiting.append(Candidate(kind, address, name, files, one))

    def _open(self, one: Listed) -> Container:
        found = one.found
        sources: dict[str, ByteSource] = {}
        if found.parent is None:
            for name, file in found.files.items():
                sources[name] = self.workspace.original_source(self.project, file)
        else:
            outer = found.parent.container = found.parent.container or self._open(found.parent)
            for name, label in found.files.items():
                index = outer.index_of(label)
                if not outer.is_plain(index) and int(outer.real_sizes[index]) > _LARGEST_UNPACKED:
                    raise FormatError("It is packed and too large to be looked into.", address=found.address)
                sources[name] = outer.member_source(index)
        known: list[str] = []
        if self.is_hashed(found):
            known = self.library.known_names(self.library.layouts[found.kind]) + self.names
        if found.kind == scattered.KIND:
            return self.workspace.found_by_signs(one.row, sources[MAIN])
        return open_container(found.kind, sources, found.name, self.library, known)

    def _list_members(self, one: Listed, waiting: deque[Candidate]) -> None:
        assert one.container is not None
        batch: list[Item] = []
        first = 0
        inside: list[Candidate] = []
        for number, item in enumerate(catalogue.catalogue(one.container, self.library)):
            batch.append(item)
            self.names.append(item.name)
            self.ticker.tick()
            if item.kind == catalogue.ARCHIVE and one.nesting < _DEEPEST and self._nested < MOST_NESTED:
                self._nested += 1
                kind = item.container or ""
                files = labels_of_parts(kind, one.container, number, self.library)
                inside.append(Candidate(kind, addresses.join(one.row.address, item.label), item.name, files, one))
            if len(batch) == (_BATCH if first else FIRST):
                self.listing.fill(one.row, batch, first)
                first, batch = first + len(batch), []
        self.listing.fill(one.row, batch, first)
        one.row.member_count = first + len(batch)
        listed_from = self.listed_from(one.found, by_hash=False)
        self.listing.settle(one.row, member_count=one.row.member_count, listed_from=listed_from)
        self.outermost(one)
        waiting.extendleft(reversed(inside))

    def prove(self, one: Listed) -> None:
        evidence: list[dict[str, Any]] = []
        try:
            container = one.container = one.container or self._open(one)
            proof, found = judge(container, lambda done, total: self.ticker.tick())
            evidence = [one.as_dict() for one in found]
        except CancelledError:
            raise
        except BraeError as error:
            proof = Proof(False, offset=error.offset, reason=error.message)
        except Exception as error:  # whatever one archive does, the others are proved
            log.exception("proving %s failed", one.row.address)
            proof = Proof(False, reason=internal(error, one.row.address).message)
        self.listing.settle(one.row, proof=proof.as_dict(), evidence=evidence)

    def settle(self, listed: list[Listed]) -> None:
        """Hash what is new, and prove what was listed."""
        for relative in self._to_hash:
            self._hash(relative)
        for one in self._to_settle:
            listed_from = self.listed_from(one.found, by_hash=True)
            if listed_from != one.row.listed_from:
                self.listing.settle(one.row, listed_from=listed_from)
        self._to_hash, self._to_settle = [], []
        self.ticker.begin(sum(one.row.member_count for one in listed), "members proved")
        for one in listed:
            self.prove(one)

    def note_original(self, relative: str) -> None:
        """Remember a file as it is now, unless it is what Brae itself wrote; a new one is hashed later."""
        if relative in self._noted:
            return
        self._noted.add(relative)
        original = self.originals.get(relative)
        if original is None:
            self._to_hash.append(relative)
        elif Seen.at(self.folder / relative) != Seen(original.current_size, original.current_mtime):
            self._hash(relative)

    def _hash(self, relative: str) -> None:
        # Another program may take away what was just listed, such as an updater its draft: that is no original.
        with suppress(FileNotFoundError, NotFoundError):
            size = (self.folder / relative).stat().st_size
            if size > _LARGE:
                self.ticker.begin(size, "bytes")
            tick = self.ticker.tick if size > _LARGE else None
            self.originals[relative] = self.workspace.note_original(self.project, relative, tick)


def _digest(parts: object) -> str:
    return hashlib.sha256(json.dumps(parts, default=str).encode("utf-8", "backslashreplace")).hexdigest()
