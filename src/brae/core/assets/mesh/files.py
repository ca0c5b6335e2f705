"""Models as open files: glTF 2.0 (.glb, .gltf) and Wavefront OBJ out, glTF back."""

from __future__ import annotations

import base64
import io
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any
from urllib.parse import unquote_to_bytes

import numpy as np

from brae.core.assets.mesh.mesh import Bone, Floats, Mesh, Part, box_of, normals_of
from brae.core.assets.mesh.skeleton import rotation, worlds_of
from brae.core.errors import FormatError, LimitError

#: glTF 2.0, tables of section 3.6.2.2: component types and what they are in numpy
_COMPONENTS = {5120: "<i1", 5121: "<u1", 5122: "<i2", 5123: "<u2", 5125: "<u4", 5126: "<f4"}
_SHAPES = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}
_FLOAT, _UNSIGNED = 5126, 5125
#: bytes of a model that comes back, and how deep its nodes may lie
LARGEST, _DEEPEST = 1 << 30, 512
#: of a material in a file: the name of the one that it is in the place of
_WAS = "was"
#: of the file: findings that are no mistake
_MEANT = "meant"
#: what a skin does to a vertex at rest is nothing, so near
_AT_REST = 1e-4
#: a node that moves nothing, but for rounding
_NO_MOVE = 1e-6
_TRIANGLES, _STRIP, _FAN = 4, 5, 6


def to_glb(mesh: Mesh, name: str = "model") -> bytes:
    """A binary glTF file with one mesh, a primitive and a material for each part; the same bytes every time."""
    import pygltflib as gl

    found = gl.GLTF2(asset=gl.Asset(version="2.0", generator="Brae"), scene=0, scenes=[gl.Scene(nodes=[0])])
    if mesh.meant:
        found.asset.extras = {_MEANT: list(mesh.meant)}
    blob = bytearray()

    def view(data: bytes, target: int | None) -> int:
        blob.extend(bytes(-len(blob) % 4))
        found.bufferViews.append(gl.BufferView(buffer=0, byteOffset=len(blob), byteLength=len(data), target=target))
        blob.extend(data)
        return len(found.bufferViews) - 1

    def accessor(
        values: np.ndarray[Any, Any], component: int, shape: str, target: int | None, *, box: bool = False
    ) -> int:
        one = gl.Accessor(
            bufferView=view(np.ascontiguousarray(values).tobytes(), target), byteOffset=0, componentType=component,
            count=len(values), type=shape,
        )  # fmt: skip
        if box:
            low, high = box_of(values)
            one.min, one.max = low.tolist(), high.tolist()
        found.accessors.append(one)
        return len(found.accessors) - 1

    attributes: dict[str, int] = {}
    for semantic, values in sendable(mesh).items() if len(mesh) else ():
        shape = {1: "SCALAR", 2: "VEC2", 3: "VEC3", 4: "VEC4"}[values.shape[1]]
        if semantic.startswith("JOINTS"):
            joints = values.astype("<u2")
            attributes[semantic] = accessor(joints, 5123, shape, gl.ARRAY_BUFFER)
        else:
            attributes[semantic] = accessor(
                values.astype("<f4"), _FLOAT, shape, gl.ARRAY_BUFFER, box=semantic == "POSITION"
            )
    primitives = []
    for number, part in enumerate(mesh.parts):
        material = gl.Material(name=part.material or f"part {number}", doubleSided=False)
        if part.was:
            material.extras = {_WAS: part.was}
        found.materials.append(material)
        if not part.count:
            continue
        corners = mesh.corners_of(part).reshape(-1).astype("<u4")
        primitives.append(
            gl.Primitive(
                attributes=gl.Attributes(**attributes),
                indices=accessor(corners, _UNSIGNED, "SCALAR", gl.ELEMENT_ARRAY_BUFFER),
                material=number, mode=_TRIANGLES,
            )
        )  # fmt: skip
    if primitives:
        nodes = [part.node for part in mesh.parts if part.count]
        near = [one for one, node in zip(primitives, nodes, strict=True) if node < 0]
        found.meshes, found.nodes = [gl.Mesh(name=name, primitives=near)] if near else [], [gl.Node(name=name)]
        if near:
            found.nodes[0].mesh = 0
        hanging = max(nodes) >= 0
        if mesh.bones and near and "JOINTS_0" in attributes:
            inverses = np.array([bone.inverse for bone in mesh.bones], "<f4").transpose(0, 2, 1)
            skin = gl.Skin(
                joints=list(range(1, len(mesh.bones) + 1)),
                inverseBindMatrices=accessor(inverses.reshape(-1, 16), _FLOAT, "MAT4", None),
            )
            found.skins, found.nodes[0].skin = [skin], 0
        if mesh.bones and (hanging or found.skins):
            for number, bone in enumerate(mesh.bones):
                below = [child + 1 for child, one in enumerate(mesh.bones) if one.parent == number]
                local = None if np.allclose(bone.local, np.eye(4)) else np.array(bone.local).T.reshape(-1).tolist()
                found.nodes.append(gl.Node(name=bone.name, matrix=local, children=below))
            roots = [number + 1 for number, bone in enumerate(mesh.bones) if bone.parent < 0]
            found.scenes[0].nodes += roots
            back = np.linalg.inv(worlds_of(mesh.bones)) if hanging else None
            for node in sorted({one for one in nodes if one >= 0}):
                assert back is not None
                some = [one for one, own in zip(primitives, nodes, strict=True) if own == node]
                found.meshes.append(gl.Mesh(name=mesh.bones[node].name, primitives=some))
                found.nodes[node + 1].children.append(len(found.nodes))
                # Vertices are where the whole model has them: what hangs on a node is put back by its inverse.
                found.nodes.append(
                    gl.Node(
                        name=f"{mesh.bones[node].name} {name}",
                        mesh=len(found.meshes) - 1,
                        matrix=back[node].T.reshape(-1).tolist(),
                    )
                )
        found.buffers = [gl.Buffer(byteLength=len(blob))]
        found.set_binary_blob(bytes(blob))
    else:
        found.nodes = [gl.Node(name=name)]
    return b"".join(found.save_to_bytes())


