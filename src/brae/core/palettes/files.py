"""Palette files: RIFF PAL, PNG, JSON."""

from __future__ import annotations

import io
import json
from typing import Any

import numpy as np
from PIL import Image

from brae.core.assets.palette.riff import riff
from brae.core.errors import FormatError
from brae.core.palettes.best import Numbers, Palette

#: entries in a row of a palette as a picture, and what an indexed PNG can hold at most (PNG, 11.2.2)
_ACROSS, _MOST_INDEXED = 16, 256
ENDINGS = (".pal", ".png", ".json")


def written(palette: Palette, ending: str) -> bytes:
    """A palette as a file: ``.pal``, ``.png`` (a swatch for each entry), ``.json``. FormatError for others."""
    if ending == ".pal":
        return riff(palette.colours)
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
