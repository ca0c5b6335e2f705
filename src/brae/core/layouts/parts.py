"""The parts that lie in a file: tables and trees of records, names, chunks, members; and one of any sort."""

from __future__ import annotations

from collections.abc import Collection
from functools import cached_property
from typing import Annotated, Any, Literal

from pydantic import BaseModel, Discriminator, Field, Tag, model_validator

from brae.core.compression import names as packer_names
from brae.core.layouts.areas import AreasPart
from brae.core.layouts.fields import (
    BytesPart,
    Column,
    Encoding,
    Expression,
    FieldPart,
    Hidden,
    Name,
    Placed,
    Strict,
)
from brae.core.layouts.frames import FramesPart
from brae.core.layouts.geometry import IndicesPart, SkeletonPart, VerticesPart
from brae.core.layouts.materials import MaterialPart
from brae.core.layouts.obfuscation import Steps
from brae.core.layouts.pixels import ColoursPart, PixelsPart
from brae.core.layouts.records import Fact, Records, Said, check_columns
from brae.core.layouts.swaps import SwapsPart
from brae.core.layouts.tracks import TrackPart


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
    grouped_by: Name | None = Field(
        None, description="the table of folders whose records say how many of these records are in each"
    )
    separate: bool = Field(
        False, description="each folder's records lie by themselves, where the folder's record (its offset) says"
    )

    @property
    def name(self) -> str:
        return self.table

    @model_validator(mode="after")
    def _ended(self) -> TablePart:
        if self.separate:
            if self.grouped_by is None or self.at is not None:
                raise ValueError(
                    "'separate' is for records that are 'grouped_by' a table, which says where they are"
                )
            if any(value is not None for value in (self.count, self.size, self.until)):
                raise ValueError("the folders' records count 'separate' ones: leave count, size and until out")
            return self
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
        check_columns(self.folder)
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
    of: list[Name] = Field(
        default_factory=list, description="the tables whose records' names these are, one table after the other"
    )

    @property
    def name(self) -> str:
        return self.names

    @model_validator(mode="after")
    def _ended(self) -> NamesPart:
        if (self.size is None) == (self.count is None):
            raise ValueError("a block of names has either a size or a count")
        if self.of and not self.in_order:
            raise ValueError("'of' says whose names come first where they are 'in_order'")
        return self


