"""What a description makes of a file, however unfinished: what each byte is, how much of it, what is wrong."""

from __future__ import annotations

import re
from bisect import bisect_left
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np

from brae.core import addresses
from brae.core.containers.base import Proof
from brae.core.containers.described import Archive
from brae.core.containers.evidence import Evidence, judge
from brae.core.errors import BraeError, FormatError, LayoutError
from brae.core.layouts.directory import directory
from brae.core.layouts.fields import FieldPart
from brae.core.layouts.load import Check, lines_of_parts, parse
from brae.core.layouts.model import Layout, Numbered
from brae.core.layouts.parts import MembersPart
from brae.core.layouts.pixels import PixelsPart
from brae.core.layouts.read import Parsed, parse_some
from brae.core.layouts.rows import Rows
from brae.core.layouts.streams import BlockSource
from brae.core.layouts.write import compose
from brae.core.sources import MAIN, ByteSource, JoinedSource, chunks

Kind = Literal["field", "records", "names", "members", "padding", "found", "unknown"]
_KINDS: dict[str, Kind] = {
    "FieldPart": "field",
    "TablePart": "records",
    "TreePart": "records",
    "ChunksPart": "members",
    "NamesPart": "names",
    "MembersPart": "members",
    "PixelsPart": "members",
    "StreamPart": "members",
    "BytesPart": "unknown",
}
_MOST_SPANS = 2000
_MOST_ROWS = 200
_WINDOW = 4096
#: archives with more unpacked bytes than this are proved when they are opened, not while one types
_PROVED_WHILE_TYPING = 256 << 20


@dataclass(frozen=True)
class Span:
    """A stretch of a file and what it is."""

    start: int
    end: int
    kind: Kind
    name: str


@dataclass(frozen=True)
class Value:
    """A field in a window of bytes; offsets are those of the file."""

    start: int
    end: int
    kind: Kind
    name: str
    value: str


@dataclass
class Look:
    """What a description makes of its files, file by file; numbered files are seen as one."""

    #: the files, by the names under which they were given
    seen: dict[str, ByteSource] = field(default_factory=dict)
    spans: dict[str, list[Span]] = field(default_factory=dict)
    #: the share of each file's bytes that the description gives a meaning
    explained: dict[str, float] = field(default_factory=dict)
    members: int = 0
    rows: list[dict[str, Any]] = field(default_factory=list)
    proof: Proof | None = None
    #: what speaks for the description, or against it, beside the proof
    evidence: list[Evidence] = field(default_factory=list)
    error: BraeError | None = None
    #: what a texture is, in words, and how it looks (a PNG), where the description is of one
    says: str = ""
    picture: bytes | None = None
    by_signs: Found = field(default_factory=dict)


#: files that were found by their signs in each of the files looked at: where they begin and end, and what they are
Found = Mapping[str, Sequence[tuple[int, int, str]]]


#: a texture in words, and as a PNG where it has one to show; raises BraeError where it cannot be read
Pictured = Callable[[Layout, ByteSource], tuple[str, bytes | None]]


def look(
    text: str,
    sources: Mapping[str, ByteSource],
    found: Found | None = None,
    check: Check | None = None,
    pictured: Pictured | None = None,
) -> Look:
    """Read files by the text of a layout, as far as it goes; what is wrong stands in the result, never raised.

    Where the description says nothing yet, the files that were ``found`` by their signs stand. ``check`` finds what
    is wrong with a layout that reads well; ``pictured`` reads a texture.
    """
    result = Look(by_signs=found or {})
    try:
        layout, finished = _draft(text, check)
    except BraeError as error:
        result.error = error
        for file in _firsts(sources):
            result.seen[file] = sources[file]
            _note(result, file, sources[file].size, [], result.by_signs.get(file, ()))
        return result
    named = rename(layout, sources)
    result.seen = dict(zip(_firsts(sources), named.values(), strict=False))
    parsed, result.error = parse_some(layout, named)
    archive = None
    if result.error is not None and result.error.line is None:
        # The reader names the part; a person looks for it by its line.
        wrong, begins = result.error, lines_of_parts(text)
        which = next((k for k, part in enumerate(layout.parts) if wrong.message.startswith(f"{part.name}:")), -1)
        wrong.line = begins[which] if 0 <= which < len(begins) else None
    if result.error is None and not finished:
        result.error = _unfinished(layout)
    elif layout.kind == "texture" and result.error is None:
        try:
            result.says, result.picture = pictured(layout, named[MAIN]) if pictured is not None else ("", None)
            result.proof = _written_again(parsed)
        except BraeError as error:
            result.error = error
    elif result.error is None:
        try:
            places = directory(parsed)
            archive = Archive(parsed, places, addresses.labels_of(places.names), named)
        except BraeError as error:
            result.error = error
    for file, given in zip(named, _firsts(sources), strict=False):
        _note(result, file, named[file].size, _spans(parsed, file, archive), result.by_signs.get(given, ()))
    if archive is not None:
        result.members = len(archive)
        result.rows = [_row(archive, index) for index in range(min(len(archive), _MOST_ROWS))]
        if int(archive.stored_sizes.sum()) <= _PROVED_WHILE_TYPING:
            result.proof, result.evidence = judge(archive)
    return result


