"""What an archive holds: the kind of each member, its file type, its facts and sizes, told by its beginning."""

from __future__ import annotations

import logging
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import partial
from types import MappingProxyType
from typing import NamedTuple

from brae.core.assets.base import HEAD, Head, Sniffed
from brae.core.assets.facts import Value
from brae.core.assets.registry import kinds
from brae.core.containers.base import Container
from brae.core.containers.recognise import recognise
from brae.core.errors import BraeError, internal
from brae.core.layouts.library import Library
from brae.core.sources import ByteSource, BytesSource

log = logging.getLogger(__name__)

#: what is no kind of its own: an archive inside, a part of another item, and anything else
ARCHIVE, PART, DATA = "archive", "part", "data"
#: bytes of a longer beginning, and the largest member that is read whole to be told
_LONGER, _LONGEST = 256 << 10, 64 << 20
#: members told at once
_BATCH = 4096
_NOTHING = Sniffed(None)


class Item(NamedTuple):
    """One member as the catalogue shows it; ``fault`` is what is wrong with it."""

    label: str
    name: str
    kind: str
    #: the file type: an open format, or the identifier of a layout
    container: str | None
    stored: int
    real: int
    packer: str
    facts: Mapping[str, Value] = MappingProxyType({})
    fault: str | None = None
    #: names of other items of the game that hold the rest of it
    parts: tuple[str, ...] = ()


def tell(heads: Sequence[Head], library: Library) -> list[tuple[str, Sniffed]]:
    """The kind of each of many members and what it says; ``data`` where it is of no kind."""
    found: list[tuple[str, Sniffed]] = [(DATA, _NOTHING)] * len(heads)
    left = [place for place, head in enumerate(heads) if not head.said]
    # Thousands of members share few facts: what facts alone say is worked out once.
    told_once: dict[object, tuple[str, Sniffed]] = {}
    for place, head in enumerate(heads):
        if head.said:
            key = (*head.said.items(), head.size) if len(head.said) > 1 else place
            if key not in told_once:
                told_once[key] = _as_said(head, library)
            found[place] = told_once[key]
    for kind in kinds().values():
        told = _safely(kind.sniff, [heads[place] for place in left], library)
        for place, one in zip(left, told, strict=True):
            if one is not None:
                found[place] = (kind.id, one)
        left = [place for place, one in zip(left, told, strict=True) if one is None]
    return found


def _as_said(head: Head, library: Library) -> tuple[str, Sniffed]:
    """A member of which its container says what it is."""
    said = dict(head.said or {})
    name = said.get("kind")
    kind = kinds().get(str(name))
    if kind is None:
        known = ", ".join(kinds())
        return DATA, Sniffed(None, fault=f"The layout says that this is a '{name}'. Expected one of {known}.")
    try:
        return kind.id, kind.told(head, library)
    except Exception as error:  # whatever is said of one member, the others are listed
        if not isinstance(error, BraeError):
            log.exception("describing %s failed", head.name)
            error = internal(error, head.name)
        return kind.id, Sniffed(None, fault=str(error))


def _safely(sniff: object, heads: Sequence[Head], library: Library) -> Sequence[Sniffed | None]:
    """What a kind says; where it fails on one of many, each is asked by itself: the others are listed."""
    try:
        return sniff(heads, library)  # type: ignore[operator, no-any-return]
    except Exception as error:
        if len(heads) == 1:
            if not isinstance(error, BraeError):
                log.exception("describing %s failed", heads[0].name)
                error = internal(error, heads[0].name)
            return [Sniffed(None, fault=str(error))]
    return [one for head in heads for one in _safely(sniff, [head], library)]


def _longer(
    told: tuple[str, Sniffed], head: Head, read: Callable[[int], bytes], library: Library
) -> tuple[str, Sniffed]:
    """What a longer beginning says, where a short one does not say all; at last the whole member, if no giant."""
    for length in (_LONGER, head.size or _LONGER):
        if not told[1].short or length > _LONGEST:
            break
        try:
            told = tell([Head(read(length), head.name, head.size)], library)[0]
        except BraeError as error:
            return told[0], Sniffed(None, fault=str(error))
    return told


