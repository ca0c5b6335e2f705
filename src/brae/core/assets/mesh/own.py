"""A model in the place of another, as a file of the game's own: its bytes go in as they are, if it fits."""

from __future__ import annotations

import numpy as np

from brae.core.assets.base import Encoded
from brae.core.assets.mesh import described
from brae.core.assets.mesh.described import MeshFile
from brae.core.assets.mesh.matching import properties
from brae.core.assets.mesh.mesh import Mesh
from brae.core.assets.sheet import Finding, MatchSheet
from brae.core.errors import BraeError, FormatError

#: the texture is looked at in so many squares a side; below this share of common ones another texture is meant
_SQUARES, _COMMON = 32, 0.35


def read(original: MeshFile, data: bytes) -> MeshFile:
    """A file by the original's layout. FormatError where it is neither that nor glTF."""
    try:
        return described.read(original.layout, data, original.name)
    except BraeError as error:
        raise FormatError(
            f"This is neither glTF nor a file like the original ({original.layout.title}): {error.message}",
            offset=error.offset, expected=".glb, .gltf, or a file of the same type as the original",
        ) from None  # fmt: skip


def match(original: MeshFile, data: bytes) -> tuple[MatchSheet, Encoded]:
    """The match sheet of a file that goes in as it is."""
    came = read(original, data)
    findings = list(_parts(original.mesh, came.mesh))
    findings += _bones(original.mesh, came.mesh)
    findings += _textures(original.near, came.near)
    return MatchSheet(properties=properties(original.near, came.near, came.near), findings=findings), Encoded(data)


def _parts(before: Mesh, now: Mesh) -> list[Finding]:
    if len(before.parts) == len(now.parts):
        return []
    return [
        Finding(
            id="parts", severity="stops",
            title=f"{len(now.parts)} parts instead of the original's {len(before.parts)}",
            in_game="A game that expects as many parts as before does not load the model.",
        )
    ]  # fmt: skip


def _bones(before: Mesh, now: Mesh) -> list[Finding]:
    if [bone.name for bone in before.bones] == [bone.name for bone in now.bones]:
        return []
    lost = sorted({bone.name for bone in before.bones} - {bone.name for bone in now.bones})
    words = f"without {', '.join(lost[:6])}" if lost else "in another order, or with more bones"
    return [
        Finding(
            id="skeleton", severity="stops", title=f"It has another skeleton: {words}",
            in_game="Movements that were made for the original's bones pull it apart.",
        )
    ]  # fmt: skip


def covered(mesh: Mesh, part: int) -> np.ndarray:
    """The squares of its texture on which a part's triangles have corners or middles, (32, 32); wrapped round."""
    found = np.zeros((_SQUARES, _SQUARES), bool)
    at = mesh.attributes["TEXCOORD_0"][:, :2][mesh.corners_of(mesh.parts[part])]
    if len(at):
        points = np.concatenate(
            [at.reshape(-1, 2), at.mean(axis=1), (at + np.roll(at, 1, axis=1)).reshape(-1, 2) / 2]
        )
        points = points[np.isfinite(points).all(axis=1)]
        squares = np.floor(np.mod(points, 1.0) * _SQUARES).astype(int).clip(0, _SQUARES - 1)
        found[squares[:, 1], squares[:, 0]] = True
    return found


def _textures(before: Mesh, now: Mesh) -> list[Finding]:
    """Parts whose coordinates lie elsewhere on the texture of the same name: that was painted for another model."""
    if not {"TEXCOORD_0"} <= before.attributes.keys() & now.attributes.keys():
        return []
    old = {part.material: number for number, part in enumerate(before.parts)}
    found = []
    for number, part in enumerate(now.parts):
        if part.material not in old or not part.count or not before.parts[old[part.material]].count:
            continue
        one, other = covered(before, old[part.material]), covered(now, number)
        common = (one & other).sum() / max((one | other).sum(), 1)
        if common < _COMMON:
            found.append(
                Finding(
                    id=f"painted-{number}", severity="shows", sure="likely",
                    title=f"{part.material or 'A part'} lies elsewhere on its texture: {common:.0%} in common",
                    in_game="The texture was not made for this model: it looks torn, until it gets its own.",
                )
            )  # fmt: skip
    return found
