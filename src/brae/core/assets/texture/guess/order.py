"""Whether red or blue comes first, as far as the colours of pictures tell.

The bytes are the same either way. Entries of palettes of three bytes have red in front (PNG third edition, "PLTE";
GIF89a, "Global Color Table"); a fourth byte that is always 0 stands behind blue, green and red (Microsoft, "RGBQUAD
structure"). Else the colours are asked: skin, wood, earth and dry grass are warm, leaves lean to yellow; only skies
and water are the other way round, and these are bright and above. Common practice, no source; how often it is right
is measured (benchmarks/headerless.py). A table of weights learnt for hue, light and saturation was no better on
pictures that it was not learnt on.
"""

from __future__ import annotations

import numpy as np

from brae.core.assets.texture import formats
from brae.core.assets.texture.formats import Picture
from brae.core.assets.texture.guess.guess import Guess
from brae.core.assets.texture.guess.looks import thumbnail

_TURNED = {
    "rgba8": "bgra8",
    "rgb8": "bgr8",
    "argb8": "abgr8",
    "rgbx8": "bgrx8",
    "rgb565": "bgr565",
    "argb1555": "abgr1555",
    "argb4444": "abgr4444",
}
_BITS = ("rgb565", "argb1555", "argb4444")
#: four bytes, and the same where the last means nothing
_UNUSED = {"rgba8": "rgbx8"}
#: what comes behind its twin fits by so much less
_BEHIND = 1e-4
_SIDE = 96
#: greatest less least channel of what is nearly grey
_GREY = 24
#: weight of the warmth being lower than the blue: the sky is above (chosen on pictures of other packages)
_BELOW = 8
#: so many guesses are looked at
_TWINS = 3


def warmth(picture: Picture) -> float:
    """How much likelier colours (8 bits) are than with red and blue exchanged; below 0 less likely."""
    step = max(1, max(picture.shape[:2]) // _SIDE)
    part = picture[::step, ::step]
    opaque = part[..., 3] > 127
    colours = part[opaque][:, :3].astype(np.float32)
    if len(colours) == 0:
        return 0.0
    red, green, blue = colours.T
    # What is nearly grey tells nothing.
    weight = np.maximum(colours.max(axis=1) - colours.min(axis=1) - _GREY, 0)
    if weight.mean() < 1:
        return 0.0
    weight /= weight.sum()
    # A sky is bright: of azure only what is darker speaks against the order.
    light = colours.max(axis=1) / 255
    row = np.nonzero(opaque)[0] / max(1, len(part) - 1) * 2 - 1
    warm = (red - blue) / 255
    orange, azure = (red > green) & (green > blue), (blue > green) & (green > red)
    leaves = (green >= red) & (green >= blue)
    return float(
        (weight * (orange * (1.5 - light) - azure * (1.5 - light))).sum()
        + (weight * leaves * np.sign(red - blue)).sum()
        + warm.mean()
        + _BELOW * (warm * (row - row.mean())).mean()
    )


def both(guesses: list[Guess], data: bytes) -> list[Guess]:
    """The guesses, each of the first with its twin behind it; the likelier order first."""
    result = []
    for number, guess in enumerate(guesses):
        turned = _stored_as(guess, _TURNED)
        shown = thumbnail(data, guess, _SIDE) if turned is not None and number < _TWINS else None
        unused = _stored_as(guess, _UNUSED) if shown is not None else None
        if unused is not None and not _last_byte_is_0(guess, data):
            unused = None
        if turned is None or shown is None or np.array_equal(shown[..., 0], shown[..., 2]):
            result.append(unused or guess)
            continue
        if unused is not None:
            guess, turned, red_first = unused, _stored_as(unused, _TURNED) or turned, False
        else:
            # Packed bits have red in front in nearly all files.
            in_front = guess.format in _BITS or (guess.palette is not None and guess.palette.format == "rgb8")
            red_first = in_front or warmth(shown) >= 0
        first, second = (guess, turned) if red_first else (turned, guess)
        said = {"order_guessed": True}
        result.append(first.model_copy(update=said | {"fit": guess.fit}))
        result.append(second.model_copy(update=said | {"fit": max(0.0, guess.fit - _BEHIND)}))
    return result


def _last_byte_is_0(guess: Guess, data: bytes) -> bool:
    """Whether it is of every four, of all pixels or entries: an alpha would leave nothing to be seen."""
    start, end = guess.offset, len(data)
    pixel_format = guess.header(data).format
    if guess.palette is not None and isinstance(pixel_format, formats.Indexed):
        start = guess.palette.at
        end = start + 4 * len(pixel_format.palette)
    return not np.frombuffer(data[start:end], np.uint8)[3::4].any()


def _stored_as(guess: Guess, others: dict[str, str]) -> Guess | None:
    """The same with pixels, or a palette's entries, in the other format; None where there is none."""
    stored = guess.format if guess.palette is None else guess.palette.format
    if stored not in others:
        return None
    other: dict[str, object] = {"format": others[stored]}
    return guess.model_copy(
        update=other if guess.palette is None else {"palette": guess.palette.model_copy(update=other)}
    )
