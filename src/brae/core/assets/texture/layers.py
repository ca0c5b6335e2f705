"""Pictures that are laid over each other, as layered files have them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from brae.core.assets.texture.formats import Picture


@dataclass(frozen=True, eq=False)
class Layer:
    """A layer: its name, its pixels, and where its top left corner lies."""

    name: str
    picture: Picture
    x: int = 0
    y: int = 0
    opacity: float = 1.0


def flattened(layers: Sequence[Layer], width: int, height: int) -> Picture:
    """Layers laid over each other (svg:src-over), the topmost first; what lies outside is cut off."""
    found = np.zeros((height, width, 4), np.uint8)
    for layer in reversed(layers):
        left, top = max(0, layer.x), max(0, layer.y)
        right = min(width, layer.x + layer.picture.shape[1])
        below = min(height, layer.y + layer.picture.shape[0])
        if right <= left or below <= top:
            continue
        above = layer.picture[top - layer.y : below - layer.y, left - layer.x : right - layer.x]
        found[top:below, left:right] = _over(above, found[top:below, left:right], layer.opacity)
    return found


def _over(above: Picture, under: Picture, opacity: float) -> Picture:
    """Porter and Duff's source-over (1984), of colours that are not multiplied by their alpha."""
    if opacity == 1.0 and set(np.unique(above[..., 3]).tolist()) <= {0, 255}:
        return np.asarray(np.where((above[..., 3:] > 0) | (under[..., 3:] == 0), above, under), np.uint8)
    a = above[..., 3:].astype(np.float32) / 255 * opacity
    b = under[..., 3:].astype(np.float32) / 255 * (1 - a)
    alpha = a + b
    colour = (above[..., :3] * a + under[..., :3] * b) / np.maximum(alpha, 1e-6)
    both = np.rint(np.concatenate([colour, alpha * 255], axis=-1)).clip(0, 255)
    # Over nothing a layer keeps all its colours, also those of clear pixels.
    return np.asarray(np.where((under[..., 3:] == 0) & (opacity == 1.0), above, both), np.uint8)
