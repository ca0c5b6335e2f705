"""The layout language: a proprietary format described as data.

A layout is a list of *parts* in the order in which they lie in the file. Each part is named by the key that
says what it is: ``field``, ``bytes``, ``table``, ``names``, ``members`` or ``pixels``. Reading and writing
both follow from this one description; docs/layouts.md explains it with examples.
"""

from __future__ import annotations

from collections.abc import Collection
from functools import cached_property
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Discriminator, Field, Tag, model_validator

from brae.core.compression import names as packer_names
from brae.core.errors import LayoutError
from brae.core.layouts import checksums, expressions

Expression = Annotated[int | str, Field(description="a whole number, or a sum over earlier fields")]
Scalar = Literal["u8", "i8", "u16", "i16", "u32", "i32", "u64", "i64", "f32", "f64", "string", "bytes"]
Name = Annotated[str, Field(pattern=r"^[a-z][a-z0-9_]{0,63}$")]

#: What a field of a directory record can be for a member.
MemberRole = Literal[
    "name", "name-offset", "name-length", "offset", "stored-size", "real-size", "compression", "checksum"
]
#: What a header field can be for a texture.
TextureRole = Literal["width", "height", "pixel-format", "mip-count", "orientation"]
MAIN = "main"


class Strict(BaseModel):
    """Unknown keys are errors: a misspelt word must not be silently ignored."""

    model_config = ConfigDict(extra="forbid")


class Checksum(Strict):
    """Which checksum a field holds, and over what."""

    kind: Annotated[str, Field(json_schema_extra={"enum": checksums.names()})]
    over: Annotated[
        list[Name] | Literal["stored", "real"] | Range,
        Field(description="parts by name, or a range; in a record: the member's stored or real bytes"),
    ]

    @model_validator(mode="after")
    def _known(self) -> Checksum:
        if self.kind not in checksums.names():
            raise ValueError(f"there is no checksum '{self.kind}'; known are {', '.join(checksums.names())}")
        return self


class Range(Strict):
    """Bytes of the same file, ``from`` to ``to``; the checksum's own bytes count as zero."""

    start: Annotated[Expression, Field(alias="from")] = 0
    to: Expression | None = None


class Value(Strict):
    """What a field and a record's column have in common."""

    type: Scalar
    length: Expression | None = Field(None, description="bytes of a 'string' or 'bytes'")
    end: Literal["nul"] | None = Field(None, description="a string that ends with a zero byte")
    encoding: Literal["ascii", "utf-8", "latin-1"] = "utf-8"
    values: dict[int, str | int] | None = Field(None, description="what each number means")
    checksum: Checksum | None = None
    about: str | None = None

    @model_validator(mode="after")
    def _length(self) -> Value:
        textual = self.type in ("string", "bytes")
        if textual and self.length is None and self.end is None:
            raise ValueError(f"'{self.type}' needs a length")
        if not textual and (self.length is not None or self.end is not None):
            raise ValueError(f"'{self.type}' has no length")
        if self.end and self.type != "string":
            raise ValueError("only a 'string' can end with a zero byte")
        if isinstance(self.length, str):
            expressions.field_names(self.length)
        return self

    def dtype(self, endian: str) -> np.dtype[Any]:
        """The numpy dtype of a field whose length is a plain number."""
        if self.type in ("string", "bytes"):
            return np.dtype((np.void, self.length if isinstance(self.length, int) else 0))
        kind, bits = self.type[0], int(self.type[1:])
        return np.dtype(f"{'<' if endian == 'little' else '>'}{kind}{bits // 8}")

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


class Placed(Strict):
    """Where a part lies."""

    file: Name = Field(MAIN, description="'main', or a name of 'files'")
    at: Expression | None = Field(None, description="its offset; without it, behind the part before")
    align: Annotated[int, Field(ge=1, le=1 << 24)] = 1
    fill: Annotated[int, Field(ge=0, le=255, description="the byte of which padding is made")] = 0


