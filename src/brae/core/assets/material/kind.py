"""The kind of materials."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
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
from brae.core.assets.facts import Fact, Facts, Value
from brae.core.assets.material import matching
from brae.core.assets.material.entries import entries
from brae.core.assets.material.material import Material, MaterialValue, read
from brae.core.assets.sheet import Finding, MatchSheet
from brae.core.assets.text import matching as text_matching
from brae.core.assets.text import text as texts
from brae.core.assets.text.text import encoding_of
from brae.core.errors import BraeError, FormatError
from brae.core.layouts.library import Library
from brae.core.layouts.materials import MaterialPart, TextForm

_LARGEST = 4 << 20


class MaterialFacts(Facts):
    """The facts of a material."""

    shader: Annotated[str | None, Fact("Shader", facet=True, order="up")] = None
    textures: Annotated[str | None, Fact("Textures")] = None


class MaterialRecipe(BaseModel):
    """How a material is stored."""

    layout: str
    size: int


class MaterialQuery(Query):
    """What can be asked of a material's preview."""

    which: Literal["original", "edit"] = "original"
    most: Annotated[int, Field(ge=1, le=_LARGEST)] = _LARGEST


class MaterialValues(BaseModel):
    """The values of the original and of the version in use, and how paths are written."""

    original: list[MaterialValue]
    edit: list[MaterialValue]
    #: what is put before and behind a path to make the name of an item
    under: str
    ending: str
    #: whether it is a text, which can be edited as such
    is_text: bool


class SetValue(BaseModel):
    """One value changed; an item's name is written by the rules for paths where ``item`` says so."""

    key: Annotated[str, Field(min_length=1, max_length=200)]
    value: Annotated[str, Field(max_length=2000)]
    item: bool = False


def _values(viewed: Viewed[Material], query: NoWords, around: Around) -> MaterialValues:
    original, edit = viewed.original, viewed.edit or viewed.original
    rules = original.part.paths
    return MaterialValues(
        original=original.values(), edit=edit.values(), under=rules.under, ending=rules.ending,
        is_text=original.text is not None,
    )  # fmt: skip


def _set(viewed: Viewed[Material], query: SetValue, file: ExchangeFile | None) -> tuple[ExchangeFile, str]:
    material = viewed.edit or viewed.original
    value = material.part.paths.written(query.value) if query.item else query.value
    made = matching.set_value(material, query.key, value)
    return KIND.send(made), f"{query.key}: {value}"


