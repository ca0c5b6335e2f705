"""Sets of maps that belong to one surface, and the channels of packed ones."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import select

from brae.core.assets.texture import channels, formats
from brae.core.assets.texture.channels import Part
from brae.core.assets.texture.files import read_image, write_image
from brae.core.assets.texture.formats import Picture
from brae.core.assets.texture.remedies import apply_remedies
from brae.core.errors import BraeError, FormatError
from brae.core.layouts.roles import Channel, MapName, MapUse, map_names
from brae.store.models import Member
from brae.work.edits import take_file
from brae.work.workspace import Workspace


@dataclass(frozen=True)
class MapOf:
    """One map of a surface."""

    member: Member
    name: MapName


def surface(workspace: Workspace, project_id: str, address: str) -> list[MapOf]:
    """The textures that belong to the same surface as an item, itself included.

    Told by the ends of their names; what a map is for, its own format may say better.
    """
    profile = workspace.profile(workspace.project(project_id))
    rules = profile.maps if profile is not None else []
    found = workspace.find(project_id, address)
    query = select(Member).where(
        Member.project_id == project_id, Member.kind == "texture", Member.folder == found.member.folder
    )
    with workspace.database.session() as session:
        members = list(session.scalars(query))
    if found.member.name not in {member.name for member in members}:
        return []  # it is no texture, so it belongs to no surface
    names = map_names({member.name: _use(member) for member in members}, rules)
    near = [MapOf(member, names[member.name]) for member in members]
    wanted = names[found.member.name].surface
    # Of copies in several archives the item's own archive's counts, else the one that the game uses.
    own = found.archive.id
    near.sort(key=lambda one: (one.member.archive_id != own, one.member.winner is not None))
    same: dict[str, MapOf] = {}
    for one in near:
        if one.name.surface == wanted:
            same.setdefault(one.member.name, one)
    return sorted(same.values(), key=lambda one: (one.name.role != "colour", one.member.address))


def _use(member: Member) -> MapUse | None:
    return None if member.use is None else MapUse.model_validate(member.use)


def channel_of(workspace: Workspace, project_id: str, address: str, channel: Channel) -> bytes:
    """One channel of an item as it is now, as a grey PNG (or EXR, where it holds light)."""
    picture = _now(workspace, project_id, address)
    kind = "exr" if formats.depth_of(picture) == "float" else "png"
    return write_image(channels.split(picture, channel)[channel], kind, alpha=False)


def set_channel(
    workspace: Workspace, project_id: str, address: str, channel: Channel, data: bytes, name: str, *, invert: bool
) -> None:
    """Another picture's red (or grey) in one channel of an item; with none the channel's own, inverted.

    A version more of the edit. Raises FormatError where the sides differ.
    """
    base = _now(workspace, project_id, address)
    part = Part(base, channel, invert)
    words = f"{channel.upper()} inverted" if not data else f"{channel.upper()} from {name}"
    if data:
        try:
            part = Part(read_image(data, name).picture, "r", invert)
        except BraeError as error:
            raise error.at(name) from None
    elif not invert:
        raise FormatError("There is nothing to put into the channel.", address=address)
    made = channels.compose({channel: part}, base)
    kind = "exr" if formats.depth_of(made) == "float" else "png"
    take_file(workspace, project_id, address, write_image(made, kind), f"{name or channel}.{kind}", what=words)


def _now(workspace: Workspace, project_id: str, address: str) -> Picture:
    """An item's picture as it was painted last, remedies applied; its original where nothing was painted."""
    original = workspace.texture_at(project_id, address)
    edit = workspace.edit_or_none(project_id, address)
    step = edit.current if edit is not None else None
    if step is None:
        return original.picture()
    image = read_image(workspace.blobs.get(step.file_sha256), step.file_name)
    return apply_remedies(image.picture, original, step.remedies)
