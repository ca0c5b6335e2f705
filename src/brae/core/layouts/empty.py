"""The smallest archive that a layout describes: header, empty tables, no members. New archives begin with it."""

from __future__ import annotations

from dataclasses import dataclass

from brae.core.errors import LayoutError
from brae.core.layouts.digits import BASES
from brae.core.layouts.expressions import evaluate, field_names
from brae.core.layouts.fields import BytesPart, Expression, FieldPart, Value
from brae.core.layouts.files import join
from brae.core.layouts.model import Layout
from brae.core.layouts.obfuscation import hide
from brae.core.layouts.parts import ChunksPart, MembersPart, Part, TablePart, TreePart
from brae.core.layouts.read import encode_value, parse
from brae.core.layouts.records import Records
from brae.core.layouts.rows import encode_record
from brae.core.layouts.segments import parts
from brae.core.layouts.write import compose
from brae.core.sources import MAIN, ByteSource, BytesSource

#: what to do where a layout alone does not say enough
LIKE = "Name an archive to make it like, with --like."
#: how often places are worked out anew, because places depend on numbers that say places
_ROUNDS = 8


@dataclass
class _Piece:
    """A part's bytes, and where they go; ``from_end``: counted from the end of the file."""

    part: Part
    start: int
    data: bytes
    from_end: bool = False


def empty(layout: Layout) -> dict[str, bytes]:
    """The files of an archive without members, by the layout's names.

    Numbers that follow are worked out, others have their ``value`` or are zero. Raises LayoutError where the layout
    does not say enough to make one.
    """
    if layout.kind != "archive":
        raise LayoutError(f"The layout '{layout.layout}' describes a {layout.kind}; archives can be made.")
    if layout.fixed_size:
        raise LayoutError("The archive always has the same size, which only another one tells.", remedy=LIKE)
    if layout.naming:
        raise LayoutError(
            f"'{layout.naming[0]}' names another file of the archive, which only you know.", remedy=LIKE
        )
    given = {part.field for part in layout.parts if isinstance(part, FieldPart) and part.value is not None}
    for part in layout.parts:
        for key, sum_ in part.sums.items():
            if field_names(sum_) - given:
                raise LayoutError(
                    f"The {key} of '{part.name}' is in the header, which only another archive tells.", remedy=LIKE
                )
    values: dict[str, int] = {}
    files: dict[str, bytes] = {}
    for _ in range(_ROUNDS):
        before = dict(values)
        places: dict[str, tuple[int, int]] = {}
        files = {file: _laid_out(layout, file, values, places) for file in dict.fromkeys([MAIN, *layout.files])}
        _learn(layout, places, values)
        if values == before:
            break
    sources: dict[str, ByteSource] = {file: BytesSource(data) for file, data in files.items()}
    composed = compose(parse(layout, join(layout, sources)))
    return {file: b"".join(parts(segments, composed.sources[file])) for file, segments in composed.segments.items()}


def _laid_out(layout: Layout, file: str, values: dict[str, int], places: dict[str, tuple[int, int]]) -> bytes:
    """One file, as far as the numbers are known; ``places`` gets where its parts lie."""
    pieces: list[_Piece] = []
    padding: list[tuple[int, bytes]] = []
    cursor = 0
    behind_end: int | None = None  # where the part before ends, if that counts from the end of the file
    for part in layout.parts:
        if part.file != file:
            continue
        data = _content(layout, part, values)
        start, from_end = cursor, False
        if part.at is not None:
            start, from_end = _place(layout, part.at, cursor)
        elif behind_end is not None and behind_end < 0:
            start, from_end = behind_end, True
        behind_end = start + len(data) if from_end else None
        if not from_end:
            padding.append((start, bytes([part.fill]) * (-start % part.align)))
            start += -start % part.align
            cursor = start + len(data)
        pieces.append(_Piece(part, start, data, from_end))
    behind = max((-piece.start for piece in pieces if piece.from_end), default=0)
    end = max((piece.start + len(piece.data) for piece in pieces if not piece.from_end), default=0)
    size = end + behind
    found = bytearray(size)
    for start, fill in padding:
        found[start : start + len(fill)] = fill
    for piece in pieces:
        if piece.from_end:
            piece.start += size
        found[piece.start : piece.start + len(piece.data)] = piece.data
        places[piece.part.name] = piece.start, piece.start + len(piece.data)
    values["file_size" if file == MAIN else f"{file}_size"] = size
    return bytes(found)


