"""The layout language: a proprietary format described as data.

A layout is a list of *parts* in the order in which they lie in the file. Each part is named by the key that
says what it is: ``field``, ``bytes``, ``table``, ``tree``, ``chunks``, ``names``, ``members`` or ``pixels``.
Reading and writing both follow from this one description; docs/layouts.md explains it with examples.
"""

from __future__ import annotations

import re
from collections.abc import Collection
from dataclasses import dataclass
from difflib import get_close_matches
from functools import cached_property
from string import Formatter
from typing import Annotated, Any, Literal, get_args

import numpy as np
from pydantic import BaseModel, ConfigDict, Discriminator, Field, Tag, model_validator

from brae.core.compression import described
from brae.core.compression import names as packer_names
from brae.core.errors import LayoutError
from brae.core.layouts import checksums, expressions
from brae.core.layouts.hashes import NameHash
from brae.core.layouts.obfuscation import Steps, hide
from brae.core.layouts.roles import Channel, Role
from brae.core.layouts.signs import Signs
from brae.core.layouts.storage import Storage
from brae.core.sources import MAIN as MAIN

Expression = Annotated[int | str, Field(description="a whole number, or a sum over earlier fields")]
Scalar = Literal[
    "u8", "i8", "u16", "i16", "u24", "i24", "u32", "i32", "u40", "i40", "u48", "i48", "u56", "i56", "u64", "i64",
    "f32", "f64", "varint", "string", "bytes",
]  # fmt: skip
Encoding = Literal["ascii", "utf-8", "utf-16", "latin-1", "shift-jis"]
Name = Annotated[str, Field(pattern=r"^[a-z][a-z0-9_]{0,63}$")]

#: What a field of a directory record can be for a member.
MemberRole = Literal[
    "name", "name-offset", "name-length", "name-hash", "extension", "folder", "parent", "id",
    "offset", "end-offset", "stored-size", "real-size", "compression", "checksum", "record-length",
    "file-count", "folder-count", "file-number", "reference", "owner",
]  # fmt: skip
#: What a header field can be for a texture.
TextureRole = Literal[
    "width", "height", "pixel-format", "mip-count", "orientation", "layers", "faces", "depth", "levels-here",
    "bytes-elsewhere", "map",
]  # fmt: skip


class Strict(BaseModel):
    """Unknown keys are errors: a misspelt word must not be silently ignored."""

    model_config = ConfigDict(extra="forbid")


class Checksum(Strict):
    """Which checksum a field holds, and over what."""

    kind: Annotated[str, Field(json_schema_extra={"enum": checksums.names()})] | checksums.Crc
    over: Annotated[
        list[Name] | Literal["stored", "real"] | Range,
        Field(description="parts by name, or a range; in a record: the member's stored or real bytes"),
    ]

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
    length: Expression | None = Field(None, description="bytes of a 'string' or 'bytes'")
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
        textual = self.type in ("string", "bytes")
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
        return self.type[0] in "ui" or self.type == "varint"

    @property
    def character(self) -> int:
        """Bytes of one character's smallest unit."""
        return 2 if self.encoding == "utf-16" else 1

    @property
    def width(self) -> int:
        """Bytes, where they are always as many; 0 otherwise."""
        if self.type in ("string", "bytes"):
            return self.length if isinstance(self.length, int) and self.prefix is None else 0
        return 0 if self.type == "varint" else int(self.type[1:]) // 8

    def dtype(self, endian: str) -> np.dtype[Any]:
        """The numpy dtype of a field of fixed size; bytes for the widths that numpy has no number for."""
        if self.type in ("string", "bytes") or self.width not in (1, 2, 4, 8):
            return np.dtype((np.void, self.width))
        return np.dtype(f"{'<' if endian == 'little' else '>'}{self.type[0]}{self.width}")


class Placed(Strict):
    """Where a part lies."""

    file: Name = Field(MAIN, description="'main', or a name of 'files'")
    at: Expression | None = Field(None, description="its offset; without it, behind the part before")
    align: Annotated[int, Field(ge=1, le=1 << 24)] = 1
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
    role: MemberRole | TextureRole | None = None
    is_: Expression | None = Field(
        None, alias="is", description="of a record: what it follows from, such as (stored_size + 2047) // 2048"
    )


