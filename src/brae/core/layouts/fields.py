"""The values that a format is made of: types, what numbers mean, checksums, header fields, columns of records."""

from __future__ import annotations

import re
from collections.abc import Collection
from dataclasses import dataclass
from difflib import get_close_matches
from functools import cached_property
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ModelWrapValidatorHandler, PrivateAttr, model_validator

from brae.core.errors import LayoutError
from brae.core.layouts import checksums, expressions
from brae.core.layouts.digits import BASES
from brae.core.layouts.hashes import NameHash
from brae.core.layouts.obfuscation import Steps
from brae.core.sources import MAIN


def near(name: str, known: Collection[str]) -> str:
    """The nearest known name, as the end of a message."""
    found = get_close_matches(name, known, 1)
    return f"; did you mean '{found[0]}'?" if found else ""


Expression = Annotated[int | str, Field(description="a whole number, or a sum over earlier fields")]
Scalar = Literal[
    "u8", "i8", "u16", "i16", "u24", "i24", "u32", "i32", "u40", "i40", "u48", "i48", "u56", "i56", "u64", "i64",
    "f32", "f64", "varint", "octal", "decimal", "hex", "string", "bytes",
]  # fmt: skip
Encoding = Literal["ascii", "utf-8", "utf-16", "latin-1", "shift-jis"]
Name = Annotated[str, Field(pattern=r"^[a-z][a-z0-9_]{0,63}$")]

#: What a field of a directory record can be for a member.
MemberRole = Literal[
    "name", "name-offset", "name-length", "name-hash", "extension", "folder", "parent", "id",
    "offset", "end-offset", "stored-size", "real-size", "compression", "checksum", "record-length",
    "file-count", "folder-count", "first-member", "member-count", "file-number", "reference", "owner",
    "first-index", "index-count", "detail-level", "first-vertex", "vertex-count", "part-node",
    "frame-x", "frame-y", "frame-width", "frame-height", "frame-turned", "canvas-x", "canvas-y", "anchor-x",
    "anchor-y", "duration", "first-frame", "frame-count", "first-step", "step-count", "frame", "loop",
    "direction", "next-sequence",
    "area-x", "area-y", "area-width", "area-height", "area-right", "area-bottom", "area-order", "action", "target",
    "shows", "cursor-up", "cursor-down", "cursor-left", "cursor-right",
    "time-start", "time-end", "time-length", "phoneme", "track-level", "swap-object", "swap-old", "swap-new",
]  # fmt: skip


#: what may stand in braces: a word, or a number with so many digits
_HOLE = re.compile(r"\{[a-z][a-z0-9_]{0,63}(:0?[1-9])?\}")


def check_inside(pattern: str) -> None:
    """A layout names files beside the one that it describes, or in folders there: it leads nowhere else.

    Raises ValueError. Layouts come from strangers: a pattern is a short text with words in braces, and no more.
    """
    plain = _HOLE.sub("x", pattern)
    if len(pattern) > 300 or "{" in plain or "}" in plain:
        raise ValueError(f"'{pattern[:80]}' is no pattern of a name: words in braces, such as '{{stem}}.dat'")
    steps = re.split(r"[/\\]", plain)
    if ".." in steps or steps[0] == "" or ":" in plain:
        raise ValueError(
            f"'{pattern}' leads out of the file's folder; only files beside it, or below, can be named"
        )


class Strict(BaseModel):
    """Unknown keys are errors: a misspelt word must not be silently ignored."""

    model_config = ConfigDict(extra="forbid")


class Checksum(Strict):
    """Which checksum a field holds, and over what."""

    kind: Annotated[str, Field(json_schema_extra={"enum": checksums.names()})] | checksums.Crc
    over: Annotated[
        list[Name] | Literal["stored", "real"] | Range,
        Field(
            description="parts by name, or a range; in a record: the member's 'stored' or 'real' bytes, or a list "
            "of these, the record's fields, and 'record' for all of it"
        ),
    ]
    own: Annotated[int, Field(ge=0, le=255)] = Field(
        0, description="what each of the checksum's own bytes counts as, where it covers itself"
    )

    @model_validator(mode="after")
    def _known(self) -> Checksum:
        if isinstance(self.kind, str) and self.kind not in checksums.names():
            raise ValueError(f"there is no checksum '{self.kind}'; known are {', '.join(checksums.names())}")
        return self


