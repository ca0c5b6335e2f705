"""Invented models and their files, by writers that share nothing with Brae but numpy."""

from __future__ import annotations

import struct

import numpy as np
import trimesh

LAYOUT = """
layout: skerry-shape
title: A model of Skerry Post
kind: mesh
parts:
  - {field: magic, type: bytes, length: 4, value: "SHPE"}
  - {field: vertex_count, type: u32, is: count(corners)}
  - {field: index_count, type: u32, is: count(faces)}
  - {field: part_count, type: u32, is: count(pieces)}
  - {field: x0, type: f32}
  - {field: y0, type: f32}
  - {field: z0, type: f32}
  - {field: x1, type: f32}
  - {field: y1, type: f32}
  - {field: z1, type: f32}
  - {field: stamp, type: u32}
  - table: pieces
    count: part_count
    record:
      - {field: first, type: u32, role: first-index}
      - {field: count, type: u32, role: index-count}
      - {field: material, type: string, length: 16, role: name}
      - {field: flags, type: u32}
  - vertices: corners
    count: vertex_count
    axes: "x z -y"
    metres: 0.5
    origin: bottom
    box: {least: [x0, y0, z0], most: [x1, y1, z1]}
    attributes:
      - {attribute: POSITION, type: f32, of: 3}
      - {attribute: NORMAL, type: i8, of: 3, normalised: true}
      - {bytes: 1}
      - {attribute: TEXCOORD_0, type: f16, of: 2}
  - {indices: faces, count: index_count, type: u16, parts: pieces}
  - {bytes: rest, size: file_size - 44 - 28 * part_count - 20 * vertex_count - 2 * index_count}
"""

Model = tuple[np.ndarray, np.ndarray, np.ndarray, list[tuple[str, np.ndarray]]]


def lighthouse() -> Model:
    """Positions (metres, y up), normals, coordinates, and two parts: a tower of twelve sides and its lamp."""
    tower = trimesh.creation.cylinder(radius=1.5, height=8, sections=12)
    lamp = trimesh.creation.icosphere(subdivisions=2, radius=1.2)
    lamp.apply_translation([0, 0, 5])
    places, turned, at, parts, start = [], [], [], [], 0
    for name, shape in (("stone", tower), ("glass", lamp)):
        corners = np.asarray(shape.faces)
        upright = np.asarray(shape.vertices)[:, [0, 2, 1]] * [1, 1, -1]
        places.append(upright)
        turned.append(np.asarray(shape.vertex_normals)[:, [0, 2, 1]] * [1, 1, -1])
        angle = np.arctan2(upright[:, 0], upright[:, 2]) / (2 * np.pi) + 0.5
        at.append(np.stack([angle, (upright[:, 1] + 4) / 12], axis=1))
        parts.append((name, corners + start))
        start += len(upright)
    return np.concatenate(places), np.concatenate(turned), np.concatenate(at), parts


def written(model: Model, stamp: int = 77) -> bytes:
    """The model as LAYOUT says: z up, half metres, coordinates from the bottom, normals of eight bits."""
    places, turned, at, parts = model
    own = np.stack([places[:, 0], -places[:, 2], places[:, 1]], axis=1) * 2  # right, away, up
    normals = np.stack([turned[:, 0], -turned[:, 2], turned[:, 1]], axis=1)
    faces = [corners for _, corners in parts]
    count = sum(corners.size for corners in faces)
    own32 = own.astype("<f4")
    out = struct.pack("<4sIII", b"SHPE", len(own), count, len(parts))
    out += own32.min(axis=0).tobytes() + own32.max(axis=0).tobytes() + struct.pack("<I", stamp)
    first = 0
    for name, corners in parts:
        out += struct.pack("<II16sI", first, corners.size, name.encode(), 5)
        first += corners.size
    for k in range(len(own)):
        packed = np.rint(normals[k] * 127).astype("i1").tobytes()
        out += own32[k].tobytes() + packed + b"\xee" + np.array([at[k, 0], 1 - at[k, 1]], "<f2").tobytes()
    return out + b"".join(corners.astype("<u2").tobytes() for corners in faces) + b"tail"
