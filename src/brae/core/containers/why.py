"""Why an unchanged rebuild differs: what was written and what stood there, and the line that would explain it.

Brae tries what people get wrong most: another meaning of the number, a constant that is missing, a checksum of
another kind or over other bytes. What fits is proposed as the line to change.
"""

from __future__ import annotations

import time
from bisect import bisect_right
from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from brae.core.containers.base import Proof
from brae.core.containers.described import Archive
from brae.core.containers.follows import relation
from brae.core.errors import BraeError
from brae.core.layouts import checksums
from brae.core.layouts.edits import Edits
from brae.core.layouts.fields import Column, FieldPart, Leaf
from brae.core.layouts.obfuscation import reveal
from brae.core.layouts.parts import MembersPart
from brae.core.layouts.read import Region
from brae.core.layouts.segments import Composed, Copy, parts

#: what a checksum may cover is read whole up to this, and so long it is tried: a person waits for the proof
_LARGEST = 16 << 20
_SECONDS = 2.0
#: bytes that are shown of a field
_SHOWN = 16
#: a constant that is missing from a number is at most this, or else it is another number
_CONSTANT = 64
#: two parts that a checksum may cover together, though others lie between, have so many bytes at most
_PAIR = 1 << 20
#: members whose checksums are tried
_TRIED = 6
_ALIGNMENTS = (4, 8, 16, 32, 64, 128, 256, 512, 1024, 2048, 4096)


@dataclass(frozen=True)
class _Field:
    """The field in which a byte lies: where, how many bytes, and what it is."""

    name: str
    start: int
    width: int
    part: FieldPart | Column | None
    row: int = -1
    leaf: Leaf | None = None


def explained(archive: Archive, proof: Proof) -> Proof:
    """A proof that failed, with both values of the field in which it did, and what would explain the difference."""
    try:
        if proof.exact:
            return proof
        if proof.file is None:
            return _of_members(archive, proof)
        return _of_rebuild(archive, proof)
    except (BraeError, LookupError, ValueError, OverflowError):
        return proof  # an explanation is worth having, and no reason to fail


def _of_rebuild(archive: Archive, proof: Proof) -> Proof:
    composed = archive.rebuild(Edits())
    file = next(name for name in composed.segments if composed.first_difference(name) == proof.offset)
    assert proof.offset is not None
    field = _field_at(archive, file, proof.offset)
    if field is None:
        return proof
    stood = archive.parsed.sources[file].read(field.start, min(field.width, _SHOWN))
    wrote = _written(composed, file, field.start, min(field.width, _SHOWN))
    if field.part is not None and isinstance(field.part, FieldPart) and field.part.obfuscation:
        stood, wrote = reveal(field.part.obfuscation, stood), reveal(field.part.obfuscation, wrote)
    endian = archive.layout.endian
    number_like = field.part is not None and (field.part.number_like or field.part.checksum is not None)
    words = f"{proof.reason} Brae writes {_shown(wrote, endian, number_like)}"
    words += f", and there stood {_shown(stood, endian, number_like)}."
    line = None
    if isinstance(field.part, FieldPart):
        if field.part.checksum is not None:
            line = _checksum_line(archive, field.part, field.start, stood)
        elif field.part.is_ is not None:
            line = _number_line(archive, field.part, int.from_bytes(wrote, endian), int.from_bytes(stood, endian))
    elif field.leaf is not None and field.leaf.meant.is_ is not None:
        line = _record_line(archive, field.leaf)
    return replace(proof, reason=words, wrote=wrote.hex(" "), stood=stood.hex(" "), remedy=line)


