"""The names that items mention, so that each is read once: a cache, which may be deleted at any time.

A row is told by what the item is read from (``key``: archive and its state, address, layouts). What cannot be read
or written is as if it were not there.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import threading
from collections.abc import Mapping, Sequence
from dataclasses import astuple
from pathlib import Path
from typing import Any

from sqlalchemy import Column, MetaData, Table, Text, select
from sqlalchemy.dialects.sqlite import insert
from sqlalchemy.exc import SQLAlchemyError

from brae.core.find.mentions import Mention
from brae.store.cache import AT_ONCE, make_room, open_cache

#: counted up when other texts of an item are taken for names
KEPT = 1
#: bytes that are kept
MOST = 512 << 20
_META = MetaData()
_ROWS = Table(
    "mentions", _META,
    Column("key", Text, primary_key=True),
    Column("said", Text, nullable=False),
)  # fmt: skip


def key(*parts: Any) -> str:
    """One text for what tells an item from all others."""
    return hashlib.sha256(json.dumps([KEPT, *parts], default=str).encode()).hexdigest()


class Mentions:
    """What the items of one home mention."""

    def __init__(self, path: Path, most: int = MOST) -> None:
        self._lock = threading.Lock()
        self._engine, self._most = open_cache(path, _META), most

    def close(self) -> None:
        """Let go of the file."""
        self._engine.dispose()

    def of(self, keys: Sequence[str]) -> dict[str, list[Mention]]:
        """What is kept of those that are known."""
        found: dict[str, list[Mention]] = {}
        with contextlib.suppress(SQLAlchemyError), self._engine.connect() as connection:
            for start in range(0, len(keys), AT_ONCE):
                some = keys[start : start + AT_ONCE]
                for row in connection.execute(select(_ROWS).where(_ROWS.c.key.in_(some))):
                    # A row that another program wrote is as if it were not there.
                    with contextlib.suppress(ValueError, TypeError):
                        found[row.key] = [Mention(*said) for said in json.loads(row.said)]
        return found

    def keep(self, made: Mapping[str, Sequence[Mention]]) -> None:
        """Keep what some mention."""
        rows = [{"key": one, "said": json.dumps([astuple(said) for said in its])} for one, its in made.items()]
        if not rows:
            return
        with contextlib.suppress(SQLAlchemyError), self._lock, self._engine.begin() as connection:
            written = insert(_ROWS)
            anew = {"said": written.excluded.said}
            connection.execute(written.on_conflict_do_update(index_elements=["key"], set_=anew), rows)
            make_room(connection, _ROWS, self._most)
