"""Models by their layouts: from a file's buffers to a mesh, and back with the same vertex form."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np

from brae.core.assets.mesh.levels import near
from brae.core.assets.mesh.mesh import Corners, Floats, Mesh, Part, bounds, box_of
from brae.core.assets.mesh.skeleton import bones_of, hung, worlds_of
from brae.core.errors import FormatError, LimitError
from brae.core.layouts.directory import record_names
from brae.core.layouts.fields import FieldPart, Leaf
from brae.core.layouts.geometry import Attribute, IndicesPart, SkeletonPart, VerticesPart
from brae.core.layouts.heads import alike
from brae.core.layouts.model import Layout
from brae.core.layouts.parts import TablePart
from brae.core.layouts.read import Parsed, parse
from brae.core.layouts.rows import Rows, encode_record, named
from brae.core.layouts.write import Model, compose
from brae.core.sources import MAIN, BytesSource

#: a model has at most so many vertices or indices: what is beyond is taken for damage
MOST = 1 << 25
#: what begins a new strip among indices that count all vertices
_BREAK = np.uint32(0xFFFFFFFF)
Raw = np.ndarray[Any, np.dtype[np.uint8]]


@dataclass(frozen=True)
class MeshFile:
    """A model's file as it was read."""

    layout: Layout
    mesh: Mesh
    size: int
    parsed: Parsed
    name: str = ""

    @property
    def streams(self) -> list[VerticesPart]:
        """Its buffers of vertices."""
        return [part for part in self.layout.parts if isinstance(part, VerticesPart)]

    @property
    def faces(self) -> IndicesPart | None:
        """Its indices; None where three vertices each make a triangle."""
        return self.layout.only(IndicesPart)  # type: ignore[no-any-return]

    @cached_property
    def near(self) -> Mesh:
        """The model as it is seen near by, without its copies for further away."""
        return near(self.mesh)

    @property
    def limit(self) -> int:
        """How many vertices the indices can name; where parts count their own that is told when it is written."""
        if self._column("first-vertex") is not None:
            return MOST
        return MOST if self.faces is None else (1 << 8 * self.faces.width) - int(self.faces.restart)

    @property
    def form(self) -> dict[str, Attribute]:
        """What its vertices have."""
        return {name: one for stream in self.streams for name, (_, one) in stream.places.items()}

    @property
    def parts_table(self) -> TablePart | None:
        """The table that tells its parts."""
        if self.faces is None or self.faces.parts is None:
            return None
        part = self.parsed.regions[self.faces.parts].part
        assert isinstance(part, TablePart)
        return part

    def _column(self, role: str) -> Leaf | None:
        table = self.parts_table
        return None if table is None else table.column(role)

    @cached_property
    def nodes(self) -> list[int]:
        """The number of the bone that each of its parts hangs on, -1 for none."""
        return [part.node for part in self.mesh.parts]

    def _rows_of(self, mesh: Mesh) -> list[int]:
        """In whose place of the original each part is: of as many in order, else by materials, else the last."""
        own = self.mesh.parts
        if len(mesh.parts) == len(own):
            return list(range(len(own)))
        places = {part.material: row for row, part in reversed(list(enumerate(own)))}
        return [places.get(part.was or part.material, len(own) - 1) for part in mesh.parts]

    def rewrite(self, mesh: Mesh) -> bytes:
        """The file with another model: buffers, counts, parts, boxes; what nobody explained is kept.

        A vertex keeps the bytes of the original's of its number where its numbers are the same. Raises FormatError
        or LayoutError where the model cannot be said in this form.
        """
        corners, limit = mesh.corners, self.limit
        if len(mesh) > limit:
            raise FormatError(
                f"{len(mesh):,} vertices are more than indices of this file can name.",
                expected=f"at most {limit:,}",
            )
        if self.faces is None:
            flat = {name: values[corners.reshape(-1)] for name, values in mesh.attributes.items()}
            mesh = Mesh(flat, np.arange(corners.size, dtype=np.uint32).reshape(-1, 3), mesh.parts)
        same = np.array_equal(mesh.corners, self.mesh.corners)
        if not same and (self._column("first-vertex") is not None or any(node >= 0 for node in self.nodes)):
            mesh = apart(mesh)
        model = Model(dict(self._buffers(mesh)), dict(self._boxes(mesh)), self._tables(mesh))
        return b"".join(compose(self.parsed, model=model).read(MAIN))

    def _buffers(self, mesh: Mesh) -> Iterator[tuple[str, bytes]]:
        local, moved = mesh.attributes, np.zeros(len(mesh), bool)
        if any(node >= 0 for node in self.nodes):
            nodes = _of_vertices(mesh, [self.nodes[row] for row in self._rows_of(mesh)])
            old_nodes = _of_vertices(self.mesh, self.nodes)
            local = hung(mesh.attributes, nodes, np.linalg.inv(worlds_of(self.mesh.bones)))
            both = min(len(nodes), len(old_nodes))
            moved[:both] = nodes[:both] != old_nodes[:both]
        for stream in self.streams:
            old = _rows(self.parsed, stream)
            new = np.zeros((len(mesh), stream.width), np.uint8)
            both = min(len(old), len(new))
            new[:both] = old[:both]
            if len(old) and len(new) > both:
                new[both:] = old[-1]  # bytes that nobody explained: like the last one's
            for name, (at, one) in stream.places.items():
                if name not in mesh.attributes:
                    raise FormatError(f"The vertices have no {name}, which this file keeps.")
                now, before = mesh.attributes[name], self.mesh.attributes[name] if self.faces is not None else None
                if before is not None and (now is before or np.array_equal(now, before)) and not moved.any():
                    continue  # its bytes are there already
                raw = encoded(local[name], one, stream, self.parsed.layout.endian)
                if both and before is not None:
                    # A file may hold more numbers than glTF has of it: those of the same vertex stay.
                    columns = min(now.shape[1], before.shape[1])
                    same = (now[:both, :columns] == before[:both, :columns]).all(axis=1) & ~moved[:both]
                    raw[:both][same] = new[:both, at : at + one.width][same]
                new[:, at : at + one.width] = raw
            yield stream.name, new.tobytes()
        if self.faces is not None:
            yield self.faces.name, self._indices(mesh)

    def _runs(self, mesh: Mesh) -> list[Corners]:
        """The indices of each part, as they are stored."""
        faces = self.faces
        assert faces is not None
        corners = mesh.corners[:, ::-1] if faces.turned else mesh.corners
        parts = mesh.parts if self.parts_table is not None else (Part("", 0, len(corners)),)
        pieces = [corners[one.first : one.first + one.count] for one in parts]
        if self._column("first-vertex") is not None:
            pieces = [piece - piece.min() if len(piece) else piece for piece in pieces]
            most = (1 << 8 * faces.width) - int(faces.restart)
            if (far := max((int(piece.max()) + 1 for piece in pieces if len(piece)), default=0)) > most:
                raise FormatError(
                    f"A part has {far:,} vertices, more than indices of this file can name.",
                    expected=f"at most {most:,} in each part",
                )
        if faces.form == "triangles":
            return [piece.reshape(-1) for piece in pieces]
        return [stripped(piece, faces.width if faces.restart else 0) for piece in pieces]

    def _indices(self, mesh: Mesh) -> bytes:
        faces = self.faces
        assert faces is not None
        if np.array_equal(mesh.corners, self.mesh.corners) and mesh.parts == self.mesh.parts:
            return self.parsed.content(faces.name)
        dtype = np.dtype(f"{'<' if self.layout.endian == 'little' else '>'}u{faces.width}")
        return b"".join(run.astype(dtype).tobytes() for run in self._runs(mesh))

    def _boxes(self, mesh: Mesh) -> Iterator[tuple[str, bytes]]:
        fields = {part.field: part for part in self.layout.parts if isinstance(part, FieldPart)}
        if np.array_equal(mesh.positions, self.mesh.positions):
            return
        for stream in self.streams:
            places = from_gltf(mesh.positions, stream)
            least, most = box_of(places) if len(places) else bounds(mesh)
            numbers: dict[str, float] = {}
            if stream.box is not None:
                numbers |= dict(zip(stream.box.least, least.tolist(), strict=True))
                numbers |= dict(zip(stream.box.most, most.tolist(), strict=True))
            if stream.sphere is not None:
                centre = (least + most) / 2
                far = float(np.linalg.norm(places - centre, axis=1).max(initial=0.0))
                numbers |= dict(zip(stream.sphere.centre, centre.tolist(), strict=True))
                numbers[stream.sphere.radius] = far
            for name, number in numbers.items():
                yield name, np.array(number, fields[name].dtype(self.layout.endian)).tobytes()

    def _tables(self, mesh: Mesh) -> dict[str, Rows]:
        part = self.parts_table
        if part is None or (mesh.parts == self.mesh.parts and np.array_equal(mesh.corners, self.mesh.corners)):
            return {}
        lengths = np.array([len(run) for run in self._runs(mesh)], np.int64)
        firsts = np.cumsum(lengths) - lengths
        assert isinstance(part, TablePart)
        table = self.parsed.tables[part.name].copy()
        common = alike(part, table)
        first, count, inline = part.column("first-index"), part.column("index-count"), part.column("name")
        detail, of_node = part.column("detail-level"), part.column("part-node")
        base, vertices = part.column("first-vertex"), part.column("vertex-count")
        # Where they hang is said of the parts themselves, not of their places in the table.
        places = self._rows_of(mesh)
        told = table.numbers(of_node.field) if of_node is not None and len(table) else None
        assert count is not None
        while len(table) < len(mesh.parts):
            table.insert(len(table), encode_record(part, table.endian, common))
        if len(table) > len(mesh.parts):
            table.keep(np.arange(len(mesh.parts)))
        for row, one in enumerate(mesh.parts):
            table.put(count.field, row, int(lengths[row]))
            if first is not None:
                table.put(first.field, row, int(firsts[row]))
            if detail is not None:
                table.put(detail.field, row, one.level)
            if told is not None and of_node is not None:
                table.put(of_node.field, row, int(told[places[row]]))
            corners = mesh.corners_of(one)
            low, high = (int(corners.min()), int(corners.max()) + 1) if len(corners) else (0, 0)
            if base is not None:
                table.put(base.field, row, low)
            if vertices is not None:
                table.put(vertices.field, row, high - low)
            if inline is not None and inline.column.width:
                raw = named(inline, one.material, table.endian)[inline.field]
                assert isinstance(raw, bytes)
                if len(raw) > inline.column.width:
                    raise FormatError(f"The material '{one.material}' has too long a name for this file.")
                table.put_raw(inline.field, row, raw)
        return {part.name: table}


