"""The catalogue in groups: by archive, folder or kind, by what belongs together, by what shows the same picture."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from brae.core import addresses
from brae.core.assets.registry import kinds
from brae.core.errors import FormatError
from brae.work.alike import looking_alike
from brae.work.columns import ARCHIVE, Columns, Numbers
from brae.work.linking import soon, waiting
from brae.work.workspace import Workspace

#: how the catalogue can be grouped, with the words for it
GROUPINGS = {
    "kind": "kind", ARCHIVE: "archive", "folder": "folder", "maps": "set of maps", "picture": "same picture",
}  # fmt: skip


@dataclass(frozen=True)
class Group:
    """Items that stand together: what they are called together ("" for the rest), and how many there are."""

    name: str
    count: int


@dataclass(frozen=True)
class Grouping:
    """The names of groups in their order, and the group of each item; -1 where it is in none."""

    names: Sequence[str]
    of: Numbers

    def ordered(self, places: Numbers) -> Numbers:
        """Places of items, those of a group together, as they were within it; what is in none comes last."""
        groups = self.of[places]
        return np.asarray(places[np.argsort(np.where(groups < 0, len(self.names), groups), kind="stable")])

    def groups(self, places: Numbers) -> list[Group]:
        """The groups of such places, in order."""
        counts = np.bincount(self.of[places] + 1, minlength=len(self.names) + 1)
        named = [Group(name, int(count)) for name, count in zip(self.names, counts[1:], strict=True) if count]
        return [*named, Group("", int(counts[0]))] if counts[0] else named


def grouping(workspace: Workspace, project_id: str, held: Columns, by: str) -> Grouping:
    """A grouping of ``GROUPINGS``. Raises FormatError for any other, WaitingError while pictures are compared."""
    if by not in GROUPINGS:
        raise FormatError(f"Nothing is grouped by '{by}'.", expected=f"one of {', '.join(GROUPINGS)}")
    if by == "maps":
        found: Grouping = held.once(("maps",), lambda: _of_pairs(_together(workspace, project_id, held), held))
        return found
    if by == "picture":
        groups = _same_picture(workspace, project_id, held)
        key = ("grouping", repr(workspace.alike and workspace.alike[0]))
        of: Grouping = held.once(key, lambda: _of_pairs(groups(), held))
        return of
    column: Grouping = held.once(("grouping", by), lambda: _of_column(held, by))
    return column


def _of_column(held: Columns, by: str) -> Grouping:
    texts, codes = held.texts(by)
    order = {kind: number for number, kind in enumerate(kinds())} if by == "kind" else {}
    names = sorted((text for text in texts if text), key=lambda text: (order.get(text, len(order)), text))
    ranks = {name: rank for rank, name in enumerate(names)}
    of = np.array([*(ranks.get(text, -1) for text in texts), -1], np.int64)
    return Grouping(names, of[codes])


def _of_pairs(groups: dict[str, tuple[str, int]], held: Columns) -> Grouping:
    """``groups``: for the addresses that are in one, its name and what it is ordered by."""
    named = sorted(set(groups.values()), key=lambda pair: (pair[1], pair[0]))
    ranks = {pair: rank for rank, pair in enumerate(named)}
    of = [ranks[groups[address]] if address in groups else -1 for address in held.addresses]
    return Grouping([name for name, _ in named], np.array(of, np.int64))


def _together(workspace: Workspace, project_id: str, held: Columns) -> dict[str, tuple[str, int]]:
    """The sets of two and more that the kinds tell by names and facts, within an archive."""
    profile = workspace.profile(workspace.project(project_id))
    texts, codes = held.texts("kind")
    found: dict[str, tuple[str, int]] = {}
    for code, name in enumerate(texts):
        kind = kinds().get(name)
        if kind is None:
            continue
        here: dict[tuple[str, str], dict[str, int]] = defaultdict(dict)
        for place in np.flatnonzero(codes == code).tolist():
            archive, _, label = held.addresses[place].rpartition("//")
            path = addresses.unquote(label)
            here[archive, path.rpartition("/")[0]][path] = place
        for members in here.values():
            sets: dict[str, list[str]] = defaultdict(list)
            for member, one in kind.sets({name: held.facts(at) for name, at in members.items()}, profile).items():
                sets[one].append(member)
            for one, names in sets.items():
                if len(names) > 1:
                    found |= dict.fromkeys((held.addresses[members[member]] for member in names), (one, 0))
    return found


def _same_picture(workspace: Workspace, project_id: str, held: Columns) -> Callable[[], dict[str, tuple[str, int]]]:
    """Items that show the same as others, the largest groups first; a job looks at pictures that are new."""
    state = (project_id, workspace.project(project_id).listing, len(held))

    def known() -> dict[str, Any] | None:
        alike = workspace.alike
        return alike[1] if alike is not None and alike[0][:3] == state else None

    def work(job: Any) -> dict[str, int]:
        from brae.work.finding import gathered

        found = gathered(workspace, project_id, job)
        # All of them are compared with all others here, not while a page waits.
        looking_alike(workspace, project_id)
        return {"pictures": len(found.pictures)}

    found = soon(workspace, project_id, "pictures", known, work)
    if found is None:
        raise waiting(workspace, project_id, "pictures", "The pictures of this game")

    def named() -> dict[str, tuple[str, int]]:
        groups: dict[str, tuple[str, int]] = {}
        for keys in {id(keys): list(keys) for keys in found.values()}.values():
            name = addresses.unquote(addresses.split(keys[0])[-1])
            groups |= dict.fromkeys(keys, (f"{name} and what looks like it", -len(keys)))
        return groups

    return named
