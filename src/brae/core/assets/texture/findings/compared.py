"""An edit beside its original, with what several findings ask for."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

from brae.core.assets.sheet import Remedy
from brae.core.assets.texture import formats
from brae.core.assets.texture.formats import Picture
from brae.core.assets.texture.images import ImageFile
from brae.core.assets.texture.remedies import REMEDIES, RemedyId
from brae.core.assets.texture.texture import Recipe, TextureFile


@dataclass
class Compared:
    """An edit beside its original, with what several findings ask for."""

    image: ImageFile
    original: TextureFile
    recipe: Recipe
    remedies: Sequence[str]
    name: str = ""
    #: bytes of what was encoded; None where it is not known yet
    size: int | None = None

    @cached_property
    def picture(self) -> Picture:
        """The edit, 8 bits a channel."""
        return formats.shown(self.image.picture)

    @cached_property
    def before(self) -> Picture:
        """The original, 8 bits a channel."""
        return self.original.shown()

    @property
    def same_sides(self) -> bool:
        """Whether they can be compared pixel by pixel."""
        return self.picture.shape == self.before.shape

    def remedy(self, remedy: RemedyId) -> Remedy:
        """A remedy, and whether it is applied."""
        return Remedy(id=remedy, label=REMEDIES[remedy], applied=remedy in self.remedies)