class FieldPart(Value, Placed):
    """One value of a header."""

    field: Name
    value: int | str | None = Field(None, description="the only value it may have, such as a magic")
    role: TextureRole | None = None
    counts: Name | None = Field(None, description="the table whose records it counts")
    measures: Name | None = Field(None, description="the part (or 'file:NAME') whose bytes it counts")
    locates: Name | None = Field(None, description="the part whose offset it holds")
    measures_file: Name | None = Field(None, description="the file whose bytes it counts")

    @property
    def name(self) -> str:
        return self.field

    @model_validator(mode="after")
    def _one_source(self) -> FieldPart:
        sources = [self.value, self.counts, self.measures, self.locates, self.measures_file, self.checksum]
        if sum(source is not None for source in sources) > 1:
            raise ValueError("a field has one of value, counts, measures, measures_file, locates, checksum")
        if self.checksum is not None and isinstance(self.checksum.over, str):
            raise ValueError("'stored' and 'real' are for the fields of a members' table")
        return self


class BytesPart(Placed):
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

    @model_validator(mode="after")
    def _fixed(self) -> Column:
        if self.end is not None or isinstance(self.length, str):
            raise ValueError("a record's field has a fixed length")
        if self.length is not None and not 1 <= self.length <= 65536:
            raise ValueError("a length is from 1 to 65,536")
        if self.checksum is not None:
            if self.checksum.over not in ("stored", "real"):
                raise ValueError("a record's checksum is over 'stored' or 'real'")
            self.role = "checksum"
        return self


class TablePart(Placed):
    """Records of one fixed size."""

    table: Name
    count: Expression
    record: Annotated[list[Column], Field(min_length=1, max_length=200)]
    record_size: Annotated[int, Field(ge=1, le=65536)] | None = Field(
        None, description="where records are longer than their fields; the rest is kept"
    )

    @property
    def name(self) -> str:
        return self.table

    def dtype(self, endian: str) -> np.dtype[Any]:
        """The structured dtype of one record (packed); bytes behind the fields are a field of their own.

        numpy does not copy bytes that no field names, and they must be kept.
        """
        fields: list[tuple[str, np.dtype[Any]]] = [(column.field, column.dtype(endian)) for column in self.record]
        rest = (self.record_size or 0) - sum(form.itemsize for _, form in fields)
        return np.dtype(fields + ([("_rest", np.dtype((np.void, rest)))] if rest > 0 else []))

    @model_validator(mode="after")
    def _long_enough(self) -> TablePart:
        size = sum(column.dtype("little").itemsize for column in self.record)
        if self.record_size is not None and self.record_size < size:
            raise ValueError(f"record_size is {self.record_size}, but the fields have {size} bytes")
        return self

    def column(self, role: str) -> Column | None:
        """The column that plays ``role``."""
        return next((column for column in self.record if column.role == role), None)


class NamesPart(Placed):
    """A block of names, each ended by a zero byte, to which records point."""

    names: Name
    size: Expression
    base: Expression | None = Field(
        None, description="what the records' places are counted from; without it, from where the block begins"
    )
    encoding: Literal["ascii", "utf-8", "latin-1"] = "utf-8"

    @property
    def name(self) -> str:
        return self.names


class MembersPart(Placed):
    """The data of the members of a table, one after the other."""

    members: Name
    of: Name
    base: Expression = Field(0, description="what the records' offsets are counted from")
    compression: Annotated[str, Field(json_schema_extra={"enum": packer_names()})] = "none"
    pad_last: bool = Field(True, description="whether the last member is padded like the others")

    @property
    def name(self) -> str:
        return self.members


class PixelsPart(Placed):
    """A texture's pixels, all levels, largest first."""

    pixels: Name
    size: Expression | None = Field(None, description="bytes; without it, as much as the levels need")

    @property
    def name(self) -> str:
        return self.pixels


def _part_kind(value: Any) -> str | None:
    if isinstance(value, BaseModel):
        keys: Collection[str] = type(value).model_fields
    else:
        keys = value if isinstance(value, dict) else ()
    return next((kind for kind in _PART_KINDS if kind in keys), None)


_PART_KINDS = ("table", "names", "members", "pixels", "bytes", "field")
Part = Annotated[
    Annotated[FieldPart, Tag("field")]
    | Annotated[BytesPart, Tag("bytes")]
    | Annotated[TablePart, Tag("table")]
    | Annotated[NamesPart, Tag("names")]
    | Annotated[MembersPart, Tag("members")]
    | Annotated[PixelsPart, Tag("pixels")],
    Discriminator(
        _part_kind,
        custom_error_type="part_kind",
        custom_error_message="a part needs one of: field, bytes, table, names, members, pixels",
    ),
]


