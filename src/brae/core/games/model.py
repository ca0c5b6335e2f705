"""The words of a game profile, checked by Pydantic."""

from __future__ import annotations

import re
from functools import cached_property
from typing import Annotated, Literal

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, model_validator

from brae.core.layouts.roles import MapRule
from brae.core.layouts.signs import form_of


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid")
    about: str | None = None


_Name = Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9-]*$", max_length=60)]


#: a path relative to the game's folder; it cannot leave it
def _inside(path: str) -> str:
    plain = re.sub(r"\{[^}]*\}", "", path)
    if plain.startswith("/") or ".." in plain.split("/") or any(char in plain for char in "\\:\0"):
        raise ValueError(f"'{path}' is no path inside the game's folder")
    return path


_Path = Annotated[str, Field(min_length=1, max_length=400), AfterValidator(_inside)]


class Sign(_Part):
    """A file by which a game or an edition is known: that it is there, or that a text stands in it."""

    file: Annotated[str, Field(min_length=1, max_length=400)] = Field(
        description="a path in the game's folder, or FILE//MEMBER for what lies inside an archive"
    )
    text: str | None = Field(None, description="stands somewhere in the first MiB of it; letter case counts")


class SizesRule(_Part):
    """Names under which the same picture lies in several sizes."""

    names: list[Annotated[str, Field(min_length=1, max_length=200)]] = Field(
        min_length=2,
        max_length=20,
        description="one for each size, with {picture}: [big/{picture}.*, {picture}_s.*]",
    )

    @cached_property
    def forms(self) -> list[re.Pattern[str]]:
        """What the names of each size look like."""
        return [form_of(name) for name in self.names]

    @model_validator(mode="after")
    def _sound(self) -> SizesRule:
        if any("picture" not in form.groupindex for form in self.forms):
            raise ValueError("each name says {picture} where the sizes have the same word")
        return self


class Edition(_Part):
    """An edition or a region of the game."""

    edition: _Name
    title: str
    signs: list[Sign] = Field(min_length=1)
    layouts: list[str] = Field(default_factory=list, description="layouts that come before others for this edition")


class LooseOrder(_Part):
    """Loose files that mirror the members' paths."""

    loose: _Path


class ArchivesOrder(_Part):
    """Archives whose files match a pattern."""

    archives: Annotated[str, Field(min_length=1, max_length=200)] = Field(
        description="a pattern such as data/*.kist"
    )
    order: Literal["first-name-wins", "last-name-wins"] = "last-name-wins"


class ListedOrder(_Part):
    """Archives that a text settings file lists."""

    listed: _Path = Field(description="the settings file")
    section: str | None = Field(None, description="the section, as in [section]")
    order: Literal["first-line-wins", "last-line-wins"] = "first-line-wins"


class Register(_Part):
    """A line that makes a file known in a text file of the game."""

    file: _Path
    section: str | None = Field(None, description="the section, as in [section]; without it the whole file")
    line: str = Field(description="with {file}, {folder}, {name}, {stem} and {number} in it")
    place: Literal["top", "bottom", "sorted"] = Field(
        "top", description="above the game's own lines, below them, or in the order of the alphabet"
    )
    slash: Literal["/", "\\"] = Field("/", description="between the steps of a path")
    longest: Annotated[int, Field(ge=1)] | None = Field(None, description="bytes of a line that the loader reads")
    most: Annotated[int, Field(ge=1)] | None = Field(None, description="lines that the loader has room for")
    encoding: Literal["utf-8", "latin-1", "ascii", "utf-16", "shift-jis"] = "utf-8"
    comment: str = Field(";#", description="characters that begin a comment")


class ArchiveWay(_Part):
    """Into the game's own archives: patched in place where the new member fits, else rebuilt."""

    way: Literal["archive"]
    title: str = "into the game's own archives"


