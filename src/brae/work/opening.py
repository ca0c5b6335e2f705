"""Open: look through a game's folder, recognise and prove its archives, list what they hold."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from brae.core import addresses, catalogue
from brae.core.build.journal import file_hash
from brae.core.catalogue import Item
from brae.core.containers.base import Proof
from brae.core.containers.described import open_archive
from brae.core.errors import BraeError, CancelledError, NotFoundError
from brae.core.layouts.library import FOLDER, Library, companions
from brae.core.layouts.model import MAIN, Layout
from brae.core.sources import ByteSource, FileSource
from brae.core.textures.files import HEAD
from brae.jobs import Silent, Ticker
from brae.store.models import ArchiveRow, Base, Original, Project, now
from brae.work.edits import rematch
from brae.work.workspace import Workspace

_MOST_FILES = 50_000
#: a file of more bytes than this shows its own progress while it is hashed
_LARGE = 64 << 20
#: smaller files are no archives
_WORTH_DESCRIBING = 64
_MOST_UNDESCRIBED = 100


def project_id(name: str) -> str:
    """An identifier made of a folder's name."""
    return re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:60] or "game"


def open_game(
    workspace: Workspace, path: Path, ticker: Ticker | None = None, name: str | None = None
) -> dict[str, Any]:
    """Open a folder or one archive; opening it again takes the files as they are now and keeps the edits.

    Returns the project's identifier and counts. Raises NotFoundError where there is nothing.
    """
    path = Path(os.path.abspath(path))  # noqa: PTH100  links are kept as the person named them
    if not path.exists():
        raise NotFoundError(f"There is no file or folder {path}.", remedy="Check the spelling.")
    folder, only = (path, None) if path.is_dir() else (path.parent, path.name)
    with workspace.database.session() as session:
        project = _project(session, folder, only, name or (path.name if only is None else path.stem))
        identifier = project.id
    with workspace.locked(identifier):
        with workspace.database.session() as session:
            result = _Opening(workspace, session, workspace.project(session, identifier), ticker or Silent()).run()
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
    return project


