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
import stat
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np

from brae.core.atomic import replace
from brae.core.errors import BraeError, FormatError, storage_error

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


@dataclass(frozen=True)
class Seen:
    """Size and time (nanoseconds) of a file, by which a change of something else is noticed."""

    size: int
    mtime: int

    @classmethod
    def of(cls, status: os.stat_result) -> Seen:
        """From what the operating system says of an open or named file."""
        return cls(status.st_size, status.st_mtime_ns)

    @classmethod
    def at(cls, path: Path | str) -> Seen | None:
        """Of an ordinary file; None where there is none, or a link or a folder has taken its place."""
        try:
            status = os.lstat(path)
        except OSError:
            return None
        return cls.of(status) if stat.S_ISREG(status.st_mode) else None


@dataclass(frozen=True)
class Range:
    """Bytes of a patched file: as the original has them, as they are before the patch, as they shall be."""

    offset: int
    original: bytes
    now: bytes
    new: bytes


@dataclass
class Journal:
    """Steps that turn the game's files from before to after; ``note`` travels with them, for the store.

    Each step says what its file is before it, so that whoever carries it out later writes over nothing else.
    """

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

    def replace(self, target: Path, sha256: str, before: Seen | None, before_sha256: str) -> None:
        """``staged(target)`` has been written and flushed; it shall become ``target``, which is now ``before``."""
        step = {"target": str(target), "new": str(staged(target)), "sha256": sha256}
        self.replaces.append(step | _expected(before, before_sha256))

    def remove(self, target: Path, folders: list[Path], before: Seen | None, before_sha256: str) -> None:
        """A file that Brae made shall go, and these folders with it where they are empty then, innermost last."""
        step = {"target": str(target), "folders": [str(folder) for folder in folders]}
        self.removes.append(step | _expected(before, before_sha256))

    def patch(self, target: Path, ranges: list[Range], before: Seen | None, original_sha256: str) -> None:
        """These ranges of ``target`` shall be overwritten; outside them it is as the original is."""
        places = []
        with self.data_path.open("ab") as stream:

            def put(data: bytes) -> int:
                place = stream.tell()
                stream.write(data)
                return place

            for one in ranges:
                original = put(one.original)
                now = original if one.now == one.original else put(one.now)
                new = original if one.new == one.original else put(one.new)
                places.append([one.offset, len(one.new), original, now, new])
            stream.flush()
            os.fsync(stream.fileno())
        step = {"target": str(target), "original": original_sha256, "places": places}
        self.patches.append(step | _expected(before, ""))

    def commit(self) -> None:
        """From here on the build has happened."""
        draft = self.path.with_suffix(".draft")
        with draft.open("w", encoding="utf-8") as stream:
            steps = {"replaces": self.replaces, "patches": self.patches, "removes": self.removes}
            json.dump(steps | {"note": self.note}, stream)
            stream.flush()
            os.fsync(stream.fileno())
        replace(draft, self.path)
        sync_folder(self.path.parent)

    def apply(self) -> dict[str, Seen | None]:
        """Carry the steps out; may be repeated after a kill.

        Returns for each file, by its path, what was seen of it when its step was done: None where something else
        has changed it since the journal was written. Such a file is left as it is. Raises StorageError where the
        operating system refuses a step; the journal then stays and can be applied again.
        """
        done: dict[str, Seen | None] = {}
        for verb, steps, carry_out in (
            ("replace", self.replaces, _replace),
            ("patch", self.patches, self._patch),
            ("remove", self.removes, _remove),
        ):
            for step in steps:
                try:
                    done[step["target"]] = carry_out(step)
                except OSError as error:
                    raise storage_error(error, verb, step["target"]) from error
        return done

    def _patch(self, step: dict[str, Any]) -> Seen | None:
        target = Path(step["target"])
        before = _before(step)
        found = Seen.at(target)
        if found is None or before is None or found.size != before.size:
            return None
        with target.open("r+b") as stream, self.data_path.open("rb") as data:
            if Seen.of(os.fstat(stream.fileno())) != before and not _is_ours(stream, data, step):
                return None
            for offset, length, _, _, new in step["places"]:
                data.seek(new)
                stream.seek(offset)
                stream.write(data.read(length))
            stream.flush()
            os.fsync(stream.fileno())
            return Seen.of(os.fstat(stream.fileno()))

    def clear(self) -> None:
        """Forget the journal: its steps are done and the store knows."""
        self.path.unlink(missing_ok=True)
        self.data_path.unlink(missing_ok=True)
        self.pending_path.unlink(missing_ok=True)

    @classmethod
    def load(cls, path: Path) -> Journal:
        """A journal that was left behind. Raises FormatError where it is damaged."""
        try:
            content = json.loads(path.read_text(encoding="utf-8"))
            return cls(path, content["replaces"], content["patches"], content["removes"], content["note"])
        except (ValueError, KeyError, TypeError) as error:
            raise FormatError(
                f"The journal of a build, {path}, is damaged.",
                remedy="Move it to another folder, restore the originals, then build again.",
            ) from error


