"""Records that stand in front of each member's data, and say again what the member's own record says."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from brae.core.errors import FormatError, LayoutError
from brae.core.layouts import sums
from brae.core.layouts.directory import Directory, common_packing
from brae.core.layouts.edits import Edits, MemberChange, NewMember
from brae.core.layouts.fields import Leaf
from brae.core.layouts.parts import MembersPart
from brae.core.layouts.records import Records
from brae.core.layouts.rows import Rows, encode_record, named, rows_of
from brae.core.layouts.segments import Body, New, Ranges


def outer(found: Directory) -> Directory:
    """The same members with what stands in front of each: that is what lies in the file and is moved."""
    if found.heads is None:
        return found
    return replace(found, offsets=found.offsets - found.before, stored=found.stored + found.before)


def with_heads(found: Directory, edits: Edits) -> Edits:
    """The edits with what stands in front of each changed member, written anew, as part of its stored bytes.

    Raises LayoutError where that says something else than the member's record does.
    """
    if found.heads is None:
        return edits
    assert isinstance(found.part, MembersPart)
    part, heads = found.part.heads, found.heads.copy()
    assert part is not None
    changed = {}
    for index, change in edits.changed.items():
        _describe(found, part, heads, index, change, known=True)
        changed[index] = replace(change, stored=_joined(heads.record(index), change.stored))
    common = alike(part, found.heads) if edits.added else {}
    packing, identity = common_packing(found), part.column("id")
    first = 0 if identity is None else int(found.heads.raw(identity.field).astype(np.int64).max(initial=0)) + 1
    added = [
        replace(new, change=_with_new(found, part, new, common, packing, first + number))
        for number, new in enumerate(edits.added)
    ]
    return Edits(changed, added, edits.removed)


def check(found: Directory, index: int, record: dict[str, int]) -> None:
    """Raise FormatError where what stands in front of a member says something else than its record (``record``)."""
    if found.heads is None or not isinstance(found.part, MembersPart) or found.part.heads is None:
        return
    for leaf in found.part.heads.leaves:
        said = record.get(str(leaf.meant.role))
        if said is None:
            continue
        stands = int(found.heads.numbers(leaf.field, slice(index, index + 1))[0])
        if stands not in (said, 0):
            raise FormatError(
                f"'{leaf.field}' in front of this member says {stands}, and its record {said}.",
                address=found.names[index],
                offset=int(found.offsets[index] - found.before[index]),
            )


def _with_new(
    found: Directory,
    part: Records,
    new: NewMember,
    common: dict[str, int | bytes],
    packing: int | None,
    number: int,
) -> MemberChange:
    """A new member with its header: what others say ``common``, how it is packed, its ``number``."""
    assert found.heads is not None
    values, name, packed, identity = (
        dict(common),
        part.column("name"),
        part.column("compression"),
        part.column("id"),
    )
    if name is not None:
        values |= named(name, new.name, found.heads.endian)
    if packed is not None:
        values[packed.field] = new.packing if new.packing is not None else packing or 0
    if identity is not None:
        values[identity.field] = number
    one = rows_of(part, found.heads.endian, encode_record(part, found.heads.endian, values), 1)
    _describe(found, part, one, 0, new.change, known=False)
    return replace(new.change, stored=_joined(one.record(0), new.change.stored))


def _describe(found: Directory, part: Records, heads: Rows, row: int, change: MemberChange, *, known: bool) -> None:
    for leaf in part.leaves:
        sizes = {
            "stored-size": (int(found.stored[row]) if known else 0, len(change.stored)),
            "real-size": (int(found.real[row]) if known else 0, len(change.real)),
        }
        if leaf.meant.role not in sizes:
            continue
        before, now = sizes[leaf.meant.role]
        if known and not _says(leaf, heads, row, before):
            continue
        heads.put(leaf.field, row, now)
    bodies = {"stored": change.stored, "real": change.real}
    checked = [leaf for leaf in part.leaves if leaf.meant.checksum is not None]
    for leaf in sorted(checked, key=sums.of_fields):
        if known and not heads.raw(leaf.field, slice(row, row + 1))[0] and found.real[row]:
            continue  # it says nothing here, and goes on doing so
        sums.put(leaf, heads, row, sums.total_of(leaf, heads, row, bodies))


def _says(leaf: Leaf, heads: Rows, row: int, number: int) -> bool:
    """Whether a field says this; one that is zero says nothing, and stays so."""
    stands = int(heads.numbers(leaf.field, slice(row, row + 1))[0])
    if stands not in (number, leaf.meant.add):
        raise LayoutError(
            f"'{leaf.field}' in front of a member says {stands}, and its record {number}: nobody knows what it is."
        )
    return stands == number


def alike(part: Records, table: Rows) -> dict[str, int | bytes]:
    """For a new record: what it has to say, and of fields that nobody explained what all others say alike."""
    values: dict[str, int | bytes] = {}
    for leaf in part.leaves:
        meant = leaf.meant
        if meant.role is not None or meant.is_ is not None or meant.checksum is not None:
            continue
        constant = getattr(meant, "value", None)
        if constant is not None:
            values[leaf.field] = constant if isinstance(constant, int) else constant.encode("latin-1")
        elif not len(table):
            continue
        elif leaf.column.number_like:
            numbers = table.raw(leaf.field)
            if bool((numbers == numbers[0]).all()):
                values[leaf.field] = int(numbers[0])
        elif leaf.column.width:
            raw = table.raw_bytes(leaf.column)
            if bool((raw == raw[0]).all()):
                values[leaf.field] = raw[0].tobytes()
    lengths = {column.length for column in part.record if isinstance(column.length, str)}
    return {name: value for name, value in values.items() if name not in lengths}


def _joined(head: bytes, body: Body) -> Body:
    if isinstance(body, bytes):
        return head + body
    return Ranges((New(head), *body.segments), body.source)
