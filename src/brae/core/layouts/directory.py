"""What the records say about members: where each lies, how large it is, how it is packed and called."""

from __future__ import annotations

import fnmatch
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from brae.core.errors import FormatError, LayoutError, TruncatedError
from brae.core.layouts import hashes
from brae.core.layouts.expressions import evaluate, evaluate_columns
from brae.core.layouts.fields import Leaf
from brae.core.layouts.model import Numbered
from brae.core.layouts.parts import ChunksPart, Content, MembersPart, NamesPart, TablePart
from brae.core.layouts.read import Parsed, Region
from brae.core.layouts.reading import RecordValues
from brae.core.layouts.records import Records
from brae.core.layouts.rows import Ints, Rows, check_constants, decode, rows_of
from brae.core.layouts.streams import BlockSource
from brae.core.layouts.trees import joined
from brae.core.layouts.windows import Window
from brae.core.sources import JoinedSource


@dataclass
class Directory:
    """One entry a member, in the order of the records.

    ``rows`` are the records' numbers, ``offsets`` absolute, ``real`` the unpacked sizes (-1 where nothing says
    them), ``packing`` the records' compression numbers (None where none has one).
    """

    part: MembersPart | ChunksPart
    records: Records | None
    table: Rows | None
    rows: Ints
    offsets: Ints
    stored: Ints
    real: Ints
    packing: np.ndarray[Any, Any] | None
    names: list[str]
    #: where the members' data ends, without the last one's padding
    end: int = 0
    aligns: Ints = field(default_factory=lambda: np.empty(0, np.int64))
    #: where records name numbered files: where each of these ends when they are read as one, and which is whose
    walls: list[int] = field(default_factory=list)
    numbers: Ints = field(default_factory=lambda: np.empty(0, np.int64))
    #: the record in front of each member's data, in the members' order, and its bytes
    heads: Rows | None = None
    before: Ints = field(default_factory=lambda: np.empty(0, np.int64))

    def leaf(self, role: str) -> Leaf | None:
        """What plays a role in the records."""
        return self.records.column(role) if self.records is not None else None


def directory(parsed: Parsed, known_names: Iterable[str] = ()) -> Directory:
    """The members of an archive.

    Raises FormatError or TruncatedError where a record's numbers are beyond the file.
    """
    content = parsed.layout.content
    assert content is not None
    part = parsed.regions[content.name].part
    assert isinstance(part, MembersPart | ChunksPart)
    if isinstance(part, ChunksPart):
        found = _of_chunks(parsed, part)
    elif part.of is None:
        found = _lone(parsed, part)
    else:
        found = _of_table(parsed, part, known_names)
        _end_members(parsed, part, found)
        source = parsed.sources[part.file]
        if isinstance(source, BlockSource) and source.blocks.part.short:
            source.blocks.reach(found.offsets, found.stored)
    found.aligns = alignments(part, found.names)
    return found


def _end_members(parsed: Parsed, part: MembersPart, found: Directory) -> None:
    """Give the members' region its end: behind the last member, with its padding."""
    region, end = parsed.regions[part.name], found.end
    others = [r.start for r in parsed.regions.values() if r.file == part.file and r.part is not part]
    limit = min([start for start in others if start >= max(end, 1)] + [parsed.sources[part.file].size])
    if part.pad_last:
        origin = evaluate(part.align_from, parsed.values)
        end = max(min(end + ((origin - end) % part.align), limit), end)
    parsed.regions[part.name] = Region(part, part.file, region.start, end)


def alignments(part: Content, names: Sequence[str]) -> Ints:
    """What each member's offset is a multiple of."""
    result = np.full(len(names), part.align, np.int64)
    for pattern, align in reversed(part.align_by.items()):
        for index, name in enumerate(names):
            if fnmatch.fnmatch(name.lower(), pattern.lower()):
                result[index] = align
    return result


