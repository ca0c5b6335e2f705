"""Models by a layout, out as glTF and OBJ and back: against trimesh, pygltflib and closed forms."""

from __future__ import annotations

import io
import json
from contextlib import suppress
from dataclasses import replace

import numpy as np
import pygltflib
import pytest
import trimesh
from hypothesis import given
from hypothesis import strategies as st

from brae.core.assets.base import Context, ExchangeFile, Version
from brae.core.assets.mesh import described, files
from brae.core.assets.mesh.kind import KIND
from brae.core.assets.mesh.looking import picture
from brae.core.assets.mesh.mesh import Mesh, Part, normals_of, welded
from brae.core.assets.mesh.overlay import edges, to_png, to_svg
from brae.core.assets.mesh.tangents import with_tangents
from brae.core.errors import BraeError, FormatError, LayoutError
from brae.core.layouts.library import Library
from brae.core.layouts.load import parse
from tests.core.assets.mesh.models import LAYOUT, lighthouse, written

SHAPE = parse(LAYOUT)
DATA = written(lighthouse())


def opened(data: bytes = DATA) -> described.MeshFile:
    return described.read(SHAPE, data)


def loaded(glb: bytes) -> trimesh.Trimesh:
    found = trimesh.load(io.BytesIO(glb), file_type="glb", force="mesh", process=False)
    assert isinstance(found, trimesh.Trimesh)
    return found


def back(glb: bytes, *remedies: str, data: bytes = DATA) -> tuple[described.MeshFile, list[str]]:
    """A model that an editor saved, put into the file: what it is read as again, and the open findings."""
    version = Version(ExchangeFile("model.glb", glb), remedies)
    sheet, encoded = KIND.match(opened(data), version, {})
    return opened(encoded.data), [finding.id for finding in sheet.open_findings]


# ---- reading and writing ------------------------------------------------------------------------------------


def test_a_model_is_what_its_writer_wrote() -> None:
    places, turned, at, parts = lighthouse()
    mesh = opened().mesh
    assert np.allclose(mesh.positions, places, atol=1e-5)
    assert np.abs(mesh.attributes["NORMAL"] - turned).max() < 0.01, "eight bits"
    assert np.abs(mesh.attributes["TEXCOORD_0"] - at).max() < 0.001, "half numbers"
    assert [part.material for part in mesh.parts] == ["stone", "glass"]
    assert np.array_equal(mesh.corners, np.concatenate([corners for _, corners in parts]))


def test_written_again_without_a_change_it_is_the_same() -> None:
    assert KIND.rebuild(opened()) == DATA


def test_with_other_counts_everything_follows() -> None:
    """The whole file equals what the writer would have written for the changed model."""
    places, turned, at, parts = lighthouse()
    grown = places * 1.5
    keep = [(parts[0][0], parts[0][1]), (parts[1][0], parts[1][1][:40])]
    mesh = opened().mesh
    corners = np.concatenate([corners for _, corners in keep]).astype(np.uint32)
    pieces = (Part("stone", 0, len(keep[0][1])), Part("glass", len(keep[0][1]), 40))
    made = Mesh({**mesh.attributes, "POSITION": grown.astype(np.float32)}, corners, pieces)
    assert opened().rewrite(made) == written((grown, turned, at, keep))


STRIP = """
layout: strips
title: Strips
kind: mesh
match: {names: ["*.str"]}
parts:
  - {field: vertex_count, type: u16, is: count(corners)}
  - {field: index_count, type: u16, is: count(faces)}
  - {vertices: corners, count: vertex_count, attributes: [{attribute: POSITION, type: i16, of: 3, scale: 0.25}]}
  - {indices: faces, count: index_count, type: u16, form: strip, restart: RESTART}
"""


