"""Bones, weights and copies with less detail: out as glTF that others read, and back into the same form."""

from __future__ import annotations

import json
import shutil
import subprocess
from dataclasses import replace
from pathlib import Path

import numpy as np
import pygltflib
import pytest
import trimesh
from hypothesis import given
from hypothesis import strategies as st

from brae.core.assets.base import Context, ExchangeFile, Version
from brae.core.assets.mesh import described, files, shells
from brae.core.assets.mesh.levels import near, simplified
from brae.core.assets.mesh.matching import ordered
from brae.core.assets.mesh.mesh import Mesh
from brae.core.assets.mesh.skeleton import on_bones, strongest
from brae.core.assets.registry import kinds
from brae.core.errors import BraeError, FormatError
from brae.core.layouts.library import Library
from brae.core.layouts.load import parse
from tests.core.assets.mesh import models
from tests.core.assets.mesh.figures import BONES, LAYOUT, figure, written

DATA = written()
FIGURE = described.read(parse(LAYOUT), DATA, "models/walker.fig")
SENT = files.to_glb(FIGURE.near)


def came(glb: bytes, *remedies: str) -> tuple[described.MeshFile, list[str]]:
    kind = kinds()["mesh"]
    sheet, made = kind.match(FIGURE, Version(ExchangeFile("w.glb", glb), remedies), {})
    return kind.again(FIGURE, made), [one.id for one in sheet.findings]


def test_bones_stand_where_their_file_says() -> None:
    told = {bone.name: bone for bone in FIGURE.mesh.bones}
    assert [bone.parent for bone in told.values()] == [-1, 0, 1, 2]
    world = {name: np.linalg.inv(np.array(bone.inverse)) for name, bone in told.items()}
    # z up in the file: right, up and towards one are x, z and -y; the hand hangs on an arm that is turned.
    assert np.allclose(world["chest"][:3, 3], [0, 1.3, 0])
    assert np.allclose(world["arm"][:3, 3], [0.3, 1.4, 0])
    assert np.allclose(world["hand"][:3, 3], [0.3 - 0.25, 1.4, 0])
    assert FIGURE.rewrite(FIGURE.mesh) == DATA


def test_the_khronos_validator_finds_nothing_wrong(tmp_path: Path) -> None:
    node = shutil.which("node")
    assert node is not None
    plain = described.read(parse(models.LAYOUT), models.written(models.lighthouse()), "l.shp")
    for name, glb in (("walker", SENT), ("lighthouse", files.to_glb(plain.mesh))):
        (tmp_path / f"{name}.glb").write_bytes(glb)
        script = Path(__file__).with_name("validate.mjs")
        done = subprocess.run(
            [node, str(script), str(tmp_path / f"{name}.glb")], capture_output=True, text=True, check=True
        )
        told = json.loads(done.stdout)
        # 0 are errors, 1 warnings.
        assert [one for one in told if one["severity"] <= 1] == []


def test_others_see_the_bones_and_the_near_parts() -> None:
    found = pygltflib.GLTF2.load_from_bytes(SENT)
    assert [found.nodes[joint].name for joint in found.skins[0].joints] == [name for name, *_ in BONES]
    scene = trimesh.load(trimesh.util.wrap_as_stream(SENT), file_type="glb", force="mesh")
    told = figure()
    assert len(scene.faces) == sum(len(one) for _, level, one in told["faces"] if level == 0)


def test_untouched_and_renamed_bones_lose_nothing() -> None:
    assert came(SENT)[0].rewrite(FIGURE.mesh) == DATA
    # Another program writes bones in another order, and the joints by its own numbers.
    found = pygltflib.GLTF2.load_from_bytes(SENT)
    order = [2, 0, 3, 1]
    blob = bytearray(found.binary_blob())
    skin = found.skins[0]
    skin.joints = [skin.joints[one] for one in order]
    view = found.bufferViews[found.accessors[skin.inverseBindMatrices].bufferView]
    matrices = np.frombuffer(bytes(blob[view.byteOffset : view.byteOffset + view.byteLength]), "<f4").reshape(
        -1, 16
    )
    blob[view.byteOffset : view.byteOffset + view.byteLength] = matrices[order].tobytes()
    accessor = found.accessors[found.meshes[0].primitives[0].attributes.JOINTS_0]
    view = found.bufferViews[accessor.bufferView]
    joints = np.frombuffer(bytes(blob[view.byteOffset : view.byteOffset + view.byteLength]), "<u2")
    back = np.argsort(order)
    blob[view.byteOffset : view.byteOffset + view.byteLength] = back[joints].astype("<u2").tobytes()
    found.set_binary_blob(bytes(blob))
    made, told = came(b"".join(found.save_to_bytes()))
    assert told == []
    assert np.array_equal(hung(made.near), hung(FIGURE.near))


