"""Opening the database; a lost or damaged one is made anew from the ledger."""

from __future__ import annotations

import logging
from itertools import count
from pathlib import Path

from brae.core.errors import storage_error
from brae.store.database import DamagedError, Database
from brae.store.home import Home
from brae.store.ledger import Ledger

log = logging.getLogger(__name__)


def open_database(home: Home, ledger: Ledger) -> Database:
    """The database of a home.

    A damaged one is put aside, never deleted; what it held of changed files and edits comes back from the ledger.
    Raises StorageError, with words, where it cannot be used.
    """
    with home.held("database", 30):
        fresh = not home.database.exists()
        try:
            database = Database(home.database)
        except DamagedError as error:
            aside = _put_aside(home.database)
            log.warning("%s It was put aside as %s, and a new one is made from what lies beside it.", error, aside)
            database, fresh = Database(home.database), True
        if fresh:
            ledger.rebuild(database)
        else:
            ledger.fill(database)
    return database


def _put_aside(path: Path) -> Path:
    """Rename a damaged database, and what SQLite keeps beside it, to a name that is free."""
    aside = next(
        found for number in count(1) if not (found := path.with_name(f"{path.stem}-damaged-{number}.db")).exists()
    )
    try:
        for ending in ("", "-wal", "-shm"):
            part = path.with_name(path.name + ending)
            if part.exists():
                part.replace(aside.with_name(aside.name + ending))
    except OSError as error:
        raise storage_error(error, "put aside", path) from error
    return aside
