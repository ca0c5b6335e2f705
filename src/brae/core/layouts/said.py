"""What an archive's records say of each member beside where it lies: its kind, and that kind's facts."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from brae.core.errors import LayoutError
from brae.core.layouts.expressions import evaluate_columns, field_names
from brae.core.layouts.parts import Content
from brae.core.layouts.records import Said
from brae.core.layouts.rows import decode, trimmed

if TYPE_CHECKING:
    from brae.core.layouts.directory import Directory
    from brae.core.layouts.read import Parsed

Value = int | float | str
#: the name under which the kind itself stands among the facts
KIND = "kind"


def said_of(parsed: Parsed, found: Directory, indices: Sequence[int]) -> list[dict[str, Value] | None]:
    """The facts of some members, by name; None where the layout says nothing of them.

    Raises LayoutError where a record holds a value whose meaning the layout does not say.
    """
    part = found.part
    assert isinstance(part, Content)
    if part.kind is None:
        return [None] * len(indices)
    wanted: dict[str, Said | Value] = {KIND: part.kind, **part.facts}
    places = np.fromiter(indices, np.int64, len(indices))
    values = _values(parsed, found, places)
    columns = {name: _column(name, said, values, parsed, found, places) for name, said in wanted.items()}
    told: list[dict[str, Value] | None] = []
    for row in range(len(places)):
        one = {name: value for name, column in columns.items() if (value := column[row]) is not None}
        # One without a kind is told by its bytes as ever.
        told.append(one if KIND in one else None)
    return told


def _values(parsed: Parsed, found: Directory, places: np.ndarray[Any, Any]) -> Mapping[str, np.ndarray[Any, Any]]:
    """Every number that can be read: of the header, of the records, and of the members themselves."""
    from brae.core.layouts.reading import RecordValues

    rows = found.rows[places]
    own = {
        "index": places, "offset": found.offsets[places], "stored_size": found.stored[places],
        "real_size": found.real[places],
    }  # fmt: skip
    if found.table is None:
        return {**own, **{name: np.full(len(rows), number, np.int64) for name, number in parsed.values.items()}}
    values = RecordValues(parsed, found.table, rows)
    # A record's or a header's own field of such a name is what the layout means.
    return RecordValues(parsed, found.table, rows, {name: one for name, one in own.items() if name not in values})


def _column(
    name: str,
    said: Said | Value,
    values: Mapping[str, np.ndarray[Any, Any]],
    parsed: Parsed,
    found: Directory,
    places: np.ndarray[Any, Any],
) -> Sequence[Value | None]:
    """One fact of some members."""
    if isinstance(said, str) and _reads(said, values, found):
        said = Said(of=said)
    if not isinstance(said, Said) or said.of is None:
        return [said.is_ if isinstance(said, Said) else said] * len(places)
    given = _given(said.of, values, found, places)
    own = said.values if said.values is not None else _meanings(parsed, found, said.of)
    if own is None:
        return given
    meanings = {str(key).rstrip() if isinstance(key, str) else key: word for key, word in own.items()}
    for one in given:
        if one not in meanings and said.otherwise is None:
            raise LayoutError(
                f"The layout does not say what '{name}' is where '{said.of}' is {one!r}.",
                expected=", ".join(map(str, meanings)),
                remedy="Add it to the 'values', or say 'otherwise'.",
            )
    told = [meanings.get(one, said.otherwise) for one in given]
    return [None if one == "" else one for one in told]


def _meanings(parsed: Parsed, found: Directory, of: str) -> Mapping[Any, Value] | None:
    """What a field of the record or of the header says that its numbers mean."""
    leaf = found.table.leaf.get(of) if found.table is not None else None
    meant = leaf.meant if leaf is not None else parsed.layout.header_field(of)
    return meant.values if meant is not None else None


def _reads(text: str, values: Mapping[str, object], found: Directory) -> bool:
    """Whether a text names fields, or is a sum of them; any other is itself."""
    if found.table is not None and text in found.table.leaf:
        return True
    try:
        names = field_names(text)
    except LayoutError:
        return False
    return bool(names) and names <= values.keys()


def _given(
    of: str, values: Mapping[str, np.ndarray[Any, Any]], found: Directory, places: np.ndarray[Any, Any]
) -> list[Any]:
    table = found.table
    leaf = table.leaf.get(of) if table is not None else None
    if table is not None and leaf is not None and not leaf.column.number_like:
        # Of these members only: a picture asks for one of a hundred thousand.
        raws = [table.content(of, row) for row in found.rows[places].tolist()]
        if leaf.column.type == "string":
            column = leaf.column
            texts = (decode(trimmed(raw, column.character), column.encoding, table.endian) for raw in raws)
            return [text.rstrip() for text in texts]
        return [raw.rstrip(b"\0 ").decode("latin-1") for raw in raws]
    found_here: list[Any] = evaluate_columns(of, values, len(places)).tolist()
    return found_here
