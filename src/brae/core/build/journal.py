"""The journal of a build.

New files are written beside the old ones and flushed; patched ranges are written into the journal's own data
file. Only then the journal itself appears, by one rename: from that moment the build *has* happened, and
whoever finds the journal carries its steps out (again). Before that moment nothing of the game was touched.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from brae.core.errors import ChangedError, storage_error

_SUFFIX = ".brae-new"


def beside(target: Path) -> Path:
    """Where the new version of a file is written before it takes its place."""
    return target.with_name(f".{target.name}{_SUFFIX}")


def staged(target: Path) -> Path:
    """Where a file is written whose folder may not be there yet: beside the nearest folder that is."""
    if target.parent.is_dir():
        return beside(target)
    folder = next(parent for parent in target.parents if parent.is_dir())
    unique = hashlib.sha256(str(target).encode()).hexdigest()[:12]
    return folder / f".{unique}{_SUFFIX}"


def missing_folders(target: Path) -> list[Path]:
    """The folders that have to be made for a file, outermost first."""
    return [parent for parent in reversed(target.parents) if not parent.exists()]


def sync_folder(folder: Path) -> None:
    """Make renames in a folder durable, where the operating system lets us."""
    if os.name == "nt":  # Windows cannot open folders
        return
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def file_hash(path: Path, progress: Callable[[int], None] | None = None) -> str:
    """SHA-256 of a file, in hexadecimal."""
    digest = hashlib.sha256()
    with path.open("rb") as stream:
        while part := stream.read(1 << 20):
            digest.update(part)
            if progress:
                progress(len(part))
    return digest.hexdigest()


@dataclass
class Journal:
    """Steps that turn the game's files from before to after; ``note`` travels with them, for the store."""

    path: Path
    replaces: list[dict[str, Any]] = field(default_factory=list)
    patches: list[dict[str, Any]] = field(default_factory=list)
    removes: list[dict[str, Any]] = field(default_factory=list)
    note: dict[str, Any] = field(default_factory=dict)

    @property
    def data_path(self) -> Path:
        return self.path.with_suffix(".bin")

    @property
    def pending_path(self) -> Path:
        return self.path.with_suffix(".pending")

    def writes(self, new: Path) -> None:
        """A new file is about to be written; if the build is killed before it stands, it is cleared away."""
        self.pending_path.parent.mkdir(parents=True, exist_ok=True)
        with self.pending_path.open("a", encoding="utf-8") as stream:
            stream.write(json.dumps(str(new)) + "\n")
            stream.flush()
            os.fsync(stream.fileno())

    def replace(self, target: Path, sha256: str) -> None:
        """``staged(target)`` has been written and flushed; it shall become ``target``."""
        self.replaces.append({"target": str(target), "new": str(staged(target)), "sha256": sha256})

    def remove(self, target: Path, folders: list[Path]) -> None:
        """A file that Brae made shall go, and these folders with it where they are empty then, innermost last."""
        self.removes.append({"target": str(target), "folders": [str(folder) for folder in folders]})

    def patch(self, target: Path, ranges: list[tuple[int, bytes]]) -> None:
        """These ranges of ``target`` shall be overwritten."""
        places = []
        with self.data_path.open("ab") as stream:
            for offset, data in ranges:
                places.append([offset, stream.tell(), len(data)])
                stream.write(data)
            stream.flush()
            os.fsync(stream.fileno())
        self.patches.append({"target": str(target), "places": places})

    def commit(self) -> None:
        """From here on the build has happened."""
        draft = self.path.with_suffix(".draft")
        with draft.open("w", encoding="utf-8") as stream:
            steps = {"replaces": self.replaces, "patches": self.patches, "removes": self.removes}
            json.dump(steps | {"note": self.note}, stream)
            stream.flush()
            os.fsync(stream.fileno())
        draft.replace(self.path)
        sync_folder(self.path.parent)

    def apply(self) -> None:
        """Carry the steps out; may be repeated after a kill.

        Raises ChangedError where a file is neither before nor after.
        """
        for step in self.replaces:
            target = Path(step["target"])
            new = Path(step.get("new") or beside(target))
            try:
                if new.exists():
                    target.parent.mkdir(parents=True, exist_ok=True)
                    new.replace(target)
                    sync_folder(target.parent)
                elif not target.exists() or file_hash(target) != step["sha256"]:
                    raise ChangedError(
                        "A build was interrupted and this file has been changed since.",
                        address=str(target),
                        remedy="Restore it, then build again.",
                    )
            except OSError as error:
                raise storage_error(error, "replace", target) from error
        for step in self.patches:
            target = Path(step["target"])
            try:
                with target.open("r+b") as stream, self.data_path.open("rb") as data:
                    for offset, place, length in step["places"]:
                        data.seek(place)
                        stream.seek(offset)
                        stream.write(data.read(length))
                    stream.flush()
                    os.fsync(stream.fileno())
            except OSError as error:
                raise storage_error(error, "patch", target) from error

        for step in self.removes:
            target = Path(step["target"])
            try:
                target.unlink(missing_ok=True)
                for folder in reversed(step["folders"]):
                    with contextlib.suppress(OSError):  # something else lies in it, or it is gone
                        Path(folder).rmdir()
            except OSError as error:
                raise storage_error(error, "remove", target) from error

    def clear(self) -> None:
        """Forget the journal: its steps are done and the store knows."""
        self.path.unlink(missing_ok=True)
        self.data_path.unlink(missing_ok=True)
        self.pending_path.unlink(missing_ok=True)

    @classmethod
    def load(cls, path: Path) -> Journal:
        """A journal that was left behind."""
        content = json.loads(path.read_text(encoding="utf-8"))
        return cls(path, content["replaces"], content["patches"], content.get("removes", []), content["note"])


def tidy(path: Path) -> None:
    """Clear away what a build wrote that was killed before its journal stood."""
    pending = path.with_suffix(".pending")
    if path.exists() or not pending.exists():
        return
    for line in pending.read_text(encoding="utf-8").splitlines():
        with contextlib.suppress(ValueError, OSError):  # the last line may be cut
            Path(json.loads(line)).unlink(missing_ok=True)
    pending.unlink(missing_ok=True)
    path.with_suffix(".bin").unlink(missing_ok=True)


def start(path: Path) -> Journal:
    """A new, empty journal; what an unfinished one left beside is cleared away."""
    path.parent.mkdir(parents=True, exist_ok=True)
    tidy(path)
    journal = Journal(path)
    journal.data_path.unlink(missing_ok=True)
    path.with_suffix(".draft").unlink(missing_ok=True)
    return journal


def left_behind(folder: Path) -> Iterator[Journal]:
    """Committed journals whose steps may not all be done."""
    for path in sorted(folder.glob("*.json")) if folder.is_dir() else []:
        yield Journal.load(path)