def sendable(mesh: Mesh) -> dict[str, Floats]:
    """The attributes as glTF allows them (section 3.7.2.1): unit normals; tangents, joints and weights of four."""
    found: dict[str, Floats] = {}
    for name, values in mesh.attributes.items():
        sort = name.partition("_")[0]
        if sort == "POSITION":
            values = values[:, :3]
        elif sort in ("NORMAL", "TANGENT"):
            flat = values[:, :3].astype(np.float64)
            lengths = np.linalg.norm(flat, axis=1, keepdims=True)
            unit = np.where(lengths > 1e-12, flat / np.maximum(lengths, 1e-12), [0.0, 1.0, 0.0])
            side = values[:, 3:4] if values.shape[1] > 3 else np.ones((len(values), 1))
            values = unit if sort == "NORMAL" else np.concatenate([unit, np.where(side < 0, -1.0, 1.0)], axis=1)
        elif sort == "TEXCOORD":
            values = values[:, :2]
        elif sort in ("JOINTS", "WEIGHTS") and values.shape[1] < 4:
            values = np.pad(values, ((0, 0), (0, 4 - values.shape[1])))
        weights = mesh.attributes.get(name.replace("JOINTS", "WEIGHTS")) if sort == "JOINTS" else None
        if weights is not None:
            # What has no weight names the first bone (section 3.7.3.3).
            values = np.where(np.pad(weights, ((0, 0), (0, 4 - weights.shape[1]))) > 0, values, 0)
        found[name] = values.astype(np.float32)
    return found


def to_obj(mesh: Mesh) -> bytes:
    """A Wavefront OBJ text: positions, coordinates (from the bottom, as OBJ has them), normals, a group a part."""
    out = io.StringIO()
    out.write("# right-handed, y up\n")
    for line in mesh.positions:
        out.write("v {:.9g} {:.9g} {:.9g}\n".format(*line.tolist()))
    at, turned = mesh.attributes.get("TEXCOORD_0"), mesh.attributes.get("NORMAL")
    for u, v in at[:, :2].tolist() if at is not None else ():
        out.write(f"vt {u:.9g} {1 - v:.9g}\n")
    for line in turned[:, :3] if turned is not None else ():
        out.write("vn {:.9g} {:.9g} {:.9g}\n".format(*line.tolist()))
    form = "{0}/{0}/{0}" if at is not None and turned is not None else "{0}/{0}" if at is not None else "{0}//{0}"
    form = form if at is not None or turned is not None else "{0}"
    for number, part in enumerate(mesh.parts):
        name = (part.material or f"part_{number}").replace(" ", "_")
        out.write(f"g {name}\nusemtl {name}\n")
        for corners in (mesh.corners_of(part) + 1).tolist():
            out.write("f " + " ".join(form.format(corner) for corner in corners) + "\n")
    return out.getvalue().encode()


