"""What is kept of each of many pictures, so that they can be found by a picture."""

from __future__ import annotations

import zlib
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from brae.core.find.coarse import COARSE, Coarse
from brae.core.find.features import Features
from brae.core.find.looks import (
    BARE,
    LOOK,
    PART,
    WHOLE,
    Array,
    Rgb,
    Rgba,
    fitted,
    guises,
    planes,
    resized,
    units,
    value_of,
)

#: rows that are made ready at once
_BATCH = 1024
#: points of all pictures together (a quarter of a gigabyte), and of one that are kept all the same
_POINTS, _FEWEST = 2_000_000, 12
#: alpha up to which a pixel is clear; the narrowest and the largest part (of the area) that stands for all of it
_CLEAR, _NARROWEST, _NEARLY = 24, 6, 0.9
#: left, top, right and bottom, as shares of the sides
Box = tuple[float, float, float, float]


@dataclass(frozen=True)
class Kept:
    """What is kept of one picture: its size, and a small one of it (zlib over RGBA)."""

    width: int
    height: int
    small: bytes
    small_width: int
    small_height: int

    @classmethod
    def of(cls, rgba: Rgba) -> Kept:
        """What is kept of a picture, uint8 (height, width, 4)."""
        if rgba[..., 3].min() == 255:
            return cls._packed(rgba, fitted(rgba, LOOK))
        # Averaged with its alpha, or clear pixels would bleed; what lies under them is averaged for itself.
        alpha = rgba[..., 3:].astype(np.float32)
        small_alpha = fitted(alpha, LOOK)
        small_alpha = small_alpha.reshape(*small_alpha.shape[:2], 1)
        plain = fitted(rgba[..., :3].astype(np.float32), LOOK)
        weighted = fitted(rgba[..., :3] * (alpha / 255), LOOK)
        colour = np.where(small_alpha > 0, weighted * 255 / np.maximum(small_alpha, 1e-3), plain)
        return cls._packed(rgba, np.dstack([colour, small_alpha]).clip(0, 255).round().astype(np.uint8))

    @classmethod
    def _packed(cls, rgba: Rgba, small: Rgba) -> Kept:
        packed = zlib.compress(small.tobytes(), 1)
        return cls(rgba.shape[1], rgba.shape[0], packed, small.shape[1], small.shape[0])

    def picture(self) -> Rgba:
        """The small picture."""
        data = np.frombuffer(zlib.decompress(self.small), np.uint8)
        return data.reshape(self.small_height, self.small_width, 4)

    def pattern(self, side: int) -> Array:
        """What a screenshot shows of it: see ``pattern_of``."""
        return pattern_of(self.picture(), side)[0]


def pattern_of(picture: Rgba, side: int) -> tuple[Array, Box]:
    """What a screenshot shows of a small picture, without clear margins; and where in the picture that is.

    Colours (0 to 255) and weights, float32 (side, side, 4). Where a pixel is partly clear something else shows as
    well: it counts little.
    """
    left, top, right, bottom = _seen_of(picture)
    shown = shown_of(picture[top:bottom, left:right], side)
    shown[..., 3] **= 3
    height, width = picture.shape[:2]
    return shown, (left / width, top / height, right / width, bottom / height)


def _seen_of(picture: Rgba) -> tuple[int, int, int, int]:
    """Left, top, right, bottom, in pixels, of what is not clear; all of it where that is nearly all or little."""
    height, width = picture.shape[:2]
    seen = picture[..., 3] > _CLEAR
    columns, rows = np.flatnonzero(seen.any(0)), np.flatnonzero(seen.any(1))
    if len(columns) < _NARROWEST or len(rows) < _NARROWEST:
        return 0, 0, width, height
    left, top, right, bottom = int(columns[0]), int(rows[0]), int(columns[-1]) + 1, int(rows[-1]) + 1
    if (right - left) * (bottom - top) > _NEARLY * width * height:
        return 0, 0, width, height
    return left, top, right, bottom


def shown_of(picture: Rgba, side: int) -> Array:
    """What is seen of a small picture: colours (0 to 255) and alpha (0 to 1), float32 (side, side, 4)."""
    alpha = picture[..., 3] / np.float32(255)
    small = resized(alpha, side, side)
    colours = resized(picture[..., :3] * alpha[..., None], side, side) / np.maximum(small, 1e-3)[..., None]
    return np.dstack([colours, small]).astype(np.float32)


