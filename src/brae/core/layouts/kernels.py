"""Compiled loops of the layout language. Numba is slow to import: only when one of them is needed."""

from typing import Any

import numpy as np

from brae.core.compiled import kernel, step


@kernel
def crc(data: Any, table: Any, value: Any, width: int, reflect: bool) -> Any:
    """The register after ``data`` (uint8), by a table of 256 (uint64)."""
    mask = ~np.uint64(0) >> np.uint64(64 - width)
    eight, low, top = np.uint64(8), np.uint64(255), np.uint64(width - 8)
    for k in range(len(data)):
        byte = np.uint64(data[k])
        if reflect:
            value = table[(value ^ byte) & low] ^ (value >> eight)
        else:
            value = (table[((value >> top) ^ byte) & low] ^ (value << eight)) & mask
    return value


#: how a column of a record finds its end
FIXED, NUL, PREFIXED, COUNTED, VARINT, DIGITS = 0, 1, 2, 3, 4, 5
#: columns of the array that describes a record's columns
KIND, WIDTH, UNIT, FROM, BIG, ADD = 0, 1, 2, 3, 4, 5
#: why a walk ended
WHOLE, CUT, STOPPED, UNENDED = 0, 1, 2, 3


@step
def _number(data: Any, at: int, width: int, big: bool) -> int:
    value = np.int64(0)
    for k in range(min(width, 8)):
        shift = (width - 1 - k if big else k) * 8
        if shift < 64:
            value |= np.int64(data[at + k]) << shift
    return value


@step
def _digits(data: Any, at: int, width: int, base: int) -> int:
    """A number in text (see ``digits``)."""
    value, begun = np.int64(0), False
    for k in range(width):
        byte = np.int64(data[at + k])
        digit = byte - 48
        if 65 <= byte <= 70:
            digit = byte - 55
        elif 97 <= byte <= 102:
            digit = byte - 87
        elif byte > 57:
            digit = -1
        if 0 <= digit < base:
            begun = True
            value = min(value, np.int64(1 << 58)) * base + digit
        elif begun or byte != 32:
            break
    return value


@step
def _is_number(kind: int) -> bool:
    return kind in (FIXED, VARINT, DIGITS)


@kernel
def record(data: Any, at: int, columns: Any, spans: Any, values: Any) -> int:
    """One record at ``at``: fills ``spans`` (begin, end of each column's content) and ``values``.

    Returns where it ends, or -1 - column where the data is cut, -1001 - column where no zero ends a string.
    """
    size = len(data)
    for c in range(len(columns)):
        kind, width, unit = columns[c, KIND], columns[c, WIDTH], columns[c, UNIT]
        begin, value = at, np.int64(0)
        if kind == FIXED:
            at += width
            if at > size:
                return -1 - c
            if width <= 8:
                value = _number(data, begin, width, columns[c, BIG] == 1)
            end = at
        elif kind == DIGITS:
            at += width
            if at > size:
                return -1 - c
            value = _digits(data, begin, width, unit)
            end = at
        elif kind == VARINT:
            shift = 0
            while True:
                if at >= size or shift > 56:
                    return -1 - c
                value |= np.int64(data[at] & 127) << shift
                shift += 7
                at += 1
                if data[at - 1] < 128:
                    break
            end = at
        elif kind == NUL:
            while True:
                if at + unit > size:
                    return -1001 - c
                zero = True
                for k in range(unit):
                    if data[at + k] != 0:
                        zero = False
                if zero:
                    break
                at += unit
            end = at
            at += unit
        else:
            if kind == PREFIXED:
                if at + width > size:
                    return -1 - c
                count = _number(data, at, width, columns[c, BIG] == 1)
                at += width
                begin = at
            else:
                count = values[columns[c, FROM]]
            count = count * unit + columns[c, ADD]
            if count < 0 or at + count > size:
                return -1 - c
            at += count
            end = at
        spans[c, 0], spans[c, 1] = begin, end
        values[c] = value
    return at