class Hidden(Placed):
    """A part whose bytes may be obfuscated."""

    obfuscation: Steps = Field(default_factory=list)


class FieldPart(Value, Hidden):
    """One value of a header."""

    field: Name
    value: int | str | None = Field(None, description="the only value it may have, such as a magic")
    bits: list[Bits] | None = None
    role: TextureRole | None = None
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
    if not value.number_like or value.type == "varint" or value.role or value.values:
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
    bits: list[Bits] | None = None
    table: Name | None = Field(None, alias="in", description="the table to whose records the numbers point")
    hash: NameHash | None = Field(None, description="how a 'name-hash' is made of the name")
    slash: Annotated[str, Field(min_length=1, max_length=1)] = Field("/", description="between folders")

    @model_validator(mode="after")
    def _fits_a_record(self) -> Column:
        if isinstance(self.length, int) and not 1 <= self.length <= 65536:
            raise ValueError("a length is from 1 to 65,536")
        if self.checksum is not None:
            if self.checksum.over not in ("stored", "real"):
                raise ValueError("a record's checksum is over 'stored' or 'real'")
            self.role = "checksum"
        pieces: list[Column | Bits] = [self, *(self.bits or [])]
        for meant in pieces:
            if meant.is_ is not None:
                _check_follows(self, meant)
        if (self.role == "name-hash") != (self.hash is not None):
            raise ValueError("the role 'name-hash' needs 'hash', and only it")
        _check_bits(self)
        return self


def _check_follows(column: Column, meant: Column | Bits) -> None:
    """What a record's field follows from has to be known of every member."""
    assert meant.is_ is not None
    if not column.number_like or meant.role is not None:
        raise ValueError(f"'is' of '{meant.field}' is for whole numbers that have no role")
    if expressions.calls(meant.is_):
        raise ValueError(f"'{meant.field}' asks about a part; a record's field follows from its member")
    unknown = expressions.field_names(meant.is_) - MEMBER_FACTS.keys()
    if unknown:
        name = sorted(unknown)[0]
        raise ValueError(
            f"'{meant.field}' is made of '{name}', which is nothing of a member{near(name, MEMBER_FACTS)}; "
            f"known are {', '.join(MEMBER_FACTS)}"
        )


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


class Records(Hidden):
    """Parts that hold records."""

    record: Annotated[list[Column], Field(min_length=1, max_length=200)]
    record_size: Annotated[int, Field(ge=1, le=65536)] | None = Field(
        None, description="where records are longer than their fields; the rest is kept"
    )

    @cached_property
    def leaves(self) -> list[Leaf]:
        """Every column, and every piece of those divided into bits."""
        return _leaves(self.record)

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
        _check_columns(self.record)
        size = sum(column.width for column in self.record)
        if self.record_size is not None and self.record_size < size:
            raise ValueError(f"record_size is {self.record_size}, but the fields have {size} bytes")
        return self


def _leaves(record: list[Column]) -> list[Leaf]:
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


def _check_columns(record: list[Column]) -> None:
    seen: set[str] = set()
    for column in record:
        if isinstance(column.length, str) and column.length not in seen:
            raise ValueError(f"the length of '{column.field}' is a number or a field before it in the record")
        for name in [column.field, *(piece.field for piece in column.bits or [])]:
            if name in seen:
                raise ValueError(f"two fields of a record are called '{name}'")
            seen.add(name)


class Until(Strict):
    """The record that ends a table."""

    field: Name
    value: int | None = Field(None, alias="is", description="its number; an empty string needs none")
    whole: bool = Field(True, description="whether the ending record is whole, or stops behind that field")


class TablePart(Records):
    """Records, one after the other."""

    table: Name
    count: Expression | None = None
    size: Expression | None = Field(None, description="bytes, where no count is known")
    until: Until | None = Field(None, description="the record that ends the table")

    @property
    def name(self) -> str:
        return self.table

    @model_validator(mode="after")
    def _ended(self) -> TablePart:
        if sum(value is not None for value in (self.count, self.size, self.until)) != 1:
            raise ValueError("a table has one of count, size and until")
        if self.until is not None and self.until.field not in {c.field for c in self.record if c.bits is None}:
            raise ValueError(f"'until' speaks of '{self.until.field}', which the record does not have")
        return self


