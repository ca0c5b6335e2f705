"""What an editor changed by itself in a model, and what puts it right."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from brae.core.assets.mesh import frames, levels
from brae.core.assets.mesh.described import MeshFile
from brae.core.assets.mesh.levels import Copies, has_copies, same_shape, with_copies
from brae.core.assets.mesh.mesh import Mesh, Part, bounds, keys_of, normals_of, welded, without_unused
from brae.core.assets.mesh.skeleton import on_bones, strongest
from brae.core.assets.mesh.tangents import side_of, with_tangents
from brae.core.assets.sheet import Finding, MatchSheet, Property, Remedy
from brae.core.errors import FormatError

REMEDIES = {
    "axes": "Turn it upright again",
    "unit": "Bring it back to the original's size",
    "parts": "Keep the original's parts: join what is more, leave empty what is missing",
    "parts-split": "Split it into the original's parts, by where those were",
    "coordinates": "Move texture coordinates into 0 to 1 by whole pictures",
    "turned": "Turn the faces round",
    "flip-coordinates": "Flip the texture coordinates as the original's are",
    "mirror-coordinates": "Mirror the texture coordinates as the original's are",
    "levels-anew": "Make the copies for further away anew of the new shape",
    "levels-empty": "Leave the copies for further away empty",
}
#: coordinates may be so far outside before it is told: rounding, and a texel or two
_NEARLY = 0.01
#: a model whose volume has the other sign is turned inside out; below this share of its box it has no inside
_HOLLOW = 0.02
#: more vertices than this are worth a word, where they are many times the original's (common practice, no source)
_MANY = 10_000
#: pairs of triangles that are compared at most
_PAIRS = 50_000_000
#: how a part is called that has no material
_BARE = re.compile(r"(part \d+)?")
#: so many corners that stayed where they were tell whether coordinates are turned; and what counts as equal
_TOLD, _SAME = 12, 0.01


def match(original: MeshFile, came: Mesh, remedies: Sequence[str]) -> tuple[MatchSheet, bytes]:
    """A model that came back beside its original, and the file that it makes."""
    findings: list[Finding] = []

    def remedy(name: str) -> Remedy:
        return Remedy(id=name, label=REMEDIES[name], applied=name in remedies)

    near = original.near
    came, notes = _framed(near, came, remedies, remedy)
    findings += notes
    mesh, notes = _in_form(original, came)
    findings += notes
    mesh = ordered(mesh, near.parts)
    if len(mesh.parts) != len(near.parts):
        more = len(mesh.parts) - len(near.parts)
        words = f"{abs(more)} {'part' if abs(more) == 1 else 'parts'} {'more' if more > 0 else 'fewer'}"
        findings.append(
            Finding(
                id="parts", severity="stops", **_either(remedy, ["parts", *(["parts-split"] if more < 0 else [])]),
                title=f"{words} than the original's {len(near.parts)}",
                in_game="A game that expects as many parts as before does not load the model.",
            )
        )  # fmt: skip
        if "parts-split" in remedies and more < 0:
            mesh = _split(mesh, near)
        elif "parts" in remedies or original.parts_table is None:
            mesh = _as_many(mesh, near.parts)
    stayed = _in_place(near, mesh)
    for name, column in (("flip-coordinates", 1), ("mirror-coordinates", 0)):
        if name not in came.meant and (turned := _turned_over(stayed, column)) is not None:
            findings.append(turned.model_copy(update={"remedy": remedy(name)}))
            if name in remedies:
                at = mesh.attributes["TEXCOORD_0"].copy()
                at[:, column] = 1 - at[:, column]
                mesh = replace(mesh, attributes={**mesh.attributes, "TEXCOORD_0": at})
    findings += _coordinates(near, mesh, remedy("coordinates"))
    if "coordinates" in remedies:
        mesh = _inside(mesh)
    if _inside_out(near, mesh):
        findings.append(
            Finding(
                id="turned", severity="shows", sure="likely", remedy=remedy("turned"),
                title="The faces look the other way",
                in_game="The model is seen from inside, or not at all.",
            )
        )  # fmt: skip
        if "turned" in remedies:
            mesh = replace(mesh, corners=np.ascontiguousarray(mesh.corners[:, ::-1]))
    findings += _open(near, mesh)
    findings += _large(near, mesh)
    if has_copies(original.mesh):
        if not same_shape(near, mesh):
            findings.append(_old_copies(original.mesh, remedy))
        copies: Copies = "anew" if "levels-anew" in remedies else "empty" if "levels-empty" in remedies else "kept"
        mesh = with_copies(original.mesh, mesh, copies)
    mesh = welded(without_unused(mesh))
    if len(mesh) > original.limit:
        raise FormatError(
            f"The model has {len(mesh):,} vertices, and the indices of this file can name {original.limit:,}.",
            remedy="Make it simpler, or split it into several models.",
        )
    return MatchSheet(properties=properties(near, came, levels.near(mesh)), findings=findings), original.rewrite(
        mesh
    )


def _framed(
    near: Mesh, came: Mesh, remedies: Sequence[str], remedy: Callable[[str], Remedy]
) -> tuple[Mesh, list[Finding]]:
    """Whether it came in another unit or lies on its back, and the model as the remedies leave it."""
    findings = []
    turn = frames.turn_of(near, came)
    if turn is not None:
        findings.append(
            Finding(
                id="axes", severity="shows", sure="likely", remedy=remedy("axes"),
                title="It lies on its back: another axis is up than the original's",
                in_game="It is drawn lying, and what it stands on is beside it.",
            )
        )  # fmt: skip
        came = frames.moved(came, turn) if "axes" in remedies else came
    factor = frames.unit_of(near, came)
    if factor is not None:
        words = f"{factor:.4g} times as large as" if factor > 1 else f"{1 / factor:.4g} times smaller than"
        findings.append(
            Finding(
                id="unit", severity="shows", sure="likely", remedy=remedy("unit"),
                title=f"It is {words} the original: in another unit",
                in_game="It fills the whole view, or cannot be seen.",
            )
        )  # fmt: skip
        came = frames.moved(came, factor) if "unit" in remedies else came
    return came, findings


def _large(before: Mesh, now: Mesh) -> list[Finding]:
    """Many times as many vertices as the original, and parts that came without a material."""
    found = []
    if len(now) > max(_MANY, 4 * len(before)):
        found.append(
            Finding(
                id="many", severity="shows", sure="likely",
                title=f"{len(now):,} vertices, {len(now) / max(len(before), 1):.0f} times the original's",
                in_game="The game may draw slowly there, or leave out what it has no room for.",
            )
        )  # fmt: skip
    names = {part.material for part in before.parts}
    bare = [part for part in now.parts if part.material not in names and _BARE.fullmatch(part.material)]
    if bare:
        found.append(
            Finding(
                id="bare", severity="note", title=f"{len(bare)} of its parts came without a material",
                in_game="A part without a material is not drawn, or in the first one that there is.",
            )
        )  # fmt: skip
    return found


def _old_copies(original: Mesh, remedy: Callable[[str], Remedy]) -> Finding:
    further = sorted({part.level for part in original.parts})[1:]
    words = (
        "The copy for further away still shows"
        if len(further) == 1
        else f"{len(further)} copies for further away still show"
    )
    return Finding(
        id="levels", severity="shows", title=f"{words} the old shape",
        in_game="From some way off the model changes to what it was.",
        **_either(remedy, ["levels-anew", "levels-empty"]),
    )  # fmt: skip


def _either(remedy: Callable[[str], Remedy], names: Sequence[str]) -> dict[str, Any]:
    """What puts a finding right in one way or another: the one that is applied, or all of them."""
    found = [remedy(name) for name in names]
    applied = [one for one in found if one.applied]
    return {"remedy": applied[0] if applied else found[0], "others": [] if applied else found[1:]}


def _in_place(before: Mesh, now: Mesh) -> tuple[np.ndarray, np.ndarray] | None:
    """The coordinates of corners that stayed where they were, before and now; None where too few did."""
    if "TEXCOORD_0" not in before.attributes.keys() & now.attributes.keys():
        return None
    old, new = (keys_of(np.round(one.positions, 4)) for one in (before, now))
    _, one, other = np.intersect1d(old, new, return_indices=True)
    if len(one) < _TOLD:
        return None
    was = before.attributes["TEXCOORD_0"][one, :2].astype(np.float64)
    return was, now.attributes["TEXCOORD_0"][other, :2].astype(np.float64)


def _turned_over(stayed: tuple[np.ndarray, np.ndarray] | None, column: int) -> Finding | None:
    """Whether coordinates are upside down (column 1) or mirrored (0), told by corners that stayed in place."""
    if stayed is None:
        return None
    was, here = stayed
    as_it_was = np.abs(here[:, column] - was[:, column])
    over = np.abs(here[:, column] - (1 - was[:, column]))
    # The other column is as it was, or turned as well; a corner may lie at several places of the picture.
    if np.median(over) > _SAME or np.median(as_it_was) < 5 * _SAME:
        return None
    words, how = ("upside down", "flip") if column else ("mirrored", "mirror")
    return Finding(
        id=f"{how}-coordinates", severity="shows", sure="likely", title=f"The texture coordinates are {words}",
        in_game="The texture lies on it the wrong way round: some programs count from the other edge.",
    )  # fmt: skip


def _open(before: Mesh, now: Mesh) -> list[Finding]:
    """Holes that a closed original had not."""
    if not len(before.corners) or _edges_alone(before) or not (alone := _edges_alone(now)):
        return []
    return [
        Finding(
            id="holes", severity="note", title=f"It has holes: {alone:,} edges of one face; the original had none",
            in_game="One sees through it there, or its shadow is wrong.",
        )
    ]  # fmt: skip


def _edges_alone(mesh: Mesh) -> int:
    """Edges that one triangle has alone, vertices at one place counted as one."""
    _, point = np.unique(keys_of(np.round(mesh.positions, 5)), return_inverse=True)
    corners = point.reshape(-1)[mesh.corners]
    a, b, c = corners.T
    corners = corners[(a != b) & (b != c) & (c != a)]
    edges = np.concatenate([corners[:, [0, 1]], corners[:, [1, 2]], corners[:, [2, 0]]]).astype(np.uint64)
    _, counts = np.unique((edges.min(axis=1) << np.uint64(32)) | edges.max(axis=1), return_counts=True)
    return int((counts == 1).sum())


def _in_form(original: MeshFile, came: Mesh) -> tuple[Mesh, list[Finding]]:
    """The model with just the attributes that the file keeps."""
    wanted = original.form
    found = dict(came.attributes)
    notes: list[Finding] = []

    def note(name: str, title: str, in_game: str, severity: str = "note") -> None:
        notes.append(Finding(id=name, severity=severity, title=title, in_game=in_game))

    if original.mesh.bones and came.bones:
        found, lost_bones = on_bones(found, came.bones, original.mesh.bones)
        if lost_bones:
            note(
                "bones", f"Bones that the original has not: {', '.join(lost_bones[:6])}",
                "What hung on them hangs on the nearest bone above that it has.", "shows",
            )  # fmt: skip
    if "JOINTS_0" in wanted and "JOINTS_1" not in wanted and "JOINTS_0" in found:
        most = wanted["JOINTS_0"].of
        found, beyond = strongest(found, most)
        if beyond:
            note(
                "weights", f"{beyond:,} vertices hang on more than {most} bones",
                f"The {most} strongest are kept, and made one in all.",
            )  # fmt: skip
    if "NORMAL" in wanted and "NORMAL" not in found:
        found["NORMAL"] = normals_of(came)
        note("normals", "Normals worked out anew", "It is lit by the faces' directions.")
    for name in wanted:
        if name in came.lacking and name.startswith("TEXCOORD"):
            note(
                "no-coordinates", f"{name} is missing in a part",
                "The texture is one colour all over that part: the editor saved no coordinates for it.", "stops",
            )  # fmt: skip
        if name in found:
            continue
        sort = name.partition("_")[0]
        rows = len(came)
        if name == "TANGENT":
            continue
        if sort == "TEXCOORD":
            note(
                "no-coordinates", f"{name} is missing",
                "The texture is one colour all over: the editor saved no coordinates.", "stops",
            )  # fmt: skip
            found[name] = np.zeros((rows, 2), np.float32)
        elif sort == "COLOR":
            note("no-colours", f"{name} is missing: white", "Where vertices had colours they have none.", "shows")
            found[name] = np.ones((rows, 4), np.float32)
        else:
            note(
                "no-skin", f"{name} is missing",
                "The model does not move with its skeleton: the editor saved no weights.", "stops",
            )  # fmt: skip
            found[name] = np.zeros((rows, 4), np.float32)
            if sort == "WEIGHTS" and name.endswith("_0"):
                found[name][:, 0] = 1
    mesh = Mesh(found, came.corners, came.parts)
    if "TANGENT" in wanted and "TANGENT" not in found and "TEXCOORD_0" in found:
        mesh = with_tangents(mesh, side=side_of(original.mesh))
        found = mesh.attributes
        note("tangents", "Tangents worked out anew", "Normal maps are lit as by the new coordinates.")
    elif "TANGENT" in wanted and "TANGENT" not in found:
        found = {**found, "TANGENT": np.tile(np.array([1, 0, 0, 1], np.float32), (len(came), 1))}
    lost = [name for name in found if name not in wanted]
    if lost:
        note("lost", f"Not kept: {', '.join(lost)}", "This file's vertices have no place for it.")
    return Mesh({name: found[name] for name in wanted}, mesh.corners, mesh.parts), notes


def only_names_differ(one: Mesh, other: Mesh) -> bool:
    """Whether two models are the same but for the names of their materials."""
    return (
        [(part.first, part.count) for part in one.parts] == [(part.first, part.count) for part in other.parts]
        and one.attributes.keys() == other.attributes.keys()
        and [bone.name for bone in one.bones] == [bone.name for bone in other.bones]
        and np.array_equal(one.corners, other.corners)
        and all(np.array_equal(values, other.attributes[name]) for name, values in one.attributes.items())
    )


def renamed_parts(parts: Sequence[Part], came: Sequence[Part]) -> tuple[Part, ...]:
    """The original's parts with the materials that are said to be in the place of theirs."""
    instead = {part.was: part.material for part in came if part.was}
    return tuple(replace(part, material=instead.get(part.material, part.material)) for part in parts)


