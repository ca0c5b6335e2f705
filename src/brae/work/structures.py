"""From a file that nobody has described to a layout of the person's own."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from brae.core.containers.described import open_archive
from brae.core.errors import FormatError, NotFoundError
from brae.core.layouts.load import parse
from brae.core.sources import ByteSource, FileSource
from brae.core.structure import propose
from brae.jobs import Silent, Ticker
from brae.work.edits import write_atomically
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
    with workspace.database.session() as session:
        project = workspace.project(session, project_id)
        folder, known = Path(project.folder), {entry["path"] for entry in project.undescribed}
    for name in filter(None, (path, data)):
        if name not in known:
            raise NotFoundError("This is no file of the game that waits for a description.", address=name)
    sources: dict[str, ByteSource] = {"main": FileSource(folder / path)}
    if data is not None:
        sources["data"] = FileSource(folder / data)
    ticker.begin(0, "layouts tried")
    found = propose(sources, None if data is None else beside(path, data), tick=ticker.tick)
    proposals = []
    for one in found[:_SHOWN]:
        archive = open_archive(one.layout, sources)
        proposals.append(
            {
                "text": one.called(Path(path).suffix.lstrip(".") or Path(path).stem, path),
                "members": one.members,
                "explained": one.explained,
                "exact": one.proof.exact,
                "reason": one.proof.reason,
                "names": [
                    name.encode("utf-8", "backslashreplace").decode() for name in archive.names[:_NAMES_SHOWN]
                ],
            }
        )
    return {"path": path, "proposals": proposals}


def _shown(name: str) -> str:
    return name.encode("utf-8", "backslashreplace").decode()


def beside(path: str, data: str) -> str:
    """A data file's name as a layout writes it: by what it has in common with its index."""
    index, other = Path(path), Path(data)
    if other.stem == index.stem:
        return f"{{stem}}{other.suffix}"
    return other.name.replace(index.name, "{name}")


def keep_layout(workspace: Workspace, text: str) -> str:
    """Save a layout among the person's own, under its identifier; a number is added rather than replacing another.

    Raises LayoutError with the line where it is not valid. Returns the file's name.
    """
    layout = parse(text)
    if layout.kind != "archive":
        raise FormatError("Only layouts of archives are kept from here.")
    name, number = layout.layout, 1
    folder = workspace.home.layouts
    taken = {other.layout for other in workspace.library().layouts.values()} | {
        p.stem for p in folder.glob("*.yaml")
    }
    while name in taken:
        number += 1
        name = f"{layout.layout}-{number}"
    if name != layout.layout:
        text = text.replace(f"layout: {layout.layout}", f"layout: {name}", 1)
        parse(text)
    write_atomically(folder / f"{name}.yaml", text.encode())
    return f"{name}.yaml"