class TreePart(Records):
    """Folders, each with its files and its subfolders in it, to any depth."""

    tree: Name
    folder: Annotated[list[Column], Field(min_length=1, max_length=50)]
    folders: Expression | None = Field(
        None, description="how many folders there are at the top; without it, one, whose name is no part of paths"
    )
    order: Literal["files-first", "folders-first"] = "files-first"

    @property
    def name(self) -> str:
        return self.tree

    @model_validator(mode="after")
    def _counted(self) -> TreePart:
        _check_columns(self.folder)
        roles = {column.role for column in self.folder}
        if not {"file-count", "folder-count"} <= roles:
            raise ValueError("a tree's folder needs the roles file-count and folder-count")
        if self.record_size is not None:
            raise ValueError("a tree's records have no record_size")
        return self


class NamesPart(Hidden):
    """A block of names, each ended by a zero byte, to which records point."""

    names: Name
    size: Expression | None = Field(None, description="its bytes")
    count: Expression | None = Field(None, description="how many names it has, where nothing says its bytes")
    base: Expression | None = Field(
        None, description="what the records' places are counted from; without it, from where the block begins"
    )
    encoding: Encoding = "utf-8"
    slash: Annotated[str, Field(min_length=1, max_length=1)] = Field("/", description="between folders")
    in_order: bool = Field(False, description="the first name is the first record's, and so on; nothing points")

    @property
    def name(self) -> str:
        return self.names

    @model_validator(mode="after")
    def _ended(self) -> NamesPart:
        if (self.size is None) == (self.count is None):
            raise ValueError("a block of names has either a size or a count")
        return self


class Said(Strict):
    """What a field, or a sum over fields, says of a member."""

    of: str = Field(description="a field of the record or of the header, or a sum over them")
    values: dict[int | str, int | float | str] | None = Field(
        None, description="what each number, or each text such as 'TEX ', means"
    )
    otherwise: int | float | str | None = Field(None, description="what any other value means")


class Content(Placed):
    """How members are kept, and what they are."""

    kind: str | Said | None = Field(
        None, description="what the members are, such as 'texture', where their own bytes do not tell"
    )
    facts: dict[Name, int | float | str | Said] = Field(
        default_factory=dict,
        description="facts of that kind (width, height, format, rate ...): fields, sums over them, or constants",
    )

    compression: Annotated[str, Field(json_schema_extra={"examples": packer_names()})] = Field(
        "none", description="of every member, where no field says it: a packer's name, or one of 'packers'"
    )
    unpacked: Literal["never", "equal", "zero"] = Field(
        "never", description="a member is not packed where its stored size equals its real size, or is zero"
    )
    obfuscation: Steps = Field(default_factory=list, description="of every member's stored bytes")
    align_from: Expression = Field(0, description="where alignment counts from: a number, or fields of the header")
    align_by: dict[str, Annotated[int, Field(ge=1, le=1 << 24)]] = Field(
        default_factory=dict, description="alignment by a pattern of the name, such as '*.tex'"
    )


class MembersPart(Content):
    """The data of the members of a table, one after the other; or, without a table, of one member."""

    members: Name
    of: Name | None = None
    base: Expression = Field(0, description="what the records' offsets are counted from")
    pad_last: bool = Field(True, description="whether the last member is padded like the others")
    where: dict[Name, int | list[int]] = Field(
        default_factory=dict, description="only records with these values are members"
    )
    last_ends: bool = Field(False, description="the last record is no member: its offset is where the data ends")
    offset: Expression | None = Field(None, description="where a member begins, as a sum over its record's fields")
    size: Expression | None = Field(
        None,
        description="a member's stored bytes, as a sum over its record's fields; of a lone one else to the end",
    )
    real: Expression | None = Field(None, description="a member's unpacked bytes, as such a sum")

    @property
    def name(self) -> str:
        return self.members


