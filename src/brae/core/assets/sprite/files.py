"""Sprites as files for an editor: a sheet, a moving file of a sequence; and what comes back."""

from __future__ import annotations

import io
from dataclasses import dataclass

import numpy as np
from PIL import Image, ImageSequence, UnidentifiedImageError

from brae.core.assets.base import ExchangeFile
from brae.core.assets.sprite import ora
from brae.core.assets.sprite.sprite import MOST_FRAMES, MOST_PIXELS, Picture
from brae.core.assets.texture import psd
from brae.core.assets.texture.files import read_image
from brae.core.assets.texture.images import ImageFile
from brae.core.errors import BraeError, FormatError, LimitError

#: endings of files that may move
_MOVING = (".gif", ".png", ".apng", ".webp")


@dataclass(frozen=True, eq=False)
class Moving:
    """A file that moves: its pictures, uint8 (height, width, 4), and how long each is shown in milliseconds."""

    pictures: tuple[Picture, ...]
    milliseconds: tuple[int, ...]


def read(data: bytes, name: str) -> ImageFile | Moving:
    """A sheet, or a moving file where it has more than one frame. Raises FormatError where it is neither."""
    if name.lower().endswith(_MOVING):
        moving = _moving(data, name)
        if moving is not None:
            return moving
    return still(ExchangeFile(name, data))


def still(file: ExchangeFile) -> ImageFile:
    """A sheet that came back, or was put together of a moving file."""
    if file.suffix == ".ora":
        return ImageFile(ora.read(file.data, file.name), "ora", "RGBA", True, 8, 1)
    try:
        if file.data[:4] == psd.MAGIC:
            picture, mode, alpha, bits = psd.read(file.data, ora.GUIDES)
            return ImageFile(picture, "psd", mode, alpha, bits)
        return read_image(file.data, file.name)
    except BraeError as error:
        raise error.at(file.name) from None


def _moving(data: bytes, name: str) -> Moving | None:
    """All frames of a GIF, an APNG or an animated WebP, each whole; None where there is one, or none at all."""
    try:
        with Image.open(io.BytesIO(data)) as image:
            count = getattr(image, "n_frames", 1)
            if count < 2:
                return None
            if count > MOST_FRAMES or count * image.width * image.height > MOST_PIXELS:
                raise LimitError(
                    f"{count:,} frames of {image.width} x {image.height} pixels are too many.", address=name
                )
            pictures, times = [], []
            for frame in ImageSequence.Iterator(image):
                pictures.append(np.ascontiguousarray(np.asarray(frame.convert("RGBA"))))
                times.append(max(1, round(float(frame.info.get("duration", 100)))))
    except UnidentifiedImageError:
        return None
    except (OSError, ValueError, SyntaxError, EOFError, IndexError) as error:
        raise FormatError(f"The moving file is damaged: {error}", address=name) from error
    return Moving(tuple(pictures), tuple(times))
