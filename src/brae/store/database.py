"""The database: one SQLite file, brought up to date by Alembic when it is opened."""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from sqlalchemy import create_engine, event, text
from sqlalchemy.exc import DBAPIError, IntegrityError, SQLAlchemyError
from sqlalchemy.orm import Session, sessionmaker

from brae.core.errors import BraeError, StorageError

_MIGRATIONS = Path(__file__).with_name("migrations")
_WAIT = 20


class DamagedError(StorageError):
    """The database is no database any more, or parts of it cannot be read."""

    code = "database-damaged"


class NewerError(StorageError):
    """The database was written by a newer Brae."""

    code = "database-newer"


class Database:
    """Sessions on Brae's database.

    ``session`` reads, ``change`` writes in one short transaction. Nothing is computed while either is open: what is
    needed is read first, and what came out is written afterwards, where it is still so.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self._open_here = threading.local()
        self._looking = threading.Lock()
        self._eye: sqlite3.Connection | None = None
        try:
            # Made here, because SQLite would let every user of the computer read it.
            path.touch(mode=0o600, exist_ok=True)
        except OSError as error:
            raise StorageError(
                f"Brae cannot write its database {path}: {error.strerror}.",
                remedy="Choose a folder you may write to with --home, or change its permissions.",
            ) from error
        self.engine = create_engine(f"sqlite:///{path}", connect_args={"timeout": _WAIT})
        event.listen(self.engine, "connect", _connected)
        event.listen(self.engine, "begin", _begin)
        try:
            with self._said():
                self._check_sound()
                if not self._is_current():
                    self._upgrade()
        except BaseException:
            self.engine.dispose()
            raise
        self._reads = sessionmaker(self.engine, expire_on_commit=False, autoflush=False)
        self._changes = sessionmaker(self.engine.execution_options(immediate=True), expire_on_commit=False)
        event.listen(self._reads, "before_flush", _refuse)

    @contextmanager
    def _said(self) -> Iterator[None]:
        """The database's complaints in words that a person can act on."""
        try:
            yield
        except IntegrityError:
            raise  # a fault of Brae's own
        except (DBAPIError, sqlite3.Error) as error:
            raise _in_words(error, self.path) from error

    def _check_sound(self) -> None:
        """Raise DamagedError where the file is garbage, cut short or damaged."""
        with self.engine.connect() as connection:
            found = connection.exec_driver_sql("PRAGMA quick_check(1)").scalar()
            if found != "ok":
                raise DamagedError(f"Brae's database {self.path} is damaged: {found}.", remedy=_ASIDE)

    def _is_current(self) -> bool:
        """Whether the newest migration was applied; asked by hand, because Alembic is slow to import."""
        known = {path.name.partition("_")[0] for path in _MIGRATIONS.glob("versions/[0-9]*.py")}
        with self.engine.connect() as connection:
            tables = set(connection.scalars(text("SELECT name FROM sqlite_master WHERE type = 'table'")))
            if "alembic_version" not in tables:
                if tables:
                    raise DamagedError(f"{self.path} is another program's database.", remedy=_ASIDE)
                return False
            version = connection.scalar(text("SELECT version_num FROM alembic_version"))
        if version is not None and version not in known:
            raise NewerError(
                f"Brae's database {self.path} was written by a newer Brae (version {version}, "
                f"this one knows {max(known)}).",
                remedy="Start the newer Brae, or give this one a folder of its own with --home.",
            )
        return bool(version == max(known))

    def _upgrade(self) -> None:
        from alembic import command
        from alembic.config import Config

        config = Config()
        config.set_main_option("script_location", str(_MIGRATIONS).replace("%", "%%"))
        with self.engine.begin() as connection:
            config.attributes["connection"] = connection
            command.upgrade(config, "head")

    @property
    def in_use_here(self) -> bool:
        """Whether this thread has a session open now."""
        return getattr(self._open_here, "count", 0) > 0

    @contextmanager
    def _counted(self) -> Iterator[None]:
        self._open_here.count = getattr(self._open_here, "count", 0) + 1
        try:
            yield
        finally:
            self._open_here.count -= 1

    @contextmanager
    def session(self) -> Iterator[Session]:
        """A session that reads; what it gave stays readable afterwards. A write through it is refused."""
        with self._said(), self._counted(), self._reads() as session:
            yield session

    @contextmanager
    def change(self) -> Iterator[Session]:
        """A session that writes: it has the database to itself from its first line, commits at its end.

        Keep it short. Raises StorageError where another program holds the database for 20 s.
        """
        with self._said(), self._counted(), self._changes.begin() as session:
            session.connection()  # begins the transaction
            yield session

    def version(self) -> int:
        """A number that differs from what it was wherever anybody committed meanwhile, here or in another process.

        See ``PRAGMA data_version`` (https://sqlite.org/pragma.html): its connection must write nothing itself.
        """
        with self._said(), self._looking:
            if self._eye is None:
                self._eye = sqlite3.connect(self.path, check_same_thread=False, isolation_level=None)
            return int(self._eye.execute("PRAGMA data_version").fetchone()[0])

    def close(self) -> None:
        """Let go of the file."""
        with self._looking:
            if self._eye is not None:
                self._eye.close()
                self._eye = None
        self.engine.dispose()


_ASIDE = "Start Brae again: it puts the damaged database aside and makes a new one from what lies beside it."


#: of the pages that SQLite keeps; its own 2 MiB are too few for the indexes of a million members
_CACHE_KIB = 32 << 10


def _connected(connection: Any, _: Any) -> None:
    # Transactions are begun by hand (see _begin): the driver would begin a write in the middle of a reading one.
    connection.isolation_level = None
    cursor = connection.cursor()
    cursor.execute("PRAGMA foreign_keys=ON")
    cursor.execute("PRAGMA journal_mode=WAL")
    cursor.execute("PRAGMA synchronous=NORMAL")
    cursor.execute(f"PRAGMA cache_size=-{_CACHE_KIB}")
    cursor.close()


def _begin(connection: Any) -> None:
    immediate = connection.get_execution_options().get("immediate")
    connection.exec_driver_sql("BEGIN IMMEDIATE" if immediate else "BEGIN")


def _refuse(session: Session, *_: Any) -> None:
    if session.new or session.dirty or session.deleted:
        raise AssertionError("a session that reads must not write; use Database.change")


def _in_words(error: SQLAlchemyError | sqlite3.Error, path: Path) -> BraeError:
    """What SQLite says (its result codes, https://sqlite.org/rescode.html), for a person."""
    cause = str(getattr(error, "orig", None) or error)
    lower = cause.lower()
    if "locked" in lower or "busy" in lower:
        return StorageError(
            f"Another program holds Brae's database {path}.",
            remedy="Close it (perhaps a second Brae, or a database viewer) and try again.",
        )
    if "full" in lower:
        return StorageError(
            f"Brae's database {path} cannot grow: the disk is full.",
            remedy="Free some space and try again; nothing was changed.",
        )
    if "malformed" in lower or "not a database" in lower or "corrupt" in lower:
        return DamagedError(f"Brae's database {path} is damaged ({cause}).", remedy=_ASIDE)
    if "readonly" in lower or "unable to open" in lower or "i/o" in lower:
        return StorageError(
            f"Brae cannot use its database {path}: {cause}.",
            remedy="Check that its folder may be written to and that its disk has space.",
        )
    return StorageError(f"Brae's database refused: {cause}.", remedy="Try again; if it stays, report this text.")
