"""Text as bytes of a record, and back."""

from __future__ import annotations

import numpy as np

from brae.core.errors import FormatError


def decode(raw: bytes, encoding: str, endian: str) -> str:
    """Text in one of the language's encodings; bytes that are no text of it are kept, to be written back."""
    if encoding == "utf-16":
        codec = "utf-16-le" if endian == "little" else "utf-16-be"
        return raw.decode(codec, "surrogatepass" if len(raw) % 2 == 0 else "replace")
    return raw.decode(encoding, "surrogateescape")


def encode(text: str, encoding: str, endian: str) -> bytes:
    """The inverse; FormatError where the encoding has no such character."""
    codec = encoding if encoding != "utf-16" else "utf-16-le" if endian == "little" else "utf-16-be"
    try:
        return text.encode(codec, "surrogatepass" if encoding == "utf-16" else "surrogateescape")
    except UnicodeEncodeError as error:
        raise FormatError(f"'{text}' has a character that {encoding} does not have.") from error


def trimmed(raw: bytes, character: int) -> bytes:
    """A string of fixed length without what follows its first zero."""
    if character == 1:
        return raw.partition(b"\0")[0]
    units = np.frombuffer(raw[: len(raw) // 2 * 2], np.uint16)
    zeros = np.flatnonzero(units == 0)
    return raw[: 2 * int(zeros[0])] if len(zeros) else raw
