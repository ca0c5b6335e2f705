"""Open: look through a game's folder, recognise its archives at any depth, list what they hold, prove them."""

from __future__ import annotations

import os
import re
from collections import deque
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from brae.core import addresses, catalogue
from brae.core.catalogue import Item
from brae.core.containers.base import Container, Proof
from brae.core.containers.recognise import files_of, levels_of, open_container, recognise_file, title
from brae.core.errors import BraeError, CancelledError, FormatError, NotFoundError
from brae.core.games.order import Copies, places_of
from brae.core.games.signs import edition_in, game_in, missing_halves
from brae.core.layouts.library import FOLDER, Library
from brae.core.layouts.model import MAIN
from brae.core.sources import ByteSource, BytesSource, FileSource, chunks
from brae.core.textures.files import HEAD
from brae.jobs import Silent, Ticker
from brae.store.models import ArchiveRow, Original, Project, now
from brae.work.edits import rematch
from brae.work.listing import Listing
from brae.work.workspace import Workspace

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
#: members listed before they are written down
_BATCH = 500


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
    if path.is_file() and path.suffix.lower() == ".cue":
        path = _named_by(path)
    folder, only = (path, None) if path.is_dir() else (path.parent, path.name)
    with workspace.database.session() as session:
        return _project(session, folder, only, name or (path.name if only is None else path.stem)).id


def _named_by(sheet: Path) -> Path:
    """The image that a cue sheet names."""
    found = re.search(r'^\s*FILE\s+(?:"([^"]+)"|(\S+))', sheet.read_text("utf-8", "replace"), re.MULTILINE | re.I)
    image = sheet.with_name(Path((found[1] or found[2]).replace("\\", "/")).name) if found else sheet
    if found is None or not image.is_file():
        raise FormatError(
            f"{sheet.name} names no image that lies beside it.", expected='a line such as FILE "disc.bin" BINARY'
        )
    return image


def open_game(
    workspace: Workspace, path: Path, ticker: Ticker | None = None, name: str | None = None
) -> dict[str, Any]:
    """Open a folder or one archive; opening it again takes the files as they are now and keeps the edits.

    Returns the project's identifier and counts. Raises NotFoundError where there is nothing.
    """
    identifier = begin(workspace, path, name)
    with workspace.locked(identifier):
        result = _Opening(workspace, identifier, ticker or Silent()).run()
        rematch(workspace, identifier)
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
class _Found:
    """An archive that was recognised and waits to be listed."""

    kind: str
    address: str
    name: str
    files: dict[str, str]
    parent: _Listed | None = None


@dataclass
class _Listed:
    """An archive that was listed and waits for its proof."""

    row: ArchiveRow
    container: Container
    found: _Found
    depth: int = 0