class Range(Strict):
    """Bytes of the same file, ``from`` to ``to``; the checksum's own bytes count as zero."""

    start: Annotated[Expression, Field(alias="from")] = 0
    to: Expression | None = None


class Meant(Strict):
    """What a number means, whether it has a field of its own or some bits of one."""

    unit: Annotated[int, Field(ge=1, le=1 << 24)] = Field(
        1, description="what the number counts, in bytes: 2048 for sectors; of a string, the bytes of a character"
    )
    add: Annotated[int, Field(ge=-(1 << 32), le=1 << 32)] = Field(
        0, description="added to it: -8 where a size counts its own header of eight bytes"
    )
    values: dict[int, str | int] | None = Field(None, description="what each number means")

    def meaning(self, number: int) -> str | int:
        """What a number stands for; the number itself where the layout says nothing."""
        return (self.values or {}).get(number, number)

    def number(self, meaning: str | int) -> int:
        """The number that stands for ``meaning``; LayoutError where there is none."""
        if self.values is None:
            return int(meaning)
        for number, text in self.values.items():
            if text == meaning:
                return number
        raise LayoutError(f"The layout has no number for '{meaning}'.")


class Value(Meant):
    """What a field and a record's column have in common."""

    type: Scalar
    length: Expression | None = Field(
        None, description="bytes of a 'string' or 'bytes', or of a number in digits ('octal', 'decimal', 'hex')"
    )
    endian: Literal["little", "big"] | None = Field(None, description="of this value, where it is not the layout's")
    prefix: Literal["u8", "u16", "u24", "u32"] | None = Field(
        None, description="the length stands before the string; with 'end: nul' it counts the zero too"
    )
    end: Literal["nul"] | None = Field(None, description="a string that ends with a zero byte (or character)")
    encoding: Encoding = "utf-8"
    checksum: Checksum | None = None
    bit_order: Literal["low", "high"] = Field(
        "low", description="which of the number's bits the first of 'bits' are"
    )
    about: str | None = None

    @model_validator(mode="after")
    def _length(self) -> Value:
        textual = self.type in ("string", "bytes") or self.type in BASES
        if self.type in BASES and (not isinstance(self.length, int) or not 1 <= self.length <= 64):
            raise ValueError(f"'{self.type}' needs a length from 1 to 64: how many bytes its digits have")
        if textual and self.length is None and self.end is None and self.prefix is None:
            raise ValueError(f"'{self.type}' needs a length")
        if not textual and (self.length is not None or self.end is not None or self.prefix is not None):
            raise ValueError(f"'{self.type}' has no length")
        if self.end and self.type != "string":
            raise ValueError("only a 'string' can end with a zero byte")
        if self.prefix and self.length is not None:
            raise ValueError("a string has a length or a prefix, not both")
        if isinstance(self.length, str):
            expressions.field_names(self.length)
        return self

    @property
    def number_like(self) -> bool:
        """Whether it is a whole number."""
        return self.type[0] in "ui" or self.type == "varint" or self.type in BASES

    def order(self, endian: str) -> Literal["little", "big"]:
        """The order of its bytes in a layout of that ``endian``."""
        return "big" if (self.endian or endian) == "big" else "little"

    @property
    def character(self) -> int:
        """Bytes of one character's smallest unit."""
        return 2 if self.encoding == "utf-16" else 1

    @property
    def width(self) -> int:
        """Bytes, where they are always as many; 0 otherwise."""
        if self.type in ("string", "bytes") or self.type in BASES:
            return self.length if isinstance(self.length, int) and self.prefix is None else 0
        return 0 if self.type == "varint" else int(self.type[1:]) // 8

    def dtype(self, endian: str) -> np.dtype[Any]:
        """The numpy dtype of a field of fixed size; bytes for the widths that numpy has no number for."""
        if self.type in ("string", "bytes") or self.type in BASES or self.width not in (1, 2, 4, 8):
            return np.dtype((np.void, self.width))
        return np.dtype(f"{'<' if self.order(endian) == 'little' else '>'}{self.type[0]}{self.width}")


