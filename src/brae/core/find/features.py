"""Points of a picture that are found again when it is drawn smaller, turned, lit or in perspective.

SIFT (Lowe 2004, OpenCV's), its descriptors as roots (Arandjelovic and Zisserman 2012), a byte for each number.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np

from brae.core.find.looks import Array, Rgba

#: the longer side at which a picture is looked at, and how many points are kept of it
SIDE, POINTS = 160, 150
#: weaker corners are kept of pictures than SIFT would: flat art has few
_CONTRAST = 0.02


@dataclass(frozen=True)
class Features:
    """``points``: float32 (n, 2), x and y as shares of the sides. ``signs``: uint8 (n, 128)."""

    points: Array
    signs: Array

    def __len__(self) -> int:
        return len(self.points)

    @classmethod
    def of(cls, rgba: Rgba, side: int = SIDE, most: int = POINTS, contrast: float = _CONTRAST) -> Features:
        """The features of a picture, uint8 (height, width, 4), the strongest first."""
        grey: Array = cv2.cvtColor(rgba, cv2.COLOR_RGBA2GRAY).astype(np.float32)
        if rgba[..., 3].min() < 255:
            alpha = rgba[..., 3].astype(np.float32) / 255
            grey = grey * alpha + 128 * (1 - alpha)
        height, width = grey.shape
        scale = side / max(height, width)
        size = max(8, round(width * scale)), max(8, round(height * scale))
        # Corners stay where they are when a picture is enlarged smoothly.
        shown = cv2.resize(grey, size, interpolation=cv2.INTER_AREA if scale < 1 else cv2.INTER_CUBIC)
        finder: Any = cv2.SIFT_create(nfeatures=most, contrastThreshold=contrast)  # type: ignore[attr-defined]
        found, signs = finder.detectAndCompute(shown.clip(0, 255).astype(np.uint8), None)
        if signs is None:
            return cls(np.zeros((0, 2), np.float32), np.zeros((0, 128), np.uint8))
        strongest = np.argsort([-one.response for one in found], kind="stable")
        signs, found = signs[strongest], [found[place] for place in strongest]
        points = np.array([one.pt for one in found], np.float32) / [shown.shape[1], shown.shape[0]]
        # Square roots of shares of the whole are at most 1, and hardly ever above a half.
        roots = np.sqrt(signs / np.maximum(signs.sum(1, keepdims=True), 1e-6))
        return cls(points.astype(np.float32), (roots * 510).clip(0, 255).round().astype(np.uint8))

    def strongest(self, most: int) -> Features:
        """At most so many of them."""
        return self if len(self) <= most else Features(self.points[:most].copy(), self.signs[:most].copy())

    def to_bytes(self) -> bytes:
        """For keeping: two bytes for each coordinate, then the signs."""
        return (self.points * 65535).round().astype("<u2").tobytes() + self.signs.tobytes()

    @classmethod
    def from_bytes(cls, data: bytes) -> Features:
        """What ``to_bytes`` made."""
        count = len(data) // 132
        points = np.frombuffer(data, "<u2", count * 2).reshape(-1, 2).astype(np.float32) / 65535
        return cls(points, np.frombuffer(data, np.uint8, count * 128, count * 4).reshape(-1, 128))
