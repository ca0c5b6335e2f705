"""The kind of models."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated, Any, ClassVar, Literal

from pydantic import BaseModel, Field

from brae.core.assets import recognised
from brae.core.assets.base import (
    AssetKind,
    Context,
    Encoded,
    Exchange,
    ExchangeFile,
    Head,
    Preview,
    Query,
    Sniffed,
    Version,
    Viewed,
)
from brae.core.assets.facts import Fact, Facts
from brae.core.assets.mesh import described, files, matching
from brae.core.assets.mesh.described import MeshFile
from brae.core.assets.mesh.looking import as_png, picture
from brae.core.assets.sheet import MatchSheet
from brae.core.errors import BraeError, FormatError
from brae.core.layouts import expressions
from brae.core.layouts.geometry import IndicesPart, VerticesPart
from brae.core.layouts.library import Library
from brae.core.layouts.model import Layout
from brae.core.layouts.read import Parsed

_LARGEST = 1 << 30


class MeshFacts(Facts):
    """The facts of a model."""

    vertices: Annotated[int | None, Fact("Vertices", order="down")] = None
    triangles: Annotated[int | None, Fact("Triangles", order="down")] = None


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
    side: Annotated[int, Field(ge=16, le=1024)] = 320
    yaw: Annotated[float, Field(ge=-360, le=360)] = 35.0
    pitch: Annotated[float, Field(ge=-90, le=90)] = 18.0

    @property
    def small(self) -> bool:
        return self.which == "original" and self.side <= 320


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

    def sniff(self, heads: Sequence[Head], library: Library) -> Sequence[Sniffed | None]:
        return recognised.sniff(self.id, heads, library, _counted)

    def read(self, data: bytes, context: Context) -> MeshFile:
        layout = recognised.layout_of(self.id, self.title, data, context)
        return described.read(layout, data)

    def weight(self, asset: MeshFile) -> int:
        return 4 * asset.size

    def rebuild(self, asset: MeshFile) -> bytes | None:
        return asset.rewrite(asset.mesh)

    def check_large(self, head: bytes, tail: bytes, size: int, name: str) -> None:
        if size > _LARGEST:
            raise FormatError(f"A model of {size:,} bytes is too large.", expected=f"at most {_LARGEST:,}")

    def preview(self, viewed: Viewed[MeshFile], query: MeshQuery) -> Preview:
        shown = viewed.edit if query.which == "edit" and viewed.edit is not None else viewed.original
        return Preview(as_png(picture(shown.mesh, query.side, query.yaw, query.pitch)), "image/png")

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
        return ExchangeFile("model.glb", files.to_glb(asset.mesh))

    def saved(self, asset: MeshFile, suffix: str) -> bytes:
        if suffix == ".glb":
            return files.to_glb(asset.mesh)
        if suffix == ".obj":
            return files.to_obj(asset.mesh)
        raise FormatError(f"Models are not written as '{suffix}'.", expected=".glb or .obj")

    def check_file(self, file: ExchangeFile) -> None:
        try:
            files.from_gltf(file.data)
        except BraeError as error:
            raise error.at(file.name) from None

    def match(self, original: MeshFile, version: Version, recipe: Mapping[str, Any]) -> tuple[MatchSheet, Encoded]:
        if version.file.data == self.send(original).data and not version.remedies:
            # Nothing was changed, so nothing is worked out anew.
            return MatchSheet(properties=[], findings=[]), Encoded(original.rewrite(original.mesh))
        sheet, data = matching.match(original, files.from_gltf(version.file.data), version.remedies)
        return sheet, Encoded(data)

    def again(self, original: MeshFile, encoded: Encoded) -> MeshFile:
        return described.read(original.layout, encoded.data)


def _counted(layout: Layout, parsed: Parsed) -> dict[str, int | float | str]:
    """How many vertices and triangles a header says, as far as its first bytes do."""
    found: dict[str, int | float | str] = {}
    for part in layout.parts:
        try:
            if isinstance(part, VerticesPart):
                found["vertices"] = expressions.evaluate(part.count, parsed.values)
            elif isinstance(part, IndicesPart) and part.form == "triangles":
                found["triangles"] = expressions.evaluate(part.count, parsed.values) // 3
        except BraeError:
            continue
    return found


KIND = MeshKind()
