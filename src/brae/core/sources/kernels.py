"""Error detection and correction codes of CD sectors, compiled. Numba is slow to import: only when it is needed.

ECMA-130 section 14 (sector layout) and annex A (P and Q parity, a Reed-Solomon code over GF(2^8) with the
primitive polynomial x^8+x^4+x^3+x^2+1); CD-ROM XA for mode 2 forms 1 and 2.
"""

from typing import Any

import numpy as np

from brae.core.compiled import kernel, specialised, step


def _tables() -> tuple[Any, Any]:
    """What takes back doubling plus one in GF(2^8), and the EDC's table for eight bytes at once."""
    undo = np.zeros(256, np.uint8)
    edc = np.zeros((8, 256), np.uint32)
    for value in range(256):
        doubled = value << 1 ^ (0x11D if value & 0x80 else 0)
        undo[value ^ doubled] = value
        rest = value
        for _ in range(8):
            rest = rest >> 1 ^ (0xD8018001 if rest & 1 else 0)
        edc[0, value] = rest
    for ahead in range(1, 8):
        edc[ahead] = edc[ahead - 1] >> 8 ^ edc[0, edc[ahead - 1] & 0xFF]
    return undo, edc


UNDO, EDC = _tables()


@step
def edc(data: Any, table: Any) -> Any:
    """The EDC of bytes: x^32+x^31+x^16+x^15+x^4+x^3+x+1, least significant bit first (ECMA-130 14.3)."""
    value = np.uint32(0)
    at, end = 0, len(data) & ~7
    while at < end:
        low = value ^ (
            np.uint32(data[at])
            | np.uint32(data[at + 1]) << np.uint32(8)
            | np.uint32(data[at + 2]) << np.uint32(16)
            | np.uint32(data[at + 3]) << np.uint32(24)
        )
        value = (
            table[7, low & np.uint32(0xFF)]
            ^ table[6, low >> np.uint32(8) & np.uint32(0xFF)]
            ^ table[5, low >> np.uint32(16) & np.uint32(0xFF)]
            ^ table[4, low >> np.uint32(24)]
            ^ table[3, data[at + 4]]
            ^ table[2, data[at + 5]]
            ^ table[1, data[at + 6]]
            ^ table[0, data[at + 7]]
        )
        at += 8
    while at < len(data):
        value = value >> np.uint32(8) ^ table[0, (value ^ np.uint32(data[at])) & np.uint32(0xFF)]
        at += 1
    return value


@step
def _put(sector: Any, at: int, value: Any) -> None:
    for k in range(4):
        sector[at + k] = np.uint8(value >> np.uint32(8 * k) & np.uint32(0xFF))


@specialised
def _parity(rows: Any, count: int, lanes: int, step: int, out: Any, undo: Any, weighted: Any, plain: Any) -> None:
    """Two parity bytes for each of ``lanes`` code words, which lie side by side and are coded at once.

    ``rows`` holds ``count`` rows of ``step`` bytes. ``out`` gets both bytes of every word.
    """
    for k in range(lanes):
        weighted[k] = 0
        plain[k] = 0
    for row in range(count):
        base = row * step
        for k in range(lanes):
            value = weighted[k] ^ rows[base + k]
            # Doubling in GF(2^8), without a table: the compiler does many lanes at a time.
            weighted[k] = np.uint8((value << 1) ^ ((value >> 7) * 0x1D))
            plain[k] = plain[k] ^ rows[base + k]
    for k in range(lanes):
        value = weighted[k]
        value = undo[np.uint8((value << 1) ^ ((value >> 7) * 0x1D)) ^ plain[k]]
        out[k] = value
        out[lanes + k] = value ^ plain[k]


@step
def _turned(block: Any, turned: Any) -> None:
    """The 26 rows of 43 words as 43 rows of 26 words, each begun where its diagonal begins (annex A)."""
    for column in range(43):
        base = column * 52
        row = column % 26
        for diagonal in range(26):
            at = 86 * row + 2 * column
            turned[base + 2 * diagonal] = block[at]
            turned[base + 2 * diagonal + 1] = block[at + 1]
            row = row + 1 if row < 25 else 0


@kernel
def encode_sectors(sectors: Any, undo: Any, table: Any) -> None:
    """Put EDC and ECC of raw sectors right; shape (n, 2352), uint8. Sectors of other modes, and sound, stay."""
    head = np.zeros(4, np.uint8)
    weighted, plain = np.zeros(86, np.uint8), np.zeros(86, np.uint8)
    turned = np.zeros(43 * 52, np.uint8)
    for number in range(len(sectors)):
        sector = sectors[number]
        mode = sector[15]
        for k in range(12):
            if sector[k] != (0 if k in (0, 11) else 255):
                mode = 0
        if mode == 1:
            _put(sector, 2064, edc(sector[:2064], table))
            for k in range(2068, 2076):
                sector[k] = 0
        elif mode == 2 and not sector[18] & 0x20:
            _put(sector, 2072, edc(sector[16:2072], table))
        elif mode == 2:
            # Form 2 may leave its EDC out (zero); then it stays out.
            if sector[2348] or sector[2349] or sector[2350] or sector[2351]:
                _put(sector, 2348, edc(sector[16:2348], table))
            continue
        else:
            continue
        block = sector[12:]
        if mode == 2:  # the address does not count
            for k in range(4):
                head[k], block[k] = block[k], 0
        _parity(block, 24, 86, 86, block[2064:], undo, weighted, plain)
        _turned(block, turned)
        _parity(turned, 43, 52, 52, block[2236:], undo, weighted, plain)
        if mode == 2:
            for k in range(4):
                block[k] = head[k]