def or_sum(schema: dict[str, Any]) -> None:
    """For editors: a number, or a sum over fields of the header."""
    number = {key: schema.pop(key) for key in ("type", "minimum", "maximum", "anyOf") if key in schema}
    schema["anyOf"] = [*number.pop("anyOf", [number] if number else []), {"type": "string"}]


#: keys of a part that take a number, or a sum over the header's fields instead
SUMMED = ("align", "record_size")


class Placed(Strict):
    """Where a part lies."""

    #: the sums that stand for numbers, by their keys; reading works them out
    _sums: dict[str, str] = PrivateAttr(default_factory=dict)

    @model_validator(mode="wrap")
    @classmethod
    def _with_sums(cls, data: Any, handler: ModelWrapValidatorHandler[Placed]) -> Placed:
        if not isinstance(data, dict):
            return handler(data)
        sums = {key: data[key] for key in SUMMED if isinstance(data.get(key), str)}
        part = handler({key: value for key, value in data.items() if key not in sums})
        for sum_ in sums.values():
            expressions.field_names(sum_)
        part._sums = sums
        return part

    @property
    def sums(self) -> dict[str, str]:
        """The sums that stand for numbers, by their keys."""
        return self._sums

    file: Name = Field(MAIN, description="'main', or a name of 'files'")
    at: Expression | None = Field(None, description="its offset; without it, behind the part before")
    align: Annotated[int, Field(ge=1, le=1 << 24)] = Field(1, json_schema_extra=or_sum)
    fill: Annotated[int, Field(ge=0, le=255, description="the byte of which padding is made")] = 0


#: what a record's field can be said to follow from, for its member
MEMBER_FACTS = {
    "stored_size": "its bytes as they are stored",
    "real_size": "its bytes unpacked",
    "offset": "where its data begins, counted from the base",
    "end_offset": "where its data ends, counted from the base",
    "index": "its number, from 0",
    "name_length": "the bytes of its name",
}


class Bits(Meant):
    """Some bits of a number, counted from the lowest up."""

    field: Name
    bits: Annotated[int, Field(ge=1, le=63)]
    role: MemberRole | None = None
    is_: Expression | None = Field(
        None, alias="is", description="of a record: what it follows from, such as (stored_size + 2047) // 2048"
    )
    checksum: Checksum | None = Field(None, description="of a record: the member's, of which it holds the low bits")
    table: Name | None = Field(None, alias="in", description="the table to whose records the numbers point")
    hash: NameHash | None = Field(None, description="how a 'name-hash' is made of the name")


class Hidden(Placed):
    """A part whose bytes may be obfuscated."""

    obfuscation: Steps = Field(default_factory=list)


class FieldPart(Value, Hidden):
    """One value of a header."""

    field: Name
    value: int | str | None = Field(None, description="the only value it may have, such as a magic")
    bits: list[Bits] | None = None
    is_: Expression | None = Field(
        None,
        alias="is",
        description="what it follows from: count(TABLE), size(PART), offset(PART), end(A) - start(B) ...",
    )

    @cached_property
    def call(self) -> expressions.Call | None:
        """The one question about a part that it is, if it is nothing else."""
        return expressions.only_call(self.is_) if self.is_ is not None else None

    def asked(self, *functions: str) -> str | None:
        """The part that it is asked about, where it is nothing but one of these functions of it."""
        return self.call[1] if self.call is not None and self.call[0] in functions else None

    @property
    def counts(self) -> str | None:
        """The table whose records it counts."""
        return self.asked("count")

    @property
    def measures(self) -> str | None:
        """The part whose bytes it counts."""
        return self.asked("size")

    @property
    def locates(self) -> str | None:
        """The part whose offset it holds."""
        return self.asked("offset", "start")

    @property
    def name(self) -> str:
        return self.field

    @model_validator(mode="after")
    def _one_source(self) -> FieldPart:
        if sum(source is not None for source in (self.value, self.is_, self.checksum)) > 1:
            raise ValueError("a field has one of value, is, checksum")
        if self.is_ is not None and not self.number_like:
            raise ValueError("'is' is for whole numbers")
        if self.checksum is not None and isinstance(self.checksum.over, str):
            raise ValueError("'stored' and 'real' are for the fields of a members' table")
        if self.type == "varint":
            raise ValueError("'varint' is for the fields of a record")
        _check_bits(self)
        return self