class ChunksPart(Records, Content):
    """Records that each stand before their own data: tag, size, data, padding, and the next."""

    chunks: Name
    size: Expression | None = Field(None, description="bytes of all chunks; without it, to the end of the file")
    nest: dict[str, Annotated[int, Field(ge=0, le=65536)]] = Field(
        default_factory=dict, description="chunks that hold chunks, and how many bytes stand before those"
    )
    until: Until | None = None
    named_by: list[str] = Field(
        default_factory=list, description="chunks whose text is the name of the one behind them, and no member"
    )

    @property
    def name(self) -> str:
        return self.chunks

    @model_validator(mode="after")
    def _sized(self) -> ChunksPart:
        size = self.column("stored-size")
        if size is None or size.column.type == "varint":
            raise ValueError("chunks need a field with the role stored-size")
        if self.named_by and self.column("name") is None:
            raise ValueError("'named_by' needs a field with the role name, such as the chunk's tag")
        if both := sorted(set(self.named_by) & self.nest.keys()):
            raise ValueError(f"'{both[0]}' holds chunks, so it cannot be a name as well")
        return self


class PaletteOf(Strict):
    """Where the colours of palette indices are."""

    of: Name = Field(description="the part 'bytes' that holds them")
    format: str = Field(description="the pixel format of an entry")
    order: list[tuple[Annotated[int, Field(ge=0, le=7)], Annotated[int, Field(ge=0, le=7)]]] | None = Field(
        None, description="pairs of bits of an index that change places before an entry is looked up"
    )
    alpha_scale: int = Field(1, ge=1, le=255, description="alpha is stored divided by this")


class Elsewhere(Strict):
    """Where the larger levels of a streamed texture are: another file of the game, or one for each."""

    name: str = Field(
        description="its path: with {path} (this one's, without its ending), {folder}, {stem}; {level} for one each"
    )
    smallest_first: bool = Field(False, description="the smallest of its levels comes first")

    @model_validator(mode="after")
    def _sound(self) -> Elsewhere:
        self.of("a/b.c", 0)
        return self

    def of(self, name: str, level: int) -> str:
        """The path of the file that holds a level of the texture ``name``."""
        path = name.rpartition(".")[0] if "." in name.rpartition("/")[2] else name
        folder, _, stem = path.rpartition("/")
        try:
            found = self.name.format(path=path, folder=folder, stem=stem, level=level)
        except (LookupError, ValueError, AttributeError) as error:
            raise ValueError(
                f"'{self.name}' holds something that is not known; 'path', 'folder', 'stem' and 'level' are"
            ) from error
        return found.lstrip("/")


class PixelsPart(Hidden):
    """A texture's pixels, all levels, or the smaller ones where the others are ``elsewhere``."""

    pixels: Name
    size: Expression | None = Field(None, description="bytes; without it, as much as the levels need")
    storage: Storage | None = Field(None, description="in what order pixels or blocks lie, if not row by row")
    palette: PaletteOf | None = Field(None, description="colours of palette indices")
    smallest_first: bool = Field(False, description="the smallest level comes first")
    elsewhere: Elsewhere | None = Field(
        None, description="where the largest levels are; 'levels-here' says how many are in this file"
    )
    by: Literal["picture", "level"] = Field(
        "picture", description="of several layers or faces: all levels of one follow each other, or all of a level"
    )

    @property
    def name(self) -> str:
        return self.pixels


def _part_kind(value: Any) -> str | None:
    if isinstance(value, BaseModel):
        keys: Collection[str] = type(value).model_fields
    else:
        keys = value if isinstance(value, dict) else ()
    return next((kind for kind in _PART_KINDS if kind in keys), None)


_PART_KINDS = ("table", "tree", "chunks", "names", "members", "pixels", "bytes", "field")
Part = Annotated[
    Annotated[FieldPart, Tag("field")]
    | Annotated[BytesPart, Tag("bytes")]
    | Annotated[TablePart, Tag("table")]
    | Annotated[TreePart, Tag("tree")]
    | Annotated[ChunksPart, Tag("chunks")]
    | Annotated[NamesPart, Tag("names")]
    | Annotated[MembersPart, Tag("members")]
    | Annotated[PixelsPart, Tag("pixels")],
    Discriminator(
        _part_kind,
        custom_error_type="part_kind",
        custom_error_message="a part needs one of: " + ", ".join(reversed(_PART_KINDS)),
    ),
]


