"""What lies beside the database, so that a lost one loses nothing: changed files of the games, and edits.

Each project has a folder of small JSON files. They say the same as the database's rows; the database is rebuilt
from them where it is gone or damaged, and ``restore`` then works as before.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import shutil
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from sqlalchemy import select

from brae.core.atomic import write_atomically
from brae.core.errors import storage_error
from brae.store.database import Database
from brae.store.models import Addition, Edit, EditStep, Kept, Original, Project

_PROJECT = ("id", "name", "folder", "only", "chosen_edition", "way")
_ORIGINAL = (
    "path", "size", "sha256", "state", "current_size", "current_mtime", "current_sha256", "built_from",
    "made_folders",
)  # fmt: skip
_EDIT = (
    "address", "kind", "exchange_path", "in_work", "recipe", "sent_sha256", "seen_sha256", "position", "state",
    "sheet", "encoded_sha256", "encoded_elsewhere", "fault",
)  # fmt: skip
_ADDITION = ("address", "archive", "name", "like", "sha256", "gone")
_STEP = ("number", "what", "file_sha256", "file_name", "remedies", "choices", "beside")


class Ledger:
    """The folder of these files."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def begin(self, project: Project) -> None:
        """Write down a project of which nothing is written yet: none of its files was changed."""
        if not (self.folder / project.id / "project.json").exists():
            self.keep_files(project, [])

    def keep_files(self, project: Project, originals: list[Original]) -> None:
        """Write down a project and its files that are not as they were."""
        files = [
            {name: getattr(row, name) for name in _ORIGINAL}
            | {"kept": [[kept.offset, kept.length, kept.sha256] for kept in row.kept]}
            for row in originals
            if row.state != "original"
        ]
        content = {"project": {name: getattr(project, name) for name in _PROJECT}, "files": files}
        _write(self.folder / project.id / "project.json", content)

    def keep_superseded(self, project: str, original: Original) -> None:
        """A file whose original was kept has another original from now on: the way to the old one is not lost."""
        if not original.kept:
            return
        entry = {name: getattr(original, name) for name in _ORIGINAL} | {
            "kept": [[kept.offset, kept.length, kept.sha256] for kept in original.kept],
            "until": datetime.now(UTC).isoformat(),
        }
        path = self.folder / project / "superseded.jsonl"
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            with path.open("a", encoding="utf-8") as stream:
                stream.write(json.dumps(entry) + "\n")
        except OSError as error:
            raise storage_error(error, "write", path) from error

    def keep_meant(self, project: str, rules: list[dict[str, Any]]) -> None:
        """Write down which findings are meant."""
        _write(self.folder / project / "meant.json", {"rules": rules})

    def keep_additions(self, project: str, additions: list[Addition]) -> None:
        """Write down the items that a person made."""
        rows = [{name: getattr(one, name) for name in _ADDITION} for one in additions]
        _write(self.folder / project / "additions.json", {"additions": rows})

    def keep_edit(self, edit: Edit) -> None:
        """Write down one edit with its versions."""
        steps = [{name: getattr(step, name) for name in _STEP} for step in edit.steps]
        content = {name: getattr(edit, name) for name in _EDIT} | {"steps": steps}
        _write(self._edit_file(edit.project_id, edit.address), content)

    def drop_edit(self, project: str, address: str) -> None:
        """An edit that goes on under another address is no more under this one."""
        self._edit_file(project, address).unlink(missing_ok=True)

    def _edit_file(self, project: str, address: str) -> Path:
        name = hashlib.sha256(address.encode("utf-8", "surrogatepass")).hexdigest()[:32]
        return self.folder / project / "edits" / f"{name}.json"

    def forget(self, project: str) -> None:
        """A project that was forgotten comes back no more."""
        for name in ("project.json", "meant.json", "additions.json"):
            with contextlib.suppress(OSError):
                (self.folder / project / name).unlink()
        shutil.rmtree(self.folder / project / "edits", ignore_errors=True)

    def rebuild(self, database: Database) -> list[str]:
        """Put back into a new database what is written down here; returns the projects."""
        found = []
        for path in sorted(self.folder.glob("*/project.json")) if self.folder.is_dir() else []:
            content = _read(path)
            if content is None:
                continue
            with database.change() as session:
                if session.get(Project, content["project"]["id"]) is not None:
                    continue
                rules = (_read(path.parent / "meant.json") or {}).get("rules", [])
                project = Project(**content["project"], files_seen=0, meant=rules)
                session.add(project)
                session.flush()
                for file in content["files"]:
                    kept = [Kept(offset=at, length=size, sha256=sha) for at, size, sha in file.pop("kept")]
                    session.add(Original(project_id=project.id, **file, kept=kept))
                for row in (_read(path.parent / "additions.json") or {}).get("additions", []):
                    session.add(Addition(project_id=project.id, **row))
                for edit in self._edits(path.parent / "edits"):
                    # Before there were kinds, there were textures, and the files beside one its mip levels.
                    edit.setdefault("kind", "texture")
                    steps = [
                        EditStep(beside=step.pop("levels", None) or step.pop("beside", {}), **step)
                        for step in edit.pop("steps")
                    ]
                    session.add(Edit(project_id=project.id, **edit, steps=steps))
                found.append(project.id)
        return found

    def fill(self, database: Database) -> None:
        """Write down what a database from before there was a ledger holds."""
        with database.session() as session:
            for project in session.scalars(select(Project)):
                if (self.folder / project.id / "project.json").exists():
                    continue
                query = select(Original).where(Original.project_id == project.id, Original.state != "original")
                self.keep_files(project, list(session.scalars(query)))
                for edit in session.scalars(select(Edit).where(Edit.project_id == project.id)):
                    self.keep_edit(edit)

    @staticmethod
    def _edits(folder: Path) -> Iterator[dict[str, Any]]:
        for path in sorted(folder.glob("*.json")) if folder.is_dir() else []:
            content = _read(path)
            if content is not None:
                yield content


def _read(path: Path) -> dict[str, Any] | None:
    try:
        content = json.loads(path.read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return None
    return content if isinstance(content, dict) else None


def _write(path: Path, content: dict[str, Any]) -> None:
    write_atomically(path, json.dumps(content).encode(), durable=True)
