"""A model as a picture: from the side and a little above, lit from the left, or as it is asked for."""

from __future__ import annotations

import io
from typing import Any

import numpy as np

from brae.core.assets.mesh.lighting import Light
from brae.core.assets.mesh.mesh import Mesh, bounds, normals_of

#: of each part in turn: stone, oxblood, moss, slate, straw, teal
_COLOURS = np.array(
    [[0.78, 0.76, 0.72], [0.62, 0.33, 0.28], [0.47, 0.55, 0.38], [0.45, 0.50, 0.58], [0.80, 0.68, 0.42],
     [0.36, 0.58, 0.58]],
)  # fmt: skip
#: drawn so many times as large and made smaller, so that edges are smooth
_FINER = 2
_MARGIN = 0.92


def picture(
    mesh: Mesh,
    side: int,
    yaw: float = 35.0,
    pitch: float = 18.0,
    light: Light | None = None,
    *,
    steady: bool = False,
) -> np.ndarray[Any, np.dtype[np.uint8]]:
    """The model on nothing, uint8 (side, side, 4); degrees: turned about its height, and seen from above.

    It fills the picture as it is seen; ``steady``: so that it keeps its size as it is turned.
    """
    from PIL import Image

    from brae.core.assets.mesh import kernels

    size = side * _FINER
    out = np.zeros((size, size, 4), np.uint8)
    if len(mesh) and len(mesh.corners):
        across, up = np.radians(yaw), np.radians(pitch)
        turn = np.array([[np.cos(across), 0, np.sin(across)], [0, 1, 0], [-np.sin(across), 0, np.cos(across)]])
        tilt = np.array([[1, 0, 0], [0, np.cos(up), -np.sin(up)], [0, np.sin(up), np.cos(up)]])
        seen = tilt @ turn
        least, most = bounds(mesh)
        places = (mesh.positions.astype(np.float64) - (least + most) / 2) @ seen.T
        reach = max(radius(mesh) if steady else float(np.abs(places[:, :2]).max()), 1e-12)
        places = places * (size / 2 * _MARGIN / reach) * [1, -1, 1]
        places[:, :2] += size / 2
        normals = mesh.attributes["NORMAL"][:, :3] if "NORMAL" in mesh.attributes else normals_of(mesh)
        colours = np.zeros((len(mesh.corners), 3))
        for number, part in enumerate(mesh.parts):
            colours[part.first : part.first + part.count] = _COLOURS[number % len(_COLOURS)]
        turned = np.ascontiguousarray(normals.astype(np.float64) @ seen.T)
        given = light or Light()
        ways = np.stack([given.towards, given.halfway])
        strength = np.array([given.floor, given.highlight, given.shininess])
        depth = np.full((size, size), -np.inf)
        kernels.shade(places, turned, mesh.corners.astype(np.int64), colours, ways, strength, depth, out)
    return np.asarray(Image.fromarray(out).resize((side, side), Image.Resampling.BOX))


def radius(mesh: Mesh) -> float:
    """How far the model reaches from the middle of its box."""
    least, most = bounds(mesh)
    if not len(mesh):
        return 0.0
    middle = (least.astype(np.float64) + most) / 2
    return float(np.linalg.norm(mesh.positions - middle, axis=1).max())


def colour_of(number: int) -> tuple[float, float, float]:
    """The colour in which a part without a texture is drawn, 0 to 1."""
    red, green, blue = _COLOURS[number % len(_COLOURS)].tolist()
    return red, green, blue


def as_png(pixels: np.ndarray[Any, np.dtype[np.uint8]]) -> bytes:
    """The same as a file."""
    from PIL import Image

    found = io.BytesIO()
    Image.fromarray(pixels).save(found, "PNG")
    return found.getvalue()
