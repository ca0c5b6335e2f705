"""Files that a layout numbers: read as one, and divided again when they are written."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from itertools import count

from brae.core.errors import LayoutError, LimitError
from brae.core.layouts.expressions import evaluate
from brae.core.layouts.model import Layout, Numbered
from brae.core.layouts.segments import Composed, Copy, New, Segment, Take
from brae.core.sources import ByteSource, BytesSource, JoinedSource

#: numbers have no more digits than people type
MOST_FILES = 10_000


def numbered_file(file: str, number: int) -> str:
    """What the file ``number`` (from 0) of those that a layout calls ``file`` is called."""
    return f"{file}.{number}" if number else file


def join(layout: Layout, sources: Mapping[str, ByteSource]) -> dict[str, ByteSource]:
    """The sources as the layout's parts see them: numbered files as one."""
    joined = dict(sources)
    for file, pattern in layout.files.items():
        if not isinstance(pattern, Numbered) or file not in joined:
            continue
        pieces = [joined.pop(file)]
        while (key := numbered_file(file, len(pieces))) in joined:
            pieces.append(joined.pop(key))
            if len(pieces) > MOST_FILES:
                raise LimitError(f"There are more than {MOST_FILES} numbered files.")
        joined[file] = JoinedSource(pieces)
    return joined


def divide(composed: Composed, layout: Layout, values: Mapping[str, int]) -> Composed:
    """The result of a rebuild as the files that lie on disk.

    Where the composition did not say where files end (``ends``), every one but the last stays as long as it is, or
    has as many bytes as the layout's ``each`` says.
    """
    result = Composed({})
    for file, source in composed.sources.items():
        pattern = layout.files.get(file)
        if not isinstance(pattern, Numbered) or not isinstance(source, JoinedSource):
            result.sources[file], result.segments[file] = source, composed.segments[file]
            continue
        each = None if pattern.each is None else evaluate(pattern.each, values)
        size = composed.size(file)
        ends = [*composed.ends[file], size] if file in composed.ends else _ends(file, source, size, each)
        pieces = _pieces(composed.segments[file], ends, source)
        for number, segments in enumerate(pieces):
            key = numbered_file(file, number)
            there = number < len(source.joined)
            result.sources[key] = source.joined[number] if there else BytesSource(b"")
            result.segments[key] = list(_own(segments, source, number))
    return result


def _ends(file: str, source: JoinedSource, size: int, each: int | None) -> list[int]:
    ends = source.starts[1:-1]
    if ends and size <= ends[-1]:
        raise LayoutError(
            f"The last of the {len(source.joined)} numbered files of '{file}' would have nothing left in it, and "
            "the game's own files are not taken away.",
            remedy="Make the changed members larger, or change fewer of them at once.",
        )
    if each is None:
        return [*ends, size]
    if each < 1:
        raise LayoutError(f"'each' of '{file}' is {each}.", expected="a size above zero")
    more = (end for end in count((ends[-1] if ends else 0) + each, each))
    for end in more:
        if end >= size:
            return [*ends, size]
        ends.append(end)
        if len(ends) > MOST_FILES:
            raise LimitError(f"'{file}' would have more than {MOST_FILES} numbered files.")
    raise AssertionError


def _pieces(segments: Sequence[Segment], ends: Sequence[int], source: JoinedSource) -> Iterator[list[Segment]]:
    """Segments, cut where files end."""
    waiting = list(reversed(segments))
    at = 0
    for end in ends:
        piece: list[Segment] = []
        while at < end:
            segment = waiting.pop()
            if at + segment.length > end:
                segment, rest = _cut(segment, end - at)
                waiting.append(rest)
            piece.append(segment)
            at += segment.length
        yield piece


def _cut(segment: Segment, length: int) -> tuple[Segment, Segment]:
    if isinstance(segment, New):
        return New(segment.data[:length]), New(segment.data[length:])
    rest = segment.length - length
    if isinstance(segment, Copy):
        return Copy(segment.offset, length), Copy(segment.offset + length, rest)
    return Take(segment.source, segment.offset, length), Take(segment.source, segment.offset + length, rest)


def _own(segments: Sequence[Segment], source: JoinedSource, own: int) -> Iterator[Segment]:
    """Segments of the joined source as segments of one of its files."""
    for segment in segments:
        if not isinstance(segment, Copy):
            yield segment
            continue
        for number, offset, length in source.ranges(segment.offset, segment.length):
            yield Copy(offset, length) if number == own else Take(source.joined[number], offset, length)
