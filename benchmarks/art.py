"""Small pieces of game art that a game library's package ships: many poses of one figure, playing cards, tiles.

The package (arcade 3.3.3, its art is CC0) needs other releases of what is used here, so it is not installed:
`make art` unpacks its files into .art, and those of three more packages, of which only pictures are read. Without
them the lines are left out, and that is said.
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


#: where other packages have pictures: sprites and screenshots, textures of models, an interface
OTHERS = ("pygame/examples/data", "pygame/docs/generated/_images", "ursina/textures", "kivy/data", "kivy/tools")


@cache
def of_other_packages() -> dict[str, dict[str, Picture]]:
    """Pictures of at least 24 pixels, RGBA, by the package; empty without their files."""
    found: dict[str, dict[str, Picture]] = {}
    for folder in OTHERS:
        for file in sorted((FOLDER / folder).glob("**/*")):
            if file.suffix not in (".png", ".jpg", ".gif", ".bmp", ".tga"):
                continue
            rgba = np.asarray(Image.open(file).convert("RGBA"))
            seen = rgba[..., :3][rgba[..., 3] > 127]
            if min(rgba.shape[:2]) >= 8 and max(rgba.shape[:2]) >= 24 and len(seen) and seen.std() > 12:
                found.setdefault(folder.split("/")[0], {})[str(file.relative_to(FOLDER))] = rgba
    return found