@pytest.mark.parametrize("restart", [True, False])
@given(rows=st.integers(2, 6), columns=st.integers(2, 6), seed=st.integers(0, 99))
def test_strips_hold_the_same_triangles_the_same_way_round(
    restart: bool, rows: int, columns: int, seed: int
) -> None:
    """A grid in any order of triangles and with any corner first: as a set, and each turned as it was."""
    layout = parse(STRIP.replace("RESTART", str(restart).lower()))
    y, x = np.mgrid[:rows, :columns]
    places = np.stack([x.ravel(), y.ravel(), 0 * x.ravel()], axis=1)
    number = np.arange(rows * columns).reshape(rows, columns)
    a, b, c, d = (number[k : k + rows - 1, m : m + columns - 1].ravel() for k in (0, 1) for m in (0, 1))
    corners = np.concatenate([np.stack([a, b, c], 1), np.stack([b, d, c], 1)]).astype(np.uint32)
    rng = np.random.default_rng(seed)
    corners = rng.permutation(corners)
    corners = np.stack([np.roll(one, int(rng.integers(3))) for one in corners])
    empty = described.read(layout, b"\0\0\0\0")
    data = empty.rewrite(Mesh({"POSITION": places.astype(np.float32)}, corners, (Part("", 0, len(corners)),)))
    again = described.read(layout, data)
    assert np.array_equal(again.mesh.positions, places)

    def turned(found: np.ndarray) -> set[tuple[int, ...]]:
        return {tuple(np.roll(one, -int(one.argmin())).tolist()) for one in found}

    assert turned(again.mesh.corners) == turned(corners)
    assert len(again.mesh.corners) == len(corners)
    assert again.rewrite(again.mesh) == data


@given(st.lists(st.lists(st.floats(0, 1), min_size=4, max_size=4), min_size=1, max_size=8))
def test_weights_of_eight_bits_sum_to_exactly_one(weights: list[list[float]]) -> None:
    (one,) = parse(
        "layout: w\ntitle: W\nkind: mesh\nmatch: {names: [a]}\nparts:\n"
        "  - vertices: v\n    count: 1\n    attributes:\n"
        "      - {attribute: POSITION, type: f32, of: 3}\n"
        "      - {attribute: WEIGHTS_0, type: u8, of: 4, normalised: true}\n"
    ).parts
    form = one.places["WEIGHTS_0"][1]  # type: ignore[union-attr]
    values = np.array(weights, np.float32)
    raw = described.encoded(values, form, one, "little")  # type: ignore[arg-type]
    whole = values.sum(axis=1, keepdims=True)
    shares = np.divide(values, whole, out=np.zeros_like(values), where=whole > 0)
    assert np.array_equal(raw.astype(int).sum(axis=1), np.where(whole[:, 0] > 0, 255, 0))
    assert np.abs(raw / 255 - shares).max() < 1 / 255


# ---- glTF and OBJ -------------------------------------------------------------------------------------------


def test_what_goes_out_is_what_other_readers_see() -> None:
    places, _, _, parts = lighthouse()
    glb = KIND.saved(opened(), ".glb")
    scene = pygltflib.GLTF2.load_from_bytes(glb)
    assert [material.name for material in scene.materials] == ["stone", "glass"]
    assert scene.accessors[0].min == pytest.approx(places.min(axis=0).tolist(), abs=1e-5)
    theirs = loaded(glb)
    assert len(theirs.faces) == sum(len(corners) for _, corners in parts)
    assert np.allclose(theirs.bounds, [places.min(axis=0), places.max(axis=0)], atol=1e-5)
    ours = trimesh.Trimesh(places, np.concatenate([corners for _, corners in parts]), process=False)
    assert theirs.volume == pytest.approx(ours.volume, rel=1e-4), "and the faces look outwards"
    lengths = np.linalg.norm(files.sendable(opened().mesh)["NORMAL"], axis=1)
    assert np.abs(lengths - 1).max() < 1e-3
    assert glb == KIND.saved(opened(), ".glb"), "the same every time"


