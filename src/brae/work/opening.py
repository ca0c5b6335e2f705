"""Open: look through a game's folder, recognise its archives at any depth, list what they hold, prove them."""

from __future__ import annotations

import hashlib
import json
import logging
import os
import re
import time
from collections import deque
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from brae import __version__
from brae.core import addresses, catalogue
from brae.core.assets.base import HEAD
from brae.core.build.journal import Seen
from brae.core.catalogue import Item
from brae.core.containers import scattered
from brae.core.containers.base import Container, Proof
from brae.core.containers.evidence import judge
from brae.core.containers.recognise import files_of, labels_of_parts, open_container, recognise_file, title
from brae.core.errors import BraeError, CancelledError, FormatError, NotFoundError, internal
from brae.core.games.known import profiles_in
from brae.core.games.signs import edition_in, game_in, missing_halves
from brae.core.layouts.library import FOLDER, Library
from brae.core.signs.scan import Hit, Search
from brae.core.sources import MAIN, ByteSource, BytesSource, FileSource
from brae.core.sources.cue import image_of, is_cue
from brae.core.structure.glance import families, glance
from brae.jobs import Silent, Ticker
from brae.store.models import ArchiveRow, Original, Project, now
from brae.work import copies
from brae.work.listing import Listing
from brae.work.matching import rematch
from brae.work.workspace import Workspace

log = logging.getLogger(__name__)
_MOST_FILES = 50_000
#: a file of more bytes than this shows its own progress while it is hashed
_LARGE = 64 << 20
#: smaller files are no archives
_WORTH_DESCRIBING = 64
_MOST_UNDESCRIBED = 100
#: archives inside archives: how deep, how many, and how many bytes one may unpack to
_DEEPEST = 8
_MOST_NESTED = 20_000
_LARGEST_UNPACKED = 256 << 20
#: members listed before they are written down; the first ones sooner, so that there is something to see
_BATCH, _FIRST = 4096, 500
#: files found by their signs that are listed at once, and seconds after which fewer are
_SOONEST, _PATIENCE = 12, 0.4
#: files of a family that a look is taken at
_OF_A_FAMILY = 3
_MOST_ALIKE = 20


def project_id(name: str) -> str:
    """An identifier made of a folder's name."""
    return re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:60] or "game"


def begin(workspace: Workspace, path: Path, name: str | None = None) -> str:
    """The project for a folder or one archive, made where there is none; returns its identifier.

    Raises NotFoundError where there is nothing.
    """
    path = Path(os.path.abspath(path))  # noqa: PTH100  links are kept as the person named them
    if not path.exists():
        raise NotFoundError(f"There is no file or folder {path}.", remedy="Check the spelling.")
    if is_cue(path):
        path = image_of(path)
    folder, only = (path, None) if path.is_dir() else (path.parent, path.name)
    with workspace.database.change() as session:
        return _project(session, folder, only, name or (path.name if only is None else path.stem)).id


def open_game(
    workspace: Workspace, path: Path, ticker: Ticker | None = None, name: str | None = None
) -> dict[str, Any]:
    """Open a folder or one archive; opening it again takes the files as they are now and keeps the edits.

    What was listed before and has not changed is not read again, also where an opening was interrupted. Returns the
    project's identifier and counts. Raises NotFoundError where there is nothing.
    """
    identifier = begin(workspace, path, name)
    ticker = ticker or Silent()
    with workspace.locked(identifier, f"opening {path.name}"):
        result = _Opening(workspace, identifier, ticker).run()
        copies.tell(workspace, identifier)
        rematch(workspace, identifier, ticker)
        workspace.catalogues.of(identifier)  # read now, so that the first search does not wait for it
    workspace.events.publish("project", project=identifier)
    return result


