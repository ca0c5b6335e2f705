"""What the store remembers of a build once its journal's steps are done."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sqlalchemy import select

from brae.core.build.journal import Journal, file_hash
from brae.core.errors import ChangedError
from brae.store.models import Build, Kept, Original, Project

if TYPE_CHECKING:
    from brae.work.workspace import Workspace


def finish(workspace: Workspace, journal: Journal) -> None:
    """Carry out a committed journal's steps, write down what they did, forget the journal. May be repeated.

    Where a file was changed since the kill, what is kept is written down all the same: the file then counts as
    changed by something else, and its original can still be put back.
    """
    with suppress(ChangedError):
        journal.apply()
    record(workspace, journal.note)
    journal.clear()


def record(workspace: Workspace, note: dict[str, Any]) -> None:
    """Write into the database what a build did; may be repeated."""
    with workspace.database.session() as session:
        project = session.get(Project, note["project"])
        if project is None:
            return
        for file in note["files"]:
            original = session.scalar(
                select(Original).where(Original.project_id == project.id, Original.path == file["path"])
            )
            if file["state"] == "removed":
                if original is not None:
                    session.delete(original)
                continue
            if original is None and file["state"] == "created":
                original = Original(project_id=project.id, path=file["path"], size=0, sha256="")
                session.add(original)
            if original is None:
                continue
            original.made_folders = file.get("made_folders", [])
            original.state, original.current_sha256 = file["state"], file["sha256"]
            original.current_size, original.current_mtime = _seen(
                Path(project.folder) / file["path"], file["sha256"]
            )
            original.built_from = file["built_from"]
            original.kept = [Kept(offset=offset, length=length, sha256=sha) for offset, length, sha in file["kept"]]
        session.add(
            Build(project_id=project.id, what=note["what"], files=note.get("plan", []), edits=note["edits"])
        )
    workspace.forget_archives()
    workspace.events.publish("build", project=note["project"])


def _seen(path: Path, sha256: str) -> tuple[int, int]:
    """Size and time of a file that a build wrote, or two numbers no file has where it is not that file."""
    try:
        if sha256 and file_hash(path) != sha256:
            return -1, -1
        status = path.stat()
    except OSError:
        return -1, -1
    return status.st_size, status.st_mtime_ns