def with_materials(data: bytes, instead: Mapping[str, tuple[str, str]]) -> bytes:
    """A glTF file with other names on its materials: the new one, and the original's whose place it is in."""
    found = _loaded(data)
    for number, material in enumerate(found.materials or []):
        name = material.name or f"part {number}"
        if name in instead:
            material.name, was = instead[name]
            material.extras = {**(material.extras if isinstance(material.extras, dict) else {}), _WAS: was}
    return b"".join(found.save_to_bytes()) if data[:4] == b"glTF" else found.to_json().encode()


# ---- back ---------------------------------------------------------------------------------------------------


def from_gltf(data: bytes) -> Mesh:
    """The model of a .glb or a .gltf whose buffers are in it: every mesh of its scene where its nodes put it.

    Parts that share a material are one, in the order in which they first stand. Raises FormatError or LimitError.
    """
    if len(data) > LARGEST:
        raise LimitError(f"A model of {len(data):,} bytes is more than {LARGEST >> 30} GiB.")
    found = _loaded(data)
    places = {number: (here, above) for number, here, above in _placed(found)}
    bones, skins = _skins(found, places)
    pieces = list(_pieces(found, places, skins))
    if not pieces:
        raise FormatError("There is no mesh in this model.", expected="one with triangles")
    # Attributes that several primitives share are there once.
    sets = list({id(attributes): attributes for attributes, _, _ in pieces}.values())
    names = [name for attributes in sets for name in attributes]
    lacking = [name for name in dict.fromkeys(names) if names.count(name) < len(sets)]
    for attributes, _, _ in pieces:
        if "NORMAL" in lacking and "NORMAL" not in attributes:
            every = [some for other, some, _ in pieces if other is attributes]
            attributes["NORMAL"] = normals_of(Mesh(attributes, np.concatenate(every)))
    joined: dict[str, Floats] = {}
    for name in dict.fromkeys(names):
        if name == "TANGENT" and name in lacking:
            continue  # worked out anew for all
        columns = max(one[name].shape[1] for one in sets if name in one)
        joined[name] = np.concatenate([_wide(one, name, columns) for one in sets])
    told = tuple(name for name in lacking if name not in ("NORMAL", "TANGENT"))
    starts = dict(
        zip(map(id, sets), np.cumsum([0, *(len(one["POSITION"]) for one in sets)]).tolist(), strict=False)
    )
    by_material: dict[tuple[str, str], list[np.ndarray[Any, Any]]] = {}
    for attributes, corners, material in pieces:
        by_material.setdefault(material, []).append(corners + np.uint32(starts[id(attributes)]))
    joined_up: list[np.ndarray[Any, Any]] = []
    parts, first = [], 0
    for (called, was), some in by_material.items():
        run = np.concatenate(some)
        joined_up.append(run)
        parts.append(Part(called, first, len(run), was))
        first += len(run)
    said = found.asset.extras.get(_MEANT) if found.asset and isinstance(found.asset.extras, dict) else None
    meant = tuple(one for one in said if isinstance(one, str)) if isinstance(said, list) else ()
    mesh = Mesh(joined, np.concatenate(joined_up).astype(np.uint32), tuple(parts), told, bones, meant)
    if "NORMAL" not in mesh.attributes:
        mesh = replace(mesh, attributes={**mesh.attributes, "NORMAL": normals_of(mesh)})
    return mesh


def _wide(attributes: dict[str, Floats], name: str, columns: int) -> Floats:
    """An attribute with so many numbers; ones for colours that a part came without, else zeros."""
    if name not in attributes:
        fill = np.ones if name.startswith("COLOR") else np.zeros
        return fill((len(attributes["POSITION"]), columns), np.float32)
    values = attributes[name]
    return np.pad(values, ((0, 0), (0, columns - values.shape[1])))


def is_gltf(data: bytes) -> bool:
    """Whether a file says that it is glTF: binary, or a text that begins with a brace."""
    return data[:4] == b"glTF" or data.lstrip(b" \t\r\n\xef\xbb\xbf")[:1] == b"{"


def materials(data: bytes) -> list[Part]:
    """The materials of a model that its triangles have, each once, as parts without triangles."""
    found = _loaded(data)
    names: dict[tuple[str, str], None] = {}
    for mesh in found.meshes or []:
        for primitive in mesh.primitives:
            names[_material(found, primitive)] = None
    return [Part(name, 0, 0, was) for name, was in names]


