"""Which copy of a file a game uses, by the order in which it looks into places."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass

from brae.core.games.model import ArchivesOrder, GameProfile, ListedOrder, LooseOrder


@dataclass(frozen=True)
class Place:
    """Where a game looks: a folder of loose files, or an archive; both relative to its folder."""

    path: str
    loose: bool


def places_of(profile: GameProfile, archives: Sequence[str], read: Callable[[str], bytes]) -> list[Place]:
    """Every place in the order in which the game looks, the winning one first.

    ``archives`` are the game's archives by their main files; ``read`` gives a file's bytes. An archive that no rule
    mentions is in none of the places: the game does not load it, as far as the profile knows.
    """
    found: list[Place] = []
    for order in profile.loading:
        if isinstance(order, LooseOrder):
            found.append(Place(order.loose.rstrip("/"), True))
        elif isinstance(order, ArchivesOrder):
            fitting = sorted(path for path in archives if fnmatch.fnmatchcase(path.lower(), order.archives.lower()))
            if order.order == "last-name-wins":
                fitting.reverse()
            found += [Place(path, False) for path in fitting]
        else:
            found += [Place(path, False) for path in _listed(order, archives, read)]
    seen: set[Place] = set()
    return [place for place in found if not (place in seen or seen.add(place))]  # type: ignore[func-returns-value]


def _listed(order: ListedOrder, archives: Sequence[str], read: Callable[[str], bytes]) -> list[str]:
    """The archives that the lines of a settings file name, in their order."""
    by_name = {path.casefold(): path for path in archives}
    text = read(order.listed).decode("utf-8", "replace")
    if order.section is not None:
        heading = re.search(rf"^\s*\[{re.escape(order.section)}\]\s*$", text, re.MULTILINE | re.IGNORECASE)
        text = text[heading.end() :] if heading else ""
        following = re.search(r"^\s*\[.*\]\s*$", text, re.MULTILINE)
        text = text[: following.start()] if following else text
    found = []
    for line in text.splitlines():
        if line.strip()[:1] in ("", ";", "#"):
            continue
        named = line.rpartition("=")[2].strip().strip('"').replace("\\", "/").casefold()
        if named in by_name:
            found.append(by_name[named])
    return found if order.order == "first-line-wins" else found[::-1]


class Copies:
    """The copies of each file of a game; which one wins."""

    def __init__(self, places: Sequence[Place]) -> None:
        self._archives = {place.path: rank for rank, place in enumerate(places) if not place.loose}
        self._loose = [(place.path.casefold() + "/", rank) for rank, place in enumerate(places) if place.loose]
        self._best: dict[str, tuple[int, str]] = {}

    def key(self, archive: str | None, name: str) -> tuple[str, int] | None:
        """What a file is called in the game, and the rank of the place where it lies; None where no place has it.

        ``archive`` is the main file of its archive, or None for a loose file (whose ``name`` is its path).
        """
        if archive is not None:
            rank = self._archives.get(archive)
            return None if rank is None else (name.casefold(), rank)
        path = name.casefold()
        for folder, rank in self._loose:
            if path.startswith(folder):
                return path[len(folder) :], rank
        return None

    def add(self, items: Iterable[tuple[str | None, str, str]]) -> None:
        """Take note of files: archive, name and address of each."""
        for archive, name, address in items:
            found = self.key(archive, name)
            if found is not None:
                name, rank = found
                best = self._best.get(name)
                if best is None or rank < best[0]:
                    self._best[name] = (rank, address)

    def winner(self, archive: str | None, name: str) -> str | None:
        """The address of the copy that the game uses; None where no place of the profile has the file."""
        found = self.key(archive, name)
        return None if found is None else self._best[found[0]][1]
