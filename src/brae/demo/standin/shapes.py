"""The game's models: read strictly, and drawn lit by the game's own rules, triangle by triangle from the back."""

from __future__ import annotations

import math
import struct
from collections.abc import Callable, Mapping
from dataclasses import dataclass

from PIL import Image, ImageDraw

from brae.demo.standin.loader import Cloth, read_finish, read_material
from brae.demo.standin.report import BadTexture, Refusal, Report, placeholder

#: the models of the scene, and how many parts the game expects of each
TABLE = {"lighthouse": 2, "boat": 2, "postwoman": 3}
#: those with bones
_WALKERS = {"postwoman"}
_SIDE, _FINER = 96, 2
_LIGHT = (-0.6, 0.3, 0.74)
#: the bones that movements of the postwoman are made for, in their order
_BONES = ["ground", "hip", "chest", "head", "bag"]
_TURNS = {"lighthouse": 30.0, "boat": 28.0, "postwoman": -20.0}
Vector = tuple[float, float, float]
Piece = tuple[str, list[tuple["Vertex", "Vertex", "Vertex"]]]


@dataclass
class Vertex:
    """A point, its normal, and where it lies on the texture."""

    point: Vector
    normal: Vector
    at: tuple[float, float]


def read_shape(data: bytes, name: str, parts: int) -> list[Piece]:
    """Each part's material and triangles. Anything that does not fit stops the game."""
    if data[:4] != b"SHPE" or len(data) < 40:
        raise Refusal(f"{name} does not begin with SHPE")
    vertices, indices, found = struct.unpack_from("<3I", data, 4)
    if found != parts:
        raise Refusal(f"{name} has {found} parts; the game expects {parts}")
    at = 40 + 28 * found
    if len(data) != at + 20 * vertices + 2 * indices:
        raise Refusal(f"{name} has {len(data)} bytes for {vertices} vertices and {indices} indices")
    least, most = struct.unpack_from("<3f", data, 16), struct.unpack_from("<3f", data, 28)
    corners: list[Vertex] = []
    for number in range(vertices):
        x, y, z, nx, ny, nz, _, u, v = struct.unpack_from("<3f3bB2e", data, at + 20 * number)
        if not all(low - 1e-4 <= one <= high + 1e-4 for one, low, high in zip((x, y, z), least, most, strict=True)):
            raise Refusal(f"vertex {number} of {name} lies outside of its box")
        corners.append(Vertex((x, z, -y), (nx / 127, nz / 127, -ny / 127), (u, v)))
    numbers = struct.unpack_from(f"<{indices}H", data, at + 20 * vertices)
    if numbers and max(numbers) >= vertices:
        raise Refusal(f"{name} names vertex {max(numbers)}, and has {vertices}")
    pieces = []
    for part in range(found):
        first, count, material, _ = struct.unpack_from("<II16sI", data, 40 + 28 * part)
        if first + count > indices or count % 3:
            raise Refusal(f"part {part} of {name} has indices {first} to {first + count} of {indices}")
        run = [corners[one] for one in numbers[first : first + count]]
        triangles = list(zip(run[::3], run[1::3], run[2::3], strict=True))
        pieces.append((material.rstrip(b"\0").decode("ascii", "replace"), triangles))
    return pieces


