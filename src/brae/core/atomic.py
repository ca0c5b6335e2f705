"""Files that appear whole or not at all."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path

from brae.core.errors import storage_error


def write_atomically(target: Path, data: bytes, *, durable: bool = False) -> None:
    """Write a file beside ``target``, then put it in its place; ``durable``: it is there after a power cut as well.

    A link at ``target`` is replaced, never followed. Raises StorageError where the operating system refuses.
    """
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
        handle, name = tempfile.mkstemp(dir=target.parent, prefix=".brae-", suffix=target.suffix)
        try:
            with os.fdopen(handle, "wb") as stream:
                stream.write(data)
                if durable:
                    stream.flush()
                    os.fsync(stream.fileno())
            Path(name).replace(target)
        finally:
            Path(name).unlink(missing_ok=True)
    except OSError as error:
        raise storage_error(error, "write", target) from error
