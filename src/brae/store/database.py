"""The database: one SQLite file, brought up to date by Alembic when it is opened."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from sqlalchemy import create_engine, event, inspect, text
from sqlalchemy.orm import Session, sessionmaker

_MIGRATIONS = Path(__file__).with_name("migrations")


class Database:
    """Sessions on Brae's database."""

    def __init__(self, path: Path) -> None:
        self.engine = create_engine(f"sqlite:///{path}", connect_args={"timeout": 20})
        event.listen(self.engine, "connect", _pragmas)
        if not self._is_current():
            self._upgrade()
        self._sessions = sessionmaker(self.engine, expire_on_commit=False)

    def _is_current(self) -> bool:
        """Whether the newest migration was applied; asked by hand, because Alembic is slow to import."""
        newest = max(path.name.partition("_")[0] for path in _MIGRATIONS.glob("versions/[0-9]*.py"))
        with self.engine.connect() as connection:
            if not inspect(connection).has_table("alembic_version"):
                return False
            return bool(connection.scalar(text("SELECT version_num FROM alembic_version")) == newest)

    def _upgrade(self) -> None:
        from alembic import command
        from alembic.config import Config

        config = Config()
        config.set_main_option("script_location", str(_MIGRATIONS).replace("%", "%%"))
        with self.engine.begin() as connection:
            config.attributes["connection"] = connection
            command.upgrade(config, "head")

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
