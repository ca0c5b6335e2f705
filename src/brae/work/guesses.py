"""Bytes without a header: what a kind makes of them, and a layout for them and their siblings."""

from __future__ import annotations

from pathlib import PurePosixPath
from typing import Any

from brae.core.assets.base import Headless
from brae.core.atomic import write_atomically
from brae.core.errors import BraeError, NotFoundError
from brae.core.layouts.load import parse
from brae.work.items import original_bytes
from brae.work.structures import KEEPING, free_name, workshop_sources
from brae.work.workspace import Workspace


def keep_guess(
    workspace: Workspace, project_id: str, address: str, kind: Headless, guess: Any, title: str, *, one_size: bool
) -> str:
    """Save a guess as a layout of the person's own, for items with the same ending (and size, if ``one_size``).

    Raises FormatError where it does not read this item. Returns the layout's identifier.
    """
    data = bytes_at(workspace, project_id, address)
    name = PurePosixPath(address.rpartition("//")[2] or address)
    pattern = f"*{name.suffix}" if name.suffix else name.name
    with KEEPING:
        identifier = free_name(workspace, title or name.suffix or name.stem)
        try:
            text = kind.layout(
                data, guess, identifier, title or f"As in {name.name}", pattern, len(data) if one_size else None
            )
        except BraeError as error:
            raise error.at(address) from None
        layout = parse(text)
        write_atomically(workspace.home.layouts / f"{layout.layout}.yaml", text.encode())
    return layout.layout


def bytes_at(workspace: Workspace, project_id: str, address: str) -> bytes:
    """The bytes of an item, or of a file that is no item of the catalogue yet."""
    project = workspace.project(project_id)
    try:
        return original_bytes(workspace, project, workspace.find(project_id, address))
    except NotFoundError:
        if "//" in address:
            raise
    # A file that no layout describes is no item of the catalogue yet.
    source = workshop_sources(workspace, project_id, address, None)["main"]
    return source.read(0, source.size)
