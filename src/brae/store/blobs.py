"""Bytes kept by their SHA-256; written once, never changed."""

from __future__ import annotations

import hashlib
import os
import tempfile
from collections.abc import Callable, Iterable
from pathlib import Path

from brae.core.atomic import replace
from brae.core.build.journal import sync_folder
from brae.core.errors import NotFoundError, storage_error
from brae.core.sources import FileSource, chunks


class Blobs:
    """A folder of kept bytes."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def path(self, sha256: str) -> Path:
        """Where bytes of that hash lie."""
        return self.folder / sha256[:2] / sha256

    def __contains__(self, sha256: str) -> bool:
        return self.path(sha256).is_file()

    def put(self, data: bytes) -> str:
        """Keep bytes; returns their hash."""
        return self.put_parts([data])

    def put_file(self, path: Path, progress: Callable[[int], None] | None = None) -> str:
        """Keep a file's bytes; returns their hash."""
        with FileSource(path) as source:
            return self.put_parts(chunks(source), progress)

    def put_parts(self, parts: Iterable[bytes], progress: Callable[[int], None] | None = None) -> str:
        """Keep bytes that come in pieces; returns their hash."""
        digest = hashlib.sha256()
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            handle, name = tempfile.mkstemp(dir=self.folder, prefix=".new-")
            draft = Path(name)
            try:
                with os.fdopen(handle, "wb") as stream:
                    for part in parts:
                        digest.update(part)
                        stream.write(part)
                        if progress:
                            progress(len(part))
                    stream.flush()
                    os.fsync(stream.fileno())
                sha256 = digest.hexdigest()
                target = self.path(sha256)
                if not target.exists():
                    target.parent.mkdir(exist_ok=True)
                    replace(draft, target)
                    # What replaces an original's bytes is only written once the bytes are sure to be found again.
                    sync_folder(target.parent)
                    sync_folder(self.folder)
            finally:
                draft.unlink(missing_ok=True)
        except OSError as error:
            raise storage_error(error, "keep bytes in", self.folder) from error
        return sha256

    def get(self, sha256: str) -> bytes:
        """Kept bytes; NotFoundError where they are gone or no longer what they were."""
        try:
            data = self.path(sha256).read_bytes()
        except OSError as error:
            raise NotFoundError(f"The kept bytes {sha256[:12]}… are gone from {self.folder}.") from error
        if hashlib.sha256(data).hexdigest() != sha256:
            raise NotFoundError(f"The kept bytes {sha256[:12]}… are damaged.", address=str(self.path(sha256)))
        return data
