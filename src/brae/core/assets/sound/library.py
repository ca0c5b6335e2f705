"""Sounds packed by libsndfile."""

from __future__ import annotations

import io
from typing import Any

from brae.core.assets.sound.pieces import Pieces
from brae.core.errors import FormatError

NOTHING = "There is not a single sample in it."


def packed(pieces: Pieces, container: str, subtype: str, **more: Any) -> bytes:
    """Samples as a file; ``more``: libsndfile's settings. FormatError where it has no such file."""
    import soundfile  # only where a sound is written: what is said of sounds is read without it

    stream = io.BytesIO()
    try:
        with soundfile.SoundFile(
            stream, "w", pieces.rate, pieces.channels, format=container, subtype=subtype, **more
        ) as file:
            for piece in pieces:
                file.write(piece)
    except (soundfile.LibsndfileError, RuntimeError, TypeError) as error:
        raise FormatError(f"The sound cannot be written as {container} {subtype}: {error}.") from error
    data = stream.getvalue()
    if not data:  # libsndfile begins some files with their first sample only
        raise FormatError(NOTHING, remedy="Save the sound again.")
    return data