@dataclass(frozen=True)
class Shown:
    """All that is kept of one picture."""

    kept: Kept
    features: Features

    @classmethod
    def of(cls, rgba: Rgba) -> Shown:
        """What is kept of a picture, uint8 (height, width, 4)."""
        return cls(Kept.of(rgba), Features.of(rgba))


@dataclass
class Pictures:
    """Many pictures by their keys, ready to be searched; a picture that shows nothing is never found."""

    keys: list[str] = field(default_factory=list)
    kept: list[Kept] = field(default_factory=list)
    features: list[Features] = field(default_factory=list)

    @classmethod
    def of(cls, keys: Sequence[str], shown: Sequence[Shown]) -> Pictures:
        """Pictures made ready."""
        from brae.core.find.correlation import beside

        # Of very many pictures fewer points each: all of them stay in memory.
        most = max(_FEWEST, _POINTS // max(1, len(shown)))
        found = cls(list(keys), [one.kept for one in shown], [one.features.strongest(most) for one in shown])
        owners: list[int] = []
        parts: dict[tuple[int, int], list[tuple[int, Array]]] = {}
        wholes: list[Array] = []
        found.boxes = np.zeros((len(shown), 4), np.float32)
        patterns = np.zeros((len(shown), COARSE * COARSE, 4), np.float32)
        for number, one in enumerate(found.kept):
            small = one.picture()
            pattern, found.boxes[number] = pattern_of(small, COARSE)
            patterns[number] = pattern.reshape(-1, 4)
            seen = guises(small)
            found.first.append(len(owners))
            for guise in seen:
                wholes.append(resized(guise, WHOLE, WHOLE))
                value = fitted(value_of(guise), PART)
                parts.setdefault((value.shape[0], value.shape[1]), []).append((len(owners), value))
                owners.append(number)
        found.owners = np.array(owners, np.int64)
        found.ratios = np.array([np.log(one.width / one.height) for one in found.kept], np.float32)
        wide, tall = found.boxes[:, 2] - found.boxes[:, 0], found.boxes[:, 3] - found.boxes[:, 1]
        found.shapes = (found.ratios + np.log(wide / tall)).astype(np.float32)
        colours = (patterns[..., :3] * patterns[..., 3:]).reshape(len(shown), 3 * COARSE**2)
        found.coarse = Coarse.of(colours, patterns[..., 3])
        found.wholes = np.zeros((4, len(wholes), WHOLE * WHOLE), np.float32)
        for start in range(0, len(wholes), _BATCH):
            some = units(planes(np.stack(wholes[start : start + _BATCH])).reshape(-1, 4, WHOLE * WHOLE), BARE)
            found.wholes[:, start : start + len(some)] = some.transpose(1, 0, 2)
        for rows in parts.values():
            for start in range(0, len(rows), _BATCH):
                some_rows, values = zip(*rows[start : start + _BATCH], strict=True)
                found.parts.append((np.array(some_rows), beside(np.stack(values))))
        return found

    def __post_init__(self) -> None:
        #: of each row (a guise of a picture) the number of its picture
        self.owners: Array = np.zeros(0, np.int64)
        #: float32 (4 planes, rows, WHOLE * WHOLE)
        self.wholes: Array = np.zeros((4, 0, WHOLE * WHOLE), np.float32)
        #: logarithms of the pictures' width over height
        self.ratios: Array = np.zeros(0, np.float32)
        #: of each picture what is left of it without clear margins: where that is (shares), and its ratio
        self.boxes: Array = np.zeros((0, 4), np.float32)
        self.shapes: Array = np.zeros(0, np.float32)
        #: what is seen of each picture's box
        self.coarse: Coarse = Coarse.of(np.zeros((0, 3 * COARSE**2), np.float32), np.zeros((0, COARSE**2)))
        #: of each picture its first row
        self.first: list[int] = []
        #: for pictures of one size: their rows, and the pictures ``beside`` each other
        self.parts: list[tuple[Array, Array]] = []

    def __len__(self) -> int:
        return len(self.keys)

    def guise(self, row: int) -> Rgb:
        """The small picture of a row."""
        number = int(self.owners[row])
        return guises(self.kept[number].picture())[row - self.first[number]]

    def signs(self, some: Sequence[int]) -> tuple[Array, Array]:
        """The signs of some pictures, uint8 (n, 128), and the picture of each, in order."""
        every = [self.features[number] for number in some]
        if not every:
            return np.zeros(0, np.int64), np.zeros((0, 128), np.uint8)
        owners = np.repeat(np.array(some, np.int64), [len(one) for one in every])
        return owners, np.concatenate([one.signs for one in every])
