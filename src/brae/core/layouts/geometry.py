"""The parts of a model: buffers of vertices, and the indices that make triangles of them.

Attributes are called as in glTF 2.0, section 3.7.2.1: POSITION, NORMAL, TANGENT, TEXCOORD_0, COLOR_0, JOINTS_0 ...
"""

from __future__ import annotations

from functools import cached_property
from typing import Annotated, Literal

import numpy as np
from pydantic import Field, model_validator

from brae.core.layouts.fields import Expression, Hidden, Name, Strict, check_inside, near
from brae.core.layouts.pixels import beside
from brae.core.layouts.records import Records

Scalars = Literal["u8", "i8", "u16", "i16", "u32", "i32", "f16", "f32", "f64"]
SEMANTICS = r"^(POSITION|NORMAL|TANGENT|TEXCOORD_[0-7]|COLOR_[0-3]|JOINTS_[0-3]|WEIGHTS_[0-3])$"
#: how many numbers an attribute may have, by what it is
SIZES = {"POSITION": (3, 4), "NORMAL": (3, 4), "TANGENT": (3, 4), "TEXCOORD": (2, 3, 4), "COLOR": (3, 4),
         "JOINTS": (1, 2, 3, 4), "WEIGHTS": (1, 2, 3, 4)}  # fmt: skip


class Attribute(Strict):
    """What every vertex has: some numbers that mean something, or bytes that nobody has explained."""

    attribute: Annotated[str, Field(pattern=SEMANTICS)] | None = Field(None, description="what it is, as in glTF")
    type: Scalars | None = None
    of: Annotated[int, Field(ge=1, le=4)] = Field(1, description="how many numbers")
    normalised: bool = Field(False, description="whole numbers stand for 0 to 1, or -1 to 1 with a sign")
    scale: float | list[float] = Field(1.0, description="what each number is multiplied by, after that")
    offset: float | list[float] = Field(0.0, description="what is added then")
    bytes: Annotated[int, Field(ge=1, le=65536)] | None = Field(None, description="instead: bytes that are kept")

    @model_validator(mode="after")
    def _sound(self) -> Attribute:
        if (self.attribute is None) == (self.bytes is None):
            raise ValueError("an attribute has a meaning and a type, or it is bytes that are kept")
        if self.attribute is None:
            return self
        if self.type is None:
            raise ValueError(f"'{self.attribute}' needs a type")
        sizes = SIZES[self.attribute.partition("_")[0]]
        if self.of not in sizes:
            raise ValueError(f"'{self.attribute}' has {' or '.join(map(str, sizes))} numbers, not {self.of}")
        if self.normalised and self.type[0] == "f":
            raise ValueError("only whole numbers are 'normalised'")
        for said in (self.scale, self.offset):
            if isinstance(said, list) and len(said) != self.of:
                raise ValueError(
                    f"'{self.attribute}' has {self.of} numbers, so scale and offset have as many, or one"
                )
        if any(not number for number in np.atleast_1d(self.scale).tolist()):
            raise ValueError("a scale is not zero")
        return self

    @property
    def width(self) -> int:
        """Its bytes."""
        return self.bytes or self.of * int((self.type or "u8")[1:]) // 8


class Box(Strict):
    """The header's fields (f32) that say where all vertices are: they follow."""

    least: Annotated[list[Name], Field(min_length=3, max_length=3)]
    most: Annotated[list[Name], Field(min_length=3, max_length=3)]


class Sphere(Strict):
    """The header's fields (f32) of a sphere around all vertices: they follow."""

    centre: Annotated[list[Name], Field(min_length=3, max_length=3)]
    radius: Name


class VerticesPart(Hidden):
    """A buffer of vertices: all attributes of one, then of the next; several such parts are streams."""

    vertices: Name
    count: Expression
    attributes: Annotated[list[Attribute], Field(min_length=1, max_length=32)]
    stride: Annotated[int, Field(ge=1, le=65536)] | None = Field(
        None, description="bytes of a vertex, where they are more than its attributes; the rest is kept"
    )
    axes: Annotated[str, Field(pattern=r"^-?[xyz] -?[xyz] -?[xyz]$")] = Field(
        "x y z", description="which of the file's axes are glTF's x (right), y (up) and z (towards one): 'x z -y'"
    )
    metres: Annotated[float, Field(gt=0)] = Field(1.0, description="what one unit of the file is in metres")
    origin: Literal["top", "bottom"] = Field("top", description="where texture coordinates of 0 are on the picture")
    box: Box | None = None
    sphere: Sphere | None = None

    @property
    def name(self) -> str:
        return self.vertices

    @cached_property
    def width(self) -> int:
        """Bytes of a vertex."""
        return max(self.stride or 0, sum(one.width for one in self.attributes))

    @cached_property
    def places(self) -> dict[str, tuple[int, Attribute]]:
        """Where in a vertex each attribute with a meaning begins."""
        found, at = {}, 0
        for one in self.attributes:
            if one.attribute is not None:
                found[one.attribute] = at, one
            at += one.width
        return found

    @model_validator(mode="after")
    def _sound(self) -> VerticesPart:
        names = [one.attribute for one in self.attributes if one.attribute is not None]
        if twice := next((name for name in names if names.count(name) > 1), None):
            raise ValueError(f"'{self.vertices}' has '{twice}' twice")
        total = sum(one.width for one in self.attributes)
        if self.stride is not None and self.stride < total:
            raise ValueError(f"the stride is {self.stride}, but the attributes have {total} bytes")
        if sorted(self.axes.replace("-", "").split()) != ["x", "y", "z"]:
            raise ValueError("each of x, y and z is one of the axes, once")
        return self


