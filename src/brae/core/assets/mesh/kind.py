"""The kind of models."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Annotated, Any, ClassVar, Literal

from pydantic import BaseModel, Field

from brae.core.assets import recognised
from brae.core.assets.base import (
    Around,
    AssetKind,
    Change,
    Context,
    Encoded,
    Exchange,
    ExchangeFile,
    Head,
    NoWords,
    Preview,
    Query,
    Question,
    Sniffed,
    Version,
    Viewed,
)
from brae.core.assets.facts import Fact, Facts
from brae.core.assets.mesh import described, files, matching, own, shells
from brae.core.assets.mesh.described import MeshFile
from brae.core.assets.mesh.levels import near
from brae.core.assets.mesh.lighting import Light
from brae.core.assets.mesh.looking import as_png, colour_of, picture, radius
from brae.core.assets.mesh.mesh import Mesh
from brae.core.assets.mesh.overlay import lines_svg
from brae.core.assets.sheet import MatchSheet
from brae.core.errors import BraeError, FormatError
from brae.core.layouts import expressions
from brae.core.layouts.geometry import IndicesPart, SkeletonPart, VerticesPart
from brae.core.layouts.library import Library
from brae.core.layouts.model import Layout
from brae.core.layouts.parts import TablePart
from brae.core.layouts.read import Parsed

_LARGEST = 1 << 30


class MeshFacts(Facts):
    """The facts of a model."""

    vertices: Annotated[int | None, Fact("Vertices", order="down")] = None
    triangles: Annotated[int | None, Fact("Triangles", order="down")] = None
    bones: Annotated[int | None, Fact("Bones", order="down")] = None


class MeshRecipe(BaseModel):
    """How a model is stored: what it is encoded like."""

    layout: str
    vertices: int
    triangles: int
    parts: list[str]
    #: each attribute: what its numbers are
    form: dict[str, str]
    indices: str


class MeshQuery(Query):
    """What can be asked of a model's preview."""

    which: Literal["original", "edit"] = "original"
    #: a picture, the model itself (glTF 2.0) for what draws it on the page, or its lines over a texture (SVG)
    view: Literal["picture", "model", "lines"] = "picture"
    side: Annotated[int, Field(ge=16, le=1024)] = 320
    yaw: Annotated[float, Field(ge=-360, le=360)] = 35.0
    pitch: Annotated[float, Field(ge=-90, le=90)] = 18.0
    #: of lines: the part that they are of, by its number; else of all
    part: Annotated[int, Field(ge=0, le=1_000_000)] | None = None
    #: as large from every side
    steady: bool = False
    floor: Annotated[float, Field(ge=0, le=1)] = 0.28
    highlight: Annotated[float, Field(ge=0, le=1)] = 0.0
    shininess: Annotated[float, Field(ge=1, le=1000)] = 24.0

    @property
    def small(self) -> bool:
        return self.which == "original" and self.view == "picture" and self.side <= 320


class MeshPart(BaseModel):
    """A part of a model: its material, the items that this and its texture are, and how it is drawn without one."""

    material: str
    triangles: int
    material_item: str | None
    texture_item: str | None
    colour: tuple[float, float, float]


class MeshView(BaseModel):
    """What draws a model on the page: its parts, and how things take the light in its game."""

    original: list[MeshPart]
    edit: list[MeshPart]
    #: how far it reaches from the middle of its box, in metres; of both the larger one
    radius: float
    #: texture coordinates, normals
    coordinates: bool
    direction: tuple[float, float, float]
    floor: float
    highlight: float
    shininess: float


def _parts(file: MeshFile) -> list[MeshPart]:
    faces = file.faces
    return [
        MeshPart(
            material=part.material, triangles=part.count, colour=colour_of(number),
            material_item=None if faces is None else faces.item(faces.materials, file.name, part.material),
            texture_item=None if faces is None else faces.item(faces.textures, file.name, part.material),
        )
        for number, part in enumerate(file.near.parts)
    ]  # fmt: skip


def _view(viewed: Viewed[MeshFile], query: NoWords, around: Around) -> MeshView:
    original, edit = viewed.original, viewed.edit or viewed.original
    rule = getattr(around.profile, "light", None)
    light = Light() if rule is None else Light(tuple(rule.direction), rule.floor, rule.highlight, rule.shininess)
    return MeshView(
        original=_parts(original), edit=_parts(edit), radius=max(radius(original.mesh), radius(edit.mesh)),
        coordinates="TEXCOORD_0" in edit.mesh.attributes, direction=light.direction, floor=light.floor,
        highlight=light.highlight, shininess=light.shininess,
    )  # fmt: skip