def places_of(came: Sequence[Part], wanted: Sequence[Part]) -> list[tuple[str, str]]:
    """Materials of a model that came back, and those of the original in whose place they are."""
    names = [part.material for part in wanted]
    known = [(part.material, part.was or part.material) for part in came]
    if len(came) == len(wanted) and not any(name in names for _, name in known):
        return [(part.material, name) for part, name in zip(came, names, strict=True)]
    return known


def as_said(came: Sequence[Part], wanted: Sequence[Part]) -> list[Part]:
    """The parts of a model that came back with the materials that they will have in the game."""
    names = {part.material for part in wanted}
    if len(came) == len(wanted) and not any((part.was or part.material) in names for part in came):
        return [replace(part, material=one.material) for part, one in zip(came, wanted, strict=True)]
    if len(came) == len(wanted):
        return list(came)
    # Of a part more, or of several joined, nobody knows whose place it is in: that is told by itself.
    return [part for part in came if part.was or part.material in names]


def ordered(mesh: Mesh, wanted: Sequence[Part]) -> Mesh:
    """Parts in the original's order, by their materials.

    Of as many parts those of other names stand where names are missing; all of other names are the original's in
    order. Of more or fewer those that the original has not come last.
    """
    names = [part.material for part in wanted]
    known: dict[str, Part] = {}
    others: list[Part] = []
    for part in mesh.parts:
        name = part.was or part.material
        if name in names and name not in known:
            known[name] = part
        else:
            others.append(part)
    if len(mesh.parts) != len(names):
        order = [*(known[name] for name in dict.fromkeys(names) if name in known), *others]
    elif not known:
        order = [replace(part, material=name) for part, name in zip(mesh.parts, names, strict=True)]
    else:
        rest = iter(others)
        order = [known.pop(name) if name in known else next(rest) for name in names]
    return _laid(mesh, [(part, mesh.corners_of(part)) for part in order])


