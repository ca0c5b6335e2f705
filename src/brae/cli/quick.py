"""A file of an open container, opened without reading a single layout.

Only where what the layouts are told by is remembered (``core.layouts.signs``) and none of them fits.
"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from brae.core.layouts import signs
from brae.core.places import layout_folders, usual_place
from brae.demo import LAYOUTS

if TYPE_CHECKING:
    from brae.core.containers.base import Container
    from brae.core.layouts.library import Library


def _cache(home: Path | None) -> Path:
    return (home or usual_place()) / "layout-signs.json"


def open_quickly(target: str, layout: str | None, home: Path | None) -> Container | None:
    """The container; None where it is to be looked at in the ordinary way."""
    path = Path(target)
    if layout is not None or not path.is_file() or path.suffix.lower() == ".cue" or not _cache(home).is_file():
        return None
    from brae.core.containers.opened import standards
    from brae.core.containers.recognise import HEAD, standard_of
    from brae.core.sources import FileSource

    source = FileSource(path)
    size = min(HEAD, source.size)
    head, tail = source.read(0, size), source.read(source.size - size, size)
    if not signs.none_fits(
        layout_folders(path, LAYOUTS, home), _cache(home), "archive", path.name, head, tail, source.size
    ):
        return None
    kind = standard_of(source)
    return None if kind is None else standards()[kind].open(source, path.name)


def remember(library: Library, home: Path | None) -> None:
    """Remember what the layouts are told by, for the next time."""
    signs.remember(library.read, _cache(home))
