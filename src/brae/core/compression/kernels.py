"""Compiled loops of the packers that no library has. Numba is slow to import: only when one of them is needed.

Every function works on uint8 arrays and returns how far it came; none allocates more than it is given.
"""

from typing import Any

import numpy as np

from brae.core.compiled import kernel, step

#: columns of the parameter array of the LZ kernels
FLAG_BYTES, FLAG_HIGH, FLAG_BIG, LITERAL = 0, 1, 2, 3
REF_BYTES, REF_BIG, PIECES = 4, 5, 6
RING, WINDOW, START, FILL = 7, 8, 9, 10
LENGTH_ADD, DISTANCE_ADD, LENGTH_BITS, DISTANCE_BITS, LONGER = 11, 12, 13, 14, 15
END_ZERO, FIRST_PIECE = 16, 17

OK, CUT, FAR = 0, 1, 2


@kernel
def lz_unpack(source: Any, target: Any, p: Any) -> tuple[int, int, int]:
    """Unpack into ``target`` until it is full, the source ends, or the end mark is read.

    Returns bytes produced, bytes consumed and OK, CUT (the source ended) or FAR (a reference before the data).
    """
    at, out, flags, left = 0, 0, 0, 0
    longest = (1 << p[LENGTH_BITS]) - 1
    while out < len(target):
        if left == 0:
            if at + p[FLAG_BYTES] > len(source):
                return out, at, CUT
            flags = 0
            for k in range(p[FLAG_BYTES]):
                shift = (p[FLAG_BYTES] - 1 - k if p[FLAG_BIG] else k) * 8
                flags |= np.int64(source[at + k]) << shift
            at += p[FLAG_BYTES]
            left = p[FLAG_BYTES] * 8
        left -= 1
        bit = (flags >> left) & 1 if p[FLAG_HIGH] else (flags >> (p[FLAG_BYTES] * 8 - 1 - left)) & 1
        if bit == p[LITERAL]:
            if at >= len(source):
                return out, at, CUT
            target[out] = source[at]
            at += 1
            out += 1
            continue
        if at + p[REF_BYTES] > len(source):
            return out, at, CUT
        word = np.int64(0)
        for k in range(p[REF_BYTES]):
            shift = (p[REF_BYTES] - 1 - k if p[REF_BIG] else k) * 8
            word |= np.int64(source[at + k]) << shift
        at += p[REF_BYTES]
        distance, length, d_at, l_at = np.int64(0), np.int64(0), 0, 0
        for k in range(p[PIECES]):
            bits = p[FIRST_PIECE + 2 * k + 1]
            value = word & ((1 << bits) - 1)
            word >>= bits
            if p[FIRST_PIECE + 2 * k]:
                length |= value << l_at
                l_at += bits
            else:
                distance |= value << d_at
                d_at += bits
        if p[END_ZERO] and distance == 0:
            return out, at, OK
        if length == longest and p[LONGER]:
            if at + p[LONGER] > len(source):
                return out, at, CUT
            for k in range(p[LONGER]):
                length += np.int64(source[at + k]) << (8 * k)
            at += p[LONGER]
        length += p[LENGTH_ADD]
        if p[RING]:
            back = (p[START] + out - distance) % p[WINDOW]
            if back == 0:
                back = p[WINDOW]
        else:
            back = distance + p[DISTANCE_ADD]
            if back > out or back == 0:
                return out, at, FAR
        for _ in range(min(length, len(target) - out)):
            target[out] = target[out - back] if out >= back else p[FILL]
            out += 1
    return out, at, OK


@step
def _match(source: Any, at: int, head: Any, chain: Any, window: int, longest: int, tries: int) -> tuple[int, int]:
    """The longest earlier match at ``at``: its length and how far back it lies."""
    best, back = 0, 0
    limit = min(longest, len(source) - at)
    if limit < 3:
        return 0, 0
    place = head[_hash(source, at)]
    while place >= 0 and at - place <= window and tries > 0:
        length = 0
        if source[place + best] == source[at + best]:
            while length < limit and source[place + length] == source[at + length]:
                length += 1
        if length > best:
            best, back = length, at - place
            if length == limit:
                break
        place = chain[place]
        tries -= 1
    return best, back


