"""Models that came back in another unit or with another axis up: told by their boxes, and put back."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from brae.core.assets.mesh.mesh import Mesh, bounds, keys_of

#: units that programs take for one another: metres, centimetres, millimetres, inches, feet
_FACTORS = (100.0, 0.01, 1000.0, 0.001, 39.3701, 1 / 39.3701, 3.28084, 1 / 3.28084, 10.0, 0.1, 2.54, 1 / 2.54)
#: how far sides may be from the same, and from a factor; how different two sides are that tell an axis
_ALIKE, _NEAR, _APART = 1.06, 1.03, 1.2
#: right, up, near become right, near, -up: a quarter about the first axis; and back
_TURNS = {
    "forward": np.array([[1.0, 0, 0], [0, 0, 1], [0, -1, 0]]),
    "back": np.array([[1.0, 0, 0], [0, 0, -1], [0, 1, 0]]),
}


def _sides(mesh: Mesh) -> Any:
    low, high = bounds(mesh)
    return (high - low).astype(np.float64)


def _uniform(ratio: Any) -> bool:
    return bool(ratio.max() / ratio.min() < _ALIKE)


def unit_of(before: Mesh, now: Mesh) -> float | None:
    """How many times as large a model came back, where that is one unit taken for another; else None."""
    a, b = np.sort(_sides(before)), np.sort(_sides(now))
    if (a <= 0).any() or (b <= 0).any() or not _uniform(b / a):
        return None
    ratio = float(np.exp(np.log(b / a).mean()))
    return next((one for one in _FACTORS if max(ratio / one, one / ratio) < _NEAR), None)


def turn_of(before: Mesh, now: Mesh) -> np.ndarray[Any, np.dtype[np.float64]] | None:
    """What turns a model back that came with the second and the third axis exchanged; None where it did not."""
    a, b = _sides(before), _sides(now)
    if (a <= 0).any() or (b <= 0).any():
        return None
    exchanged = b[[0, 2, 1]]
    tall = max(a[1] / a[2], a[2] / a[1]) > _APART
    if not tall or _uniform(b / a) or not _uniform(exchanged / a):
        return None
    scale = float(np.exp(np.log(exchanged / a).mean()))
    wanted = keys_of(_snapped(before.positions.astype(np.float64), a))
    found = [
        (len(np.intersect1d(wanted, keys_of(_snapped(now.positions / scale @ turn.T, a)))), turn)
        for turn in _TURNS.values()
    ]
    return max(found, key=lambda one: one[0])[1]


def _snapped(places: Any, sides: Any) -> Any:
    """Places to a thousandth of a model, about the middle of its box."""
    middle = (places.min(axis=0) + places.max(axis=0)) / 2
    return np.round((places - middle) / sides.max() * 500).astype(np.float32)


def moved(mesh: Mesh, by: Any) -> Mesh:
    """The same with what it has turned by a matrix, or its places divided by a number."""
    attributes = dict(mesh.attributes)
    if np.ndim(by) == 0:
        attributes["POSITION"] = (mesh.positions / np.float32(by)).astype(np.float32)
        return replace(mesh, attributes=attributes)
    for name in ("POSITION", "NORMAL", "TANGENT"):
        if name in attributes:
            values = attributes[name].copy()
            values[:, :3] = values[:, :3] @ np.asarray(by, np.float32).T
            attributes[name] = values
    return replace(mesh, attributes=attributes)
