"""What is kept of pictures so that they are found by a picture: a cache, which may be deleted at any time.

A row is told by what the picture is read from (``key``: place, size, time, layouts). What cannot be read or written
is as if it were not there.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import threading
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sqlalchemy import Column, Integer, LargeBinary, MetaData, Table, Text, select
from sqlalchemy.dialects.sqlite import insert
from sqlalchemy.exc import SQLAlchemyError

from brae.store.cache import AT_ONCE, make_room, open_cache

if TYPE_CHECKING:
    from brae.core.find.pictures import Shown

#: counted up when something else is kept of a picture
KEPT = 2
#: bytes that are kept: some two hundred thousand pictures
MOST = 4 << 30
_META = MetaData()
_ROWS = Table(
    "likenesses", _META,
    Column("key", Text, primary_key=True),
    Column("width", Integer, nullable=False),
    Column("height", Integer, nullable=False),
    Column("small_width", Integer, nullable=False),
    Column("small_height", Integer, nullable=False),
    Column("small", LargeBinary, nullable=False),
    Column("features", LargeBinary, nullable=False),
)  # fmt: skip


def key(*parts: Any) -> str:
    """One text for what tells a picture from all others."""
    return hashlib.sha256(json.dumps([KEPT, *parts], default=str).encode()).hexdigest()


class Likenesses:
    """The pictures of one home, as they are found."""

    def __init__(self, path: Path, most: int = MOST) -> None:
        self._lock = threading.Lock()
        self._engine, self._most = open_cache(path, _META), most

    def close(self) -> None:
        """Let go of the file."""
        self._engine.dispose()

    def of(self, keys: Sequence[str]) -> dict[str, Shown]:
        """What is kept of those that are known."""
        # What looks at pictures takes a while to load; Brae starts without it.
        from brae.core.find.features import Features
        from brae.core.find.pictures import Kept, Shown

        found: dict[str, Shown] = {}
        with contextlib.suppress(SQLAlchemyError), self._engine.connect() as connection:
            for start in range(0, len(keys), AT_ONCE):
                some = keys[start : start + AT_ONCE]
                for row in connection.execute(select(_ROWS).where(_ROWS.c.key.in_(some))):
                    kept = Kept(row.width, row.height, row.small, row.small_width, row.small_height)
                    found[row.key] = Shown(kept, Features.from_bytes(row.features))
        return found

    def keep(self, made: Mapping[str, Shown]) -> None:
        """Keep what was made."""
        rows: list[dict[str, Any]] = [
            {
                "key": one,
                "width": shown.kept.width,
                "height": shown.kept.height,
                "small_width": shown.kept.small_width,
                "small_height": shown.kept.small_height,
                "small": shown.kept.small,
                "features": shown.features.to_bytes(),
            }
            for one, shown in made.items()
        ]
        if not rows:
            return
        with contextlib.suppress(SQLAlchemyError), self._lock, self._engine.begin() as connection:
            connection.execute(insert(_ROWS).on_conflict_do_nothing(), rows)
            make_room(connection, _ROWS, self._most)