@step
def _hash(source: Any, at: int) -> int:
    return ((np.int64(source[at]) << 10) ^ (np.int64(source[at + 1]) << 5) ^ np.int64(source[at + 2])) & 0x7FFF


@kernel
def lz_pack(source: Any, target: Any, p: Any, tries: int, lazy: bool) -> int:
    """Pack into ``target`` (large enough for the worst case); returns the bytes written.

    Greedy over hash chains of three bytes, or ``lazy``: a literal where the next place has a longer match.
    """
    head = np.empty(1 << 15, np.int64)
    for k in range(1 << 15):
        head[k] = -1
    chain = np.empty(len(source), np.int64)
    longest = (1 << p[LENGTH_BITS]) - 1
    reach = longest + p[LENGTH_ADD]
    if p[LONGER]:
        reach += (1 << 8 * p[LONGER]) - 1
    window = p[WINDOW] if p[RING] else (1 << p[DISTANCE_BITS]) - 1 + p[DISTANCE_ADD]
    if p[RING]:
        window -= 1
    least = max(3, p[LENGTH_ADD])
    at, out, flag_at, used = 0, 0, 0, p[FLAG_BYTES] * 8
    length, back = 0, 0
    ready = False
    ended = False
    while at < len(source) or (p[END_ZERO] and not ended):
        if used == p[FLAG_BYTES] * 8:
            flag_at = out
            for k in range(p[FLAG_BYTES]):
                target[out + k] = 0
            out += p[FLAG_BYTES]
            used = 0
        if at >= len(source):
            length, ended = 0, True
        elif not ready:
            length, back = _match(source, at, head, chain, window, reach, tries)
        ready = False
        step = 1
        if not ended and length >= least and lazy and at + 1 < len(source):
            if at + 2 < len(source):
                slot = _hash(source, at)
                chain[at] = head[slot]
                head[slot] = at
            next_length, next_back = _match(source, at + 1, head, chain, window, reach, tries)
            inserted = 1
            if next_length > length:
                # The literal first, then the better match, which is known already.
                literal = True
                ready = True
                kept_length, kept_back = next_length, next_back
            else:
                literal = False
                kept_length, kept_back = length, back
        else:
            inserted = 0
            literal = not ended and length < least
            kept_length, kept_back = length, back
        bit = p[LITERAL] if literal else 1 - p[LITERAL]
        if bit:
            place = p[FLAG_BYTES] * 8 - 1 - used if p[FLAG_HIGH] else used
            byte = place >> 3
            target[flag_at + (p[FLAG_BYTES] - 1 - byte if p[FLAG_BIG] else byte)] |= 1 << (place & 7)
        used += 1
        if literal:
            target[out] = source[at]
            out += 1
        else:
            distance = np.int64(0)
            coded = np.int64(0)
            more = np.int64(0)
            if not ended:
                step = length
                coded = length - p[LENGTH_ADD]
                if p[LONGER] and coded >= longest:
                    more, coded = coded - longest, longest
                distance = (p[START] + at - back) % p[WINDOW] if p[RING] else back - p[DISTANCE_ADD]
            word, filled, d_at, l_at = np.int64(0), 0, 0, 0
            for k in range(p[PIECES]):
                bits = p[FIRST_PIECE + 2 * k + 1]
                if p[FIRST_PIECE + 2 * k]:
                    word |= ((coded >> l_at) & ((1 << bits) - 1)) << filled
                    l_at += bits
                else:
                    word |= ((distance >> d_at) & ((1 << bits) - 1)) << filled
                    d_at += bits
                filled += bits
            for k in range(p[REF_BYTES]):
                shift = (p[REF_BYTES] - 1 - k if p[REF_BIG] else k) * 8
                target[out + k] = (word >> shift) & 255
            out += p[REF_BYTES]
            if not ended and p[LONGER] and coded == longest:
                for k in range(p[LONGER]):
                    target[out + k] = (more >> (8 * k)) & 255
                out += p[LONGER]
        for k in range(inserted, step):
            if at + k + 2 < len(source):
                slot = _hash(source, at + k)
                chain[at + k] = head[slot]
                head[slot] = at + k
        at += step
        length, back = kept_length, kept_back
    return out


