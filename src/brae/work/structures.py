"""From a file that nobody has described to a layout of the person's own."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from brae.core.atomic import write_atomically
from brae.core.errors import FormatError, NotFoundError
from brae.core.layouts.files import MOST_FILES, numbered_file
from brae.core.layouts.load import parse
from brae.core.sources import ByteSource, FileSource
from brae.core.structure import companion_pattern, propose
from brae.core.structure.workshop import beginning
from brae.jobs import Silent, Ticker
from brae.work.workspace import Workspace

_SHOWN = 5
_NAMES_SHOWN = 6


def find_structure(
    workspace: Workspace, project_id: str, path: str, data: str | None, ticker: Ticker | None = None
) -> dict[str, Any]:
    """Proposals for a file of the game (with the data file that belongs to it), the best first.

    Raises NotFoundError for files that are not among those that no layout describes.
    """
    ticker = ticker or Silent()
    project = workspace.project(project_id)
    folder, known = Path(project.folder), {entry["path"] for entry in project.undescribed}
    for name in filter(None, (path, data)):
        if name not in known:
            raise NotFoundError("This is no file of the game that waits for a description.", address=name)
    sources: dict[str, ByteSource] = {"main": FileSource(folder / path)}
    if data is not None:
        sources["data"] = FileSource(folder / data)
    ticker.begin(0, "layouts tried")
    found = propose(sources, None if data is None else companion_pattern(path, data), tick=ticker.tick)
    proposals = []
    for one in found[:_SHOWN]:
        proposals.append(
            {
                "text": one.called(Path(path).suffix.lstrip(".") or Path(path).stem, path),
                "members": one.members,
                "explained": one.explained,
                "exact": one.proof.exact,
                "state": one.state,
                "evidence": [found.as_dict() for found in one.evidence],
                "reason": one.proof.reason,
                "names": [name.encode("utf-8", "backslashreplace").decode() for name in one.names[:_NAMES_SHOWN]],
            }
        )
    return {"path": path, "data": data, "proposals": proposals}


def workshop_sources(workspace: Workspace, project_id: str, path: str, data: str | None) -> dict[str, ByteSource]:
    """A file of a game's folder (with its data file), to be described; NotFoundError outside the folder."""
    folder = Path(workspace.project(project_id).folder).resolve()
    found: dict[str, ByteSource] = {}
    for file, name in (("main", path), ("data", data)):
        if name is None:
            continue
        target = (folder / name).resolve()
        if folder not in target.parents or not target.is_file():
            raise NotFoundError("There is no such file in the game's folder.", address=name)
        found[file] = FileSource(target)
        for number, other in enumerate(_going_on(target), 1):
            found[numbered_file(file, number)] = FileSource(other)
    return found


def _going_on(path: Path) -> Iterator[Path]:
    """The files whose names have the next numbers, if a name ends with one (an ending may follow)."""
    found = re.search(r"(\d+)(\D*)$", path.name)
    if found is None:
        return
    for number in range(int(found[1]) + 1, int(found[1]) + MOST_FILES):
        name = f"{path.name[: found.start()]}{str(number).zfill(len(found[1]))}{found[2]}"
        if not path.with_name(name).is_file():
            return
        yield path.with_name(name)


def beginning_of(workspace: Workspace, project_id: str, path: str, data: str | None) -> str:
    """A description to begin with, for a file of the game."""
    workshop_sources(workspace, project_id, path, data)
    name = Path(path).suffix.lstrip(".") or Path(path).stem
    return beginning(name, f"Members of {Path(path).name}", companion_pattern(path, data) if data else None)


def keep_layout(workspace: Workspace, text: str) -> str:
    """Save a layout among the person's own, under its identifier; a number is added rather than replacing another.

    Raises LayoutError with the line where it is not valid. Returns the file's name.
    """
    layout = parse(text)
    if layout.kind != "archive":
        raise FormatError("Only layouts of archives are kept from here.")
    name = free_name(workspace, layout.layout)
    if name != layout.layout:
        text = re.sub(r"^layout:.*$", f"layout: {name}", text, count=1, flags=re.MULTILINE)
        if parse(text).layout != name:
            raise FormatError(
                f"There is a layout '{layout.layout}' already.", remedy="Give this one another identifier."
            )
    write_atomically(workspace.home.layouts / f"{name}.yaml", text.encode())
    return f"{name}.yaml"


def free_name(workspace: Workspace, wanted: str) -> str:
    """An identifier that no layout has yet, made of what is wanted; a number is added rather than replacing one."""
    base = re.sub(r"[^a-z0-9]+", "-", wanted.lower()).strip("-")[:50] or "layout"
    taken = {other.layout for other in workspace.library().layouts.values()}
    taken |= {path.stem for path in workspace.home.layouts.glob("*.yaml")}
    name, number = base, 1
    while name in taken:
        number += 1
        name = f"{base}-{number}"
    return name