def hung(mesh: Mesh) -> np.ndarray:
    """How much each corner hangs on each bone."""
    found = np.zeros((len(mesh), len(BONES)))
    for column in range(4):
        rows = mesh.attributes["JOINTS_0"][:, column].astype(int)
        np.add.at(found, (np.arange(len(mesh)), rows), mesh.attributes["WEIGHTS_0"][:, column])
    return found[mesh.corners]


def test_bones_at_rest_elsewhere_put_the_model_where_it_was() -> None:
    """An editor that turns its axes at the root of the skeleton: the bind matrices turn back."""
    found = pygltflib.GLTF2.load_from_bytes(SENT)
    hip = found.nodes[found.skins[0].joints[0]]
    hip.translation, hip.matrix = [5.0, 0.9, 0.0], None
    made, _ = came(b"".join(found.save_to_bytes()))
    moved = made.near.positions[made.near.corners] - FIGURE.near.positions[FIGURE.near.corners]
    assert np.allclose(moved, [5, 0, 0], atol=1e-4)


def test_a_bone_that_is_not_there_hangs_on_the_one_above() -> None:
    found = pygltflib.GLTF2.load_from_bytes(SENT)
    found.nodes[found.skins[0].joints[2]].name = "sleeve"
    made, told = came(b"".join(found.save_to_bytes()))
    assert told == ["bones"]
    before, now = hung(FIGURE.near), hung(made.near)
    assert now[..., 2].max() == 0
    assert np.allclose(now[..., 1], before[..., 1] + before[..., 2], atol=1e-6)


@given(st.lists(st.lists(st.floats(0, 1, width=32), min_size=8, max_size=8), min_size=1, max_size=20))
def test_the_strongest_weights_are_kept_and_sum_to_one(rows: list[list[float]]) -> None:
    weights = np.array(rows, np.float32)
    joints = np.tile(np.arange(8, dtype=np.float32), (len(rows), 1))
    joints[:, 7] = 0  # the first bone once more
    found, _ = strongest(
        {
            "JOINTS_0": joints[:, :4], "JOINTS_1": joints[:, 4:],
            "WEIGHTS_0": weights[:, :4], "WEIGHTS_1": weights[:, 4:],
        }, 3,
    )  # fmt: skip
    assert set(found) == {"JOINTS_0", "WEIGHTS_0"}
    assert np.allclose(found["WEIGHTS_0"].sum(axis=1), 1, atol=1e-5)
    together = weights[:, :7].copy()
    together[:, 0] += weights[:, 7]
    for row, told in enumerate(together):
        if told.sum() > 0:
            named = {int(j) for j, w in zip(found["JOINTS_0"][row], found["WEIGHTS_0"][row], strict=True) if w > 0}
            kept = sorted(told[sorted(named)])
            assert kept[-1] == told.max()
            assert sum(kept) >= sorted(told)[-3:][0]


def test_unknown_bones_without_any_above_hang_on_the_first() -> None:
    attributes = {
        "JOINTS_0": np.array([[1.0, 0, 0, 0]], np.float32),
        "WEIGHTS_0": np.array([[1.0, 0, 0, 0]], np.float32),
    }
    bones = FIGURE.mesh.bones
    strange = (replace(bones[0], name="a"), replace(bones[1], name="b", parent=0))
    found, lost = on_bones(attributes, strange, bones)
    assert (found["JOINTS_0"][0, 0], lost) == (0, ["b"])


# ---- copies for further away ------------------------------------------------------------------------------------


def grown() -> bytes:
    mesh = near(FIGURE.mesh)
    taller = {**mesh.attributes, "POSITION": mesh.positions * np.array([1, 1.5, 1], np.float32)}
    return files.to_glb(replace(mesh, attributes=taller))