def read(layout: Layout, data: bytes, name: str = "") -> MeshFile:
    """A model by its layout. Raises FormatError, TruncatedError or LimitError where the file cannot be one."""
    parsed = parse(layout, {MAIN: BytesSource(data)})
    attributes: dict[str, Floats] = {}
    counts = set()
    for part in layout.parts:
        if isinstance(part, VerticesPart):
            rows = _rows(parsed, part)
            counts.add(len(rows))
            if len(rows) > MOST:
                raise LimitError(f"{len(rows):,} vertices are more than a model has.")
            for meaning, (at, one) in part.places.items():
                attributes[meaning] = decoded(rows[:, at : at + one.width], one, part, layout.endian)
    if len(counts) > 1:
        raise FormatError(f"The buffers hold {' and '.join(map(str, sorted(counts)))} vertices.")
    number = counts.pop()
    if not np.isfinite(attributes["POSITION"]).all():
        row = int(np.flatnonzero(~np.isfinite(attributes["POSITION"]).all(axis=1))[0])
        raise FormatError(f"The position of vertex {row} is no number.")
    skeleton = next((part for part in layout.parts if isinstance(part, SkeletonPart)), None)
    stream = next(part for part in layout.parts if isinstance(part, VerticesPart))
    bones = () if skeleton is None else bones_of(parsed, skeleton, stream)
    corners, parts = _triangles(layout, parsed, number, len(bones))
    mesh = Mesh(attributes, corners, parts, bones=bones)
    if any(part.node >= 0 for part in parts):
        places = worlds_of(bones)
        for node in {part.node for part in parts} - {-1}:
            if not abs(np.linalg.det(places[node])) >= 1e-12:
                raise FormatError(f"The bone '{bones[node].name}' flattens what hangs on it.")
        mesh = replace(mesh, attributes=hung(attributes, _of_vertices(mesh, [part.node for part in parts]), places))
    return MeshFile(layout, mesh, len(data), parsed, name)


