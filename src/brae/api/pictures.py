"""Pictures as the page gets them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from fastapi import Response
from PIL import Image

from brae.core.assets.texture.files import write_image
from brae.core.assets.texture.formats import Picture
from brae.core.errors import NotFoundError


def png(pixels: Picture, *, keep: bool) -> Response:
    """A picture of 8 bits a channel as an answer; ``keep``: the browser may have it for a day."""
    headers = {"Cache-Control": "private, max-age=86400" if keep else "no-cache"}
    return Response(write_image(pixels, quick=True), media_type="image/png", headers=headers)


@dataclass(frozen=True)
class Part:
    """A square of a picture, and how many of its pixels become one; cut where the picture ends."""

    left: int
    top: int
    side: int
    times: int

    @classmethod
    def of(cls, text: str) -> Part:
        """From ``left,top,side,times``."""
        left, top, side, times = map(int, text.split(","))
        return cls(left, top, max(side, 1), max(times, 1))

    def box(self, width: int, height: int) -> tuple[int, int, int, int]:
        """Left, top, width and height inside a picture of these sides.

        Raises NotFoundError where nothing is left.
        """
        wide, high = (
            min(self.side * self.times, whole - at) for whole, at in ((width, self.left), (height, self.top))
        )
        if wide < 1 or high < 1:
            raise NotFoundError(f"There is nothing at {self.left}, {self.top}.", expected=f"{width} x {height}")
        return self.left, self.top, wide, high

    @property
    def even(self) -> bool:
        """Whether the next mip level has exactly the same part."""
        return not (self.left | self.top | self.times) & 1

    def halved(self) -> Part:
        """The same part of the next mip level."""
        return Part(self.left // 2, self.top // 2, self.side, self.times // 2)

    def reduced(self, pixels: Picture) -> Picture:
        """The part's pixels, averaged."""
        if self.times == 1:
            return pixels
        image = Image.fromarray(np.ascontiguousarray(pixels)).convert("RGBa").reduce(self.times)
        return np.asarray(image.convert("RGBA"))


def shrink(pixels: Picture, fit: int) -> Picture:
    """The same with sides up to ``fit``."""
    height, width = pixels.shape[:2]
    scale = fit / max(width, height)
    if scale >= 1:
        return pixels
    # Pillow resizes RGBA with colour weighted by alpha ("RGBa").
    image = Image.fromarray(np.ascontiguousarray(pixels)).convert("RGBa")
    size = (max(1, round(width * scale)), max(1, round(height * scale)))
    return np.asarray(image.resize(size, Image.Resampling.BOX).convert("RGBA"))
