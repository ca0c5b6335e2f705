"""A cache beside the database: a file that may be deleted at any time, as all in it can be made again."""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import Any

from sqlalchemy import Engine, MetaData, create_engine, event
from sqlalchemy.exc import DatabaseError, OperationalError, SQLAlchemyError


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


def _set_up(connection: Any, _: object) -> None:
    # What a power cut takes is made again.
    connection.execute("PRAGMA journal_mode = WAL")
    connection.execute("PRAGMA synchronous = OFF")
