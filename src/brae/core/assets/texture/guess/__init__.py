"""Pixels without a header: explanations of the bytes, best first."""

from brae.core.assets.texture.guess.guess import Guess, PaletteAt
from brae.core.assets.texture.guess.looks import thumbnail
from brae.core.assets.texture.guess.propose import HEADLESS, by_hand, propose

__all__ = ["HEADLESS", "Guess", "PaletteAt", "by_hand", "propose", "thumbnail"]