class Outline(BaseModel):
    """A second shell around a model."""

    #: metres by which it is pushed out
    width: Annotated[float, Field(gt=0, le=1e6)]
    #: the part that it is joined to, by its material; another name makes a part of its own
    material: Annotated[str, Field(min_length=1, max_length=200)]
    #: where on that part's texture all of it lies, 0 to 1
    u: Annotated[float, Field(ge=0, le=1)] | None = None
    v: Annotated[float, Field(ge=0, le=1)] | None = None


class Coordinates(BaseModel):
    """Texture coordinates of some parts turned over."""

    materials: Annotated[list[str], Field(min_length=1, max_length=1000)]
    how: Literal["mirror", "flip"]


def _now(viewed: Viewed[MeshFile]) -> Mesh:
    """The model as it was edited last."""
    return files.from_gltf(
        files.to_glb(viewed.original.near) if viewed.version is None else viewed.version.file.data
    )


def _outline(viewed: Viewed[MeshFile], query: Outline, file: ExchangeFile | None) -> tuple[ExchangeFile, str]:
    spot = None if query.u is None or query.v is None else (query.u, query.v)
    made = shells.outlined(_now(viewed), query.width, query.material, spot)
    return ExchangeFile(
        "model.glb", files.to_glb(made)
    ), f"an outline of {query.width:g} metres in {query.material}"


def _coordinates(
    viewed: Viewed[MeshFile], query: Coordinates, file: ExchangeFile | None
) -> tuple[ExchangeFile, str]:
    made = shells.turned_over(_now(viewed), query.materials, query.how)
    words = "mirrored" if query.how == "mirror" else "flipped"
    return ExchangeFile("model.glb", files.to_glb(made)), f"coordinates {words}: {', '.join(query.materials)}"