def read_walker(data: bytes, name: str, parts: int) -> tuple[list[Piece], list[Piece]]:
    """The parts near by and those for far away of a model with bones. Anything that does not fit stops the game."""
    if data[:4] != b"WALK" or len(data) < 32:
        raise Refusal(f"{name} does not begin with WALK")
    vertices, indices, found, bones = struct.unpack_from("<IIHH", data, 4)
    *middle, reach = struct.unpack_from("<4f", data, 16)
    if found != 2 * parts:
        raise Refusal(f"{name} has {found} parts; the game expects {parts} near by and {parts} for far away")
    table = 32 + 28 * bones
    at = table + 24 * found
    if len(data) != at + 24 * vertices + 2 * indices:
        raise Refusal(f"{name} has {len(data)} bytes for {vertices} vertices and {indices} indices")
    names = []
    for bone in range(bones):
        text, above = struct.unpack_from("<12si", data, 32 + 28 * bone)
        if not -1 <= above < bone:
            raise Refusal(f"bone {bone} of {name} hangs on bone {above}")
        names.append(text.rstrip(b"\0").decode("ascii", "replace"))
    if names != _BONES:
        raise Refusal(f"{name} has the bones {', '.join(names)}; movements are made for {', '.join(_BONES)}")
    corners: list[Vertex] = []
    for number in range(vertices):
        x, y, z, nx, ny, nz, _, u, v, *hung = struct.unpack_from("<3f3bB2e4B", data, at + 24 * number)
        if math.dist((x, y, z), middle) > reach + 1e-4:
            raise Refusal(f"vertex {number} of {name} lies outside of its sphere")
        if max(hung[:2]) >= bones or sum(hung[2:]) != 255:
            raise Refusal(f"vertex {number} of {name} hangs on bones {hung[:2]} by {hung[2:]} of 255")
        corners.append(Vertex((x, z, -y), (nx / 127, nz / 127, -ny / 127), (u, v)))
    numbers = struct.unpack_from(f"<{indices}H", data, at + 24 * vertices)
    if numbers and max(numbers) >= vertices:
        raise Refusal(f"{name} names vertex {max(numbers)}, and has {vertices}")
    both: tuple[list[Piece], list[Piece]] = ([], [])
    for part in range(found):
        first, count, material, distance, _ = struct.unpack_from("<II12sHH", data, table + 24 * part)
        if first + count > indices or count % 3 or distance > 1:
            raise Refusal(f"part {part} of {name} has indices {first} to {first + count} at distance {distance}")
        run = [corners[one] for one in numbers[first : first + count]]
        triangles = list(zip(run[::3], run[1::3], run[2::3], strict=True))
        both[distance].append((material.rstrip(b"\0").decode("ascii", "replace"), triangles))
    if len(both[0]) != parts:
        raise Refusal(f"{name} has {len(both[0])} parts near by; the game expects {parts}")
    return both


def read_swaps(objects: Mapping[str, bytes]) -> dict[tuple[str, str], str]:
    """What stands in for what: by model (or *) and material. A line that is none stops the game."""
    found: dict[tuple[str, str], str] = {}
    for line in objects.get("swaps/harbour.txt", b"").decode("ascii", "replace").splitlines():
        if not line.strip() or line.startswith(";"):
            continue
        where, colon, rest = line.partition(":")
        old, arrow, new = rest.partition("->")
        if not colon or not arrow or not old.strip() or not new.strip():
            raise Refusal(f"swaps/harbour: '{line}' is no swap")
        found[where.strip(), old.strip()] = new.strip()
    return found


def worn(swaps: Mapping[tuple[str, str], str], model: str, material: str) -> str:
    """The material that a part wears in the end. Swaps that go round stop the game."""
    seen = [material]
    while (new := swaps.get((model, seen[-1]), swaps.get(("*", seen[-1])))) is not None:
        if new in seen:
            raise Refusal(f"swaps/harbour: {' -> '.join([*seen, new])} goes round")
        seen.append(new)
    return seen[-1]


def _seen(vector: Vector, yaw: float) -> Vector:
    """A direction or a place as the eye has it: turned about the height, and from a little above."""
    turn, tilt = math.radians(yaw), math.radians(14)
    x, y, z = vector
    x, z = x * math.cos(turn) + z * math.sin(turn), -x * math.sin(turn) + z * math.cos(turn)
    return x, y * math.cos(tilt) - z * math.sin(tilt), y * math.sin(tilt) + z * math.cos(tilt)


def _colour(texture: Image.Image, u: float, v: float) -> tuple[int, int, int]:
    x = int((u % 1) * texture.width) % texture.width
    y = int(min(max(v, 0), 0.9999) * texture.height)
    pixel = texture.getpixel((x, y))
    assert isinstance(pixel, tuple)
    return int(pixel[0]), int(pixel[1]), int(pixel[2])