class LooseWay(_Part):
    """As loose files that the game prefers to its archives."""

    way: Literal["loose"]
    title: str = "as loose files that override"
    folder: _Path
    register_line: Register | None = Field(None, alias="register", description="a line for each file")


class AddOnWay(_Part):
    """As an archive of its own that loads over the others."""

    way: Literal["add-on"]
    title: str = "as an add-on archive"
    file: _Path = Field(description="with {number} in it, such as addons/brae_{number:02}.kist")
    like: _Path = Field(description="the game's archive that it is made like")
    first: Annotated[int, Field(ge=0, le=9999)] = 1
    last: Annotated[int, Field(ge=0, le=9999)] = 99
    register_line: Register | None = Field(None, alias="register")

    @model_validator(mode="after")
    def _numbered(self) -> AddOnWay:
        try:
            names = {self.file.format(number=number) for number in (self.first, self.first + 1)}
        except (KeyError, IndexError, ValueError, AttributeError) as error:
            raise ValueError(f"'{self.file}' holds something else than {{number}} in braces") from error
        if len(names) < 2:
            raise ValueError("'file' needs {number} in it, so that several add-ons lie side by side")
        return self


Order = LooseOrder | ArchivesOrder | ListedOrder
Way = Annotated[ArchiveWay | LooseWay | AddOnWay, Field(discriminator="way")]


class LightRule(_Part):
    """How the game lights its models: Lambert's cosine with a floor, and Blinn's highlight."""

    direction: Annotated[list[float], Field(min_length=3, max_length=3)] = Field(
        default=[-0.45, 0.6, 0.66], description="to the light, as the eye has it: right, up, near"
    )
    floor: Annotated[float, Field(ge=0, le=1)] = Field(0.28, description="what is seen where no light comes")
    highlight: Annotated[float, Field(ge=0, le=1)] = Field(0.0, description="how strong it is")
    shininess: Annotated[float, Field(ge=1, le=1000)] = Field(24.0, description="its exponent")


class WorldRule(_Part):
    """How large things are in the game's world: what a new texture's sides follow from."""

    scale: Annotated[float, Field(gt=0, le=1e6)] = Field(
        1.0, description="units that a texel covers: of 0.25 there are four texels in a unit"
    )
    most: Annotated[int, Field(ge=4, le=16384)] = Field(2048, description="the longest side of a texture")


class GameProfile(_Part):
    """One game: how it is known, which copy of a file it uses, how changed files go back."""

    game: _Name
    title: str
    signs: list[Sign] = Field(min_length=1, description="all of them must hold")
    editions: list[Edition] = Field(default_factory=list, description="the first whose signs all hold is taken")
    loading: list[Order] = Field(
        default_factory=list, description="where the game looks for a file, the place that wins first"
    )
    ways: list[Way] = Field(default=[ArchiveWay(way="archive")], min_length=1, description="the usual one first")
    together: list[list[str]] = Field(
        default_factory=list, description="patterns of files that go together, such as [data/*.kist, data/*.hold]"
    )
    light: LightRule | None = Field(None, description="how it lights its models")
    world: WorldRule | None = Field(None, description="how large a new texture is")
    maps: list[MapRule] = Field(
        default_factory=list,
        description="what maps are for, by the ends of their names; the usual ends need no rule",
    )
    sizes: list[SizesRule] = Field(
        default_factory=list,
        max_length=200,
        description="pictures that the game has in several sizes, by their names",
    )
    strangers: Literal["ignored", "refused"] = Field(
        "ignored", description="what the game does about files that it does not know"
    )

    @model_validator(mode="after")
    def _distinct(self) -> GameProfile:
        names = [way.way for way in self.ways]
        if len(set(names)) < len(names):
            raise ValueError("each way stands in a profile once")
        if self.strangers == "refused" and "loose" in names:
            raise ValueError("a game that refuses files it does not know takes no loose files")
        return self

    def way(self, name: str | None) -> Way:
        """The way of that name, or the usual one."""
        return next((way for way in self.ways if way.way == name), self.ways[0])
