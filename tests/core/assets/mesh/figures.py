"""An invented figure with bones and a copy with less detail, by a writer that shares nothing with Brae."""

from __future__ import annotations

import struct

import numpy as np
import trimesh

LAYOUT = """
layout: figure
title: A figure
kind: mesh
match: {names: ["*.fig"]}
parts:
  - {field: magic, type: bytes, length: 4, value: "FIGU"}
  - {field: vertex_count, type: u32, is: count(corners)}
  - {field: index_count, type: u32, is: count(faces)}
  - {field: part_count, type: u16, is: count(pieces)}
  - {field: bone_count, type: u16, is: count(joints)}
  - table: joints
    count: bone_count
    record:
      - {field: bone, type: string, length: 12, role: name}
      - {field: above, type: i16}
      - {field: spare, type: u16}
      - {field: x, type: f32}
      - {field: y, type: f32}
      - {field: z, type: f32}
      - {field: qx, type: f32}
      - {field: qy, type: f32}
      - {field: qz, type: f32}
      - {field: qw, type: f32}
  - table: pieces
    count: part_count
    record:
      - {field: first, type: u32, role: first-index}
      - {field: many, type: u32, role: index-count}
      - {field: material, type: string, length: 12, role: name}
      - {field: level, type: u8, role: detail-level}
      - {field: spare_byte, type: u8}
  - vertices: corners
    count: vertex_count
    axes: "x z -y"
    attributes:
      - {attribute: POSITION, type: f32, of: 3}
      - {attribute: NORMAL, type: f32, of: 3}
      - {attribute: TANGENT, type: f32, of: 4}
      - {attribute: TEXCOORD_0, type: f32, of: 2}
      - {attribute: JOINTS_0, type: u8, of: 4}
      - {attribute: WEIGHTS_0, type: u8, of: 4, normalised: true}
  - {indices: faces, count: index_count, type: u16, parts: pieces, materials: "materials/{material}.txt"}
  - {skeleton: bones, of: joints, parent: above, place: [x, y, z], turn: [qx, qy, qz, qw]}
"""

#: name, the bone above, place seen from it (z up), quaternion: the arm is turned by a quarter about the height
BONES = [
    ("hip", -1, (0.0, 0.0, 0.9), (0.0, 0.0, 0.0, 1.0)),
    ("chest", 0, (0.0, 0.0, 0.4), (0.0, 0.0, 0.0, 1.0)),
    ("arm", 1, (0.3, 0.0, 0.1), (0.0, 0.0, 0.5**0.5, 0.5**0.5)),
    ("hand", 2, (0.0, 0.25, 0.0), (0.0, 0.0, 0.0, 1.0)),
]


def figure() -> dict[str, np.ndarray]:
    """A body of two parts, and the body once more with fewer triangles; z up, as it is stored."""
    found: dict[str, list[np.ndarray]] = {name: [] for name in ("places", "normals", "at", "joints", "weights")}
    faces, start = [], 0
    for name, shape, level in (
        ("coat", trimesh.creation.capsule(height=1.0, radius=0.3, count=[16, 16]), 0),
        ("face", trimesh.creation.icosphere(subdivisions=2, radius=0.2), 0),
        ("coat", trimesh.creation.capsule(height=1.0, radius=0.3, count=[6, 6]), 1),
    ):
        if name == "face":
            shape.apply_translation([0, 0, 1.5])
        places, normals = np.asarray(shape.vertices), np.asarray(shape.vertex_normals)
        at = np.stack([np.arctan2(places[:, 1], places[:, 0]) / 7 + 0.5, (places[:, 2] + 0.5) / 2.4], axis=1)
        joints = np.zeros((len(places), 4), int)
        joints[:, 0], joints[:, 1] = np.where(places[:, 2] > 0.6, 1, 0), 2
        share = np.clip(places[:, 0] / 0.3, 0, 1) * 0.4
        weights = np.zeros((len(places), 4))
        weights[:, 1] = np.rint(share * 255)
        weights[:, 0] = 255 - weights[:, 1]
        for key, values in zip(found, (places, normals, at, joints, weights), strict=True):
            found[key].append(values)
        faces.append((name, level, np.asarray(shape.faces) + start))
        start += len(places)
    return {
        **{key: np.concatenate(values) for key, values in found.items()},
        "faces": np.array(faces, dtype=object),
    }


def written() -> bytes:
    """The figure as LAYOUT says."""
    told = figure()
    faces = list(told["faces"])
    indices = sum(3 * len(one) for _, _, one in faces)
    out = struct.pack("<4sIIHH", b"FIGU", len(told["places"]), indices, len(faces), len(BONES))
    for name, above, place, turn in BONES:
        out += struct.pack("<12shH3f4f", name.encode(), above, 0, *place, *turn)
    first = 0
    for name, level, one in faces:
        out += struct.pack("<II12sBB", first, 3 * len(one), name.encode(), level, 7)
        first += 3 * len(one)
    for row in range(len(told["places"])):
        out += (
            np.concatenate([told["places"][row], told["normals"][row], [1, 0, 0, 1], told["at"][row]])
            .astype("<f4")
            .tobytes()
        )
        out += told["joints"][row].astype("u1").tobytes() + told["weights"][row].astype("u1").tobytes()
    return out + b"".join(one.astype("<u2").tobytes() for _, _, one in faces)
