"""Palette files: RIFF PAL (Microsoft and IBM, Multimedia Programming Interface 1.0, 1991), PNG, JSON."""

from __future__ import annotations

import io
import json
import struct
from typing import Any

import numpy as np
from PIL import Image

from brae.core.errors import FormatError
from brae.core.palettes.best import Colours, Numbers, Palette

#: LOGPALETTE's version (wingdi.h)
_VERSION = 0x0300
#: entries in a row of a palette as a picture, and what an indexed PNG can hold at most (PNG, 11.2.2)
_ACROSS, _MOST_INDEXED = 16, 256
ENDINGS = (".pal", ".png", ".json")


def written(palette: Palette, ending: str) -> bytes:
    """A palette as a file: ``.pal``, ``.png`` (a swatch for each entry), ``.json``. FormatError for others."""
    if ending == ".pal":
        return _riff(palette.colours)
    if ending == ".json":
        return (json.dumps({"entries": described(palette)}, indent=1) + "\n").encode()
    if ending == ".png":
        rows = -(-len(palette) // _ACROSS)
        indices = np.minimum(np.arange(rows * _ACROSS), len(palette) - 1).reshape(rows, _ACROSS)
        return indexed(indices, palette)
    raise FormatError(f"Palettes are not written as '{ending}'.", expected=", ".join(ENDINGS))


def described(palette: Palette) -> list[dict[str, Any]]:
    """Every entry for JSON: its index, its colour, and what it is for."""
    found = []
    for index, (colour, usable) in enumerate(zip(palette.colours.tolist(), palette.usable.tolist(), strict=True)):
        use = "transparent" if index == palette.transparent else "colour" if usable else "reserved or spare"
        found.append({"index": index, "colour": "#{:02x}{:02x}{:02x}".format(*colour), "use": use})
    return found


def indexed(indices: Numbers, palette: Palette) -> bytes:
    """An indexed PNG with the palette as it is, and its transparent entry. FormatError beyond 256 entries."""
    if len(palette) > _MOST_INDEXED:
        raise FormatError(f"An indexed PNG has {_MOST_INDEXED} entries at most, and this has {len(palette):,}.")
    image = Image.fromarray(np.asarray(indices, np.uint8), "P")
    image.putpalette(palette.colours.tobytes(), "RGB")
    stream = io.BytesIO()
    more = {} if palette.transparent is None else {"transparency": palette.transparent}
    image.save(stream, "PNG", **more)
    return stream.getvalue()


def _riff(colours: Colours) -> bytes:
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