def _project(session: Session, folder: Path, only: str | None, name: str) -> Project:
    project = session.scalar(select(Project).where(Project.folder == str(folder), Project.only.is_(only)))
    if project is None:
        taken = set(session.scalars(select(Project.id)))
        base, number = project_id(name), 1
        identifier = base
        while identifier in taken:
            number += 1
            identifier = f"{base}-{number}"
        project = Project(id=identifier, name=name, folder=str(folder), only=only)
        session.add(project)
        session.flush()
    return project


@dataclass
class _Candidate:
    """An archive that was recognised and waits to be listed."""

    kind: str
    address: str
    name: str
    files: dict[str, str]
    parent: _Listed | None = None


@dataclass
class _Listed:
    """An archive whose members are known; its container is opened when it is needed."""

    row: ArchiveRow
    found: _Candidate
    container: Container | None = None
    nesting: int = 0
    #: it was listed before, from the very same
    reused: bool = False


@dataclass
class _Opening:
    workspace: Workspace
    project_id: str
    ticker: Ticker
    undescribed: list[dict[str, Any]] = field(default_factory=list)
    names: list[str] = field(default_factory=list)
    noted: set[str] = field(default_factory=set)
    to_hash: list[str] = field(default_factory=list)
    to_settle: list[_Listed] = field(default_factory=list)
    nested: int = 0

    def run(self) -> dict[str, Any]:
        """List first, so that there is something to look at; hash and prove afterwards."""
        self.workspace.forget_archives()
        self.project = self._recognise_game(self.workspace.project(self.project_id))
        self.folder, self.only = Path(self.project.folder), self.project.only
        self.library: Library = self.workspace.project_library(self.project)
        self.originals = self.workspace.originals(self.project_id)
        # What Brae itself put beside the game's files is no part of the game.
        self.made = {path for path, original in self.originals.items() if original.state == "created"}
        # Until it has been opened as a whole, what is found can be looked at at once.
        self.listing = Listing(self.workspace, self.project_id, at_once=self.project.files_seen == 0)
        self.unknown: list[str] = []
        #: how many files were found by their signs in each, and what was left out of them
        self.by_signs: dict[str, tuple[int, list[str]]] = {}
        self.seen_before = {entry["path"]: entry for entry in self.project.undescribed}
        self.inside: list[_Candidate] = []
        self.layouts = _digest([__version__, *sorted(self.library.versions.items())])
        files = self._files()
        self._look_through(files)
        profile = self.workspace.profile(self.project)
        relative = [file.relative_to(self.folder).as_posix() for file in files]
        with self.workspace.database.change() as session:
            self.listing.finish(session)
            project = session.get_one(Project, self.project_id)
            project.files_seen, project.opened = len(files), now()
            project.layout_faults = [
                error.as_dict() | {"layout": Path(path).name}
                for path, error in (self.library.errors | profiles_in(self.library.folders)[1]).items()
            ]
            project.game_faults = missing_halves(profile, relative) if profile is not None else []
            project.undescribed = self.undescribed
            self._forget_gone(session, set(relative))
        return {
            "project": self.project_id,
            "archives": self.listing.archives,
            "members": self.listing.members,
            "files": len(files),
            "reused": self.listing.reused,
        }

    def _recognise_game(self, project: Project) -> Project:
        folder = Path(project.folder)
        library = self.workspace.project_library(project)
        profile = game_in(folder, library) if project.only is None else None
        edition = edition_in(folder, profile, library) if profile is not None else None
        with self.workspace.database.change() as session:
            row = session.get_one(Project, project.id)
            row.game = profile.game if profile is not None else None
            row.edition = edition.edition if edition is not None else None
            return row

    def _look_through(self, files: list[Path]) -> None:
        self.ticker.begin(len(files), "files")
        claimed: set[str] = set()
        loose: list[str] = []
        waiting: deque[_Candidate] = deque()
        for path in files:
            self.ticker.tick()
            relative = path.relative_to(self.folder).as_posix()
            kind = self._kind_of(path)
            if kind is None:
                loose.append(relative)
                continue
            companions = files_of(kind, path, self.library).items()
            own = {file: other.relative_to(self.folder).as_posix() for file, other in companions}
            own = {file: other for file, other in own.items() if other not in self.made}
            claimed |= set(own.values())
            waiting.append(_Candidate(kind, addresses.quote(relative), relative, own))
        self.names += [file.relative_to(self.folder).as_posix() for file in files]
        for relative in loose:
            if relative not in claimed:
                self._add_loose(relative)
        listed: list[_Listed] = []
        # Hashes of names are looked up among the names of everything else, so those archives come last.
        late: deque[_Candidate] = deque()
        while waiting or late:
            if not waiting:
                self._list(late.popleft(), waiting, listed)
            elif self._is_hashed(waiting[0]):
                late.append(waiting.popleft())
            else:
                self._list(waiting.popleft(), waiting, listed)
        self.listing.tell_parts()
        self._settle(listed)
        self._look_for_signs()

    def _settle(self, listed: list[_Listed]) -> None:
        """Hash what is new, and prove what was listed."""
        for relative in self.to_hash:
            self._hash(relative)
        for one in self.to_settle:
            listed_from = self._from(one.found, by_hash=True)
            if listed_from != one.row.listed_from:
                self.listing.settle(one.row, listed_from=listed_from)
        self.to_hash, self.to_settle = [], []
        self.ticker.begin(sum(one.row.member_count for one in listed), "members proved")
        for one in listed:
            self._prove(one)

    # ---- what nobody has described ------------------------------------------------------------------------

    def _look_for_signs(self) -> None:
        """What lies in the files that nobody has described, smallest first, so that something is there soon."""
        listed: list[_Listed] = []
        sizes = {entry["path"]: int(entry["size"]) for entry in self.undescribed}
        for relative in sorted(self.unknown, key=lambda path: sizes[path]):
            found = _Candidate(scattered.KIND, addresses.quote(relative), relative, {MAIN: relative})
            known = self._known(found)
            if known is not None:
                before = self.seen_before.get(relative, {})
                self.by_signs[relative] = known.member_count, before.get("left_out", [])
                if known.member_count:
                    self._note_original(relative)
                    one = _Listed(known, found, reused=True)
                    self._outermost(one)
                    if not known.proof:
                        listed.append(one)
                continue
            try:
                listed += self._scattered(found, relative)
            except CancelledError:
                raise
            except (BraeError, OSError) as error:
                log.info("looking through %s failed: %s", relative, error)
        waiting: deque[_Candidate] = deque(self.inside)
        while waiting:
            self._list(waiting.popleft(), waiting, listed)
        self._settle(listed)
        self.undescribed.sort(key=lambda entry: -int(entry["size"]))
        self.undescribed = self.undescribed[:_MOST_UNDESCRIBED]
        self._glance()

    def _scattered(self, found: _Candidate, relative: str) -> Iterator[_Listed]:
        """Look through one file; what is found can be seen while the rest is looked through."""
        source = self.workspace.original_source(self.project, relative)
        self.ticker.begin(source.size, "bytes looked through")
        search = Search(source, self.ticker.tick)
        row = ArchiveRow(
            project_id=self.project_id,
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
                self._note_original(relative)
                self.listing.add(row, None)
            part = scattered.Scattered(source, batch)
            items = list(catalogue.catalogue(part, self.library))
            archives = (at for at, item in enumerate(items) if item.kind == catalogue.ARCHIVE)
            inside.extend((len(kept) + at, items[at]) for at in archives)
            self.listing.fill(row, items, len(kept))
            self.names += [item.name for item in items]
            kept.extend(part.rows())
            batch.clear()

        for hit in search.files():
            batch.append(hit)
            if len(batch) >= (_FIRST if kept else _SOONEST) or time.monotonic() - told > _PATIENCE:
                tell()
                told = time.monotonic()
        if batch:
            tell()
        self.by_signs[relative] = len(kept), search.left_out
        if not kept:
            # Remembered, so that it is not looked through again until it changes.
            self.listing.add(row, None)
            nothing = Proof(True, scope="signs").as_dict()
            self.listing.settle(row, listed_from=self._from(found, by_hash=False), hits=[], proof=nothing)
            return
        row.member_count, row.hits = len(kept), kept
        listed_from = self._from(found, by_hash=False)
        self.listing.settle(row, member_count=len(kept), hits=kept, listed_from=listed_from)
        one = _Listed(row, found, scattered.Scattered.kept(source, kept))
        self._outermost(one)
        assert one.container is not None
        for number, item in inside[:_MOST_NESTED]:
            kind = item.container or ""
            files = labels_of_parts(kind, one.container, number, self.library)
            self.inside.append(_Candidate(kind, addresses.join(row.address, item.label), item.name, files, one))
        yield one

    def _glance(self) -> None:
        """One line for each file that nobody has described: what can be seen of it."""
        heads: dict[str, bytes] = {}
        for entry in self.undescribed:
            with suppress(BraeError, OSError), FileSource(self.folder / entry["path"]) as source:
                heads[entry["path"]] = source.read(0, min(8, source.size))
        family = families(heads)
        members: dict[str, list[str]] = {}
        sizes = {entry["path"]: int(entry["size"]) for entry in self.undescribed}
        for entry in reversed(self.undescribed):  # smallest first
            if entry["path"] in family:
                members.setdefault(family[entry["path"]], []).append(entry["path"])
        self.ticker.begin(len(self.undescribed), "files looked at")
        for entry in self.undescribed:
            self.ticker.tick()
            path = str(entry["path"])
            found, left_out = self.by_signs.get(path, (0, []))
            seen = Seen.at(self.folder / path)
            entry |= {"found": found, "left_out": left_out}
            entry |= {"seen": None if seen is None else [seen.size, seen.mtime, __version__]}
            alike = [other for other in members.get(family.get(path, ""), []) if other != path]
            entry["family"] = alike[:_MOST_ALIKE]
            before = self.seen_before.get(path)
            if before is not None and before.get("seen") == entry["seen"] and "words" in before:
                entry |= {"words": before["words"], "like_archive": before["like_archive"]}
                continue
            try:
                # Of a large family only the smallest are looked at: the others begin alike.
                place = len([other for other in alike if sizes[other] < sizes[path]])
                with FileSource(self.folder / path) as source:
                    shown = glance(source) if place < _OF_A_FAMILY else None
            except (BraeError, OSError) as error:
                log.info("looking at %s failed: %s", path, error)
                continue
            if shown is not None:
                entry |= {"words": shown.words(), "like_archive": shown.like_archive}

    def _is_hashed(self, found: _Candidate) -> bool:
        return found.kind in self.library.layouts and self.library.layouts[found.kind].hashed

    def _files(self) -> list[Path]:
        if self.only is not None:
            return [self.folder / self.only]
        found = sorted(_walk(self.folder))
        return [path for path in found if path.relative_to(self.folder).as_posix() not in self.made]

    def _kind_of(self, path: Path) -> str | None:
        try:
            return recognise_file(path, self.library)
        except BraeError:
            return None
        except Exception:  # whatever one file does, the others open; it is offered for description
            log.exception("recognising %s failed", path)
            return None

    # ---- archives ---------------------------------------------------------------------------------------

    def _from(self, found: _Candidate, *, by_hash: bool) -> str:
        """What an archive is listed from: its files as they are, and the layouts; "" where that cannot be told.

        Files are told by their hashes, or (until those are known) by size and time.
        """
        names = self.names if self._is_hashed(found) else []
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
        return _digest([found.kind, files, self.layouts, names])

    def _known(self, found: _Candidate) -> ArchiveRow | None:
        """The archive as it was listed before, if it need not be read again."""
        if found.parent is not None and not found.parent.reused:
            return None
        for by_hash in (True, False):
            row = self.listing.reuse(found.address, self._from(found, by_hash=by_hash), found.kind or None)
            if row is not None:
                return row
        return None

    def _list(self, found: _Candidate, waiting: deque[_Candidate], listed: list[_Listed]) -> None:
        """Open one archive and write its members down; archives among them wait for their turn."""
        parent = found.parent
        if parent is None:
            for file in found.files.values():
                self._note_original(file)
        nesting = parent.nesting + 1 if parent else 0
        known = self._known(found)
        if known is not None:
            one = _Listed(known, found, None, nesting, reused=True)
            self._outermost(one)
            self._go_on(one, waiting)
            if not known.proof:
                listed.append(one)
            return
        row = ArchiveRow(
            project_id=self.project_id,
            address=found.address,
            layout=found.kind,
            title=title(found.kind, self.library),
            files=found.files,
        )
        self.listing.add(row, parent.row if parent else None)
        one = _Listed(row, found, None, nesting)
        try:
            container = one.container = self._open(one)
            self.ticker.begin(len(container), "members")
            self._list_members(one, waiting)
            # What was unpacked into memory is proved while it is there.
            if any(isinstance(source, BytesSource) for source in container.sources.values()):
                self._prove(one)
            else:
                listed.append(one)
        except CancelledError:
            raise
        except BraeError as error:
            self._fail(row, error, error.offset)
        except Exception as error:  # whatever one archive does, the others open
            log.exception("opening %s failed", found.address)
            self._fail(row, internal(error, found.address), None)

    def _outermost(self, one: _Listed) -> None:
        """Told by hash from now on, as soon as the hashes are known."""
        if one.found.parent is None:
            self.to_settle.append(one)

    def _fail(self, row: ArchiveRow, error: BraeError, offset: int | None) -> None:
        proof = Proof(False, offset=offset, reason=error.message)
        self.listing.settle(row, fault=str(error), proof=proof.as_dict())

    def _go_on(self, one: _Listed, waiting: deque[_Candidate]) -> None:
        """The archives inside one that is not read again."""
        names, inside = self.listing.known_members(one.row)
        self.names += names
        for number, label, name, kind in inside:
            if one.nesting >= _DEEPEST or self.nested >= _MOST_NESTED:
                break
            self.nested += 1
            address = addresses.join(one.row.address, label)
            files = self.listing.files_of(address)
            if files is None:  # it was not reached before
                container = one.container = one.container or self._open(one)
                files = labels_of_parts(kind, container, number, self.library)
            waiting.append(_Candidate(kind, address, name, files, one))

    def _open(self, one: _Listed) -> Container:
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
        if self._is_hashed(found):
            known = self.library.known_names(self.library.layouts[found.kind]) + self.names
        if found.kind == scattered.KIND:
            return self.workspace.found_by_signs(one.row, sources[MAIN])
        return open_container(found.kind, sources, found.name, self.library, known)

    def _list_members(self, one: _Listed, waiting: deque[_Candidate]) -> None:
        assert one.container is not None
        batch: list[Item] = []
        first = 0
        inside: list[_Candidate] = []
        for number, item in enumerate(catalogue.catalogue(one.container, self.library)):
            batch.append(item)
            self.names.append(item.name)
            self.ticker.tick()
            if item.kind == catalogue.ARCHIVE and one.nesting < _DEEPEST and self.nested < _MOST_NESTED:
                self.nested += 1
                kind = item.container or ""
                files = labels_of_parts(kind, one.container, number, self.library)
                inside.append(_Candidate(kind, addresses.join(one.row.address, item.label), item.name, files, one))
            if len(batch) == (_BATCH if first else _FIRST):
                self.listing.fill(one.row, batch, first)
                first, batch = first + len(batch), []
        self.listing.fill(one.row, batch, first)
        one.row.member_count = first + len(batch)
        listed_from = self._from(one.found, by_hash=False)
        self.listing.settle(one.row, member_count=one.row.member_count, listed_from=listed_from)
        self._outermost(one)
        waiting.extendleft(reversed(inside))

    def _prove(self, one: _Listed) -> None:
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

    # ---- originals --------------------------------------------------------------------------------------

    def _forget_gone(self, session: Session, seen: set[str]) -> None:
        for original in session.scalars(select(Original).where(Original.project_id == self.project_id)):
            # A file that Brae replaced and that is gone now can still be restored: it is not forgotten.
            gone = original.path not in seen and not (self.folder / original.path).exists()
            if gone and original.state == "original":
                session.delete(original)

    def _note_original(self, relative: str) -> None:
        """Remember a file as it is now, unless it is what Brae itself wrote; a new one is hashed later."""
        if relative in self.noted:
            return
        self.noted.add(relative)
        original = self.originals.get(relative)
        if original is None:
            self.to_hash.append(relative)
        elif Seen.at(self.folder / relative) != Seen(original.current_size, original.current_mtime):
            self._hash(relative)

    def _hash(self, relative: str) -> None:
        size = (self.folder / relative).stat().st_size
        if size > _LARGE:
            self.ticker.begin(size, "bytes")
        tick = self.ticker.tick if size > _LARGE else None
        self.originals[relative] = self.workspace.note_original(self.project, relative, tick)

    def _add_loose(self, relative: str) -> None:
        """A file outside any archive; only pictures, sounds and texts are worth a place in the catalogue."""
        path, label = self.folder / relative, addresses.quote(relative)
        found = _Candidate("", label, relative, {MAIN: relative})
        known = self._known(found)
        if known is not None:
            self._note_original(relative)
            one = _Listed(known, found, reused=True)
            self.names += self.listing.known_members(known)[0]
            self._outermost(one)
            return
        try:
            size = path.stat().st_size
            with FileSource(path) as source:
                item = catalogue.describe(
                    source.read(0, min(HEAD, size)),
                    self.library,
                    label=label,
                    name=relative,
                    stored=size,
                    real=size,
                    packer="none",
                    read=lambda length: source.read(0, min(length, size)),
                )
        except (BraeError, OSError):
            return
        except Exception:  # whatever one file does, the others are listed
            log.exception("describing %s failed", relative)
            return
        if item.kind == catalogue.DATA:
            if size >= _WORTH_DESCRIBING:
                self.undescribed.append({"path": relative, "size": size})
                self.unknown.append(relative)
            return
        self._note_original(relative)
        row = ArchiveRow(
            project_id=self.project_id,
            address=label,
            layout=None,
            title="Loose file",
            files=found.files,
            proof=Proof(True, 1).as_dict(),
            member_count=1,
            listed_from=self._from(found, by_hash=False),
        )
        self.listing.add(row, None)
        self.listing.fill(row, [item])
        self._outermost(_Listed(row, found))


def _digest(parts: object) -> str:
    return hashlib.sha256(json.dumps(parts, default=str).encode("utf-8", "backslashreplace")).hexdigest()


def _walk(folder: Path) -> Iterator[Path]:
    """Every ordinary file below a folder; links that lead elsewhere and hidden things are passed over."""
    count = 0
    for current, folders, names in os.walk(folder):
        folders[:] = sorted(name for name in folders if not name.startswith(".") and name != FOLDER)
        for name in sorted(names):
            path = Path(current) / name
            if name.startswith(".") or path.is_symlink() or not path.is_file():
                continue
            count += 1
            if count > _MOST_FILES:
                raise NotFoundError(
                    f"There are more than {_MOST_FILES:,} files below {folder}.",
                    remedy="Choose the folder of one game, or one archive.",
                )
            yield path
