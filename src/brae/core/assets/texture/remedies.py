"""What puts an edit right, applied to the picture before it is encoded."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Literal

import numpy as np
from PIL import Image

from brae.core.assets.texture import formats
from brae.core.assets.texture.formats import Picture, precision_of
from brae.core.assets.texture.texture import TextureFile

RemedyId = Literal[
    "flip", "resize", "swap-red-blue", "flip-green", "normalise", "unmultiply", "restore-alpha", "make-opaque",
    "restore-hidden", "convert", "make-mips",
]  # fmt: skip

REMEDIES: dict[RemedyId, str] = {
    "flip": "Turn it upside down",
    "resize": "Resize to the original's sides",
    "swap-red-blue": "Exchange red and blue",
    "flip-green": "Turn the green direction round",
    "normalise": "Make every direction one long",
    "unmultiply": "Divide the colour by its alpha",
    "restore-alpha": "Take the transparency from the original",
    "make-opaque": "Make every pixel opaque",
    "restore-hidden": "Take the colour of clear pixels from the original",
}


def _back(values: np.ndarray, like: Picture) -> Picture:
    """Floats as a picture of the same depth."""
    if like.dtype == np.float32:
        return values.astype(np.float32)
    return np.rint(values.clip(0, formats.white_of(like))).astype(like.dtype)


def resize(picture: Picture, width: int, height: int) -> Picture:
    """Another size by a Lanczos filter; colour is weighted by alpha so that edges do not darken."""
    if picture.shape[:2] == (height, width):
        return picture
    most = formats.white_of(picture)
    alpha = picture[..., 3].astype(np.float32) / np.float32(most)

    def channel(values: np.ndarray) -> np.ndarray:
        image = Image.fromarray(np.ascontiguousarray(values, np.float32), "F")
        return np.asarray(image.resize((width, height), Image.Resampling.LANCZOS))

    new_alpha = channel(alpha)
    result = np.empty((height, width, 4), np.float32)
    for index in range(3):
        values = picture[..., index].astype(np.float32)
        weighted, plain = channel(values * alpha), channel(values)
        result[..., index] = np.where(new_alpha > 1 / 512, weighted / np.maximum(new_alpha, 1 / 512), plain)
    result[..., 3] = new_alpha * most
    return _back(np.maximum(result, 0), picture)


def filled_white(picture: Picture, before: Picture) -> bool:
    """Whether areas that were clear came back as opaque white (8-bit pictures)."""
    clear = before[..., 3] == 0
    if picture.shape != before.shape or not clear.any():
        return False
    here = picture[clear]
    return bool(((here[:, :3] >= 250).all(axis=1) & (here[:, 3] == 255)).mean() > 0.9)


def _fitting(before: Picture, picture: Picture) -> Picture:
    """The original in the sides and the depth of the edit."""
    if before.shape != picture.shape:
        before = resize(before, picture.shape[1], picture.shape[0])
    return formats.as_precision(before, precision_of(picture))


def _restore_alpha(picture: Picture, before: Picture) -> Picture:
    before, picture = _fitting(before, picture), picture.copy()
    # Where the original is wholly clear its colour comes back too: white there would bleed into the edges.
    if filled_white(formats.shown(picture), formats.shown(before)):
        clear = before[..., 3] == 0
        picture[clear] = before[clear]
    picture[..., 3] = before[..., 3]
    return picture


def _make_opaque(picture: Picture, before: Picture) -> Picture:
    picture = picture.copy()
    picture[..., 3] = formats.white_of(picture)
    return picture


def _restore_hidden(picture: Picture, before: Picture) -> Picture:
    before, picture = _fitting(before, picture), picture.copy()
    hidden = (picture[..., 3] == 0) & (before[..., 3] == 0)
    picture[hidden, :3] = before[hidden, :3]
    return picture


def _swap(picture: Picture, before: Picture) -> Picture:
    return picture[..., [2, 1, 0, 3]]


def _flip_green(picture: Picture, before: Picture) -> Picture:
    picture = picture.copy()
    picture[..., 1] = formats.white_of(picture) - picture[..., 1]
    return picture


def _normalise(picture: Picture, before: Picture) -> Picture:
    most = formats.white_of(picture)
    directions = picture[..., :3].astype(np.float64) / most * 2 - 1
    length = np.sqrt((directions**2).sum(axis=2, keepdims=True))
    straight = np.array([0.0, 0.0, 1.0])
    directions = np.where(length > 1e-3, directions / np.maximum(length, 1e-3), straight)
    result = picture.copy()
    result[..., :3] = _back((directions + 1) / 2 * most, picture)
    return result


def _unmultiply(picture: Picture, before: Picture) -> Picture:
    alpha = picture[..., 3:].astype(np.float64) / formats.white_of(picture)
    result = picture.copy()
    colour = picture[..., :3] / np.maximum(alpha, 1e-6)
    result[..., :3] = np.where(alpha > 0, _back(colour, picture), picture[..., :3])
    return result


def _flip(picture: Picture, before: Picture) -> Picture:
    return picture[::-1]


#: in the order in which they are applied, whatever order they were chosen in
_ACTIONS: dict[RemedyId, Callable[[Picture, Picture], Picture]] = {
    "flip": _flip,
    "resize": lambda picture, before: resize(picture, before.shape[1], before.shape[0]),
    "swap-red-blue": _swap,
    "flip-green": _flip_green,
    "normalise": _normalise,
    "unmultiply": _unmultiply,
    "restore-alpha": _restore_alpha,
    "make-opaque": _make_opaque,
    "restore-hidden": _restore_hidden,
}


def apply_remedies(picture: Picture, original: TextureFile, remedies: Sequence[str]) -> Picture:
    """The edit with its remedies applied, always in the same order."""
    before = original.picture()
    for remedy, action in _ACTIONS.items():
        if remedy in remedies:
            picture = action(picture, before)
    return np.ascontiguousarray(picture)