@kernel
def runs_unpack(source: Any, target: Any, form: int, escape: int, run_add: int, copy_add: int) -> tuple[int, int]:
    """Byte-run coding; returns bytes produced and consumed. Forms: see ``runs.py``."""
    at, out = 0, 0
    while out < len(target) and at < len(source):
        control = np.int64(source[at])
        if form == 2:  # an escape byte, a count and a value; anything else stands for itself
            if control != escape:
                target[out] = control
                at += 1
                out += 1
                continue
            if at + 3 > len(source):
                break
            count, value = np.int64(source[at + 1]) + run_add, source[at + 2]
            at += 3
        elif form == 4:  # two top bits mark a count; anything else stands for itself
            if control < 192:
                target[out] = control
                at += 1
                out += 1
                continue
            if at + 2 > len(source):
                break
            count, value = (control & 63) + run_add, source[at + 1]
            at += 2
        elif form == 3:  # a count and a value, always
            if at + 2 > len(source):
                break
            count, value = control + run_add, source[at + 1]
            at += 2
        else:
            if form == 0:  # the count of a run is negative, as in PackBits
                if control == 128:
                    at += 1
                    continue
                run = control > 128
                count = 256 - control + run_add if run else control + copy_add
            else:  # the top bit marks a run
                run = control >= 128
                count = (control & 127) + (run_add if run else copy_add)
            if run:
                if at + 2 > len(source):
                    break
                value = source[at + 1]
                at += 2
            else:
                if at + 1 + count > len(source):
                    count = len(source) - at - 1
                count = min(count, len(target) - out)
                for k in range(count):
                    target[out + k] = source[at + 1 + k]
                at += 1 + count
                out += count
                continue
        count = min(count, len(target) - out)
        for k in range(count):
            target[out + k] = value
        out += count
    return out, at


@kernel
def runs_pack(source: Any, target: Any, form: int, escape: int, run_add: int, copy_add: int) -> int:
    """The inverse; ``target`` holds three times the source and a little more. Returns the bytes written."""
    at, out, n = 0, 0, len(source)
    longest_run = (127 if form < 2 else 63 if form == 4 else 255) + run_add
    longest_copy = 127 + copy_add
    least = 2 if form == 3 else 3
    while at < n:
        run = 1
        while at + run < n and run < longest_run and source[at + run] == source[at]:
            run += 1
        if form == 3:
            target[out], target[out + 1] = run - run_add, source[at]
            out += 2
            at += run
            continue
        if form == 4:
            if run > max(run_add, 1) or source[at] >= 192:
                if run < run_add:
                    return -1
                target[out], target[out + 1] = 192 | (run - run_add), source[at]
                out += 2
                at += run
            else:
                target[out] = source[at]
                out += 1
                at += 1
            continue
        if form == 2:
            if run > 3 or source[at] == escape:
                if run < run_add:
                    return -1
                target[out], target[out + 1], target[out + 2] = escape, run - run_add, source[at]
                out += 3
                at += run
            else:
                target[out] = source[at]
                out += 1
                at += 1
            continue
        if run >= max(least, run_add):
            target[out] = (256 - (run - run_add)) & 255 if form == 0 else 128 | (run - run_add)
            target[out + 1] = source[at]
            out += 2
            at += run
            continue
        start = at
        while at < n and at - start < longest_copy:
            if at + 2 < n and source[at] == source[at + 1] == source[at + 2]:
                break
            at += 1
        if at == start:
            at += 1
        if at - start < copy_add:
            return -1
        target[out] = at - start - copy_add
        for k in range(at - start):
            target[out + 1 + k] = source[start + k]
        out += 1 + at - start
    return out