def test_an_obj_is_read_by_others_with_its_coordinates() -> None:
    places, _, at, parts = lighthouse()
    text = KIND.saved(opened(), ".obj").decode()
    theirs = trimesh.load(io.StringIO(text), file_type="obj", force="mesh", process=False)
    assert np.allclose(theirs.bounds, [places.min(axis=0), places.max(axis=0)], atol=1e-5)
    assert text.count("usemtl") == 2
    first = next(line for line in text.splitlines() if line.startswith("vt "))
    assert [float(word) for word in first.split()[1:]] == pytest.approx([at[0, 0], 1 - at[0, 1]], abs=1e-3)
    assert text.count("\nf ") == sum(len(corners) for _, corners in parts)


def test_sent_out_and_back_without_a_change_it_is_the_original() -> None:
    version = Version(KIND.send(opened()))
    sheet, encoded = KIND.match(opened(), version, {})
    assert encoded.data == DATA
    assert sheet.findings == []


def test_another_program_saves_it_and_the_same_model_comes_back() -> None:
    """trimesh splits, re-orders and renames as an editor would."""
    scene = trimesh.load(io.BytesIO(KIND.send(opened()).data), file_type="glb")
    found, open_ = back(scene.export(file_type="glb"))
    before = opened().mesh
    assert open_ == []
    assert [part.material for part in found.mesh.parts] == ["stone", "glass"]
    assert [part.count for part in found.mesh.parts] == [part.count for part in before.parts]

    def triangles(mesh: Mesh) -> np.ndarray:
        flat = np.sort(np.round(mesh.positions[mesh.corners], 3).reshape(len(mesh.corners), 3, 3), axis=1)
        return np.unique(flat.reshape(-1, 9), axis=0)

    assert np.allclose(triangles(found.mesh), triangles(before), atol=2e-3)


def scene_of(**changes: object) -> bytes:
    """The lighthouse as another program might save it: parts as meshes of their own, with changes by name."""
    scene = trimesh.Scene()
    _, _, at, _ = lighthouse()
    mesh = opened().mesh
    for part in mesh.parts:
        shape = trimesh.Trimesh(mesh.positions, mesh.corners_of(part), process=False)
        name = str(changes.get(part.material, part.material))
        material = trimesh.visual.material.PBRMaterial(name=name)
        if not changes.get("bare"):
            shape.visual = trimesh.visual.TextureVisuals(
                uv=np.stack([at[:, 0], 1 - at[:, 1]], 1), material=material
            )
        if "move" in changes:
            shape.apply_transform(changes["move"])
        scene.add_geometry(shape)
    if extra := changes.get("extra"):
        box = trimesh.creation.box(extents=[1, 1, 1])
        visual = trimesh.visual.TextureVisuals(
            uv=np.zeros((8, 2)), material=trimesh.visual.material.PBRMaterial(name=str(extra))
        )
        if not changes.get("bare_extra"):
            box.visual = visual
        scene.add_geometry(box)
    return bytes(scene.export(file_type="glb"))


def test_a_part_more_is_told_and_joined_when_asked() -> None:
    glb = scene_of(extra="flag")
    found, open_ = back(glb)
    assert open_ == ["parts"]
    assert len(found.mesh.parts) == 3
    joined, open_ = back(glb, "parts")
    assert open_ == []
    assert [part.material for part in joined.mesh.parts] == ["stone", "glass"]
    assert joined.mesh.parts[1].count == opened().mesh.parts[1].count + 12


def test_a_part_without_coordinates_costs_the_others_nothing() -> None:
    glb = scene_of(extra="flag", bare_extra=True)
    found, open_ = back(glb, "parts")
    assert open_ == ["no-coordinates"]
    part, before = found.mesh.parts[0], opened().mesh
    now = found.mesh.attributes["TEXCOORD_0"][found.mesh.corners_of(part)]
    was = before.attributes["TEXCOORD_0"][before.corners_of(before.parts[0])]
    assert np.allclose(np.sort(now.reshape(-1, 2), axis=0), np.sort(was.reshape(-1, 2), axis=0), atol=2e-3)


def test_other_names_of_as_many_materials_are_the_same_parts() -> None:
    found, open_ = back(scene_of(stone="Material.001", glass="Material.002"))
    assert open_ == []
    assert [part.material for part in found.mesh.parts] == ["stone", "glass"]