def _of_chunks(parsed: Parsed, part: ChunksPart) -> Directory:
    chunks = parsed.chunks
    assert chunks is not None
    rows = chunks.members
    stored = chunks.sizes[rows]
    names = [chunks.names[row] for row in rows]
    if part.column("name") is None:
        names = numbered(len(rows))
    packer = part.column("compression")
    return Directory(
        part, part, chunks.rows, rows, chunks.starts[rows], stored,
        _real(parsed, part, part, chunks.rows, rows, stored),
        None if packer is None else chunks.rows.raw(packer.field)[rows],
        names, chunks.end,
    )  # fmt: skip


def _lone(parsed: Parsed, part: MembersPart) -> Directory:
    region = parsed.regions[part.name]
    stored = np.array([region.end - region.start], np.int64)
    real = stored if part.compression == "none" else np.array([-1], np.int64)
    if part.real is not None:
        real = np.array([evaluate(part.real, parsed.values)], np.int64)
    return Directory(
        part, None, None, np.array([0]), np.array([region.start]), stored, real, None, ["content"], region.end
    )


def _of_table(parsed: Parsed, part: MembersPart, known_names: Iterable[str]) -> Directory:
    assert part.of is not None
    region, table = parsed.regions[part.of], parsed.tables[part.of]
    records = region.part
    assert isinstance(records, Records)
    rows = np.arange(len(table))
    if part.last_ends and len(rows):
        rows = rows[:-1]
    for name, wanted in part.where.items():
        numbers = table.raw(name)[rows].astype(np.int64)
        rows = rows[np.isin(numbers, wanted if isinstance(wanted, list) else [wanted])]
    numbers, walls = _numbered(parsed, part, records, table, rows)
    begins = np.array([0, *walls], np.int64)[numbers]
    offsets, stored = _places(parsed, part, records, table, rows, begins, walls)
    size = parsed.sources[part.file].size
    ends = np.full(len(rows), size)
    if walls:
        ends = np.array(walls, np.int64)[numbers]
    bad = np.flatnonzero((offsets < begins) | (stored < 0) | (offsets + stored > ends))
    if len(bad):
        first = int(bad[0])
        row = int(rows[first])
        raise TruncatedError(
            f"{part.of}[{row}] says its data is {stored[first]} bytes at {(offsets - begins)[first]}, outside the "
            "file.",
            offset=parsed.place(part.of, table.start(row)),
            expected=f"an end up to {(ends - begins)[first]}",
            remedy="The directory is damaged or the data file is cut short: fetch both again from the game.",
        )
    heads, before = _heads(parsed, part, offsets)
    offsets = offsets + before
    real = _real(parsed, part, records, table, rows, stored)
    zero = part.unpacked == "zero" and records.column("real-size") is not None
    if zero:
        stored = np.where(stored == 0, real, stored)
    if (zero or heads is not None) and np.any(offsets + stored > size):
        raise TruncatedError("A member ends outside the file.", offset=region.start)
    packer = records.column("compression")
    names = record_names(parsed, records, table, known_names)
    return Directory(
        part, records, table, rows, offsets, stored, real,
        None if packer is None else table.raw(packer.field)[rows],
        [names[row] for row in rows.tolist()] if len(rows) != len(names) else names,
        walls[-1] if walls else int((offsets + stored).max(initial=parsed.regions[part.name].start)),
        walls=walls, numbers=numbers, heads=heads, before=before,
    )  # fmt: skip


def _heads(parsed: Parsed, part: MembersPart, offsets: Ints) -> tuple[Rows | None, Ints]:
    """What stands in front of each member's data, and how many bytes that is."""
    before, records = np.zeros(len(offsets), np.int64), part.heads
    if records is None:
        return None, before
    source, endian = parsed.sources[part.file], parsed.layout.endian
    window = Window(records, endian, source)
    block: list[bytes] = [b""] * len(offsets)
    for index in np.argsort(offsets, kind="stable").tolist():
        block[index] = window.record(int(offsets[index]), source.size, f"What stands in front of member {index}")
        before[index] = len(block[index])
    rows = rows_of(records, endian, b"".join(block), len(block))
    check_constants(records, rows, part.name)
    return rows, before


