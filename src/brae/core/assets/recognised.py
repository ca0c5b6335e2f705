"""Which members a kind's layouts describe, of many at once by their beginnings."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

import numpy as np

from brae.core.assets.base import Head, Sniffed
from brae.core.assets.facts import Value
from brae.core.errors import BraeError
from brae.core.layouts.library import Library
from brae.core.layouts.model import Layout
from brae.core.layouts.read import Parsed, parse_some
from brae.core.sources import MAIN, BytesSource

#: the facts that a header tells, as far as what was read of it goes
Counted = Callable[[Layout, Parsed], Mapping[str, Value]]


def sniff(kind: str, heads: Sequence[Head], library: Library, counted: Counted) -> list[Sniffed | None]:
    """What members are that a layout of this kind describes; None for each other."""
    found: list[Sniffed | None] = [None] * len(heads)
    if not any(layout.kind == kind for layout in library.layouts.values()):
        return found
    width = max((len(head.data) for head in heads), default=0)
    rows = np.zeros((len(heads), max(width, 1)), np.uint8)
    for row, head in enumerate(heads):
        rows[row, : len(head.data)] = np.frombuffer(head.data, np.uint8)
    lengths = np.array([len(head.data) for head in heads], np.int64)
    sizes = np.array([-1 if head.size is None else head.size for head in heads], np.int64)
    names = [head.name for head in heads]
    for layout, mask in library.recognised(names, rows, lengths, sizes, kind, np.ones(len(heads), bool)):
        for place in np.flatnonzero(mask).tolist():
            found[place] = Sniffed(layout.layout, _facts(layout, heads[place].data, counted))
    return found


def _facts(layout: Layout, head: bytes, counted: Counted) -> Mapping[str, Value]:
    parsed, _ = parse_some(layout, {MAIN: BytesSource(head)})
    try:
        return counted(layout, parsed)
    except BraeError:
        return {}
