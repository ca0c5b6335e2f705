"""Copies with less detail, for further away: told from the model itself, kept, or made anew of its new shape."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Literal

import numpy as np

from brae.core.assets.mesh.mesh import Corners, Mesh, Part, bounds, without_unused

#: what becomes of the copies when the model changes
Copies = Literal["kept", "anew", "empty"]
#: steps in which the size of the cells is looked for, and the finest
_STEPS, _FINEST = 12, 512


def least(parts: Sequence[Part]) -> int:
    """The level that is seen near by."""
    return min((part.level for part in parts), default=0)


def near(mesh: Mesh) -> Mesh:
    """The parts that are seen near by, with the vertices that they have."""
    first = least(mesh.parts)
    if all(part.level == first for part in mesh.parts):
        return mesh
    pieces, parts, start = [np.zeros((0, 3), np.uint32)], [], 0
    for part in mesh.parts:
        if part.level == first:
            pieces.append(mesh.corners_of(part))
            parts.append(replace(part, first=start))
            start += part.count
    return without_unused(replace(mesh, corners=np.concatenate(pieces), parts=tuple(parts)))


def has_copies(mesh: Mesh) -> bool:
    """Whether it has copies for further away."""
    return len({part.level for part in mesh.parts}) > 1


def same_shape(one: Mesh, other: Mesh) -> bool:
    """Whether two models have the same triangles in space, in whatever order their vertices are."""
    if len(one.corners) != len(other.corners):
        return False

    def placed(mesh: Mesh) -> np.ndarray:
        rows = mesh.positions[mesh.corners].reshape(len(mesh.corners), 9)
        return rows[np.lexsort(rows.T)]

    return bool(np.allclose(placed(one), placed(other), atol=1e-5, rtol=1e-4))


def with_copies(original: Mesh, made: Mesh, copies: Copies) -> Mesh:
    """The new model with the original's copies for further away: as they are, made anew of it, or empty.

    Parts stand in the original's order; those that it has not come last.
    """
    first = least(original.parts)
    nears = [part for part in original.parts if part.level == first]
    news: Sequence[Part | None] = made.parts  # one for each, whatever they are called
    if len(made.parts) != len(nears):
        by_name = {part.was or part.material: part for part in made.parts}
        news = [by_name.get(part.material) for part in nears]
    pairs = list(zip(nears, news, strict=True))
    stands_for = {old.material: (old, new) for old, new in reversed(pairs)}
    attributes, shift = dict(made.attributes), 0
    if copies == "kept":
        shift = len(made)
        attributes = {
            name: np.concatenate([values, _wide(original.attributes[name], values.shape[1])])
            for name, values in made.attributes.items()
        }
    pieces: list[Corners] = [np.zeros((0, 3), np.uint32)]
    parts: list[Part] = []
    start = 0

    def add(part: Part, corners: Corners) -> None:
        nonlocal start
        parts.append(replace(part, first=start, count=len(corners)))
        pieces.append(corners)
        start += len(corners)

    waiting = iter(news)
    for part in original.parts:
        if part.level == first:
            if (here := next(waiting)) is not None:
                add(replace(here, level=first), made.corners_of(here))
            continue
        old, new = stands_for.get(part.material, (part, None))
        # Where it wears another material near by, it does from afar.
        worn = part if new is None else replace(part, material=new.material)
        if copies == "kept":
            add(worn, original.corners_of(part) + np.uint32(shift))
        elif copies == "anew" and new is not None and new.count:
            most = max(round(new.count * part.count / max(old.count, 1)), 1)
            add(worn, simplified(made, made.corners_of(new), most))
        else:
            add(worn, np.zeros((0, 3), np.uint32))
    for part in made.parts:
        if all(part is not one for one in news):
            add(replace(part, level=first), made.corners_of(part))
    return replace(made, attributes=attributes, corners=np.concatenate(pieces), parts=tuple(parts))


def _wide(values: np.ndarray, columns: int) -> np.ndarray:
    return np.pad(values, ((0, 0), (0, max(columns - values.shape[1], 0))))[:, :columns]


def simplified(mesh: Mesh, corners: Corners, most: int) -> Corners:
    """At most so many triangles for these: vertices of one cell become the one that is most in its middle.

    Rossignac and Borrel, "Multi-resolution 3D approximations" (1993), from memory; cells are of space and of the
    texture, so that its seams stay.
    """
    if len(corners) <= most:
        return corners
    low, high, found = 1, _FINEST, corners[:0]
    for _ in range(_STEPS):
        cells = (low + high) // 2
        tried = _clustered(mesh, corners, cells)
        if len(tried) <= most:
            found, low = tried, cells
        else:
            high = cells
        if high - low <= 1:
            break
    if not len(found) and most > 0:  # too few for any cells: the largest of the coarsest that is not flat
        found = _largest(mesh, _clustered(mesh, corners, high), most)
    return found


def _largest(mesh: Mesh, corners: Corners, most: int) -> Corners:
    a, b, c = (mesh.positions[corners[:, k]].astype(np.float64) for k in range(3))
    areas = np.linalg.norm(np.cross(b - a, c - a), axis=1)
    return corners[np.sort(np.argsort(-areas, kind="stable")[:most])]


def _clustered(mesh: Mesh, corners: Corners, cells: int) -> Corners:
    used = np.unique(corners)
    least_of, most_of = bounds(mesh)
    size = max(float((most_of - least_of).max()), 1e-9)
    places = (mesh.positions[used] - least_of) / size * cells
    keys = [np.floor(places).astype(np.int64)]
    at = mesh.attributes.get("TEXCOORD_0")
    if at is not None:
        keys.append(np.floor(np.clip(at[used, :2], -1e3, 1e3) * max(cells // 2, 1)).astype(np.int64))
    _, cell = np.unique(np.concatenate(keys, axis=1), axis=0, return_inverse=True)
    cell = cell.reshape(-1)
    number = int(cell.max()) + 1
    middle = np.zeros((number, 3))
    np.add.at(middle, cell, places)
    middle /= np.bincount(cell, minlength=number)[:, None]
    far = np.linalg.norm(places - middle[cell], axis=1)
    order = np.lexsort((far, cell))
    firsts = order[np.searchsorted(cell[order], np.arange(number))]
    table = np.zeros(len(mesh), np.uint32)
    table[used] = used[firsts[cell]]
    new = table[corners]
    a, b, c = new.T
    new = new[(a != b) & (b != c) & (a != c)]
    _, kept = np.unique(np.sort(new, axis=1), axis=0, return_index=True)
    result: Corners = new[np.sort(kept)]
    return result