@kernel
def walk(
    data: Any,
    start: int,
    count: int,
    columns: Any,
    least: int,
    own: int,
    own_add: int,
    stop: int,
    stop_value: int,
    starts: Any,
    spans: Any,
    values: Any,
) -> tuple[int, int, int, int]:
    """Walk over records from ``start`` on; the outputs are filled where ``starts`` has room.

    ``count`` records, or to the end of ``data`` where it is negative. ``own`` is the column that holds the
    record's own length, or -1; ``stop`` the column whose value (or emptiness, for a string) ends the table, or
    -1. Returns records, where they end, a reason and the column concerned.
    """
    at, number = start, 0
    n = len(columns)
    one_span, one_value = np.empty((n, 2), np.int64), np.empty(n, np.int64)
    keep = len(starts) > 0
    while number != count:
        if count < 0 and stop < 0 and at >= len(data):
            break
        end = record(data, at, columns, one_span, one_value)
        if stop >= 0:
            # The mark may be the last thing there is: the columns behind it need not exist.
            reached = end >= 0 or (end <= -1001 and -1001 - end > stop) or (end > -1001 and -1 - end > stop)
            if reached:
                string = not _is_number(columns[stop, KIND])
                if (string and one_span[stop, 0] == one_span[stop, 1]) or (
                    not string and one_value[stop] == stop_value
                ):
                    if keep:
                        starts[number] = at
                    return number, at, STOPPED, stop
        if end < 0:
            return number, at, UNENDED if end <= -1001 else CUT, -1001 - end if end <= -1001 else -1 - end
        if own >= 0:
            whole = at + one_value[own] + own_add
            if whole < end or whole > len(data):
                return number, at, CUT, own
            end = whole
        if end - at < least:
            end = at + least
            if end > len(data):
                return number, at, CUT, n - 1
        if end == at:
            return number, at, CUT, 0
        if keep:
            starts[number] = at
            for c in range(n):
                spans[number, c, 0], spans[number, c, 1] = one_span[c, 0], one_span[c, 1]
                values[number, c] = one_value[c]
        at = end
        number += 1
    if keep:
        starts[number] = at
    return number, at, WHOLE, 0


#: places in the array that describes a run of chunks
NAME, STOP, STOP_VALUE, SIZE, SHIFT, MASK, SIZE_UNIT, SIZE_ADD, LEAST, TAIL, ALIGN, ROOM = range(12)


@kernel
def chunk_run(
    data: Any, base: int, at: int, limit: int, columns: Any, how: Any, special: Any, lengths: Any, numbers: Any,
    heads: Any, starts: Any, sizes: Any, block: Any, tails: Any,
) -> tuple[int, int, int]:  # fmt: skip
    """Chunks one behind the other that hold no chunks and name none.

    ``data`` are the file's bytes from ``base`` on. Fills ``heads``, ``starts``, ``sizes``, and the records' bytes
    (``block``) and those behind the data (``tails``, shape (n, tail)). Returns how many, where the next begins, and
    how much of ``block`` is used. It ends before whatever needs a closer look: a tag that is ``special`` (or one of
    ``numbers``), an ending record, a chunk that does not fit, bytes that ``data`` does not have.
    """
    n = len(columns)
    spans, values = np.empty((n, 2), np.int64), np.empty(n, np.int64)
    count = used = 0
    while count < len(heads) and limit - at >= how[ROOM]:
        begin = at - base
        end = record(data, begin, columns, spans, values)
        if end < 0:
            break
        end = max(end, begin + how[LEAST])
        if end > len(data) or end == begin or used + end - begin > len(block):
            break
        stop = how[STOP]
        if stop >= 0:
            if _is_number(columns[stop, KIND]) and columns[stop, WIDTH] <= 8:
                ends = values[stop] == how[STOP_VALUE]
            else:
                ends = True
                for k in range(spans[stop, 0], spans[stop, 1]):
                    ends = ends and data[k] == 0
            if ends:
                break
        if how[NAME] >= 0:
            low, high = spans[how[NAME], 0], spans[how[NAME], 1]
            known = False
            for s in range(len(lengths)):
                same = high - low >= lengths[s] and (high - low == lengths[s] or data[low + lengths[s]] == 0)
                for k in range(lengths[s]):
                    same = same and data[low + k] == special[s, k]
                known = known or same
            for number in numbers:
                known = known or values[how[NAME]] == number
            if known:
                break
        size = values[how[SIZE]]
        if how[MASK]:
            size = size >> how[SHIFT] & how[MASK]
        size = size * how[SIZE_UNIT] + how[SIZE_ADD]
        after = at + end - begin + size + how[TAIL]
        if size < 0 or size > limit or after > limit or (how[TAIL] and after - base > len(data)):
            break
        heads[count], starts[count], sizes[count] = at, at + end - begin, size
        for k in range(how[TAIL]):
            tails[count, k] = data[end + size + k]
        for k in range(begin, end):
            block[used] = data[k]
            used += 1
        count += 1
        at = min(after + -after % how[ALIGN], limit)
    return count, at, used