def _material(found: Any, primitive: Any) -> tuple[str, str]:
    """The name of a primitive's material, and the original's whose place it is in."""
    if primitive.material is None or not 0 <= primitive.material < len(found.materials or []):
        return "", ""
    one = found.materials[primitive.material]
    was = one.extras.get(_WAS) if isinstance(one.extras, dict) else None
    return one.name or f"part {primitive.material}", was if isinstance(was, str) else ""


def _loaded(data: bytes) -> Any:
    import pygltflib as gl

    try:
        if data[:4] == b"glTF":
            found = gl.GLTF2.load_from_bytes(data)
        else:
            found = gl.GLTF2.from_json(data.decode("utf-8"))
    except Exception as error:  # whatever a damaged file makes the library say
        raise FormatError(
            "This is no glTF file that can be read.", expected=".glb or .gltf, version 2.0"
        ) from error
    if found is None or not isinstance(found.nodes, list) or (found.asset and found.asset.version[:1] != "2"):
        raise FormatError("This is no glTF file of version 2.0.")
    if found.extensionsRequired:
        raise FormatError(
            f"The model needs {', '.join(found.extensionsRequired)}, which cannot be read.",
            remedy="Save it without compression.",
        )
    return found


@dataclass(frozen=True)
class _Skin:
    """A skin of the file: the bones of the model that its joints are, and what each does to a vertex at rest."""

    bones: np.ndarray[Any, Any]
    moves: np.ndarray[Any, Any]


def _placed(found: Any) -> Iterator[tuple[int, np.ndarray[Any, Any], int]]:
    """Each node of the scene once: its number, where it puts what hangs on it, and the node above it (-1: none)."""
    scenes = found.scenes or []
    number = found.scene if isinstance(found.scene, int) and 0 <= found.scene < len(scenes) else 0
    roots = scenes[number].nodes if scenes and scenes[number].nodes else range(len(found.nodes))
    waiting = [(node, np.eye(4), 0, -1) for node in reversed(list(roots))]
    seen: set[int] = set()
    while waiting:
        number, outer, depth, above = waiting.pop()
        if not 0 <= number < len(found.nodes) or depth > _DEEPEST:
            raise FormatError(f"Node {number} is not there, or lies more than {_DEEPEST} deep.")
        if number in seen:
            continue
        seen.add(number)
        node = found.nodes[number]
        here = outer @ _matrix(node)
        yield number, here, above
        waiting += [(child, here, depth + 1, number) for child in reversed(node.children or [])]


def _skins(
    found: Any, places: Mapping[int, tuple[np.ndarray[Any, Any], int]]
) -> tuple[tuple[Bone, ...], list[_Skin]]:
    """The bones that the file's skins name, each name once, and the skins."""
    numbers: dict[str, int] = {}
    joints: list[int] = []
    skins = []
    for skin in found.skins or []:
        own = [int(one) for one in skin.joints or []]
        if not own or not all(0 <= one < len(found.nodes) for one in own):
            raise FormatError("A skin names bones that are not there.")
        inverses = np.tile(np.eye(4), (len(own), 1, 1))
        if skin.inverseBindMatrices is not None:
            told = _values(found, skin.inverseBindMatrices, "the inverse bind matrices")
            if told.shape != (len(own), 16):
                raise FormatError("A skin has not as many inverse bind matrices as bones.")
            inverses = told.reshape(-1, 4, 4).transpose(0, 2, 1).astype(np.float64)
        which = []
        for one in own:
            name = found.nodes[one].name or f"bone {one}"
            if name not in numbers:
                numbers[name] = len(joints)
                joints.append(one)
            which.append(numbers[name])
        worlds = np.stack([places[one][0] if one in places else np.eye(4) for one in own])
        skins.append(_Skin(np.array(which), worlds @ inverses))
    of_node = {node: number for number, node in enumerate(joints)}
    names = list(numbers)

    def above(node: int) -> int:
        for _ in range(_DEEPEST):
            node = places[node][1] if node in places else -1
            if node < 0 or node in of_node:
                break
        return of_node.get(node, -1)

    rest = tuple(tuple(row) for row in np.eye(4).tolist())
    return tuple(Bone(names[k], above(node), rest, rest) for k, node in enumerate(joints)), skins


