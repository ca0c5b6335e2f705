"""What the store remembers of a build once its journal's steps are done."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from sqlalchemy import select

from brae.core.build.journal import Journal
from brae.store.models import Build, Kept, Original, Project

if TYPE_CHECKING:
    from brae.work.workspace import Workspace


def finish(workspace: Workspace, journal: Journal) -> None:
    """Carry out a committed journal's steps, write down what they did, forget the journal. May be repeated."""
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
            if original is None:
                continue
            status = (Path(project.folder) / file["path"]).stat()
            original.state, original.current_sha256 = file["state"], file["sha256"]
            original.current_size, original.current_mtime = status.st_size, status.st_mtime_ns
            original.built_from = file["built_from"]
            original.kept = [Kept(offset=offset, length=length, sha256=sha) for offset, length, sha in file["kept"]]
        session.add(
            Build(project_id=project.id, what=note["what"], files=note.get("plan", []), edits=note["edits"])
        )
    workspace.forget_archives()
    workspace.events.publish("build", project=note["project"])
