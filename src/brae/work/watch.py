"""Watches the exchange folders: a file that an editor saved comes back by itself."""

from __future__ import annotations

import logging
import threading
import time
from pathlib import Path

import watchfiles
from sqlalchemy import select

from brae.core.errors import BraeError
from brae.store.models import Edit
from brae.work.edits import LARGEST_UPLOAD, SUFFIXES, note_fault, take_file
from brae.work.workspace import Workspace

log = logging.getLogger(__name__)
_STEADY = 0.25
_PATIENCE = 5.0


class Watcher:
    """A thread that takes files from the exchange folder as they are saved."""

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._run, name="watcher", daemon=True)

    def start(self) -> None:
        """Begin to watch; files saved while nobody watched are taken first."""
        self._thread.start()

    def stop(self) -> None:
        """Stop watching."""
        self._stop.set()
        self._thread.join(timeout=5)

    def _run(self) -> None:
        self.catch_up()
        folder = self.workspace.home.exchange
        for changes in watchfiles.watch(folder, stop_event=self._stop, debounce=200, step=50, rust_timeout=500):
            for path in {Path(name) for change, name in changes if change != watchfiles.Change.deleted}:
                self.take(path)

    def catch_up(self) -> None:
        """Take what was saved while Brae was not running."""
        with self.workspace.database.session() as session:
            waited = [
                self.workspace.exchange_folder(edit.project_id) / edit.exchange_path
                for edit in session.scalars(select(Edit).where(Edit.in_work))
            ]
        for path in waited:
            if path.is_file():
                self.take(path)

    def take(self, path: Path) -> None:
        """Take one file, if an item in work waits for it; patient with files that are still being written."""
        edit = self._edit_for(path)
        if edit is None:
            return
        deadline = time.monotonic() + _PATIENCE
        while True:
            try:
                data = _read_steady(path)
                if data is not None:
                    take_file(self.workspace, edit.project_id, edit.address, data, path.name, on_disk=True)
                return
            except BraeError as error:
                # A half-saved file is a damaged picture until the rest of it arrives.
                if time.monotonic() > deadline or self._stop.is_set():
                    note_fault(self.workspace, edit.project_id, edit.address, error)
                    return
                time.sleep(_STEADY)
            except Exception:  # one odd file must not end the watching
                log.exception("taking %s failed", path)
                return

    def _edit_for(self, path: Path) -> Edit | None:
        try:
            project, *rest = path.relative_to(self.workspace.home.exchange).parts
        except ValueError:
            return None
        if not rest or path.suffix.lower() not in SUFFIXES or path.name.startswith(".brae-"):
            return None
        stem = "/".join(rest)[: -len(path.suffix)]
        with self.workspace.database.session() as session:
            return session.scalar(
                select(Edit).where(
                    Edit.project_id == project, Edit.exchange_path.in_([f"{stem}.png", f"{stem}.exr"]), Edit.in_work
                )
            )


def _read_steady(path: Path) -> bytes | None:
    """A file's bytes once its size and time stand still; None where it is gone."""
    try:
        before = path.stat()
        while True:
            time.sleep(_STEADY)
            after = path.stat()
            if (before.st_size, before.st_mtime_ns) == (after.st_size, after.st_mtime_ns):
                return path.read_bytes() if after.st_size <= LARGEST_UPLOAD else b""
            before = after
    except OSError:
        return None
