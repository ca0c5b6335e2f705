"""Models on nodes, and parts with vertices of their own: where they are, out as a tree, and back to the byte."""

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

from brae.core.assets.base import ExchangeFile, Version
from brae.core.assets.mesh import described, files
from brae.core.assets.registry import kinds
from brae.core.errors import BraeError, FormatError
from brae.core.layouts.load import parse
from tests.core.assets.mesh.carts import LAYOUT, NODES, PIECES, written

DATA = written()
CART = described.read(parse(LAYOUT), DATA, "models/tar.crt")
SENT = files.to_glb(CART.mesh)


def came(glb: bytes, *remedies: str) -> tuple[described.MeshFile, list[str], bytes]:
    kind = kinds()["mesh"]
    sheet, made = kind.match(CART, Version(ExchangeFile("c.glb", glb), remedies), {})
    return kind.again(CART, made), [one.id for one in sheet.findings], made.data


def test_parts_lie_where_their_nodes_put_them() -> None:
    """By hand, in centimetres and with z up: turned a quarter, x becomes y; halved; then moved by what is above."""
    place = {part.material if part.node != 2 else "flag": CART.mesh.corners_of(part) for part in CART.mesh.parts}

    def corner(part: str, number: int) -> list[float]:
        x, y, z = CART.mesh.positions[place[part].reshape(-1)[number]].tolist()
        return [x * 100, -z * 100, y * 100]

    assert corner("wood", 1) == pytest.approx([140, 0, 0], abs=1e-4)
    # (20, 0, 0) of the wheel: halved 10, turned (0, 10, 0), at (100, 50, 0).
    assert corner("iron", 1) == pytest.approx([100, 60, 0], abs=1e-4)
    assert corner("iron", 2) == pytest.approx([100, 60, 10], abs=1e-4)
    # (10, 0, 10) of the flag: at z + 80 of the wheel, so (10, 0, 90) there; halved, turned.
    assert corner("flag", 2) == pytest.approx([100, 55, 45], abs=1e-4)
    assert corner("rope", 1) == pytest.approx([1, 0, 0], abs=1e-4)
    # Its normal looked along -y, and is turned with it: along x; as long as before.
    turned = CART.mesh.attributes["NORMAL"][place["iron"].reshape(-1)[0]]
    assert turned == pytest.approx([1, 0, 0], abs=1e-6)
    assert [part.node for part in CART.mesh.parts] == [0, 1, 2, -1]


def test_untouched_it_is_the_same_to_the_byte() -> None:
    assert CART.rewrite(CART.mesh) == DATA
    again, told, data = came(SENT)
    assert told == []
    assert data == DATA
    assert np.array_equal(again.mesh.positions, CART.mesh.positions)


def test_others_see_the_tree_and_the_places(tmp_path: Path) -> None:
    found = pygltflib.GLTF2.load_from_bytes(SENT)
    names = {number: node.name for number, node in enumerate(found.nodes)}
    above = {names[child]: names[number] for number, node in enumerate(found.nodes) for child in node.children}
    assert above == {
        "wheel": "root", "flag": "wheel", "root model": "root", "wheel model": "wheel", "flag model": "flag"
    }  # fmt: skip
    scene = trimesh.load(trimesh.util.wrap_as_stream(SENT), file_type="glb")
    seen = np.concatenate([one.triangles.reshape(-1, 9) for one in scene.dump()])
    told = CART.mesh.positions[CART.mesh.corners].reshape(-1, 9)
    assert np.allclose(seen[np.lexsort(seen.T.round(3))], told[np.lexsort(told.T.round(3))], atol=1e-5)
    node, script = shutil.which("node"), Path(__file__).with_name("validate.mjs")
    assert node is not None
    (tmp_path / "cart.glb").write_bytes(SENT)
    done = subprocess.run([node, script, tmp_path / "cart.glb"], capture_output=True, text=True, check=True)
    assert [one for one in json.loads(done.stdout) if one["severity"] <= 1] == []


def test_a_corner_that_is_moved_is_written_in_its_nodes_space() -> None:
    """One centimetre up: at the wheel, which is halved, two; all other bytes stay."""
    attributes = {**CART.mesh.attributes, "POSITION": CART.mesh.positions.copy()}
    corner = int(CART.mesh.corners_of(CART.mesh.parts[1])[0, 1])
    attributes["POSITION"][corner, 1] += 0.01
    made = CART.rewrite(replace(CART.mesh, attributes=attributes))
    rows = [list(row) for row in PIECES[1][2]]
    rows[1][2] += 2.0
    wanted = written([PIECES[0], (*PIECES[1][:2], [tuple(row) for row in rows], PIECES[1][3]), *PIECES[2:]])  # type: ignore[list-item]
    assert len(made) == len(wanted)
    assert [n for n, (one, two) in enumerate(zip(made, DATA, strict=True)) if one != two] != []
    again = described.read(parse(LAYOUT), made)
    local = described.read(parse(LAYOUT), wanted)
    assert np.allclose(again.mesh.positions, local.mesh.positions, atol=1e-6)
    start = DATA.index(PIECES[1][0].encode())
    assert made[: start + 80] == DATA[: start + 80], "nodes and parts are as they were"
    # The untouched corners of the same part keep their bytes.
    same = sum(made[n] == DATA[n] for n in range(len(DATA)))
    assert same >= len(DATA) - 12