class Content(Placed):
    """How members are kept, and what they are."""

    kind: str | Said | None = Field(
        None, description="what the members are, such as 'texture', where their own bytes do not tell"
    )
    facts: dict[Name, Fact] = Field(
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


#: what a field in front of a member's data can say: the same as the member's record
HEAD_ROLES = ("name", "stored-size", "real-size", "compression", "checksum", "id")


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
    head: list[Column] = Field(
        default_factory=list,
        max_length=100,
        description="a record in front of each member's data, where its offset points",
    )

    @property
    def name(self) -> str:
        return self.members

    @cached_property
    def heads(self) -> Records | None:
        """What stands in front of each member's data, as records."""
        return Records(record=self.head) if self.head else None

    @model_validator(mode="after")
    def _headed(self) -> MembersPart:
        for column in self.head:
            if column.bits or column.is_ is not None or column.role not in (None, *HEAD_ROLES):
                raise ValueError(
                    f"'{column.field}' stands in front of a member: what it can say is {', '.join(HEAD_ROLES)}"
                )
        if self.head and self.of is None:
            raise ValueError("'head' is for the members of a table")
        return self


class StreamPart(Hidden):
    """Blocks packed one by one that are read as a file of their own, in which members lie."""

    stream: Name = Field(description="what that file is called: parts behind this one can have it as their 'file'")
    of: Name = Field(description="the table of the blocks, with the role stored-size")
    block: Expression | None = Field(
        None, description="bytes that every block but the last unpacks to, where no field says it"
    )
    total: Expression | None = Field(None, description="bytes of all of them unpacked, where a field says it")
    base: Expression = Field(0, description="what the blocks' offsets are counted from")
    compression: Annotated[str, Field(json_schema_extra={"examples": packer_names()})] = "none"
    unpacked: Literal["never", "equal"] = Field(
        "never", description="a block is not packed where its stored size equals what it unpacks to"
    )
    short: bool = Field(
        False, description="a block ends where its member ends; in the file it fills its whole place all the same"
    )
    pad_last: bool = Field(True, description="whether the last block is padded like the others")

    @property
    def name(self) -> str:
        return self.stream

    @model_validator(mode="after")
    def _sized(self) -> StreamPart:
        if self.short and self.block is None:
            raise ValueError("'short' blocks need 'block', the bytes of a whole one")
        return self


class ChunksPart(Records, Content):
    """Records that each stand before their own data: tag, size, data, padding, and the next."""

    chunks: Name
    size: Expression | None = Field(None, description="bytes of all chunks; without it, to the end of the file")
    nest: dict[str, Annotated[int, Field(ge=0, le=65536)]] = Field(
        default_factory=dict, description="chunks that hold chunks, and how many bytes stand before those"
    )
    until: Until | None = None
    behind: list[Column] = Field(
        default_factory=list, max_length=50, description="fields behind each chunk's data, before its padding"
    )
    named_by: list[str] = Field(
        default_factory=list, description="chunks whose text is the name of the one behind them, and no member"
    )

    @property
    def name(self) -> str:
        return self.chunks

    @cached_property
    def tail(self) -> Records | None:
        """What stands behind each chunk's data, as records."""
        return Records(record=self.behind) if self.behind else None

    @cached_property
    def whole(self) -> Records:
        """A chunk's record and what stands behind its data, as one record."""
        return Records(record=[*self.record, *self.behind])

    @model_validator(mode="after")
    def _sized(self) -> ChunksPart:
        size = self.column("stored-size")
        if size is None or size.column.type == "varint":
            raise ValueError("chunks need a field with the role stored-size")
        if self.behind:
            check_columns([*self.record, *self.behind])
            if not all(column.width for column in self.behind):
                raise ValueError("fields 'behind' a chunk's data have a fixed size each")
            if odd := next((c for c in self.behind if c.role not in (None, "checksum") or c.is_ is not None), None):
                raise ValueError(f"'{odd.field}' is behind the data: such fields are kept, or are checksums")
        if self.named_by and self.column("name") is None:
            raise ValueError("'named_by' needs a field with the role name, such as the chunk's tag")
        if both := sorted(set(self.named_by) & self.nest.keys()):
            raise ValueError(f"'{both[0]}' holds chunks, so it cannot be a name as well")
        return self


def _part_kind(value: Any) -> str | None:
    if isinstance(value, BaseModel):
        keys: Collection[str] = type(value).model_fields
    else:
        keys = value if isinstance(value, dict) else ()
    return next((kind for kind in _PART_KINDS if kind in keys), None)


_PART_KINDS = (
    "table", "tree", "chunks", "stream", "names", "members", "areas", "skeleton", "material", "track", "swaps",
    "colours", "frames", "pixels", "vertices", "indices", "bytes", "field",
)  # fmt: skip
Part = Annotated[
    Annotated[FieldPart, Tag("field")]
    | Annotated[BytesPart, Tag("bytes")]
    | Annotated[VerticesPart, Tag("vertices")]
    | Annotated[IndicesPart, Tag("indices")]
    | Annotated[TablePart, Tag("table")]
    | Annotated[TreePart, Tag("tree")]
    | Annotated[ChunksPart, Tag("chunks")]
    | Annotated[StreamPart, Tag("stream")]
    | Annotated[NamesPart, Tag("names")]
    | Annotated[MembersPart, Tag("members")]
    | Annotated[PixelsPart, Tag("pixels")]
    | Annotated[FramesPart, Tag("frames")]
    | Annotated[AreasPart, Tag("areas")]
    | Annotated[SkeletonPart, Tag("skeleton")]
    | Annotated[MaterialPart, Tag("material")]
    | Annotated[TrackPart, Tag("track")]
    | Annotated[SwapsPart, Tag("swaps")]
    | Annotated[ColoursPart, Tag("colours")],
    Discriminator(
        _part_kind,
        custom_error_type="part_kind",
        custom_error_message="a part needs one of: " + ", ".join(reversed(_PART_KINDS)),
    ),
]