def _pieces(
    found: Any, places: Mapping[int, tuple[np.ndarray[Any, Any], int]], skins: Sequence[_Skin]
) -> Iterator[tuple[dict[str, Floats], np.ndarray[Any, Any], tuple[str, str]]]:
    """Each primitive of triangles, with its node's place: attributes, corners, material.

    Primitives that share their attributes give the very same ones.
    """
    shared: dict[tuple[Any, ...], dict[str, Floats]] = {}
    for number, (here, _) in places.items():
        node = found.nodes[number]
        if node.mesh is None:
            continue
        if not 0 <= node.mesh < len(found.meshes):
            raise FormatError(f"Node {number} has mesh {node.mesh}, and there are {len(found.meshes)}.")
        if node.skin is not None and not 0 <= node.skin < len(skins):
            raise FormatError(f"Node {number} has skin {node.skin}, and there are {len(skins)}.")
        skin = None if node.skin is None else skins[node.skin]
        for primitive in found.meshes[node.mesh].primitives:
            key = (
                number,
                *sorted((name, one) for name, one in vars(primitive.attributes).items() if one is not None),
            )
            if key not in shared:
                shared[key] = _attributes(found, primitive, here, skin)
            corners, material = _piece(found, primitive, len(shared[key]["POSITION"]))
            if skin is None and np.linalg.det(here[:3, :3]) < 0:
                corners = np.ascontiguousarray(corners[:, ::-1])
            yield shared[key], corners, material


def _matrix(node: Any) -> np.ndarray[Any, Any]:
    """A node's transform: glTF 2.0, section 3.5.3 (matrices column by column; T * R * S)."""
    if node.matrix and len(node.matrix) == 16:
        return np.array(node.matrix, np.float64).reshape(4, 4).T
    result = np.eye(4)
    result[:3, :3] = rotation(*(node.rotation or (0.0, 0.0, 0.0, 1.0))) * np.array(node.scale or (1.0, 1.0, 1.0))
    result[:3, 3] = node.translation or (0.0, 0.0, 0.0)
    return result


def _attributes(found: Any, primitive: Any, place: Any, skin: _Skin | None) -> dict[str, Floats]:
    """The attributes of a primitive where its node, or its bones at rest, put them."""
    attributes: dict[str, Floats] = {}
    for name, number in vars(primitive.attributes).items():
        if number is not None and name[:1].isupper():
            attributes[name] = _values(found, number, f"{name} of a mesh").astype(np.float32)
    if "POSITION" not in attributes:
        raise FormatError("A mesh has no positions.")
    count = len(attributes["POSITION"])
    if any(len(values) != count for values in attributes.values()):
        raise FormatError("The attributes of a mesh have different lengths.")
    if not np.isfinite(attributes["POSITION"]).all():
        raise FormatError("A position of the model is no number.")
    if skin is not None:
        _skinned(attributes, skin)
    elif not np.allclose(place, np.eye(4), rtol=0, atol=_NO_MOVE):
        _move(attributes, place)
    return attributes


def _skinned(attributes: dict[str, Floats], skin: _Skin) -> None:
    """Joints named by the model's bones; vertices where the bones put them at rest (glTF 2.0, section 3.7.3.3)."""
    still = np.abs(skin.moves - np.eye(4)).max() < _AT_REST
    sums = np.zeros((len(attributes["POSITION"]), 4, 4))
    total = np.zeros(len(sums))
    for name in [one for one in attributes if one.startswith("JOINTS")]:
        numbers = np.rint(attributes[name]).astype(np.int64)
        if len(numbers) and (numbers.min() < 0 or numbers.max() >= len(skin.bones)):
            raise FormatError(f"{name} names bone {int(numbers.max())}, and its skin has {len(skin.bones)}.")
        weights = attributes.get(name.replace("JOINTS", "WEIGHTS"))
        for column in range(numbers.shape[1] if weights is not None and not still else 0):
            assert weights is not None
            sums += weights[:, column, None, None] * skin.moves[numbers[:, column]]
            total += weights[:, column]
        attributes[name] = skin.bones[numbers].astype(np.float32)
    if still:
        return
    sums = np.where((total > 1e-6)[:, None, None], sums / np.maximum(total, 1e-6)[:, None, None], np.eye(4))
    places = attributes["POSITION"]
    attributes["POSITION"] = (np.einsum("nij,nj->ni", sums[:, :3, :3], places) + sums[:, :3, 3]).astype(np.float32)
    for name in ("NORMAL", "TANGENT"):
        if name in attributes:
            moved = np.einsum("nij,nj->ni", sums[:, :3, :3], attributes[name][:, :3])
            attributes[name][:, :3] = moved / np.maximum(np.linalg.norm(moved, axis=1, keepdims=True), 1e-12)