class Match(Strict):
    """How a file of this format is known, besides the values its fields must have."""

    names: list[str] = Field(default_factory=list, description="patterns such as '*.kist'")


class Layout(Strict):
    """A proprietary format, described as data."""

    layout: Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9\-]{0,63}$", description="its identifier")]
    title: str
    kind: Literal["archive", "texture"]
    about: str | None = None
    endian: Literal["little", "big"] = "little"
    match: Match = Field(default_factory=Match)
    files: dict[Name, str] = Field(
        default_factory=dict, description="other files: '{stem}' and '{name}' stand for the main file's"
    )
    orientation: Literal["top-down", "bottom-up"] = Field(
        "top-down", description="of a texture's rows, where no field says it"
    )
    pixel_format: str | None = Field(None, description="of a texture, where no field says it")
    parts: Annotated[list[Part], Field(min_length=1, max_length=500)]

    @model_validator(mode="after")
    def _consistent(self) -> Layout:
        known: dict[str, Part] = {}
        values = {"file_size"} | {f"{name}_size" for name in self.files}
        for part in self.parts:
            if part.name in known:
                raise ValueError(f"two parts are called '{part.name}'")
            if part.file != MAIN and part.file not in self.files:
                raise ValueError(f"'{part.name}' lies in '{part.file}', which 'files' does not name")
            wanted = [getattr(part, key, None) for key in ("at", "count", "size", "length", "base")]
            for expression in wanted:
                missing = expressions.field_names(expression) - values if expression is not None else set()
                if missing:
                    raise ValueError(f"'{part.name}' reads '{missing.pop()}' before it is known")
            if isinstance(part, MembersPart):
                table = known.get(part.of)
                if not isinstance(table, TablePart):
                    raise ValueError(f"'{part.name}' needs the table '{part.of}' before it")
                if not (table.column("offset") and table.column("stored-size")):
                    raise ValueError(f"the table '{part.of}' needs the roles offset and stored-size")
                if part.compression not in packer_names():
                    raise ValueError(f"there is no packer '{part.compression}'")
            known[part.name] = part
            if isinstance(part, FieldPart) and part.type[0] in "ui":
                values.add(part.field)
        for part in self.parts:
            if isinstance(part, FieldPart):
                over = part.checksum.over if part.checksum and isinstance(part.checksum.over, list) else []
                for name in [part.counts, part.measures, part.locates, *over]:
                    if name is not None and name not in known:
                        raise ValueError(f"'{part.field}' speaks of '{name}', which is no part")
                if part.measures_file and part.measures_file not in {MAIN, *self.files}:
                    raise ValueError(f"'{part.field}' speaks of a file that 'files' does not name")
        kinds = [type(part) for part in self.parts]
        wanted_part = MembersPart if self.kind == "archive" else PixelsPart
        if kinds.count(wanted_part) != 1:
            raise ValueError(f"a layout of kind '{self.kind}' has one part '{wanted_part.__name__[:-4].lower()}'")
        return self

    def only(self, kind: type[Any]) -> Any:
        """The one part of a kind (members, pixels), or None."""
        return next((part for part in self.parts if isinstance(part, kind)), None)

    @cached_property
    def magic(self) -> list[tuple[int, bytes]]:
        """Offsets and bytes that every file of this format has, as far as they lie at fixed places."""
        found: list[tuple[int, bytes]] = []
        offset = 0
        for part in self.parts:
            if not isinstance(part, FieldPart) or part.file != MAIN or part.end or part.at is not None:
                break
            if part.align > 1:
                offset += -offset % part.align
            if part.type in ("string", "bytes"):
                if not isinstance(part.length, int):
                    break
                size = part.length
                if isinstance(part.value, str):
                    found.append((offset, part.value.encode("latin-1").ljust(size, b"\0")))
            else:
                dtype = part.dtype(self.endian)
                size = dtype.itemsize
                if isinstance(part.value, int):
                    found.append((offset, np.array(part.value).astype(dtype).tobytes()))
            offset += size
        return found


Checksum.model_rebuild()