def test_a_node_that_moves_the_model_moves_its_vertices() -> None:
    """A turn by 90 degrees about y and a step up: x goes to -z."""
    move = trimesh.transformations.rotation_matrix(np.pi / 2, [0, 1, 0])
    move[:3, 3] = [0, 10, 0]
    found, _ = back(scene_of(move=move))
    least, most = found.mesh.positions.min(axis=0), found.mesh.positions.max(axis=0)
    places = lighthouse()[0]
    assert most[1] == pytest.approx(places[:, 1].max() + 10, abs=1e-3)
    assert (least[2], most[2]) == pytest.approx((-places[:, 0].max(), -places[:, 0].min()), abs=1e-3)


def test_missing_coordinates_and_turned_faces_are_told() -> None:
    _, open_ = back(scene_of(bare=True))
    assert "no-coordinates" in open_
    mesh = opened().mesh
    inside = replace(mesh, corners=np.ascontiguousarray(mesh.corners[:, ::-1]))
    found, open_ = back(files.to_glb(inside))
    assert open_ == ["turned"]
    found, open_ = back(files.to_glb(inside), "turned")
    assert open_ == []
    assert np.array_equal(
        np.sort(found.mesh.corners, axis=1), np.sort(back(files.to_glb(mesh))[0].mesh.corners, axis=1)
    )


def test_coordinates_beyond_the_picture_are_told_and_brought_back() -> None:
    mesh = opened().mesh
    moved = {**mesh.attributes, "TEXCOORD_0": mesh.attributes["TEXCOORD_0"] + np.float32(3)}
    glb = files.to_glb(replace(mesh, attributes=moved))
    assert back(glb)[1] == ["coordinates"]
    found, open_ = back(glb, "coordinates")
    assert open_ == []
    at = found.mesh.attributes["TEXCOORD_0"]
    middles = at[found.mesh.corners].mean(axis=1)
    assert middles.min() >= 0
    assert middles.max() <= 1


def test_too_many_vertices_for_the_indices_are_refused_in_words() -> None:
    fine = trimesh.creation.icosphere(subdivisions=7)
    with pytest.raises(FormatError, match=r"163,842 vertices, and the indices of this file can name 65,536"):
        back(bytes(fine.export(file_type="glb")))


# ---- closed forms -------------------------------------------------------------------------------------------


def test_normals_of_a_sphere_are_its_radii() -> None:
    ball = trimesh.creation.icosphere(subdivisions=4)
    mesh = Mesh({"POSITION": np.asarray(ball.vertices, np.float32)}, np.asarray(ball.faces, np.uint32))
    assert (normals_of(mesh) * ball.vertices).sum(axis=1).min() > 0.9999


def test_tangents_of_a_plane_go_along_u_on_the_side_of_v() -> None:
    """Coordinates from the top: u to the right, v down; a mirrored picture turns the side (glTF 2.0, 3.7.2.1)."""
    places = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [1, 1, 0]], np.float32)
    at = np.stack([places[:, 0], 1 - places[:, 1]], axis=1).astype(np.float32)
    normal = np.tile(np.array([0, 0, 1], np.float32), (4, 1))
    corners = np.array([[0, 1, 2], [1, 3, 2]], np.uint32)
    for mirrored, wanted in ((False, [1, 0, 0]), (True, [-1, 0, 0])):
        uv = at * np.array([-1, 1], np.float32) if mirrored else at
        made = with_tangents(Mesh({"POSITION": places, "NORMAL": normal, "TEXCOORD_0": uv}, corners))
        found = made.attributes["TANGENT"]
        assert np.allclose(found[:, :3], wanted)
        assert np.ptp(found[:, 3]) == 0
        assert found[0, 3] == (1 if mirrored else -1)


