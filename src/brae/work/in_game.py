"""Which edits the game holds already: as the last build left them, in files that are still as it left those."""

from __future__ import annotations

import hashlib
import json
from pathlib import Path

from sqlalchemy import select

from brae.core.build.journal import Seen
from brae.store.models import Addition, Build, Edit, Original
from brae.work.workspace import Workspace


def version(edit: Edit) -> str:
    """What an edit's version in use becomes in the game, as one name for its bytes and those elsewhere."""
    return _version(edit.encoded_sha256, edit.encoded_elsewhere)


def _version(encoded: str | None, elsewhere: dict[str, str]) -> str:
    if not elsewhere:
        return encoded or ""
    return hashlib.sha256(json.dumps([encoded, sorted(elsewhere.items())]).encode()).hexdigest()


def held(workspace: Workspace, project_id: str) -> dict[str, str]:
    """The versions that the game holds, by the addresses of their items.

    None after a restore, where another way was chosen since, and where a file that was built is not as the
    build left it: Build tells more then.
    """
    project = workspace.project(project_id)
    with workspace.database.session() as session:
        last = session.scalar(
            select(Build).where(Build.project_id == project_id).order_by(Build.id.desc()).limit(1)
        )
        if last is None or last.held.get("way") != workspace.way(project):
            return {}
        columns = (Original.path, Original.current_size, Original.current_mtime)
        query = select(*columns).where(Original.project_id == project_id, Original.state != "original")
        changed = {path: Seen(size, mtime) for path, size, mtime in session.execute(query)}
    # A file that the game's maker replaced meanwhile is an original again.
    built = {file["path"] for file in last.files if file["way"] not in ("restore", "remove")}
    as_left = built <= set(changed) and all(
        Seen.at(Path(project.folder) / path) == seen for path, seen in changed.items()
    )
    return dict(last.held["items"]) if as_left else {}


def waiting(workspace: Workspace, project_id: str) -> int:
    """How many items a build would change: edits and new ones that are ready and not in the game as they are,
    and those that the game holds although nobody wants them any more.
    """
    there = held(workspace, project_id)
    with workspace.database.session() as session:
        columns = (Edit.address, Edit.state, Edit.encoded_sha256, Edit.encoded_elsewhere)
        edits = session.execute(select(*columns).where(Edit.project_id == project_id, Edit.in_work)).all()
        made = select(Addition.address, Addition.sha256).where(
            Addition.project_id == project_id, Addition.gone.is_(False)
        )
        wanted: dict[str, str] = dict(session.execute(made).all())
    undecided = set()
    for address, state, encoded, elsewhere in edits:
        if state == "attention":
            undecided.add(address)
            wanted.pop(address, None)
        elif state == "ready":
            wanted[address] = _version(encoded, elsewhere)
    return sum(there.get(address) != content for address, content in wanted.items()) + len(
        set(there) - set(wanted) - undecided
    )
