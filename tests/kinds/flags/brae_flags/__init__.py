"""A kind of item for Brae, in a package of its own: flags of three stripes, 16 bytes each.

    FLAG | three colours of R, G, B | how many columns wide it is drawn | two bytes that nobody knows

The format is invented. docs/kinds.md goes through this file step by step.
"""

from __future__ import annotations

import io
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Annotated, Any, ClassVar, Literal

from PIL import Image, ImageColor
from pydantic import BaseModel, Field

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
from brae.core.assets.sheet import Finding, MatchSheet, Property, Remedy
from brae.core.errors import FormatError
from brae.core.layouts.library import Library

SIZE = 16


@dataclass(frozen=True)
class Flag:
    """A flag as it is stored."""

    stripes: tuple[tuple[int, int, int], ...]
    columns: int
    unknown: bytes

    @classmethod
    def of(cls, data: bytes) -> Flag:
        """From its bytes; FormatError where they are no flag."""
        if len(data) != SIZE or data[:4] != b"FLAG":
            raise FormatError("This is no flag.", offset=0, expected="16 bytes that begin with FLAG")
        stripes = tuple((data[at], data[at + 1], data[at + 2]) for at in (4, 7, 10))
        return cls(stripes, data[13], data[14:])

    @property
    def data(self) -> bytes:
        """Its bytes."""
        return b"FLAG" + bytes(sum(self.stripes, ())) + bytes([self.columns]) + self.unknown

    @property
    def colours(self) -> list[str]:
        """Its stripes as #rrggbb."""
        return ["#{:02x}{:02x}{:02x}".format(*stripe) for stripe in self.stripes]


class FlagFacts(Facts):
    """What the catalogue says of a flag."""

    columns: Annotated[int | None, Fact("Columns", facet=True, order="up")] = None
    top: Annotated[str | None, Fact("Top stripe", facet=True, words={"#ffffff": "white"})] = None


class FlagRecipe(BaseModel):
    """All that encoding a flag needs."""

    unknown: str


class FlagQuery(Query):
    """How large a flag is drawn."""

    which: Literal["original", "edit"] = "original"
    scale: Annotated[int, Field(ge=1, le=32)] = 8


class FlagKind(AssetKind[Flag]):
    """Flags."""

    id = "flag"
    title, titles = "Flag", "Flags"
    rank = 5
    facts = FlagFacts
    exchange = (Exchange(".json", "application/json"),)
    remedies: ClassVar[Mapping[Any, str]] = {"width": "Take the number of columns from the original"}
    query = FlagQuery
    preview_media = "image"

    def sniff(self, heads: Sequence[Head], library: Library) -> Sequence[Sniffed | None]:
        return [self._sniff(head) for head in heads]

    def _sniff(self, head: Head) -> Sniffed | None:
        if head.data[:4] != b"FLAG":
            return None
        flag = Flag.of(head.data)
        return Sniffed("flag", {"columns": flag.columns, "top": flag.colours[0]})

    def read(self, data: bytes, context: Context) -> Flag:
        return Flag.of(data)

    def rebuild(self, asset: Flag) -> bytes:
        return asset.data

    def preview(self, viewed: Viewed[Flag], query: FlagQuery) -> Preview:
        flag = viewed.edit if query.which == "edit" and viewed.edit is not None else viewed.original
        image = Image.new("RGB", (flag.columns, 3))
        for row, stripe in enumerate(flag.stripes):
            image.paste(stripe, (0, row, flag.columns, row + 1))
        stream = io.BytesIO()
        image.resize((flag.columns * query.scale, 3 * query.scale), Image.Resampling.NEAREST).save(stream, "PNG")
        return Preview(stream.getvalue(), "image/png")

    def recipe(self, asset: Flag) -> FlagRecipe:
        return FlagRecipe(unknown=asset.unknown.hex())

    def send(self, asset: Flag) -> ExchangeFile:
        text = json.dumps({"stripes": asset.colours, "columns": asset.columns}, indent=1)
        return ExchangeFile("flag.json", text.encode())

    def check_file(self, file: ExchangeFile) -> None:
        self._drawn(file)

    def _drawn(self, file: ExchangeFile) -> Flag:
        try:
            said = json.loads(file.data)
            stripes = tuple(ImageColor.getrgb(colour)[:3] for colour in said["stripes"])
            flag = Flag(stripes, int(said["columns"]), b"\0\0")
            if len(stripes) != 3 or not 1 <= flag.columns <= 255:
                raise ValueError("three stripes, and 1 to 255 columns")
        except (ValueError, KeyError, TypeError) as error:
            raise FormatError(f"This draws no flag: {error}.", address=file.name) from error
        return flag

    def match(self, original: Flag, version: Version, recipe: Mapping[str, Any]) -> tuple[MatchSheet, Encoded]:
        came = self._drawn(version.file)
        made = replace(came, unknown=bytes.fromhex(FlagRecipe.model_validate(recipe).unknown))
        if "width" in version.remedies:
            made = replace(made, columns=original.columns)
        findings = []
        if came.columns != original.columns:
            right = Remedy(id="width", label=self.remedies["width"], applied="width" in version.remedies)
            findings.append(
                Finding(
                    id="width",
                    severity="stops",
                    title=f"{came.columns} columns instead of {original.columns}",
                    in_game="The mast holds only flags of one width.",
                    remedy=right,
                )
            )
        columns = [original, came, made]
        properties = [
            Property.of("Columns", *[str(flag.columns) for flag in columns]),
            Property.of("Stripes", *[", ".join(flag.colours) for flag in columns]),
        ]
        return MatchSheet(properties=properties, findings=findings), Encoded(made.data)

    def again(self, original: Flag, encoded: Encoded) -> Flag:
        return Flag.of(encoded.data)


KIND = FlagKind()