class Match(Strict):
    """How a file of this format is known, besides the values its fields must have."""

    names: list[str] = Field(default_factory=list, description="patterns such as '*.kist'")
    size: Annotated[int, Field(ge=1)] | None = Field(
        None, description="its bytes, where nothing else tells such files from others of the same names"
    )


class Numbered(Strict):
    """Files that continue each other, told apart by a number in their names."""

    name: Annotated[str, Field(pattern=r"\{number(:[^{}]*)?\}", description="such as '{stem}.{number:03}'")]
    first: Annotated[int, Field(alias="from", ge=0, description="the number of the first one")] = 0
    each: Expression | None = Field(
        None, description="the bytes of every one but the last; without it they stay as long as they are"
    )

    @model_validator(mode="after")
    def _sound(self) -> Numbered:
        _check_file_name(self.name, number=self.first)
        return self


def _check_file_name(pattern: str, **more: int | str) -> None:
    try:
        pattern.format(stem="a", name="a", **more)
    except (LookupError, ValueError, AttributeError) as error:
        known = ", ".join(["stem", "name", *(word for word in more if word != "number")])
        raise ValueError(f"'{pattern}' holds something that is not known; {known} are") from error


def _pieces(template: str) -> list[str]:
    """The words of a template such as '{base}_dir'; ValueError where it is none."""
    try:
        found = [(field, more) for _, field, *more in Formatter().parse(template) if field is not None]
    except ValueError as error:
        raise ValueError(f"'{template}' is no pattern of a name: {error}") from error
    words = [field for field, _ in found]
    if not words or len(set(words)) != len(words) or not all(_PIECE.fullmatch(word) for word in words):
        raise ValueError(f"'{template}' needs words in braces, each once, such as '{{base}}_dir'")
    return words


_LONGEST_NAME = 255
_PIECE = re.compile(r"[a-z][a-z0-9_]{0,31}")


def near(name: str, known: Collection[str]) -> str:
    """The nearest known name, as the end of a message."""
    found = get_close_matches(name, known, 1)
    return f"; did you mean '{found[0]}'?" if found else ""