class MaterialKind(AssetKind[Material]):
    """Materials: texts of keys and values, or headers, described by a layout."""

    id = "material"
    title, titles = "Material", "Materials"
    rank = 25
    facts = MaterialFacts
    exchange = (Exchange(".txt", "text/plain"),)
    remedies: ClassVar[Mapping[str, str]] = {**text_matching.REMEDIES, **matching.REMEDIES}
    query = MaterialQuery
    preview_media = "text"
    worded = True
    judges = True
    questions: ClassVar[Mapping[str, Question]] = {"values": Question(NoWords, MaterialValues, _values)}
    changes: ClassVar[Mapping[str, Change]] = {"value": Change(SetValue, _set)}

    def sniff(self, heads: Sequence[Head], library: Library) -> Sequence[Sniffed | None]:
        found: list[Sniffed | None] = list(recognised.sniff(self.id, heads, library, lambda layout, parsed: {}))
        for place, one in enumerate(found):
            if one is None or one.type is None:
                continue
            part = library.layouts[one.type].only(MaterialPart)
            whole = heads[place].size is not None and heads[place].size == len(heads[place].data)
            if part.text is not None and encoding_of(heads[place].data, whole=whole) is None:
                found[place] = None  # it is only called like one
                continue
            found[place] = Sniffed(one.type, self._facts(one.type, heads[place].data, library))
        return found

    def _facts(self, layout: str, data: bytes, library: Library) -> dict[str, Value]:
        try:
            material = read(library.layouts[layout], data)
        except BraeError:
            return {}  # the beginning alone does not tell
        shader = next((one.value for one in material.values() if one.sort == "shader" and one.value), None)
        said: dict[str, Value] = {} if shader is None else {"shader": shader}
        return said | ({"textures": ", ".join(material.textures().values())} if material.textures() else {})

    def read(self, data: bytes, context: Context) -> Material:
        return read(recognised.layout_of(self.id, self.title, data, context), data)

    def rebuild(self, asset: Material) -> bytes | None:
        return asset.encode()

    def check_large(self, head: bytes, tail: bytes, size: int, name: str) -> None:
        if size > _LARGEST:
            raise FormatError(f"{size:,} bytes are no material.", expected=f"at most {_LARGEST:,}")

    def words(self, asset: Material) -> str:
        """Its text; of a header its values, each on a line."""
        if asset.text is not None:
            return asset.text.text
        return "".join(f'{one.key} = "{one.value}"\n' for one in asset.values() if one.value)

    def renamed(self, original: Material, file: ExchangeFile, instead: Mapping[str, str]) -> ExchangeFile:
        came = self.came(original, file)
        for one in came.values():
            if one.value is not None and one.value in instead:
                came = came.with_value(one.key, instead[one.value])
        return ExchangeFile(file.name, self.send(came).data)

    def pointed(self, asset: Material) -> list[tuple[str, str, int]]:
        rules = asset.part.paths
        return [
            (one.value, rules.item(rules.written(one.value)), one.line or 0)
            for one in asset.values()
            if one.sort == "texture" and one.value and not rules.is_own(one.value)
        ]

    def judged(self, asset: Material, facts: Mapping[str, Mapping[str, Value]]) -> list[Finding]:
        return matching.sides(asset, facts)

    def spelt(self, asset: Material, name: str) -> str:
        return asset.part.paths.written(name)

    def preview(self, viewed: Viewed[Material], query: MaterialQuery) -> Preview:
        shown = viewed.edit if query.which == "edit" and viewed.edit is not None else viewed.original
        return Preview(self.words(shown)[: query.most].encode(errors="replace"), "text/plain; charset=utf-8")

    def recipe(self, asset: Material) -> MaterialRecipe:
        return MaterialRecipe(layout=asset.layout.layout, size=len(asset.encode()))

    def send(self, asset: Material) -> ExchangeFile:
        """Its text; a header goes out as a text of its values."""
        data = asset.encode() if asset.text is not None else self.words(asset).encode()
        return ExchangeFile(f"material{self.exchange[0].suffix}", data)

    def check_file(self, file: ExchangeFile) -> None:
        if file.data:
            try:
                texts.read(file.data)
            except FormatError as error:
                raise error.at(file.name) from None

    def came(self, original: Material, file: ExchangeFile) -> Material:
        if original.text is not None:
            return read(original.layout, file.data, original.text)
        material = original
        said = entries(texts.read(file.data).text if file.data else "", TextForm())
        for one in original.values():
            value = next((entry.value for entry in reversed(said) if entry.is_at(one.key)), None)
            if value is not None and value != one.value:
                material = material.with_value(one.key, value)
        return material

    def match(self, original: Material, version: Version, recipe: Mapping[str, Any]) -> tuple[MatchSheet, Encoded]:
        came = self.came(original, version.file)
        sheet, made = matching.match(original, came, version.remedies)
        data = made.encode()
        if original.text is not None and made.text is not None:
            told, data = text_matching.match(original.text, made.text, version.remedies)
            sheet = MatchSheet(
                properties=[*sheet.properties, *told.properties], findings=[*sheet.findings, *told.findings]
            )
        return sheet, Encoded(data)

    def again(self, original: Material, encoded: Encoded) -> Material:
        return read(original.layout, encoded.data, original.text)


KIND = MaterialKind()
