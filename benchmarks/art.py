"""Small pieces of game art that a game library's package ships: many poses of one figure, playing cards, tiles.

The package (arcade 3.3.3, its art is CC0) needs other releases of what is used here, so it is not installed:
`make art` unpacks its files into .art. Without them the lines are left out, and that is said.
"""

from __future__ import annotations

from functools import cache
from pathlib import Path

import numpy as np
from PIL import Image

FOLDER = Path(__file__).parent.parent / ".art"
_SMALLEST, _LARGEST = 40, 256
Picture = np.ndarray


@cache
def art() -> dict[str, Picture]:
    """Pieces of 40 to 256 pixels that show something, RGBA; empty without the package's files."""
    found = {}
    for file in sorted(FOLDER.glob("arcade/resources/assets/images/**/*.png")):
        rgba = np.asarray(Image.open(file).convert("RGBA"))
        shown = rgba[..., :3][rgba[..., 3] > 127]
        if _SMALLEST <= max(rgba.shape[:2]) <= _LARGEST and len(shown) > 300 and shown.std() > 12:
            found[str(file.relative_to(FOLDER / "arcade/resources/assets/images"))] = rgba
    return found


@cache
def behind() -> list[Picture]:
    """Scenes that the same package ships, RGB; none of them is among ``art``."""
    files = sorted(FOLDER.glob("arcade/resources/assets/images/backgrounds/*"))
    return [np.asarray(Image.open(file).convert("RGB")) for file in files if file.suffix in (".png", ".jpg")]