def _place(layout: Layout, at: Expression, cursor: int) -> tuple[int, bool]:
    """Where a part goes: a fixed place, one counted from the end, or (where a field says it) behind the others."""
    if not field_names(at):
        return evaluate(at, {}), False
    fixed = layout.fixed_place(at)
    if fixed is not None:
        return fixed, fixed < 0
    if "file_size" in field_names(at):
        raise LayoutError(
            f"'{at}' depends on the file's size in a way that a new archive cannot have.", remedy=LIKE
        )
    return cursor, False


def _content(layout: Layout, part: Part, values: dict[str, int]) -> bytes:
    data = b""
    if isinstance(part, FieldPart):
        data = _value(part, values, layout.endian)
    elif isinstance(part, BytesPart):
        data = bytes(evaluate(part.size, _zeros(part.size, values)))
    elif isinstance(part, TreePart):
        # The one at the top, without a name, unless the header counts those that have one.
        top = part.model_copy(update={"record": part.folder})
        data = encode_record(top, layout.endian, {}) if part.folders is None else b""
    elif isinstance(part, TablePart) and _ends_itself(layout, part):
        data = encode_record(part, layout.endian, {})
    elif isinstance(part, TablePart | ChunksPart) and part.until is not None:
        mark = {part.until.field: part.until.value} if part.until.value is not None else {}
        data = encode_record(part, layout.endian, dict(mark))
        if not part.until.whole:
            data = data[: _up_to(part, part.until.field)]
    steps = getattr(part, "obfuscation", [])
    fields = {name for step in steps for name in step.fields}
    if fields:
        raise LayoutError(f"The key of '{part.name}' is in a field, which only another archive tells.", remedy=LIKE)
    return hide(steps, data) if data else data


def _ends_itself(layout: Layout, part: TablePart) -> bool:
    """Whether the last record is no member, but says where the data end."""
    members = layout.content
    return isinstance(members, MembersPart) and members.of == part.name and members.last_ends


def _up_to(part: Records, field: str) -> int:
    """Bytes of a record up to a field, with it."""
    at = 0
    for column in part.record:
        at += column.width or (1 if column.prefix is None else int(column.prefix[1:]) // 8)
        if column.field == field:
            break
    return at


def _zeros(expression: Expression, values: dict[str, int]) -> dict[str, int]:
    return {name: values.get(name, 0) for name in field_names(expression)}


def _value(part: FieldPart, values: dict[str, int], endian: str) -> bytes:
    """A field's bytes: its only value, what is known of it, or zeros."""
    if isinstance(part.value, str):
        return part.value.encode("latin-1").ljust(_width(part, values), b"\0")
    if part.number_like:
        number = part.value if part.value is not None else values.get(part.field, 0)
        if part.type in BASES:
            return encode_value(part, number, endian)
        return (number & ((1 << 8 * part.width) - 1)).to_bytes(part.width, part.order(endian))
    return bytes(_width(part, values))


def _width(part: Value, values: dict[str, int]) -> int:
    if part.width:
        return part.width
    if part.prefix is not None:
        return int(part.prefix[1:]) // 8
    if part.length is not None:
        return evaluate(part.length, _zeros(part.length, values))
    return part.character


def _learn(layout: Layout, places: dict[str, tuple[int, int]], values: dict[str, int]) -> None:
    """What the fields should say, now that places are known."""

    def ask(function: str, name: str) -> int:
        if function == "file_size":
            return values.get("file_size" if name == MAIN else f"{name}_size", 0)
        start, end = places.get(name, (0, 0))
        if function == "count":
            table = next((part for part in layout.parts if part.name == name), None)
            return int(isinstance(table, TablePart) and _ends_itself(layout, table))
        return {"offset": start, "start": start, "end": end, "size": end - start}.get(function, 0)

    for part in layout.parts:
        if not isinstance(part, FieldPart) or not part.number_like:
            continue
        if isinstance(part.value, int):
            values[part.field] = part.value
        elif part.is_ is not None:
            known = _zeros(part.is_, values)
            number = evaluate(part.is_, known, ask)
            stored = max((number - part.add) // part.unit, 0)
            values[part.field] = stored * part.unit + part.add if part.unit > 1 or part.add else number
