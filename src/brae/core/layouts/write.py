"""From values back to bytes, by the same description."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from brae.core.errors import LayoutError
from brae.core.layouts import checksums, expressions, links, sums
from brae.core.layouts.chunk_edits import compose_chunks
from brae.core.layouts.directory import Directory
from brae.core.layouts.directory import directory as directory_of
from brae.core.layouts.edits import Edits
from brae.core.layouts.fields import FieldPart, Hidden, Range
from brae.core.layouts.geometry import IndicesPart, VerticesPart
from brae.core.layouts.members import Inner, inner_of, restructure
from brae.core.layouts.obfuscation import hide
from brae.core.layouts.parts import ChunksPart, MembersPart, NamesPart, StreamPart, TablePart
from brae.core.layouts.pixels import PixelsPart
from brae.core.layouts.placing import Placing, gap_between
from brae.core.layouts.read import Parsed, encode_value
from brae.core.layouts.records import Records, shifts
from brae.core.layouts.rows import Rows
from brae.core.layouts.segments import Composed, Copy, New, Segment, parts
from brae.core.layouts.streams import BlockSource, Made, packed_again, resize, written
from brae.core.layouts.trees import Tree
from brae.core.sources import MAIN, ByteSource, chunks


def compose(
    parsed: Parsed,
    directory: Directory | None = None,
    edits: Edits | None = None,
    *,
    in_place: bool = False,
    pixels: bytes | None = None,
    values: dict[str, int] | None = None,
    model: Model | None = None,
) -> Composed:
    """Everything written anew, with ``edits`` to the members, new ``pixels`` and header ``values``, or a ``model``.

    Regions keep their order, the unknown bytes between them and their alignment; counts, sizes, offsets and
    checksums follow. With ``in_place`` nothing moves: every changed member must fit its slot.
    """
    if directory is None and parsed.layout.content is not None:
        directory = directory_of(parsed)
    composer = _Composer(parsed, directory, edits or Edits(), in_place, pixels, values or {})
    if model is not None:
        composer.blocks |= model.buffers
        composer.texts |= model.fields
        composer.tables |= model.tables
    for _ in range(_MOST_ROUNDS):
        result = composer.run()
        if not composer.grown:
            return result
        if in_place:
            raise LayoutError("A record would have another length, so everything behind it would move.")
    raise LayoutError("The sizes of the records do not settle: numbers of variable length depend on each other.")


@dataclass(frozen=True)
class Model:
    """New buffers of a model by their parts' names, the bytes of header fields, and its table of parts."""

    buffers: Mapping[str, bytes]
    fields: Mapping[str, bytes] = field(default_factory=dict)
    tables: Mapping[str, Rows] = field(default_factory=dict)


def _fixed(part: object) -> bool:
    """Whether members begin at a fixed place: where everything is empty, what a field locates comes behind them."""
    return isinstance(part, MembersPart) and part.at is not None and not expressions.field_names(part.at)


#: a table whose numbers have a variable length may move what its numbers say, so it is written again
_MOST_ROUNDS = 8


