"""How a figure is measured and printed."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence


def best(work: Callable[[], object], times: int = 5) -> float:
    """The shortest of some runs, in seconds."""
    found = []
    for _ in range(times):
        started = time.perf_counter()
        work()
        found.append(time.perf_counter() - started)
    return min(found)


def in_turn(works: Sequence[Callable[[], object]], times: int = 3) -> list[float]:
    """The shortest run of each, in seconds. They take turns: a slow minute of the machine meets all of them.

    A turn is a tenth of a second at least: what is short is not measured with the caches of another's work.
    """
    found = [float("inf") for _ in works]
    for _ in range(times):
        for index, work in enumerate(works):
            until = time.perf_counter() + 0.1
            while True:
                found[index] = min(found[index], best(work, 1))
                if time.perf_counter() >= until:
                    break
    return found


def report(what: str, figure: str, target: str, good: bool) -> None:
    """One line of the result."""
    print(f"{'ok  ' if good else 'MISS'} {what:<58} {figure:>24}   wanted: {target}", flush=True)
