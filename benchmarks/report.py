"""How a figure is measured and printed."""

from __future__ import annotations

import time
from collections.abc import Callable


def best(work: Callable[[], object], times: int = 5) -> float:
    """The shortest of some runs, in seconds."""
    found = []
    for _ in range(times):
        started = time.perf_counter()
        work()
        found.append(time.perf_counter() - started)
    return min(found)


def report(what: str, figure: str, target: str, good: bool) -> None:
    """One line of the result."""
    print(f"{'ok  ' if good else 'MISS'} {what:<58} {figure:>24}   wanted: {target}", flush=True)
