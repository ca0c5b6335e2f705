"""What opening a game finds, written down: at once when the game is new, all together when it is opened again."""

from __future__ import annotations

import json
import time
from collections import deque
from collections.abc import Callable, Sequence, Set
from concurrent.futures import Future, ThreadPoolExecutor
from functools import partial
from itertools import chain
from typing import Any

from sqlalchemy import String, bindparam, cast, delete, select, update
from sqlalchemy.orm import Session

from brae.core import addresses
from brae.core.catalogue import ARCHIVE, DATA, PART, Item
from brae.core.containers import scattered
from brae.store.models import ArchiveRow, Base, Member, Project
from brae.work.workspace import Workspace

_BATCH = 4096
_COLUMNS = (
    "project_id", "archive_id", "number", "address", "name", "folder", "kind", "container", "packer", "stored",
    "real", "facts", "fault", "parts",
)  # fmt: skip
_INSERT = f"INSERT INTO members ({', '.join(_COLUMNS)}) VALUES "
_ROW = f"({', '.join('?' * len(_COLUMNS))})"
#: Rows of one statement. While SQLite works on one, other threads compute; it takes 32,766 values at most
#: (https://sqlite.org/limits.html). Few sizes, because the driver keeps each statement.
_ROWS = (2048, 256, 32, 4, 1)
#: batches that wait to be written, at most: what is read faster than written is not to fill the memory
_AHEAD = 2
#: seconds between two announcements that there is more to see
_EVERY = 0.6


def _is_recognised(row: ArchiveRow) -> bool:
    """Whether it is an archive that something describes: no loose file, and nothing found by signs alone."""
    return row.layout not in (None, scattered.KIND)