def _of_vertices(mesh: Mesh, nodes: Sequence[int]) -> np.ndarray[Any, np.dtype[np.int64]]:
    """The node that each vertex hangs on, by its part. FormatError where one hangs on two."""
    found = np.full(len(mesh), -2, np.int64)
    for part, node in zip(mesh.parts, nodes, strict=True):
        used = np.unique(mesh.corners_of(part))
        other = np.flatnonzero((found[used] != -2) & (found[used] != node))
        if len(other):
            raise FormatError(f"Vertex {int(used[other[0]])} belongs to parts on two nodes.")
        found[used] = node
    return np.maximum(found, -1)


def apart(mesh: Mesh) -> Mesh:
    """The same with vertices that belong to one part only, those of each part in a row."""
    pieces, corners, start = [], [np.zeros((0, 3), np.uint32)], 0
    for part in mesh.parts:
        used, which = np.unique(mesh.corners_of(part), return_inverse=True)
        pieces.append(used)
        corners.append((which.reshape(-1, 3) + start).astype(np.uint32))
        start += len(used)
    rows = np.concatenate(pieces) if pieces else np.zeros(0, np.int64)
    attributes = {name: values[rows] for name, values in mesh.attributes.items()}
    return replace(mesh, attributes=attributes, corners=np.concatenate(corners))


