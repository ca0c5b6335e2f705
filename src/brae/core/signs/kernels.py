"""Where signs stand, at the speed of memory."""

from __future__ import annotations

import numpy as np

from brae.core.compiled import kernel, step


@step
def deflates(data, at):
    """Whether a block of deflate may begin here (RFC 1951, 3.2.3 to 3.2.7): its first bits fit together.

    Of chance's bytes about one in four passes, nearly all as blocks of fixed codes, which say no more.
    """
    if at + 16 > data.shape[0]:
        return True
    kind = (data[at] >> 1) & 3
    if kind == 0:
        return ((data[at + 1] ^ data[at + 3]) == 255) and ((data[at + 2] ^ data[at + 4]) == 255)
    if kind != 2:
        return kind == 1
    literals = data[at] >> 3
    distances = data[at + 1] & 31
    if literals > 29 or distances > 29:
        return False
    lengths = 4 + ((data[at + 1] >> 5) | ((data[at + 2] & 1) << 3))
    # The lengths' own codes use up their space: it is neither too small nor left over.
    bit = 17
    space = 0
    for _ in range(lengths):
        low = np.int64(data[at + (bit >> 3)]) | (np.int64(data[at + (bit >> 3) + 1]) << 8)
        length = (low >> (bit & 7)) & 7
        if length:
            space += 128 >> length
        bit += 3
    return space == 128


@kernel
def stands(data, begins, lows, highs, packed, found_at, found_sign):
    """Places where one of the signs stands, and which; returns how many, at most as many as there is room for.

    ``data``: bytes; ``begins``: for each of the first four bytes and each value the signs that may have it
    there, one bit for each; ``lows``, ``highs``: of each sign the least and the greatest that its first bytes can
    be; ``packed``: of each sign where deflate begins behind it, or 0.
    """
    count = 0
    most = found_at.shape[0]
    size = data.shape[0]
    for at in range(size - 3):
        signs = begins[0, data[at]] & begins[1, data[at + 1]]
        if signs:
            signs &= begins[2, data[at + 2]] & begins[3, data[at + 3]]
            sign = 0
            while signs:
                if signs & np.uint32(1) and _fits(data, at, lows[sign], highs[sign], packed[sign]):
                    if count == most:
                        return count
                    found_at[count] = at
                    found_sign[count] = sign
                    count += 1
                    break
                signs >>= np.uint32(1)
                sign += 1
    return count


@step
def _fits(data, at, lows, highs, packed):
    for more in range(4, min(lows.shape[0], data.shape[0] - at)):
        if data[at + more] < lows[more] or data[at + more] > highs[more]:
            return False
    return packed == 0 or deflates(data, at + packed)


@kernel
def texts(data, kinds, least, starts, ends):
    """Runs of text of at least so many bytes; returns how many.

    ``kinds``: of each byte 0 no text, 1 a letter or digit, 2 white space, 3 any other sign of a text. A run counts
    where at least half of it are letters and one in forty is white space. Only every ``least``-th byte is looked at
    where there is no text: a run that is long enough has one of them.
    """
    count = 0
    size = data.shape[0]
    at = least - 1
    while at < size:
        if not kinds[data[at]]:
            at += least
            continue
        begin = at
        while begin > 0 and kinds[data[begin - 1]]:
            begin -= 1
        end = at + 1
        while end < size and kinds[data[end]]:
            end += 1
        letters = 0
        spaces = 0
        for place in range(begin, end):
            kind = kinds[data[place]]
            letters += kind == 1
            spaces += kind == 2
        length = end - begin
        if length >= least and 2 * letters >= length and 40 * spaces >= length:
            if count == starts.shape[0]:
                return count
            starts[count] = begin
            ends[count] = end
            count += 1
        at = end + least
    return count


@kernel
def text_at_end(data, kinds):
    """Where the text begins with which the bytes end."""
    begin = data.shape[0]
    while begin > 0 and kinds[data[begin - 1]]:
        begin -= 1
    return begin


@kernel
def flac_ends(data, begin, table, places):
    """Where a FLAC frame that begins at ``begin`` may end: its CRC-16 (polynomial 0x8005) is zero up to there."""
    count = 0
    total = np.uint32(0)
    for at in range(begin, data.shape[0]):
        total = ((total << np.uint32(8)) & np.uint32(0xFFFF)) ^ table[(total >> np.uint32(8)) ^ data[at]]
        if total == 0 and at > begin + 6:
            if count == places.shape[0]:
                return count
            places[count] = at + 1
            count += 1
    return count
