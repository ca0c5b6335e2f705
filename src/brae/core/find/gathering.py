"""Many pictures made ready to be searched: what is remembered of them is used, the others are looked at."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import Protocol

from brae.core.errors import BraeError, CancelledError, internal
from brae.core.find.looks import Rgba
from brae.core.find.pictures import Pictures, Shown

#: pictures that are looked at before they are kept
_AT_ONCE = 256


@dataclass(frozen=True)
class ToShow:
    """A picture that may be found: its address, what tells its state from every other, and how it is read."""

    address: str
    key: str
    read: Callable[[], Rgba]


class Memory(Protocol):
    """Where what is kept of pictures is remembered."""

    def of(self, keys: Sequence[str], /) -> dict[str, Shown]:
        """What is remembered of some."""
        ...

    def keep(self, made: Mapping[str, Shown], /) -> None:
        """Remember more."""
        ...


@dataclass
class Gathered:
    """Pictures ready to be searched, and what could not be looked at: its address and why."""

    pictures: Pictures
    faults: list[dict[str, object]] = field(default_factory=list)
    #: those that had to be looked at
    new: int = 0


def gather(
    items: Sequence[ToShow], memory: Memory, begin: Callable[[int], None], tick: Callable[[int], None]
) -> Gathered:
    """All pictures of some items. ``begin`` gets how many have to be looked at, ``tick`` how many more were."""
    known = memory.of([one.key for one in items])
    new = [one for one in items if one.key not in known]
    faults: list[dict[str, object]] = []
    begin(len(new))

    def look(one: ToShow) -> Shown | None:
        try:
            return Shown.of(one.read())
        except CancelledError:
            raise
        except BraeError as error:
            faults.append(error.at(one.address).as_dict())
        except Exception as error:  # whatever one picture does, the others are found
            faults.append(internal(error, one.address).as_dict())
        return None

    pool = ThreadPoolExecutor(os.cpu_count())
    try:
        for start in range(0, len(new), _AT_ONCE):
            some = new[start : start + _AT_ONCE]
            made = {}
            for one, shown in zip(some, pool.map(look, some), strict=True):
                if shown is not None:
                    made[one.key] = shown
                tick(1)
            memory.keep(made)
            known |= made
    finally:
        # Who cancels does not wait for those that were not begun.
        pool.shutdown(cancel_futures=True)
    there = [one for one in items if one.key in known]
    shown_all = [known[one.key] for one in there]
    return Gathered(Pictures.of([one.address for one in there], shown_all), faults, len(new))
