"""Brae's own folder and what lies where in it."""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

from filelock import FileLock, Timeout

from brae.core.atomic import write_atomically
from brae.core.errors import ReadOnlyError, storage_error
from brae.core.places import layouts_in, usual_place


class InUseError(ReadOnlyError):
    """Somebody else works on the same project."""

    code = "in-use"


class Home:
    """A folder of Brae's own, closed to other users of the computer.

    Nothing is written outside it but the game's files on a build.
    """

    def __init__(self, path: Path | None = None) -> None:
        self.path = (path or usual_place()).resolve()
        try:
            self.path.mkdir(mode=0o700, parents=True, exist_ok=True)
            if os.name == "posix" and self.path.stat().st_mode & 0o077:
                self.path.chmod(0o700)
            for folder in (self.exchange, self.layouts, self.journals, self.locks):
                folder.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise storage_error(error, "use the folder", self.path) from error

    @property
    def database(self) -> Path:
        return self.path / "brae.db"

    @property
    def thumbnails(self) -> Path:
        """Small previews: a cache, which may be deleted."""
        return self.path / "thumbnails.db"

    @property
    def colours(self) -> Path:
        """Colour steps that a person keeps."""
        return self.path / "colours"

    @property
    def likenesses(self) -> Path:
        """What is kept of pictures to find them by: a cache, which may be deleted."""
        return self.path / "likenesses.db"

    @property
    def mentions(self) -> Path:
        """The names that items mention: a cache, which may be deleted."""
        return self.path / "mentions.db"

    @property
    def blobs(self) -> Path:
        return self.path / "kept"

    @property
    def ledger(self) -> Path:
        """What a lost database is made anew from."""
        return self.path / "ledger"

    @property
    def exchange(self) -> Path:
        """Where the files of items in work lie, one folder a project."""
        return self.path / "exchange"

    @property
    def layouts(self) -> Path:
        """A person's own layouts, for every project."""
        return layouts_in(self.path)

    @property
    def journals(self) -> Path:
        return self.path / "journals"

    @property
    def locks(self) -> Path:
        return self.path / "locks"

    @property
    def games(self) -> Path:
        """Where the demo games are made."""
        return self.path / "games"

    @property
    def server(self) -> Path:
        """How to reach the server that runs now: its address and secret."""
        return self.path / "server.json"

    def journal(self, project: str) -> Path:
        """The journal of a project's build."""
        return self.journals / f"{project}.json"

    @contextmanager
    def held(self, project: str, wait: float) -> Iterator[None]:
        """Hold the lock on a project's files, against other processes; waits so many seconds for them.

        Raises InUseError, which names the process that holds it, or StorageError where no lock can be made.
        """
        lock = FileLock(self.locks / f"{project}.lock", timeout=wait)
        try:
            lock.acquire()
        except Timeout as error:
            raise self._busy(project) from error
        except OSError as error:
            raise storage_error(error, "use the folder", self.locks) from error
        try:
            with suppress(OSError):
                self._holder(project).write_text(str(os.getpid()))
            yield
        finally:
            lock.release()

    def _busy(self, project: str) -> InUseError:
        who = ""
        with suppress(OSError, ValueError):
            who = f" (process {int(self._holder(project).read_text())})"
        return InUseError(
            f"Another Brae{who} is working on '{project}'.",
            remedy="Wait until it is done, or close it, and try again.",
        )

    def _holder(self, project: str) -> Path:
        return self.locks / f"{project}.holder"

    def announce(self, server: dict[str, Any]) -> None:
        """Write down how the server is reached; only this user can read it."""
        write_atomically(self.server, json.dumps(server).encode())

    def announced(self) -> dict[str, Any] | None:
        """How the server is reached that said so last."""
        try:
            found = json.loads(self.server.read_text(encoding="utf-8"))
        except (OSError, ValueError):
            return None
        return found if isinstance(found, dict) else None
