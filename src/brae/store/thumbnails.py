"""Small previews, kept by what they show: a cache beside the database, which may be deleted at any time.

A picture is kept once by the hash of the bytes that it shows. It is found by the place of an item (path, size
and time of its archive, layout, name) or, where that is new, by those bytes: after an update of the game only
what changed is drawn anew. What cannot be read or written is as if it were not there.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import threading
import time
from pathlib import Path
from typing import Any

from sqlalchemy import (
    Column,
    Connection,
    Float,
    Integer,
    LargeBinary,
    MetaData,
    Table,
    Text,
    delete,
    func,
    select,
)
from sqlalchemy.dialects.sqlite import insert
from sqlalchemy.exc import SQLAlchemyError

from brae.core.assets.base import Preview
from brae.store.cache import open_cache

#: counted up when a kind draws differently, so that older pictures are not used
DRAWN = 1
#: bytes of pictures that are kept; when there are more, those that were drawn first go
MOST = 512 << 20
#: so many new pictures between two looks at that
_LOOK = 2000

_META = MetaData()
_PICTURES = Table(
    "pictures", _META,
    Column("content", Text, primary_key=True),
    Column("media", Text, nullable=False),
    Column("data", LargeBinary, nullable=False),
    Column("size", Integer, nullable=False),
    Column("drawn", Float, nullable=False),
)  # fmt: skip
_PLACES = Table(
    "places", _META,
    Column("place", Text, primary_key=True),
    Column("content", Text, nullable=False, index=True),
)  # fmt: skip


def key(*parts: Any) -> str:
    """One text for what tells a picture from all others."""
    return hashlib.sha256(json.dumps([DRAWN, *parts], default=str).encode()).hexdigest()


class Thumbnails:
    """The pictures of one home."""

    def __init__(self, path: Path, most: int = MOST) -> None:
        self._path, self._most = path, most
        self._lock = threading.Lock()
        self._new = 0
        self._engine = open_cache(path, _META)

    def close(self) -> None:
        """Let go of the file."""
        self._engine.dispose()

    def at(self, place: str) -> Preview | None:
        """The picture of an item at a place."""
        query = select(_PICTURES).join(_PLACES, _PLACES.c.content == _PICTURES.c.content)
        return self._found(query.where(_PLACES.c.place == place))

    def of(self, content: str) -> Preview | None:
        """The picture of what has a content."""
        return self._found(select(_PICTURES).where(_PICTURES.c.content == content))

    def _found(self, query: Any) -> Preview | None:
        with contextlib.suppress(SQLAlchemyError), self._engine.connect() as connection:
            row = connection.execute(query).first()
            return None if row is None else Preview(row.data, row.media)
        return None

    def keep(self, place: str, content: str, made: Preview) -> None:
        """A picture for a place and a content."""
        now = time.time()
        with contextlib.suppress(SQLAlchemyError), self._lock, self._engine.begin() as connection:
            picture = {"content": content, "media": made.media, "data": made.data, "size": len(made.data)}
            written = insert(_PICTURES).values(**picture, drawn=now)
            connection.execute(written.on_conflict_do_update(index_elements=["content"], set_={"drawn": now}))
            named = insert(_PLACES).values(place=place, content=content)
            connection.execute(named.on_conflict_do_update(index_elements=["place"], set_={"content": content}))
            self._new += 1
            if self._new % _LOOK == 0:
                self._make_room(connection)

    def _make_room(self, connection: Connection) -> None:
        """Let the oldest go, until three quarters of what is allowed are left."""
        size = connection.scalar(select(func.sum(_PICTURES.c.size))) or 0
        if size <= self._most:
            return
        gone: list[str] = []
        for row in connection.execute(select(_PICTURES.c.content, _PICTURES.c.size).order_by(_PICTURES.c.drawn)):
            if size <= self._most * 3 // 4:
                break
            gone.append(row.content)
            size -= row.size
        for first in range(0, len(gone), 500):
            some = gone[first : first + 500]
            connection.execute(delete(_PLACES).where(_PLACES.c.content.in_(some)))
            connection.execute(delete(_PICTURES).where(_PICTURES.c.content.in_(some)))
