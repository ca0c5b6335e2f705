"""Open: look through a game's folder, recognise its archives at any depth, list what they hold, prove them."""

from __future__ import annotations

import logging
import os
import re
from collections import deque
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from brae.core import addresses, catalogue
from brae.core.assets.base import HEAD
from brae.core.containers.base import Proof
from brae.core.containers.recognise import files_of, recognise_file
from brae.core.errors import BraeError, NotFoundError
from brae.core.games.known import profiles_in
from brae.core.games.signs import edition_in, game_in, missing_halves
from brae.core.layouts.library import FOLDER
from brae.core.sources import MAIN, FileSource
from brae.core.sources.cue import image_of, is_cue
from brae.jobs import Silent, Ticker
from brae.store.models import ArchiveRow, Original, Project, now
from brae.work import copies
from brae.work.adding import list_again
from brae.work.archives import Archives, Candidate, Listed
from brae.work.listing import Listing
from brae.work.matching import rematch
from brae.work.undescribed import Undescribed
from brae.work.workspace import Workspace

log = logging.getLogger(__name__)
_MOST_FILES = 50_000


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
        project = _project(session, folder, only, name or (path.name if only is None else path.stem))
    # Edits are written down beside the database from the first one on, and mean nothing without their project.
    workspace.ledger.begin(project)
    return project.id


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
        list_again(workspace, identifier)
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
class _Opening:
    workspace: Workspace
    project_id: str
    ticker: Ticker

    def run(self) -> dict[str, Any]:
        """List first, so that there is something to look at; hash and prove afterwards."""
        self.workspace.forget_archives()
        self.project = self._recognise_game(self.workspace.project(self.project_id))
        self.folder, self.only = Path(self.project.folder), self.project.only
        library = self.workspace.project_library(self.project)
        originals = self.workspace.originals(self.project_id)
        # What Brae itself put beside the game's files is no part of the game.
        self.made = {path for path, original in originals.items() if original.state == "created"}
        # Until it has been opened as a whole, what is found can be looked at at once.
        listing = Listing(self.workspace, self.project_id, at_once=self.project.files_seen == 0)
        self.archives = Archives(self.workspace, self.project, library, listing, self.ticker, originals)
        self.undescribed = Undescribed(self.archives, self.project.undescribed)
        #: loose files that no layout fits, by their paths
        self._unknown: dict[str, catalogue.Item] = {}
        files = self._files()
        try:
            self._look_through(files)
        finally:
            listing.close()
        profile = self.workspace.profile(self.project)
        relative = [file.relative_to(self.folder).as_posix() for file in files]
        with self.workspace.database.change() as session:
            listing.finish(session)
            project = session.get_one(Project, self.project_id)
            project.files_seen, project.opened = len(files), now()
            project.layout_faults = [
                error.as_dict() | {"layout": Path(path).name}
                for path, error in (library.errors | profiles_in(library.folders)[1]).items()
            ]
            project.game_faults = missing_halves(profile, relative) if profile is not None else []
            project.undescribed = self.undescribed.entries
            self._forget_gone(session, set(relative))
        return {
            "project": self.project_id,
            "archives": listing.archives,
            "members": listing.members,
            "files": len(files),
            "reused": listing.reused,
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
        waiting: deque[Candidate] = deque()
        for path in files:
            self.ticker.tick()
            relative = path.relative_to(self.folder).as_posix()
            kind = self._kind_of(path)
            if kind is None:
                loose.append(relative)
                continue
            companions = files_of(kind, path, self.archives.library).items()
            own = {file: other.relative_to(self.folder).as_posix() for file, other in companions}
            own = {file: other for file, other in own.items() if other not in self.made}
            claimed |= set(own.values())
            waiting.append(Candidate(kind, addresses.quote(relative), relative, own))
        self.archives.names += [file.relative_to(self.folder).as_posix() for file in files]
        for relative in loose:
            if relative not in claimed:
                self._add_loose(relative)
        listed: list[Listed] = []
        # Hashes of names are looked up among the names of everything else, so those archives come last.
        late: deque[Candidate] = deque()
        while waiting or late:
            if not waiting:
                self.archives.take(late.popleft(), waiting, listed)
            elif self.archives.is_hashed(waiting[0]):
                late.append(waiting.popleft())
            else:
                self.archives.take(waiting.popleft(), waiting, listed)
        self._add_parts()
        self.archives.listing.tell_parts()
        self.archives.settle(listed)
        self.undescribed.look_through()

    def _files(self) -> list[Path]:
        if self.only is not None:
            return [self.folder / self.only]
        found = sorted(files_below(self.folder))
        return [path for path in found if path.relative_to(self.folder).as_posix() not in self.made]

    def _kind_of(self, path: Path) -> str | None:
        try:
            return recognise_file(path, self.archives.library)
        except BraeError:
            return None
        except Exception:  # whatever one file does, the others open; it is offered for description
            log.exception("recognising %s failed", path)
            return None

    def _forget_gone(self, session: Session, seen: set[str]) -> None:
        for original in session.scalars(select(Original).where(Original.project_id == self.project_id)):
            # A file that Brae replaced and that is gone now can still be restored: it is not forgotten.
            gone = original.path not in seen and not (self.folder / original.path).exists()
            if gone and original.state == "original":
                session.delete(original)

    def _add_loose(self, relative: str) -> None:
        """A file outside any archive; only pictures, sounds and texts are worth a place in the catalogue."""
        path, label = self.folder / relative, addresses.quote(relative)
        found = Candidate("", label, relative, {MAIN: relative})
        known = self.archives.known(found)
        if known is not None:
            self.archives.note_original(relative)
            one = Listed(known, found, reused=True)
            self.archives.names += self.archives.listing.known_members(known)[0]
            self.archives.outermost(one)
            return
        try:
            size = path.stat().st_size
            with FileSource(path) as source:
                item = catalogue.describe(
                    source.read(0, min(HEAD, size)),
                    self.archives.library,
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
            self._unknown[relative] = item
            return
        self._list_loose(found, item)

    def _add_parts(self) -> None:
        """Loose files that no layout fits are listed where they hold a part of another item; the rest is told."""
        parts = self.archives.listing.parts
        for relative, item in self._unknown.items():
            if relative in parts:
                self._list_loose(Candidate("", addresses.quote(relative), relative, {MAIN: relative}), item)
            else:
                self.undescribed.add(relative, item.real)

    def _list_loose(self, found: Candidate, item: catalogue.Item) -> None:
        self.archives.note_original(found.files[MAIN])
        row = ArchiveRow(
            project_id=self.project_id,
            address=found.address,
            layout=None,
            title="Loose file",
            files=found.files,
            proof=Proof(True, 1).as_dict(),
            member_count=1,
            listed_from=self.archives.listed_from(found, by_hash=False),
        )
        self.archives.listing.add(row, None)
        self.archives.listing.fill(row, [item])
        self.archives.outermost(Listed(row, found))


def files_below(folder: Path) -> Iterator[Path]:
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