def _numbered(
    parsed: Parsed, part: MembersPart, records: Records, table: Rows, rows: Ints
) -> tuple[Ints, list[int]]:
    """The numbered file of each member, from 0, and where every one ends; no ends where records name no files."""
    leaf, source = records.column("file-number"), parsed.sources[part.file]
    if leaf is None:
        return np.zeros(len(rows), np.int64), []
    assert isinstance(source, JoinedSource)
    numbered = parsed.layout.files[part.file]
    assert isinstance(numbered, Numbered)
    which = table.numbers(leaf.field)[rows] - numbered.first
    bad = np.flatnonzero((which < 0) | (which >= len(source.joined)))
    if len(bad):
        row = int(rows[bad[0]])
        raise FormatError(
            f"{part.of}[{row}] lies in the file number {which[bad[0]] + numbered.first}, which is not there.",
            offset=parsed.place(part.of or "", table.start(row)),
            expected=f"a number from {numbered.first} to {numbered.first + len(source.joined) - 1}",
            remedy="Put all the numbered files beside this one.",
        )
    return which, source.starts[1:]


def _places(
    parsed: Parsed, part: MembersPart, records: Records, table: Rows, rows: Ints, begins: Ints, walls: list[int]
) -> tuple[Ints, Ints]:
    """Absolute offsets and stored sizes; ``begins`` is where each member's file begins, ``walls`` where all end."""
    base = evaluate(part.base, parsed.values) + begins
    if part.offset is not None or part.size is not None:
        return _summed_places(parsed, part, records, table, rows, base)
    at, size, end = (records.column(role) for role in ("offset", "stored-size", "end-offset"))
    for leaf in (at, size, end):
        if leaf is not None and not leaf.column.number_like:
            raise LayoutError(f"'{leaf.field}' is not a whole number, so it cannot be the {leaf.meant.role}.")
    if at is None:
        assert size is not None
        sizes = table.numbers(size.field)[rows]
        return _one_after_the_other(parsed, part, sizes), sizes
    offsets = table.numbers(at.field)[rows] + base
    if size is not None:
        return offsets, table.numbers(size.field)[rows]
    if end is not None:
        return offsets, table.numbers(end.field)[rows] + base - offsets
    file_size = parsed.sources[part.file].size
    if part.last_ends:
        last = int(table.numbers(at.field)[-1]) + evaluate(part.base, parsed.values) if len(table) else file_size
    else:
        later = [
            region.start
            for region in parsed.regions.values()
            if region.file == part.file and region.start >= offsets.max(initial=0) and region.part is not part
        ]
        last = min([file_size, *later])
    if np.all(offsets[1:] >= offsets[:-1]) and not walls:
        return offsets, np.append(offsets[1:], last)[: len(offsets)] - offsets
    starts = np.unique(np.concatenate([offsets, [last], np.array(walls, np.int64)]))
    following = np.searchsorted(starts, offsets, "right")
    ends = starts[np.minimum(following, len(starts) - 1)]
    return offsets, np.where(following < len(starts), ends, offsets) - offsets


def _summed_places(
    parsed: Parsed, part: MembersPart, records: Records, table: Rows, rows: Ints, base: Ints
) -> tuple[Ints, Ints]:
    """Offsets and stored sizes that are sums over the records' fields."""
    values = RecordValues(parsed, table, rows)
    at, size, end = (records.column(role) for role in ("offset", "stored-size", "end-offset"))
    stored: Ints | None = None
    if part.size is not None:
        stored = evaluate_columns(part.size, values, len(rows))
    elif size is not None:
        stored = values[size.field]
    if part.offset is not None:
        offsets = evaluate_columns(part.offset, values, len(rows)) + base
    elif at is not None:
        offsets = values[at.field] + base
    else:
        assert stored is not None
        return _one_after_the_other(parsed, part, stored), stored
    if stored is None:
        if end is None:
            raise LayoutError(f"'{part.name}' needs 'size', or a field that says where each member ends.")
        stored = values[end.field] + base - offsets
    return offsets, stored