def test_welding_keeps_each_corner_once() -> None:
    mesh = opened().mesh
    flat = {name: values[mesh.corners.reshape(-1)] for name, values in mesh.attributes.items()}
    loose = Mesh(flat, np.arange(mesh.corners.size, dtype=np.uint32).reshape(-1, 3), mesh.parts)
    joined = welded(loose)
    assert len(joined) == len(np.unique(np.concatenate(list(flat.values()), axis=1), axis=0))
    assert np.array_equal(joined.positions[joined.corners], mesh.positions[mesh.corners])


# ---- where a texture lies -----------------------------------------------------------------------------------


def test_the_lines_over_a_texture_are_the_edges_of_its_triangles() -> None:
    mesh = opened().mesh
    for part, lines in zip(mesh.parts, edges(mesh), strict=True):
        at = np.round(mesh.attributes["TEXCOORD_0"], 6)[mesh.corners_of(part)]
        wanted = {frozenset({tuple(one[k]), tuple(one[(k + 1) % 3])}) for one in at.tolist() for k in range(3)}
        assert {frozenset(map(tuple, line)) for line in lines.tolist()} == wanted
    png = io.BytesIO()
    from PIL import Image

    Image.new("RGB", (64, 32), (90, 90, 90)).save(png, "PNG")
    svg = to_svg(mesh, png.getvalue(), 64, 32).decode()
    assert svg.count("<path") == 2
    assert 'id="stone"' in svg
    drawn = np.asarray(Image.open(io.BytesIO(to_png(mesh, png.getvalue()))))
    assert drawn.shape[1] == 1024
    assert (drawn[..., :3] != 90).any(axis=2).mean() > 0.01


# ---- bad input ----------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("at", "value", "words"),
    [
        (4, 1 << 30, "announced"),
        (8, 1 << 30, "announced"),
        (12, 1 << 27, "announced"),
        (44, 1 << 20, "indices from"),
    ],
)
def test_counts_that_promise_too_much_are_told(at: int, value: int, words: str) -> None:
    data = bytearray(DATA)
    data[at : at + 4] = value.to_bytes(4, "little")
    with pytest.raises(BraeError, match=words):
        opened(bytes(data))


def test_an_index_beyond_the_vertices_and_a_position_that_is_none_are_told() -> None:
    mesh = opened().mesh
    start = len(DATA) - 4 - 2 * mesh.corners.size
    with pytest.raises(FormatError, match="names vertex 65535") as told:
        opened(DATA[:start] + b"\xff\xff" + DATA[start + 2 :])
    assert told.value.offset == start
    first = 44 + 28 * 2
    with pytest.raises(FormatError, match="position of vertex 0"):
        opened(DATA[:first] + np.float32(np.nan).tobytes() + DATA[first + 4 :])


@given(st.binary(max_size=60), st.integers(0, len(DATA) - 1))
def test_damaged_models_raise_errors_of_the_job(noise: bytes, at: int) -> None:
    for data in (DATA[:at], DATA[:at] + noise + DATA[at + len(noise) :]):
        with suppress(BraeError):
            assert len(opened(data).mesh) * 20 <= len(data)


GLB = KIND.send(opened()).data


@given(st.binary(min_size=1, max_size=40), st.integers(0, len(GLB) - 1))
def test_damaged_gltf_raises_errors_of_the_job(noise: bytes, at: int) -> None:
    for data in (GLB[:at], GLB[:at] + noise + GLB[at + len(noise) :]):
        try:
            mesh = files.from_gltf(data)
        except BraeError:
            continue
        assert mesh.corners.size == 0 or mesh.corners.max() < len(mesh)


def scene_text(**changes: object) -> bytes:
    scene = json.loads(GLB[20 : 20 + int.from_bytes(GLB[12:16], "little")])
    return json.dumps({**scene, **changes}).encode()


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (scene_text(buffers=[{"byteLength": 9, "uri": "../../secret.bin"}]), "in another file"),
        (scene_text(nodes=[{"children": [1]}, {"children": [0]}]), "no mesh|deep"),
        (scene_text(nodes=[{"mesh": 7}]), "there are 1"),
        (scene_text(extensionsRequired=["KHR_draco_mesh_compression"]), "without compression"),
        (scene_text(asset={"version": "1.0"}), "version 2.0"),
        (b"", "no glTF"),
    ],
)
def test_what_cannot_be_taken_back_is_told(data: bytes, words: str) -> None:
    with pytest.raises(BraeError, match=words):
        files.from_gltf(data)


