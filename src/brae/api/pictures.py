"""Pictures as the page gets them."""

from __future__ import annotations

import numpy as np
from fastapi import Response
from PIL import Image

from brae.core.textures.files import write_image
from brae.core.textures.formats import Picture


def png(pixels: Picture, *, keep: bool) -> Response:
    """A picture of 8 bits a channel as an answer; ``keep``: the browser may have it for a day."""
    headers = {"Cache-Control": "private, max-age=86400" if keep else "no-cache"}
    return Response(write_image(pixels, quick=True), media_type="image/png", headers=headers)


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
