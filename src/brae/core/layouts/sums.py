"""Checksums that a record holds: of its member, of its own fields, or of both."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

import numpy as np

from brae.core.layouts import checksums
from brae.core.layouts.digits import BASES, as_text
from brae.core.layouts.fields import Leaf, Value
from brae.core.layouts.rows import Rows
from brae.core.layouts.segments import Body, body_parts

#: what a record's checksum may cover beside the record's fields
OF_MEMBER = ("stored", "real")
WHOLE = "record"


def covered(leaf: Leaf) -> list[str]:
    """What a record's checksum is over, in order."""
    assert leaf.meant.checksum is not None
    over = leaf.meant.checksum.over
    return [over] if isinstance(over, str) else list(over) if isinstance(over, list) else []


def of_fields(leaf: Leaf) -> bool:
    """Whether it covers fields of its record, so that it is taken when all of these are written."""
    return any(name not in OF_MEMBER for name in covered(leaf))


def as_field(total: int | bytes, value: Value, width: int, endian: str, old: bytes) -> bytes:
    """A checksum as the bytes of a field of ``width`` bytes; digits like the ``old`` ones."""
    if value.type in BASES and isinstance(total, int):
        before = np.frombuffer(old.ljust(width, b"\0")[:width], np.uint8).reshape(1, -1)
        return as_text(np.array([total & ((1 << 62) - 1)]), before, BASES[value.type]).tobytes()
    return checksums.as_bytes(total, width, value.order(endian))


def total_of(leaf: Leaf, table: Rows, row: int, bodies: Mapping[str, Body]) -> int | bytes:
    """A record's checksum, with ``bodies`` for what it covers of its member (``stored``, ``real``)."""
    said = leaf.meant.checksum
    assert said is not None

    def pieces() -> Iterator[bytes]:
        for name in covered(leaf):
            if name in OF_MEMBER:
                yield from body_parts(bodies[name])
                continue
            begin, end = table.span(row, leaf.column.field)
            if name == WHOLE:
                start, whole = table.start(row), table.record(row)
            else:
                start, stop = table.span(row, name)
                whole = table.record(row)[start - table.start(row) : stop - table.start(row)]
            low, high = begin - start, end - start
            if low >= 0 and high <= len(whole):
                whole = whole[:low] + bytes([said.own]) * (high - low) + whole[high:]
            yield whole

    return checksums.checksum(said.kind, pieces())


def put(leaf: Leaf, table: Rows, row: int, total: int | bytes) -> None:
    """Write a record's checksum."""
    if not leaf.whole:
        assert isinstance(total, int)
        table.put(leaf.field, row, total & ((1 << leaf.bits) - 1))
        return
    old = table.raw_bytes(leaf.column, slice(row, row + 1)).tobytes()
    table.put_raw(leaf.field, row, as_field(total, leaf.column, leaf.column.width, table.endian, old))


def holds(leaf: Leaf, table: Rows, row: int, total: int | bytes) -> bool:
    """Whether a record has this checksum."""
    if leaf.column.type in BASES or not leaf.whole:
        assert isinstance(total, int)
        return bool(int(table.raw(leaf.field, slice(row, row + 1))[0]) == total & ((1 << min(leaf.bits, 62)) - 1))
    stands = table.raw_bytes(leaf.column, slice(row, row + 1)).tobytes()
    return stands == checksums.as_bytes(total, leaf.column.width, leaf.column.order(table.endian))


def refresh(leaves: Iterable[Leaf], table: Rows, rows: Iterable[int]) -> None:
    """Write the checksums of these records that cover nothing but the records' own fields."""
    own = [leaf for leaf in leaves if of_fields(leaf) and not any(name in OF_MEMBER for name in covered(leaf))]
    for row in rows if own else ():
        for leaf in own:
            put(leaf, table, row, total_of(leaf, table, row, {}))
