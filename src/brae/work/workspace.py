"""One Brae folder with all that is open in it."""

from __future__ import annotations

import contextlib
import threading
from collections import OrderedDict
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from filelock import Timeout
from sqlalchemy import select
from sqlalchemy.orm import Session

from brae.core import addresses
from brae.core.build.journal import Journal, file_hash, left_behind, tidy
from brae.core.containers.base import Container
from brae.core.containers.recognise import open_container
from brae.core.errors import BraeError, ChangedError, NotFoundError
from brae.core.games.model import GameProfile
from brae.core.layouts.library import FOLDER, Library
from brae.core.layouts.model import MAIN
from brae.core.sources import ByteSource, BytesSource, FileSource, OverlaySource
from brae.core.textures.files import read_texture
from brae.core.textures.texture import TextureFile
from brae.demo import LAYOUTS
from brae.jobs import Events, Jobs
from brae.store import Blobs, Database, Home
from brae.store.home import busy
from brae.store.models import ArchiveRow, Edit, Member, Original, Project
from brae.work.records import finish

#: archives that stay open, and how many unpacked bytes they may keep in memory together
_OPEN_ARCHIVES = 32
_OPEN_BYTES = 128 << 20
#: bytes of textures that are looked at part by part
_VIEWED_BYTES = 256 << 20


@dataclass(frozen=True)
class Found:
    """A member, by its address."""

    member: Member
    archive: ArchiveRow


def _memory(archive: Container) -> int:
    """The bytes of an archive that had to be unpacked as a whole."""
    return sum(source.size for source in archive.sources.values() if isinstance(source, BytesSource))


