"""The links of many items, read from what they hold."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from typing import Any, Protocol

from brae.core import addresses
from brae.core.assets.base import AssetKind, Context, Fetch
from brae.core.assets.registry import kinds
from brae.core.catalogue import DATA
from brae.core.errors import BraeError, CancelledError, internal
from brae.core.find.links import REFERENCE, Link, Links, Names
from brae.core.find.mentions import Mention, lines_of, mentions_in, strings_in

#: bytes of an item that are looked at for names; what goes on longer is pixels or samples
_LOOKED_AT = 1 << 20
#: items whose mentions are remembered at once
_AT_ONCE = 2000


@dataclass(frozen=True)
class Linked:
    """An item that may need others: what it is, how it is read, and what its archive says that it refers to."""

    address: str
    name: str
    kind: str
    read: Callable[[], tuple[bytes, Context]]
    refers: Sequence[str] = ()
    #: what tells its state from every other; "" where that is not known
    key: str = ""


class Memory(Protocol):
    """Where what items mention is remembered."""

    def of(self, keys: Sequence[str], /) -> Mapping[str, Sequence[Mention]]:
        """What is remembered of some."""
        ...

    def keep(self, made: Mapping[str, Sequence[Mention]], /) -> None:
        """Remember more."""
        ...


class Nowhere:
    """A memory that keeps nothing."""

    def of(self, keys: Sequence[str], /) -> Mapping[str, Sequence[Mention]]:
        """Nothing."""
        return {}

    def keep(self, made: Mapping[str, Sequence[Mention]], /) -> None:
        """Nothing is kept."""


def speaks(kind: str) -> bool:
    """Whether items of a kind may mention others: by words, by a layout, or those of which nothing is known."""
    known = kinds().get(kind)
    return kind == DATA or (known is not None and (known.worded or known.refers))


def words_in(kind: str, data: bytes, context: Context) -> Iterator[tuple[int, str]]:
    """The lines of an item with words, or the runs of characters in one of which nothing is known."""
    known = kinds().get(kind)
    if known is not None and known.worded:
        return lines_of(known.words(known.read(data, context)))
    return strings_in(data[:_LOOKED_AT])


def _mentions(kind: str, data: bytes, context: Context) -> Iterator[Mention]:
    """What an item mentions: one with words, or one of which nothing is known."""
    known = kinds().get(kind)
    if known is None or not (known.worded or known.refers):
        yield from mentions_in(words_in(kind, data, context), strings=kind == DATA)
        return
    yield from mentions_of(known, known.read(data, context))


def mentions_of(kind: AssetKind[Any], asset: Any) -> Iterator[Mention]:
    """What an item mentions: first what its kind surely knows, then its words where it has any."""
    yield from pointed(kind, asset)
    if not kind.worded:
        return
    yield from mentions_in(lines_of(kind.words(asset)))


def pointed(kind: AssetKind[Any], asset: Any) -> list[Mention]:
    """The names that an item surely gives of others."""
    said = kind.pointed(asset)
    lines = kind.words(asset).splitlines() if said and kind.worded else []
    return [
        Mention(text, line, lines[line - 1].strip() if 0 < line <= len(lines) else text, True, means)
        for text, means, line in said
    ]


def with_archives(named: Mapping[str, str]) -> dict[str, str]:
    """The names of items by their addresses, with those of the archives that they lie in: these are items too."""
    found = dict(named)
    for address in named:
        steps = addresses.split(address)
        for deep in range(1, len(steps)):
            found.setdefault(addresses.join(*steps[:deep]), addresses.unquote(steps[deep - 1]))
    return found


def links_of(
    items: Sequence[Linked], tick: Callable[[], object] = lambda: None, memory: Memory | None = None
) -> Links:
    """All links among some items. What cannot be read is told in ``faults`` and mentions nothing.

    ``memory``: where what they mention is remembered, so that only new ones are read.
    """
    named = with_archives({one.address: one.name for one in items})
    names, found, memory = Names(named.items()), Links(), memory or Nowhere()
    for start in range(0, len(items), _AT_ONCE):
        some = items[start : start + _AT_ONCE]
        known = memory.of([one.key for one in some if one.key])
        new: dict[str, list[Mention]] = {}
        try:
            for one in some:
                found.links += [Link(one.address, target, REFERENCE) for target in one.refers]
                if one.key in known:
                    found.add(one.address, known[one.key], names)
                elif speaks(one.kind):
                    _read_into(found, one, names, new)
                tick()
        finally:  # what was read before somebody cancels it is not read again
            memory.keep(new)
    return found


def _read_into(found: Links, one: Linked, names: Names, new: dict[str, list[Mention]]) -> None:
    """What an item mentions, read now; ``new`` takes it by its key, where it is told by nothing but that."""
    try:
        data, context = one.read()
        alone = _Alone(context.fetch)
        said = list(_mentions(one.kind, data, replace(context, fetch=alone)))
        found.add(one.address, said, names)
        if one.key and alone.so:
            new[one.key] = said
    except CancelledError:
        raise
    except BraeError as error:
        found.faults.append(error.at(one.address).as_dict())
    except Exception as error:  # whatever one item does, the others are looked at
        found.faults.append(internal(error, one.address).as_dict())


class _Alone:
    """Whether an item was read without other items."""

    def __init__(self, fetch: Fetch) -> None:
        self._fetch, self.so = fetch, True

    def __call__(self, name: str) -> bytes:
        self.so = False
        return self._fetch(name)


@dataclass(frozen=True)
class Line:
    """A line (or a run of characters) of an item that has what was looked for."""

    address: str
    place: int
    line: str


Lines = list[tuple[int, str]]


def said_by(items: Iterable[Linked]) -> Iterator[tuple[str, Lines]]:
    """The lines of every item that has words, by its address; what cannot be read says nothing."""
    for one in items:
        kind = kinds().get(one.kind)
        if kind is not None and kind.worded:
            with suppress(BraeError):
                yield one.address, list(words_in(one.kind, *one.read()))


def lines_with(words: str, said: Iterable[tuple[str, Lines]]) -> Iterator[Line]:
    """The lines that have all of some words in them, in any letter case."""
    wanted = words.lower().split()
    for address, lines in said if wanted else ():
        for place, line in lines:
            lower = line.lower()
            if all(word in lower for word in wanted):
                yield Line(address, place, line.strip())
