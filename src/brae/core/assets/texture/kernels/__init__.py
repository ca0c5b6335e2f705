"""Compiled pixel loops, and how they are spread over the cores.

A kernel works on a range of block rows and holds no lock of the interpreter, so plain threads run it on all
cores: numba's own parallel loops may not be entered by two threads of a server at once.
"""

from __future__ import annotations

import itertools
import os
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any

_CORES = os.cpu_count() or 1
_pool: ThreadPoolExecutor


def _start() -> None:
    global _pool
    _pool = ThreadPoolExecutor(_CORES, thread_name_prefix="kernel")


_start()
if hasattr(os, "register_at_fork"):
    # A process that is forked of this one has none of its threads, and would wait for them for ever.
    os.register_at_fork(after_in_child=_start)

#: not set while other processes compile the kernels: until then libraries decode, and encoding waits for it
ready = threading.Event()
ready.set()


def over_rows(work: Callable[..., Any], rows: int, *arguments: Any, worth: int = 32) -> None:
    """Call ``work(first, last, *arguments)`` for ranges that make up ``rows`` block rows, on all cores.

    Below ``worth`` rows for each, threads cost more than they save.
    """
    parts = min(_CORES, rows // worth)
    if parts < 2:
        work(0, rows, *arguments)
        return
    bounds = [rows * index // parts for index in range(parts + 1)]
    futures = [_pool.submit(work, low, high, *arguments) for low, high in itertools.pairwise(bounds)]
    for future in futures:
        future.result()