def _field_at(archive: Archive, file: str, offset: int) -> _Field | None:
    for name, region in archive.parsed.regions.items():
        if region.file != file or not region.start <= offset < region.end:
            continue
        if isinstance(region.part, FieldPart):
            return _Field(name, region.start, region.end - region.start, region.part)
        name = region.part.name
        table = archive.parsed.tables.get(name)
        if table is None or archive.parsed.chunks is not None or name in archive.parsed.trees:
            return None
        row = bisect_right(range(len(table)), offset - region.origin, key=table.start) - 1
        for leaf in table.leaf.values():
            start = region.origin + table.place(row, leaf.field)
            width = leaf.column.width or len(table.content(leaf.field, row))
            if start <= offset < start + width:
                return _Field(f"{name}[{row}].{leaf.field}", start, width, leaf.column, row, leaf)
    return None


def _written(composed: Composed, file: str, start: int, length: int) -> bytes:
    found, at = b"", 0
    for segment in composed.segments[file]:
        end = at + segment.length
        if end > start and isinstance(segment, Copy):
            skipped = max(start - at, 0)
            piece = Copy(segment.offset + skipped, min(segment.length - skipped, length - len(found)))
            found += b"".join(parts([piece], composed.sources[file]))
        elif end > start:
            found += b"".join(parts([segment], composed.sources[file]))[max(start - at, 0) :]
        at = end
        if len(found) >= length:
            break
    return found[:length]


def _shown(raw: bytes, endian: str, number: bool) -> str:
    """Bytes in hexadecimal, and as the number that they are."""
    words = raw.hex(" ").upper()
    return f"{words} ({int.from_bytes(raw, 'little' if endian == 'little' else 'big'):,})" if number else words


# ---- numbers that follow ------------------------------------------------------------------------------------