@kernel
def name_hash(data: Any, bounds: Any, form: int, first: Any, factor: Any, bits: int, result: Any) -> None:
    """Hashes of many names: ``data[bounds[k]:bounds[k + 1]]``.

    Forms: 0 xor then multiply (FNV-1a), 1 and 3 multiply then xor (FNV-1), 2 multiply then add (djb2, polynomials).
    """
    mask = ~np.uint64(0) >> np.uint64(64 - bits)
    for k in range(len(bounds) - 1):
        value = first
        for at in range(bounds[k], bounds[k + 1]):
            byte = np.uint64(data[at])
            if form == 0:
                value = ((value ^ byte) * factor) & mask
            elif form != 2:
                value = ((value * factor) & mask) ^ byte
            else:
                value = (value * factor + byte) & mask
        result[k] = value


DEEP, DEEPEST = 4, 64


@kernel
def walk_tree(
    data: Any,
    folders: int,
    heads: Any,
    files: Any,
    files_at: int,
    folders_at: int,
    files_first: bool,
    head_starts: Any,
    head_spans: Any,
    head_values: Any,
    parents: Any,
    file_starts: Any,
    file_spans: Any,
    file_values: Any,
    owners: Any,
) -> tuple[int, int, int, int]:
    """Walk over nested folders; the outputs are filled where ``head_starts`` has room.

    Returns folders, files, where they end, and a reason.
    """
    keep = len(head_starts) > 0
    one_head, head_value = np.empty((len(heads), 2), np.int64), np.empty(len(heads), np.int64)
    one_file, file_value = np.empty((len(files), 2), np.int64), np.empty(len(files), np.int64)
    # For each level: the folder, its subfolders still to come, its files still to come.
    stack = np.zeros((DEEPEST + 1, 3), np.int64)
    stack[0, 0], stack[0, 1] = -1, folders
    level, at, folder_count, file_count = 0, 0, 0, 0
    while level >= 0:
        take_files = stack[level, 2] > 0 and (files_first or stack[level, 1] == 0)
        if take_files:
            end = record(data, at, files, one_file, file_value)
            if end < 0 or end == at:
                return folder_count, file_count, at, CUT
            if keep:
                file_starts[file_count] = at
                owners[file_count] = stack[level, 0]
                for c in range(len(files)):
                    file_spans[file_count, c, 0], file_spans[file_count, c, 1] = one_file[c, 0], one_file[c, 1]
                    file_values[file_count, c] = file_value[c]
            file_count += 1
            stack[level, 2] -= 1
            at = end
        elif stack[level, 1] > 0:
            end = record(data, at, heads, one_head, head_value)
            if end < 0 or end == at or head_value[files_at] < 0 or head_value[folders_at] < 0:
                return folder_count, file_count, at, CUT
            if keep:
                head_starts[folder_count] = at
                parents[folder_count] = stack[level, 0]
                for c in range(len(heads)):
                    head_spans[folder_count, c, 0], head_spans[folder_count, c, 1] = one_head[c, 0], one_head[c, 1]
                    head_values[folder_count, c] = head_value[c]
            stack[level, 1] -= 1
            at = end
            if level == DEEPEST:
                return folder_count, file_count, at, DEEP
            level += 1
            stack[level, 0], stack[level, 1], stack[level, 2] = (
                folder_count,
                head_value[folders_at],
                head_value[files_at],
            )
            folder_count += 1
        else:
            level -= 1
    if keep:
        head_starts[folder_count], file_starts[file_count] = at, at
    return folder_count, file_count, at, WHOLE


@kernel
def running_key(length: int, seed: Any, multiply: Any, add: Any, mask: Any, shift: Any) -> Any:
    """``length`` bytes of a key that steps: byte k is ``state >> shift``, then state = state * multiply + add."""
    result = np.empty(length, np.uint8)
    state = np.uint64(seed)
    for k in range(length):
        result[k] = (state >> np.uint64(shift)) & np.uint64(255)
        state = (state * np.uint64(multiply) + np.uint64(add)) & np.uint64(mask)
    return result