@dataclass
class _Opening:
    workspace: Workspace
    project_id: str
    ticker: Ticker
    undescribed: list[dict[str, Any]] = field(default_factory=list)
    names: list[str] = field(default_factory=list)
    noted: set[str] = field(default_factory=set)
    to_hash: list[str] = field(default_factory=list)
    nested: int = 0

    def run(self) -> dict[str, Any]:
        """List first, so that there is something to look at; hash and prove afterwards."""
        self.workspace.forget_archives()
        with self.workspace.database.session() as session:
            project = self.workspace.project(session, self.project_id)
            self.folder, self.only = Path(project.folder), project.only
            self._recognise_game(project)
            self.library: Library = self.workspace.project_library(project)
            # What Brae itself put beside the game's files is no part of the game.
            made = select(Original.path).where(Original.project_id == project.id, Original.state == "created")
            self.made = set(session.scalars(made))
            counted = select(func.count()).select_from(ArchiveRow).where(ArchiveRow.project_id == project.id)
            new = not session.scalar(counted)
        self.listing = Listing(self.workspace, self.project_id, at_once=new)
        files = self._files()
        try:
            self._look_through(files)
            self.listing.tell_parts()
            game_faults = self._tell_copies(files)
        except BaseException:
            if new:
                with self.workspace.database.session() as session:
                    self.listing.forget(session)
            raise
        with self.workspace.database.session() as session:
            self.listing.finish(session)
            project = self.workspace.project(session, self.project_id)
            project.files_seen, project.opened = len(files), now()
            project.layout_faults = [
                error.as_dict() | {"layout": Path(path).name} for path, error in self.library.errors.items()
            ]
            self.undescribed.sort(key=lambda entry: -int(entry["size"]))
            project.game_faults = game_faults
            project.undescribed = self.undescribed[:_MOST_UNDESCRIBED]
            self._forget_gone(session, files)
        return {
            "project": self.project_id,
            "archives": self.listing.archives,
            "members": self.listing.members,
            "files": len(files),
        }

    def _recognise_game(self, project: Project) -> None:
        library = self.workspace.project_library(project)
        profile = game_in(self.folder, library) if self.only is None else None
        edition = edition_in(self.folder, profile, library) if profile is not None else None
        project.game = profile.game if profile is not None else None
        project.edition = edition.edition if edition is not None else None

    def _tell_copies(self, files: list[Path]) -> list[str]:
        """Work out which copies win by the game's profile; returns the files that miss their other half."""
        with self.workspace.database.session() as session:
            project = self.workspace.project(session, self.project_id)
            profile = self.workspace.profile(project)
            if profile is None:
                return []

            def read(path: str) -> bytes:
                return b"".join(chunks(self.workspace.original_source(session, project, path)))

            archives = sorted({main for main, _, _ in self.listing.outermost if main is not None})
            try:
                copies = Copies(places_of(profile, archives, read))
            except BraeError:
                return []  # the settings are missing: what the game would say of that is not ours to guess
        copies.add(self.listing.outermost)
        winners = {}
        for main, name, address in self.listing.outermost:
            winner = copies.winner(main, name)
            if winner is not None and winner != address:
                winners[address] = winner
        self.listing.overridden(winners)
        return missing_halves(profile, (file.relative_to(self.folder).as_posix() for file in files))

    def _look_through(self, files: list[Path]) -> None:
        self.ticker.begin(len(files), "files")
        claimed: set[str] = set()
        loose: list[str] = []
        waiting: deque[_Found] = deque()
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
            waiting.append(_Found(kind, addresses.quote_level(relative), relative, own))
        self.names += [file.relative_to(self.folder).as_posix() for file in files]
        for relative in loose:
            if relative not in claimed:
                self._add_loose(relative)
        listed: list[_Listed] = []
        # Hashes of names are looked up among the names of everything else, so those archives come last.
        late: deque[_Found] = deque()
        while waiting or late:
            if not waiting:
                self._list(late.popleft(), waiting, listed)
            elif self._is_hashed(waiting[0]):
                late.append(waiting.popleft())
            else:
                self._list(waiting.popleft(), waiting, listed)
        for relative in self.to_hash:
            self._hash(relative)
        self.ticker.begin(sum(len(one.container) for one in listed), "members proved")
        for one in listed:
            self._prove(one)

    def _is_hashed(self, found: _Found) -> bool:
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

    # ---- archives ---------------------------------------------------------------------------------------

    def _list(self, found: _Found, waiting: deque[_Found], listed: list[_Listed]) -> None:
        """Open one archive and write its members down; archives among them wait for their turn."""
        row = ArchiveRow(
            project_id=self.project_id,
            address=found.address,
            layout=found.kind,
            title=title(found.kind, self.library),
            files=found.files,
        )
        parent = found.parent
        self.listing.add(row, parent.row if parent else None)
        if parent is None:
            for file in found.files.values():
                self._note_original(file)
        try:
            container = self._open(found)
            one = _Listed(row, container, found, parent.depth + 1 if parent else 0)
            self.ticker.begin(len(container), "members")
            self._list_members(one, waiting)
        except CancelledError:
            raise
        except BraeError as error:
            proof = Proof(False, offset=error.offset, reason=error.message)
            self.listing.settle(row, fault=str(error), proof=proof.as_dict())
            return
        # What was unpacked into memory is proved while it is there.
        if any(isinstance(source, BytesSource) for source in container.sources.values()):
            self._prove(one)
        else:
            listed.append(one)

    def _open(self, found: _Found) -> Container:
        sources: dict[str, ByteSource] = {}
        if found.parent is None:
            with self.workspace.database.session() as session:
                project = self.workspace.project(session, self.project_id)
                for name, file in found.files.items():
                    sources[name] = self.workspace.original_source(session, project, file)
        else:
            outer = found.parent.container
            for name, level in found.files.items():
                index = outer.index_of(level)
                if not outer.is_plain(index) and int(outer.real_sizes[index]) > _LARGEST_UNPACKED:
                    raise FormatError("It is packed and too large to be looked into.", address=found.address)
                sources[name] = outer.member_source(index)
        known: list[str] = []
        if self._is_hashed(found):
            known = self.library.known_names(self.library.layouts[found.kind]) + self.names
        return open_container(found.kind, sources, found.name, self.library, known)

    def _list_members(self, one: _Listed, waiting: deque[_Found]) -> None:
        batch: list[Item] = []
        first = 0
        inside: list[_Found] = []
        for number, item in enumerate(catalogue.catalogue(one.container, self.library)):
            batch.append(item)
            self.names.append(item.name)
            self.ticker.tick()
            if item.kind == "archive" and one.depth < _DEEPEST and self.nested < _MOST_NESTED:
                self.nested += 1
                kind = item.container or ""
                files = levels_of(kind, one.container, number, self.library)
                inside.append(_Found(kind, addresses.join(one.row.address, item.level), item.name, files, one))
            if len(batch) == _BATCH:
                self.listing.fill(one.row, batch, first)
                first, batch = first + len(batch), []
        self.listing.fill(one.row, batch, first)
        self.listing.settle(one.row, member_count=first + len(batch))
        waiting.extendleft(reversed(inside))

    def _prove(self, one: _Listed) -> None:
        proof = one.container.prove(lambda done, total: self.ticker.tick())
        self.listing.settle(one.row, proof=proof.as_dict())

    # ---- originals --------------------------------------------------------------------------------------

    def _forget_gone(self, session: Session, files: list[Path]) -> None:
        seen = {path.relative_to(self.folder).as_posix() for path in files}
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
        with self.workspace.database.session() as session:
            original = self._original(session, relative)
            status = (self.folder / relative).stat()
            if original is None:
                self.to_hash.append(relative)
                return
            if (original.current_size, original.current_mtime) == (status.st_size, status.st_mtime_ns):
                return
        self._hash(relative)

    def _original(self, session: Session, relative: str) -> Original | None:
        return session.scalar(
            select(Original).where(Original.project_id == self.project_id, Original.path == relative)
        )

    def _hash(self, relative: str) -> None:
        size = (self.folder / relative).stat().st_size
        if size > _LARGE:
            self.ticker.begin(size, "bytes")
        with self.workspace.database.session() as session:
            project = self.workspace.project(session, self.project_id)
            self.workspace.note_original(session, project, relative, self.ticker.tick if size > _LARGE else None)

    def _add_loose(self, relative: str) -> None:
        """A file outside any archive; only pictures, sounds and texts are worth a place in the catalogue."""
        path = self.folder / relative
        try:
            size = path.stat().st_size
            with FileSource(path) as source:
                head = source.read(0, min(HEAD, size))
        except (BraeError, OSError):
            return
        level = addresses.quote_level(relative)
        item = catalogue.describe(
            head, self.library, level=level, name=relative, stored=size, real=size, packer="none"
        )
        if item.kind == "data":
            if size >= _WORTH_DESCRIBING:
                self.undescribed.append({"path": relative, "size": size})
            return
        self._note_original(relative)
        row = ArchiveRow(
            project_id=self.project_id,
            address=level,
            layout=None,
            title="Loose file",
            files={MAIN: relative},
            proof=Proof(True, 1).as_dict(),
            member_count=1,
        )
        self.listing.add(row, None)
        self.listing.fill(row, [item])


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
