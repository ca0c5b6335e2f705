"""The part of a material: which keys of a text, or fields of a header, are its textures, colours and numbers."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated, Literal

from pydantic import Field, model_validator

from brae.core.layouts.fields import Hidden, Name, Strict
from brae.core.layouts.signs import named

#: what a texture of a material is for
TextureRole = Literal[
    "colour", "normal", "specular", "smoothness", "roughness", "metallic", "height", "occlusion", "packed",
    "emission", "opacity", "detail", "reflection",
]  # fmt: skip
ColourRole = Literal["diffuse", "ambient", "highlight", "emission", "tint"]
Key = Annotated[str, Field(min_length=1, max_length=200)]


class TextForm(Strict):
    """How a text of keys and values is written."""

    form: Literal["lines", "json", "xml"] = Field(
        "lines", description="a key and a value on a line, in [sections] and { braces }; or JSON, or XML"
    )
    comments: list[Annotated[str, Field(min_length=1, max_length=4)]] = Field(
        default_factory=list, description="what begins a comment, up to the end of the line"
    )
    between: list[Annotated[str, Field(min_length=1, max_length=2)]] = Field(
        default_factory=lambda: ["=", ":"],
        description="signs between a key and its value; white space does as well",
    )


class Number(Strict):
    """A number with the range that the game takes."""

    key: Key
    least: float | None = None
    most: float | None = None


class PathRules(Strict):
    """How a material writes the name of a texture: the item is called ``under/PATHending``."""

    under: str = Field("", description="the folder that is left out")
    ending: str = Field("", description="the ending that is left out, with its point")
    slash: Literal["/", "\\"] = "/"
    case: Literal["as-is", "lower", "upper"] = "as-is"
    own: list[Key] = Field(
        default_factory=list, description="names that the game makes itself, such as 'none' or '$*'"
    )

    def is_own(self, path: str) -> bool:
        """Whether the game makes what a path names itself: it is no item."""
        return named(path.lower(), self.own)

    def item(self, path: str) -> str:
        """The name of the item that a path means."""
        text = path.replace("\\", "/").strip("/")
        folder = self.under.strip("/")
        return f"{folder}/{text}{self.ending}" if folder else f"{text}{self.ending}"

    def written(self, item: str) -> str:
        """An item's name as a path."""
        text, folder = item.replace("\\", "/").strip("/"), self.under.strip("/")
        if folder and text.lower().startswith(f"{folder.lower()}/"):
            text = text[len(folder) + 1 :]
        if self.ending and text.lower().endswith(self.ending.lower()):
            text = text[: -len(self.ending)]
        text = {"lower": text.lower(), "upper": text.upper()}.get(self.case, text)
        return text.replace("/", self.slash)


class MapSides(Strict):
    """What sides the game takes of a material's textures."""

    same: bool = Field(False, description="all of them have the sides of the colour texture")
    powers: bool = Field(False, description="sides are powers of two")
    most: Annotated[int, Field(ge=1, le=65536)] | None = Field(None, description="the longest side")


class MaterialPart(Hidden):
    """What a material says, by the keys of its text; or of a binary one by the fields of its header."""

    material: Name
    text: TextForm | None = Field(None, description="how the text is written; without it keys are fields")
    shader: Key | None = None
    textures: dict[TextureRole, Key] = Field(default_factory=dict)
    colours: dict[ColourRole, Key | Annotated[list[Key], Field(min_length=3, max_length=4)]] = Field(
        default_factory=dict, description="a key that says all of a colour, or one for each of its numbers"
    )
    numbers: dict[Annotated[str, Field(pattern=r"^[a-z][a-z0-9-]{0,31}$")], Number] = Field(default_factory=dict)
    switches: dict[Annotated[str, Field(pattern=r"^[a-z][a-z0-9-]{0,31}$")], Key] = Field(default_factory=dict)
    paths: PathRules = Field(default_factory=PathRules)
    sides: MapSides = Field(default_factory=MapSides, description="what sides its textures may have")

    @property
    def name(self) -> str:
        return self.material

    @property
    def joined(self) -> dict[str, list[str]]:
        """The keys of colours that are told by several, by all of them with a plus between."""
        return {"+".join(keys): keys for keys in self.colours.values() if not isinstance(keys, str)}

    def keys(self) -> Iterator[str]:
        """All keys that are spoken of."""
        if self.shader is not None:
            yield self.shader
        yield from self.textures.values()
        for keys in self.colours.values():
            yield from [keys] if isinstance(keys, str) else keys
        yield from (one.key for one in self.numbers.values())
        yield from self.switches.values()

    @model_validator(mode="after")
    def _something(self) -> MaterialPart:
        keys = [key.lower() for key in self.keys()]
        if not keys:
            raise ValueError("a material has a shader, textures, colours, numbers or switches")
        twice = sorted({key for key in keys if keys.count(key) > 1})
        if twice:
            raise ValueError(f"'{twice[0]}' is spoken of twice")
        return self