def test_copies_stay_are_made_anew_or_left_empty() -> None:
    kept, told = came(grown())
    assert told == ["levels"]
    old, now = FIGURE.mesh, kept.mesh
    assert [part.level for part in now.parts] == [0, 0, 1]
    far = now.corners_of(now.parts[2])
    assert np.allclose(np.sort(now.positions[far].reshape(-1, 9), axis=0),
                       np.sort(old.positions[old.corners_of(old.parts[2])].reshape(-1, 9), axis=0))  # fmt: skip
    anew, _ = came(grown(), "levels-anew")
    part = anew.mesh.parts[2]
    assert 0 < part.count <= old.parts[2].count
    height = np.ptp(anew.mesh.positions[anew.mesh.corners_of(part)][..., 1])
    whole = np.ptp(anew.mesh.positions[anew.mesh.corners_of(anew.mesh.parts[0])][..., 1])
    assert height > 0.85 * whole
    empty, _ = came(grown(), "levels-empty")
    assert empty.mesh.parts[2].count == 0
    # Where the shape is what it was, nothing is told.
    assert came(files.to_glb(replace(near(FIGURE.mesh), bones=FIGURE.mesh.bones)))[1] == []


@pytest.mark.parametrize("most", [4, 20, 80, 300])
def test_a_simpler_ball_is_a_ball_still(most: int) -> None:
    ball = trimesh.creation.icosphere(subdivisions=4)
    mesh = Mesh({"POSITION": np.asarray(ball.vertices, np.float32)}, np.asarray(ball.faces, np.uint32))
    found = simplified(mesh, mesh.corners, most)
    assert 0 < len(found) <= most
    if most >= 80:
        shape = trimesh.Trimesh(mesh.positions, found, process=False)
        assert shape.volume > 0.7 * ball.volume
        assert len(found) > most / 4


# ---- files of the game's own, outlines, coordinates -------------------------------------------------------------


def test_a_file_of_the_games_own_goes_in_as_it_is_once_it_fits() -> None:
    kind = kinds()["mesh"]
    shifted = bytearray(DATA)
    sheet, made = kind.match(FIGURE, Version(ExchangeFile("walker.fig", bytes(shifted))), {})
    assert (made.data, sheet.findings) == (DATA, [])
    # Painted elsewhere: all coordinates in another corner of the texture.
    at = FIGURE.mesh.attributes["TEXCOORD_0"] * np.float32(0.1)
    elsewhere = replace(FIGURE.mesh, attributes={**FIGURE.mesh.attributes, "TEXCOORD_0": at})
    sheet, _ = kind.match(FIGURE, Version(ExchangeFile("walker.fig", FIGURE.rewrite(elsewhere))), {})
    assert {one.id for one in sheet.findings} == {"painted-0", "painted-1"}
    other = described.read(parse(LAYOUT), DATA.replace(b"chest\0", b"torso\0"), "x.fig")
    sheet, _ = kind.match(FIGURE, Version(ExchangeFile("x.fig", other.rewrite(other.mesh))), {})
    assert [one.id for one in sheet.open_findings] == ["skeleton"]
    with pytest.raises(FormatError, match="neither glTF nor"):
        kind.match(FIGURE, Version(ExchangeFile("x.fig", b"SOMETHING ELSE")), {})


def test_an_outline_is_a_larger_shell_turned_inwards() -> None:
    ball = trimesh.creation.icosphere(subdivisions=3)
    mesh = Mesh(
        {
            "POSITION": np.asarray(ball.vertices, np.float32), "NORMAL": np.asarray(ball.vertices, np.float32),
            "TEXCOORD_0": np.zeros((len(ball.vertices), 2), np.float32),
        }, np.asarray(ball.faces, np.uint32), (described.Part("skin", 0, len(ball.faces)),),
    )  # fmt: skip
    made = shells.outlined(mesh, 0.05, "skin", (0.25, 0.75))
    assert [part.material for part in made.parts] == ["skin"]
    shell = trimesh.Trimesh(made.positions, made.corners[len(ball.faces) :], process=False)
    assert np.allclose(np.linalg.norm(shell.vertices[len(ball.vertices) :], axis=1), 1.05, atol=1e-4)
    assert shell.volume < 0, "its faces look inwards"
    assert np.allclose(made.attributes["TEXCOORD_0"][len(ball.vertices) :], [0.25, 0.75])
    assert [part.material for part in shells.outlined(mesh, 0.05, "ink").parts] == ["skin", "ink"]
    with pytest.raises(FormatError, match="none for this model"):
        shells.outlined(mesh, 50, "ink")


