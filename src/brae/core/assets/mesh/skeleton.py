"""Skeletons: the bones of a file in glTF's terms, weights on as many of them as a vertex form holds."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from brae.core.assets.mesh.mesh import Bone, Floats
from brae.core.errors import FormatError
from brae.core.layouts.directory import record_names
from brae.core.layouts.geometry import SkeletonPart, VerticesPart
from brae.core.layouts.parts import TablePart
from brae.core.layouts.read import Parsed
from brae.core.layouts.rows import Rows

Matrix = np.ndarray[Any, np.dtype[np.float64]]


def bones_of(parsed: Parsed, part: SkeletonPart, vertices: VerticesPart) -> tuple[Bone, ...]:
    """The bones of a file. FormatError where one is above itself, or its numbers are none."""
    table, records = parsed.tables[part.of], parsed.regions[part.of].part
    assert isinstance(records, TablePart)
    number = len(table)
    names = record_names(parsed, records, table, ())
    above = table.numbers(part.parent)
    parents = np.where((above >= 0) & (above < number), above, -1)
    _check_tree(parents, part)
    turn = _turn(vertices)
    locals_: Any = _locals(part, table, turn, vertices.metres)
    inverses: Any = _inverses(part, table, turn, vertices.metres)
    worlds: Any = np.tile(np.eye(4), (number, 1, 1))
    if locals_ is None:
        assert inverses is not None
        worlds = np.linalg.inv(inverses)
        locals_ = np.stack(
            [inverses[parents[k]] @ worlds[k] if parents[k] >= 0 else worlds[k] for k in range(number)]
        ) if number else worlds  # fmt: skip
    else:
        worlds = _worlds(parents.tolist(), locals_)
    if inverses is None:
        flat: Any = np.flatnonzero(~(np.abs(np.linalg.det(worlds)) >= 1e-12)) if number else []
        if len(flat):
            raise FormatError(f"The bone '{names[int(flat[0])]}' flattens what hangs on it.")
        inverses = np.linalg.inv(worlds)
    if not (np.isfinite(locals_).all() and np.isfinite(inverses).all()):
        raise FormatError(f"A number of the bones in '{part.of}' is none.")
    return tuple(Bone(name, int(parents[k]), _rows(locals_[k]), _rows(inverses[k])) for k, name in enumerate(names))


def _rows(matrix: Matrix) -> tuple[tuple[float, ...], ...]:
    return tuple(tuple(row) for row in matrix.tolist())


def _check_tree(parents: Any, part: SkeletonPart) -> None:
    """FormatError where a bone is above itself."""
    below: dict[int, list[int]] = {}
    for number, parent in enumerate(parents.tolist()):
        below.setdefault(parent, []).append(number)
    found: set[int] = set()
    waiting = list(below.get(-1, []))
    while waiting:
        one = waiting.pop()
        found.add(one)
        waiting += below.get(one, [])
    if len(found) < len(parents):
        lost = min(set(range(len(parents))) - found)
        raise FormatError(f"{part.of}[{lost}] is above itself: no bone of its tree is a root.")


def _turn(vertices: VerticesPart) -> Matrix:
    """What makes of a vector of the file one in glTF's terms, without its unit; shape (3, 3)."""
    found = np.zeros((3, 3))
    for row, word in enumerate(vertices.axes.split()):
        found[row, "xyz".index(word[-1])] = -1.0 if word.startswith("-") else 1.0
    return found


def _columns(table: Rows, fields: Sequence[str]) -> Matrix:
    """Fields of all records as numbers, shape (records, fields)."""
    order = "<" if table.endian == "little" else ">"
    found = [
        np.ascontiguousarray(table.raw_bytes(table.leaf[field].column)).view(f"{order}f4").reshape(-1)
        for field in fields
    ]
    return np.stack(found, axis=1).astype(np.float64) if len(table) else np.zeros((0, len(fields)))