class MeshKind(AssetKind[MeshFile]):
    """Models that a layout describes."""

    id = "mesh"
    title, titles = "Model", "Models"
    rank = 40
    facts = MeshFacts
    exchange = (Exchange(".glb", "model/gltf-binary"), Exchange(".gltf", "model/gltf+json"))
    remedies: ClassVar[Mapping[str, str]] = matching.REMEDIES
    query = MeshQuery
    preview_media = "image"
    refers = True
    own_files = True
    changes: ClassVar[Mapping[str, Change]] = {
        "outline": Change(Outline, _outline),
        "coordinates": Change(Coordinates, _coordinates),
    }
    questions: ClassVar[Mapping[str, Question]] = {"parts": Question(NoWords, MeshView, _view)}

    def sniff(self, heads: Sequence[Head], library: Library) -> Sequence[Sniffed | None]:
        return recognised.sniff(self.id, heads, library, _counted)

    def read(self, data: bytes, context: Context) -> MeshFile:
        layout = recognised.layout_of(self.id, self.title, data, context)
        return described.read(layout, data, context.name)

    def weight(self, asset: MeshFile) -> int:
        return 4 * asset.size

    def rebuild(self, asset: MeshFile) -> bytes | None:
        return asset.rewrite(asset.mesh)

    def check_large(self, head: bytes, tail: bytes, size: int, name: str) -> None:
        if size > _LARGEST:
            raise FormatError(f"A model of {size:,} bytes is too large.", expected=f"at most {_LARGEST:,}")

    def preview(self, viewed: Viewed[MeshFile], query: MeshQuery) -> Preview:
        shown = viewed.edit if query.which == "edit" and viewed.edit is not None else viewed.original
        if query.view == "model":
            return Preview(files.to_glb(shown.near), "model/gltf-binary")
        if query.view == "lines":
            return Preview(lines_svg(shown.near, query.part), "image/svg+xml")
        light = Light(floor=query.floor, highlight=query.highlight, shininess=query.shininess)
        drawn = picture(shown.near, query.side, query.yaw, query.pitch, light, steady=query.steady)
        return Preview(as_png(drawn), "image/png")

    def pointed(self, asset: MeshFile) -> list[tuple[str, str, int]]:
        found = [
            (part.material, item, 0)
            for part in _parts(asset)
            for item in (part.material_item, part.texture_item)
            if item is not None
        ]
        return list(dict.fromkeys(found))

    def spelt(self, asset: MeshFile, name: str) -> str:
        said = None if asset.faces is None else asset.faces.said(asset.name, name)
        if said is None:
            raise FormatError(
                f"'{name}' cannot be a material of this model.",
                expected=None if asset.faces is None else asset.faces.materials or asset.faces.textures,
            )
        return said

    def renamed(self, original: MeshFile, file: ExchangeFile, instead: Mapping[str, str]) -> ExchangeFile:
        """The model with other materials on its parts; each says whose place it is in."""
        mesh = files.from_gltf(file.data)
        new = {
            came: (instead[name], name)
            for came, name in matching.places_of(mesh.parts, original.near.parts)
            if name in instead
        }
        return ExchangeFile(file.name, files.with_materials(file.data, new))

    def recipe(self, asset: MeshFile) -> MeshRecipe:
        faces = asset.faces
        return MeshRecipe(
            layout=asset.layout.layout,
            vertices=len(asset.mesh),
            triangles=len(asset.mesh.corners),
            parts=[part.material for part in asset.mesh.parts],
            form={name: f"{one.type} x {one.of}" for name, one in asset.form.items()},
            indices="none" if faces is None else f"{faces.type}, {faces.form}",
        )

    def send(self, asset: MeshFile) -> ExchangeFile:
        return ExchangeFile("model.glb", files.to_glb(asset.near))

    def saved(self, asset: MeshFile, suffix: str) -> bytes:
        if suffix == ".glb":
            return files.to_glb(asset.near)
        if suffix == ".obj":
            return files.to_obj(asset.near)
        raise FormatError(f"Models are not written as '{suffix}'.", expected=".glb or .obj")

    def check_file(self, file: ExchangeFile) -> None:
        if file.suffix not in self.suffixes() and not files.is_gltf(file.data):
            return  # a file of the game's own format: read beside its original
        try:
            files.from_gltf(file.data)
        except BraeError as error:
            raise error.at(file.name) from None

    def came(self, original: MeshFile, file: ExchangeFile) -> MeshFile:
        """The original with the materials of a file that came back."""
        if not files.is_gltf(file.data):
            return own.read(original, file.data)
        parts = matching.as_said(files.materials(file.data), original.near.parts)
        return replace(original, mesh=replace(original.mesh, parts=tuple(parts)))

    def match(self, original: MeshFile, version: Version, recipe: Mapping[str, Any]) -> tuple[MatchSheet, Encoded]:
        if not files.is_gltf(version.file.data):
            return own.match(original, version.file.data)
        if version.file.data == self.send(original).data and not version.remedies:
            # Nothing was changed, so nothing is worked out anew.
            return MatchSheet(properties=[], findings=[]), Encoded(original.rewrite(original.mesh))
        came = files.from_gltf(version.file.data)
        renamed = not version.remedies and any(part.was for part in came.parts)
        if renamed and matching.only_names_differ(came, files.from_gltf(self.send(original).data)):
            made = replace(original.mesh, parts=matching.renamed_parts(original.mesh.parts, came.parts))
            return MatchSheet(
                properties=matching.properties(original.near, came, near(made)), findings=[]
            ), Encoded(original.rewrite(made))
        sheet, data = matching.match(original, came, version.remedies)
        return sheet, Encoded(data)

    def again(self, original: MeshFile, encoded: Encoded) -> MeshFile:
        return described.read(original.layout, encoded.data, original.name)


def _counted(layout: Layout, parsed: Parsed) -> dict[str, int | float | str]:
    """How many vertices and triangles a header says, as far as its first bytes do."""
    found: dict[str, int | float | str] = {}
    for part in layout.parts:
        try:
            if isinstance(part, VerticesPart):
                found["vertices"] = expressions.evaluate(part.count, parsed.values)
            elif isinstance(part, SkeletonPart):
                table = next(one for one in layout.parts if isinstance(one, TablePart) and one.name == part.of)
                found["bones"] = expressions.evaluate(table.count or 0, parsed.values)
            elif isinstance(part, IndicesPart) and part.form == "triangles":
                found["triangles"] = expressions.evaluate(part.count, parsed.values) // 3
        except BraeError:
            continue
    return found


KIND = MeshKind()
