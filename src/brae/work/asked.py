"""Pictures that people look for, and what each was found to show."""

from __future__ import annotations

import hashlib
import threading
from collections import OrderedDict
from dataclasses import dataclass
from typing import TYPE_CHECKING

from brae.core.errors import NotFoundError

if TYPE_CHECKING:
    from brae.core.find.looks import Rgba
    from brae.core.find.matches import Match

#: pictures that are remembered
_MOST_ASKED = 20


@dataclass(frozen=True)
class FoundItem:
    """An item that a picture shows."""

    address: str
    match: Match


@dataclass
class Asked:
    """A picture that a person looks for, and what it shows once that is known."""

    id: str
    project_id: str
    picture: Rgba
    found: list[FoundItem] | None = None
    #: how many pictures were searched
    searched: int = 0
    #: why it was given up
    fault: str | None = None

    def give_up(self) -> None:
        """It is looked for no longer: where nothing is known by now, nothing will be."""
        if self.found is None and self.fault is None:
            self.fault = "It was not looked for to the end."

    def ranks(self) -> dict[str, int]:
        """The place of each item that was found, by its address."""
        return {one.address: rank for rank, one in enumerate(self.found or [])}


class AskedPictures:
    """The pictures that were looked for last, of all projects; they are forgotten with the program."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._asked: OrderedDict[str, Asked] = OrderedDict()

    def add(self, project_id: str, picture: Rgba) -> Asked:
        """One more; the same picture again is the same question."""
        name = hashlib.sha256(repr(picture.shape).encode() + picture.tobytes()).hexdigest()[:16]
        asked = Asked(name, project_id, picture)
        with self._lock:
            self._asked[f"{project_id}/{name}"] = asked
            self._asked.move_to_end(f"{project_id}/{name}")
            while len(self._asked) > _MOST_ASKED:
                self._asked.popitem(last=False)
        return asked

    def of(self, project_id: str, name: str) -> Asked:
        """One of them; NotFoundError where it is forgotten."""
        with self._lock:
            found = self._asked.get(f"{project_id}/{name}")
        if found is None:
            raise NotFoundError("This picture is not known any more.", remedy="Drop it on the light table again.")
        return found