def _unfinished(layout: Layout) -> LayoutError:
    if layout.kind == "texture":
        return LayoutError(
            "Nothing says yet where the pixels are.",
            expected="a part 'pixels' with its facts: width, height, format",
        )
    return LayoutError(
        "Nothing says yet where the members are.", expected="a table with an offset, and a part 'members'"
    )


def _written_again(parsed: Parsed) -> Proof:
    """Whether a texture's file, written again with the same pixels, equals the original."""
    part = parsed.layout.only(PixelsPart)
    made = b"".join(compose(parsed, pixels=parsed.content(part.name)).read(MAIN))
    source = parsed.sources[MAIN]
    original = source.read(0, source.size)
    if made == original:
        return Proof(True, 1)
    at = next(
        (k for k, (a, b) in enumerate(zip(made, original, strict=False)) if a != b), min(len(made), len(original))
    )
    where = parsed.describe(MAIN, at)
    reason = f"Written again without a change it differs from the original at {at}, in {where}."
    return Proof(False, 0, MAIN, at, where, reason)


#: what stands in for members that are not described yet
_NOTHING = "nothing_yet"
_NO_MEMBERS = f"{{members: {_NOTHING}, at: file_size}}"
_NO_PIXELS = f"{{pixels: {_NOTHING}, at: file_size, size: 0, facts: {{width: 1, height: 1, format: l8}}}}"


def _draft(text: str, check: Check | None = None) -> tuple[Layout, bool]:
    """A layout, and whether it is finished: a draft without members is read as if there were none.

    Raises LayoutError where the text is wrong in any other way.
    """
    texture = re.search(r"^kind:\s*texture\b", text, re.MULTILINE) is not None
    more = f"{text.rstrip()}\n  - {_NO_PIXELS if texture else _NO_MEMBERS}\n"
    if re.search(r"^parts:\s*\Z", text, re.MULTILINE):
        return parse(more), False
    try:
        return parse(text, check=check), True
    except LayoutError as error:
        if ("one part 'pixels'" if texture else "one part 'members'") not in error.message:
            raise
        try:
            return parse(more), False
        except LayoutError:
            raise error from None


def rename(layout: Layout, sources: Mapping[str, ByteSource]) -> dict[str, ByteSource]:
    """The sources under the names that the layout gives them: the second file is the layout's second."""
    found: dict[str, ByteSource] = {}
    for name, given in zip(dict.fromkeys([MAIN, *layout.files]), _firsts(sources), strict=False):
        numbered = isinstance(layout.files.get(name), Numbered)
        found[name] = JoinedSource(_numbered(sources, given)) if numbered else sources[given]
    return found


def _firsts(sources: Mapping[str, ByteSource]) -> list[str]:
    """The files without those that go on another one: ``data.1`` goes on ``data``."""
    return [name for name in sources if "." not in name]


def _numbered(sources: Mapping[str, ByteSource], first: str) -> list[ByteSource]:
    return [source for name, source in sources.items() if name.partition(".")[0] == first]


