"""The search for tables of offsets and sizes, and the layouts that they make."""

from __future__ import annotations

import itertools
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace

import numpy as np

from brae.core import compression
from brae.core.errors import BraeError
from brae.core.sources import MAIN, ByteSource
from brae.core.structure import names as naming
from brae.core.structure import packing
from brae.core.structure.header import Fact, Stretch, fields, magic
from brae.core.structure.names import Names
from brae.core.structure.packing import Packing
from brae.core.structure.places import (
    LONGEST,
    SHORTEST,
    UNITS,
    Ints,
    Numbers,
    Table,
    alignment,
    counted,
    sizes_only,
    with_sizes,
)

#: the name of an index's data file in a proposed layout
DATA = "data"
_MOST_OF_A_RUN = 40
#: files that were found by their signs and make a table likely
_FEWEST_HITS = 3
#: bytes of records that are looked at for names before it is certain where they begin
_LOOKED_AT = 1 << 18


class Search:
    """The search for a table in one stretch of the main file, in one byte order."""

    def __init__(
        self,
        sources: Mapping[str, ByteSource],
        pattern: str | None,
        origin: int,
        window: bytes,
        endian: str,
        alive: Callable[[], None] = lambda: None,
    ) -> None:
        self._alive = alive
        self.sources = sources
        self.main, self.data = sources[MAIN], sources.get(DATA, sources[MAIN])
        self.paired, self.pattern = DATA in sources, pattern
        self.origin, self.window, self.endian = origin, window, endian
        self.numbers = Numbers(window, endian)
        #: stretches of names by how many names they have at least
        self._found_blocks: dict[int, list[tuple[int, int]]] = {}
        edge = 128
        head = self.main.read(0, min(edge, self.main.size))
        tail = self.main.read(max(self.main.size - edge, 0), min(edge, self.main.size))
        #: the numbers of the header and footer, and the wider ones of them
        self._tried: set[str] = set()
        self.stated = {*self._stated(head), *self._stated(tail)}
        self.places = {*self._words(head), *self._words(tail)}

    def _stated(self, data: bytes) -> set[int]:
        halves = {
            int.from_bytes(data[at : at + 2], "little" if self.endian == "little" else "big")
            for at in range(0, len(data) - 1, 2)
        }
        return {*self._words(data), *halves}

    def _words(self, data: bytes) -> list[int]:
        return [int(word) for word in Numbers(data, self.endian).words[::4]]

    def over(self, deadline: float) -> bool:
        """Whether the time is up; whoever follows the search may end it here as well."""
        self._alive()
        return time.monotonic() > deadline

    def by_runs(self, runs: Iterator[tuple[int, int, int, int]], deadline: float) -> Iterator[str]:
        """Layouts of tables whose offsets rise, likelier ones first."""
        for run in runs:
            yield from itertools.islice(self._new(self._of_run(run, deadline)), _MOST_OF_A_RUN)
            if self.over(deadline):
                return

    def _of_run(self, run: tuple[int, int, int, int], deadline: float) -> Iterator[str]:
        for length in self._lengths(*run):
            for table in with_sizes(self.numbers, *length, self.data.size):
                for placed in self._placed(table):
                    yield from self.written(placed)
                    if self.over(deadline):
                        return

    def by_hits(self, offsets: Sequence[int], deadline: float) -> Iterator[str]:
        """Tables that say where files lie that were found by their signs: most directories give themselves away so.

        The offsets may count from anywhere in front of the first file, and in units.
        """
        places = np.unique(np.array(offsets, np.int64))
        if len(places) < _FEWEST_HITS:
            return
        bases = dict.fromkeys(
            [0, int(places[0]), *(value for value in sorted(self.places) if 0 < value <= places[0])]
        )
        for unit, base in itertools.product(UNITS, bases):
            told = places[places >= base] - base
            told = told[told % unit == 0] // unit
            run = self._run_of(told[told > 0], len(places))
            if run is None:
                continue
            step, first, count = run
            for start, length in self._grown(step, first, count, self.data.size // unit):
                yield from itertools.islice(
                    self._new(self._of_table(unit, step, start, length, deadline)), _MOST_OF_A_RUN
                )
                if self.over(deadline):
                    return

    def _run_of(self, told: Ints, all_of_them: int) -> tuple[int, int, int] | None:
        """Step, place of the first and number of records, if many of these numbers stand in equal steps."""
        if len(told) < _FEWEST_HITS:
            return None
        at = np.flatnonzero(np.isin(self.numbers.words, told))
        if len(at) < max(_FEWEST_HITS, all_of_them // 4):
            return None
        apart = np.diff(at)
        apart = apart[(apart >= SHORTEST) & (apart <= LONGEST)]
        if not len(apart):
            return None
        step = int(np.bincount(apart).argmax())
        phase = int(np.bincount(at % step, minlength=step).argmax())
        column = at[at % step == phase]
        if len(np.unique(self.numbers.words[column])) < max(_FEWEST_HITS, all_of_them // 4):
            return None
        # Where a number stands by chance far from the others, the run is no run.
        gaps = np.flatnonzero(np.diff(column) > 8 * step)
        pieces = np.split(column, gaps + 1)
        longest = max(pieces, key=len)
        return step, int(longest[0]), int(longest[-1] - longest[0]) // step + 1

    def _grown(self, step: int, first: int, count: int, limit: int) -> list[tuple[int, int]]:
        """The run with the records around it whose files have no signs: as many as the header says, or as fit."""
        words, options = self.numbers.words, []
        low, high = first, first + (count - 1) * step
        while low >= step and 0 < words[low - step] <= limit:
            low -= step
        while high + step < len(words) and 0 < words[high + step] <= limit:
            high += step
        most = (high - low) // step + 1
        for wanted in sorted(self.stated):
            if count <= wanted <= most:
                options += [
                    (first - before * step, wanted)
                    for before in range(wanted - count + 1)
                    if first - before * step >= low and first + (wanted - before - 1) * step <= high
                ]
        return [*options[:8], (first, count), (low, most)]

    def _of_table(self, unit: int, step: int, first: int, count: int, deadline: float) -> Iterator[str]:
        column = self.numbers.column(first, step, count)
        if column is None:
            return
        if np.all(np.diff(column) >= 0):
            yield from self._of_run((unit, step, first, count), deadline)
            return
        starts = [first - before for before in range(min(step - 3, first + 1))]
        steps = range(step, step + 1)
        found = sorted(counted(self.numbers, count, starts, self.data.size, steps), key=lambda item: item[0])
        for _, table in found[:12]:
            for placed in self._placed(table):
                yield from self.written(placed)

    def by_count(self, deadline: float) -> Iterator[str]:
        """Tables whose number of records the header says: their offsets need not rise."""
        tables = []
        for count in sorted(self.stated):
            if count < 3 or count * 8 > len(self.window):
                continue
            beginnings = self._beginnings()
            tables += list(counted(self.numbers, count, beginnings, self.data.size))
            if not self.paired:
                likely = self.places | {end for _, end in naming.blocks(self.window, count)}
                found = sizes_only(self.numbers, count, beginnings, self.data.size, likely)
                tables += [(0.01 + 0.0001 * table.size, table) for _, table in found]
            if self.over(deadline):
                break
        for _, table in sorted(tables, key=lambda item: item[0])[:12]:
            if table.sizes_only:
                yield from self.written(table)
                continue
            texts = (text for placed in self._placed(table) for text in self.written(placed))
            yield from itertools.islice(self._new(texts), _MOST_OF_A_RUN)

    def _new(self, texts: Iterator[str]) -> Iterator[str]:
        """Those that were not given before."""
        for text in texts:
            if text not in self._tried:
                self._tried.add(text)
                yield text

    def _beginnings(self) -> list[int]:
        """Where a table may begin: a place in the header, or right behind a small one."""
        near = {value - self.origin for value in self.places if 4 <= value - self.origin < len(self.window) - 24}
        near |= set(range(4, 68, 2)) if self.origin == 0 else set()
        return sorted(near)

    def _lengths(self, unit: int, step: int, first: int, count: int) -> Iterator[tuple[int, int, int, int]]:
        """The run as it is, and one record longer in front or shorter behind where the header says so."""
        words = self.numbers.words
        longer = first >= step and 0 <= words[first - step] <= words[first]
        options = [(first, count)]
        if longer:
            options.insert(0, (first - step, count + 1))
        for start, length in list(options):
            for less in range(1, 9):
                if self._is_stated(length - less, step):
                    options += [(start, length - less), (start + less * step, length - less)]
        options.sort(key=lambda option: (not self._is_stated(option[1], step), -option[1]))
        for start, length in options:
            if length >= 2:
                yield unit, step, start, length

    def _is_stated(self, count: int, size: int) -> bool:
        """Whether the header says so many records, or their bytes."""
        return count in self.stated or count * size in self.stated

    def _placed(self, table: Table) -> Iterator[Table]:
        """The table with every likely beginning of its records and base of its offsets."""
        used = [at for at in (0, table.size_at, table.end_at) if at is not None]
        low, high = min(used), max(used) + 4
        starts = []
        for before in range(-low, table.size - high + 1):
            start = table.first - before
            if start < 0:
                continue
            end = start + table.count * table.size
            score = (
                3.0 * (start + self.origin in self.places - {table.count}) + 1.0 * (start % 4 == 0) - 0.001 * start
            )
            data_start = int(table.offsets.min())
            gap = data_start - (end + self.origin)
            score += (3.0 - 0.1 * gap) * (0 <= gap < 16 and not self.paired)
            score -= 4.0 * (start + self.origin <= data_start < end + self.origin and not self.paired)
            score -= 4.0 * self._splits_words(table, start)
            score += 0.2 * min(self._name_width(table, start), 16)
            score += 3.0 * (end + self.origin == self.main.size)
            score += 2.0 * any(end == block for block, _ in self._blocks(table.count))
            starts.append((score, start))
        for _, start in sorted(starts, reverse=True)[:4]:
            for base in self.bases(table, start):
                yield replace(table, start=start, base=base, align=1)

    def _splits_words(self, table: Table, start: int) -> bool:
        """Whether a record would begin in the middle of a string."""
        raw = np.frombuffer(self.window, np.uint8)
        places = start + np.arange(table.count) * table.size
        if start < 1 or places[-1] >= len(raw):
            return True
        letters = (raw >= 0x2E) & (raw < 0x7F)
        return bool((letters[places] & letters[places - 1]).mean() > 0.8)

    def _name_width(self, table: Table, start: int) -> int:
        """Bytes of the string that every record has at the same place, when they begin here; 0 without one."""
        if table.count * table.size > _LOOKED_AT:
            return 0
        found = naming.inline(self.window, replace(table, start=start), set())
        return 0 if found is None else found.width

    def _blocks(self, count: int) -> list[tuple[int, int]]:
        least = max(2, count // 2)
        if least not in self._found_blocks:
            self._found_blocks[least] = naming.blocks(self.window, least)
        return self._found_blocks[least]

    def bases(self, table: Table, start: int) -> list[int]:
        """What may be added to the offsets: nothing, a place in the header, the end of the table ..."""
        first, last = int(table.offsets.min()), int((table.offsets + table.sizes).max())
        end = start + self.origin + table.count * table.size + table.extra
        size = self.data.size
        if self.paired:
            return [0]
        if first >= end:
            return [0]
        if last <= start + self.origin:
            # The data lie before the table: they may end right there, or count from the file's beginning.
            room = start + self.origin - last
            near = [value for value in self.places if 0 < value <= room and room - value < 4096]
            return list(dict.fromkeys([*near, room, 0] if room < 4096 else [0, *near]))[:4]
        likely = [
            value for value in sorted(self.stated) if end <= value + first and 0 <= size - value - last < 4096
        ]
        for align in (1, 4, 16, 512, 2048):
            value = end + -end % align
            if 0 <= size - value - last < 4096:
                likely.append(value)
        likely.append(size - last)
        return list(dict.fromkeys(value for value in likely if value >= 0 and value + first >= end))[:4]

    def _read(self, at: int, length: int) -> bytes:
        at = min(max(at, 0), self.data.size)
        return self.data.read(at, min(length, self.data.size - at))

    def written(self, table: Table) -> Iterator[str]:
        """Layouts of one table, with names, packing and checksums as far as they are found."""
        offset_at = table.first - table.start
        columns = {offset_at: ("offset", f"type: u32, role: offset{_unit(table)}")}
        if table.sizes_only:
            columns = {offset_at: ("size", "type: u32, role: stored-size")}
        elif table.size_at is not None:
            columns[offset_at + table.size_at] = ("size", "type: u32, role: stored-size")
        if table.end_at is not None:
            columns[offset_at + table.end_at] = ("data_end", "type: u32, role: end-offset")
        taken = {place for at in columns for place in range(at, at + 4)}
        named = self.names_of(table, taken)
        if named is not None and not named.in_order:
            if named.pointer:
                columns[named.at] = ("name_at", "type: u32, role: name-offset")
            else:
                columns[named.at] = (
                    "name",
                    f"type: string, length: {named.width}, role: name, encoding: {self.encoding(self.window)}",
                )
            taken |= set(range(named.at, named.at + (4 if named.pointer else named.width)))
        pack = Packing()
        if table.size_at is not None or table.end_at is not None:
            pack = packing.find_packing(self._read, self.numbers, table, taken)
        if pack.real_at is not None:
            columns[pack.real_at] = ("real", "type: u32, role: real-size")
            taken |= set(range(pack.real_at, pack.real_at + 4))
        if pack.flag_at is not None:
            words = ", ".join(f"{number}: {packer}" for number, packer in sorted(pack.meanings.items()))
            kind = {1: "u8", 2: "u16", 4: "u32"}[pack.flag_width]
            columns[pack.flag_at] = ("packing", f"type: {kind}, role: compression, values: {{{words}}}")
            taken |= set(range(pack.flag_at, pack.flag_at + pack.flag_width))
        yield from self._with_checks(table, columns, taken, named, pack)

    def _with_checks(
        self, table: Table, columns: dict[int, tuple[str, str]], taken: set[int], named: Names | None, pack: Packing
    ) -> Iterator[str]:
        sizes = None
        if pack.real_at is not None:
            sizes = self.numbers.column(table.start + pack.real_at, table.size, table.count)

        def stored(index: int) -> bytes:
            return self._read(int(table.offsets[index]) + table.base, int(table.sizes[index]))

        def real(index: int) -> bytes:
            data = stored(index)
            size = None if sizes is None else int(sizes[index])
            for packer in {*pack.meanings.values(), pack.packer} - {"none"}:
                try:
                    return compression.get(packer).unpack(data, size)
                except BraeError:
                    continue
            return data

        for at, (kind, over) in packing.find_checks(stored, real, self.numbers, table, taken).items():
            columns[at] = (f"check_{at}", f"type: u32, checksum: {{kind: {kind}, over: {over}}}")
        absolute = replace(table, offsets=table.offsets + table.base)
        found = table.align if table.sizes_only else alignment(absolute.offsets, absolute.sizes)
        options = [(found, True), (found, False)] if found > 1 else [(1, True)]
        for align, pad_last in [*options, (1, True)]:
            yield self._text(replace(table, align=align), columns, named, pack, pad_last)

    def names_of(self, table: Table, taken: set[int]) -> Names | None:
        """What the members are called; places of the record that say it are added to ``taken``."""
        found = naming.inline(self.window, table, taken)
        if found is not None:
            return found
        places = {value - self.origin for value in self.stated}
        found = naming.pointed(self.window, self.numbers, table, taken, places)
        if found is not None and not table.sizes_only:
            return found
        return naming.ordered(self.window, table, table.end)

    def _text(
        self, table: Table, columns: dict[int, tuple[str, str]], named: Names | None, pack: Packing, pad_last: bool
    ) -> str:
        start, end = table.start + self.origin, table.end + self.origin
        block = named if named is not None and (named.pointer or named.in_order) else None
        facts = [Fact(table.count, "count", "is: count(entries)")]
        facts += [Fact(start, "table_at", "is: offset(entries)")] if start >= 4 else []
        if block is not None:
            facts += [
                Fact(block.start + self.origin, "names_at", "is: offset(names)"),
                Fact(block.end - block.start, "names_size", "is: size(names)"),
                Fact(block.end - table.start, "directory_size", "is: end(names) - start(entries)"),
            ]
        facts += [
            Fact(table.end - table.start, "table_size", "is: size(entries)"),
            Fact(self.main.size, "file_bytes", f"is: file_size({MAIN})"),
        ]
        if self.paired:
            facts.append(Fact(self.data.size, "data_bytes", f"is: file_size({DATA})"))
        first = int(table.offsets.min()) + table.base
        if not self.paired:
            for value in dict.fromkeys((table.base, first)):
                if value >= 8:
                    facts.append(Fact(value, "data_at", "is: offset(content)"))
        stretches = self.stretches(table, block)
        head_end = min(start, first if not self.paired else start, 4096)
        head = self.main.read(0, head_end) if head_end > 0 else b""
        if head_end == first < start and head_end > 256:
            head = head[:0]
        header = list(fields(head, self.endian, facts, stretches)) if head else []
        known = " ".join(header)
        footer: list[str] = []
        if not self.paired and first < start and self.main.size - end <= 128 and end < self.main.size:
            behind = block.end + self.origin if block is not None and block.start + self.origin >= end else end
            if behind < self.main.size:
                raw = self.main.read(behind, self.main.size - behind)
                footer = list(fields(raw, self.endian, facts, stretches, f"file_size - {len(raw)}"))
                footer = self._magic_last(footer, raw)
                known += " ".join(footer)
        lines = ["layout: proposed", f"title: {self._title()}", "kind: archive", f"endian: {self.endian}"]
        if self.paired:
            lines.append(f'files: {{{DATA}: "{self.pattern or "{stem}.dat"}"}}')
        lines.append("parts:")
        lines += [f"  - {line}" for line in [*footer, *header]]
        lines += self._entries(table, columns, known, len(head) != start)
        if block is not None:
            lines.append(self._names_line(table, block, known))
        lines.append(self._members_line(table, pack, block, known, pad_last))
        return "\n".join(lines) + "\n"

    @staticmethod
    def _magic_last(footer: list[str], raw: bytes) -> list[str]:
        """A footer's last word may be the magic."""
        if magic(raw[-4:]) == 4 and footer and "unknown" in footer[-1] and "magic" not in footer[0]:
            at = ", at: file_size - 4" if len(footer) == 1 else ""
            footer[-1] = f'{{field: magic{at}, type: bytes, length: 4, value: "{raw[-4:].decode("latin-1")}"}}'
        return footer

    @staticmethod
    def encoding(data: bytes) -> str:
        """How names in these bytes are likely to be encoded."""
        return "utf-8" if data.isascii() else "latin-1"

    def _title(self) -> str:
        word = self.window[: magic(self.window)].decode("latin-1") if self.origin == 0 else ""
        return f"{word} archive".strip().capitalize() if not word else f"{word} archive"

    def stretches(self, table: Table, block: Names | None) -> list[Stretch]:
        """What a checksum in the header may cover."""
        entries = self.window[table.start : table.end]
        found = [Stretch(("entries",), entries)]
        if block is not None:
            names = self.window[block.start : block.end]
            found += [Stretch(("entries", "names"), entries + names), Stretch(("names",), names)]
        return found

    def _entries(self, table: Table, columns: dict[int, tuple[str, str]], known: str, apart: bool) -> list[str]:
        lines = ["  - table: entries"]
        if apart or "table_at" in known:
            lines.append(f"    at: {'table_at' if 'table_at' in known else table.start + self.origin}")
        lines += [self.ending(table, known), "    record:"]
        return [*lines, *(f"      - {line}" for line in self.record(table, columns))]

    def ending(self, table: Table, known: str) -> str:
        """What says how many records there are."""
        if "field: count," in known:
            return "    count: count"
        return "    size: table_size" if "table_size" in known else f"    count: {table.count}"

    def record(self, table: Table, columns: dict[int, tuple[str, str]]) -> Iterator[str]:
        """The fields of a record, one line each; what nothing explains is unknown."""
        at = 0
        for place in [*sorted(columns), table.size]:
            if place > at:
                yield from _unknown(at, place)
            if place < table.size:
                name, text = columns[place]
                yield f"{{field: {name}, {text}}}"
                at = place + _width(text)

    def _names_line(self, table: Table, block: Names, known: str) -> str:
        start = block.start + self.origin
        at = "names_at" if "names_at" in known else str(start)
        if block.start == table.end and "names_at" not in known:
            at = ""
        size = str(block.end - block.start)
        if "names_size" in known:
            size = "names_size"
        elif "directory_size" in known and "field: count," in known:
            size = f"directory_size - count * {table.size}"
        more = f", at: {at}" if at else ""
        more += ", in_order: true" if block.in_order else ""
        more += ", base: 0" if block.absolute else ""
        more += f", encoding: {self.encoding(self.window[block.start : block.end])}"
        return f"  - {{names: names, size: {size}{more}}}"

    def _members_line(self, table: Table, pack: Packing, block: Names | None, known: str, pad_last: bool) -> str:
        first = int(table.offsets.min()) + table.base
        end = (table.end if block is None or block.start < table.end else block.end) + self.origin
        begin = table.base if table.base else first
        parts = ["members: content", "of: entries"]
        if self.paired:
            parts.insert(1, f"file: {DATA}")
            if first:
                parts.append(f"at: {first}")
        elif "data_at" in known:
            parts.append("at: data_at")
        elif not (0 <= begin - end < max(table.align, 1)) or first < table.start:
            parts.append(f"at: {begin}")
        if table.base:
            base = "data_at" if "data_at" in known else str(table.base)
            if base == str(end) and "table_size" in known and block is None:
                base = f"table_size + {table.start + self.origin}"
            parts.append(f"base: {base}")
        if table.align > 1:
            parts.append(f"align: {table.align}")
            fill = self._fill(table)
            if fill:
                parts.append(f"fill: {fill}")
        if not pad_last and table.align > 1:
            parts.append("pad_last: false")
        if self._last_ends(table):
            parts.append("last_ends: true")
        if pack.packer != "none":
            parts.append(f"compression: {pack.packer}")
        if pack.equal:
            parts.append("unpacked: equal")
        return f"  - {{{', '.join(parts)}}}"

    def _last_ends(self, table: Table) -> bool:
        """Whether the last record only says where the data end."""
        no_sizes = table.size_at is None and table.end_at is None
        return no_sizes and int(table.offsets[-1]) + table.base == self.data.size

    def _fill(self, table: Table) -> int:
        """The byte of which the padding is made."""
        ends = table.offsets + table.sizes
        gaps = np.flatnonzero(table.offsets[1:] > ends[:-1])
        if not len(gaps):
            return 0
        place = int(ends[gaps[0]]) + table.base
        return self._read(place, 1)[0] if place < self.data.size else 0


def _unit(table: Table) -> str:
    return f", unit: {table.unit}" if table.unit > 1 else ""


def _unknown(start: int, end: int) -> Iterator[str]:
    """Fields for bytes of a record that nothing explains."""
    while start < end:
        width = 4 if start % 4 == 0 and end - start >= 4 else 2 if start % 2 == 0 and end - start >= 2 else 1
        yield f"{{field: unknown_{start}, type: u{8 * width}}}"
        start += width


def _width(text: str) -> int:
    if "length: " in text:
        return int(text.partition("length: ")[2].partition(",")[0])
    return {"u8": 1, "u16": 2, "u32": 4}[text.partition("type: ")[2].partition(",")[0]]
