"""The models of the desktop edition: a lighthouse, boats and a postwoman, and the game's own writers for them."""

from __future__ import annotations

import struct
from dataclasses import dataclass
from typing import Any

import numpy as np

Floats = np.ndarray[Any, np.dtype[np.float64]]
Corners = np.ndarray[Any, np.dtype[np.int64]]
Picture = np.ndarray[Any, np.dtype[np.uint8]]


@dataclass
class Piece:
    """A part of a model: its material, points (right, up, near), normals, coordinates from the top, triangles."""

    material: str
    points: Floats
    normals: Floats
    at: Floats
    corners: Corners


def _grid(material: str, points: Floats, at: Floats) -> Piece:
    """A sheet of points, shape (rows, columns, 3); its front is where rows go up and columns to the right."""
    rows, columns = points.shape[:2]
    across = np.gradient(points, axis=1)
    up = np.gradient(points, axis=0)
    normals = np.cross(across, up)
    lengths = np.linalg.norm(normals, axis=2, keepdims=True)
    normals = np.where(lengths > 1e-12, normals / np.maximum(lengths, 1e-12), [0.0, 1.0, 0.0])
    number = np.arange(rows * columns).reshape(rows, columns)
    a, b, c, d = number[:-1, :-1], number[:-1, 1:], number[1:, 1:], number[1:, :-1]
    corners = np.concatenate([np.stack(one, axis=-1).reshape(-1, 3) for one in ((a, b, c), (a, c, d))])
    return Piece(material, points.reshape(-1, 3), normals.reshape(-1, 3), at.reshape(-1, 2), corners)


def _turned(material: str, profile: list[tuple[float, float]], sides: int, middle: Any = (0, 0, 0)) -> Piece:
    """A profile (radius, height) turned about the height; the texture goes once round it, from its top down."""
    angle = np.linspace(0, 2 * np.pi, sides + 1)
    radius, height = np.array(profile).T
    points = np.stack(
        [
            np.outer(radius, np.sin(angle)),
            np.repeat(height[:, None], sides + 1, 1),
            np.outer(radius, np.cos(angle)),
        ],
        axis=-1,
    )
    along = np.linspace(0, 1, sides + 1)
    down = 1 - (height - height.min()) / max(float(np.ptp(height)), 1e-9)
    at = np.stack([np.tile(along, (len(profile), 1)), np.repeat(down[:, None], sides + 1, 1)], axis=-1)
    return _grid(material, points + np.asarray(middle, float), at)


