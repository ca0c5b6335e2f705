"""A cache beside the database: a file that may be deleted at any time, as all in it can be made again."""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import Any

from sqlalchemy import Connection, Engine, MetaData, Table, create_engine, event
from sqlalchemy.exc import DatabaseError, OperationalError, SQLAlchemyError

#: keys that are asked for at once
AT_ONCE = 500


def open_cache(path: Path, tables: MetaData) -> Engine:
    """The cache of a file, made where there is none. What is no database, or a damaged one, is begun anew.

    What cannot be opened (another process may hold it) is as if it were empty.
    """
    engine = create_engine(f"sqlite:///{path}", connect_args={"timeout": 2})
    event.listen(engine, "connect", _set_up)
    try:
        tables.create_all(engine)
    except OperationalError:
        pass
    except DatabaseError:
        engine.dispose()
        with contextlib.suppress(OSError):
            path.unlink()
        with contextlib.suppress(SQLAlchemyError):
            tables.create_all(engine)
    return engine


def make_room(connection: Connection, table: Table, most: int) -> None:
    """Let a quarter of a table's rows go, those that were kept first, where the cache is larger than allowed."""
    pages, free, size = (
        int(connection.exec_driver_sql(f"PRAGMA {name}").scalar_one())
        for name in ("page_count", "freelist_count", "page_size")
    )
    if (pages - free) * size > most:
        gone = f"SELECT rowid FROM {table.name} ORDER BY rowid LIMIT (SELECT count(*) / 4 FROM {table.name})"
        connection.exec_driver_sql(f"DELETE FROM {table.name} WHERE rowid IN ({gone})")


def _set_up(connection: Any, _: object) -> None:
    # What a power cut takes is made again.
    connection.execute("PRAGMA journal_mode = WAL")
    connection.execute("PRAGMA synchronous = OFF")
