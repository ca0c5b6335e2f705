"""What the items of a game need of each other: references that a layout describes, and names that they mention.

A name is taken as games take it (common practice, no source): letter case and the direction of slashes do not
count, folders above may be left out or written in addition, the ending may be left out, and a path may end as the
picture did that the item was made from.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from rapidfuzz import fuzz, process

from brae.core import addresses
from brae.core.find.mentions import Mention

#: how a link is known: said by a layout, by a path, by a name alone, without the ending, with another ending
REFERENCE, PATH, NAME, NO_ENDING, OTHER_ENDING = "reference", "path", "name", "no-ending", "other-ending"
#: A word without folder and ending names nothing that is called so this often: it is a word of a language.
_MOST_ALIKE, _SHORTEST = 4, 3
#: existing names that are told for one that is missing; how alike they are, of 100
_NEAREST, _ALIKE = 3, 60
_ENDING = re.compile(r"[a-z][a-z0-9]{0,5}")


@dataclass(frozen=True)
class Link:
    """One item needs another: their addresses, how that is known, and where it stands."""

    owner: str
    target: str
    how: str
    text: str = ""
    place: int | None = None
    line: str = ""


@dataclass(frozen=True)
class Missing:
    """A name of nothing that is there, and the existing names most like it."""

    owner: str
    text: str
    place: int
    line: str
    nearest: tuple[str, ...]


def _steps(text: str) -> list[str]:
    return [step for step in text.lower().replace("\\", "/").split("/") if step not in ("", ".")]


def _parts(base: str) -> tuple[str, str]:
    """A name without its ending, and that; 0.2 has none."""
    stem, _, ending = base.rpartition(".")
    return (stem, ending) if stem and _ENDING.fullmatch(ending) else (base, "")


class Names:
    """The names of a game's items, found as its files mention them."""

    def __init__(self, items: Iterable[tuple[str, str]]) -> None:
        """``items``: address and name of each."""
        self._addresses: list[str] = []
        self._folders: list[list[str]] = []
        #: the same with the archives that it lies in, and the folders of those
        self._above: list[list[str]] = []
        self._endings: list[str] = []
        self._by_stem: dict[str, list[int]] = defaultdict(list)
        for number, (address, name) in enumerate(items):
            steps = _steps(name) or [name]
            stem, ending = _parts(steps[-1])
            self._addresses.append(address)
            self._folders.append(steps[:-1])
            self._above.append(
                [step for label in addresses.split(address) for step in _steps(addresses.unquote(label))][:-1]
            )
            self._endings.append(ending)
            self._by_stem[stem].append(number)
        self.endings = set(self._endings) - {""}
        self._stems = list(self._by_stem)

    def resolve(self, mention: Mention) -> tuple[str, list[str]]:
        """How a mention names items, and the addresses of those; none where it names nothing."""
        steps = _steps(mention.means or mention.text)
        if not steps:
            return NAME, []
        folders, (stem, ending) = steps[:-1], _parts(steps[-1])
        found: dict[str, list[str]] = defaultdict(list)
        for whole, last in {(stem, ending), (steps[-1], "")}:
            for number in self._by_stem.get(whole, ()):
                if self._lies_in(number, folders):
                    found[self._how(number, folders, last, whole=mention.whole)].append(self._addresses[number])
        for how in (PATH, NAME, NO_ENDING, OTHER_ENDING):
            here = found.get(how, [])
            plain = how in (NO_ENDING, OTHER_ENDING) and not folders
            if here and not (plain and (len(here) > _MOST_ALIKE or len(stem) < _SHORTEST)):
                return how, here
        return NAME, []

    def _lies_in(self, number: int, folders: Sequence[str]) -> bool:
        """Whether folders that are written lead to an item, in part or with others above it."""
        own, above = self._folders[number], self._above[number][-len(folders) :] if folders else []
        if len(above) == len(folders) and all(
            step == here or step == _parts(here)[0] for step, here in zip(folders, above, strict=True)
        ):
            return True
        return bool(own) and len(folders) > len(own) and list(folders[-len(own) :]) == own

    def _how(self, number: int, folders: Sequence[str], ending: str, *, whole: bool) -> str:
        own = self._endings[number]
        if ending == own:
            return PATH if folders else NAME
        if not ending:
            return NO_ENDING if folders or whole else ""
        return OTHER_ENDING if folders or whole else ""

    def looks_like_one(self, mention: Mention) -> bool:
        """Whether a mention is surely meant as a name of an item, though there is none."""
        if mention.means:
            return True
        steps = _steps(mention.text)
        return bool(steps) and _parts(steps[-1])[1] in self.endings and (len(steps) > 1 or mention.whole)

    def nearest(self, mention: Mention) -> tuple[str, ...]:
        """The addresses of the items that are most likely meant by a name of nothing."""
        steps = _steps(mention.means or mention.text)
        stem = _parts(steps[-1])[0]
        alike = process.extract(stem, self._stems, scorer=fuzz.ratio, score_cutoff=_ALIKE, limit=_NEAREST * 4)
        numbers = [number for near, _, _ in alike for number in self._by_stem[near][:_NEAREST]]
        ending = _parts(steps[-1])[1]
        numbers.sort(key=lambda number: self._endings[number] != ending)
        return tuple(self._addresses[number] for number in numbers[:_NEAREST])


@dataclass
class Links:
    """The links of a game, both ways, and what is missing."""

    links: list[Link] = field(default_factory=list)
    missing: list[Missing] = field(default_factory=list)
    #: items that could not be read
    faults: list[dict[str, object]] = field(default_factory=list)

    def __post_init__(self) -> None:
        self._needs: dict[str, list[Link]] | None = None
        self._users: dict[str, list[Link]] = {}

    def add(self, owner: str, mentions: Iterable[Mention], names: Names) -> None:
        """What an item mentions; the first place of each name counts, and its own name does not."""
        told: set[str] = set()
        for mention in mentions:
            how, targets = names.resolve(mention)
            for target in targets:
                if target != owner and target not in told:
                    told.add(target)
                    self.links.append(Link(owner, target, how, mention.text, mention.place, mention.line))
            if not targets and mention.text.lower() not in told and names.looks_like_one(mention):
                told.add(mention.text.lower())
                near = names.nearest(mention)
                self.missing.append(Missing(owner, mention.text, mention.place, mention.line, near))
        self._needs = None

    def _sorted(self) -> dict[str, list[Link]]:
        if self._needs is None:
            needs, users = defaultdict(list), defaultdict(list)
            for link in self.links:
                needs[link.owner].append(link)
                users[link.target].append(link)
            self._needs, self._users = dict(needs), dict(users)
        return self._needs

    def needs(self, address: str) -> list[Link]:
        """What an item needs."""
        return self._sorted().get(address, [])

    def used_by(self, address: str) -> list[Link]:
        """What needs an item."""
        self._sorted()
        return self._users.get(address, [])

    def missing_in(self, address: str) -> list[Missing]:
        """The names of nothing that an item mentions."""
        return [one for one in self.missing if one.owner == address]

    def unused(self, every: Iterable[str]) -> set[str]:
        """Those of some items that nothing is known to need."""
        self._sorted()
        return {one for one in every if one not in self._users}
