"""Compiled pixel loops, and how they are spread over the cores.

A kernel works on a range of block rows and holds no lock of the interpreter, so plain threads run it on all
cores: numba's own parallel loops may not be entered by two threads of a server at once.
"""

from __future__ import annotations

import itertools
import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any

_CORES = os.cpu_count() or 1
_POOL = ThreadPoolExecutor(_CORES, thread_name_prefix="kernel")
#: below this many block rows the threads cost more than they save
_ROWS_WORTH_A_THREAD = 32


def over_rows(work: Callable[..., Any], rows: int, *arguments: Any) -> None:
    """Call ``work(first, last, *arguments)`` for ranges that make up ``rows`` block rows, on all cores."""
    parts = min(_CORES, rows // _ROWS_WORTH_A_THREAD)
    if parts < 2:
        work(0, rows, *arguments)
        return
    bounds = [rows * index // parts for index in range(parts + 1)]
    futures = [_POOL.submit(work, low, high, *arguments) for low, high in itertools.pairwise(bounds)]
    for future in futures:
        future.result()


def warm() -> None:
    """Compile every kernel, or load it from the cache."""
    import numpy as np

    from brae.core.textures import formats

    picture = np.zeros((4, 4, 4), np.uint8)
    for pixel_format in formats.all_formats():
        pixel_format.decode(pixel_format.encode(picture), 4, 4)