class _Composer:
    def __init__(
        self,
        parsed: Parsed,
        directory: Directory | None,
        edits: Edits,
        in_place: bool,
        pixels: bytes | None,
        values: dict[str, int],
    ) -> None:
        self.parsed, self.directory, self.edits, self.in_place = parsed, directory, edits, in_place
        self.pixels, self.new_values = pixels, values
        self.endian = parsed.layout.endian
        #: the bytes of header fields that are no whole numbers, as they will be
        self.texts: dict[str, bytes] = {}
        self.tables: dict[str, Rows] = {
            name: table.copy() for name, table in parsed.tables.items() if name not in parsed.trees
        }
        #: of records that lie apart for each folder: the first of each folder, and the last folder that had a place
        self.firsts_of: dict[str, list[int]] = {}
        self.last_of: dict[str, int] = {}
        self.trees = {name: tree.copy() for name, tree in parsed.trees.items()}
        self.tables |= {name: tree.files for name, tree in self.trees.items()}
        #: parts whose content is already known before anything is laid out
        self.blocks: dict[str, bytes] = {}
        self.table = None if directory is None or directory.table is None else self._table_of(directory)
        #: the record of each member, and of each added one
        self.row_of = None if directory is None else directory.rows.copy()
        self.new_rows: list[int] = []
        self.grown = False
        #: where in the block of names those of the added members begin
        self.name_places: list[int] = []
        structural = bool(edits.added or edits.removed)
        if directory is not None and edits.removed:
            links.check_removal(parsed, directory, edits.removed)
        if structural and not (directory is not None and isinstance(directory.part, ChunksPart)):
            assert directory is not None
            assert self.row_of is not None
            added = restructure(
                parsed, directory, edits, self.table, self.row_of, self.tables, self._tree_of(directory)
            )
            self.new_rows, self.name_places = added.rows, added.name_places
            self.blocks |= added.blocks

    def _tree_of(self, directory: Directory) -> Tree | None:
        return self.trees.get(getattr(directory.part, "of", None) or "")

    def _table_of(self, directory: Directory) -> Rows:
        part = directory.part
        return self.tables[part.name if isinstance(part, ChunksPart) else part.of or ""]

    def run(self) -> Composed:
        self.contents: dict[str, list[Segment]] = {}
        #: how many chunks are put in, less those taken out
        self.chunks_more: dict[str, int] = {}
        self.starts: dict[str, int] = {}
        #: bytes of members that lie around other parts, with those
        self.lengths: dict[str, int] = {}
        self.order: dict[str, list[tuple[str | None, list[Segment]]]] = {}
        self.placing = None if self.directory is None else self._placing(self.directory)
        # What is packed in blocks comes first: how many blocks there are tells how long their table is.
        streams = self.parsed.layout.streams
        self.blocks_made: dict[str, list[Made]] = {}
        for name, stream in streams.items():
            self._lay_out(name)
            self._pack_blocks(stream)
        sizes = {name: len(table.block()) for name, table in self.tables.items()}
        for file in self.parsed.sources:
            if file not in streams:
                self._lay_out(file)
        self._move_names()
        self.grown = any(len(table.block()) != sizes[name] for name, table in self.tables.items())
        for name, region in self.parsed.regions.items():
            if isinstance(region.part, FieldPart) and region.part.checksum is None:
                self._fill(name, self._field(region.part))
        self._put_directories()
        for name, table in self.tables.items():
            part = self.parsed.regions[name].part
            if not isinstance(part, ChunksPart):
                assert isinstance(part, Records)
                sums.refresh([leaf for leaf in part.leaves if leaf.meant.checksum], table, range(len(table)))
                block = table.block()
                for key in self.parsed.keys(name):
                    begin, end = self._records(key)
                    self._fill(key, block[begin:end])
        self._fill_checksums()
        files = {name: source for name, source in self.parsed.sources.items() if name not in streams}
        composed = Composed(files, ends=self.placing.ends if self.placing is not None else {})
        for file, pieces in self.order.items():
            if file in streams:
                continue
            composed.segments[file] = [piece for _, content in pieces for piece in content if piece.length]
        return composed

    def _placing(self, directory: Directory) -> Placing:
        return Placing(
            self.parsed, directory, self.edits, self.in_place, self.table, self.row_of, self.new_rows,
            self._known_values, self._placed, self.starts, self.tables,
        )  # fmt: skip

    def _placed(self, name: str, start: int) -> list[Segment]:
        """Give a part its place, and return what it holds (to be filled later)."""
        self.starts[name] = start
        self.contents[name] = self._content(name, start)
        return self.contents[name]

    def _members(
        self, part: MembersPart, new_start: int, among: Sequence[Inner]
    ) -> list[tuple[str | None, list[Segment]]]:
        region = self.parsed.regions[part.name]
        assert self.placing is not None
        return self.placing.lay_out(part, region.start, region.end, new_start, among)

    def _fill(self, name: str, content: bytes) -> None:
        """Give a part its bytes, as the file has them."""
        part = self.parsed.regions[name].part
        assert isinstance(part, Hidden)
        self.contents[name][:] = [New(hide(part.obfuscation, content))]

    def _lay_out(self, file: str) -> None:
        """Give every region of a file its new start; what lies between regions is kept."""
        parsed = self.parsed
        source = parsed.sources[file]
        regions = sorted(
            (
                (region.start, region.end, not _fixed(region.part), index, name)
                for index, (name, region) in enumerate(parsed.regions.items())
                if region.file == file
            )
        )
        pieces: list[tuple[str | None, list[Segment]]] = []
        old_end = new_end = 0
        content_part = parsed.layout.content
        among = inner_of(parsed, content_part) if content_part is not None and content_part.file == file else []
        inner = {one.name for one in among}
        for start, *_, name in regions:
            region = parsed.regions[name]
            part = region.part
            if name in inner:
                continue  # it is laid out with the members between which it lies
            if start < old_end:
                raise LayoutError(f"'{name}' overlaps the part before it at {start}.", offset=start)
            # What counts from a place of its own begins there, whatever that is a multiple of.
            align = 1 if isinstance(part, MembersPart) and part.align_from != 0 else part.align
            gap = gap_between(source, old_end, start, new_end, align, part.fill)
            pieces.append((None, gap))
            new_start = new_end + sum(piece.length for piece in gap)
            self.starts[name] = new_start
            old_end = region.end
            if isinstance(part, MembersPart) and inner:
                laid = self._members(part, new_start, among)
                self.contents[name] = [piece for other, content in laid if other is None for piece in content]
                pieces += laid
                self.lengths[name] = sum(piece.length for _, content in laid for piece in content)
                new_end = new_start + self.lengths[name]
                continue
            content = self._placed(name, new_start)
            pieces.append((name, content))
            new_end = new_start + sum(piece.length for piece in content)
        pieces.append((None, self._rest(file, source, old_end, new_end)))
        self.order[file] = pieces

    def _rest(self, file: str, source: ByteSource, old_end: int, new_end: int) -> list[Segment]:
        """What lies behind the last part; in a file of fixed size, padding that takes up the difference."""
        rest = source.size - old_end
        if not self.parsed.layout.fixed_size or file != MAIN or new_end + rest == source.size:
            return [Copy(old_end, rest)]
        content = self.parsed.layout.content
        fill = bytes([content.fill if content is not None else 0])
        room = source.size - new_end
        if any(piece.strip(fill) for piece in chunks(source, old_end, rest)):
            raise LayoutError(
                "The file has a fixed size, and the bytes at its end are no padding to make room with."
            )
        if room < 0:
            raise LayoutError(
                f"The file has a fixed size of {source.size} bytes; {-room} more would be needed.",
                remedy="Make the changed members smaller.",
            )
        return [New(fill * room)]

    def _pack_blocks(self, part: StreamPart) -> None:
        """The blocks of a stream for what is to lie in it; its table has as many records from now on."""
        if self.in_place and (self.edits.changed or self.edits.added or self.edits.removed):
            raise LayoutError(f"The members lie in '{part.stream}', whose blocks are packed anew.")
        source = self.parsed.sources[part.stream]
        assert isinstance(source, BlockSource)
        pieces = [piece for _, content in self.order[part.stream] for piece in content if piece.length]
        assert self.placing is not None
        begins, ends = self.placing.spans

        def used(place: int, length: int) -> int:
            inside = (begins < place + length) & (ends > place)
            return int(np.minimum(ends[inside], place + length).max(initial=place)) - place

        self.blocks_made[part.stream] = packed_again(source.blocks, pieces, used)
        resize(self.tables[part.of], len(self.blocks_made[part.stream]))

    def _stream(self, part: StreamPart, new_start: int) -> list[Segment]:
        source = self.parsed.sources[part.stream]
        assert isinstance(source, BlockSource)
        base = expressions.evaluate(part.base, self._known_values())
        table, before = self.tables[part.of], self.parsed.tables[part.of]
        return written(source.blocks, table, before, self.blocks_made[part.stream], new_start, base)

    def _content(self, name: str, new_start: int) -> list[Segment]:
        region = self.parsed.regions[name]
        part = region.part
        if isinstance(part, StreamPart):
            return self._stream(part, new_start)
        if isinstance(part, MembersPart):
            ((_, content),) = self._members(part, new_start, [])
            return content
        if isinstance(part, ChunksPart):
            assert self.directory is not None
            assert self.parsed.chunks is not None
            segments, self.chunks_more[name] = compose_chunks(
                part, self.parsed.chunks, self.tables[name], self.directory, self.edits, region.start, region.end,
                self.in_place, self.parsed.sources[part.file],
            )  # fmt: skip
            return segments
        if isinstance(part, PixelsPart) and self.pixels is not None:
            return [New(hide(part.obfuscation, self.pixels))]
        if part.name in self.tables:
            begin, end = self._records(name)
            return [New(bytes(end - begin))]  # its place; the bytes come at the end
        if name in self.blocks:
            assert isinstance(part, Hidden)
            return [New(hide(part.obfuscation, self.blocks[name]))]
        return [Copy(region.start, region.end - region.start)]

    def _records(self, key: str) -> tuple[int, int]:
        """Which bytes of its table's records lie in a region: all, or of ``separate`` ones those of one folder."""
        region = self.parsed.regions[key]
        table, part = self.tables[region.part.name], region.part
        if not isinstance(part, TablePart) or not part.separate:
            return 0, len(table.block())
        firsts, number = self._firsts(part), region.number
        # Folders that are new have their records behind those of the last one.
        last = number == self.last_of[part.name]
        end = len(table) if last else firsts[number + 1]
        return table.start(firsts[number]) if firsts else 0, table.start(end)

    def _firsts(self, part: TablePart) -> list[int]:
        """The first record of each folder, of ``separate`` ones."""
        if part.name not in self.firsts_of:
            groups = self.parsed.regions[part.grouped_by or ""].part
            assert isinstance(groups, TablePart)
            leaf = groups.column("member-count")
            assert leaf is not None
            counts = self.tables[groups.name].numbers(leaf.field)
            self.firsts_of[part.name] = (np.cumsum(counts) - counts).tolist()
            self.last_of[part.name] = max(self.parsed.regions[key].number for key in self.parsed.keys(part.name))
        return self.firsts_of[part.name]

    def _put_directories(self) -> None:
        """Tell folders whose records lie by themselves where these are now."""
        for part in self.parsed.layout.parts:
            if not isinstance(part, TablePart) or not part.separate:
                continue
            groups = self.parsed.regions[part.grouped_by or ""].part
            assert isinstance(groups, TablePart)
            leaf, keys = groups.column("offset"), self.parsed.keys(part.name)
            assert leaf is not None
            firsts, table, last = self._firsts(part), self.tables[part.name], len(keys) - 1
            places = [self.starts[key] for key in keys[: len(firsts)]]
            places += [
                self.starts[keys[last]] + table.start(first) - table.start(firsts[last])
                for first in firsts[len(keys) :]
            ]
            self.tables[groups.name].put(leaf.field, np.arange(len(places)), np.array(places, np.int64))

    def _move_names(self) -> None:
        """Records that point into the file follow a block of names that moved."""
        for part in self.parsed.layout.parts:
            if not isinstance(part, NamesPart) or part.base is None:
                continue
            bases = [
                expressions.evaluate(part.base, values) for values in (self.parsed.values, self._known_values())
            ]
            shift = self.starts[part.name] - self.parsed.regions[part.name].start + bases[0] - bases[1]
            if not shift:
                continue
            for name, region in self.parsed.regions.items():
                leaf = region.part.column("name-offset") if isinstance(region.part, Records) else None
                if leaf is None:
                    continue
                old = self.parsed.tables[name].numbers(leaf.field)
                directory = self.directory
                if (
                    directory is not None
                    and directory.table is self.parsed.tables[name]
                    and self.row_of is not None
                ):
                    kept = self.row_of >= 0
                    self.tables[name].put(leaf.field, self.row_of[kept], old[directory.rows[kept]] + shift)
                    for row, place in zip(self.new_rows, self.name_places, strict=True):
                        self.tables[name].put(leaf.field, row, self.starts[part.name] - bases[1] + place)
                else:
                    self.tables[name].put(leaf.field, slice(None), old + shift)

    def _known_values(self) -> dict[str, int]:
        """Values for a ``base``, with fields that locate or measure a part as they will be."""
        values = dict(self.parsed.values)
        for other in self.parsed.layout.parts:
            if not isinstance(other, FieldPart) or other.is_ is None:
                continue
            if all(self._is_placed(*asked) for asked in expressions.calls(other.is_)):
                values[other.field] = expressions.evaluate(other.is_, values, self._ask)
        return values

    def _is_placed(self, function: str, name: str) -> bool:
        """Whether a question about a part can be answered while the others are still laid out."""
        if function in ("offset", "start"):
            return name in self.starts
        return function in ("size", "end", "count", "folders") and name in self.contents

    def _field(self, part: FieldPart) -> bytes:
        """The bytes of a header field, computed where the layout says from what."""
        number: int | None = self.new_values.get(part.field)
        if part.is_ is not None:
            number = expressions.evaluate(part.is_, self._known_values() | self.new_values, self._ask)
        raw = self.texts.get(part.field, self.parsed.texts[part.field])
        pieces = {piece.field: piece for piece in part.bits or []}
        if pieces.keys() & self.new_values.keys():
            return self._bits(part, raw)
        if number is not None:
            stored, rest = divmod(number - part.add, part.unit)
            if rest:
                raise LayoutError(f"'{part.field}' counts units of {part.unit} bytes, and {number} is no multiple.")
            return encode_value(part, stored, self.endian, old=raw)
        if part.value is not None:
            return encode_value(part, part.value, self.endian, len(raw))
        return raw

    def _ask(self, function: str, name: str) -> int:
        """What an expression asks about a part, as it is now."""
        if function == "count" and name not in self.tables:
            part = self.parsed.regions[name].part
            assert isinstance(part, VerticesPart | IndicesPart)
            return self._length(name) // part.width
        if function == "count":
            return len(self.tables[name]) + self.chunks_more.get(name, 0)
        if function == "folders":
            return self.trees[name].tops
        if function == "size":
            return self._length(name)
        if function in ("offset", "start"):
            return self.starts[name]
        if function == "end":
            return self.starts[name] + self._length(name)
        if function == "real_size":
            return self._real_size()
        assert function == "file_size"
        return sum(piece.length for _, content in self.order[name] for piece in content)

    def _bits(self, part: FieldPart, raw: bytes) -> bytes:
        """A field some of whose bits have new values."""
        order = part.order(self.endian)
        number = int.from_bytes(raw, order)
        for piece, shift in shifts(part):
            if piece.field in self.new_values:
                stored = (self.new_values[piece.field] - piece.add) // piece.unit
                if not 0 <= stored < 1 << piece.bits:
                    raise LayoutError(f"{stored} does not fit the {piece.bits} bits of '{piece.field}'.")
                number = number & ~(((1 << piece.bits) - 1) << shift) | stored << shift
        return number.to_bytes(len(raw), order)

    def _length(self, name: str) -> int:
        if name in self.lengths:
            return self.lengths[name]
        return sum(piece.length for key in self.parsed.keys(name) for piece in self.contents[key])

    def _real_size(self) -> int:
        """The unpacked bytes of all members."""
        assert self.directory is not None
        real = {index: int(size) for index, size in enumerate(self.directory.real)}
        real |= {index: len(change.real) for index, change in self.edits.changed.items()}
        if min(real.values(), default=0) < 0:
            raise LayoutError(
                "The members' unpacked sizes are not known.", expected="the role real-size, or 'real'"
            )
        kept = sum(size for index, size in real.items() if index not in self.edits.removed)
        return kept + sum(len(new.change.real) for new in self.edits.added)

    def _fill_checksums(self) -> None:
        """Header checksums, those that cover other checksums last."""
        waiting = {
            name: region.part
            for name, region in self.parsed.regions.items()
            if isinstance(region.part, FieldPart) and region.part.checksum is not None
        }
        for name in waiting:
            part = waiting[name]
            assert part.checksum is not None
            self.contents[name][:] = [New(bytes([part.checksum.own]) * len(self.parsed.texts[name]))]
        while waiting:
            ready = [name for name, part in waiting.items() if not (self._covered(part) & waiting.keys()) - {name}]
            if not ready:
                raise LayoutError(f"The checksums {', '.join(waiting)} cover each other.")
            for name in ready:
                part = waiting.pop(name)
                assert part.checksum is not None
                total = checksums.checksum(part.checksum.kind, self._covered_bytes(part))
                old = self.parsed.texts[name]
                self._fill(name, sums.as_field(total, part, len(old), self.endian, old))

    def _covered(self, part: FieldPart) -> set[str]:
        assert part.checksum is not None
        if isinstance(part.checksum.over, list):
            return set(part.checksum.over)
        low, high = self._range(part)
        return {
            name
            for name, start in self.starts.items()
            if self.parsed.regions[name].file == part.file
            and start < high
            and start + sum(piece.length for piece in self.contents[name]) > low
        }

    def _range(self, part: FieldPart) -> tuple[int, int]:
        assert part.checksum is not None
        assert isinstance(part.checksum.over, Range)
        covered = part.checksum.over
        size = sum(piece.length for _, content in self.order[part.file] for piece in content)
        values = self._known_values() | {"file_size": size}
        low = expressions.evaluate(covered.start, values)
        return low, size if covered.to is None else expressions.evaluate(covered.to, values)

    def _covered_bytes(self, part: FieldPart) -> Iterator[bytes]:
        assert part.checksum is not None
        if isinstance(part.checksum.over, list):
            for name in part.checksum.over:
                for key in self.parsed.keys(name):
                    yield from parts(self.contents[key], self.parsed.sources[self.parsed.regions[key].file])
            return
        low, high = self._range(part)
        position = 0
        for _, content in self.order[part.file]:
            for data in parts(content, self.parsed.sources[part.file]):
                if position < high and position + len(data) > low:
                    yield data[max(low - position, 0) : high - position]
                position += len(data)