def _row(archive: Archive, index: int) -> dict[str, Any]:
    real, offset = int(archive.real_sizes[index]), int(archive.offsets[index])
    if isinstance(archive.source, BlockSource):
        offset = archive.source.place(offset)
    try:
        packer, fault = archive.packer(index).name, None
        real = len(archive.read(index)) if real < 0 else real
        head = archive.read_start(index, 8).hex(" ")
    except BraeError as error:
        packer, head, fault = "", "", str(error)
    return {
        "name": archive.names[index].encode("utf-8", "backslashreplace").decode(),
        "offset": offset,
        "stored": int(archive.stored_sizes[index]),
        "real": real,
        "packer": packer,
        "head": head,
        "fault": fault,
    }


def _spans(parsed: Parsed, file: str, archive: Archive | None) -> list[Span]:
    found = []
    for name, region in parsed.regions.items():
        if region.file != file or region.end <= region.start:
            continue
        if isinstance(region.part, MembersPart | PixelsPart) and archive is not None:
            found += _members(archive, region.start, region.end)
        else:
            found.append(Span(region.start, region.end, _KINDS[type(region.part).__name__], name))
    return found


def _members(archive: Archive, start: int, end: int) -> list[Span]:
    """Members that touch each other are one span where there are too many of them; padding is told apart."""
    begins, which = np.unique(archive.offsets, return_index=True)
    ends = begins + archive.stored_sizes[which]
    align = archive.directory.part.align
    full = ends > begins
    begins, ends, which = begins[full], ends[full], which[full]
    if len(begins) > _MOST_SPANS:
        gaps = np.flatnonzero(begins[1:] - ends[:-1] >= max(align, 1))
        first, last = np.append(0, gaps + 1), np.append(gaps, len(begins) - 1)
        return [
            Span(int(begins[a]), int(ends[b]), "members", f"{b - a + 1} members")
            for a, b in zip(first[:_MOST_SPANS], last[:_MOST_SPANS], strict=True)
        ]
    found = []
    for k, (a, b) in enumerate(zip(begins.tolist(), ends.tolist(), strict=True)):
        found.append(Span(a, b, "members", archive.names[int(which[k])]))
        following = begins.tolist()[k + 1] if k + 1 < len(begins) else end
        if 0 < following - b < align:
            found.append(Span(b, following, "padding", "padding"))
    return found


def _note(
    result: Look, file: str, size: int, spans: list[Span], found: Sequence[tuple[int, int, str]] = ()
) -> None:
    """Put spans in order, fill what lies between with unknown bytes, and count what is explained."""
    ordered: list[Span] = []
    position = explained = 0
    for span in sorted(spans, key=lambda span: span.start):
        start, end = max(span.start, position), min(span.end, size)
        if start >= end:
            continue
        if start > position:
            ordered += _unexplained(position, start, found)
        ordered.append(Span(start, end, span.kind, span.name))
        explained += (end - start) if span.kind != "unknown" else 0
        position = end
    if position < size:
        ordered += _unexplained(position, size, found)
    result.spans[file] = ordered
    result.explained[file] = explained / size if size else 1.0


def _unexplained(start: int, end: int, found: Sequence[tuple[int, int, str]]) -> Iterator[Span]:
    """Bytes that no description explains: what was found in them by its sign, and the rest."""
    position = start
    for begin, stop, what in found[bisect_left(found, (start,)) :][:_MOST_SPANS]:
        if begin >= end:
            break
        if stop > end:
            continue
        if begin > position:
            yield Span(position, begin, "unknown", "nothing explains this")
        yield Span(begin, stop, "found", f"{what}, by its sign")
        position = stop
    if position < end:
        yield Span(position, end, "unknown", "nothing explains this")


def entropy(source: ByteSource, cells: int = 256) -> list[float]:
    """Bits a byte, 0 to 8, of up to 4 KiB at the beginning of each of so many equal stretches (Shannon 1948)."""
    step = max(source.size / cells, 1)
    found = []
    for cell in range(min(cells, source.size)):
        start = int(cell * step)
        data = np.frombuffer(source.read(start, min(4096, source.size - start, max(int(step), 64))), np.uint8)
        share = np.bincount(data, minlength=256) / max(len(data), 1)
        share = share[share > 0]
        found.append(float(-(share * np.log2(share)).sum()) + 0.0)
    return found