class Layout(Strict):
    """A proprietary format, described as data."""

    layout: Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9\-]{0,63}$", description="its identifier")]
    title: str
    kind: Literal["archive", "texture"]
    about: str | None = None
    endian: Literal["little", "big"] = "little"
    match: Match = Field(default_factory=Match)
    files: dict[Name, str | Numbered] = Field(
        default_factory=dict, description="other files: '{stem}' and '{name}' stand for the main file's"
    )
    stem: str | None = Field(
        None, description="the pieces of the file's own name, such as '{base}_dir'; 'files' may use them"
    )
    packers: dict[Annotated[str, Field(pattern=r"^[a-z][a-z0-9\-]{0,31}$")], described.PackerSpec] = Field(
        default_factory=dict, description="packers described by their parameters"
    )
    fixed_size: bool = Field(False, description="the main file always has as many bytes; what is free is padding")
    known_names: list[str] = Field(default_factory=list, description="names to try where only hashes are stored")
    orientation: Literal["top-down", "bottom-up"] = Field(
        "top-down", description="of a texture's rows, where no field says it"
    )
    pixel_format: str | None = Field(None, description="of a texture, where no field says it")
    width: Annotated[int, Field(ge=1, le=65536)] | None = Field(None, description="the same")
    height: Annotated[int, Field(ge=1, le=65536)] | None = Field(None, description="the same")
    mip_count: Annotated[int, Field(ge=1, le=17)] = Field(1, description="the same")
    colour: Literal["srgb", "linear"] | None = Field(None, description="what a texture's numbers are")
    premultiplied: bool = Field(False, description="a texture's colour is multiplied by its alpha")
    map: Role | Literal["packed"] | None = Field(None, description="what a texture is for, where no field says it")
    packed: dict[Channel, Role] = Field(default_factory=dict, description="what a packed map's channels are for")
    parts: Annotated[list[Part], Field(min_length=1, max_length=500)]

    @model_validator(mode="after")
    def _consistent(self) -> Layout:
        described.check(self.packers)
        if isinstance(self.files.get(MAIN), str):
            raise ValueError("'main' is the file itself; in 'files' it can only be continued in numbered files")
        pieces = dict.fromkeys(_pieces(self.stem) if self.stem is not None else [], "a")
        for pattern in self.files.values():
            if isinstance(pattern, str):
                _check_file_name(pattern, **pieces)
        known: dict[str, Part] = {}
        values = {"file_size"} | {f"{name}_size" for name in self.files}
        for part in self.parts:
            if part.name in known:
                raise ValueError(f"two parts are called '{part.name}'")
            if part.file != MAIN and part.file not in self.files:
                raise ValueError(f"'{part.name}' lies in '{part.file}', which 'files' does not name")
            keys = ["at", "count", "size", "length", "base", "folders", "real", "align_from"]
            if isinstance(part, MembersPart) and part.of is not None:
                keys = ["at", "base", "align_from"]  # the others are over the fields of each record
            wanted = [getattr(part, key, None) for key in keys]
            for expression in wanted:
                missing = expressions.field_names(expression) - values if expression is not None else set()
                if missing:
                    name = sorted(missing)[0]
                    raise ValueError(f"'{part.name}' reads '{name}' before it is known{near(name, values)}")
            for step in getattr(part, "obfuscation", []):
                for name in sorted(step.fields - values):
                    raise ValueError(
                        f"the key of '{part.name}' reads '{name}' before it is known{near(name, values)}"
                    )
            if isinstance(part, MembersPart):
                self._check_members(part, known, values)
            if isinstance(part, MembersPart | ChunksPart):
                self._check_packers(part, known)
                self._check_said(part, known, values)
            known[part.name] = part
            if isinstance(part, FieldPart) and part.number_like:
                values |= {part.field} | {piece.field for piece in part.bits or []}
        roles: set[str | None] = {part.role for part in self.parts if isinstance(part, FieldPart)}
        roles |= {bit.role for part in self.parts if isinstance(part, FieldPart) for bit in part.bits or []}
        for part in self.parts:
            self._check_mentions(part, known, values)
            if isinstance(part, PixelsPart) and (part.elsewhere is not None) != ("levels-here" in roles):
                raise ValueError("'elsewhere' and the role 'levels-here' belong together")
            if isinstance(part, PixelsPart) and part.palette is not None:
                found = known.get(part.palette.of)
                if not isinstance(found, BytesPart):
                    raise ValueError(f"'{part.palette.of}' holds a palette, but is no part 'bytes'")
        self._check_maps()
        kinds = [isinstance(part, MembersPart | ChunksPart) for part in self.parts]
        if self.kind == "archive" and sum(kinds) != 1:
            raise ValueError("a layout of kind 'archive' has one part 'members' or 'chunks'")
        if self.kind == "texture" and sum(isinstance(part, PixelsPart) for part in self.parts) != 1:
            raise ValueError("a layout of kind 'texture' has one part 'pixels'")
        return self

    def _check_maps(self) -> None:
        meanings: list[FieldPart | Bits] = []
        for part in self.parts:
            if isinstance(part, FieldPart):
                meanings += [part, *(part.bits or [])]
        said = [word for meant in meanings if meant.role == "map" for word in (meant.values or {}).values()]
        words = {self.map, *said} - {None}
        for word in words:
            if word not in (*get_args(Role), "packed"):
                raise ValueError(
                    f"'{word}' is nothing that a map is for; known are {', '.join(get_args(Role))}, packed"
                )
        if ("packed" in words) != bool(self.packed):
            raise ValueError("'packed' says what the channels are for of maps that are 'packed'")

    def _check_members(self, part: MembersPart, known: dict[str, Part], values: Collection[str]) -> None:
        if part.of is None:
            if part.where or part.last_ends or part.offset is not None:
                raise ValueError(
                    f"'{part.name}' is a lone member: 'where', 'offset' and 'last_ends' are for tables"
                )
            return
        table = known.get(part.of)
        if not isinstance(table, TablePart | TreePart):
            tables = [name for name, one in known.items() if isinstance(one, TablePart | TreePart)]
            raise ValueError(f"'{part.name}' needs the table '{part.of}' before it{near(part.of, tables)}")
        sums = [one for one in (part.offset, part.size) if one is not None]
        if not (table.column("offset") or table.column("stored-size") or sums):
            raise ValueError(f"the table '{part.of}' needs the role offset or stored-size")
        self._check_sums(part, table, values)
        if part.last_ends and (table.column("stored-size") or table.column("end-offset")):
            raise ValueError("'last_ends' is for tables that have offsets only")
        if table.column("file-number"):
            if not isinstance(self.files.get(part.file), Numbered):
                raise ValueError(f"'file-number' is for numbered files, and '{part.file}' is none")
            if not table.column("offset") or part.last_ends:
                raise ValueError("'file-number' needs the role offset, and cannot be with 'last_ends'")
        for name in part.where:
            if name not in {leaf.field for leaf in table.leaves}:
                raise ValueError(f"'where' speaks of '{name}', which '{part.of}' does not have")

    @staticmethod
    def _check_sums(part: MembersPart, table: TablePart | TreePart, values: Collection[str]) -> None:
        """What a member's place and sizes are made of has to be written again when it changes."""
        for key, role in (("offset", "offset"), ("size", "stored-size"), ("real", "real-size")):
            made = getattr(part, key)
            if made is None:
                continue
            if table.column(role):
                raise ValueError(f"'{key}' of '{part.name}' and the role {role} say the same; leave one out")
            leaves = {leaf.field: leaf for leaf in table.leaves}
            for name in sorted(expressions.field_names(made)):
                if name in leaves:
                    if leaves[name].meant.is_ is None and leaves[name].meant.role is None:
                        raise ValueError(
                            f"'{name}' is read by the {key} of '{part.name}': say what it 'is', so that it can be "
                            "written again, such as is: (stored_size + 2047) // 2048"
                        )
                elif name not in values:
                    raise ValueError(
                        f"the {key} of '{part.name}' reads '{name}', which no field says"
                        f"{near(name, [*leaves, *values])}"
                    )

    @staticmethod
    def _check_said(part: MembersPart | ChunksPart, known: dict[str, Part], values: Collection[str]) -> None:
        """What the members' facts read has to be there."""
        table = part if isinstance(part, ChunksPart) else known.get(part.of or "")
        fields = {leaf.field for leaf in table.leaves} if isinstance(table, Records) else set()
        numbers = {*values, *fields, *MEMBER_FACTS}
        if part.facts and part.kind is None:
            raise ValueError(f"'facts' of '{part.name}' are facts of a kind: say which, such as kind: texture")
        for name, one in {"kind": part.kind, **part.facts}.items():
            if not isinstance(one, Said) or one.of in fields:
                continue
            for read in sorted(expressions.field_names(one.of) - numbers):
                raise ValueError(
                    f"'{name}' of '{part.name}' reads '{read}', which no field says{near(read, numbers)}"
                )

    def _check_packers(self, part: MembersPart | ChunksPart, known: dict[str, Part]) -> None:
        names = {*packer_names(), *self.packers}
        table = part if isinstance(part, ChunksPart) else known.get(part.of or "")
        leaf = table.column("compression") if isinstance(table, Records) else None
        meanings = (leaf.meant.values or {}).values() if leaf else []
        for name in [part.compression, *(text for text in meanings if isinstance(text, str))]:
            if name not in names:
                raise ValueError(f"there is no packer '{name}'; known are {', '.join(sorted(names))}")

    def _check_mentions(self, part: Part, known: dict[str, Part], values: Collection[str]) -> None:
        if isinstance(part, Records):
            if isinstance(part, ChunksPart | TreePart) and any(leaf.meant.is_ is not None for leaf in part.leaves):
                raise ValueError(f"'is' is for the records of a table, and '{part.name}' is none")
            for column in [*part.record, *(part.folder if isinstance(part, TreePart) else [])]:
                if column.table is not None and not isinstance(known.get(column.table), TablePart):
                    raise ValueError(f"'{column.field}' points into '{column.table}', which is no table")
                if column.role in ("reference", "owner") and column.table is None:
                    raise ValueError(f"'{column.field}' refers to records, and needs 'in' to say of which table")
        if not isinstance(part, FieldPart):
            return
        over = part.checksum.over if part.checksum and isinstance(part.checksum.over, list) else []
        for name in over:
            if name not in known:
                raise ValueError(f"'{part.field}' speaks of '{name}', which is no part{near(name, known)}")
        for function, name in expressions.calls(part.is_) if part.is_ is not None else []:
            if function == "file_size":
                if name not in {MAIN, *self.files}:
                    raise ValueError(f"'{part.field}' speaks of the file '{name}', which 'files' does not name")
            elif name not in known:
                raise ValueError(f"'{part.field}' speaks of '{name}', which is no part{near(name, known)}")
            elif function == "count" and not isinstance(known[name], TablePart):
                raise ValueError(f"'{part.field}' counts '{name}', which is no table")
            elif function == "real_size" and not isinstance(known[name], MembersPart | ChunksPart):
                raise ValueError(f"'{part.field}' asks for the unpacked bytes of '{name}', which holds no members")
        missing = expressions.field_names(part.is_) - set(values) if part.is_ is not None else set()
        if missing:
            raise ValueError(f"'{part.field}' reads '{missing.pop()}', which no field says")

    def pieces(self, stem: str) -> dict[str, str]:
        """The pieces of a main file's name (without its ending); none where it is not of the layout's form."""
        if self.stem is None:
            return {}
        form = "".join(
            re.escape(text) + (f"(?P<{word}>.+)" if word else "") for text, word, *_ in Formatter().parse(self.stem)
        )
        found = re.fullmatch(form, stem[:_LONGEST_NAME])
        return found.groupdict() if found is not None else dict.fromkeys(_pieces(self.stem), stem)

    @property
    def hashed(self) -> bool:
        """Whether members are known by hashes of their names only."""
        return any(isinstance(part, Records) and part.column("name-hash") for part in self.parts)

    @property
    def content(self) -> MembersPart | ChunksPart | None:
        """The part that holds the members."""
        return next((part for part in self.parts if isinstance(part, MembersPart | ChunksPart)), None)

    def only(self, kind: type[Any]) -> Any:
        """The one part of a kind (members, pixels), or None."""
        return next((part for part in self.parts if isinstance(part, kind)), None)

    @cached_property
    def signs(self) -> Signs:
        """What files of this format are known by."""
        return Signs(self.kind, tuple(self.match.names), self.match.size, tuple(self.magic))

    @cached_property
    def magic(self) -> list[tuple[int, bytes]]:
        """Offsets and bytes that every file of this format has, as far as they lie at fixed places.

        An offset below zero counts from the end of the file.
        """
        found: list[tuple[int, bytes]] = []
        offset: int | None = 0
        for part in self.parts:
            if part.file != MAIN:
                continue
            if part.at is not None:
                offset = self.fixed_place(part.at)
            elif offset is not None and part.align > 1:
                offset = offset + -offset % part.align if offset >= 0 else None
            size = part.width if isinstance(part, FieldPart) and not part.end else None
            if isinstance(part, BytesPart) and isinstance(part.size, int):
                size = part.size
            plain = not any(step.fields for step in getattr(part, "obfuscation", []))
            if isinstance(part, FieldPart) and part.value is not None and size and offset is not None and plain:
                if isinstance(part.value, str):
                    raw = part.value.encode("latin-1", "replace").ljust(size, b"\0")
                else:
                    raw = (part.value & ((1 << 8 * size) - 1)).to_bytes(size, self.endian)
                found.append((offset, hide(part.obfuscation, raw)))
            offset = offset + size if offset is not None and size else None
        return found

    @staticmethod
    def fixed_place(at: int | str) -> int | None:
        """A place that does not depend on the file: from its beginning, or (below zero) from its end."""
        if not expressions.field_names(at):
            return expressions.evaluate(at, {})
        if expressions.field_names(at) == {"file_size"}:
            places = [expressions.evaluate(at, {"file_size": size}) - size for size in (1 << 20, 1 << 21)]
            if places[0] == places[1] < 0:
                return places[0]
        return None


Checksum.model_rebuild()
FieldPart.model_rebuild()
