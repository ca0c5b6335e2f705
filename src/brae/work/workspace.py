"""What every stage of the work stands on: the store, the layouts, the archives that are open, the originals.

Nothing here keeps a database session open while it computes: rows are read, the session is closed, and what was
read is used as it is.
"""

from __future__ import annotations

import contextlib
import hashlib
import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future
from dataclasses import dataclass
from pathlib import Path
from typing import Any, TypeVar, cast

from sqlalchemy import select
from sqlalchemy.orm import Session

from brae.core import addresses
from brae.core.assets.base import (
    AssetKind,
)
from brae.core.assets.said import check
from brae.core.build.journal import Journal, Seen, file_hash, tidy
from brae.core.containers import scattered
from brae.core.containers.base import Container
from brae.core.containers.recognise import open_container
from brae.core.errors import BraeError, ChangedError, NotFoundError
from brae.core.games.known import profiles_in
from brae.core.games.model import GameProfile
from brae.core.layouts.library import FOLDER, Library
from brae.core.sources import MAIN, ByteSource, BytesSource, FileSource, OverlaySource, chunks
from brae.demo import LAYOUTS
from brae.jobs import Events, Jobs
from brae.store import Blobs, Home, Ledger, open_database
from brae.store.home import InUseError
from brae.store.likenesses import Likenesses
from brae.store.mentions import Mentions
from brae.store.models import ArchiveRow, Edit, Member, Original, Project
from brae.store.thumbnails import Thumbnails
from brae.work.asked import AskedPictures
from brae.work.columns import Catalogues
from brae.work.records import finish

#: archives that stay open, and how many unpacked bytes they may keep in memory together
_OPEN_ARCHIVES = 32
_OPEN_BYTES = 128 << 20
#: bytes of items that are looked at part by part
_VIEWED_BYTES = 256 << 20
#: seconds that are waited for another process
_PATIENCE = 5.0
#: seconds in which a build replaces its files and writes that down, and between two looks whether it has
_BUILD_ENDS, _LOOK_AGAIN = 5.0, 0.02
#: what tells one state of an archive, its files and its layout, from every other
Version = tuple[object, ...]
Row = TypeVar("Row")
#: rows that are remembered at most
_ROWS = 4096
#: members that one query finds by their addresses; SQLite takes more, a page of memory less
_FOUND = 500


@dataclass(frozen=True)
class Located:
    """A member, by its address."""

    member: Member
    archive: ArchiveRow


def _seen_by(original: Original) -> Seen:
    """A game file as it was when Brae last read or wrote it."""
    return Seen(original.current_size, original.current_mtime)


def _memory(archive: Container) -> int:
    """The bytes of an archive that had to be unpacked as a whole."""
    return sum(source.size for source in archive.sources.values() if isinstance(source, BytesSource))


class _Turns:
    """One turn a project, among the threads of this process; ``doing`` says who has it."""

    def __init__(self) -> None:
        self._guard = threading.Lock()
        self._locks: dict[str, threading.Lock] = {}
        self.doing: dict[str, str] = {}

    @contextlib.contextmanager
    def turn(self, project: str, doing: str, *, wait: bool) -> Iterator[bool]:
        """Whether this thread's turn has come; it is False only where it does not ``wait``."""
        with self._guard:
            lock = self._locks.setdefault(project, threading.Lock())
        mine = lock.acquire(blocking=wait)
        if not mine:
            yield False
            return
        self.doing[project] = doing
        try:
            yield True
        finally:
            del self.doing[project]
            lock.release()