def window(
    text: str, sources: Mapping[str, ByteSource], file: str, offset: int, length: int, found: Found | None = None
) -> tuple[bytes, list[Value]]:
    """Bytes of one file (at most 4 KiB), and the fields in them as far as the description goes.

    Where it says nothing, the files that were ``found`` by their signs stand.
    """
    data, values = _described(text, sources, file, offset, length)
    free, low, high = sorted(values, key=lambda one: one.start), offset, offset + len(data)
    hits = (found or {}).get(file, ())
    for begin, stop, what in hits[max(0, bisect_left(hits, (low,)) - 1) :][:_MOST_ROWS]:
        if begin >= high:
            break
        if stop > low and not any(one.start < stop and begin < one.end for one in values):
            free.append(Value(begin, stop, "found", what, "found by its sign"))
    return data, sorted(free, key=lambda one: one.start)


def _described(
    text: str, sources: Mapping[str, ByteSource], file: str, offset: int, length: int
) -> tuple[bytes, list[Value]]:
    try:
        layout, finished = _draft(text)
    except BraeError:
        return _piece(sources[file], offset, length)[1], []
    named = rename(layout, sources)
    mine = dict(zip(_firsts(sources), named, strict=False)).get(file, file)
    offset, data = _piece(named.get(mine, sources[file]), offset, length)
    parsed, _ = parse_some(layout, named)
    end = offset + len(data)
    found: list[Value] = []
    for name, region in parsed.regions.items():
        if region.file != mine or region.start >= end or region.end <= offset or name == _NOTHING:
            continue
        kind = _KINDS[type(region.part).__name__]
        name = region.part.name
        table = parsed.tables.get(name)
        if table is not None and parsed.chunks is None and name not in parsed.trees:
            found += _records(table, name, region.origin, max(offset, region.start), min(end, region.end))
        else:
            value = ""
            if isinstance(region.part, FieldPart):
                value = str(parsed.values[name]) if name in parsed.values else repr(parsed.texts.get(name, b""))[1:]
            found.append(Value(region.start, region.end, kind, name, value))
    if not finished:
        return data, sorted(found, key=lambda one: one.start)
    try:
        places = directory(parsed)
    except (BraeError, AssertionError, KeyError):
        return data, sorted(found, key=lambda one: one.start)
    if places.part.file == mine:
        begins, stored = places.offsets, places.stored
        touching = np.flatnonzero((begins < end) & (begins + stored > offset) & (stored > 0))[:_MOST_ROWS]
        found = [one for one in found if one.kind != "members"]
        for index in touching.tolist():
            begin = int(begins[index])
            found.append(
                Value(begin, begin + int(stored[index]), "members", places.names[index], f"member {index}")
            )
    return data, sorted(found, key=lambda one: one.start)


def _piece(source: ByteSource, offset: int, length: int) -> tuple[int, bytes]:
    offset = min(max(offset, 0), source.size)
    return offset, source.read(offset, min(length, _WINDOW, source.size - offset))


def _records(table: Rows, name: str, start: int, low: int, high: int) -> list[Value]:
    """The columns of the records in a window."""
    count = len(table)
    left, right = 0, count
    while left < right:  # the first record that ends behind the window's beginning
        middle = (left + right) // 2
        if start + table.start(middle + 1 if middle + 1 < count else middle) <= low and middle + 1 < count:
            left = middle + 1
        else:
            right = middle
    found: list[Value] = []
    for row in range(max(left - 1, 0), count):
        if start + table.start(row) >= high:
            break
        for leaf in table.leaf.values():
            content = table.content(leaf.field, row)
            place = start + table.place(row, leaf.field)
            width = leaf.column.width or len(content)
            value = str(int(table.numbers(leaf.field)[row])) if leaf.column.number_like else repr(content)[1:]
            if place < high and place + width > low:
                found.append(Value(place, place + width, "records", f"{name}[{row}].{leaf.field}", value))
    return found


Says = Literal["number", "signed", "big", "text", "magic", "bytes"]
_WIDTHS = (1, 2, 3, 4, 5, 6, 7, 8)