def _laid(mesh: Mesh, pieces: Sequence[tuple[Part, np.ndarray]]) -> Mesh:
    corners, parts, first = [np.zeros((0, 3), np.uint32)], [], 0
    for part, some in pieces:
        parts.append(Part(part.material, first, len(some), part.was))
        corners.append(some)
        first += len(some)
    return replace(mesh, corners=np.concatenate(corners), parts=tuple(parts))


def _as_many(mesh: Mesh, wanted: Sequence[Part]) -> Mesh:
    """As many parts as the original: what is more is joined to the last, what is missing is empty."""
    by_name = {part.was or part.material: (part, mesh.corners_of(part)) for part in mesh.parts}
    pieces = [by_name.pop(part.material, (part, np.zeros((0, 3), np.uint32))) for part in wanted]
    rest = [some for _, some in by_name.values()]
    if rest and pieces:
        pieces[-1] = (pieces[-1][0], np.concatenate([pieces[-1][1], *rest]))
    return _laid(mesh, pieces)


def _split(mesh: Mesh, near: Mesh) -> Mesh:
    """Triangles in the parts of the original that had corners where theirs are, in shares of the box.

    A triangle of nowhere goes where the nearest one of somewhere went.
    """

    def shares(one: Mesh) -> np.ndarray:
        low, high = bounds(one)
        found: np.ndarray = np.round((one.positions - low) / np.maximum(high - low, 1e-12), 3)
        return found

    old = keys_of(shares(near))
    keys: list[np.ndarray] = []
    owners: list[np.ndarray] = []
    for number, part in enumerate(near.parts):
        keys.append(np.unique(old[near.corners_of(part)]))
        owners.append(np.full(len(keys[-1]), number))
    every, owner = np.concatenate(keys), np.concatenate(owners)
    order = np.argsort(every, kind="stable")
    every, owner = every[order], owner[order]
    twice = np.zeros(len(every), bool)  # a place of several parts tells nothing
    twice[1:] |= every[1:] == every[:-1]
    twice[:-1] |= every[1:] == every[:-1]
    every, owner = every[~twice], owner[~twice]
    new = keys_of(shares(mesh))[mesh.corners]
    at = np.searchsorted(every, new).clip(0, max(len(every) - 1, 0))
    told = np.where(every[at] == new, owner[at], -1) if len(every) else np.full(new.shape, -1)
    which = told.max(axis=1)
    lost, known = np.flatnonzero(which < 0), np.flatnonzero(which >= 0)
    if len(known):
        middles = mesh.positions[mesh.corners].mean(axis=1)
        some = known[:: max(len(known) * max(len(lost), 1) // _PAIRS, 1)]
        for start in range(0, len(lost), 256):
            here = lost[start : start + 256]
            far = ((middles[here][:, None] - middles[some][None]) ** 2).sum(axis=2)
            which[here] = which[some[far.argmin(axis=1)]]
    which = np.maximum(which, 0)
    return _laid(mesh, [(part, mesh.corners[which == number]) for number, part in enumerate(near.parts)])


def _coordinates(original: Mesh, mesh: Mesh, remedy: Remedy) -> list[Finding]:
    if "TEXCOORD_0" not in mesh.attributes or not len(mesh) or "TEXCOORD_0" not in original.attributes:
        return []
    before, now = original.attributes["TEXCOORD_0"], mesh.attributes["TEXCOORD_0"]

    def outside(values: np.ndarray) -> bool:
        return bool(len(values)) and (values.min() < -_NEARLY or values.max() > 1 + _NEARLY)

    if outside(before) or not outside(now):
        return []
    return [
        Finding(
            id="coordinates", severity="shows", remedy=remedy,
            title="Texture coordinates are outside of 0 to 1, and the original's were not",
            in_game="Where the texture does not repeat, its border is drawn there.",
        )
    ]  # fmt: skip


def _inside(mesh: Mesh) -> Mesh:
    """Each triangle's coordinates moved by whole pictures, so that its middle is within 0 to 1."""
    corners = mesh.corners.reshape(-1)
    attributes = {name: values[corners] for name, values in mesh.attributes.items()}
    at = attributes["TEXCOORD_0"].reshape(-1, 3, attributes["TEXCOORD_0"].shape[1])
    at = at - np.floor(at.mean(axis=1, keepdims=True))
    attributes["TEXCOORD_0"] = at.reshape(len(corners), -1).astype(np.float32)
    return replace(mesh, attributes=attributes, corners=np.arange(len(corners), dtype=np.uint32).reshape(-1, 3))


def _volume(mesh: Mesh) -> float:
    """The signed volume of a closed model, as a share of its box (by the divergence theorem)."""
    least, most = bounds(mesh)
    box = float(np.prod((most - least).astype(np.float64)))
    if box <= 0 or not len(mesh.corners):
        return 0.0
    x, y, z = np.ascontiguousarray((mesh.positions - (least + most) / 2).T)
    a, b, c = np.ascontiguousarray(mesh.corners.T)
    with np.errstate(all="ignore"):  # of a damaged model, which is told otherwise
        total = x[a] * (y[b] * z[c] - z[b] * y[c]) + y[a] * (z[b] * x[c] - x[b] * z[c])
        total += z[a] * (x[b] * y[c] - y[b] * x[c])
    return float(total.sum(dtype=np.float64) / 6 / box)


def _inside_out(original: Mesh, mesh: Mesh) -> bool:
    before, now = _volume(original), _volume(mesh)
    # A shell around it that is turned on purpose leaves next to nothing of the sum.
    much = max(_HOLLOW, abs(before) / 4)
    return abs(before) > _HOLLOW and abs(now) > much and (before > 0) != (now > 0)


def properties(original: Mesh, came: Mesh, made: Mesh) -> list[Property]:
    def size(mesh: Mesh) -> str:
        least, most = bounds(mesh)
        return " × ".join(f"{side:.3g}" for side in (most - least).tolist())

    def lines(name: str, said: list[str], *, matters: bool = True) -> Property:
        return Property.of(name, *said, matters=matters)

    three = (original, came, made)
    return [
        lines("Vertices", [f"{len(one):,}" for one in three], matters=False),
        lines("Triangles", [f"{len(one.corners):,}" for one in three], matters=False),
        lines("Parts", [", ".join(part.material or "unnamed" for part in one.parts) for one in three]),
        lines("Vertices have", [", ".join(sorted(one.attributes)) for one in three]),
        lines("Size in metres", [size(one) for one in three], matters=False),
    ]
