"""Where signs stand, at the speed of memory."""

from __future__ import annotations

import numpy as np

from brae.core.compiled import kernel


@kernel
def stands(data, pairs, magics, masks, found_at, found_sign):  # type: ignore[no-untyped-def]
    """Places where one of the signs stands, and which; returns how many, at most as many as there is room for.

    ``data``: bytes; ``pairs``: 65,536 flags, which two first bytes begin a sign; ``magics``, ``masks``: the first
    four bytes as little-endian numbers, and which of their bits count.
    """
    count = 0
    most = found_at.shape[0]
    for at in range(data.shape[0] - 3):
        if pairs[data[at] | (np.int64(data[at + 1]) << 8)]:
            first = (
                np.uint32(data[at])
                | (np.uint32(data[at + 1]) << np.uint32(8))
                | (np.uint32(data[at + 2]) << np.uint32(16))
                | (np.uint32(data[at + 3]) << np.uint32(24))
            )
            for sign in range(magics.shape[0]):
                if (first & masks[sign]) == magics[sign]:
                    if count == most:
                        return count
                    found_at[count] = at
                    found_sign[count] = sign
                    count += 1
                    break
    return count


@kernel
def texts(data, kinds, least, starts, ends):  # type: ignore[no-untyped-def]
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
def text_at_end(data, kinds):  # type: ignore[no-untyped-def]
    """Where the text begins with which the bytes end."""
    begin = data.shape[0]
    while begin > 0 and kinds[data[begin - 1]]:
        begin -= 1
    return begin


@kernel
def flac_ends(data, begin, table, places):  # type: ignore[no-untyped-def]
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