def test_coordinates_of_chosen_parts_are_turned_over_within_their_own_room() -> None:
    mesh = near(FIGURE.mesh)
    made = shells.turned_over(mesh, ["face"], "flip")
    at = [one.attributes["TEXCOORD_0"][one.corners] for one in (mesh, made)]
    face, coat = (next(part for part in mesh.parts if part.material == name) for name in ("face", "coat"))
    rows = slice(face.first, face.first + face.count)
    was, now = at[0][rows], at[1][rows]
    assert np.allclose(now[..., 1], was[..., 1].min() + was[..., 1].max() - was[..., 1])
    assert np.array_equal(now[..., 0], was[..., 0])
    rows = slice(coat.first, coat.first + coat.count)
    assert np.array_equal(at[0][rows], at[1][rows])
    both = shells.turned_over(mesh, ["face", "coat"], "mirror")
    assert came(files.to_glb(both))[1] == [], "what was asked for is no mistake"
    with pytest.raises(FormatError, match="no part 'hat'"):
        shells.turned_over(mesh, ["hat"], "flip")


@pytest.mark.parametrize("column", [0, 1])
def test_coordinates_that_a_program_turned_over_are_told_and_put_right(column: int) -> None:
    mesh = near(FIGURE.mesh)
    at = mesh.attributes["TEXCOORD_0"].copy()
    at[:, column] = 1 - at[:, column]
    glb = files.to_glb(replace(mesh, attributes={**mesh.attributes, "TEXCOORD_0": at}))
    name = ("mirror", "flip")[column] + "-coordinates"
    assert came(glb)[1] == [name]
    made, _ = came(glb, name)
    places, old = made.near.attributes["TEXCOORD_0"], mesh.attributes["TEXCOORD_0"]
    assert np.allclose(places[made.near.corners], old[mesh.corners], atol=1e-5)


def test_tangents_are_worked_out_as_the_originals_and_holes_are_told() -> None:
    found = pygltflib.GLTF2.load_from_bytes(SENT)
    for primitive in found.meshes[0].primitives:
        primitive.attributes.TANGENT = None
    made, told = came(b"".join(found.save_to_bytes()))
    assert told == ["tangents"]
    assert made.mesh.attributes["TANGENT"].shape[1] == 4
    mesh = near(FIGURE.mesh)
    face = next(part for part in mesh.parts if part.material == "face")
    corners = np.delete(mesh.corners, [face.first, face.first + 1], axis=0)
    parts = tuple(replace(part, count=part.count - 2 * (part == face)) for part in mesh.parts)
    assert set(came(files.to_glb(replace(mesh, corners=corners, parts=parts)))[1]) == {"holes", "levels"}


@pytest.mark.parametrize("factor", [100.0, 0.01, 39.3701])
@pytest.mark.parametrize("lying", [False, True])
def test_another_unit_and_another_axis_are_told_and_put_back(factor: float, lying: bool) -> None:
    mesh = near(FIGURE.mesh)
    turn = np.array([[1, 0, 0], [0, 0, -1], [0, 1, 0]], np.float32) if lying else np.eye(3, dtype=np.float32)
    turned = {
        **mesh.attributes, "POSITION": mesh.positions @ turn.T * np.float32(factor),
        "NORMAL": mesh.attributes["NORMAL"] @ turn.T,
    }  # fmt: skip
    glb = files.to_glb(replace(mesh, attributes=turned))
    names = [*(["axes"] if lying else []), "unit"]
    assert came(glb)[1] == [*names, "levels"]
    made, told = came(glb, *names)
    assert told == names
    assert np.allclose(made.near.positions[made.near.corners], mesh.positions[mesh.corners], atol=1e-4)
    assert np.allclose(
        made.near.attributes["NORMAL"][made.near.corners], mesh.attributes["NORMAL"][mesh.corners], atol=1e-4
    )


def test_a_model_that_only_grew_is_in_the_same_unit() -> None:
    mesh = near(FIGURE.mesh)
    for scale in ([1.3, 1.3, 1.3], [2, 2, 2], [1, 3, 1], [100, 1, 1]):
        larger = {**mesh.attributes, "POSITION": mesh.positions * np.array(scale, np.float32)}
        assert came(files.to_glb(replace(mesh, attributes=larger)))[1] == ["levels"]


def test_many_vertices_and_parts_without_a_material_are_told() -> None:
    ball = trimesh.creation.icosphere(subdivisions=6, radius=0.8)
    told = came(ball.export(file_type="glb"))[1]
    assert {"many", "bare", "parts"} <= set(told)


def test_parts_are_called_as_they_will_be_in_the_game() -> None:
    kind = kinds()["mesh"]
    parts = near(FIGURE.mesh).parts

    def named(*names: str) -> list[str]:
        mesh = near(FIGURE.mesh)
        changed = tuple(replace(part, material=name) for part, name in zip(parts, names, strict=True))
        file = ExchangeFile("w.glb", files.to_glb(replace(mesh, parts=changed)))
        said = [part.material for part in kind.came(FIGURE, file).mesh.parts]
        assert said == [part.material for part in came(file.data)[0].near.parts]
        return said

    assert named("coat", "face") == ["coat", "face"]
    assert named("Mat.1", "Mat.2") == ["coat", "face"], "an editor's own names, in the original's order"
    assert named("coat", "scarf") == ["coat", "scarf"]


