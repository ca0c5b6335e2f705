"""Which members a kind's layouts describe: of many at once by their beginnings, or one that is read."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from brae.core.assets.base import HEAD, Context, Head, Sniffed, unknown
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
    free: Sequence[int] = range(len(heads))
    for layout in reversed(list(library.layouts.values())):
        if layout.kind != kind:
            continue
        signs = layout.signs
        fitting = [n for n in free if signs.fit(heads[n].name, heads[n].data, b"", heads[n].size)]
        for place in fitting:
            found[place] = Sniffed(layout.layout, _facts(layout, heads[place].data, counted))
        free = [n for n in free if found[n] is None] if fitting else free
    return found


def layout_of(kind: str, title: str, data: bytes, context: Context) -> Layout:
    """The layout by which an item of a kind is read: the one that a person named, or the one that fits.

    Raises UnknownFormatError where there is none.
    """
    layout = context.layout
    if layout is None:
        layout = context.library.recognise(context.name, data[:HEAD], kind, data[-HEAD:], len(data))
    if layout is None or layout.kind != kind:
        raise unknown(title.lower())
    return layout


def _facts(layout: Layout, head: bytes, counted: Counted) -> Mapping[str, Value]:
    parsed, _ = parse_some(layout, {MAIN: BytesSource(head)})
    try:
        return counted(layout, parsed)
    except BraeError:
        return {}