def _rows(parsed: Parsed, part: VerticesPart) -> Raw:
    """The bytes of each vertex, shape (vertices, bytes)."""
    return np.frombuffer(parsed.content(part.name), np.uint8).reshape(-1, part.width)


def _triangles(layout: Layout, parsed: Parsed, vertices: int, bones: int) -> tuple[Corners, tuple[Part, ...]]:
    faces = layout.only(IndicesPart)
    if faces is None:
        corners = np.arange(vertices - vertices % 3, dtype=np.uint32).reshape(-1, 3)
        return corners, (Part("", 0, len(corners)),)
    dtype = np.dtype(f"{'<' if layout.endian == 'little' else '>'}u{faces.width}")
    raw = np.frombuffer(parsed.content(faces.name), dtype).astype(np.uint32)
    if len(raw) > MOST:
        raise LimitError(f"{len(raw):,} indices are more than a model has.")
    end = np.uint32((1 << 8 * faces.width) - 1) if faces.restart else None
    runs = _runs(faces, parsed, len(raw))
    if any(run.base for run in runs):
        raw, end = _based(raw, runs, end), None if end is None else _BREAK
    wrong = np.flatnonzero((raw >= vertices) & (raw != end if end is not None else True))
    if len(wrong):
        raise FormatError(
            f"Index {int(wrong[0])} names vertex {int(raw[wrong[0]])}, and there are {vertices}.",
            offset=parsed.regions[faces.name].start + int(wrong[0]) * faces.width,
            expected=f"0 to {vertices - 1}",
        )
    pieces, parts, first = [], [], 0
    for run in runs:
        some = raw[run.first : run.first + run.count]
        whole = run.count - run.count % 3
        triangles = unstripped(some, end) if faces.form == "strip" else some[:whole].reshape(-1, 3)
        pieces.append(triangles[:, ::-1] if faces.turned else triangles)
        node = run.node if 0 <= run.node < bones else -1
        parts.append(Part(run.material, first, len(triangles), level=run.level, node=node))
        first += len(triangles)
    corners = np.concatenate(pieces) if pieces else np.zeros((0, 3), np.uint32)
    return np.ascontiguousarray(corners, np.uint32), tuple(parts)


@dataclass(frozen=True)
class _Run:
    """A run of indices: a part as the table of parts tells it; ``base`` is added to each of them."""

    material: str
    first: int
    count: int
    level: int = 0
    base: int = 0
    node: int = -1


def _based(raw: Corners, runs: Sequence[_Run], end: np.uint32 | None) -> Corners:
    """Indices that count each part's own vertices as those of all. FormatError where a run is told twice."""
    found, told = raw.astype(np.int64), np.zeros(len(raw), bool)
    for run in runs:
        some = slice(run.first, run.first + run.count)
        if told[some].any():
            raise FormatError(f"The indices from {run.first} on belong to two parts.")
        told[some] = True
        found[some] += np.where(raw[some] != end, run.base, 0) if end is not None else run.base
    found = np.minimum(found, MOST)  # far too many, whatever was added
    if end is not None:
        found[raw == end] = _BREAK
    return found.astype(np.uint32)


