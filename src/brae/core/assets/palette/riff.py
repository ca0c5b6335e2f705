"""RIFF palettes (Microsoft and IBM, Multimedia Programming Interface 1.0, 1991)."""

from __future__ import annotations

import struct
from typing import Any

import numpy as np

from brae.core.errors import FormatError

#: R, G, B of each entry
Colours = np.ndarray[Any, np.dtype[np.uint8]]
#: LOGPALETTE's version (wingdi.h)
_VERSION = 0x0300


def riff(colours: Colours) -> bytes:
    """Colours (n x 3) as a RIFF palette."""
    entries = np.zeros((len(colours), 4), np.uint8)
    entries[:, :3] = colours
    data = struct.pack("<HH", _VERSION, len(colours)) + entries.tobytes()
    chunk = b"data" + struct.pack("<I", len(data)) + data
    return b"RIFF" + struct.pack("<I", 4 + len(chunk)) + b"PAL " + chunk


def read(data: bytes) -> Colours:
    """The colours of a RIFF palette, uint8 (entries, 3). Raises FormatError where it is none, or cut short."""
    if data[:4] != b"RIFF" or data[8:12] != b"PAL ":
        raise FormatError("This is no RIFF palette.", offset=0, expected="RIFF ... PAL")
    at = 12
    while at + 8 <= len(data):
        size = struct.unpack_from("<I", data, at + 4)[0]
        if data[at : at + 4] == b"data":
            if at + 12 > len(data):
                break
            count = struct.unpack_from("<H", data, at + 10)[0]
            found = np.frombuffer(data[at + 12 : at + 12 + 4 * count], np.uint8)
            if len(found) < 4 * count or size < 4 + 4 * count:
                raise FormatError(f"The palette is cut short: {count} entries are promised.", offset=at + 10)
            return found.reshape(-1, 4)[:, :3].copy()
        at += 8 + size + size % 2
    raise FormatError("This palette has no colours.", offset=at, expected="a chunk 'data'")
