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
_POOL = ThreadPoolExecutor(_CORES, thread_name_prefix="kernel")

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
    futures = [_POOL.submit(work, low, high, *arguments) for low, high in itertools.pairwise(bounds)]
    for future in futures:
        future.result()


def warm(group: str) -> None:
    """Compile the kernels of a group of GROUPS, or load them from the cache."""
    import numpy as np

    from brae.core.match import metrics
    from brae.core.textures import formats, mips

    # A block of each kind, soft, of one colour and cut out, as each has kernels of its own.
    picture = np.zeros((4, 12, 4), np.uint8)
    picture[:, :4] = np.arange(64).reshape(4, 4, 4)
    picture[:2, 8:] = 255
    for pixel_format in formats.all_formats():
        if _group_of(pixel_format.name) == group:
            pixel_format.decode(pixel_format.encode(picture), 12, 4)
    if group == "rest":
        mips.make_levels(picture, 3)
        metrics.quality(picture, picture ^ 1, (4, 4))


#: kernels that are compiled together, as they share steps; the longest first
GROUPS = ("bc7", "colour", "bc6h", "rest")


def _group_of(name: str) -> str:
    if name.startswith(("bc7", "bc6h")):
        return name.rstrip("s")
    return "colour" if name.startswith("bc") else "rest"
