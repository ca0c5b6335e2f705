"""Changes of a model that are asked for: an outline around it, coordinates mirrored or flipped."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace
from typing import Literal

import numpy as np

from brae.core.assets.mesh.mesh import Mesh, Part, bounds
from brae.core.errors import FormatError


def outlined(mesh: Mesh, width: float, material: str, spot: tuple[float, float] | None = None) -> Mesh:
    """The model with a second shell around it, pushed out along its normals by ``width`` metres, its faces turned.

    It is joined to the part of that ``material``, or makes one of its own; ``spot``: where on the texture all of it
    lies, so that it has one colour. Corners at one place are pushed one way, so that it has no gaps.
    """
    low, high = bounds(mesh)
    if not len(mesh.corners) or not 0 < width < float((high - low).max()):
        raise FormatError(f"An outline of {width:g} metres is none for this model.", expected="less than its size")
    if "NORMAL" not in mesh.attributes:
        raise FormatError("A model without normals gets no outline.")
    points, which = np.unique(np.round(mesh.positions, 5), axis=0, return_inverse=True)
    ways = np.zeros((len(points), 3))
    np.add.at(ways, which.reshape(-1), mesh.attributes["NORMAL"][:, :3].astype(np.float64))
    lengths = np.linalg.norm(ways, axis=1, keepdims=True)
    ways = np.where(lengths > 1e-9, ways / np.maximum(lengths, 1e-9), 0)[which.reshape(-1)]
    shell = {name: values.copy() for name, values in mesh.attributes.items()}
    shell["POSITION"][:, :3] += (ways * width).astype(np.float32)
    shell["NORMAL"][:, :3] *= -1
    if spot is not None and "TEXCOORD_0" in shell:
        shell["TEXCOORD_0"][:, :2] = spot
    attributes = {name: np.concatenate([values, shell[name]]) for name, values in mesh.attributes.items()}
    turned = mesh.corners[:, ::-1] + np.uint32(len(mesh))
    pieces, parts, start = [], [], 0
    for part in mesh.parts:
        own = [mesh.corners_of(part)]
        if part.material == material:
            own.append(turned)
        pieces += own
        count = sum(map(len, own))
        parts.append(replace(part, first=start, count=count))
        start += count
    if all(part.material != material for part in mesh.parts):
        pieces.append(turned)
        parts.append(Part(material, start, len(turned)))
    return replace(mesh, attributes=attributes, corners=np.concatenate(pieces), parts=tuple(parts))


def turned_over(mesh: Mesh, materials: Collection[str], how: Literal["mirror", "flip"]) -> Mesh:
    """The same with the texture coordinates of some parts mirrored (left and right) or flipped (up and down).

    They keep the room on the picture that they had: each part within its own.
    """
    if "TEXCOORD_0" not in mesh.attributes:
        raise FormatError("This model has no texture coordinates.")
    unknown = set(materials) - {part.material for part in mesh.parts}
    if unknown:
        raise FormatError(f"The model has no part '{min(unknown)}'.")
    column = 0 if how == "mirror" else 1
    extra: dict[str, list[np.ndarray]] = {name: [values] for name, values in mesh.attributes.items()}
    corners, number = mesh.corners.copy(), len(mesh)
    for part in mesh.parts:
        if part.material not in materials or not part.count:
            continue
        used, own = np.unique(mesh.corners_of(part), return_inverse=True)
        for name, values in mesh.attributes.items():
            some = values[used].copy()
            if name == "TEXCOORD_0":
                some[:, column] = some[:, column].max() + some[:, column].min() - some[:, column]
            extra[name].append(some)
        corners[part.first : part.first + part.count] = own.reshape(-1, 3) + number
        number += len(used)
    attributes = {name: np.concatenate(some) for name, some in extra.items()}
    # Asked for once it is meant, twice it is as it was.
    meant = tuple({*mesh.meant} ^ {f"{how}-coordinates"})
    return replace(mesh, attributes=attributes, corners=corners, meant=meant)
