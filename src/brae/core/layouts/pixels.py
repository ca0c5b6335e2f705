"""The part of a texture: its pixels, their palette, and levels that lie elsewhere."""

from __future__ import annotations

import re
from functools import cached_property
from typing import Annotated, Literal

from pydantic import Field, model_validator

from brae.core.layouts.fields import Expression, Hidden, Name, Strict, check_inside
from brae.core.layouts.records import Fact
from brae.core.layouts.signs import form_of
from brae.core.layouts.storage import Storage


def beside(pattern: str, name: str, **more: int | str) -> str:
    """The name of another item of the game, made of the item ``name``: its path without the ending, folder, stem.

    Raises ValueError where the pattern holds anything else.
    """
    path = name.rpartition(".")[0] if "." in name.rpartition("/")[2] else name
    folder, _, stem = path.rpartition("/")
    try:
        found = pattern.format(path=path, folder=folder, stem=stem, **more)
    except (LookupError, ValueError, AttributeError) as error:
        known = ", ".join(["path", "folder", "stem", *more])
        raise ValueError(f"'{pattern}' holds something that is not known; {known} are") from error
    return found.lstrip("/")


class PaletteCase(Strict):
    """Pictures whose names are like this have their colours there: by folder, by scene, by number."""

    names: Annotated[str, Field(min_length=1, max_length=200)] = Field(
        description="* for any characters, ? for one; {word} for some that are put into 'file': 'scenes/{scene}/*'"
    )
    file: str = Field(
        description="the item with the colours, with {path}, {folder}, {stem} and the words of 'names'"
    )

    @cached_property
    def form(self) -> re.Pattern[str]:
        """What the names look like; letter case does not count."""
        return form_of(self.names)

    @model_validator(mode="after")
    def _sound(self) -> PaletteCase:
        check_inside(self.file)
        words = self.form.groupindex
        beside(self.file, "a/b.c", **dict.fromkeys(words, "a"))
        return self


class PaletteOf(Strict):
    """Where the colours of palette indices are."""

    of: Name | None = Field(None, description="the part 'bytes' that holds them")
    file: str | None = Field(
        None, description="instead: another item of the game, with {path}, {folder}, {stem} of this one's name"
    )
    cases: list[PaletteCase] = Field(
        default_factory=list, max_length=1000, description="other items for some names; the first that fits counts"
    )
    at: Annotated[int, Field(ge=0)] = Field(0, description="of another item: where the colours begin")
    entries: Annotated[int, Field(ge=1, le=65536)] | None = Field(
        None, description="of another item: how many; without it, as many as there are"
    )
    clear: Annotated[int, Field(ge=0, le=255)] | None = Field(None, description="the index that is not drawn")
    format: str = Field(description="the pixel format of an entry")
    order: list[tuple[Annotated[int, Field(ge=0, le=7)], Annotated[int, Field(ge=0, le=7)]]] | None = Field(
        None, description="pairs of bits of an index that change places before an entry is looked up"
    )
    alpha_scale: int = Field(1, ge=1, le=255, description="alpha is stored divided by this")

    @model_validator(mode="after")
    def _one(self) -> PaletteOf:
        if (self.of is None) != self.elsewhere:
            raise ValueError("a palette is 'of' a part of this file, or in another 'file'")
        if self.file is not None:
            check_inside(self.file)
            beside(self.file, "a/b.c")
        return self

    @property
    def elsewhere(self) -> bool:
        """Whether other items hold the colours."""
        return self.file is not None or bool(self.cases)

    def item(self, name: str) -> str | None:
        """The name of the item that holds the colours of the item ``name``; None where no case fits."""
        for case in self.cases:
            found = case.form.fullmatch(name)
            if found is not None:
                return beside(case.file, name, **found.groupdict())
        return beside(self.file, name) if self.file is not None else None

    @cached_property
    def form(self) -> re.Pattern[str]:
        """What the names of items that hold such colours look like."""
        files = [*([self.file] if self.file is not None else []), *(case.file for case in self.cases)]
        forms = [re.split(r"\{[^{}]*\}", file.lstrip("/")) for file in files]
        return re.compile("|".join(".*".join(map(re.escape, pieces)) for pieces in forms), re.DOTALL)


class ColoursPart(Hidden):
    """The entries of a palette that is a file of its own."""

    colours: Name
    size: Expression = Field(description="bytes of all entries")
    format: str = Field(description="the pixel format of an entry")
    reserved: dict[Annotated[int, Field(ge=0, le=65535)], str] = Field(
        default_factory=dict, description="entries that are no colours to be chosen, and what each is for"
    )

    @property
    def name(self) -> str:
        return self.colours


class Elsewhere(Strict):
    """Where the larger levels of a streamed texture are: another file of the game, or one for each."""

    name: str = Field(
        description="its path: with {path} (this one's, without its ending), {folder}, {stem}; {level} for one each"
    )
    at: Expression | None = Field(
        None,
        description="where in that file they begin, such as 'offset * 2048'; without it they are all of the file",
    )
    smallest_first: bool = Field(False, description="the smallest of its levels comes first")
    here: Name | None = Field(
        None,
        description="the header's field that says how many levels are in this file; without it as many of the "
        "smallest as there are bytes for",
    )
    stored: Name | None = Field(None, description="the header's field that says how many bytes are elsewhere")
    above: int | None = Field(
        None, ge=1, le=12,
        description="the header says the sides and levels of this file alone; so many larger levels are elsewhere",
    )  # fmt: skip

    @model_validator(mode="after")
    def _sound(self) -> Elsewhere:
        check_inside(self.name)
        if self.above is not None and self.here is not None:
            raise ValueError("'above' and 'here' both say how many levels are elsewhere; one of them does")
        if self.at is not None and "{level}" in self.name:
            raise ValueError("with 'at' all levels lie in one file: 'name' has no {level}")
        self.of("a/b.c", 0)
        return self

    def of(self, name: str, level: int) -> str:
        """The path of the file that holds a level of the texture ``name``."""
        return beside(self.name, name, level=level)


class PixelsPart(Hidden):
    """A texture's pixels, all levels, or the smaller ones where the others are ``elsewhere``."""

    pixels: Name
    size: Expression | None = Field(None, description="bytes; without it, as much as the levels need")
    storage: Storage | None = Field(None, description="in what order pixels or blocks lie, if not row by row")
    palette: PaletteOf | None = Field(None, description="colours of palette indices")
    smallest_first: bool = Field(False, description="the smallest level comes first")
    elsewhere: Elsewhere | None = Field(
        None, description="where the largest levels are, and which field says how many are in this file"
    )
    facts: dict[Name, Fact] = Field(
        default_factory=dict,
        description="what the texture is (width, height, format, mips ...): fields, sums over them, or constants",
    )
    by: Literal["picture", "level"] = Field(
        "picture", description="of several layers or faces: all levels of one follow each other, or all of a level"
    )

    @property
    def name(self) -> str:
        return self.pixels
