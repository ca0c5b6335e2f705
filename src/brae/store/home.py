"""Brae's own folder and what lies where in it."""

from __future__ import annotations

from pathlib import Path

from filelock import FileLock, Timeout
from platformdirs import user_data_path

from brae.core.errors import ReadOnlyError, storage_error


class InUseError(ReadOnlyError):
    """Another Brae works on the same project."""

    code = "in-use"


def usual_place() -> Path:
    """Where this system keeps programs' data (nothing is made there)."""
    return user_data_path("brae", appauthor=False)


class Home:
    """A folder of Brae's own; nothing is written outside it but the game's files on a build."""

    def __init__(self, path: Path | None = None) -> None:
        self.path = (path or usual_place()).resolve()
        try:
            for folder in (self.path, self.exchange, self.layouts, self.journals, self.locks):
                folder.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise storage_error(error, "make the folder", self.path) from error

    @property
    def database(self) -> Path:
        return self.path / "brae.db"

    @property
    def blobs(self) -> Path:
        return self.path / "kept"

    @property
    def exchange(self) -> Path:
        """Where the files of items in work lie, one folder a project."""
        return self.path / "exchange"

    @property
    def layouts(self) -> Path:
        """A person's own layouts, for every project."""
        return self.path / "layouts"

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

    def journal(self, project: str) -> Path:
        """The journal of a project's build."""
        return self.journals / f"{project}.json"

    def lock(self, project: str, wait: float) -> FileLock:
        """A lock on a project's files, held while they change (works between processes); waits so many seconds."""
        return FileLock(self.locks / f"{project}.lock", timeout=wait)


def busy(error: Timeout, project: str) -> InUseError:
    """The refusal for a lock that another process holds."""
    return InUseError(
        f"Another Brae is working on '{project}'.", remedy="Wait until it is done, or close it, and try again."
    )
