"""Where bytes stand in the items of a project, packed or not: a picture's first rows, a text, a number."""

from __future__ import annotations

import re
from collections.abc import Container
from dataclasses import dataclass, field
from itertools import islice

from brae.core.errors import BraeError, FormatError
from brae.core.find.patterns import pattern_of, places
from brae.core.sources import BytesSource
from brae.jobs import Silent, Ticker
from brae.work.items import original_bytes
from brae.work.linking import soon, state_of, waiting
from brae.work.sent import ALWAYS_SENT
from brae.work.workspace import Workspace

#: bytes that are shown around a hit, places of one item that are shown, and that are counted
_AROUND, _MOST_SHOWN, _MOST_COUNTED = 16, 40, 10_000
#: patterns whose items are remembered
_MOST_KEPT = 12
#: bytes of an item that are looked through
_LARGEST = 256 << 20


@dataclass(frozen=True)
class Place:
    """One place: its offset in the item, and what stands before it, there and after it, in hexadecimal."""

    offset: int
    before: str
    found: str
    after: str


@dataclass
class Places:
    """The places of an item: some of them, and how many there are (``more``: at least)."""

    __pydantic_config__ = ALWAYS_SENT

    total: int = 0
    more: bool = False
    places: list[Place] = field(default_factory=list)


def asked(text: str) -> re.Pattern[bytes]:
    """What a person looks for: hexadecimal, a number such as u32:4096, else a text."""
    try:
        return pattern_of(text)
    except FormatError:
        if text.partition(":")[0] in ("u8", "u16", "u32", "u64", "i8", "i16", "i32", "i64", "f32", "f64"):
            raise
        return pattern_of(f'"{text}"' if len(text) > 2 or not text.startswith('"') else text)


def places_in(workspace: Workspace, project_id: str, address: str, text: str) -> Places:
    """Where that stands in one item, one hit over another counted as well."""
    project, found = workspace.project(project_id), workspace.find(project_id, address)
    data = original_bytes(workspace, project, found)
    answer = Places()
    for offset, hit in islice(places(BytesSource(data), asked(text)), _MOST_COUNTED + 1):
        if answer.total >= _MOST_COUNTED:
            answer.more = True
            break
        answer.total += 1
        if len(answer.places) < _MOST_SHOWN:
            end = offset + len(hit)
            before, after = data[max(0, offset - _AROUND) : offset], data[end : end + _AROUND]
            answer.places.append(Place(offset, before.hex(" "), hit.hex(" "), after.hex(" ")))
    return answer


def holding_soon(workspace: Workspace, project_id: str, text: str) -> Container[str]:
    """The items that hold it; looked through once, as a job. WaitingError meanwhile."""
    asked(text)  # what is no pattern is told at once

    def known() -> frozenset[str] | None:
        return workspace.holding.get((text, *state_of(workspace, project_id)))

    found: frozenset[str] | None = soon(
        workspace,
        project_id,
        "bytes",
        known,
        lambda job: {"items": len(holding(workspace, project_id, text, job))},
        about=text,
    )
    if found is None:
        raise waiting(workspace, project_id, "bytes", "The bytes of this game", about=text)
    return found


def holding(workspace: Workspace, project_id: str, text: str, ticker: Ticker | None = None) -> frozenset[str]:
    """The addresses of the items of a project that hold it; what cannot be read holds nothing."""
    ticker, pattern, state = ticker or Silent(), asked(text), (text, *state_of(workspace, project_id))
    project, held = workspace.project(project_id), workspace.catalogues.of(project_id)
    ticker.begin(len(held), "items")
    found = set()
    for address, item in workspace.find_each(project_id, held.addresses):
        if item is not None and item.member.real <= _LARGEST:
            try:
                if pattern.search(original_bytes(workspace, project, item)) is not None:
                    found.add(address)
            except BraeError:  # it is listed as damaged, with the reason
                pass
        ticker.tick()
    # Two that look for different bytes are not to take each other's answer away.
    last = dict(list(workspace.holding.items())[-_MOST_KEPT + 1 :])
    workspace.holding = {**last, state: frozenset(found)}
    return workspace.holding[state]
