"""How models are lit: a sphere against Lambert's and Blinn's formulas in closed form.

Lambert, Photometria (1760); Blinn, "Models of light reflection for computer synthesized pictures" (SIGGRAPH 1977).
"""

from __future__ import annotations

import io

import numpy as np
import pytest
import trimesh
from PIL import Image

from brae.core.assets.base import Around, Context, NoWords, Viewed
from brae.core.assets.mesh.kind import KIND
from brae.core.assets.mesh.lighting import Light, shown
from brae.core.assets.mesh.looking import picture
from brae.core.assets.mesh.mesh import Mesh, Part
from brae.core.errors import LayoutError
from brae.core.games.model import GameProfile, Sign
from brae.core.layouts.library import Library
from brae.core.layouts.load import parse
from tests.core.assets.mesh.models import LAYOUT, lighthouse, written


def sphere() -> Mesh:
    ball = trimesh.creation.icosphere(subdivisions=5)
    points = np.asarray(ball.vertices, np.float32)
    corners = np.asarray(ball.faces, np.uint32)
    return Mesh({"POSITION": points, "NORMAL": points}, corners, (Part("", 0, len(corners)),))


@pytest.mark.parametrize("floor", [0.0, 0.28, 0.9])
@pytest.mark.parametrize(("highlight", "exponent"), [(0.0, 24.0), (0.5, 8.0), (0.8, 60.0)])
@pytest.mark.parametrize("direction", [(0.0, 0.0, 1.0), (-0.45, 0.6, 0.66), (1.0, 0.0, 0.1)])
def test_a_sphere_is_as_bright_as_the_formulas_say(
    floor: float, highlight: float, exponent: float, direction: tuple[float, float, float]
) -> None:
    side = 300
    drawn = picture(sphere(), side, 77, -20, Light(direction, floor, highlight, exponent)).astype(float) / 255
    x, y = np.meshgrid(*[(np.arange(side) + 0.5 - side / 2) / (side / 2 * 0.92)] * 2)
    inside = x * x + y * y < 0.95**2
    z = np.sqrt(np.maximum(1 - x * x - y * y, 0))
    light = np.array(direction) / np.linalg.norm(direction)
    # By hand: the cosine of the angle to the light, and to the direction halfway to the eye.
    cosine = np.clip(light[0] * x - light[1] * y + light[2] * z, 0, 1)
    between = light + np.array([0, 0, 1])
    halfway = between / np.linalg.norm(between)
    near = np.clip(halfway[0] * x - halfway[1] * y + halfway[2] * z, 0, 1)
    stone = 0.78
    wanted = stone * (floor + (1 - floor) * cosine) + highlight * np.where(cosine > 0, near**exponent, 0)
    found = drawn[..., 0]
    assert (drawn[..., 3][inside] == 1).all()
    edge = np.abs(cosine) < 0.02  # where the light ends a highlight may begin
    difference = np.abs(found - np.minimum(wanted, 1))[inside & ~edge]
    assert difference.mean() < 0.004
    assert np.quantile(difference, 0.999) < 0.03


def test_brightness_at_given_angles() -> None:
    """cos 0, 60 and 90 degrees are 1, 1/2 and 0; a highlight of exponent 10 at 30 degrees is 0.2373."""
    light = Light((0, 0, 1), 0.2, 0.0)
    angles = np.radians([0.0, 60.0, 90.0])
    normals = np.stack([np.sin(angles), np.zeros(3), np.cos(angles)], axis=1)
    assert shown(normals, np.full((3, 3), 0.5), light)[:, 0] == pytest.approx([0.5, 0.5 * 0.6, 0.1])
    shine = shown(
        normals[:1] * 0 + [np.sin(np.pi / 6), 0, np.cos(np.pi / 6)], np.zeros((1, 3)), Light((0, 0, 1), 0, 1, 10)
    )
    assert shine[0, 0] == pytest.approx(0.75**5, abs=1e-9)


def test_it_keeps_its_size_while_it_is_turned() -> None:
    model = KIND.read(written(lighthouse()), Context(Library({"skerry-shape": parse(LAYOUT)}), "a/tower.shp"))
    heights = []
    for yaw in (0, 40, 90, 200):
        alpha = picture(model.mesh, 200, yaw, 0, steady=True)[..., 3]
        rows = np.flatnonzero(alpha.any(axis=1))
        heights.append(rows[-1] - rows[0])
    assert max(heights) - min(heights) <= 1
    free = [picture(model.mesh, 200, 0, pitch)[..., 3].any(axis=1).sum() for pitch in (0, 90)]
    assert free[0] > 180, "without it the model fills its picture"


def test_the_page_gets_the_model_its_parts_and_the_light_of_its_game() -> None:
    text = LAYOUT.replace(
        "parts: pieces}", 'parts: pieces, materials: "{folder}/{material}.mat", textures: "skins/{material}.dds"}'
    )
    model = KIND.read(written(lighthouse()), Context(Library({"skerry-shape": parse(text)}), "models/tower.shp"))
    assert KIND.pointed(model) == [
        ("stone", "models/stone.mat", 0), ("stone", "skins/stone.dds", 0),
        ("glass", "models/glass.mat", 0), ("glass", "skins/glass.dds", 0),
    ]  # fmt: skip
    profile = GameProfile(game="isle", title="Isle", signs=[Sign(file="a")], light={"floor": 0.9, "shininess": 7})  # type: ignore[arg-type]
    told = KIND.questions["parts"].ask(Viewed(model), NoWords(), Around("x", list, profile))
    assert (told.floor, told.shininess, told.highlight) == (0.9, 7, 0)
    assert [part.material_item for part in told.original] == ["models/stone.mat", "models/glass.mat"]
    assert told.original[0].colour != told.original[1].colour
    reach = np.linalg.norm(
        model.mesh.positions - (model.mesh.positions.min(0) + model.mesh.positions.max(0)) / 2, axis=1
    )
    assert told.radius == pytest.approx(reach.max(), rel=1e-5)
    glb = KIND.preview(Viewed(model), KIND.query(view="model"))
    scene = trimesh.load(io.BytesIO(glb.data), file_type="glb")
    assert glb.media == "model/gltf-binary"
    assert sum(len(one.faces) for one in scene.geometry.values()) == len(model.mesh.corners)
    png = KIND.preview(Viewed(model), KIND.query(side=64, highlight=0.5))
    assert Image.open(io.BytesIO(png.data)).size == (64, 64)


@pytest.mark.parametrize("pattern", ["../{material}.txt", "C:/{material}", "{nothing}.txt"])
def test_materials_outside_the_game_are_refused(pattern: str) -> None:
    with pytest.raises(LayoutError):
        parse(LAYOUT.replace("parts: pieces}", f"parts: pieces, materials: '{pattern}'}}"))