class Listing:
    """Collects archives and members of one project.

    A new game's pictures can be looked at while the rest is still being listed. A game that is opened again keeps
    its old list until the new one is whole, so that a cancel loses nothing.
    """

    def __init__(self, workspace: Workspace, project_id: str, *, at_once: bool) -> None:
        self._workspace, self._project_id, self._at_once = workspace, project_id, at_once
        self._waiting: list[Callable[[Session], None]] = []
        # Writing goes on beside reading: SQLite is a third of the time that a large archive takes.
        self._writer = ThreadPoolExecutor(1, thread_name_prefix="listing")
        self._written: deque[Future[None]] = deque()
        self._told = time.monotonic()
        self._parts: set[str] = set()
        self._changed = False
        self.archives = self.members = self.reused = 0
        with workspace.database.session() as session:
            rows = session.scalars(select(ArchiveRow).where(ArchiveRow.project_id == project_id))
            #: what was listed before, by address
            self._before = {row.address: row for row in rows}
        self._kept: set[int] = set()

    def reuse(self, address: str, listed_from: str, kind: str | None) -> ArchiveRow | None:
        """The archive as it was listed before from the very same, whole: it need not be read again."""
        row = self._before.get(address)
        if row is None or not listed_from or (row.listed_from, row.layout) != (listed_from, kind):
            return None
        self._kept.add(row.id)
        self.archives += _is_recognised(row)
        self.members += row.member_count
        self.reused += _is_recognised(row)
        return row

    @property
    def parts(self) -> Set[str]:
        """The names of items that hold parts of others, of what is listed so far."""
        return self._parts

    def files_of(self, address: str) -> dict[str, Any] | None:
        """The files of an archive as they were listed before."""
        row = self._before.get(address)
        return None if row is None else row.files

    def known_members(self, row: ArchiveRow) -> tuple[list[str], list[tuple[int, str, str, str]]]:
        """Names of all members of a reused archive; number, label, name and kind of the archives among them."""
        here = Member.archive_id == row.id
        archives = select(Member.number, Member.address, Member.name, Member.container)
        with self._workspace.database.session() as session:
            # As the driver gives them: of most members only the name is wanted.
            found = session.connection().exec_driver_sql(
                "SELECT name FROM members WHERE archive_id = ? ORDER BY number", (row.id,)
            )
            names = [name for (name,) in found.cursor.fetchall()] if found.cursor is not None else []
            for parts in session.scalars(select(Member.parts).where(here, cast(Member.parts, String) != "[]")):
                self._parts.update(parts)
            inner = session.execute(archives.where(here, Member.kind == ARCHIVE).order_by(Member.number)).all()
        return names, [
            (number, addresses.split(address)[-1], name, container or "")
            for number, address, name, container in inner
        ]

    def _do(self, step: Callable[[Session], None]) -> None:
        if not self._at_once:
            self._waiting.append(step)
            return
        self._flush(_AHEAD)
        self._written.append(self._writer.submit(self._write, step))

    def _flush(self, left: int = 0) -> None:
        """Wait until no more than that many steps are still to be written; what went wrong with one is raised."""
        while len(self._written) > left:
            self._written.popleft().result()

    def close(self) -> None:
        """Wait for what is being written, whatever became of it."""
        self._writer.shutdown()

    def _write(self, step: Callable[[Session], None]) -> None:
        with self._workspace.database.change() as session:
            step(session)
        if time.monotonic() - self._told > _EVERY:
            self._told = time.monotonic()
            self._workspace.events.publish("catalogue", project=self._project_id)

    def add(self, row: ArchiveRow, parent: ArchiveRow | None) -> None:
        """A new archive (or loose file), as a member of another or by itself."""
        self.archives += _is_recognised(row)
        self._changed = True

        def step(session: Session) -> None:
            # What was begun before, and is not whole, gives way.
            here = ArchiveRow.project_id == self._project_id
            gone = session.execute(delete(ArchiveRow).where(here, ArchiveRow.address == row.address))
            if gone.rowcount:  # type: ignore[attr-defined]
                listed_otherwise(session, self._project_id)
            row.parent_id = parent.id if parent is not None else None
            session.add(row)
            session.flush()
            self._kept.add(row.id)

        self._do(step)
        self._flush()

    def fill(self, row: ArchiveRow, items: Sequence[Item], first: int = 0) -> None:
        """Members of an archive; ``first`` is the number of the first of them."""
        self.members += len(items)
        self._changed = True
        prefix = "/".join(addresses.split(row.address)[1:])
        self._parts.update(part for item in items for part in item.parts)
        for start in range(0, len(items), _BATCH):
            self._do(partial(self._insert, row, items[start : start + _BATCH], first + start, prefix))
        if not first:  # what is there first is to be seen at once
            self._flush()

    def _insert(self, row: ArchiveRow, items: Sequence[Item], first: int, prefix: str, session: Session) -> None:
        prefix = f"{prefix}/" if prefix else ""
        holder = "" if row.layout is None else f"{row.address}//"
        # Members of one kind share their facts, so few different ones are written as JSON.
        written: dict[int, str] = {}
        rows: list[tuple[Any, ...]] = []
        for number, item in enumerate(items, first):
            name = item.name if item.name.isascii() else item.name.encode("utf-8", "backslashreplace").decode()
            folder = (prefix + name).rpartition("/")[0]
            facts = written.get(id(item.facts))
            if facts is None:
                facts = written[id(item.facts)] = json.dumps(dict(item.facts), ensure_ascii=False)
            parts = json.dumps(item.parts) if item.parts else "[]"
            rows.append(
                (
                    self._project_id, row.id, number, holder + item.label, name, folder, item.kind, item.container,
                    item.packer, item.stored, item.real, facts, item.fault, parts,
                )
            )  # fmt: skip
        # As the driver takes them: SQLAlchemy would work on each row as long as SQLite.
        connection, done = session.connection(), 0
        for size in _ROWS:
            while len(rows) - done >= size:
                values = tuple(chain.from_iterable(rows[done : done + size]))
                connection.exec_driver_sql(_INSERT + ", ".join([_ROW] * size), values)
                done += size

    def settle(self, row: ArchiveRow, **values: Any) -> None:
        """What came out about an archive: ``proof``, ``fault``, ``member_count``."""

        def step(session: Session) -> None:
            session.execute(update(ArchiveRow).where(ArchiveRow.id == row.id).values(**values))

        self._do(step)
        self._flush()

    def tell_parts(self) -> None:
        """Which members are parts of others."""

        def step(session: Session) -> None:
            members = Base.metadata.tables["members"]
            here = (members.c.project_id == self._project_id) & (members.c.kind == DATA)
            change = members.update().where(here, members.c.name == bindparam("part"))
            rows = [{"part": name} for name in sorted(self._parts)]
            if rows and session.connection().execute(change.values(kind=PART), rows).rowcount:
                listed_otherwise(session, self._project_id)

        self._do(step)
        self._flush()

    def finish(self, session: Session) -> None:
        """Put the new list in the place of the old one; what was not read again stays."""
        for step in self._waiting:
            step(session)
        gone = [row.id for row in self._before.values() if row.id not in self._kept]
        for start in range(0, len(gone), _BATCH):
            session.execute(delete(ArchiveRow).where(ArchiveRow.id.in_(gone[start : start + _BATCH])))
        if gone or self._changed:
            listed_otherwise(session, self._project_id)


def listed_otherwise(session: Session, project_id: str) -> None:
    """Who keeps the list in memory is to read it anew, not only what was added."""
    session.execute(update(Project).where(Project.id == project_id).values(listing=Project.listing + 1))