def draw(
    pieces: list[Piece],
    cloths: Mapping[str, tuple[Cloth, Image.Image]],
    yaw: float,
) -> Image.Image:
    """A model on nothing: light from everywhere by the material, the sun by the cosine, a shine."""
    size = _SIDE * _FINER
    image = Image.new("RGBA", (size, size))
    pen = ImageDraw.Draw(image)
    every = [_seen(one.point, yaw) for _, triangles in pieces for three in triangles for one in three]
    low = [min(one[k] for one in every) for k in range(2)]
    high = [max(one[k] for one in every) for k in range(2)]
    scale = 0.92 * size / max(high[0] - low[0], high[1] - low[1], 1e-6)
    flat: list[tuple[float, list[tuple[float, float]], tuple[int, int, int]]] = []
    for material, triangles in pieces:
        if material not in cloths:
            continue  # without its material nothing is drawn
        cloth, texture = cloths[material]
        for three in triangles:
            places = [_seen(one.point, yaw) for one in three]
            spot = [
                (size / 2 + (x - (low[0] + high[0]) / 2) * scale, size / 2 - (y - (low[1] + high[1]) / 2) * scale)
                for x, y, _ in places
            ]
            normals = [_seen(one.normal, yaw) for one in three]
            normal = tuple(sum(one[k] for one in normals) / 3 for k in range(3))
            if normal[2] < 0:
                if not cloth.two_sided:
                    continue
                normal = tuple(-one for one in normal)
            facing = max(sum(one * other for one, other in zip(normal, _LIGHT, strict=True)), 0.0)
            u, v = (sum(one.at[k] for one in three) / 3 for k in range(2))
            colour = [
                min(255, round(one * (dull + (1 - dull) * facing) + 255 * cloth.highlight * facing**24))
                for one, dull in zip(_colour(texture, u, v), cloth.ambient, strict=True)
            ]
            depth = sum(place[2] for place in places) / 3
            flat.append((depth, spot, (colour[0], colour[1], colour[2])))
    for _, spot, colour3 in sorted(flat, key=lambda one: one[0]):
        pen.polygon(spot, fill=(*colour3, 255), outline=(*colour3, 255))
    return image.resize((_SIDE, _SIDE), Image.Resampling.BOX)


def models(
    objects: Mapping[str, bytes], texture: Callable[[str], Image.Image], report: Report
) -> dict[str, Image.Image]:
    """All models of the scene; a missing material hides its part, a missing texture shows the placeholder."""
    found: dict[str, Image.Image] = {}
    swaps = read_swaps(objects)
    for name, parts in TABLE.items():
        file = f"models/{name}.{'wlk' if name in _WALKERS else 'shp'}"
        data = objects.get(file)
        if data is None:
            raise Refusal(f"{file} is missing")
        far: list[Piece] = []
        if name in _WALKERS:
            pieces, far = read_walker(data, f"models/{name}", parts)
        else:
            pieces = read_shape(data, f"models/{name}", parts)
        named = [(material, worn(swaps, name, material), triangles) for material, triangles in pieces]
        for material, new, _ in named:
            if material != new:
                report.trace.append(f"the {name} wears {new} in the place of {material}")
        pieces = [(new, triangles) for _, new, triangles in named]
        cloths: dict[str, tuple[Cloth, Image.Image]] = {}
        for material, _ in pieces:
            file = f"finishes/{material}.fin" if name in _WALKERS else f"materials/{material}.txt"
            told = objects.get(file)
            if told is None:
                report.trace.append(f"{file[:-4]} is not there: nothing is drawn of it on the {name}")
                continue
            cloth = (read_finish if name in _WALKERS else read_material)(told, file[:-4])
            try:
                picture = texture(cloth.colour)
            except BadTexture as reason:
                report.replaced(f"{material} of the {name}", reason)
                picture = placeholder(64, 64)
            cloths[material] = cloth, picture.convert("RGB")
        triangles = sum(len(some) for _, some in pieces)
        away = f", {sum(len(some) for _, some in far)} from some way off" if far else ""
        report.trace.append(f"models/{name}: {triangles} triangles in {parts} parts{away}")
        found[name] = draw(pieces, cloths, _TURNS[name])
    return found
