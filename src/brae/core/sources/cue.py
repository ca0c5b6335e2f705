"""Cue sheets: a small text that names the image of a disc (common practice, no published standard)."""

from __future__ import annotations

import re
from pathlib import Path

from brae.core.errors import FormatError, storage_error

#: a cue sheet is a short text
_LARGEST = 1 << 20


def is_cue(path: Path) -> bool:
    """Whether a file is called a cue sheet."""
    return path.suffix.lower() == ".cue" and path.is_file()


def image_of(sheet: Path) -> Path:
    """The image that a cue sheet names, beside it. Raises FormatError where there is none."""
    try:
        with sheet.open("rb") as stream:
            text = stream.read(_LARGEST).decode("utf-8", "replace")
    except OSError as error:
        raise storage_error(error, "read", sheet) from error
    found = re.search(r'^\s*FILE\s+(?:"([^"]+)"|(\S+))', text, re.MULTILINE | re.IGNORECASE)
    image = sheet.with_name(Path((found[1] or found[2]).replace("\\", "/")).name) if found else sheet
    if found is None or not image.is_file():
        raise FormatError(
            f"{sheet.name} names no image that lies beside it.", expected='a line such as FILE "disc.bin" BINARY'
        )
    return image
