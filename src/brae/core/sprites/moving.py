"""A sequence of frames as one file: GIF (GIF89a), APNG (PNG, third edition, 11.3.4)."""

from __future__ import annotations

import io
from collections.abc import Sequence

from PIL import Image

from brae.core.errors import FormatError
from brae.core.sprites.frames import Picture

#: a GIF counts in hundredths of a second; viewers take one of less than two for ten (common practice, no source)
_HUNDREDTH, _LEAST = 10, 2


def gif_times(milliseconds: Sequence[int]) -> list[int]:
    """Times as a GIF can say them, in milliseconds: what one frame loses the next one gets."""
    found, owed = [], 0.0
    for wanted in milliseconds:
        owed += wanted
        steps = max(round(owed / _HUNDREDTH), _LEAST)
        owed -= steps * _HUNDREDTH
        found.append(steps * _HUNDREDTH)
    return found


def written(frames: Sequence[Picture], milliseconds: Sequence[int], ending: str) -> bytes:
    """Frames of one size, uint8 (height, width, 4), as a moving file that repeats: a GIF or an APNG by its ending.

    Raises FormatError for other endings.
    """
    if ending not in (".gif", ".apng", ".png"):
        raise FormatError(f"Sequences are not written as '{ending}'.", expected=".gif, .apng, .png, or a folder")
    images = [Image.fromarray(frame) for frame in frames]
    stream = io.BytesIO()
    if ending == ".gif":
        images[0].save(
            stream, "GIF", save_all=True, append_images=images[1:], duration=gif_times(milliseconds), loop=0,
            disposal=2, optimize=False,
        )  # fmt: skip
    else:
        images[0].save(
            stream, "PNG", save_all=True, append_images=images[1:], duration=list(milliseconds), loop=0,
            disposal=1, blend=0,
        )  # fmt: skip
    return stream.getvalue()
