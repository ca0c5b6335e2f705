"""The database: one SQLite file, brought up to date by Alembic when it is opened."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from alembic import command
from alembic.config import Config
from sqlalchemy import create_engine, event
from sqlalchemy.orm import Session, sessionmaker


class Database:
    """Sessions on Brae's database."""

    def __init__(self, path: Path) -> None:
        self.engine = create_engine(f"sqlite:///{path}", connect_args={"timeout": 20})
        event.listen(self.engine, "connect", _pragmas)
        config = Config()
        config.set_main_option("script_location", str(Path(__file__).with_name("migrations")).replace("%", "%%"))
        with self.engine.begin() as connection:
            config.attributes["connection"] = connection
            command.upgrade(config, "head")
        self._sessions = sessionmaker(self.engine, expire_on_commit=False)

    @contextmanager
    def session(self) -> Iterator[Session]:
        """A session that commits at its end, or rolls back on an error."""
        with self._sessions.begin() as session:
            yield session

    def close(self) -> None:
        """Let go of the file."""
        self.engine.dispose()


def _pragmas(connection: Any, _: Any) -> None:
    cursor = connection.cursor()
    cursor.execute("PRAGMA foreign_keys=ON")
    cursor.execute("PRAGMA journal_mode=WAL")
    cursor.execute("PRAGMA synchronous=NORMAL")
    cursor.close()