def _locals(part: SkeletonPart, table: Rows, turn: Matrix, metres: float) -> Matrix | None:
    if part.place is None:
        return None
    found = np.tile(np.eye(4), (len(table), 1, 1))
    if part.turn is not None:
        turns = np.stack([rotation(*row) for row in _columns(table, part.turn)]) if len(table) else found[:, :3, :3]
        found[:, :3, :3] = turn @ turns @ turn.T
    if part.scale is not None:
        # A mirrored axis is the same axis: of a size along it only where it lies counts.
        found[:, :3, :3] *= (_columns(table, part.scale) @ np.abs(turn).T)[:, None, :]
    found[:, :3, 3] = _columns(table, part.place) @ turn.T * metres
    return found


def worlds_of(bones: Sequence[Bone]) -> Matrix:
    """Where each bone lies at rest, shape (bones, 4, 4)."""
    return _worlds([bone.parent for bone in bones], np.array([bone.local for bone in bones]).reshape(-1, 4, 4))


def _worlds(parents: Sequence[int], places: Matrix) -> Matrix:
    """Places seen from above as places in the whole model; whose tree has no loop, in whatever order."""
    found, done = places.copy(), [parent < 0 for parent in parents]
    for number in range(len(parents)):
        way = [number]
        while not done[way[-1]]:
            way.append(parents[way[-1]])
        for one in reversed(way[:-1]):
            found[one] = found[parents[one]] @ places[one]
            done[one] = True
    return found


def hung(attributes: Mapping[str, Floats], nodes: Any, places: Any) -> dict[str, Floats]:
    """Attributes of vertices where the nodes that they hang on put them; ``nodes``: a number for each, -1: none.

    Directions keep their lengths; normals go by the inverse transposed (glTF 2.0, section 3.5.3).
    """
    found = dict(attributes)
    for name in [one for one in attributes if one.partition("_")[0] in ("POSITION", "NORMAL", "TANGENT")]:
        values = attributes[name].copy()
        for node in np.unique(nodes[nodes >= 0]).tolist():
            rows, matrix = nodes == node, places[node]
            some = values[rows, :3].astype(np.float64)
            if name.startswith("POSITION"):
                values[rows, :3] = some @ matrix[:3, :3].T + matrix[:3, 3]
                continue
            turn = np.linalg.inv(matrix[:3, :3]).T if name.startswith("NORMAL") else matrix[:3, :3]
            turned = some @ turn.T
            lengths = np.linalg.norm(turned, axis=1, keepdims=True)
            before = np.linalg.norm(some, axis=1, keepdims=True)
            values[rows, :3] = turned * (before / np.where(lengths > 1e-20, lengths, 1))
        found[name] = values
    return found


def _inverses(part: SkeletonPart, table: Rows, turn: Matrix, metres: float) -> Matrix | None:
    if part.inverse is None:
        return None
    found = np.tile(np.eye(4), (len(table), 1, 1))
    rows = len(part.inverse) // 4
    found[:, :rows] = _columns(table, part.inverse).reshape(-1, rows, 4)
    found[:, :3, :3] = turn @ found[:, :3, :3] @ turn.T
    found[:, :3, 3] = found[:, :3, 3] @ turn.T * metres
    if np.isfinite(found).all() and len(table) and (np.abs(np.linalg.det(found)) < 1e-12).any():
        raise FormatError(f"An inverse bind matrix of '{part.of}' flattens everything.")
    return found