class IndicesPart(Hidden):
    """The vertices of each triangle, by their numbers."""

    indices: Name
    count: Expression
    type: Literal["u8", "u16", "u32"] = "u16"
    form: Literal["triangles", "strip"] = "triangles"
    restart: bool = Field(False, description="in a strip the largest number begins a new one")
    turned: bool = Field(False, description="the front of a triangle is where its corners go clockwise")
    parts: Name | None = Field(
        None, description="the table of the model's parts: roles first-index and index-count, name for the material"
    )
    materials: str | None = Field(
        None, description="the item that a part's material is: 'materials/{material}.txt', with {folder} and {stem}"
    )
    textures: str | None = Field(
        None,
        description="the item that is a part's texture, by the name of its material: 'textures/{material}.dds'",
    )

    def item(self, pattern: str | None, model: str, material: str) -> str | None:
        """The name of the item of a part's material or texture; None where none is said, or the part has none."""
        return beside(pattern, model, material=material) if pattern is not None and material else None

    def said(self, model: str, item: str) -> str | None:
        """What a part of a model says whose material or texture is an item; None where none can say it."""
        for pattern in (self.materials, self.textures):
            if pattern is None:
                continue
            before, _, behind = beside(pattern, model, material="\0").partition("\0")
            low = item.lower()
            fits = low.startswith(before.lower()) and low.endswith(behind.lower())
            if fits and len(item) > len(before) + len(behind):
                return item[len(before) : len(item) - len(behind)]
        return None

    @model_validator(mode="after")
    def _named(self) -> IndicesPart:
        for pattern in (self.materials, self.textures):
            if pattern is not None:
                check_inside(pattern)
                self.item(pattern, "a/b", "c")
        return self

    @property
    def name(self) -> str:
        return self.indices

    @property
    def width(self) -> int:
        """Bytes of an index."""
        return int(self.type[1:]) // 8


class SkeletonPart(Hidden):
    """The bones that the vertices of a model move with; they lie in a table, and take no bytes themselves."""

    skeleton: Name
    of: Name = Field(description="the table whose records are the bones: role name, and the fields named here")
    parent: Name = Field(description="its field with the number of the bone above; a number of none is a root")
    place: Annotated[list[Name], Field(min_length=3, max_length=3)] | None = Field(
        None, description="fields (f32): where it is, seen from the bone above"
    )
    turn: Annotated[list[Name], Field(min_length=4, max_length=4)] | None = Field(
        None, description="fields (f32): how it is turned, a quaternion x, y, z, w"
    )
    scale: Annotated[list[Name], Field(min_length=3, max_length=3)] | None = Field(
        None, description="fields (f32): how large it is, along each of its axes"
    )
    inverse: Annotated[list[Name], Field(min_length=12, max_length=16)] | None = Field(
        None, description="fields (f32): the inverse bind matrix, row by row; 12 without the last row, or 16"
    )

    @property
    def name(self) -> str:
        return self.skeleton

    @model_validator(mode="after")
    def _somewhere(self) -> SkeletonPart:
        if self.place is None and self.inverse is None:
            raise ValueError("bones have a place, or an inverse bind matrix")
        if self.inverse is not None and len(self.inverse) not in (12, 16):
            raise ValueError("an inverse bind matrix has 12 fields, or 16")
        return self

    @property
    def fields(self) -> list[str]:
        """The fields of its table that it reads as numbers with a point."""
        return [*(self.place or ()), *(self.turn or ()), *(self.scale or ()), *(self.inverse or ())]


def check_skeleton(part: SkeletonPart, table: Records | None) -> None:
    """Its bones lie in a table with their names and numbers. Raises ValueError."""
    if table is None:
        raise ValueError(f"'{part.of}' is no table of bones")
    leaves = {leaf.field: leaf for leaf in table.leaves}
    if "name" not in {str(leaf.meant.role) for leaf in table.leaves if leaf.meant.role}:
        raise ValueError(f"the bones of '{part.of}' need the role name")
    for field in [part.parent, *part.fields]:
        if field not in leaves:
            raise ValueError(f"'{part.of}' has no field '{field}'{near(field, leaves)}")
    if not leaves[part.parent].column.number_like:
        raise ValueError(f"'{part.parent}' is the number of a bone, a whole one")
    if lost := next((field for field in part.fields if leaves[field].column.type != "f32"), None):
        raise ValueError(f"'{lost}' of a bone is no field of type f32")
