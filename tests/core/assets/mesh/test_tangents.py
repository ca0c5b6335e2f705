"""Tangents beside MikkTSpace's own code (compiled, as three.js ships it)."""

from __future__ import annotations

import json
import shutil
import subprocess
from pathlib import Path

import numpy as np
import pytest
import trimesh

from brae.core.assets.mesh.mesh import Mesh, Part, normals_of
from brae.core.assets.mesh.tangents import side_of, with_tangents
from brae.demo import models

SCRIPT = Path(__file__).with_name("mikk.mjs")


def reference(mesh: Mesh) -> np.ndarray:
    """What the reference says of each corner, shape (corners, 4)."""
    corners = mesh.corners.reshape(-1)
    asked = {
        "positions": mesh.positions[corners].reshape(-1).tolist(),
        "normals": mesh.attributes["NORMAL"][corners].reshape(-1).tolist(),
        "coordinates": mesh.attributes["TEXCOORD_0"][corners].reshape(-1).tolist(),
    }
    node = shutil.which("node")
    assert node is not None, "node came with the page's tools"
    found = subprocess.run([node, str(SCRIPT)], input=json.dumps(asked), capture_output=True, text=True, check=True)
    return np.array(json.loads(found.stdout)).reshape(-1, 4)


def of(points: np.ndarray, corners: np.ndarray, at: np.ndarray, normals: np.ndarray | None = None) -> Mesh:
    mesh = Mesh({"POSITION": points.astype(np.float32)}, corners.astype(np.uint32), (Part("", 0, len(corners)),))
    turned = normals_of(mesh) if normals is None else normals.astype(np.float32)
    return Mesh(
        {**mesh.attributes, "NORMAL": turned, "TEXCOORD_0": at.astype(np.float32)}, mesh.corners, mesh.parts
    )


def torus() -> Mesh:
    shape = trimesh.creation.torus(1.0, 0.4, major_sections=24, minor_sections=12)
    points = shape.vertices
    at = np.stack([np.arctan2(points[:, 1], points[:, 0]) * 3, points[:, 2] * 2 + points[:, 0]], axis=1)
    return of(points, shape.faces, at)


def mirrored() -> Mesh:
    """A sheet whose left half has its coordinates mirrored: vertices in the middle have two tangents."""
    u, v = np.meshgrid(np.linspace(-1, 1, 9), np.linspace(0, 1, 5))
    points = np.stack([u.ravel(), v.ravel(), 0.2 * np.sin(3 * u.ravel())], axis=1)
    number = np.arange(45).reshape(5, 9)
    a, b, c, d = number[:-1, :-1], number[:-1, 1:], number[1:, 1:], number[1:, :-1]
    corners = np.concatenate([np.stack(one, axis=-1).reshape(-1, 3) for one in ((a, b, c), (a, c, d))])
    return of(points, corners, np.stack([np.abs(u.ravel()), v.ravel()], axis=1))


def of_the_demo(name: str) -> Mesh:
    pieces = models.MODELS[name]()
    start, corners = 0, []
    for one in pieces:
        corners.append(one.corners + start)
        start += len(one.points)
    return of(
        np.concatenate([one.points for one in pieces]), np.concatenate(corners),
        np.concatenate([one.at for one in pieces]), np.concatenate([one.normals for one in pieces]),
    )  # fmt: skip


MESHES = {
    "torus": torus, "mirrored": mirrored, "boat": lambda: of_the_demo("boat"),
    "lighthouse": lambda: of_the_demo("lighthouse"),
}  # fmt: skip


@pytest.mark.parametrize("name", MESHES)
def test_tangents_are_those_of_the_reference(name: str) -> None:
    mesh = MESHES[name]()
    told = reference(mesh)
    made = with_tangents(mesh)
    own = made.attributes["TANGENT"][made.corners.reshape(-1)]
    # Where a triangle has no area on the picture or in space there is no right answer.
    a, b, c = (mesh.attributes["TEXCOORD_0"][mesh.corners[:, k]].astype(float) for k in range(3))
    p, q, r = (mesh.positions[mesh.corners[:, k]].astype(float) for k in range(3))
    s, t = b - a, c - a
    flat = np.abs(s[:, 0] * t[:, 1] - s[:, 1] * t[:, 0]) < 1e-9
    flat |= np.linalg.norm(np.cross(q - p, r - p), axis=1) < 1e-9
    sound = np.repeat(~flat, 3)
    dots = (own[:, :3] * told[:, :3]).sum(axis=1)[sound]
    assert np.mean(dots > 0.9999) > 0.99
    assert dots.min() > 0.99, "nowhere more than some degrees: beside triangles that have hardly an area"
    assert (own[sound, 3] == told[sound, 3]).all()


def test_a_vertex_between_two_sides_becomes_two() -> None:
    mesh = mirrored()
    made = with_tangents(mesh)
    assert len(made) == len(mesh) + 5
    assert np.array_equal(made.positions[made.corners], mesh.positions[mesh.corners])
    assert side_of(made) == 1.0
    assert side_of(with_tangents(mesh, side=-1.0)) == -1.0