def _ball(material: str, radius: float, middle: Any, sides: int = 16) -> Piece:
    angle = np.linspace(-np.pi / 2, np.pi / 2, sides // 2 + 1)
    profile = [(radius * float(np.cos(one)), radius * float(np.sin(one))) for one in angle]
    return _turned(material, profile, sides, middle)


def lighthouse() -> list[Piece]:
    """A tower that grows narrower, and its lamp."""
    tower = [(1.5 - 0.4 * k / 12, k / 2) for k in range(13)] + [(1.25, 6.1), (1.25, 6.3)]
    lamp = [(0.7, 6.3), (0.7, 7.2), (0.85, 7.25), (0.05, 7.9)]
    return [_turned("lighthouse", tower, 24), _turned("lamp", lamp, 12)]


def boat() -> list[Piece]:
    """A hull of ribs from bow to stern, and a sail full of wind."""
    rib, along = np.linspace(-1, 1, 13), np.linspace(0, 1, 17)
    wide = 0.9 * np.sin(np.pi * np.clip(along * 0.92 + 0.04, 0, 1)) ** 0.6
    keel = 0.15 + 0.5 * (2 * along - 1) ** 4
    x = 4 * (along - 0.5)
    angle = rib * np.pi / 2
    points = np.stack(
        [
            np.repeat(x[:, None], 13, 1),
            keel[:, None] + (1 - np.cos(angle))[None, :] * (0.95 - keel[:, None] * 0.6),
            np.sin(angle)[None, :] * wide[:, None],
        ],
        axis=-1,
    )
    at = np.stack(np.meshgrid(np.abs(rib), along, indexing="xy"), axis=-1)
    hull = _grid("hull", points[::-1], np.stack([at[::-1, :, 1], 1 - at[::-1, :, 0]], axis=-1))
    u, v = np.meshgrid(np.linspace(0, 1, 9), np.linspace(0, 1, 9))
    full = 0.35 * np.sin(np.pi * u) * np.sin(np.pi * (0.2 + 0.7 * v))
    sheet = np.stack([-0.2 + 1.9 * u * (1 - 0.75 * v), 1.3 + 3.2 * v, full], axis=-1)
    return [hull, _grid("sail", sheet, np.stack([u, 1 - v], axis=-1))]


def dinghy() -> list[Piece]:
    """The boat once more, painted otherwise: what it shows lies in a corner of its own on a texture."""
    return [
        Piece(one.material, one.points * [0.7, 0.6, 0.7], one.normals, 0.55 + 0.4 * one.at[:, ::-1], one.corners)
        for one in boat()
    ]


def postwoman(sides: int = 16) -> list[Piece]:
    """A coat, a head and a bag, with more or fewer sides."""
    coat = [(0.34, 0.0), (0.36, 0.1), (0.27, 0.75), (0.3, 1.15), (0.24, 1.3), (0.08, 1.36)]
    head = _ball("face", 0.16, (0, 1.52, 0), sides)
    bag = _ball("bag", 0.15, (0.32, 0.72, 0.08), sides // 2)
    return [_turned("coat", coat, sides), head, bag]


MODELS = {"lighthouse": lighthouse, "boat": boat, "dinghy": dinghy}
#: the postwoman's bones: their names, the bone above, where they are seen from that (right, up, near)
BONES = [
    ("ground", -1, (0.0, 0.0, 0.0)), ("hip", 0, (0.0, 0.75, 0.0)), ("chest", 1, (0.0, 0.4, 0.0)),
    ("head", 2, (0.0, 0.37, 0.0)), ("bag", 1, (0.32, -0.03, 0.08)),
]  # fmt: skip
#: each material: its texture, light from everywhere, highlight, whether its back is seen
#: of who walks about: records, and no texts
FINISHES = ("coat", "face", "bag")
MATERIALS = {
    "lighthouse": ("skins/tower", (0.45, 0.47, 0.52), 0.1, False),
    "lamp": ("skins/lamp", (0.5, 0.5, 0.45), 0.8, False),
    "lamp_lit": ("skins/lamp", (1.0, 1.0, 0.9), 0.4, False),
    "hull": ("skins/hull", (0.4, 0.42, 0.48), 0.3, True),
    "sail": ("skins/sail", (0.6, 0.6, 0.6), 0.0, True),
    "coat": ("figures/ishbel", (0.4, 0.4, 0.45), 0.1, False),
    "face": ("figures/teacher", (0.5, 0.5, 0.5), 0.2, False),
    "bag": ("textures/post/parcel_05", (0.4, 0.4, 0.4), 0.2, False),
}


def _bands(heights: list[float], colours: list[tuple[int, int, int]], side: int = 128) -> Picture:
    """Bands of colour, each down to a share of the height."""
    picture = np.zeros((side, side, 4), np.uint8)
    picture[..., 3] = 255
    first = 0
    for share, colour in zip(heights, colours, strict=True):
        last = round(share * side)
        picture[first:last, :, :3] = colour
        first = last
    return picture


def skins() -> dict[str, Picture]:
    """What the models are painted with: uint8, (128, 128, 4), nothing clear in them."""
    red, white, blue = (158, 58, 46), (240, 232, 212), (40, 92, 120)
    tower = _bands([k / 6 for k in range(1, 7)], [white, red, white, red, white, red])
    tower[96:, 52:76, :3] = (52, 44, 42)
    for row in (24, 64):
        tower[row : row + 10, 60:68, :3] = (240, 196, 70)
    lamp = _bands([0.4, 0.9, 1], [red, (250, 214, 110), (60, 56, 52)])
    lamp[52:116, ::16, :3] = (60, 56, 52)
    hull = _bands([0.12, 0.86, 1], [(236, 184, 46), blue, (30, 50, 66)])
    hull[30::16, :, :3] = (32, 74, 98)
    sail = _bands([1], [white])
    sail[::24, :, :3] = (214, 202, 176)
    away = np.hypot(*(np.mgrid[0:128, 0:128] - np.array([76, 44])[:, None, None]))
    sail[away < 20, :3] = red
    sail[72:80, 34:54, :3] = white
    return {"tower": tower, "lamp": lamp, "hull": hull, "sail": sail}


def material(colour: str, ambient: tuple[float, float, float], highlight: float, *, two_sided: bool) -> bytes:
    """A material's text, as the game has it."""
    light = " ".join(f"{one:g}" for one in ambient)
    sides = "yes" if two_sided else "no"
    lines = [f"colour = {colour}", f"ambient = {light}", f"highlight = {highlight:g}", f"two_sided = {sides}"]
    return "\n".join(["[material]", *lines, ""]).encode()


def finish(colour: str, ambient: tuple[float, float, float], highlight: float, *, two_sided: bool) -> bytes:
    """The same as a record: what those wear who walk about."""
    return struct.pack("<4sB32s3ff3x", b"FNSH", two_sided, colour.encode(), *ambient, highlight)


def shape(pieces: list[Piece], stamp: int) -> bytes:
    """A model's file: z up, normals of eight bits, coordinates of half precision from the top."""
    first, tables, body, indices, start = 0, b"", b"", b"", 0
    for one in pieces:
        tables += struct.pack("<II16sI", first, one.corners.size, one.material.encode(), stamp % 97)
        first += one.corners.size
        for point, normal, at in zip(one.points, one.normals, one.at, strict=True):
            body += struct.pack("<3f", point[0], -point[2], point[1])
            body += np.rint(np.array([normal[0], -normal[2], normal[1]]) * 127).astype("i1").tobytes()
            body += bytes([(stamp + len(body)) % 251]) + np.asarray(at, "<f2").tobytes()
        indices += (one.corners + start).astype("<u2").tobytes()
        start += len(one.points)
    every = np.concatenate([one.points for one in pieces])[:, [0, 2, 1]] * [1, -1, 1]
    box = struct.pack("<6f", *every.min(axis=0), *every.max(axis=0))
    return struct.pack("<4sIII", b"SHPE", start, first, len(pieces)) + box + tables + body + indices


def _hung(piece: Piece) -> tuple[Picture, Picture]:
    """The two bones on which each point of a part of the postwoman hangs, and their weights: 255 in all."""
    names = [name for name, _, _ in BONES]
    height = piece.points[:, 1]
    if piece.material == "coat":
        low, high = names.index("hip"), names.index("chest")
        share = np.clip((height - 0.75) / 0.4, 0, 1)
    else:
        low = high = names.index("head" if piece.material == "face" else "bag")
        share = np.zeros(len(height))
    second = np.rint(share * 255).astype(np.uint8)
    joints = np.tile(np.array([low, high], np.uint8), (len(height), 1))
    return joints, np.stack([255 - second, second], axis=1).astype(np.uint8)


def walker(near: list[Piece], far: list[Piece], stamp: int) -> bytes:
    """A model's file with bones, z up: the parts near by, then the same for far away."""
    first, tables, body, indices, start = 0, b"", b"", b"", 0
    for distance, pieces in enumerate((near, far)):
        for one in pieces:
            tables += struct.pack("<II12sHH", first, one.corners.size, one.material.encode(), distance, stamp % 89)
            first += one.corners.size
            joints, weights = _hung(one)
            for row in range(len(one.points)):
                point, normal = one.points[row], one.normals[row]
                body += struct.pack("<3f", point[0], -point[2], point[1])
                body += np.rint(np.array([normal[0], -normal[2], normal[1]]) * 127).astype("i1").tobytes()
                body += bytes([(stamp + len(body)) % 251]) + np.asarray(one.at[row], "<f2").tobytes()
                body += joints[row].tobytes() + weights[row].tobytes()
            indices += (one.corners + start).astype("<u2").tobytes()
            start += len(one.points)
    every = np.concatenate([one.points for one in [*near, *far]])[:, [0, 2, 1]] * [1, -1, 1]
    middle = (every.min(axis=0) + every.max(axis=0)) / 2
    reach = float(np.linalg.norm(every - middle, axis=1).max())
    bones = b"".join(
        struct.pack("<12si3f", name.encode(), above, place[0], -place[2], place[1]) for name, above, place in BONES
    )
    head = struct.pack("<4sIIHH4f", b"WALK", start, first, len(near) + len(far), len(BONES), *middle, reach)
    return head + bones + tables + body + indices


def swaps() -> bytes:
    """What the harbour puts in the place of what."""
    return (
        b"; what stands in for what: a model (or * for all), a material, and the one in its place\n"
        b"lighthouse: lamp -> lamp_lit\n"
    )