@pytest.mark.parametrize(
    ("was", "now", "words"),
    [
        (
            "type: f32, of: 3}\n      - {attribute: NORMAL",
            "type: f32, of: 2}\n      - {attribute: NORMAL",
            "has 3 or 4",
        ),
        ("attribute: NORMAL", "attribute: NORMALS", "String should match|NORMALS"),
        ('axes: "x z -y"', 'axes: "x x -y"', "is one of the axes, once"),
        ("least: [x0, y0, z0]", "least: [x0, y0, stamp]", "no field of type f32"),
        ("attribute: POSITION", "attribute: COLOR_0", "with POSITION"),
        ("type: u16, parts: pieces", "type: u16, parts: piece", "no table of parts"),
    ],
)
def test_a_layout_of_a_model_that_makes_no_sense_is_refused(was: str, now: str, words: str) -> None:
    assert was in LAYOUT
    with pytest.raises(LayoutError, match=words):
        parse(LAYOUT.replace(was, now))


def test_the_kind_knows_models_by_their_layouts() -> None:
    library = Library()
    library.add(SHAPE)
    from brae.core.assets.base import Head

    found = KIND.sniff([Head(DATA[:512], "boat.shp", len(DATA)), Head(b"other", "a.b", 5)], library)
    assert found[1] is None
    assert found[0] is not None
    assert found[0].facts == {"vertices": len(lighthouse()[0]), "triangles": len(opened().mesh.corners)}
    assert len(KIND.read(DATA, Context(library, "boat.shp")).mesh.parts) == 2


# ---- a picture of it ----------------------------------------------------------------------------------------


def test_a_ball_is_lit_by_the_cosine_of_its_angle_to_the_light() -> None:
    """Lambert's law in closed form: at an angle a to the light it is 0.28 + 0.72 cos a."""
    ball = trimesh.creation.icosphere(subdivisions=5)
    places = np.asarray(ball.vertices, np.float32)
    faces = np.asarray(ball.faces, np.uint32)
    mesh = Mesh({"POSITION": places, "NORMAL": places}, faces, (Part("", 0, len(faces)),))
    shown = picture(mesh, 256, yaw=0, pitch=0).astype(float)
    light = np.array([-0.45, 0.6, 0.66]) / np.linalg.norm([-0.45, 0.6, 0.66])
    y, x = np.mgrid[:256, :256]
    across, up = (x + 0.5 - 128) / (128 * 0.92), -(y + 0.5 - 128) / (128 * 0.92)
    inside = across**2 + up**2 < 0.9
    toward = np.sqrt(np.maximum(1 - across**2 - up**2, 0))
    cosine = np.maximum(across * light[0] + up * light[1] + toward * light[2], 0)
    wanted = (0.28 + 0.72 * cosine) * 0.78 * 255
    assert np.abs(shown[..., 0] - wanted)[inside].max() < 4
    assert (shown[..., 3][inside] == 255).all()
    assert shown[0, 0, 3] == 0


def test_nearer_parts_hide_what_is_behind_them() -> None:
    places = np.array([[-1, -1, 0], [1, -1, 0], [0, 1, 0], [-1, -1, 1], [1, -1, 1], [0, 1, 1]], np.float32)
    for order in ([[0, 1, 2], [3, 4, 5]], [[3, 4, 5], [0, 1, 2]]):
        parts = (Part("a", 0, 1), Part("b", 1, 1))
        shown = picture(Mesh({"POSITION": places}, np.array(order, np.uint32), parts), 64, yaw=0, pitch=0)
        red, green = shown[32, 32, 0], shown[32, 32, 1]
        assert (red > 1.5 * green) == (order[1][0] == 3), "the second part's colour only where it is in front"