class Workspace:
    """Database, kept bytes, layouts, jobs and the archives that are open."""

    def __init__(self, home: Home) -> None:
        self.home = home
        self.ledger = Ledger(home.ledger)
        self.database = open_database(home, self.ledger)
        self.blobs = Blobs(home.blobs)
        self.events = Events()
        self.jobs = Jobs(self.database, self.events)
        self.catalogues = Catalogues(self.database)
        self.thumbnails = Thumbnails(home.thumbnails)
        self.asked = AskedPictures()
        self.likenesses = Likenesses(home.likenesses)
        self.mentions = Mentions(home.mentions)
        #: of the project whose pictures were searched last: what tells its state, and they
        self.pictures: tuple[Version, Any] | None = None
        self.gathering = threading.Lock()
        #: what the items of one project need of each other, and what its texts say, with the state they are of
        self.linked: tuple[Version, Any] | None = None
        self.said: tuple[Version, Any] | None = None
        self.named: tuple[Version, Any] | None = None
        #: the items that hold the bytes that were looked for last, by pattern and state
        self.holding: dict[Version, frozenset[str]] = {}
        self.linking = threading.Lock()
        #: the jobs that work those out, by what and of which state
        self.reading: dict[Version, Future[None]] = {}
        self.reading_lock = threading.Lock()
        #: the pictures of one project that are copies of each other, and items with the very same bytes
        self.alike: tuple[Version, Any] | None = None
        self.twins: dict[Version, list[str]] = {}
        #: whether two items show the same in their own sizes
        self.same_shown: dict[Version, bool] = {}
        self._archives: OrderedDict[Version, Container] = OrderedDict()
        #: whose turn it is to open one
        self._opening: dict[Version, threading.Lock] = {}
        #: how items look with what another edit changes, by what was compared
        self.compared: dict[tuple[Any, ...], tuple[float, float, float]] = {}
        self._viewed: OrderedDict[Version, tuple[Any, int]] = OrderedDict()
        #: of a game file: the database's version, whether its original is kept whole, else what it is on disk,
        #: and what tells that state
        self._states: dict[tuple[str, str], tuple[int, bool, Seen | None, Version]] = {}
        #: rows that are asked for again and again, and the version of the database that they are of
        self._rows: tuple[int, dict[tuple[str, ...], Any]] = (-1, {})
        self._lock = threading.RLock()
        self._turns = _Turns()
        self._finish_builds()

    def close(self) -> None:
        """Stop the jobs and let go of every file."""
        self.jobs.close()
        self.forget_archives()
        self.thumbnails.close()
        self.likenesses.close()
        self.mentions.close()
        self.database.close()

    def _finish_builds(self) -> None:
        """Carry out builds that a kill interrupted, and clear away what others had begun to write."""
        for project in sorted({path.stem for path in self.home.journals.iterdir()}):
            # Where another process holds the lock it is in the middle of this very build; where a step is refused
            # the journal stays, and the next build or restore says so.
            with contextlib.suppress(BraeError), self.locked(project, "finishing a build", wait=False):
                pass

    @contextlib.contextmanager
    def locked(self, project: str, doing: str = "working on it", *, wait: bool = True) -> Iterator[None]:
        """Hold the project's lock, against other threads and other processes.

        Threads of this process come one after the other; another process is waited for some seconds. A build that a
        kill interrupted is finished first. Raises InUseError: at once with ``wait`` False.
        """
        with self._turns.turn(project, doing, wait=wait) as mine:
            if not mine:
                raise InUseError(
                    f"This Brae is busy with '{project}': {self._turns.doing.get(project, 'another change')}.",
                    remedy="Wait until that is done, or cancel it.",
                )
            with self.home.held(project, _PATIENCE if wait else 0):
                path = self.home.journal(project)
                if path.exists():
                    self.finish(Journal.load(path))
                tidy(path)
                yield

    def finish(self, journal: Journal) -> list[str]:
        """Carry out a committed build; returns the files that something else changed meanwhile."""
        changed = finish(self.database, self.ledger, journal)
        self.forget_archives()
        self.events.publish("build", project=journal.note["project"])
        return changed

    # ---- layouts ----------------------------------------------------------------------------------------

    def library(self) -> Library:
        """The layouts known beside every game: Brae's demo's, the person's own."""
        return Library.of([LAYOUTS, self.home.layouts], check)

    def _folders(self, project: Project) -> list[Path]:
        return [LAYOUTS, self.home.layouts, Path(project.folder) / FOLDER]

    def project_library(self, project: Project) -> Library:
        """The layouts known to a project; those of its edition come before others."""
        library = Library.of(self._folders(project), check)
        profile = profiles_in(library.folders)[0].get(project.game or "")
        chosen = project.chosen_edition or project.edition
        preferred = next((one.layouts for one in profile.editions if one.edition == chosen), []) if profile else []
        return library.preferring(preferred)

    def library_of(self, project_id: str) -> Library:
        """The same by a project's identifier."""
        return self.project_library(self.project(project_id))

    def profile(self, project: Project) -> GameProfile | None:
        """The game profile of a project."""
        return profiles_in(self._folders(project))[0].get(project.game or "")

    def way(self, project: Project) -> str:
        """By which way builds go into the game: the chosen one, or the usual one; "" without a profile."""
        profile = self.profile(project)
        return profile.way(project.way).way if profile is not None else ""

    # ---- finding ----------------------------------------------------------------------------------------

    def project(self, name: str) -> Project:
        """A project by its identifier; NotFoundError where there is none."""

        def read(session: Session) -> Project:
            project = session.get(Project, name)
            if project is None:
                known = ", ".join(session.scalars(select(Project.id)))
                raise NotFoundError(f"There is no project '{name}'.", expected=f"one of {known or '(none)'}")
            return project

        return self._row((name,), read)

    def find(self, project: str, address: str) -> Located:
        """A member by its address; NotFoundError where there is none."""

        def read(session: Session) -> Located:
            query = select(Member, ArchiveRow).join(ArchiveRow, Member.archive_id == ArchiveRow.id)
            row = session.execute(query.where(Member.project_id == project, Member.address == address)).first()
            if row is None:
                raise NotFoundError("There is no such item.", address=address)
            return Located(row[0], row[1])

        return self._row((project, address), read)

    def find_each(self, project: str, addresses: Sequence[str]) -> Iterator[tuple[str, Located | None]]:
        """Many members by their addresses, in that order, a few hundred at a time; None where one is missing."""
        for start in range(0, len(addresses), _FOUND):
            some = addresses[start : start + _FOUND]
            with self.database.session() as session:
                query = select(Member).where(Member.project_id == project, Member.address.in_(some))
                members = session.scalars(query).all()
                # Not beside each member: the archive's columns would be read anew for every one of them.
                within = ArchiveRow.id.in_({member.archive_id for member in members})
                archives = {row.id: row for row in session.scalars(select(ArchiveRow).where(within))}
                found = {member.address: Located(member, archives[member.archive_id]) for member in members}
            for address in some:
                yield address, found.get(address)

    def _row(self, key: tuple[str, ...], read: Callable[[Session], Row]) -> Row:
        """What is read of the database, remembered until anybody writes to it."""
        version = self.database.version()
        with self._lock:
            if self._rows[0] != version or len(self._rows[1]) > _ROWS:
                self._rows = (version, {})
            rows = self._rows[1]
            if key in rows:
                return cast("Row", rows[key])
        with self.database.session() as session:
            rows[key] = found = read(session)
        return found

    def edit(self, project: str, address: str) -> Edit:
        """The edit of an item; NotFoundError where it is not in work."""
        edit = self.edit_or_none(project, address)
        if edit is None:
            raise NotFoundError("This item is not being edited.", address=address)
        return edit

    def edit_or_none(self, project: str, address: str) -> Edit | None:
        """The edit of an item, with its versions; None where there never was one."""
        with self.database.session() as session:
            return session.scalar(select(Edit).where(Edit.project_id == project, Edit.address == address))

    def originals(self, project: str) -> dict[str, Original]:
        """What is known of the game's files, by their paths."""
        with self.database.session() as session:
            rows = session.scalars(select(Original).where(Original.project_id == project).order_by(Original.path))
            return {row.path: row for row in rows}

    def has_file(self, project: Project, path: str) -> bool:
        """Whether the game has a file of that path, as it was opened."""
        found = self.original(project.id, path)
        return found.state != "created" if found is not None else (Path(project.folder) / path).exists()

    def original(self, project: str, path: str) -> Original | None:
        """What is known of one file of the game."""
        with self.database.session() as session:
            return session.scalar(select(Original).where(Original.project_id == project, Original.path == path))

    # ---- originals --------------------------------------------------------------------------------------

    def original_source(self, project: Project, path: str) -> ByteSource:
        """The bytes of a game file as they were when it was opened, whatever was built since.

        ChangedError where the file on disk is neither the original nor what Brae wrote.
        """
        original = self.original(project.id, path)
        target = Path(project.folder) / path
        if original is None:
            return FileSource(target)
        if original.whole is not None:
            return FileSource(self.blobs.path(original.whole.sha256))
        source = FileSource(target)
        # Looked at once the file is open: what is opened is what was looked at.
        if self.check_unchanged(project, original) is not original:
            return self.original_source(project, path)  # a build of ours ended meanwhile
        return self.as_it_was(original, source) if original.state == "patched" else source

    def as_it_was(self, original: Original, source: ByteSource) -> ByteSource:
        """A patched file with the ranges of its original over it."""
        return OverlaySource(source, [(kept.offset, self.blobs.get(kept.sha256)) for kept in original.ranges])

    def observe(
        self, project: Project, path: str, tick: Callable[[int], None] | None = None
    ) -> tuple[Original, bool]:
        """A file of the game as it is now, with its hash, and whether its original is still the one that is known.

        Nothing is written. What Brae itself wrote is told by its bytes: a copy with another time is still that.
        """
        target = Path(project.folder) / path
        known = self.original(project.id, path)
        seen = Seen.of(target.stat())
        if known is not None and known.state == "patched":
            with FileSource(target) as source:
                fits = all(kept.offset + kept.length <= source.size for kept in known.ranges)
                if fits and source.size == known.size:
                    digest = hashlib.sha256()
                    for part in chunks(self.as_it_was(known, source)):
                        digest.update(part)
                        if tick:
                            tick(len(part))
                    if digest.hexdigest() == known.sha256:
                        known.current_size, known.current_mtime, known.built_from = seen.size, seen.mtime, None
                        return known, True
        sha256 = file_hash(target, tick)
        if known is not None and sha256 == known.current_sha256:
            known.current_size, known.current_mtime, known.built_from = seen.size, seen.mtime, None
            return known, True
        # New, or changed by something else, such as an update: this is the original from now on.
        fresh = Original(
            project_id=project.id, path=path, size=seen.size, sha256=sha256, state="original",
            current_size=seen.size, current_mtime=seen.mtime, current_sha256=sha256, built_from=None,
            made_folders=[], kept=[],
        )  # fmt: skip
        return fresh, False

    def note_original(self, project: Project, path: str, tick: Callable[[int], None] | None = None) -> Original:
        """Remember a file of the game as it is now, with its hash, unless it is what Brae itself wrote."""
        found, same = self.observe(project, path, tick)
        if not same:
            before = self.original(project.id, path)
            if before is not None:
                self.ledger.keep_superseded(project.id, before)
        with self.database.change() as session:
            row = session.scalar(select(Original).where(Original.project_id == project.id, Original.path == path))
            if row is None:
                session.add(found)
                return found
            if not same:
                row.size, row.sha256, row.state = found.size, found.sha256, found.state
                row.current_sha256 = found.current_sha256
                row.kept.clear()
            row.current_size, row.current_mtime = found.current_size, found.current_mtime
            row.built_from = None
            return row

    def check_unchanged(self, project: Project, original: Original) -> Original:
        """What is known of a game file that is what Brae last saw or wrote (by size and time); else ChangedError.

        Between the moment when a build replaces a file and the one when it writes that down, the file is not as
        known although nothing else changed it: such a build is waited for. Where one ended since ``original`` was
        read, another row than that comes back.
        """
        target = Path(project.folder) / original.path
        until = time.monotonic() + _BUILD_ENDS
        while True:
            seen = Seen.at(target)
            if seen == _seen_by(original):
                return original
            # The journal is looked for first: it goes after the row is written.
            building = self.home.journal(project.id).exists()
            now = self.original(project.id, original.path)
            if now is not None and _seen_by(now) != _seen_by(original):
                original = now
            elif not building or time.monotonic() > until:
                break
            else:
                time.sleep(_LOOK_AGAIN)
        if seen is None:
            raise ChangedError(
                "This file of the game is gone.",
                address=original.path,
                remedy="Put it back (Brae can restore it), or open the game again.",
            )
        raise ChangedError(
            "This file of the game was changed by something else.",
            address=original.path,
            remedy="Open the game again: Brae takes the file as it is now and keeps your edits.",
        )

    # ---- archives ---------------------------------------------------------------------------------------

    def archive(self, project: Project, row: ArchiveRow, library: Library | None = None) -> Container:
        """An archive as it was when it was opened, at any depth; ``library`` is the project's, where it is at hand.

        It is remembered by what it is, never by its row: rows are made anew when a game is opened again.
        """
        library = library or self.project_library(project)
        names = self.known_names(library, row)
        key = self.version_at(project, row, library, names)
        # Forty pictures that are asked for at once open their archive once, not forty times.
        with self._lock:
            turn = self._opening.setdefault(key, threading.Lock())
        with turn:
            with self._lock:
                if key in self._archives:
                    self._archives.move_to_end(key)
                    self._opening.pop(key, None)
                    return self._archives[key]
            return self._open_archive(project, row, library, names, key)

    def _open_archive(
        self, project: Project, row: ArchiveRow, library: Library, names: list[str], key: Version
    ) -> Container:
        sources: dict[str, ByteSource] = {}
        if row.parent_id is None:
            for name, path in row.files.items():
                sources[name] = self.original_source(project, path)
        else:
            outer = self.archive(project, self.parent(row), library)
            for name, label in row.files.items():
                sources[name] = outer.member_source(self._index(outer, label, row.address))
        if row.layout == scattered.KIND:
            archive: Container = self.found_by_signs(row, sources[MAIN])
        else:
            archive = open_container(row.layout or "", sources, addresses.split(row.address)[-1], library, names)
        with self._lock:
            self._archives[key] = archive
            self._opening.pop(key, None)
            while len(self._archives) > 1 and (
                len(self._archives) > _OPEN_ARCHIVES or sum(map(_memory, self._archives.values())) > _OPEN_BYTES
            ):
                self._archives.popitem(last=False)
        return archive

    def found_by_signs(self, row: ArchiveRow, source: ByteSource) -> Container:
        """The files of a source by their signs, as they were found when it was looked through."""
        with self.database.session() as session:
            hits = session.scalar(select(ArchiveRow.hits).where(ArchiveRow.id == row.id))
        return scattered.Scattered.of(source) if hits is None else scattered.Scattered.kept(source, hits)

    def known_names(self, library: Library, row: ArchiveRow) -> list[str]:
        """The members' names, for an archive that holds only their hashes."""
        layout = library.layouts.get(row.layout or "")
        if layout is None or not layout.hashed:
            return []
        with self.database.session() as session:
            return list(session.scalars(select(Member.name).where(Member.archive_id == row.id)))

    def version_at(self, project: Project, row: ArchiveRow, library: Library, names: list[str]) -> Version:
        """What tells this state of an archive from every other; ChangedError where its files are not as known."""
        layout = (row.layout, library.versions.get(row.layout or ""), tuple(names))
        if row.parent_id is not None:
            outer = self.parent(row)
            outside = self.version_at(project, outer, library, self.known_names(library, outer))
            return (outside, layout, tuple(sorted(row.files.items())))
        return (
            project.folder,
            layout,
            tuple((name, *self._state(project, path)) for name, path in row.files.items()),
        )

    def _state(self, project: Project, path: str) -> Version:
        """What tells this state of a game file; asked for every picture, so the last answers are remembered."""
        key, version = (project.id, path), self.database.version()
        with self._lock:
            known = self._states.get(key)
        if known is not None and known[0] == version:
            _, kept_whole, seen, state = known
            if kept_whole or seen == Seen.at(f"{project.folder}/{path}"):
                return state
        original = self.original(project.id, path)
        if original is None:
            seen = Seen.at(Path(project.folder) / path)
            state = (path, seen)
        elif original.whole is not None:
            seen, state = None, (path, original.whole.sha256)
        elif self.check_unchanged(project, original) is not original:
            return self._state(project, path)
        else:
            kept = tuple((one.offset, one.sha256) for one in original.ranges)
            seen, state = _seen_by(original), (path, original.current_size, original.current_mtime, kept)
        with self._lock:
            self._states[key] = (version, original is not None and original.whole is not None, seen, state)
        return state

    @staticmethod
    def _index(archive: Container, label: str, address: str) -> int:
        """Where a member is in an archive; ChangedError where it is not there any more."""
        index = archive.index_of(label)
        if index < 0:
            raise ChangedError(
                "The game was changed while it was looked at.", address=address, remedy="Open the game again."
            )
        return index

    def number_of(self, archive: Container, found: Located) -> int:
        """An item's number in its archive, told by its name: numbers of an earlier listing may have moved."""
        return self._index(archive, addresses.split(found.member.address)[-1], found.member.address)

    def parent(self, row: ArchiveRow) -> ArchiveRow:
        """The archive that a nested one is a member of."""

        def read(session: Session) -> ArchiveRow:
            parent = session.get(ArchiveRow, row.parent_id)
            if parent is None:
                raise NotFoundError("There is no such archive.", address=row.address)
            return parent

        return self._row(("archive", str(row.parent_id)), read)

    def origins(self, project: Project) -> Callable[[str], str]:
        """For an address, what tells the state of the file of the game that it lies in.

        What an archive is listed from is told by its bytes: a copy of the game elsewhere is known already.
        """
        query = select(ArchiveRow.address, ArchiveRow.listed_from).where(
            ArchiveRow.project_id == project.id, ArchiveRow.parent_id.is_(None)
        )
        with self.database.session() as session:
            listed = {row.address: row.listed_from for row in session.execute(query)}
        otherwise = f"{project.folder} {project.listing}"
        return lambda address: listed.get(addresses.split(address)[0]) or otherwise

    def forget_archives(self) -> None:
        """Let go of every archive: their files are about to change, or have changed.

        A thread that still reads one keeps its file open until it is done.
        """
        with self._lock:
            self._archives.clear()
            self._viewed.clear()
            self.compared.clear()

    def remembered(self, kind: AssetKind[Any], key: Version, make: Callable[[], Any]) -> Any:
        with self._lock:
            if key in self._viewed:
                self._viewed.move_to_end(key)
                return self._viewed[key][0]
        asset = make()
        with self._lock:
            self._viewed[key] = (asset, kind.weight(asset))
            while len(self._viewed) > 1 and sum(size for _, size in self._viewed.values()) > _VIEWED_BYTES:
                self._viewed.popitem(last=False)
        return asset

    def exchange_folder(self, project: str) -> Path:
        """Where the files of a project's items in work lie."""
        return self.home.exchange / project
