"""A model in memory: what its vertices have, its triangles, and its parts."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

Floats = np.ndarray[Any, np.dtype[np.float32]]
Corners = np.ndarray[Any, np.dtype[np.uint32]]


@dataclass(frozen=True)
class Part:
    """A run of triangles with one material."""

    material: str
    first: int
    count: int
    #: the original's material that this one is in the place of, where that was said
    was: str = ""


@dataclass(frozen=True)
class Mesh:
    """In glTF's terms: right-handed, y up, metres, texture coordinates from the top, fronts anticlockwise.

    ``attributes`` are by glTF's names: float32, shape (vertices, 1 to 4). ``corners`` are the vertices of each
    triangle, shape (triangles, 3); those of one part follow each other.
    """

    attributes: dict[str, Floats]
    corners: Corners
    parts: tuple[Part, ...] = field(default=())
    #: attributes that some of its parts came without: these are zero there
    lacking: tuple[str, ...] = ()

    @property
    def positions(self) -> Floats:
        """Where the vertices are, shape (vertices, 3)."""
        return self.attributes["POSITION"][:, :3]

    def __len__(self) -> int:
        return len(self.attributes["POSITION"])

    def corners_of(self, part: Part) -> Corners:
        """The triangles of a part."""
        return self.corners[part.first : part.first + part.count]


def bounds(mesh: Mesh) -> tuple[Floats, Floats]:
    """The least and the most of all positions; zeros where there are none."""
    if not len(mesh):
        return np.zeros(3, np.float32), np.zeros(3, np.float32)
    return mesh.positions.min(axis=0), mesh.positions.max(axis=0)


def normals_of(mesh: Mesh) -> Floats:
    """Normals worked out from the triangles, each weighed by its area (common practice, no source)."""
    places = mesh.positions.astype(np.float64)
    a, b, c = (places[mesh.corners[:, k]] for k in range(3))
    across = np.cross(b - a, c - a)
    total = np.zeros((len(mesh), 3))
    for k in range(3):
        np.add.at(total, mesh.corners[:, k], across)
    lengths = np.linalg.norm(total, axis=1, keepdims=True)
    up = np.array([0.0, 1.0, 0.0])
    return np.where(lengths > 1e-20, total / np.maximum(lengths, 1e-20), up).astype(np.float32)


def tangents_of(mesh: Mesh) -> Floats:
    """Tangents with the side of the bitangent as the fourth number, from positions, normals and coordinates.

    Lengyel's method (Computing Tangent Space Basis Vectors for an Arbitrary Mesh, 2001), from memory: per triangle,
    summed at the corners, made perpendicular to the normal.
    """
    places, turned = mesh.positions.astype(np.float64), mesh.attributes["NORMAL"][:, :3].astype(np.float64)
    at = mesh.attributes["TEXCOORD_0"][:, :2].astype(np.float64)
    a, b, c = (mesh.corners[:, k] for k in range(3))
    one, two = places[b] - places[a], places[c] - places[a]
    s, t = at[b] - at[a], at[c] - at[a]
    area = s[:, 0] * t[:, 1] - t[:, 0] * s[:, 1]
    share = np.where(np.abs(area) > 1e-20, 1 / np.where(area == 0, 1, area), 0)[:, None]
    along = (one * t[:, 1:2] - two * s[:, 1:2]) * share
    down = (two * s[:, 0:1] - one * t[:, 0:1]) * share
    sums = np.zeros((2, len(mesh), 3))
    for k in range(3):
        np.add.at(sums[0], mesh.corners[:, k], along)
        np.add.at(sums[1], mesh.corners[:, k], down)
    flat = sums[0] - turned * (turned * sums[0]).sum(axis=1, keepdims=True)
    lengths = np.linalg.norm(flat, axis=1, keepdims=True)
    spare = np.cross(turned, np.where(np.abs(turned[:, :1]) < 0.9, [1.0, 0, 0], [0, 1.0, 0]))
    spare /= np.maximum(np.linalg.norm(spare, axis=1, keepdims=True), 1e-20)
    flat = np.where(lengths > 1e-12, flat / np.maximum(lengths, 1e-20), spare)
    side = np.where((np.cross(turned, flat) * sums[1]).sum(axis=1) < 0, -1.0, 1.0)
    return np.concatenate([flat, side[:, None]], axis=1).astype(np.float32)


def without_unused(mesh: Mesh) -> Mesh:
    """The same without vertices that no triangle has."""
    used, corners = np.unique(mesh.corners, return_inverse=True)
    if len(used) == len(mesh):
        return mesh
    attributes = {name: values[used] for name, values in mesh.attributes.items()}
    return replace(mesh, attributes=attributes, corners=corners.reshape(-1, 3).astype(np.uint32))


def welded(mesh: Mesh) -> Mesh:
    """The same, with vertices that are alike in everything kept once, in the order in which they first stand."""
    rows = np.concatenate([np.ascontiguousarray(one) for one in mesh.attributes.values()], axis=1)
    raw = np.ascontiguousarray(rows).view(np.dtype((np.void, rows.dtype.itemsize * rows.shape[1])))[:, 0]
    _, first, which = np.unique(raw, return_index=True, return_inverse=True)
    order = np.argsort(first, kind="stable")
    rank = np.empty(len(order), np.int64)
    rank[order] = np.arange(len(order))
    keep = first[order]
    attributes = {name: values[keep] for name, values in mesh.attributes.items()}
    return replace(mesh, attributes=attributes, corners=rank[which.reshape(-1)][mesh.corners].astype(np.uint32))