def _expected(before: Seen | None, sha256: str) -> dict[str, Any]:
    return {"before": None if before is None else [before.size, before.mtime], "before_sha256": sha256}


def _before(step: dict[str, Any]) -> Seen | None:
    return None if step["before"] is None else Seen(*step["before"])


def _is_before(step: dict[str, Any], target: Path, now: Seen | None) -> bool:
    """Whether a file is what it was when the step was written down: by size and time, else by its bytes."""
    if now == _before(step):
        return now is not None or not os.path.lexists(target)
    return now is not None and bool(step["before_sha256"]) and file_hash(target) == step["before_sha256"]


def _replace(step: dict[str, Any]) -> Seen | None:
    target, new = Path(step["target"]), Path(step["new"])
    now = Seen.at(target)
    if new.exists() and _is_before(step, target, now):
        target.parent.mkdir(parents=True, exist_ok=True)
        seen = Seen.at(new)
        replace(new, target)
        sync_folder(target.parent)
        return seen
    if now is not None and file_hash(target) == step["sha256"] and Seen.at(target) == now:
        return now  # done before the kill
    new.unlink(missing_ok=True)
    return None


def _remove(step: dict[str, Any]) -> Seen | None:
    target = Path(step["target"])
    now = Seen.at(target)
    gone = now is None and not os.path.lexists(target)
    if not gone and not _is_before(step, target, now):
        return None
    target.unlink(missing_ok=True)
    for folder in reversed(step["folders"]):
        with contextlib.suppress(OSError):  # something else lies in it, or it is gone
            Path(folder).rmdir()
    return Seen(0, 0)


def _is_ours(stream: BinaryIO, data: BinaryIO, step: dict[str, Any]) -> bool:
    """Whether a file is what a patch that was killed half-way left: the original outside the ranges, and inside
    them each byte as it is in the original, was before the patch, or shall be after it.
    """
    digest, position = hashlib.sha256(), 0
    for offset, length, *versions in sorted(step["places"]):
        _hash_range(stream, position, offset, digest)
        stream.seek(offset)
        found = np.frombuffer(stream.read(length), np.uint8)
        allowed = []
        for place in versions:
            data.seek(place)
            allowed.append(np.frombuffer(data.read(length), np.uint8))
        if len(found) != length or not np.logical_or.reduce([found == version for version in allowed]).all():
            return False
        digest.update(allowed[0].tobytes())
        position = offset + length
    _hash_range(stream, position, None, digest)
    return digest.hexdigest() == str(step["original"])


def _hash_range(stream: BinaryIO, start: int, end: int | None, digest: hashlib._Hash) -> None:
    stream.seek(start)
    while end is None or start < end:
        part = stream.read(1 << 20 if end is None else min(1 << 20, end - start))
        if not part:
            return
        digest.update(part)
        start += len(part)


def tidy(path: Path) -> None:
    """Clear away what a build wrote that was killed before its journal stood."""
    if path.exists():
        return
    pending = path.with_suffix(".pending")
    for line in pending.read_text(encoding="utf-8").splitlines() if pending.exists() else []:
        with contextlib.suppress(ValueError, OSError):  # the last line may be cut
            Path(json.loads(line)).unlink(missing_ok=True)
    for ending in (".pending", ".bin", ".draft"):
        path.with_suffix(ending).unlink(missing_ok=True)


def start(path: Path) -> Journal:
    """A new, empty journal; what an unfinished one left beside is cleared away."""
    path.parent.mkdir(parents=True, exist_ok=True)
    tidy(path)
    return Journal(path)


def left_behind(folder: Path) -> Iterator[Journal]:
    """Committed journals whose steps may not all be done; damaged ones are passed over."""
    for path in sorted(folder.glob("*.json")) if folder.is_dir() else []:
        with contextlib.suppress(BraeError):
            yield Journal.load(path)