def test_parts_get_vertices_of_their_own_again() -> None:
    """An editor that joins all vertices of equal places, and adds a face: each part counts from its own first."""
    mesh = CART.mesh
    more = replace(mesh.parts[1], first=mesh.parts[1].first, count=mesh.parts[1].count)
    corners = mesh.corners.copy()
    extra = corners[more.first : more.first + 1, ::-1]
    at = more.first + more.count
    corners = np.concatenate([corners[:at], extra, corners[at:]])
    parts = [
        replace(part, first=part.first + (1 if part.first >= at else 0), count=part.count + (part is mesh.parts[1]))
        for part in mesh.parts
    ]
    made = CART.rewrite(replace(mesh, corners=corners, parts=tuple(parts)))
    again = described.read(parse(LAYOUT), made)
    assert [part.count for part in again.mesh.parts] == [2, 3, 1, 1]
    assert again.rewrite(again.mesh) == made
    wanted = written([PIECES[0], (*PIECES[1][:3], [*PIECES[1][3], (2, 1, 0)]), *PIECES[2:]])
    assert made == wanted


def test_what_hangs_on_two_nodes_is_taken_apart() -> None:
    """The wheel's triangle put on vertices of the body: they are doubled, and lie in each node's space."""
    mesh = CART.mesh
    corners = mesh.corners.copy()
    corners[mesh.parts[1].first] = corners[mesh.parts[0].first]
    made = CART.rewrite(replace(mesh, corners=corners))
    again = described.read(parse(LAYOUT), made)
    seen = again.mesh.positions[again.mesh.corners_of(again.mesh.parts[1])[0]]
    assert np.allclose(seen, mesh.positions[mesh.corners_of(mesh.parts[0])[0]], atol=1e-5)


def test_a_part_less_leaves_the_others_on_their_nodes() -> None:
    """Without the body: the wheel is the first of the table then, and hangs on the wheel's node still."""
    mesh = CART.mesh
    gone = mesh.parts[0].count
    parts = [replace(part, first=part.first - gone) for part in mesh.parts if part.material != "wood"]
    parts[-1] = replace(parts[-1], first=parts[0].count)
    corners = np.concatenate([mesh.corners_of(mesh.parts[1]), mesh.corners_of(mesh.parts[3])])
    again = described.read(parse(LAYOUT), CART.rewrite(replace(mesh, corners=corners, parts=tuple(parts))))
    assert [(part.material, part.node) for part in again.mesh.parts] == [("iron", 1), ("rope", -1)]
    seen = again.mesh.positions[again.mesh.corners_of(again.mesh.parts[0])]
    assert np.allclose(seen, mesh.positions[mesh.corners_of(mesh.parts[1])], atol=1e-6)


def test_strips_of_parts_count_beyond_what_parts_them() -> None:
    """The mark that begins a new strip is 255 in the file; the vertex of that number is one like every other."""
    layout = parse(LAYOUT.replace("type: u8, parts: pieces", "type: u8, form: strip, restart: true, parts: pieces"))
    many = [(float(n), 0.0, 0.0, 0.0, 0.0, 1.0, 5) for n in range(254)]
    data = written([("wood", -1, many, [(0, 1, 2)]), ("rope", -1, PIECES[0][2], [(0, 1, 2)])])
    found = described.read(layout, data)
    assert found.mesh.corners.tolist() == [[0, 1, 2], [254, 255, 256]]
    assert found.rewrite(found.mesh) == data
    turned = replace(found.mesh, corners=np.ascontiguousarray(found.mesh.corners[:, [1, 2, 0]]))
    again = described.read(layout, found.rewrite(turned)).mesh
    assert np.allclose(again.positions[again.corners], turned.positions[turned.corners])


def test_more_than_a_parts_indices_can_name_is_refused() -> None:
    number = 300
    rows = np.repeat(CART.mesh.positions[:1], number, axis=0) + np.arange(number, dtype=np.float32)[:, None]
    attributes = {"POSITION": rows, "NORMAL": np.tile(np.float32([0, 1, 0]), (number, 1))}
    corners = np.arange(number, dtype=np.uint32).reshape(-1, 3)
    parts = (replace(CART.mesh.parts[0], first=0, count=len(corners)),)
    with pytest.raises(FormatError, match="A part has 300 vertices"):
        CART.rewrite(replace(CART.mesh, attributes=attributes, corners=corners, parts=parts))


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (written(nodes=[NODES[0], (*NODES[1][:4], (0.5, 0.0, 0.5)), NODES[2]]), "'wheel' flattens"),
        (written(nodes=[(*NODES[0][:1], 2, *NODES[0][2:]), *NODES[1:]]), "above itself"),
        (written([*PIECES[:3], ("rope", -1, PIECES[3][2][:2], [(0, 1, 2)])]), "there are 13"),
    ],
    ids=["flat", "loop", "beyond"],
)
def test_damaged_trees_are_told(data: bytes, words: str) -> None:
    with pytest.raises(FormatError, match=words):
        described.read(parse(LAYOUT), data)


@given(st.integers(0, len(DATA) - 1), st.integers(1, 255))
def test_any_wrong_byte_is_read_or_told(place: int, change: int) -> None:
    data = bytearray(DATA)
    data[place] ^= change
    try:
        found = described.read(parse(LAYOUT), bytes(data))
        assert found.rewrite(found.mesh) == bytes(data)
        files.to_glb(found.near)
    except BraeError:
        pass