def _number_line(archive: Archive, field: FieldPart, wrote: int, stood: int) -> str | None:
    for words, value in _meanings(archive):
        if value == stood:
            return f"is: {words}"
    for align in _ALIGNMENTS:
        if -(-wrote // align) * align == stood:
            return f"is: ({field.is_} + {align - 1}) // {align} * {align}"
        if -(-wrote // align) == stood:
            return f"is: ({field.is_} + {align - 1}) // {align}"
    apart = stood - wrote
    if 0 < abs(apart) <= _CONSTANT:
        return f"is: {field.is_} {'+' if apart > 0 else '-'} {abs(apart)}"
    return None


def _whole(name: str, region: Region) -> bool:
    """Whether it is all there is of a part that is no field."""
    return name == region.part.name and not isinstance(region.part, FieldPart)


def _meanings(archive: Archive) -> Iterator[tuple[str, int]]:
    """Everything that a header's number may say of an archive's parts, with its value."""
    parsed, part = archive.parsed, archive.directory.part
    regions = {name: region for name, region in parsed.regions.items() if _whole(name, region)}
    for name, table in parsed.tables.items():
        yield f"count({name})", len(table)
    for name, region in regions.items():
        yield f"size({name})", region.end - region.start
        yield f"offset({name})", region.start
        yield f"end({name})", region.end
    for file, source in parsed.sources.items():
        yield f"file_size({file})", source.size
    if isinstance(part, MembersPart):
        yield f"real_size({part.name})", int(archive.real_sizes.clip(0).sum())
    for first, one in regions.items():
        for last, other in regions.items():
            if one.file == other.file and one.start < other.end:
                yield f"end({last}) - start({first})", other.end - one.start
    for file, source in parsed.sources.items():
        for name, region in regions.items():
            if region.file == file:
                yield f"file_size({file}) - offset({name})", source.size - region.start


def _record_line(archive: Archive, leaf: Leaf) -> str | None:
    """What every record's number follows from, if it is not what the layout says."""
    found = archive.directory
    if found.table is None:
        return None
    numbers = found.table.numbers(leaf.field)[found.rows]
    # That it follows from something is known already, so fewer different numbers tell from what.
    line = relation(archive, numbers, 2)
    return line if line != f"is: {leaf.meant.is_}" else None


# ---- checksums ----------------------------------------------------------------------------------------------


def _checksum_line(archive: Archive, field: FieldPart, start: int, stood: bytes) -> str | None:
    """Another kind of checksum, or other bytes, that give what stands there."""
    assert field.checksum is not None
    source = archive.parsed.sources[field.file]
    if source.size > _LARGEST:
        return None
    data = source.read(0, source.size)
    blank = data[:start] + bytes(len(stood)) + data[start + len(stood) :]
    own = field.checksum.kind
    kinds = [own, *(kind for kind in checksums.names() if kind != own)]
    until = time.monotonic() + _SECONDS
    for kind in kinds:
        for words, covered in _coverings(archive, field, blank, start, len(stood)):
            if time.monotonic() > until:
                return None
            total = checksums.as_bytes(checksums.checksum(kind, [covered]), len(stood), archive.layout.endian)
            if total == stood:
                said = kind if isinstance(kind, str) else kind.model_dump()
                return f"checksum: {{kind: {said}, over: {words}}}"
    return None


def _coverings(
    archive: Archive, field: FieldPart, blank: bytes, start: int, width: int
) -> Iterator[tuple[str, bytes]]:
    """What a header's checksum may cover: runs of parts, what is before or behind it, all with itself as zeros."""
    regions = sorted(
        (
            (region.start, region.end, name)
            for name, region in archive.parsed.regions.items()
            if region.file == field.file and name != field.field and region.end > region.start
        )
    )
    for first in range(len(regions)):
        for last in range(first, len(regions)):
            run = regions[first : last + 1]
            touching = all(one[1] == other[0] for one, other in zip(run, run[1:], strict=False))
            if touching and not any(one[0] <= start < one[1] for one in run):
                yield f"[{', '.join(name for _, _, name in run)}]", blank[run[0][0] : run[-1][1]]
    for one in regions:
        for other in regions:
            if one[2] != other[2] and one[1] != other[0] and one[1] - one[0] + other[1] - other[0] <= _PAIR:
                yield f"[{one[2]}, {other[2]}]", blank[one[0] : one[1]] + blank[other[0] : other[1]]
    size = len(blank)
    for low, high in ((0, size), (start + width, size), (0, start), (0, start + width), (start, size)):
        to = "" if high == size else f", to: {high}"
        yield f"{{from: {low}{to}}}", blank[low:high]
    for low, _, _ in regions:
        yield f"{{from: {low}}}", blank[low:]
    for _, high, _ in regions:
        yield f"{{from: 0, to: {high}}}", blank[:high]


def _of_members(archive: Archive, proof: Proof) -> Proof:
    """A member's checksum that is wrong: another kind, or over the other bytes, for several members alike."""
    records, table = archive.directory.records, archive.directory.table
    leaves = [leaf for leaf in records.leaves if leaf.meant.checksum is not None] if records is not None else []
    if table is None or not leaves:
        return proof
    # The smallest tell as much as others, and sooner.
    full = np.flatnonzero((archive.stored_sizes > 0) & (archive.real_sizes <= _LARGEST))
    some = full[np.argsort(archive.stored_sizes[full], kind="stable")][:_TRIED].tolist()
    bodies = {
        over: [archive.read_stored(index) if over == "stored" else archive.read(index) for index in some]
        for over in ("stored", "real")
    }

    def holds(leaf: Leaf, kind: str | checksums.Crc, over: str) -> bool:
        """Whether a checksum gives what every one of these members' records says."""
        width, endian = leaf.column.width, archive.layout.endian
        return all(
            checksums.as_bytes(checksums.checksum(kind, [body]), width, endian)
            == table.content(leaf.field, int(archive.directory.rows[index]))
            for index, body in zip(some, bodies[over], strict=True)
        )

    for leaf in leaves:
        said = leaf.meant.checksum
        if not some or said is None or holds(leaf, said.kind, str(said.over)):
            continue
        for over in ("stored", "real"):
            for kind in checksums.names():
                if holds(leaf, kind, over):
                    return replace(proof, field=leaf.field, remedy=f"checksum: {{kind: {kind}, over: {over}}}")
    return proof