class _Opening:
    def __init__(self, workspace: Workspace, session: Session, project: Project, ticker: Ticker) -> None:
        self.workspace, self.session, self.project, self.ticker = workspace, session, project, ticker
        self.folder = Path(project.folder)
        self.library: Library = workspace.project_library(project)
        self.found: list[tuple[ArchiveRow, list[Item]]] = []
        self.noted: set[str] = set()
        self.undescribed: list[dict[str, Any]] = []

    def run(self) -> dict[str, Any]:
        """Read first, write last: the database is locked for a moment only."""
        self.workspace.forget_archives()
        files = self._files()
        with self.session.no_autoflush:
            self._look_through(files)
        self.project.files_seen, self.project.opened = len(files), now()
        self.project.layout_faults = [
            error.as_dict() | {"layout": Path(path).name} for path, error in self.library.errors.items()
        ]
        self.undescribed.sort(key=lambda entry: -int(entry["size"]))
        self.project.undescribed = self.undescribed[:_MOST_UNDESCRIBED]
        self._forget_gone(files)
        self.session.execute(delete(ArchiveRow).where(ArchiveRow.project_id == self.project.id))
        for row, items in self.found:
            self._insert(row, items)
        return {
            "project": self.project.id,
            "archives": sum(row.layout is not None for row, _ in self.found),
            "members": sum(len(items) for _, items in self.found),
            "files": len(files),
        }

    def _look_through(self, files: list[Path]) -> None:
        self.ticker.begin(len(files), "files")
        claimed: set[str] = set()
        loose: list[Path] = []
        archives: list[tuple[Path, str, Layout]] = []
        for path in files:
            self.ticker.tick()
            relative = path.relative_to(self.folder).as_posix()
            layout = self._layout_of(path)
            if layout is None:
                loose.append(path)
                continue
            claimed |= {
                p.relative_to(self.folder).as_posix() for p in companions(layout, path).values() if p.is_file()
            }
            archives.append((path, relative, layout))
        # Hashes of names are looked up among the names of everything else, so those archives come last.
        for path, relative, layout in sorted(archives, key=lambda found: found[2].hashed):
            known: list[str] = []
            if layout.hashed:
                known = self.library.known_names(layout)
                known += [item.name for _, items in self.found for item in items]
                known += [file.relative_to(self.folder).as_posix() for file in files]
            self._add_archive(path, relative, layout, known)
        for path in loose:
            relative = path.relative_to(self.folder).as_posix()
            if relative not in claimed:
                self._add_loose(path, relative)

    def _files(self) -> list[Path]:
        if self.project.only is not None:
            return [self.folder / self.project.only]
        return sorted(_walk(self.folder))

    def _layout_of(self, path: Path) -> Layout | None:
        try:
            return self.library.recognise_file(path)
        except BraeError:
            return None

    def _forget_gone(self, files: list[Path]) -> None:
        seen = {path.relative_to(self.folder).as_posix() for path in files}
        for original in self.session.scalars(select(Original).where(Original.project_id == self.project.id)):
            # A file that Brae replaced and that is gone now can still be restored: it is not forgotten.
            gone = original.path not in seen and not (self.folder / original.path).exists()
            if gone and original.state == "original":
                self.session.delete(original)
        self.session.flush()

    def _note_original(self, relative: str) -> None:
        """Remember a file as it is now, unless it is what Brae itself wrote."""
        if relative in self.noted:
            return
        self.noted.add(relative)
        path = self.folder / relative
        status = path.stat()
        original = self.session.scalar(
            select(Original).where(Original.project_id == self.project.id, Original.path == relative)
        )
        seen = (status.st_size, status.st_mtime_ns)
        if original is not None and (original.current_size, original.current_mtime) == seen:
            return
        if seen[0] > _LARGE:
            self.ticker.begin(seen[0], "bytes")
        sha256 = file_hash(path, self.ticker.tick if seen[0] > _LARGE else None)
        if original is None:
            original = Original(project_id=self.project.id, path=relative, size=seen[0], sha256=sha256)
            self.session.add(original)
        elif sha256 != original.current_sha256:
            # Changed by something else, such as an update: this is the original from now on.
            original.size, original.sha256, original.state = seen[0], sha256, "original"
            original.kept.clear()
        original.current_size, original.current_mtime = seen
        original.current_sha256, original.built_from = sha256, None

    def _add_archive(self, path: Path, relative: str, layout: Layout, known_names: list[str]) -> None:
        files = {
            name: file.relative_to(self.folder).as_posix()
            for name, file in companions(layout, path).items()
            if file.is_file()
        }
        for file in files.values():
            self._note_original(file)
        row = ArchiveRow(
            project_id=self.project.id,
            address=addresses.quote_level(relative),
            layout=layout.layout,
            title=layout.title,
            files=files,
        )
        items: list[Item] = []
        self.found.append((row, items))
        sources: dict[str, ByteSource] = {}
        try:
            for name, file in files.items():
                sources[name] = self.workspace.original_source(self.session, self.project, file)
            archive = open_archive(layout, sources, known_names)
            self.ticker.begin(2 * len(archive), "members")
            for item in catalogue.catalogue(archive, self.library):
                items.append(item)
                self.ticker.tick()
            row.proof = archive.prove(lambda done, total: self.ticker.tick()).as_dict()
        except CancelledError:
            raise
        except BraeError as error:
            row.fault = str(error)
            row.proof = Proof(False, offset=error.offset, reason=error.message).as_dict()
            items.clear()

    def _add_loose(self, path: Path, relative: str) -> None:
        """A file outside any archive; only pictures, sounds and texts are worth a place in the catalogue."""
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
            project_id=self.project.id,
            address=level,
            layout=None,
            title="Loose file",
            files={MAIN: relative},
            proof=Proof(True, 1).as_dict(),
        )
        self.found.append((row, [item]))

    def _insert(self, row: ArchiveRow, items: list[Item]) -> None:
        row.member_count = len(items)
        self.session.add(row)
        self.session.flush()
        rows = []
        for number, item in enumerate(items):
            values = dict(vars(item))
            level = values.pop("level")
            values["address"] = level if row.layout is None else addresses.join(row.address, level)
            values["name"] = values["name"].encode("utf-8", "backslashreplace").decode()
            values["folder"] = values["name"].rpartition("/")[0]
            values |= {"project_id": self.project.id, "archive_id": row.id, "number": number}
            rows.append(values)
        for start in range(0, len(rows), 5000):
            self.session.execute(Base.metadata.tables["members"].insert(), rows[start : start + 5000])


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