def _one_after_the_other(parsed: Parsed, part: MembersPart, sizes: Ints) -> Ints:
    """Offsets where records only give sizes: each member follows the one before, aligned."""
    start = parsed.regions[part.name].start
    if not len(sizes):
        return np.empty(0, np.int64)
    if int(sizes.min()) < 0:
        return np.full(len(sizes), -1, np.int64)
    if int(np.minimum(sizes, 1 << 50).astype(np.float64).sum()) > parsed.sources[part.file].size:
        return np.full(len(sizes), parsed.sources[part.file].size + 1, np.int64)
    if part.align_by:
        raise LayoutError("'align_by' needs offsets in the records.")
    if part.align == 1:
        return start + np.concatenate([[0], np.cumsum(sizes)[:-1]]).astype(np.int64)
    first = start + ((evaluate(part.align_from, parsed.values) - start) % part.align)
    padded = sizes + (-sizes % part.align)
    return first + np.concatenate([[0], np.cumsum(padded)[:-1]]).astype(np.int64)


def _real(parsed: Parsed, part: Content, records: Records, table: Rows, rows: Ints, stored: Ints) -> Ints:
    """Unpacked sizes; -1 where only unpacking tells."""
    if isinstance(part, MembersPart) and part.real is not None:
        return evaluate_columns(part.real, RecordValues(parsed, table, rows), len(rows))
    leaf = records.column("real-size")
    if leaf is not None:
        return table.numbers(leaf.field)[rows]
    packer = records.column("compression")
    if packer is None:
        return stored if part.compression == "none" else np.full(len(rows), -1, np.int64)
    numbers = table.raw(packer.field)[rows].astype(np.int64)
    plain = [number for number, meaning in (packer.meant.values or {}).items() if meaning == "none"]
    return np.where(np.isin(numbers, plain), stored, -1)


def common_packing(found: Directory) -> int | None:
    """The compression number that most members have."""
    if found.packing is None or not len(found.packing):
        return None
    return int(Counter(found.packing.tolist()).most_common(1)[0][0])


# ---- names --------------------------------------------------------------------------------------------------


def numbered(count: int) -> list[str]:
    """Names of members that have none."""
    digits = max(4, len(str(count)))
    return [str(index).zfill(digits) for index in range(count)]


def record_names(parsed: Parsed, records: Records, table: Rows, known_names: Iterable[str]) -> list[str]:
    """One name for each record, with folders and ending."""
    found = _own_names(parsed, records, table)
    hashed = records.column("name-hash")
    if found is None and hashed is not None:
        spec = hashed.meant.hash
        assert spec is not None
        raw = table.raw(hashed.field)
        found = hashes.resolve(spec, raw, hashed.bits, [*parsed.layout.known_names, *known_names])
    if found is None and records.column("id") is not None:
        identity = records.column("id")
        assert identity is not None
        found = [str(number) for number in table.raw(identity.field).tolist()]
    if found is None:
        found = numbered(len(table))
    ending = records.column("extension")
    if ending is not None:
        endings = _meanings(parsed, ending, table)
        found = [f"{name}.{end}" if end else name for name, end in zip(found, endings, strict=True)]
    return _in_folders(parsed, records, table, found)


def _in_folders(parsed: Parsed, records: Records, table: Rows, names: list[str]) -> list[str]:
    tree = next((tree for tree in parsed.trees.values() if tree.files is table), None)
    if tree is not None:
        part = next(p for p in parsed.layout.parts if p.name in parsed.trees)
        column = next((c for c in part.folder if c.role == "name"), None)  # type: ignore[union-attr]
        texts = tree.folders.texts(column.field) if column else numbered(len(tree.folders))
        if part.folders is None:  # type: ignore[union-attr]
            texts[0] = ""
        paths = joined(tree.parents, texts)
        owners = tree.owners.tolist()
        return [
            f"{paths[owner]}/{name}" if owner >= 0 and paths[owner] else name
            for owner, name in zip(owners, names, strict=True)
        ]
    owners_of = group_owners(parsed, records)
    if owners_of is not None:
        paths = group_paths(parsed, records)
        return [
            f"{paths[owner]}/{name}" if owner >= 0 and paths[owner] else name
            for owner, name in zip(owners_of.tolist(), names, strict=True)
        ]
    folder = records.column("folder")
    if folder is None:
        parent = records.column("parent")
        return names if parent is None else joined(_parents(table, parent), names)
    folders = _meanings(parsed, folder, table)
    return [f"{path}/{name}" if path else name for path, name in zip(folders, names, strict=True)]