def describe(
    head: bytes,
    library: Library,
    *,
    label: str,
    name: str,
    stored: int,
    real: int,
    packer: str,
    read: Callable[[int], bytes] | None = None,
    said: Mapping[str, Value] | None = None,
) -> Item:
    """The catalogue's entry of one member by its first bytes (HEAD of them); ``read`` gives a longer beginning.

    ``said``: what its container says of it.
    """
    first = Head(head, name, real if real >= 0 else None, said)
    kind, found = tell([first], library)[0]
    if found.short and read is not None and not said:
        kind, found = _longer((kind, found), first, read, library)
    return Item(label, name, kind, found.type, stored, real, packer, found.facts, found.fault, found.parts)


def _inner(container: Container, index: int, head: bytes, library: Library) -> str | None:
    """Which container a member is itself; of a packed one only the beginning is looked at."""
    source: ByteSource = container.member_source(index) if container.is_plain(index) else BytesSource(head)
    return recognise(source, container.names[index], library)


def catalogue(container: Container, library: Library) -> Iterator[Item]:
    """Every member of a container; only their first bytes are unpacked.

    The ``container`` of an item that is an archive itself is what ``recognise`` says of it.
    """
    for first in range(0, len(container), _BATCH):
        yield from _batch(container, range(first, min(first + _BATCH, len(container))), library)


def _batch(container: Container, indices: range, library: Library) -> Iterator[Item]:
    heads: list[Head] = []
    packers: list[str] = []
    faults: dict[int, str] = {}
    names, sizes = container.names, container.real_sizes[indices.start : indices.stop].tolist()
    stored_sizes = container.stored_sizes[indices.start : indices.stop].tolist()
    packings, beginnings = container.packings(indices), container.beginnings(indices, HEAD)
    spoken = container.said(indices)
    for index, real, head, packer, facts in zip(indices, sizes, beginnings, packings, spoken, strict=True):
        name = names[index]
        # Whatever one member does, the others are listed.
        if isinstance(head, Exception) or isinstance(packer, Exception):
            error = head if isinstance(head, Exception) else packer
            assert isinstance(error, Exception)
            faults[index] = _fault(error, container.labels[index])
            head, packer = b"", "unknown"
        known = None if index in faults else facts
        heads.append(Head(head[:real] if real >= 0 else head, name, real if real >= 0 else None, known))
        packers.append(packer)
    labels, told = container.labels, tell(heads, library)
    for place, index in enumerate(indices):
        if told[place][1].short:
            told[place] = _longer(told[place], heads[place], partial(container.read_start, index), library)
    sure = {kind.id for kind in kinds().values() if kind.sure}
    for index, head_, packer, (kind, said), stored, real in zip(
        indices, heads, packers, told, stored_sizes, sizes, strict=True
    ):
        label = labels[index]
        if index in faults:
            yield Item(label, head_.name, DATA, None, stored, real, packer, fault=faults[index])
            continue
        item = Item(label, head_.name, kind, said.type, stored, real, packer, said.facts, said.fault, said.parts)
        if said.fault is None and kind not in sure and not head_.said:
            item = _looked_into(container, index, head_.data, item, library)
        yield item


def _looked_into(container: Container, index: int, head: bytes, item: Item, library: Library) -> Item:
    try:
        inner = _inner(container, index, head, library)
    except Exception as error:  # whatever one member does, the others are listed
        return item._replace(kind=DATA, container=None, facts={}, fault=_fault(error, item.label))
    return item if inner is None else item._replace(kind=ARCHIVE, container=inner, facts={})


def _fault(error: Exception, label: str) -> str:
    if not isinstance(error, BraeError):
        log.error("describing %s failed", label, exc_info=error)
        error = internal(error, label)
    return str(error)
