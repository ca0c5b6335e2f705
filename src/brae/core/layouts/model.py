"""The layout language: a proprietary format described as data.

A layout is a list of *parts* in the order in which they lie in the file. Each part is named by the key that
says what it is, such as ``field``, ``table``, ``members``, ``pixels`` or ``frames``.
Reading and writing both follow from this one description; docs/layouts.md explains it with examples.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Mapping
from functools import cached_property
from string import Formatter
from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from brae.core.compression import described
from brae.core.compression import names as packer_names
from brae.core.errors import LayoutError
from brae.core.layouts import expressions
from brae.core.layouts.checks import check_kind, check_reads
from brae.core.layouts.fields import (
    MEMBER_FACTS,
    Bits,
    BytesPart,
    Column,
    Expression,
    FieldPart,
    Leaf,
    Name,
    Strict,
    check_inside,
    near,
)
from brae.core.layouts.frames import FramesPart
from brae.core.layouts.geometry import IndicesPart, VerticesPart
from brae.core.layouts.obfuscation import hide
from brae.core.layouts.parts import (
    ChunksPart,
    Content,
    MembersPart,
    NamesPart,
    Part,
    StreamPart,
    TablePart,
    TreePart,
)
from brae.core.layouts.pixels import PaletteOf, PixelsPart
from brae.core.layouts.records import Fact, Records, Said, leaves_of
from brae.core.layouts.signs import Signs
from brae.core.sources import MAIN

#: pieces of a name; each more makes telling them apart that much longer
_MOST_PIECES = 3


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
    check_inside(pattern)
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
    if len(words) > _MOST_PIECES:
        raise ValueError(f"'{template}' divides a name into more than {_MOST_PIECES} pieces")
    return words


_LONGEST_NAME = 255
_PIECE = re.compile(r"[a-z][a-z0-9_]{0,31}")


class Layout(Strict):
    """A proprietary format, described as data."""

    layout: Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9\-]{0,63}$", description="its identifier")]
    title: str
    kind: Literal["archive", "texture", "mesh", "sprite", "screen", "palette", "material", "track", "sound", "swap"]
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
    parts: Annotated[list[Part], Field(min_length=1, max_length=500)]

    @model_validator(mode="after")
    def _consistent(self) -> Layout:
        described.check(self.packers)
        if isinstance(self.files.get(MAIN), str):
            raise ValueError("'main' is the file itself; in 'files' it can only be continued in numbered files")
        pieces = dict.fromkeys(_pieces(self.stem) if self.stem is not None else [], "a")
        pieces |= dict.fromkeys(self._naming_fields(), "a")
        for pattern in self.files.values():
            if isinstance(pattern, str):
                _check_file_name(pattern, **pieces)
        known: dict[str, Part] = {}
        values = {"file_size"} | {f"{name}_size" for name in self.files}
        for part in self.parts:
            if part.name in known:
                raise ValueError(f"two parts are called '{part.name}'")
            stream = known.get(part.file)
            if part.file != MAIN and part.file not in self.files and not isinstance(stream, StreamPart):
                raise ValueError(f"'{part.name}' lies in '{part.file}', which 'files' does not name")
            if isinstance(stream, StreamPart) and not isinstance(part, MembersPart):
                raise ValueError(f"'{part.name}' cannot lie in '{part.file}': only members can")
            if isinstance(part, StreamPart):
                self._check_stream(part, known)
            keys = ["at", "count", "size", "length", "base", "folders", "real", "align_from", "block", "total"]
            if isinstance(part, MembersPart) and part.of is not None:
                keys = ["at", "base", "align_from"]  # the others are over the fields of each record
            wanted = [*(getattr(part, key, None) for key in keys), *part.sums.values()]
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
            for key in ("record", "folder", "head"):
                self._check_lengths(getattr(part, key, []), values)
            if isinstance(part, MembersPart):
                self._check_members(part, known, values)
            if isinstance(part, MembersPart | ChunksPart):
                self._check_packers(part, known)
                self._check_said(part, known, values)
            known[part.name] = part
            if isinstance(part, StreamPart):
                values.add(f"{part.stream}_size")
            if isinstance(part, FieldPart) and part.number_like:
                values |= {part.field} | {piece.field for piece in part.bits or []}
        for part in self.parts:
            self._check_mentions(part, known, values)
        check_kind(self.kind, known, values)
        return self

    def _naming_fields(self) -> list[str]:
        """The fields that can name another file: texts of the main one, before any of another is read."""
        found = []
        for part in self.parts:
            if part.file != MAIN:
                break
            if isinstance(part, FieldPart) and part.type == "string":
                found.append(part.field)
        return found

    @cached_property
    def naming(self) -> list[str]:
        """The fields whose texts are in the names of other files."""
        patterns = [pattern for pattern in self.files.values() if isinstance(pattern, str)]
        words = {word for pattern in patterns for _, word, *_ in Formatter().parse(pattern) if word is not None}
        return [name for name in self._naming_fields() if name in words]

    def source(self, fact: Fact) -> tuple[FieldPart | Bits | None, Mapping[Any, Any] | None] | None:
        """The header's field that a fact is, and what its values mean; no field where it is a sum over several.

        None where the fact is so for all.
        """
        of = fact.of if isinstance(fact, Said) else fact
        if not isinstance(of, str):
            return None
        said = fact.values if isinstance(fact, Said) else None
        meant = self.header_field(of)
        if meant is not None:
            return meant, said if said is not None else meant.values
        return (None, said) if isinstance(fact, Said) or self._is_sum(of) else None

    def member_source(
        self, part: Content, fact: Fact
    ) -> tuple[Leaf | FieldPart | Bits | None, Mapping[Any, Any] | None] | None:
        """The same of a member's fact, which may be a field of its record as well."""
        of = fact.of if isinstance(fact, Said) else fact
        table = part if isinstance(part, ChunksPart) else self._part(getattr(part, "of", None))
        leaves = {leaf.field: leaf for leaf in table.leaves} if isinstance(table, Records) else {}
        if isinstance(of, str) and of in leaves:
            said = fact.values if isinstance(fact, Said) else None
            return leaves[of], said if said is not None else leaves[of].meant.values
        if isinstance(of, str) and not isinstance(fact, Said) and self.header_field(of) is None:
            # A sum over a record's fields, or a word.
            pointed = self._pointed(table) if isinstance(table, Records) else []
            return (None, None) if self._is_sum(of, {*leaves, *MEMBER_FACTS, *pointed}) else None
        return self.source(fact)

    def _part(self, name: str | None) -> Part | None:
        return next((part for part in self.parts if part.name == name), None)

    def header_field(self, name: str) -> FieldPart | Bits | None:
        """The header's field of that name, or the piece of one."""
        return next((meant for meant in self._header_fields if meant.field == name), None)

    @property
    def _header_fields(self) -> Iterator[FieldPart | Bits]:
        for part in self.parts:
            if isinstance(part, FieldPart):
                yield part
                yield from part.bits or []

    def _is_sum(self, text: str, more: Collection[str] = ()) -> bool:
        """Whether a text is made of the header's fields, and of ``more``; else it is a word."""
        try:
            names = expressions.field_names(text)
        except LayoutError:
            return False
        return bool(names) and names <= {"file_size", *more, *(meant.field for meant in self._header_fields)}

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
        self._check_sums(part, table, {*values, *self._pointed(table)})
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

    def _check_said(self, part: MembersPart | ChunksPart, known: dict[str, Part], values: Collection[str]) -> None:
        """What the members' facts read has to be there."""
        table = part if isinstance(part, ChunksPart) else known.get(part.of or "")
        fields = {leaf.field for leaf in table.leaves} if isinstance(table, Records) else set()
        numbers = {*values, *MEMBER_FACTS}
        if isinstance(table, Records):
            numbers |= set(self._pointed(table))
        if part.facts and part.kind is None:
            raise ValueError(f"'facts' of '{part.name}' are facts of a kind: say which, such as kind: texture")
        kind = {"kind": part.kind} if part.kind is not None else {}
        check_reads({**kind, **part.facts}, fields, numbers)

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
            for leaf in [*part.leaves, *(leaves_of(part.folder) if isinstance(part, TreePart) else [])]:
                if leaf.meant.table is not None and not isinstance(known.get(leaf.meant.table), TablePart):
                    raise ValueError(f"'{leaf.field}' points into '{leaf.meant.table}', which is no table")
                if leaf.meant.role in ("reference", "owner") and leaf.meant.table is None:
                    raise ValueError(f"'{leaf.field}' refers to records, and needs 'in' to say of which table")
                self._check_sum(part, leaf)
            self._check_record(part, values)
        if isinstance(part, TablePart) and part.grouped_by is not None:
            self._check_groups(part, known)
        for name in part.of if isinstance(part, NamesPart) else ():
            if not isinstance(known.get(name), TablePart):
                raise ValueError(f"'{part.name}' holds names of '{name}', which is no table{near(name, known)}")
        if not isinstance(part, FieldPart):
            return
        over = part.checksum.over if part.checksum and isinstance(part.checksum.over, list) else []
        for name in over:
            if name not in known:
                raise ValueError(f"'{part.field}' speaks of '{name}', which is no part{near(name, known)}")
        for function, name in expressions.calls(part.is_) if part.is_ is not None else []:
            if function == "file_size":
                if name not in {MAIN, *self.files, *self.streams}:
                    raise ValueError(f"'{part.field}' speaks of the file '{name}', which 'files' does not name")
            elif name not in known:
                raise ValueError(f"'{part.field}' speaks of '{name}', which is no part{near(name, known)}")
            elif function == "count" and not isinstance(
                known[name], TablePart | ChunksPart | VerticesPart | IndicesPart
            ):
                raise ValueError(f"'{part.field}' counts '{name}', which is no table")
            elif function == "folders" and not isinstance(known[name], TreePart):
                raise ValueError(f"'{part.field}' counts the folders of '{name}', which is no tree")
            elif function == "real_size" and not isinstance(known[name], MembersPart | ChunksPart):
                raise ValueError(f"'{part.field}' asks for the unpacked bytes of '{name}', which holds no members")
        missing = expressions.field_names(part.is_) - set(values) if part.is_ is not None else set()
        if missing:
            raise ValueError(f"'{part.field}' reads '{missing.pop()}', which no field says")

    @staticmethod
    def _check_lengths(record: list[Column], values: Collection[str]) -> None:
        """What the lengths of a record's strings read has to stand before it."""
        before = set(values)
        for column in record:
            if isinstance(column.length, str):
                for name in sorted(expressions.field_names(column.length) - before):
                    raise ValueError(
                        f"the length of '{column.field}' reads '{name}', which no field before it says"
                        f"{near(name, before)}"
                    )
            before.add(column.field)

    def _check_record(self, part: Records, values: Collection[str]) -> None:
        """What the fields of a record that follow from its member are made of."""
        fields = [leaf.field for leaf in part.leaves]
        others = self._pointed(part)
        for leaf in part.leaves:
            if leaf.meant.is_ is None:
                continue
            known = [*MEMBER_FACTS, *(name for name in fields if name != leaf.field), *values, *others]
            for name in sorted(expressions.field_names(leaf.meant.is_) - set(known)):
                raise ValueError(
                    f"'{leaf.field}' is made of '{name}', which is nothing of a member{near(name, known)}; "
                    f"known are {', '.join(MEMBER_FACTS)}"
                )

    def _pointed(self, part: Records) -> list[str]:
        """What can be read of the records that a record points to: ``folder.start``."""
        found = []
        for leaf in part.leaves:
            other = self._part(leaf.meant.table)
            if isinstance(other, TablePart):
                found += [f"{leaf.field}.{one.field}" for one in other.leaves if one.column.number_like]
        return found

    @staticmethod
    def _check_sum(part: Records, leaf: Leaf) -> None:
        """What a record's checksum covers has to be there, and what of it can be written again."""
        if leaf.meant.checksum is None or not isinstance(leaf.meant.checksum.over, list):
            return
        fields = {column.field: column for column in part.record}
        for name in leaf.meant.checksum.over:
            if name not in {*fields, "stored", "real", "record"}:
                known = [*fields, "stored", "real", "record"]
                raise ValueError(
                    f"'{leaf.field}' is a checksum over '{name}', which the record does not have{near(name, known)}"
                )
        mixed = {"stored", "real"} & set(leaf.meant.checksum.over)
        if mixed and not isinstance(part, ChunksPart) and len(leaf.meant.checksum.over) > 1:
            raise ValueError(
                f"'{leaf.field}' is a checksum over a member and fields of its record; that is for chunks"
            )

    @staticmethod
    def _check_groups(part: TablePart, known: dict[str, Part]) -> None:
        groups = known.get(part.grouped_by or "")
        if not isinstance(groups, TablePart):
            raise ValueError(
                f"'{part.name}' is grouped by '{part.grouped_by}', which is no table"
                f"{near(part.grouped_by or '', known)}"
            )
        if groups.column("member-count") is None:
            raise ValueError(f"'{groups.name}' groups records, and needs a field with the role member-count")
        if part.separate and (groups.column("offset") is None or groups.column("first-member") is not None):
            raise ValueError(
                f"the records of '{part.name}' lie by themselves, so '{groups.name}' needs a field with the role "
                "offset, and none with first-member"
            )
        if part.column("folder") is not None or part.column("parent") is not None:
            raise ValueError(f"'{part.name}' says its folders twice: by its groups and by a field")

    def _check_stream(self, part: StreamPart, known: dict[str, Part]) -> None:
        table = known.get(part.of)
        if not isinstance(table, TablePart):
            raise ValueError(f"'{part.stream}' needs the table '{part.of}' before it{near(part.of, known)}")
        if table.column("stored-size") is None or not table.fixed:
            raise ValueError(f"the table '{part.of}' needs records of one size, with the role stored-size")
        if part.block is None and table.column("real-size") is None:
            raise ValueError(f"'{part.stream}' needs 'block', or the role real-size in '{part.of}'")
        if part.stream == MAIN or part.stream in self.files:
            raise ValueError(f"'{part.stream}' is called like a file")
        leaf = table.column("compression")
        names = {*packer_names(), *self.packers}
        for name in [part.compression, *(leaf.meant.values or {}).values()] if leaf else [part.compression]:
            if name not in names:
                raise ValueError(f"there is no packer '{name}'; known are {', '.join(sorted(names))}")

    def total_of(self, stream: str) -> str | None:
        """The field of the header that is said to be what all blocks of a stream unpack to."""
        fields = (part for part in self.parts if isinstance(part, FieldPart))
        return next((part.field for part in fields if part.call == ("file_size", stream)), None)

    @property
    def streams(self) -> dict[str, StreamPart]:
        """The files that are made of packed blocks, by name."""
        return {part.stream: part for part in self.parts if isinstance(part, StreamPart)}

    def pieces(self, stem: str) -> dict[str, str]:
        """The pieces of a main file's name (without its ending); none where it is not of the layout's form."""
        if self.stem is None:
            return {}
        form = "".join(
            re.escape(text) + (f"(?P<{word}>.+)" if word else "") for text, word, *_ in Formatter().parse(self.stem)
        )
        found = re.fullmatch(form, stem[:_LONGEST_NAME])
        return found.groupdict() if found is not None else dict.fromkeys(_pieces(self.stem), stem)

    @cached_property
    def hashed(self) -> bool:
        """Whether members are known by hashes of their names only."""
        return any(isinstance(part, Records) and part.column("name-hash") for part in self.parts)

    @cached_property
    def linked(self) -> bool:
        """Whether members refer to each other."""
        return any(isinstance(part, Records) and part.column("reference") for part in self.parts)

    @cached_property
    def content(self) -> MembersPart | ChunksPart | None:
        """The part that holds the members."""
        return next((part for part in self.parts if isinstance(part, MembersPart | ChunksPart)), None)

    def only(self, kind: type[Any]) -> Any:
        """The one part of a kind (members, pixels), or None."""
        return next((part for part in self.parts if isinstance(part, kind)), None)

    @property
    def streamed(self) -> bool:
        """Whether the larger levels of such textures are in other items."""
        return any(isinstance(part, PixelsPart) and part.elsewhere is not None for part in self.parts)

    @cached_property
    def _palettes(self) -> list[PaletteOf]:
        """The palettes that other items hold."""
        found = [part.palette for part in self.parts if isinstance(part, PixelsPart | FramesPart)]
        return [one for one in found if one is not None and one.elsewhere]

    @property
    def has_others(self) -> bool:
        """Whether such items are read with the bytes of others."""
        return bool(self._palettes)

    def may_need(self, name: str) -> bool:
        """Whether an item of that name can be one with whose bytes such items are read."""
        return any(one.form.fullmatch(name) or one.form.fullmatch(f"/{name}") for one in self._palettes)

    def others(self, name: str) -> list[str]:
        """The names of the items with whose bytes the item ``name`` is read, as far as the layout says them."""
        return [found for one in self._palettes if (found := one.item(name)) is not None]

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
            elif part.sums:
                offset = None
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