def _piece(found: Any, primitive: Any, count: int) -> tuple[np.ndarray[Any, Any], tuple[str, str]]:
    """The triangles of a primitive of so many vertices, and its material."""
    if primitive.indices is None:
        raw = np.arange(count, dtype=np.uint32)
    else:
        raw = _values(found, primitive.indices, "the indices")[:, 0].astype(np.int64)
        if len(raw) and (raw.min() < 0 or raw.max() >= count):
            raise FormatError(f"Index {int(raw.max())} is beyond the {count} vertices of its mesh.")
        raw = raw.astype(np.uint32)
    mode = _TRIANGLES if primitive.mode is None else primitive.mode
    if mode == _TRIANGLES:
        corners = raw[: len(raw) - len(raw) % 3].reshape(-1, 3)
    elif mode == _STRIP and len(raw) >= 3:
        corners = np.stack([raw[:-2], raw[1:-1], raw[2:]], axis=1)
        corners[1::2] = corners[1::2][:, [1, 0, 2]]
    elif mode == _FAN and len(raw) >= 3:
        corners = np.stack([np.full(len(raw) - 2, raw[0]), raw[1:-1], raw[2:]], axis=1)
    else:
        raise FormatError("A mesh is made of points or lines.", expected="triangles")
    return np.ascontiguousarray(corners), _material(found, primitive)


def _move(attributes: dict[str, Floats], place: np.ndarray[Any, Any]) -> None:
    """Vertices where a node puts them."""
    attributes["POSITION"] = (attributes["POSITION"] @ place[:3, :3].T + place[:3, 3]).astype(np.float32)
    turned = np.linalg.inv(place[:3, :3]).T if abs(np.linalg.det(place[:3, :3])) > 1e-12 else place[:3, :3]
    for name, by in (("NORMAL", turned), ("TANGENT", place[:3, :3])):
        if name in attributes:
            moved = attributes[name][:, :3] @ by.T
            moved /= np.maximum(np.linalg.norm(moved, axis=1, keepdims=True), 1e-12)
            attributes[name][:, :3] = moved


def _values(found: Any, number: int, what: str) -> np.ndarray[Any, Any]:
    """An accessor's numbers, shape (count, numbers); whole ones that are normalised as 0 to 1 (or -1 to 1)."""
    try:
        one = found.accessors[number]
        dtype, columns = np.dtype(_COMPONENTS[one.componentType]), _SHAPES[one.type]
        if one.sparse is not None:
            raise FormatError(f"{what} are stored sparsely, which cannot be read.")
        count, width = int(one.count), dtype.itemsize * columns
        if not 0 <= count <= LARGEST // max(width, 1):
            raise LimitError(f"{what}: {count:,} are announced.")
        if one.bufferView is None:
            return np.zeros((count, columns), np.float32)
        view = found.bufferViews[one.bufferView]
        data = _buffer(found, view.buffer)
        begin = int(view.byteOffset or 0)
        area = data[begin : begin + int(view.byteLength)]
        step, start = int(view.byteStride or width), int(one.byteOffset or 0)
        if count and (begin < 0 or start < 0 or step < width or start + (count - 1) * step + width > len(area)):
            raise FormatError(f"{what} end outside their buffer.")
        raw = (
            np.ndarray((count, width), np.uint8, area, start, (step, 1))
            if count
            else np.zeros((0, width), np.uint8)
        )
    except (KeyError, IndexError, TypeError, ValueError) as error:
        raise FormatError(f"{what} cannot be found in the file.") from error
    values: np.ndarray[Any, Any] = np.ascontiguousarray(raw).view(dtype).reshape(count, columns)
    if one.normalized and dtype.kind in "iu":
        most = np.iinfo(dtype).max
        values = np.maximum(values.astype(np.float32) / np.float32(most), np.float32(-1))
    return values


def _buffer(found: Any, number: int) -> bytes:
    buffer = found.buffers[number]
    if buffer.uri is None:
        blob = found.binary_blob()
        if blob is None:
            raise FormatError("The binary part of the model is missing.")
        return bytes(blob)
    if not buffer.uri.startswith("data:"):
        raise FormatError(
            f"The model keeps its data in another file, '{buffer.uri[:80]}'.",
            remedy="Save it as .glb, in one file.",
        )
    head, _, body = buffer.uri.partition(",")
    try:
        return base64.b64decode(body, validate=True) if head.endswith(";base64") else unquote_to_bytes(body)
    except ValueError as error:
        raise FormatError("The data in the model is no base64.") from error
