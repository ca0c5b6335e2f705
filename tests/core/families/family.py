"""What a family of archives is to the tests."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

from brae.core.containers.described import Archive, open_archive
from brae.core.layouts.load import parse
from brae.core.layouts.model import Layout
from brae.core.sources import BytesSource

Members = list[tuple[str, bytes]]
COOKBOOK = (Path(__file__).parents[3] / "docs" / "cookbook.md").read_text()


def in_cookbook(name: str) -> str:
    """The layout of that identifier in docs/cookbook.md."""
    blocks = re.findall(r"```yaml\n(.*?)```", COOKBOOK, re.DOTALL)
    return next(block for block in blocks if block.startswith(f"layout: {name}\n"))


def plain(name: str) -> str:
    """A name with a folder, such as ``pier/pier.x``."""
    return f"{name}/{name}.x"


@dataclass(frozen=True)
class Family:
    """A layout and the independent writer of its archives: file name by the layout's name -> bytes."""

    name: str
    layout: str
    write: Callable[[Members], dict[str, bytes]]
    named: bool = True
    #: the packing level that the writer uses
    level: int | None = None
    #: whether members can be added and removed
    grows: bool = True
    #: whether a rebuild equals the writer's result (a packer of the writer's own packs otherwise)
    exact: bool = True
    #: a member's name in this family, from a short word
    shape: Callable[[str], str] = plain
    #: the order in which the archive lists them
    order: Callable[[Members], Members] = list
    most: int = 12
    least: int = 0

    @cached_property
    def described(self) -> Layout:
        """The layout, read."""
        return parse(self.layout)

    def open(self, files: dict[str, bytes]) -> Archive:
        """Read files by the layout."""
        return open_archive(self.described, {name: BytesSource(data) for name, data in files.items()})


def pad(data: bytes, align: int, fill: bytes = b"\0") -> bytes:
    """Fill up to a multiple of ``align``."""
    return data + fill * (-len(data) % align)
