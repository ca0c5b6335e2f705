"""Fields that nobody has explained, and that would be wrong after an edit.

A number of a record that is kept as it is goes stale when its member grows, if it really is the member's number of
blocks, or its end. Every such number is compared with what it could follow from, over all members: where one
relation holds for all of them it is no chance, and the line that says so is proposed.
"""

from __future__ import annotations

from contextlib import suppress
from typing import Any

import numpy as np

from brae.core.containers.described import Archive
from brae.core.errors import LayoutError
from brae.core.layouts.expressions import field_names
from brae.core.layouts.fields import FieldPart, Leaf
from brae.core.layouts.parts import Content, MembersPart, TablePart
from brae.core.layouts.records import Said

Ints = np.ndarray[Any, np.dtype[np.int64]]
#: fewer members, or fewer different numbers, than these prove nothing
_MEMBERS, _DIFFERENT = 4, 3
#: a header's number below this is too common to be told by its value
_TELLING = 256
_BLOCKS = (512, 1024, 2048, 4096, 8192, 16384, 32768, 65536)


def unexplained(archive: Archive) -> list[tuple[str, str]]:
    """The kept numbers that follow from something: the field, and the line to add (``is: ...``)."""
    return [*_of_records(archive), *_of_header(archive)]


def _of_records(archive: Archive) -> list[tuple[str, str]]:
    found = archive.directory
    part, table = found.part, found.table
    if not isinstance(part, MembersPart) or table is None or found.records is None:
        return []
    if not isinstance(found.records, TablePart) or len(archive) < _MEMBERS:
        return []
    read = (
        _named_in_facts(part)
        | {*part.where}
        | {column.length for column in found.records.record if isinstance(column.length, str)}
    )
    for made in (part.offset, part.size, part.real):
        read |= field_names(made) if made is not None else set()
    result = []
    for leaf in found.records.leaves:
        if _explained(leaf) or leaf.field in read or not leaf.column.number_like:
            continue
        numbers = table.numbers(leaf.field)[found.rows]
        line = relation(archive, numbers)
        if line is not None:
            result.append((leaf.field, line))
    return result


def _named_in_facts(part: Content) -> set[str]:
    """The fields that say what members are: a sample rate that happens to be a size is still one."""
    found: set[str] = set()
    for fact in (part.kind, *part.facts.values()):
        of = fact.of if isinstance(fact, Said) else fact
        if isinstance(of, str):
            with suppress(LayoutError):  # a word that stands for itself
                found |= field_names(of)
    return found


def _explained(leaf: Leaf) -> bool:
    meant, column = leaf.meant, leaf.column
    return (
        meant.role is not None or meant.is_ is not None or column.checksum is not None
        or column.role is not None or column.table is not None
    )  # fmt: skip


def relation(archive: Archive, numbers: Ints, different: int = _DIFFERENT) -> str | None:
    """What all the numbers follow from; None where nothing explains every one, or too few differ to tell."""
    if len(np.unique(numbers)) < different:
        return None
    stored, real = archive.stored_sizes, archive.real_sizes
    facts = {"stored_size": stored}
    if (real >= 0).all() and not np.array_equal(real, stored):
        facts["real_size"] = real
    facts["offset"] = archive.offsets
    facts["end_offset"] = archive.offsets + stored
    for name, values in facts.items():
        shift = np.unique(numbers - values)
        if len(shift) == 1 and (name in ("stored_size", "real_size") or shift[0] <= 0):
            constant = int(shift[0])
            if name in ("offset", "end_offset"):
                # Those count from the base, which may be anything.
                return f"is: {name}" if constant <= 0 else None
            return f"is: {name}" + (f" {'+' if constant > 0 else '-'} {abs(constant)}" if constant else "")
    for name in ("stored_size", "real_size"):
        if name not in facts:
            continue
        for block in _BLOCKS:
            if np.array_equal(numbers, -(-facts[name] // block)):
                return f"is: ({name} + {block - 1}) // {block}"
            if np.array_equal(numbers, -(-facts[name] // block) * block) and (facts[name] % block).any():
                return f"is: ({name} + {block - 1}) // {block} * {block}"
            last = (facts[name] - 1) % block + 1
            if np.array_equal(numbers, last) and (facts[name] > block).any():
                return f"is: ({name} - 1) % {block} + 1"
    lengths = np.array([len(name.encode("utf-8", "surrogateescape")) for name in archive.names], np.int64)
    shift = np.unique(numbers - lengths)
    if len(shift) == 1 and 0 <= shift[0] <= 1 and len(np.unique(lengths)) >= _DIFFERENT:
        return "is: name_length" + (" + 1" if shift[0] else "")
    return None


def _of_header(archive: Archive) -> list[tuple[str, str]]:
    parsed, part = archive.parsed, archive.directory.part
    table = part.of if isinstance(part, MembersPart) else None
    read = _named_in_facts(part)
    for other in parsed.layout.parts:
        for key in ("at", "count", "size", "base", "offset", "real", "length"):
            made = getattr(other, key, None)
            read |= field_names(made) if isinstance(made, str) else set()
    facts: dict[int, str] = {}
    for name, region in parsed.regions.items():
        if name != region.part.name:
            continue
        facts.setdefault(region.end - region.start, f"size({name})")
        facts.setdefault(region.start, f"offset({name})")
    facts[int(archive.real_sizes.sum())] = f"real_size({part.name})"
    facts[parsed.sources[part.file].size] = f"file_size({part.file})"
    if table is not None:
        facts[len(archive.directory.table or ())] = f"count({table})"
    result = []
    for field in parsed.layout.parts:
        if not isinstance(field, FieldPart) or not field.number_like or field.bits:
            continue
        if field.is_ is not None or field.value is not None or field.checksum is not None:
            continue
        number = parsed.values.get(field.field, 0)
        if number >= _TELLING and number in facts and field.field not in read:
            result.append((field.field, f"is: {facts[number]}"))
    return result
