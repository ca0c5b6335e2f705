"""Records: fields one after the other, each perhaps divided into bits; and what is said of what they tell."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from functools import cached_property
from typing import Annotated, Any

import numpy as np
from pydantic import Discriminator, Field, Tag, model_validator

from brae.core.errors import LayoutError
from brae.core.layouts import expressions
from brae.core.layouts.fields import Bits, Column, FieldPart, Hidden, Leaf, Strict, or_sum


class Records(Hidden):
    """Parts that hold records."""

    record: Annotated[list[Column], Field(min_length=1, max_length=200)]
    record_size: Annotated[int, Field(ge=1, le=65536)] | None = Field(
        None, description="where records are longer than their fields; the rest is kept", json_schema_extra=or_sum
    )

    @cached_property
    def leaves(self) -> list[Leaf]:
        """Every column, and every piece of those divided into bits."""
        return leaves_of(self.record)

    def column(self, role: str) -> Leaf | None:
        """What plays ``role``."""
        return next((leaf for leaf in self.leaves if leaf.meant.role == role), None)

    @property
    def fixed(self) -> bool:
        """Whether all records have the same size."""
        return all(column.width for column in self.record) and self.column("record-length") is None

    def dtype(self, endian: str) -> np.dtype[Any]:
        """The structured dtype of one record (packed); bytes behind the fields are a field of their own.

        numpy does not copy bytes that no field names, and they must be kept.
        """
        fields: list[tuple[str, np.dtype[Any]]] = [(column.field, column.dtype(endian)) for column in self.record]
        rest = (self.record_size or 0) - sum(form.itemsize for _, form in fields)
        return np.dtype(fields + ([("_rest", np.dtype((np.void, rest)))] if rest > 0 else []))

    @model_validator(mode="after")
    def _sound(self) -> Records:
        check_columns(self.record)
        size = sum(column.width for column in self.record)
        if self.record_size is not None and self.record_size < size:
            raise ValueError(f"record_size is {self.record_size}, but the fields have {size} bytes")
        return self


def leaves_of(record: list[Column]) -> list[Leaf]:
    """Every column, and every piece of those divided into bits."""
    found = []
    for column in record:
        if column.bits is None:
            found.append(Leaf(column, column))
            continue
        found += [Leaf(column, piece, shift) for piece, shift in shifts(column)]
    return found


def shifts(value: FieldPart | Column) -> list[tuple[Bits, int]]:
    """The pieces of a number, and how far each is shifted to the left in it."""
    pieces, found, used = value.bits or [], [], 0
    for piece in pieces:
        found.append((piece, 8 * value.width - used - piece.bits if value.bit_order == "high" else used))
        used += piece.bits
    return found


def check_columns(record: list[Column]) -> None:
    seen: set[str] = set()
    for column in record:
        if isinstance(column.length, str):
            _check_length(column, column.length, seen)
        for name in [column.field, *(piece.field for piece in column.bits or [])]:
            if name in seen:
                raise ValueError(f"two fields of a record are called '{name}'")
            seen.add(name)


def _check_length(column: Column, length: str, before: Collection[str]) -> None:
    """A length in a record is a sum over fields of the header and at most one field of the record, before it."""
    names = expressions.field_names(length)
    own = sorted(names & set(before))
    if len(own) > 1:
        raise ValueError(f"the length of '{column.field}' reads '{own[0]}' and '{own[1]}'; one field at most")
    if own and expressions.straight(length, own[0], dict.fromkeys(names, 3)) is None:
        raise ValueError(
            f"the length of '{column.field}' cannot be turned round, so '{own[0]}' could not be written again: "
            "multiply it, and add to it, and nothing else"
        )
    if length not in before and (column.unit > 1 or column.add):
        raise ValueError(f"the length of '{column.field}' is a sum; 'unit' and 'add' belong into it")


def resolved(record: list[Column], values: Mapping[str, int]) -> list[Column]:
    """A record whose lengths read no field of the header any more, with these ``values`` of it.

    What is left is a number, or one field of the record, times a ``unit``, plus what is to ``add``.
    """
    found: list[Column] = []
    for column in record:
        if isinstance(column.length, str) and column.length not in {one.field for one in found}:
            length = column.length
            own = next(iter(expressions.field_names(length) & {one.field for one in found}), None)
            if own is None:
                column = column.model_copy(update={"length": expressions.evaluate(length, values)})
            else:
                line = expressions.straight(length, own, values)
                if line is None:
                    raise LayoutError(f"The length of '{column.field}' cannot be worked out here.")
                step, add = (number * column.character for number in line)
                column = column.model_copy(update={"length": own, "unit": step, "add": add})
        found.append(column)
    return found


class Said(Strict):
    """What a field, or a sum over fields, says of a member; or what is so for all."""

    of: str | None = Field(None, description="a field of the record or of the header, or a sum over them")
    is_: bool | int | float | str | None = Field(
        None, alias="is", description="instead: this for all of them, also where a field is called so"
    )
    values: dict[int | str, int | float | str] | None = Field(
        None, description="what each number, or each text such as 'TEX ', means"
    )
    otherwise: int | float | str | None = Field(None, description="what any other value means")

    @model_validator(mode="after")
    def _one(self) -> Said:
        if (self.of is None) == (self.is_ is None):
            raise ValueError("a fact is 'of' a field, or it 'is' something for all")
        if self.is_ is not None and (self.values is not None or self.otherwise is not None):
            raise ValueError("'values' and 'otherwise' are for a fact 'of' a field")
        return self


#: a field's name, a sum over fields, or what is so for all of them
Fact = Annotated[
    Annotated[bool | int | float | str, Tag("plain")] | Annotated[Said, Tag("said")],
    Discriminator(lambda value: "said" if isinstance(value, dict | Said) else "plain"),
]