class Workspace:
    """Database, kept bytes, layouts, jobs and the archives that are open."""

    def __init__(self, home: Home) -> None:
        self.home = home
        self.database = Database(home.database)
        self.blobs = Blobs(home.blobs)
        self.events = Events()
        self.jobs = Jobs(self.database, self.events)
        self._archives: OrderedDict[int, Container] = OrderedDict()
        self._viewed: OrderedDict[tuple[str, str, str], TextureFile] = OrderedDict()
        self._lock = threading.RLock()
        self._finish_builds()

    def close(self) -> None:
        """Stop the jobs and let go of every file."""
        self.jobs.close()
        self.forget_archives()
        self.database.close()

    def _finish_builds(self) -> None:
        """Carry out builds that a kill interrupted."""
        for journal in left_behind(self.home.journals):
            # Where another process holds the lock it is in the middle of this very build; where a file was
            # changed since, the journal stays and the next build or restore says so.
            with contextlib.suppress(BraeError), self.locked(journal.note["project"], wait=0):
                pass

    @contextlib.contextmanager
    def locked(self, project: str, wait: float = 5) -> Iterator[None]:
        """Hold the project's lock, against other threads and other processes.

        A build that a kill interrupted is finished first.
        """
        try:
            with self.home.lock(project, wait):
                path = self.home.journal(project)
                if path.exists():
                    finish(self, Journal.load(path))
                tidy(path)
                yield
        except Timeout as error:
            raise busy(error, project) from error

    def library(self, *folders: Path) -> Library:
        """The layouts known: Brae's demo's, the person's own, those beside the game."""
        return Library.of([LAYOUTS, self.home.layouts, *folders])

    def project_library(self, project: Project) -> Library:
        """The layouts known to a project; those of its edition come before others."""
        library = self.library(Path(project.folder) / FOLDER)
        profile = library.games.get(project.game or "")
        chosen = project.chosen_edition or project.edition
        preferred = next((one.layouts for one in profile.editions if one.edition == chosen), []) if profile else []
        return library.preferring(preferred)

    def library_of(self, project_id: str) -> Library:
        """The same by a project's identifier."""
        with self.database.session() as session:
            return self.project_library(self.project(session, project_id))

    def profile(self, project: Project) -> GameProfile | None:
        """The game profile of a project."""
        return self.library(Path(project.folder) / FOLDER).games.get(project.game or "")

    # ---- finding ----------------------------------------------------------------------------------------

    def project(self, session: Session, name: str) -> Project:
        """A project by its identifier; NotFoundError where there is none."""
        project = session.get(Project, name)
        if project is None:
            known = ", ".join(session.scalars(select(Project.id)))
            raise NotFoundError(f"There is no project '{name}'.", expected=f"one of {known or '(none)'}")
        return project

    def find(self, session: Session, project: str, address: str) -> Found:
        """A member by its address; NotFoundError where there is none."""
        query = select(Member, ArchiveRow).join(ArchiveRow, Member.archive_id == ArchiveRow.id)
        row = session.execute(query.where(Member.project_id == project, Member.address == address)).first()
        if row is None:
            raise NotFoundError("There is no such item.", address=address)
        return Found(row[0], row[1])

    def edit(self, session: Session, project: str, address: str) -> Edit:
        """The edit of an item; NotFoundError where it is not in work."""
        edit = session.scalar(select(Edit).where(Edit.project_id == project, Edit.address == address))
        if edit is None:
            raise NotFoundError("This item is not in work.", address=address)
        return edit

    # ---- originals --------------------------------------------------------------------------------------

    def original_source(self, session: Session, project: Project, path: str) -> ByteSource:
        """The bytes of a game file as they were when it was opened, whatever was built since.

        ChangedError where the file on disk is neither the original nor what Brae wrote.
        """
        original = session.scalar(select(Original).where(Original.project_id == project.id, Original.path == path))
        target = Path(project.folder) / path
        if original is None:
            return FileSource(target)
        if original.whole is not None:
            return FileSource(self.blobs.path(original.whole.sha256))
        if original.state == "patched":
            self.check_unchanged(project, original)
            return OverlaySource(
                FileSource(target), [(kept.offset, self.blobs.get(kept.sha256)) for kept in original.ranges]
            )
        self.check_unchanged(project, original)
        return FileSource(target)

    def note_original(
        self, session: Session, project: Project, path: str, tick: Callable[[int], None] | None = None
    ) -> Original:
        """Remember a file of the game as it is now, with its hash, unless it is what Brae itself wrote."""
        target = Path(project.folder) / path
        status = target.stat()
        original = session.scalar(select(Original).where(Original.project_id == project.id, Original.path == path))
        sha256 = file_hash(target, tick)
        if original is None:
            original = Original(project_id=project.id, path=path, size=status.st_size, sha256=sha256)
            session.add(original)
        elif sha256 != original.current_sha256:
            # Changed by something else, such as an update: this is the original from now on.
            original.size, original.sha256, original.state = status.st_size, sha256, "original"
            original.kept.clear()
        original.current_size, original.current_mtime = status.st_size, status.st_mtime_ns
        original.current_sha256, original.built_from = sha256, None
        return original

    def check_unchanged(self, project: Project, original: Original) -> None:
        """Raise ChangedError unless a game file is what Brae last saw or wrote (by size and time)."""
        target = Path(project.folder) / original.path
        try:
            status = target.stat()
        except FileNotFoundError:
            raise ChangedError(
                "This file of the game is gone.",
                address=original.path,
                remedy="Put it back (Brae can restore it), or open the game again.",
            ) from None
        if (status.st_size, status.st_mtime_ns) != (original.current_size, original.current_mtime):
            raise ChangedError(
                "This file of the game was changed by something else.",
                address=original.path,
                remedy="Open the game again: Brae takes the file as it is now and keeps your edits.",
            )

    def archive(self, session: Session, project: Project, row: ArchiveRow) -> Container:
        """An archive as it was when it was opened, at any depth."""
        with self._lock:
            if row.id in self._archives:
                self._archives.move_to_end(row.id)
                return self._archives[row.id]
        library = self.project_library(project)
        kind = row.layout or ""
        sources: dict[str, ByteSource] = {}
        if row.parent_id is None:
            for name, path in row.files.items():
                sources[name] = self.original_source(session, project, path)
        else:
            outer = self.archive(session, project, self.parent(session, row))
            for name, level in row.files.items():
                sources[name] = outer.member_source(outer.index_of(level))
        names: list[str] = []
        if kind in library.layouts and library.layouts[kind].hashed:
            names = list(session.scalars(select(Member.name).where(Member.archive_id == row.id)))
        archive = open_container(kind, sources, addresses.split(row.address)[-1], library, names)
        with self._lock:
            self._archives[row.id] = archive
            while len(self._archives) > 1 and (
                len(self._archives) > _OPEN_ARCHIVES or sum(map(_memory, self._archives.values())) > _OPEN_BYTES
            ):
                self._archives.popitem(last=False)
        return archive

    def parent(self, session: Session, row: ArchiveRow) -> ArchiveRow:
        """The archive that a nested one is a member of."""
        parent = session.get(ArchiveRow, row.parent_id)
        if parent is None:
            raise NotFoundError("There is no such archive.", address=row.address)
        return parent

    def forget_archives(self) -> None:
        """Let go of every archive: their files are about to change, or have changed.

        A thread that still reads one keeps its file open until it is done.
        """
        with self._lock:
            self._archives.clear()
            self._viewed.clear()

    def original_bytes(self, session: Session, project: Project, found: Found) -> bytes:
        """An item's original bytes, unpacked."""
        if found.archive.layout is None:
            source = self.original_source(session, project, found.archive.files[MAIN])
            return source.read(0, source.size)
        return self.archive(session, project, found.archive).read(found.member.number)

    def original_texture(self, session: Session, project: Project, found: Found) -> TextureFile:
        """An item's original, decoded."""
        try:
            data = self.original_bytes(session, project, found)
            return read_texture(
                data,
                self.project_library(project),
                found.member.name,
                lambda name: self.original_bytes(session, project, self.neighbour(session, found, name)),
            )
        except BraeError as error:
            raise error.at(found.member.address) from None

    def viewed_texture(self, session: Session, project_id: str, address: str, edit: Edit | None) -> TextureFile:
        """An item's original, or its edit, to be looked at part by part: the last few stay in memory."""
        # The same stub may go with other larger levels, so those count as well.
        version = [] if edit is None else [edit.encoded_sha256 or "", *sorted(edit.encoded_elsewhere.values())]
        key = (project_id, address, " ".join(version))
        with self._lock:
            if key in self._viewed:
                self._viewed.move_to_end(key)
                return self._viewed[key]
        texture = self.original_texture(
            session, self.project(session, project_id), self.find(session, project_id, address)
        )
        if edit is not None:
            texture = self.edited_texture(session, texture, edit)
        with self._lock:
            self._viewed[key] = texture
            while len(self._viewed) > 1 and sum(one.size for one in self._viewed.values()) > _VIEWED_BYTES:
                self._viewed.popitem(last=False)
        return texture

    def neighbour(self, session: Session, found: Found, name: str) -> Found:
        """Another item of the same game by its name: of the same archive if it has one, else the copy that wins.

        Raises NotFoundError where there is none.
        """
        query = (
            select(Member, ArchiveRow)
            .join(ArchiveRow, Member.archive_id == ArchiveRow.id)
            .where(Member.project_id == found.member.project_id, Member.name == name)
            .order_by(Member.archive_id != found.archive.id, Member.winner.is_not(None))
        )
        row = session.execute(query).first()
        if row is None:
            raise NotFoundError(
                f"{name}, which holds the larger levels of this texture, is nowhere in the game.",
                remedy="Open the whole folder of the game, and describe the archive that holds it.",
            )
        return Found(row[0], row[1])

    def edited_texture(self, session: Session, original: TextureFile, edit: Edit) -> TextureFile:
        """What an edit was encoded as. Raises NotFoundError where no file has come back yet."""
        if edit.encoded_sha256 is None:
            raise NotFoundError("No file has come back yet.", address=edit.address)
        elsewhere = {
            self.find(session, edit.project_id, address).member.name: self.blobs.get(sha256)
            for address, sha256 in edit.encoded_elsewhere.items()
        }
        return original.again(self.blobs.get(edit.encoded_sha256), elsewhere)

    def exchange_folder(self, project: str) -> Path:
        """Where the files of a project's items in work lie."""
        return self.home.exchange / project

    def exchange_path(self, member: Member, kind: str = "png") -> str:
        """The file of an item in work, relative to the exchange folder: mirrors its address."""
        levels = [addresses.safe_path(level) for level in addresses.split(member.address)]
        return "/".join(levels) + f".{kind}"
