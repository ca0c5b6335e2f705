"""One explanation of bytes without a header."""

from __future__ import annotations

from typing import Annotated, Any

import yaml
from pydantic import BaseModel, ConfigDict, Field

from brae.core.assets.texture import formats
from brae.core.assets.texture.formats import Storage
from brae.core.assets.texture.texture import Header


class PaletteAt(BaseModel):
    """Where the entries of a palette are, and their pixel format."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    at: Annotated[int, Field(ge=0)]
    format: str


class Guess(BaseModel):
    """One explanation of the bytes; ``fit`` from 0 (as noise) to 1 (neighbours and levels all agree)."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    format: str
    width: Annotated[int, Field(ge=1, le=65536)]
    height: Annotated[int, Field(ge=1, le=65536)]
    levels: Annotated[int, Field(ge=1, le=17)] = 1
    fit: float = 0
    storage: Storage | None = None
    #: bytes before the pixels
    offset: Annotated[int, Field(ge=0)] = 0
    palette: PaletteAt | None = None
    #: whether only the look of the colours told red from blue
    order_guessed: bool = False

    def header(self, data: bytes) -> Header:
        """A header for reading the bytes this way."""
        pixel_format = formats.get(self.format)
        if self.palette is not None and isinstance(pixel_format, formats.Indexed):
            start, name = self.palette.at, self.palette.format
            entry, count = formats.get(name), 1 << pixel_format.bits
            colours = entry.decode(data[start : start + entry.size(count, 1)], count, 1)[0]
            pixel_format = pixel_format.with_palette(colours)
        return Header("raw", formats.stored(pixel_format, self.storage), self.width, self.height, self.levels)

    def layout(self, identifier: str, title: str, pattern: str, size: int | None) -> str:
        """A layout's text for this file and its siblings: names as ``pattern``, of ``size`` bytes if it says so."""
        said: dict[str, Any] = {"layout": identifier, "title": title, "kind": "texture"}
        said["match"] = {"names": [pattern]} | ({"size": size} if size is not None else {})
        facts = {"width": self.width, "height": self.height, "format": self.format, "mips": self.levels}
        pixels: dict[str, Any] = {"pixels": "pixels", "facts": facts}
        if self.storage is not None:
            pixels["storage"] = self.storage.model_dump(exclude_defaults=True)
        parts: list[dict[str, Any]] = []
        if self.palette is not None:
            start, name = self.palette.at, self.palette.format
            bits = getattr(formats.get(self.format), "bits", 8)
            colours = {"bytes": "colours", "size": formats.get(name).size(1 << bits, 1)}
            pixels |= {"at": self.offset, "palette": {"of": "colours", "format": name}}
            parts = [colours | {"at": start}, pixels]
            if start > self.offset:
                pixels["size"] = start - self.offset
        else:
            parts = [{"bytes": "before", "size": self.offset}] if self.offset else []
            parts.append(pixels)
        text = yaml.safe_dump(said, sort_keys=False, allow_unicode=True)
        lines = [
            f"  - {yaml.safe_dump(part, default_flow_style=True, sort_keys=False, width=1000)}" for part in parts
        ]
        return f"{text}parts:\n{''.join(lines)}"

    @property
    def words(self) -> str:
        """A line for a person."""
        pixel_format = formats.get(self.format)
        order = f", {self.storage.words}" if self.storage else ""
        levels = f"{self.levels} levels" if self.levels > 1 else "one level"
        skipped = f", from byte {self.offset}" if self.offset else ""
        palette = f", palette of {self.palette.format} at {self.palette.at}" if self.palette else ""
        guessed = "; red before blue, or the other way round, is a guess" if self.order_guessed else ""
        return f"{self.width} x {self.height}, {pixel_format.title}{order}, {levels}{skipped}{palette}{guessed}"