def _runs(faces: IndicesPart, parsed: Parsed, number: int) -> list[_Run]:
    """The runs of indices that the table of parts tells."""
    if faces.parts is None:
        return [_Run("", 0, number)]
    table, part = parsed.tables[faces.parts], parsed.regions[faces.parts].part
    assert isinstance(part, TablePart)
    count, first = part.column("index-count"), part.column("first-index")
    assert count is not None
    counts = table.numbers(count.field)
    firsts = np.cumsum(counts) - counts if first is None else table.numbers(first.field)
    names = record_names(parsed, part, table, ()) if part.column("name") is not None else [""] * len(table)
    bad = np.flatnonzero((counts < 0) | (firsts < 0) | (firsts + counts > number))
    if len(bad):
        row = int(bad[0])
        raise FormatError(
            f"{faces.parts}[{row}] says that its part is {counts[row]} indices from {firsts[row]} on, and there "
            f"are {number}.",
            offset=parsed.place(faces.parts, table.start(row)),
        )

    def told(role: str, otherwise: int) -> list[int]:
        leaf = part.column(role)
        return [otherwise] * len(table) if leaf is None else table.numbers(leaf.field).tolist()

    bases = told("first-vertex", 0)
    if any(base < 0 or base > MOST for base in bases):
        raise FormatError(f"{faces.parts} names a first vertex that there is not.")
    more = (told("detail-level", 0), bases, told("part-node", -1))
    return [_Run(*row) for row in zip(names, firsts.tolist(), counts.tolist(), *more, strict=True)]


# ---- one attribute ------------------------------------------------------------------------------------------


def _axes(part: VerticesPart) -> tuple[list[int], Floats]:
    """Which of the file's axes is glTF's x, y and z, and with which sign."""
    words = part.axes.split()
    signs = np.array([-1.0 if word.startswith("-") else 1.0 for word in words], np.float32)
    return ["xyz".index(word[-1]) for word in words], signs


def from_gltf(places: Floats, part: VerticesPart) -> Floats:
    """Positions in glTF's terms as the file has them."""
    order, signs = _axes(part)
    found = np.empty_like(places)
    found[:, order] = places * signs
    return (found / np.float32(part.metres)).astype(np.float32)


def decoded(raw: Raw, one: Attribute, part: VerticesPart, endian: str) -> Floats:
    """An attribute's numbers in glTF's terms, from (vertices, bytes); normalised ones by its section 3.6.2.2."""
    assert one.type is not None
    assert one.attribute is not None
    dtype = np.dtype(f"{'<' if endian == 'little' else '>'}{one.type[0]}{int(one.type[1:]) // 8}")
    numbers: Floats = np.ascontiguousarray(raw).view(dtype).reshape(-1, one.of).astype(np.float32)
    if one.normalised:
        most = (1 << int(one.type[1:]) - (one.type[0] == "i")) - 1
        numbers = np.maximum(numbers / np.float32(most), np.float32(-1))
    with np.errstate(all="ignore"):  # of a damaged file; what is no number is told by the reader
        numbers = numbers * np.array(one.scale, np.float32) + np.array(one.offset, np.float32)
    sort = one.attribute.partition("_")[0]
    if sort in ("POSITION", "NORMAL", "TANGENT"):
        order, signs = _axes(part)
        numbers[:, :3] = numbers[:, :3][:, order] * signs
        if sort == "POSITION":
            numbers[:, :3] *= np.float32(part.metres)
    if sort == "TEXCOORD" and part.origin == "bottom":
        numbers[:, 1] = 1 - numbers[:, 1]
    return numbers.astype(np.float32)