def group_paths(parsed: Parsed, records: Records) -> list[str]:
    """The paths of the folders by which records are grouped, in the folders' order."""
    assert isinstance(records, TablePart)
    groups = parsed.regions[records.grouped_by or ""].part
    assert isinstance(groups, TablePart)
    return record_names(parsed, groups, parsed.tables[groups.name], ())


def group_owners(parsed: Parsed, records: Records) -> Ints | None:
    """The folder of each record, by what the folders' records count; -1: in none. None where nothing groups them.

    Raises FormatError where a folder counts records that there are not, or that another one has counted.
    """
    if not isinstance(records, TablePart) or records.grouped_by is None:
        return None
    groups, table = parsed.regions[records.grouped_by].part, parsed.tables[records.grouped_by]
    assert isinstance(groups, TablePart)
    first, count = groups.column("first-member"), groups.column("member-count")
    assert count is not None
    counts = table.numbers(count.field)
    firsts = np.cumsum(counts) - counts if first is None else table.numbers(first.field)
    size = len(parsed.tables[records.name])
    owners = np.full(size, -1, np.int64)
    bad = np.flatnonzero((counts < 0) | ((counts > 0) & ((firsts < 0) | (firsts > size - counts))))
    for group in np.flatnonzero(counts > 0).tolist() if not len(bad) else []:
        mine = slice(int(firsts[group]), int(firsts[group] + counts[group]))
        if (owners[mine] >= 0).any():
            bad = np.array([group])
            break
        owners[mine] = group
    if len(bad):
        group = int(bad[0])
        raise FormatError(
            f"{groups.name}[{group}] says that it has {counts[group]} records from {firsts[group]} on.",
            offset=parsed.place(groups.name, table.start(group)),
            expected=f"some of the {size} records of '{records.name}' that no other one has",
        )
    return owners


def _parents(table: Rows, leaf: Leaf) -> Ints:
    """The record that each lies in; -1 where its number is no other record's."""
    parents = table.numbers(leaf.field)
    outside = (parents < 0) | (parents >= len(table)) | (parents == np.arange(len(table)))
    return np.where(outside, -1, parents)


def _meanings(parsed: Parsed, leaf: Leaf, table: Rows) -> list[str]:
    """A field as words: its own string, what its numbers mean, or the names of the records they point to."""
    column = leaf.column
    if not column.number_like:
        return [text.replace(column.slash, "/") for text in table.texts(leaf.field)]
    numbers = table.raw(leaf.field).astype(np.int64)
    if leaf.meant.table is None:
        return [str(leaf.meant.meaning(number)) for number in numbers.tolist()]
    other, records = parsed.tables[leaf.meant.table], parsed.regions[leaf.meant.table].part
    assert isinstance(records, TablePart)
    names = record_names(parsed, records, other, ())
    identity = records.column("id")
    if identity is not None:
        by_number = dict(zip(other.raw(identity.field).tolist(), names, strict=True))
        lost = (lambda number: "") if leaf.meant.role == "folder" else str
        return [by_number[number] if number in by_number else lost(number) for number in numbers.tolist()]
    return [names[number] if 0 <= number < len(names) else "" for number in numbers.tolist()]


def folder_numbers(parsed: Parsed, leaf: Leaf) -> dict[str, int]:
    """The number that stands for each folder in a field with the role 'folder'."""
    if leaf.meant.table is None:
        return {str(meaning): number for number, meaning in (leaf.meant.values or {}).items()}
    other, records = parsed.tables[leaf.meant.table], parsed.regions[leaf.meant.table].part
    assert isinstance(records, TablePart)
    names = record_names(parsed, records, other, ())
    identity = records.column("id")
    numbers = range(len(names)) if identity is None else other.raw(identity.field).tolist()
    return dict(zip(names, numbers, strict=True))