def say(
    text: str, sources: Mapping[str, ByteSource], file: str, start: int, end: int, says: Says, name: str
) -> str:
    """The description with one part more: selected bytes, and what a person says they are.

    It goes where it belongs in the order of the parts; bytes between the part before it and it become unknown ones.
    Raises LayoutError where the description does not read yet, FormatError where the bytes are described already.
    """
    if not re.fullmatch(r"[A-Za-z_][A-Za-z0-9_]*", name):
        raise FormatError(f"'{name}' is no name for a field.", expected="letters, digits and _")
    layout, _ = _draft(text)
    named = rename(layout, sources)
    mine = dict(zip(_firsts(sources), named, strict=False)).get(file, file)
    parsed, _ = parse_some(layout, named)
    parsed.regions.pop(_NOTHING, None)
    taken = {part.name for part in layout.parts}
    if name in taken:
        raise FormatError(f"There is a part called '{name}' already.", expected="another name")
    mine_in_order = [region for region in parsed.regions.values() if region.file == mine]
    for region in mine_in_order:
        if region.start < end and start < region.end and _KINDS[type(region.part).__name__] != "members":
            raise FormatError(
                f"These bytes belong to '{region.part.name}' already.", offset=region.start, expected="other bytes"
            )
    before = max((region.end for region in mine_in_order if region.end <= start), default=0)
    after = [k for k, part in enumerate(layout.parts) if part.name in parsed.regions and part.file == mine]
    following = next((k for k in after if parsed.regions[layout.parts[k].name].start >= end), len(layout.parts))
    where = f", file: {mine}" if mine != MAIN else ""
    lines = []
    if start > before:
        lines.append(f"  - {{bytes: unknown_{before:x}{where}, size: {start - before}}}")
    lines.append(f"  - {_part(named[mine].read(start, end - start), says, name, where)}")
    begins = lines_of_parts(text)
    rows = text.rstrip("\n").split("\n")
    at = begins[following] - 1 if following < len(begins) else len(rows)
    made = "\n".join([*rows[:at], *lines, *rows[at:]]) + "\n"
    _draft(made)
    return made


def _part(data: bytes, says: Says, name: str, where: str) -> str:
    width = len(data)
    if says in ("number", "signed", "big"):
        if width not in _WIDTHS:
            raise FormatError(f"{width} bytes are no number.", expected="one to eight bytes")
        return f"{{field: {name}{where}, type: {'i' if says == 'signed' else 'u'}{8 * width}}}"
    if says == "text":
        return f"{{field: {name}{where}, type: string, length: {width}}}"
    if says == "magic":
        value = "".join(chr(b) if 32 <= b < 127 and b not in b'"\\' else f"\\x{b:02x}" for b in data)
        return f'{{field: {name}{where}, type: bytes, length: {width}, value: "{value}"}}'
    return f"{{bytes: {name}{where}, size: {width}}}"


_SAYS = r"(?:is|checksum): (?:\{(?:[^{}]|\{[^{}]*\})*\}|[^,}\n]+)"


def mend(text: str, field: str, remedy: str) -> str:
    """The description with one field saying what a failed proof proposes (``is: ...``, ``checksum: ...``).

    ``field`` is called as the proof calls it, such as ``check`` or ``list[3].blocks``. Raises FormatError where the
    field does not stand in one line with what it says now.
    """
    name = field.rpartition(".")[2]
    pattern = re.compile(rf"^(.*\bfield: {re.escape(name)}\b[^\n]*?){_SAYS}", re.MULTILINE)
    made, count = pattern.subn(lambda found: found[1] + remedy, text, count=1)
    if not count:
        raise FormatError(f"There is no line in which '{name}' says what it is.", expected=remedy)
    _draft(made)
    return made


def beginning(name: str, title: str, data: str | None, kind: str = "archive") -> str:
    """A description to begin with: nothing is explained yet."""
    word = re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-") or "unknown"
    files = f'files: {{data: "{data}"}}\n' if data else ""
    return f"layout: {word}\ntitle: {title}\nkind: {kind}\nendian: little\n{files}parts:\n"


def find_bytes(source: ByteSource, wanted: bytes, most: int = 100) -> list[int]:
    """Where bytes stand, the first ``most`` places."""
    if not wanted:
        raise LayoutError("There is nothing to look for.")
    found: list[int] = []
    kept, position = b"", 0
    for part in chunks(source):
        data = kept + part
        at = data.find(wanted)
        while at >= 0 and len(found) < most:
            found.append(position - len(kept) + at)
            at = data.find(wanted, at + 1)
        position += len(part)
        kept = data[-(len(wanted) - 1) :] if len(wanted) > 1 else b""
        if len(found) >= most:
            break
    return found