def encoded(values: Floats, one: Attribute, part: VerticesPart, endian: str) -> Raw:
    """The inverse: (vertices, bytes). FormatError where a number is beyond the form."""
    assert one.type is not None
    assert one.attribute is not None
    numbers: Any = values[:, : one.of].astype(np.float64)
    if numbers.shape[1] < one.of:
        fill = np.ones if one.attribute.startswith(("COLOR", "TANGENT", "POSITION")) else np.zeros
        numbers = np.concatenate([numbers, fill((len(numbers), one.of - numbers.shape[1]))], axis=1)
    sort = one.attribute.partition("_")[0]
    if sort in ("POSITION", "NORMAL", "TANGENT"):
        order, signs = _axes(part)
        turned = numbers[:, :3] * signs
        numbers[:, order] = turned / (part.metres if sort == "POSITION" else 1)
    if sort == "TEXCOORD" and part.origin == "bottom":
        numbers[:, 1] = 1 - numbers[:, 1]
    numbers = (numbers - np.array(one.offset)) / np.array(one.scale)
    dtype = np.dtype(f"{'<' if endian == 'little' else '>'}{one.type[0]}{int(one.type[1:]) // 8}")
    if one.type[0] != "f":
        bits = int(one.type[1:])
        low, high = (-(1 << bits - 1), (1 << bits - 1) - 1) if one.type[0] == "i" else (0, (1 << bits) - 1)
        if one.normalised:
            numbers = np.clip(numbers, -1.0 if one.type[0] == "i" else 0.0, 1.0) * high
        if sort == "WEIGHTS" and one.normalised:
            numbers = _exact_sums(numbers, high)
        rounded = np.rint(numbers)
        if len(rounded) and (rounded.min() < low or rounded.max() > high):
            raise FormatError(
                f"{one.attribute} goes from {values.min():g} to {values.max():g}, beyond what this file can hold.",
                expected=f"{low * np.min(one.scale) + np.min(one.offset):g} to "
                f"{high * np.max(one.scale) + np.max(one.offset):g}",
            )
        numbers = rounded
    return np.ascontiguousarray(numbers.astype(dtype)).view(np.uint8).reshape(len(values), one.width)


def _exact_sums(numbers: Any, whole: int) -> Any:
    """Weights as whole numbers whose sum is exactly one: what rounding left goes to those that lost most by it."""
    totals = numbers.sum(axis=1, keepdims=True)
    scaled = np.where(totals > 0, numbers * (whole / np.where(totals > 0, totals, 1)), 0)
    low = np.floor(scaled)
    left = np.where(totals[:, 0] > 0, whole - low.sum(axis=1), 0).astype(int)
    ranks = np.argsort(np.argsort(low - scaled, axis=1, kind="stable"), axis=1, kind="stable")
    return low + (ranks < left[:, None])


# ---- strips -------------------------------------------------------------------------------------------------


def unstripped(indices: Corners, restart: np.uint32 | None) -> Corners:
    """The triangles of strips (OpenGL 4.6, section 10.1.8): every other one is turned; flat ones are none."""
    found = []
    breaks = np.flatnonzero(indices == restart).tolist() if restart is not None else []
    start = 0
    for end in [*breaks, len(indices)]:
        strip = indices[start:end]
        start = end + 1
        if len(strip) < 3:
            continue
        corners = np.stack([strip[:-2], strip[1:-1], strip[2:]], axis=1)
        corners[1::2] = corners[1::2][:, [1, 0, 2]]
        a, b, c = corners.T
        found.append(corners[(a != b) & (b != c) & (a != c)])
    return np.concatenate(found) if found else np.zeros((0, 3), np.uint32)


def stripped(corners: Corners, width: int) -> Corners:
    """Triangles as strips: a run goes on as long as the next triangle shares the last edge.

    Strips are parted by the largest number of ``width`` bytes, or where that is 0 joined by triangles without area.
    """
    strips: list[list[int]] = []
    for a, b, c in corners.tolist():
        last = strips[-1] if strips else None
        if last is not None:
            turns = ((a, b, c), (b, c, a), (c, a, b))
            following = next((one[2] for one in turns if _goes_on(last, one)), None)
            if following is not None:
                last.append(following)
                continue
        strips.append([a, b, c])
    result: list[int] = []
    for strip in strips:
        if result and width:
            result.append((1 << 8 * width) - 1)
        elif result:
            result += [result[-1], strip[0]]
            if len(result) % 2:
                result.append(strip[0])
        result += strip
    return np.array(result, np.uint32)


def _goes_on(strip: list[int], triangle: tuple[int, int, int]) -> bool:
    """Whether a triangle goes on with a strip, in this rotation: its first two corners are the strip's last."""
    number = len(strip) - 2  # of the triangle that would be added, from 0
    first, second = (strip[-2], strip[-1]) if number % 2 == 0 else (strip[-1], strip[-2])
    return triangle[0] == first and triangle[1] == second
