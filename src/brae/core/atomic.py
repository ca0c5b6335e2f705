"""Files that appear whole or not at all."""

from __future__ import annotations

import os
import sys
import time
from itertools import count
from pathlib import Path

from brae.core.errors import storage_error


def write_atomically(target: Path, data: bytes, *, durable: bool = False) -> os.stat_result:
    """Write a file beside ``target``, then put it in its place; ``durable``: it is there after a power cut as well.

    Returns the status of the new file. A link at ``target`` is replaced, never followed. Raises StorageError where
    the operating system refuses.
    """
    try:
        handle, beside = _beside(target)
        try:
            try:
                left = memoryview(data)
                while left:
                    left = left[os.write(handle, left) :]
                if durable:
                    os.fsync(handle)
                status = os.fstat(handle)
            finally:
                os.close(handle)
            replace(beside, target)
        except BaseException:
            Path(beside).unlink(missing_ok=True)
            raise
    except OSError as error:
        raise storage_error(error, "write", target) from error
    return status


_NEW = os.O_RDWR | os.O_CREAT | os.O_EXCL | getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_BINARY", 0)
_numbers = count()


def _beside(target: Path) -> tuple[int, str]:
    """A new file in the same folder, which is made where it is not there yet."""
    folder, suffix = target.parent, target.suffix
    while True:
        # As tempfile does it, which asks a dozen times as much of the system; a name that is taken is passed over.
        name = f"{folder}/.brae-{os.getpid():x}-{next(_numbers):x}{suffix}"
        try:
            return os.open(name, _NEW, 0o600), name
        except FileNotFoundError:
            folder.mkdir(parents=True, exist_ok=True)
        except FileExistsError:
            continue


#: seconds in which a program that has just looked at a file lets go of it again (virus scanners, previews)
_LETS_GO, _AGAIN = 3.0, 0.05


def replace(source: Path | str, target: Path | str) -> None:
    """Put a file in the place of another.

    On Windows that is refused while any program has the other open: it is tried again for a moment. OSError where
    the operating system refuses for good.
    """
    until = time.monotonic() + _LETS_GO
    while True:
        try:
            os.replace(source, target)  # noqa: PTH105  (a Path made for each of 100,000 files is dear)
            return
        except PermissionError:
            if sys.platform != "win32" or time.monotonic() > until:
                raise
        time.sleep(_AGAIN)
