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
    #: 0 near by; more is a copy with less detail, for further away
    level: int = 0
    #: the number of the bone that all of it hangs on, and moves with; -1 where it hangs on none
    node: int = -1


@dataclass(frozen=True)
class Bone:
    """A joint of a skeleton: the number of the one above (-1: none), where it is seen from there, and its inverse
    bind matrix, in glTF's terms; rows of numbers, so that two can be compared.
    """

    name: str
    parent: int
    local: tuple[tuple[float, ...], ...]
    inverse: tuple[tuple[float, ...], ...]


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
    #: what the numbers of JOINTS and the nodes of parts name
    bones: tuple[Bone, ...] = ()
    #: findings that are no mistake, since they were asked for
    meant: tuple[str, ...] = ()

    @property
    def positions(self) -> Floats:
        """Where the vertices are, shape (vertices, 3)."""
        return self.attributes["POSITION"][:, :3]

    def __len__(self) -> int:
        return len(self.attributes["POSITION"])

    def corners_of(self, part: Part) -> Corners:
        """The triangles of a part."""
        return self.corners[part.first : part.first + part.count]


def keys_of(rows: Floats) -> np.ndarray[Any, np.dtype[np.uint64]]:
    """A number for each row, the same for the same bytes (and for 0 and -0); no two others share one by chance.

    Of a million rows the chance that any two share one is 1 in 30 million: mixed as splitmix64 mixes (from memory).
    """
    words = (np.ascontiguousarray(rows, np.float32) + np.float32(0)).view(np.uint32)
    odd = np.random.default_rng(0x5EED).integers(0, 1 << 63, words.shape[1], np.uint64) * np.uint64(2) + np.uint64(
        1
    )
    found = np.zeros(len(words), np.uint64)
    for column in range(words.shape[1]):
        found ^= (
            words[:, column].astype(np.uint64) + odd[column] + (found << np.uint64(6)) + (found >> np.uint64(2))
        )
        found = (found ^ (found >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
        found = (found ^ (found >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
        found ^= found >> np.uint64(31)
    return found


def box_of(places: Floats) -> tuple[Floats, Floats]:
    """The least and the most of each column; there is one row at least."""
    columns = np.ascontiguousarray(places.T)  # ten times as fast as along short rows
    return columns.min(axis=1), columns.max(axis=1)


def bounds(mesh: Mesh) -> tuple[Floats, Floats]:
    """The least and the most of all positions; zeros where there are none."""
    if not len(mesh):
        return np.zeros(3, np.float32), np.zeros(3, np.float32)
    return box_of(mesh.positions)


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


def without_unused(mesh: Mesh) -> Mesh:
    """The same without vertices that no triangle has."""
    used = np.zeros(len(mesh), bool)
    used[mesh.corners] = True
    if used.all():
        return mesh
    attributes = {name: values[used] for name, values in mesh.attributes.items()}
    numbers = (np.cumsum(used) - 1).astype(np.uint32)
    return replace(mesh, attributes=attributes, corners=numbers[mesh.corners])


def welded(mesh: Mesh) -> Mesh:
    """The same, with vertices that are alike in everything kept once, in the order in which they first stand."""
    rows = np.concatenate([np.ascontiguousarray(one) for one in mesh.attributes.values()], axis=1)
    _, first, which = np.unique(keys_of(rows), return_index=True, return_inverse=True)
    order = np.argsort(first, kind="stable")
    rank = np.empty(len(order), np.int64)
    rank[order] = np.arange(len(order))
    keep = first[order]
    attributes = {name: values[keep] for name, values in mesh.attributes.items()}
    return replace(mesh, attributes=attributes, corners=rank[which.reshape(-1)][mesh.corners].astype(np.uint32))