def _check_bits(value: FieldPart | Column) -> None:
    if value.bits is None:
        return
    if (
        not value.number_like
        or value.type == "varint"
        or value.type in BASES
        or getattr(value, "role", None)
        or value.values
    ):
        raise ValueError("'bits' divide a whole number that has no role or values itself")
    if sum(piece.bits for piece in value.bits) > 8 * value.width:
        raise ValueError(f"the bits are more than '{value.type}' has")


class BytesPart(Hidden):
    """Bytes whose meaning is not known; they are kept."""

    bytes: Name
    size: Expression
    about: str | None = None

    @property
    def name(self) -> str:
        return self.bytes


class Column(Value):
    """One value of every record of a table."""

    field: Name
    role: MemberRole | None = None
    is_: Expression | None = Field(
        None, alias="is", description="what it follows from, such as (stored_size + 2047) // 2048"
    )
    value: int | str | None = Field(None, description="the only value it may have in every record")
    bits: list[Bits] | None = None
    table: Name | None = Field(None, alias="in", description="the table to whose records the numbers point")
    hash: NameHash | None = Field(None, description="how a 'name-hash' is made of the name")
    slash: Annotated[str, Field(min_length=1, max_length=1)] = Field("/", description="between folders")

    @model_validator(mode="after")
    def _fits_a_record(self) -> Column:
        if isinstance(self.length, int) and not 1 <= self.length <= 65536:
            raise ValueError("a length is from 1 to 65,536")
        if self.value is not None:
            _check_constant(self)
        pieces: list[Column | Bits] = [self, *(self.bits or [])]
        for meant in pieces:
            if meant.checksum is not None:
                if isinstance(meant.checksum.over, Range):
                    raise ValueError("a record's checksum is over 'stored', 'real', or a list with fields of it")
                if not self.width:
                    raise ValueError(f"'{meant.field}' is a checksum, and has a fixed size")
                meant.role = "checksum"
            if meant.is_ is not None:
                _check_follows(self, meant)
            if (meant.role == "name-hash") != (meant.hash is not None):
                raise ValueError("the role 'name-hash' needs 'hash', and only it")
        _check_bits(self)
        return self


def _check_constant(column: Column) -> None:
    """A value that every record has is said where nothing else says it."""
    if column.role is not None or column.is_ is not None or column.checksum is not None or column.bits is not None:
        raise ValueError(f"'{column.field}' has one of value, role, is, checksum and bits")
    if not column.width or isinstance(column.value, int) != column.number_like:
        raise ValueError(f"the value of '{column.field}' is a number of a number, or a text of a fixed length")


def _check_follows(column: Column, meant: Column | Bits) -> None:
    """What a record's field follows from has to be known of every member."""
    assert meant.is_ is not None
    if not column.number_like or meant.role is not None:
        raise ValueError(f"'is' of '{meant.field}' is for whole numbers that have no role")
    if expressions.calls(meant.is_):
        raise ValueError(f"'{meant.field}' asks about a part; a record's field follows from its member")


@dataclass(frozen=True)
class Leaf:
    """A number or string that records hold: a column, or some bits of one."""

    column: Column
    meant: Column | Bits
    shift: int = 0

    @property
    def field(self) -> str:
        return self.meant.field

    @property
    def whole(self) -> bool:
        """Whether it is a column of its own, not some bits of one."""
        return isinstance(self.meant, Column)

    @property
    def bits(self) -> int:
        """How many bits its number has (0 where that varies)."""
        return self.meant.bits if isinstance(self.meant, Bits) else self.column.width * 8


Checksum.model_rebuild()
FieldPart.model_rebuild()
