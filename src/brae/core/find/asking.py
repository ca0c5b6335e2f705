"""A picture that a person looks for: any file of which some kind says what it looks like."""

from __future__ import annotations

from brae.core.assets.base import HEAD, Context
from brae.core.assets.registry import kinds
from brae.core.errors import BraeError, FormatError
from brae.core.find.looks import Rgba
from brae.core.layouts.library import Library

#: the longer side at which it is searched with
LARGEST = 1280


def asked_picture(data: bytes, name: str, library: Library) -> Rgba:
    """The picture of a file, uint8 (height, width, 4). Raises FormatError where it is none."""
    why: str | None = None
    for kind in kinds().values():
        if not kind.pictured:
            continue
        try:
            kind.check_large(data[:HEAD], data[-HEAD:], len(data), name)
            picture: Rgba = kind.likeness(kind.read(data, Context(library, name)), LARGEST)
            return picture
        except BraeError as error:
            why = why or error.message
    raise FormatError(
        f"{name} cannot be looked for: {why or 'it is no picture'}",
        remedy="Take a picture file, such as a PNG or JPEG screenshot.",
    )
