"""Tangents as MikkTSpace has them: the same in every tool, so that a normal map looks as it was baked.

M. S. Mikkelsen, "Simulation of Wrinkled Surfaces Revisited" (2008); glTF 2.0 asks for it where a file has no
tangents (section 3.7.2.1). From memory, checked beside the reference's own code (tests).
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from brae.core.assets.mesh.mesh import Floats, Mesh, keys_of

Ints = np.ndarray[Any, np.dtype[np.int64]]
#: what is shorter or smaller has no direction
_NOTHING = 1e-20


def with_tangents(mesh: Mesh, *, side: float = 1.0) -> Mesh:
    """The same with tangents, of four numbers, the last the side of the bitangent (times ``side``).

    A vertex whose triangles have different ones becomes several. It has positions, normals and coordinates.
    """
    found, groups = _corner_tangents(mesh)
    corners = mesh.corners.reshape(-1).astype(np.int64)
    # Corners of one vertex that have the same tangent are one vertex.
    pairs = np.stack([corners, groups], axis=1)
    _, first, which = np.unique(pairs, axis=0, return_index=True, return_inverse=True)
    order = np.lexsort((first, corners[first]))
    rank = np.empty(len(order), np.int64)
    rank[order] = np.arange(len(order))
    kept = first[order]
    attributes = {name: values[corners[kept]] for name, values in mesh.attributes.items() if name != "TANGENT"}
    tangents = found[kept]
    tangents[:, 3] *= side
    attributes["TANGENT"] = tangents.astype(np.float32)
    return replace(mesh, attributes=attributes, corners=rank[which.reshape(-1)].reshape(-1, 3).astype(np.uint32))


def side_of(mesh: Mesh) -> float:
    """Whether a model's own tangents have their bitangents on the method's side (1), or on the other (-1)."""
    own = mesh.attributes.get("TANGENT")
    if (
        own is None
        or own.shape[1] < 4
        or not {"NORMAL", "TEXCOORD_0"} <= mesh.attributes.keys()
        or not len(mesh.corners)
    ):
        return 1.0
    found, _ = _corner_tangents(mesh)
    agree = own[mesh.corners.reshape(-1), 3] * found[:, 3]
    return -1.0 if float(agree.sum()) < 0 else 1.0


def _corner_tangents(mesh: Mesh) -> tuple[Floats, Ints]:
    """Of each corner of each triangle its tangent, shape (corners, 4), and the group that shares it."""
    places, turned = mesh.positions.astype(np.float64), mesh.attributes["NORMAL"][:, :3].astype(np.float64)
    at = mesh.attributes["TEXCOORD_0"][:, :2].astype(np.float64)
    lengths = np.linalg.norm(turned, axis=1, keepdims=True)
    turned = turned / np.maximum(lengths, _NOTHING)
    corners = mesh.corners.astype(np.int64)
    if not len(corners):
        return np.zeros((0, 4), np.float32), np.zeros(0, np.int64)
    a, b, c = corners.T
    one, two = places[b] - places[a], places[c] - places[a]
    s, t = at[b] - at[a], at[c] - at[a]
    area = s[:, 0] * t[:, 1] - s[:, 1] * t[:, 0]
    keeps = area > 0
    flat = np.abs(area) < _NOTHING
    along = one * t[:, 1:2] - two * s[:, 1:2]
    length = np.linalg.norm(along, axis=1, keepdims=True)
    along = (
        np.where(length > _NOTHING, along / np.maximum(length, _NOTHING), 0) * np.where(keeps, 1.0, -1.0)[:, None]
    )
    groups = _groups(mesh, keeps, flat)
    # Each corner's share: the triangle's direction in the corner's plane, by its angle there.
    normal = turned[corners].reshape(-1, 3)
    shares = np.repeat(along, 3, axis=0)
    shares = _unit(shares - normal * (normal * shares).sum(axis=1, keepdims=True))
    angles = _angles(places[corners], normal.reshape(-1, 3, 3)).reshape(-1)
    shares *= np.where(np.repeat(flat, 3), 0.0, angles)[:, None]
    sums = np.zeros((len(groups), 3))
    np.add.at(sums, groups, shares)
    tangent = _unit(sums[groups])
    none = np.linalg.norm(tangent, axis=1) < 0.5
    tangent[none] = _unit(np.array([1.0, 0, 0]) - normal[none] * normal[none][:, :1])
    still = np.linalg.norm(tangent, axis=1) < 0.5
    tangent[still] = [1.0, 0.0, 0.0]
    sides = np.where(np.repeat(keeps | flat, 3), 1.0, -1.0)
    return np.concatenate([tangent, sides[:, None]], axis=1).astype(np.float32), groups


def _groups(mesh: Mesh, keeps: Any, flat: Any) -> Ints:
    """The corners that share a tangent: of one point, around which triangles of one side follow edge by edge."""
    from brae.core.assets.mesh.kernels import joined

    rows = np.concatenate(
        [mesh.positions, mesh.attributes["NORMAL"][:, :3], mesh.attributes["TEXCOORD_0"][:, :2]], axis=1
    ).astype(np.float32)
    point = np.unique(keys_of(rows), return_inverse=True)[1].reshape(-1)[mesh.corners.astype(np.int64)]
    number = len(point)
    starts = point.reshape(-1)
    ends = np.roll(point, -1, axis=1).reshape(-1)
    low, high = np.minimum(starts, ends), np.maximum(starts, ends)
    order = np.lexsort((np.arange(3 * number), high, low))
    same = (low[order][1:] == low[order][:-1]) & (high[order][1:] == high[order][:-1])
    first, second = order[:-1][same], order[1:][same]
    one, other = first // 3, second // 3
    fits = (one != other) & (keeps[one] == keeps[other]) & ~flat[one] & ~flat[other]
    first, second, one, other = first[fits], second[fits], one[fits], other[fits]
    ahead = np.where(first % 3 == 2, first - 2, first + 1)
    behind = np.where(second % 3 == 2, second - 2, second + 1)
    # An edge of both leads the one way here and the other way there, or (turned over) the same way.
    across = starts[first] == starts[behind]
    pairs = np.concatenate(
        [
            np.stack([first, np.where(across, behind, second)], axis=1),
            np.stack([ahead, np.where(across, second, behind)], axis=1),
        ]
    )
    return np.asarray(joined(pairs, 3 * number), np.int64)


def _unit(vectors: Any) -> Any:
    lengths = np.linalg.norm(vectors, axis=-1, keepdims=True)
    return np.where(lengths > _NOTHING, vectors / np.maximum(lengths, _NOTHING), 0.0)


def _angles(places: Any, normals: Any) -> Any:
    """The angle of each triangle at each corner, in that corner's plane; shape (triangles, 3)."""
    found = np.empty(places.shape[:2])
    for k in range(3):
        here, normal = places[:, k], normals[:, k]
        edges = []
        for other in ((k + 1) % 3, (k + 2) % 3):
            edge = places[:, other] - here
            edges.append(_unit(edge - normal * (normal * edge).sum(axis=1, keepdims=True)))
        found[:, k] = np.arccos(np.clip((edges[0] * edges[1]).sum(axis=1), -1, 1))
    return found
