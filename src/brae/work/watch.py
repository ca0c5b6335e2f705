"""Watches the exchange folders: a file that an editor saved comes back by itself."""

from __future__ import annotations

import logging
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import watchfiles
from sqlalchemy import select

from brae.core.assets.base import HEAD
from brae.core.assets.registry import kind_of, suffixes
from brae.core.errors import BraeError, LimitError, storage_error
from brae.store.models import Edit
from brae.work.edits import LARGEST_UPLOAD, check_place, note_fault, take_file
from brae.work.workspace import Workspace

log = logging.getLogger(__name__)
#: seconds that a file's size and time must stand still
_STEADY = 0.25
#: seconds for which a file that cannot be read counts as half-saved
_PATIENCE = 5.0
#: seconds until a file is tried again whose taking failed for another reason than its content, at most
_LATER = 30.0
_THREADS = 2


@dataclass
class _Waiting:
    """A file that was saved and is not taken yet."""

    due: float
    seen: tuple[int, int] | None = None
    #: when it counts as broken; counted from when it stood still first
    deadline: float | None = None
    failures: int = 0
    #: saved again while it was being taken
    again: bool = False
    busy: bool = False


class Watcher:
    """Takes files from the exchange folder as they are saved.

    One thread listens, one looks at what waits, others take: a file that cannot be read yet holds up no other, and
    one whose taking failed (the database was held, the disk full) is tried again until it is taken.
    """

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace
        self._stop = threading.Event()
        self._lock = threading.Lock()
        self._waiting: dict[Path, _Waiting] = {}
        self._pool = ThreadPoolExecutor(_THREADS, thread_name_prefix="taking")
        self._threads = [
            threading.Thread(target=self._listen, name="watcher", daemon=True),
            threading.Thread(target=self._look, name="taker", daemon=True),
        ]

    def start(self) -> None:
        """Begin to watch; files saved while nobody watched are taken first."""
        for thread in self._threads:
            thread.start()

    def stop(self) -> None:
        """Stop watching."""
        self._stop.set()
        for thread in self._threads:
            thread.join(timeout=5)
        self._pool.shutdown(wait=True, cancel_futures=True)

    def _listen(self) -> None:
        folder = self.workspace.home.exchange
        while not self._stop.is_set():
            try:
                folder.mkdir(parents=True, exist_ok=True)
                # Listening begins before what lies there is looked at, so that nothing falls between.
                events = watchfiles.watch(
                    folder, stop_event=self._stop, debounce=200, step=50, rust_timeout=500, yield_on_timeout=True
                )
                next(events, None)
                self.catch_up()
                for changes in events:
                    for path in {Path(name) for change, name in changes if change != watchfiles.Change.deleted}:
                        self._expect(path)
                    if not folder.is_dir():
                        break
            except Exception:  # watching goes on, whatever the operating system says
                log.exception("watching %s failed", folder)
            self._stop.wait(1)

    def catch_up(self) -> None:
        """Expect what was saved while nobody watched."""
        with self.workspace.database.session() as session:
            query = select(Edit.project_id, Edit.exchange_path).where(Edit.in_work)
            waited = [self.workspace.exchange_folder(project) / path for project, path in session.execute(query)]
        for path in waited:
            if path.is_file():
                self._expect(path)

    def _expect(self, path: Path) -> None:
        if path.suffix.lower() not in suffixes() or path.name.startswith(".brae-"):
            return
        with self._lock:
            waiting = self._waiting.setdefault(path, _Waiting(0.0))
            waiting.again = waiting.busy
            waiting.due = time.monotonic()

    def _look(self) -> None:
        while not self._stop.wait(0.05):
            now = time.monotonic()
            with self._lock:
                due = [path for path, one in self._waiting.items() if not one.busy and one.due <= now]
                for path in due:
                    self._waiting[path].busy = True
            for path in due:
                self._pool.submit(self._try, path)

    def _try(self, path: Path) -> None:
        waiting = self._waiting[path]
        try:
            done = self._attempt(path, waiting)
        except Exception as error:
            log.warning("taking %s failed, it is tried again", path, exc_info=not isinstance(error, BraeError))
            waiting.failures += 1
            waiting.due = time.monotonic() + min(2.0**waiting.failures / 2, _LATER)
            done = False
        with self._lock:
            waiting.busy = False
            if done and not waiting.again:
                del self._waiting[path]
            elif waiting.again:
                self._waiting[path] = _Waiting(time.monotonic())

    def take(self, path: Path) -> None:
        """Take one file now, if an item in work waits for it; patient with files that are still being written."""
        waiting = _Waiting(0.0)
        while not self._attempt(path, waiting):
            time.sleep(max(waiting.due - time.monotonic(), 0))

    def _attempt(self, path: Path, waiting: _Waiting) -> bool:
        """Look at a file once; True where there is nothing more to do about it.

        Raises what is no fault of the file: it is to be tried again.
        """
        edit = self._edit_for(path)
        if edit is None:
            return True
        try:
            status = path.stat()
        except OSError:
            return True  # gone
        now = time.monotonic()
        seen = (status.st_size, status.st_mtime_ns)
        if seen != waiting.seen:
            waiting.seen, waiting.due, waiting.deadline = seen, now + _STEADY, None
            return False
        waiting.deadline = waiting.deadline or now + _PATIENCE
        try:
            data = self._read(path, edit)
            take_file(
                self.workspace, edit.project_id, edit.address, data, path.name, on_disk=True,
                still=lambda: self._read(path, edit) == data,
            )  # fmt: skip
        except BraeError as error:
            # A half-saved file is a damaged one until the rest of it arrives.
            if error.status >= 500:
                note_fault(self.workspace, edit.project_id, edit.address, error)
                raise
            if now < waiting.deadline and not self._stop.is_set():
                waiting.due = now + _STEADY
                return False
            note_fault(self.workspace, edit.project_id, edit.address, error)
        return True

    def _read(self, path: Path, edit: Edit) -> bytes:
        check_place(self.workspace, path)
        try:
            with path.open("rb") as stream:
                size = stream.seek(0, 2)
                if size > LARGEST_UPLOAD:
                    raise LimitError(f"The file is larger than {LARGEST_UPLOAD:,} bytes.", address=path.name)
                stream.seek(max(size - 26, 0))
                tail = stream.read()
                stream.seek(0)
                kind_of(edit.kind).check_large(stream.read(HEAD), tail, size, path.name)
                stream.seek(0)
                return stream.read()
        except OSError as error:
            wrapped = storage_error(error, "read", path)
            wrapped.status = 422  # of this file, not of Brae's own place: it is told once it stays so
            raise wrapped from error

    def _edit_for(self, path: Path) -> Edit | None:
        try:
            project, *rest = path.relative_to(self.workspace.home.exchange).parts
        except ValueError:
            return None
        if not rest or path.suffix.lower() not in suffixes() or path.name.startswith(".brae-"):
            return None
        # An editor may save another file type than was sent out.
        stem = "/".join(rest)[: -len(path.suffix)]
        named = [stem + suffix for suffix in suffixes()]
        query = select(Edit).where(Edit.project_id == project, Edit.exchange_path.in_(named), Edit.in_work)
        with self.workspace.database.session() as session:
            found = list(session.scalars(query))
        return next((edit for edit in found if path.suffix.lower() in kind_of(edit.kind).suffixes()), None)
