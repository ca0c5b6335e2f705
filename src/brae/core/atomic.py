"""Files that appear whole or not at all."""

from __future__ import annotations

import os
import sys
import tempfile
import time
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
            replace(Path(name), target)
        finally:
            Path(name).unlink(missing_ok=True)
    except OSError as error:
        raise storage_error(error, "write", target) from error


#: seconds in which a program that has just looked at a file lets go of it again (virus scanners, previews)
_LETS_GO, _AGAIN = 3.0, 0.05


def replace(source: Path, target: Path) -> None:
    """Put a file in the place of another.

    On Windows that is refused while any program has the other open: it is tried again for a moment. OSError where
    the operating system refuses for good.
    """
    until = time.monotonic() + _LETS_GO
    while True:
        try:
            source.replace(target)
            return
        except PermissionError:
            if sys.platform != "win32" or time.monotonic() > until:
                raise
        time.sleep(_AGAIN)
