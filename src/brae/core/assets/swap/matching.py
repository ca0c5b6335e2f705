"""A swap list that came back beside its original: swaps of nothing, in a circle, or twice."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from brae.core.assets.sheet import Finding, MatchSheet, Property
from brae.core.assets.swap.swaps import Swap, SwapList

#: swaps that follow one another: more are no way that anybody meant
_LONGEST_WAY = 1000


def findings(swaps: Sequence[Swap], before: Sequence[Swap] = ()) -> list[Finding]:
    """What is wrong with swaps; what the original has already is not told."""
    known = {one.id for one in _wrong(before)}
    return [one for one in _wrong(swaps) if one.id not in known]


def _wrong(swaps: Sequence[Swap]) -> Iterator[Finding]:
    seen: dict[tuple[str, str], Swap] = {}
    for one in swaps:
        where = one.object or "everywhere"
        key = (one.object.lower(), one.old.lower())
        if one.old.lower() == one.new.lower():
            yield Finding(
                id=f"itself-{where}-{one.old}", severity="shows",
                title=f"{one.old} is replaced by itself, {where}",
                in_game="Nothing changes, or the game looks for it without an end.",
            )  # fmt: skip
        elif key in seen and seen[key].new.lower() != one.new.lower():
            yield Finding(
                id=f"twice-{where}-{one.old}", severity="shows",
                title=f"{one.old} is replaced by {seen[key].new} and by {one.new} ({where})",
                in_game="The game takes the first or the last of them.",
            )  # fmt: skip
        seen.setdefault(key, one)
    yield from _circles(swaps)


def _circles(swaps: Sequence[Swap]) -> Iterator[Finding]:
    """A is replaced by B, and B by A: on one object, with what is so everywhere."""
    by_object: dict[str, dict[str, str]] = {"": {}}
    for one in swaps:
        by_object.setdefault(one.object.lower(), {})[one.old.lower()] = one.new.lower()
    everywhere = by_object[""]
    told: set[frozenset[str]] = set()
    for own in by_object.values():
        for circle in _rounds(own, everywhere):
            if circle not in told:
                told.add(circle)
                names = " → ".join([*sorted(circle), min(circle)])
                yield Finding(
                    id=f"circle-{'-'.join(sorted(circle))}", severity="stops",
                    title=f"Swaps go round in a circle: {names}",
                    in_game="A game that goes on replacing does not come to an end.",
                )  # fmt: skip


def _rounds(own: dict[str, str], everywhere: dict[str, str]) -> Iterator[frozenset[str]]:
    """The circles to which the swaps of one object lead; each is walked once, and no way without an end."""
    done: set[str] = set()
    for start in own:
        way: dict[str, int] = {}
        at: str | None = start
        while at is not None and at not in done and at not in way and len(way) < _LONGEST_WAY:
            way[at] = len(way)
            at = own.get(at, everywhere.get(at))
        if at in way:
            circle = frozenset(list(way)[way[at] :])
            if len(circle) > 1:
                yield circle
        done.update(way)


def match(original: SwapList, came: SwapList) -> MatchSheet:
    """The match sheet of a list that came back."""
    before, now = set(original.swaps), set(came.swaps)
    rows = [
        Property.of("Swaps", str(len(original.swaps)), str(len(came.swaps)), str(len(came.swaps)), matters=False),
        Property.of("New", "–", str(len(now - before)), str(len(now - before)), matters=False),
        Property.of("Gone", "–", str(len(before - now)), str(len(before - now)), matters=False),
    ]
    return MatchSheet(properties=rows, findings=findings(came.swaps, original.swaps))
