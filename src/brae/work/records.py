"""What the store remembers of a build once its journal's steps are done."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from sqlalchemy import select

from brae.core.build.journal import Journal, Seen
from brae.store import Database, Ledger
from brae.store.models import Build, Kept, Original, Project

#: size and time that no file has: the file is not what Brae wrote
_CHANGED = Seen(-1, -1)


def finish(database: Database, ledger: Ledger, journal: Journal) -> list[str]:
    """Carry out a committed journal's steps, write down what they did, forget the journal. May be repeated.

    Returns the paths of files that something else changed since the journal was written. They are left alone, and
    what is kept of them is written down all the same, so their originals can still be put back.
    """
    changed = _record(database, ledger, journal.note, journal.apply())
    journal.clear()
    return changed


def _record(database: Database, ledger: Ledger, note: dict[str, Any], done: dict[str, Seen | None]) -> list[str]:
    """Write into database and ledger what a build did; may be repeated."""
    changed: list[str] = []
    with database.change() as session:
        project = session.get(Project, note["project"])
        if project is None:
            return changed
        for file in note["files"]:
            path = file["path"]
            seen = done[str(Path(project.folder) / path)]
            if seen is None:
                changed.append(path)
            row = session.scalar(select(Original).where(Original.project_id == project.id, Original.path == path))
            if file["state"] == "removed":
                if row is not None and seen is not None:
                    session.delete(row)
                continue
            if seen is None and file["state"] == "original" and row is not None:
                # It could not be put back: what is kept of it stays kept.
                row.current_size, row.current_mtime = _CHANGED.size, _CHANGED.mtime
                continue
            if row is None:
                row = Original(project_id=project.id, path=path)
                session.add(row)
            row.size, row.sha256 = file["original"]
            row.made_folders, row.state, row.built_from = file["made_folders"], file["state"], file["built_from"]
            row.current_sha256 = file["sha256"]
            row.current_size, row.current_mtime = (seen or _CHANGED).size, (seen or _CHANGED).mtime
            row.kept = [Kept(offset=offset, length=length, sha256=sha) for offset, length, sha in file["kept"]]
        session.add(
            Build(
                project_id=project.id,
                what=note["what"],
                files=note.get("plan", []),
                edits=note["edits"],
                held=note.get("held", {}),
            )
        )
        session.flush()
        rows = list(session.scalars(select(Original).where(Original.project_id == project.id)))
        # Inside the transaction: whoever reads the one finds the other.
        ledger.keep_files(project, rows)
    return changed
