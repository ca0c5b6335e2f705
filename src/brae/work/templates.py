"""A sprite's edit made of another sprite's frames."""

from __future__ import annotations

from dataclasses import dataclass

from brae.core.assets.sprite.described import SpriteFile
from brae.core.assets.sprite.matching import arranged
from brae.core.assets.sprite.templates import By, laid
from brae.core.assets.texture.files import write_image
from brae.core.errors import FormatError, NotFoundError
from brae.work.edits import put_in_work, take_file
from brae.work.items import look_at
from brae.work.sent import ALWAYS_SENT
from brae.work.workspace import Workspace


@dataclass(frozen=True)
class LaidOver:
    """How many frames a template gave; the numbers of those that it has not, and of those it does not fit on."""

    __pydantic_config__ = ALWAYS_SENT

    frames: int
    missing: list[int]
    cut: list[int]


def lay_over(workspace: Workspace, project_id: str, address: str, template: str, by: By = "number") -> LaidOver:
    """Give a sprite the frames of another, as that is edited; a version more of its edit.

    Raises FormatError where one of them is no sprite, NotFoundError where no frame goes with another.
    """
    original, other = (_sprite(workspace, project_id, one) for one in (address, template))
    found = laid(original[0], other[1], by)
    count = len(original[0].sprite.frames) - len(found.missing)
    name = workspace.find(project_id, template).member.name.rpartition("/")[2]
    if not count:
        raise NotFoundError(
            f"No frame of {name} goes with one of this sprite.",
            address=address,
            remedy="Their sequences have other names: take its frames by their numbers." if by == "name" else None,
        )
    put_in_work(workspace, project_id, address)
    picture = write_image(arranged(original[0], found.cells))
    take_file(workspace, project_id, address, picture, "template.png", what=f"frames of {name}")
    return LaidOver(count, list(found.missing), list(found.cut))


def _sprite(workspace: Workspace, project_id: str, address: str) -> tuple[SpriteFile, SpriteFile]:
    """A sprite as it was, and as it will be."""
    kind, viewed = look_at(workspace, project_id, address)
    if not isinstance(viewed.original, SpriteFile):
        raise FormatError(f"{kind.titles} have no frames to be laid over others.", address=address)
    now = viewed.edit if viewed.edit is not None else viewed.original
    return viewed.original, now