def rotation(x: float, y: float, z: float, w: float) -> Matrix:
    """The matrix of a quaternion (glTF 2.0, section 3.5.3); none where it is all zeros."""
    length = float(np.sqrt(x * x + y * y + z * z + w * w))
    if not length > 1e-12:
        return np.eye(3)
    x, y, z, w = x / length, y / length, z / length, w / length
    return np.array(
        [
            [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
            [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
            [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
        ]
    )


# ---- weights --------------------------------------------------------------------------------------------------


def on_bones(
    attributes: Mapping[str, Floats], came: Sequence[Bone], wanted: Sequence[Bone]
) -> tuple[dict[str, Floats], list[str]]:
    """The same attributes, their JOINTS naming ``wanted`` by the names of bones; and the names that are not there.

    What hung on a bone that is not there hangs on the nearest one above it that is, else on the first.
    """
    places = {bone.name: number for number, bone in enumerate(wanted)}
    lost, table = [], []
    for number, bone in enumerate(came):
        if bone.name not in places:
            lost.append(bone.name)
        here, seen = number, 0
        while here >= 0 and came[here].name not in places and seen <= len(came):
            here, seen = came[here].parent, seen + 1
        table.append(places[came[here].name] if 0 <= here < len(came) and came[here].name in places else 0)
    found = dict(attributes)
    names = np.array(table or [0], np.float32)
    for name, values in attributes.items():
        if name.startswith("JOINTS"):
            numbers = np.clip(np.rint(values), 0, len(names) - 1).astype(np.int64)
            found[name] = names[numbers]
    used = set()
    for name in [one for one in attributes if one.startswith("JOINTS")]:
        weights = attributes.get(name.replace("JOINTS", "WEIGHTS"))
        if weights is not None:
            some = np.rint(attributes[name])[weights > 0]
            used |= {came[int(one)].name for one in np.unique(some) if 0 <= one < len(came)}
    return found, [name for name in lost if name in used]


def strongest(attributes: Mapping[str, Floats], most: int) -> tuple[dict[str, Floats], int]:
    """All sets of joints and weights as one with the ``most`` strongest of each vertex, sum one.

    Weights on one bone are added first. Returns how many vertices hung on more bones than that.
    """
    sets = sorted(name for name in attributes if name.startswith("JOINTS"))
    pairs = [(name, name.replace("JOINTS", "WEIGHTS")) for name in sets]
    pairs = [(joints, weights) for joints, weights in pairs if weights in attributes]
    rest = {name: values for name, values in attributes.items() if not name.startswith(("JOINTS", "WEIGHTS"))}
    if not pairs:
        return dict(attributes), 0
    joints = np.concatenate([attributes[one] for one, _ in pairs], axis=1)
    weights = np.concatenate([np.maximum(attributes[one], 0) for _, one in pairs], axis=1).astype(np.float64)
    if joints.shape[1] != weights.shape[1]:
        raise FormatError("A model has not as many weights as bones that they are of.")
    if len(pairs) == 1 and not (weights[:, most:] > 0).any() and (weights[:, :most] > 0).any(axis=1).all():
        rest["JOINTS_0"], rest["WEIGHTS_0"] = attributes["JOINTS_0"][:, :most], attributes["WEIGHTS_0"][:, :most]
        return rest, 0
    # The weight of a bone that a vertex names twice is one weight.
    columns = joints.shape[1]
    for late in range(1, columns):
        for early in range(late):
            same = (joints[:, late] == joints[:, early]) & (weights[:, late] > 0)
            weights[same, early] += weights[same, late]
            weights[same, late] = 0
    order = np.argsort(-weights, axis=1, kind="stable")
    joints, weights = np.take_along_axis(joints, order, 1), np.take_along_axis(weights, order, 1)
    beyond = int((weights[:, most:] > 1e-6).any(axis=1).sum())
    joints, weights = joints[:, :most].copy(), weights[:, :most]
    totals = weights.sum(axis=1, keepdims=True)
    weights = np.where(totals > 0, weights / np.where(totals > 0, totals, 1), 0)
    weights[totals[:, 0] <= 0, 0] = 1.0  # what hangs on nothing hangs on the first that it names
    joints[weights <= 0] = 0
    rest["JOINTS_0"], rest["WEIGHTS_0"] = joints.astype(np.float32), weights.astype(np.float32)
    return rest, beyond