def _own_names(parsed: Parsed, records: Records, table: Rows) -> list[str] | None:
    inline, pointer = records.column("name"), records.column("name-offset")
    if inline is not None:
        column = inline.column
        texts = _meanings(parsed, inline, table) if column.number_like else table.texts(inline.field)
        return texts if column.slash == "/" else [text.replace(column.slash, "/") for text in texts]
    block_part = next((p for p in parsed.layout.parts if isinstance(p, NamesPart)), None)
    if pointer is None:
        if block_part is not None and block_part.in_order:
            return _in_order(parsed, block_part, records, table)
        return None
    if block_part is None:
        raise LayoutError("The role 'name-offset' needs a part 'names'.")
    block = parsed.content(block_part.name)
    places = table.numbers(pointer.field)
    if block_part.base is not None:
        places = places + evaluate(block_part.base, parsed.values) - parsed.regions[block_part.name].start
    bad = np.flatnonzero((places < 0) | (places >= max(len(block), 1)))
    if len(bad):
        raise FormatError(
            f"{records.name}[{bad[0]}].{pointer.field} points outside the names.",  # type: ignore[attr-defined]
            offset=parsed.place(records.name, table.start(int(bad[0]))),  # type: ignore[attr-defined]
            expected=f"a place below {len(block)}",
        )
    length_leaf = records.column("name-length")
    lengths = None if length_leaf is None else table.numbers(length_leaf.field)
    return _from_block(block, places, lengths, block_part, parsed.layout.endian)


def _from_block(block: bytes, places: Ints, lengths: Ints | None, part: NamesPart, endian: str) -> list[str]:
    def text(raw: bytes) -> str:
        found = decode(raw, part.encoding, endian)
        return found if part.slash == "/" else found.replace(part.slash, "/")

    if lengths is not None:
        return [
            text(block[place : place + max(length, 0)])
            for place, length in zip(places.tolist(), lengths.tolist(), strict=True)
        ]
    if part.encoding == "utf-16":
        units = np.frombuffer(block[: len(block) // 2 * 2], np.uint16)
        zeros = np.append(np.flatnonzero(units == 0), len(units)) * 2
        ends = zeros[np.searchsorted(zeros, places)]
        return [text(block[place:end]) for place, end in zip(places.tolist(), ends.tolist(), strict=True)]
    # Names that start where the one before ends: one split reads them all.
    starts = np.concatenate([[0], np.flatnonzero(np.frombuffer(block, np.uint8) == 0) + 1])
    which = np.searchsorted(starts, places)
    if part.encoding != "shift-jis" and np.array_equal(starts[np.minimum(which, len(starts) - 1)], places):
        texts = text(block).split("\0")
        return [texts[index] for index in which.tolist()]
    ends = np.append(starts[1:] - 1, len(block))[np.searchsorted(starts, places, "right") - 1]
    return [text(block[place:end]) for place, end in zip(places.tolist(), ends.tolist(), strict=True)]


def split_names(block: bytes, encoding: str) -> list[bytes]:
    """The names of a block, in order, without their zeros."""
    if not block:
        return []
    if encoding != "utf-16":
        return block.split(b"\0")[:-1] if block.endswith(b"\0") else block.split(b"\0")
    units = np.frombuffer(block[: len(block) // 2 * 2], np.uint16)
    ends = (np.append(np.flatnonzero(units == 0), len(units)) * 2).tolist()
    starts = [0, *(end + 2 for end in ends[:-1])]
    names = [block[start:end] for start, end in zip(starts, ends, strict=True)]
    return names[:-1] if names and not names[-1] else names


def names_before(parsed: Parsed, part: NamesPart, records: Records) -> int:
    """How many names of other tables come before those of these records."""
    before = 0
    for name in part.of:
        if name == getattr(records, "name", None):
            return before
        before += len(parsed.tables[name])
    if part.of:
        raise LayoutError(f"'{part.name}' does not say that it holds names of '{records.name}'.")  # type: ignore[attr-defined]
    return 0


def _in_order(parsed: Parsed, part: NamesPart, records: Records, table: Rows) -> list[str]:
    names = split_names(parsed.content(part.name), part.encoding)[names_before(parsed, part, records) :]
    if len(names) < len(table):
        raise FormatError(
            f"The block holds {len(names)} names for {len(table)} records.", offset=parsed.regions[part.name].start
        )
    texts = [decode(raw, part.encoding, parsed.layout.endian) for raw in names[: len(table)]]
    return [text.replace(part.slash, "/") for text in texts]
