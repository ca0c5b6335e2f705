"""A cart on nodes, written by struct alone: each part in its node's space, indices from its first vertex.

Invented: big-endian, z up, centimetres; a body on the root, a wheel that is turned and halved, a flag on the wheel.
"""

from __future__ import annotations

import struct

LAYOUT = """
layout: test-cart
title: Carts
kind: mesh
match: {names: ["*.crt"]}
endian: big
parts:
  - {field: magic, type: bytes, length: 4, value: "CART"}
  - {field: node_count, type: u8, is: count(nodes)}
  - {field: part_count, type: u8, is: count(pieces)}
  - {field: vertex_count, type: u16, is: count(vertices)}
  - {field: index_count, type: u16, is: count(indices)}
  - table: nodes
    count: node_count
    record:
      - {field: called, type: string, length: 8, role: name}
      - {field: above, type: i8}
      - {field: px, type: f32}
      - {field: py, type: f32}
      - {field: pz, type: f32}
      - {field: qx, type: f32}
      - {field: qy, type: f32}
      - {field: qz, type: f32}
      - {field: qw, type: f32}
      - {field: sx, type: f32}
      - {field: sy, type: f32}
      - {field: sz, type: f32}
  - table: pieces
    count: part_count
    record:
      - {field: worn, type: string, length: 8, role: name}
      - {field: node, type: i8, role: part-node}
      - {field: base, type: u16, role: first-vertex}
      - {field: own, type: u16, role: vertex-count}
      - {field: first, type: u16, role: first-index}
      - {field: many, type: u16, role: index-count}
  - vertices: vertices
    count: vertex_count
    axes: "x z -y"
    metres: 0.01
    attributes:
      - {attribute: POSITION, type: f32, of: 3}
      - {attribute: NORMAL, type: f32, of: 3}
      - {bytes: 1}
  - {indices: indices, count: index_count, type: u8, parts: pieces}
  - {skeleton: frame, of: nodes, parent: above, place: [px, py, pz], turn: [qx, qy, qz, qw], scale: [sx, sy, sz]}
"""
#: name, above, place, turn, size
Node = tuple[str, int, tuple[float, ...], tuple[float, ...], tuple[float, ...]]
#: a quarter round the upright axis (z here): what points along x points along y
_QUARTER = (0.0, 0.0, 0.5**0.5, 0.5**0.5)
NODES: list[Node] = [
    ("root", -1, (100.0, 0.0, 0.0), (0.0, 0.0, 0.0, 1.0), (1.0, 1.0, 1.0)),
    ("wheel", 0, (0.0, 50.0, 0.0), _QUARTER, (0.5, 0.5, 0.5)),
    ("flag", 1, (0.0, 0.0, 80.0), (0.0, 0.0, 0.0, 1.0), (1.0, 2.0, 1.0)),
]
Row = tuple[float, float, float, float, float, float, int]
#: material, node, vertices (place, normal, a byte that nobody knows), triangles by the part's own numbers
Piece = tuple[str, int, list[Row], list[tuple[int, int, int]]]


def _quad(side: float, byte: int) -> list[Row]:
    corners = ((0, 0, 0), (side, 0, 0), (side, 0, side), (0, 0, side))
    return [(*corner, 0.0, -1.0, 0.0, byte) for corner in corners]


PIECES: list[Piece] = [
    ("wood", 0, _quad(40, 1), [(0, 1, 2), (0, 2, 3)]),
    ("iron", 1, _quad(20, 2), [(0, 1, 2), (0, 2, 3)]),
    ("wood", 2, _quad(10, 3)[:3], [(0, 1, 2)]),
    ("rope", -1, [(0, 0, 0, 0, 0, 1, 4), (1, 0, 0, 0, 0, 1, 4), (0, 1, 0, 0, 0, 1, 4)], [(0, 1, 2)]),
]


def written(pieces: list[Piece] = PIECES, nodes: list[Node] = NODES) -> bytes:
    """The file."""
    records, vertices, indices, base = b"", b"", b"", 0
    for name, node, rows, faces in pieces:
        records += struct.pack(">8sbHHHH", name.encode(), node, base, len(rows), len(indices), 3 * len(faces))
        vertices += b"".join(struct.pack(">6fB", *row) for row in rows)
        indices += bytes(corner for face in faces for corner in face)
        base += len(rows)
    told = b"".join(
        struct.pack(">8sb10f", name.encode(), above, *place, *turn, *size)
        for name, above, place, turn, size in nodes
    )
    head = struct.pack(">4sBBHH", b"CART", len(nodes), len(pieces), base, len(indices))
    return head + told + records + vertices + indices