def test_a_part_of_another_name_stands_where_one_is_missing() -> None:
    three = [described.Part(name, n, 1) for n, name in enumerate(("coat", "face", "bag"))]
    corners = np.arange(9, dtype=np.uint32).reshape(3, 3)
    places = np.zeros((9, 3), np.float32)

    def put(*names: str) -> list[str]:
        parts = tuple(described.Part(name, n, 1) for n, name in enumerate(names))
        return [part.material for part in ordered(Mesh({"POSITION": places}, corners, parts), three).parts]

    assert put("bag", "scarf", "coat") == ["coat", "scarf", "bag"]
    assert put("a", "b", "c") == ["coat", "face", "bag"]
    assert put("bag", "coat") == ["coat", "bag"]
    assert put("bag", "x", "coat", "y") == ["coat", "bag", "x", "y"]


def test_joined_parts_are_split_again_by_where_they_were() -> None:
    """Two parts as one, stretched: each triangle goes back to its part."""
    mesh = near(FIGURE.mesh)
    one = replace(
        mesh, parts=(described.Part("all", 0, len(mesh.corners)),),
        attributes={**mesh.attributes, "POSITION": mesh.positions * np.array([1, 1.2, 1], np.float32)},
    )  # fmt: skip
    assert came(files.to_glb(one))[1] == ["parts", "levels"]
    made, told = came(files.to_glb(one), "parts-split", "levels-empty")
    assert told == ["parts", "levels"]
    assert [(part.material, part.count) for part in made.near.parts] == [
        (part.material, part.count) for part in mesh.parts
    ]
    kind = kinds()["mesh"]
    version = Version(ExchangeFile("w.glb", files.to_glb(one)), ("parts-split", "levels-empty"))
    assert kind.match(FIGURE, version, {})[0].open_findings == [], "either remedy puts it right"


# ---- bad input --------------------------------------------------------------------------------------------------


def test_bones_in_a_circle_are_refused() -> None:
    at = DATA.index(b"hip\0") + 12
    with pytest.raises(FormatError, match="above itself"):
        described.read(parse(LAYOUT), DATA[:at] + b"\x03\x00" + DATA[at + 2 :], "x.fig")


@given(st.binary(min_size=1, max_size=8), st.integers(0, len(DATA) - 1))
def test_damaged_figures_raise_errors_of_the_job(noise: bytes, at: int) -> None:
    try:
        found = described.read(parse(LAYOUT), DATA[:at] + noise + DATA[at + len(noise) :], "x.fig")
        files.to_glb(found.near)
    except BraeError as error:
        assert str(error)


@given(st.binary(min_size=1, max_size=8), st.integers(0, len(SENT) - 1))
def test_damaged_files_with_bones_raise_errors_of_the_job(noise: bytes, at: int) -> None:
    try:
        came(SENT[:at] + noise + SENT[at + len(noise) :])
    except BraeError as error:
        assert str(error)


@pytest.mark.parametrize(
    ("was", "now", "words"),
    [
        ("parent: above", "parent: abov", "no field 'abov'"),
        ("parent: above", "parent: x", "whole one"),
        ("place: [x, y, z]", "place: [x, y, level]", "no field 'level'"),
        ("of: joints, parent", "of: pieces, parent", "no field 'above'"),
        ("of: joints, parent", "of: corners, parent", "no table of bones"),
        (", place: [x, y, z], turn: [qx, qy, qz, qw]", "", "have a place"),
    ],
)  # fmt: skip
def test_skeletons_that_make_no_sense_are_refused(was: str, now: str, words: str) -> None:
    assert was in LAYOUT
    with pytest.raises(BraeError, match=words):
        parse(LAYOUT.replace(was, now))


def test_the_kind_sends_only_what_is_near() -> None:
    context = Context(Library({"figure": parse(LAYOUT)}), "models/walker.fig", layout=parse(LAYOUT))
    kind = kinds()["mesh"]
    asset = kind.read(DATA, context)
    assert kind.send(asset).data == SENT
    assert kind.spelt(asset, "materials/red.txt") == "red"
    with pytest.raises(FormatError, match="cannot be a material"):
        kind.spelt(asset, "skins/red.dds")
