"""Pixels without a header: what they could be, how that looks, and a layout for them and their siblings."""

from __future__ import annotations

from pathlib import PurePosixPath

from brae.core.assets.texture.files import read_raw
from brae.core.assets.texture.formats import Picture
from brae.core.assets.texture.guess import Guess, propose
from brae.core.atomic import write_atomically
from brae.core.errors import FormatError, NotFoundError
from brae.core.layouts.load import parse
from brae.work.structures import free_name, workshop_sources
from brae.work.workspace import Workspace


def guesses(workspace: Workspace, project_id: str, address: str) -> tuple[list[Guess], int]:
    """What an item's bytes could be, the best guess first, and how many bytes there are."""
    data = _bytes(workspace, project_id, address)
    return propose(data), len(data)


def picture_of(workspace: Workspace, project_id: str, address: str, guess: Guess) -> Picture:
    """An item's first level as a guess has it, 8 bits a channel.

    Raises one of Brae's errors where there are too few bytes for that.
    """
    data = _bytes(workspace, project_id, address)
    return read_raw(data, guess.header(data), guess.offset).shown()


def keep_guess(
    workspace: Workspace, project_id: str, address: str, guess: Guess, title: str, *, one_size: bool
) -> str:
    """Save a guess as a layout of the person's own, for items with the same ending (and size, if ``one_size``).

    Raises FormatError where it does not read this item. Returns the layout's identifier.
    """
    data = _bytes(workspace, project_id, address)
    name = PurePosixPath(address.rpartition("//")[2] or address)
    pattern = f"*{name.suffix}" if name.suffix else name.name
    identifier = free_name(workspace, title or name.suffix or name.stem)
    text = guess.layout(identifier, title or f"Pixels of {name.name}", pattern, len(data) if one_size else None)
    layout = parse(text)
    again = read_raw(data, guess.header(data), guess.offset)
    if again.rewrite(again.header, again.levels) != data:
        raise FormatError("Read this way, the file cannot be written again as it is.", address=address)
    write_atomically(workspace.home.layouts / f"{layout.layout}.yaml", text.encode())
    return layout.layout


def _bytes(workspace: Workspace, project_id: str, address: str) -> bytes:
    project = workspace.project(project_id)
    try:
        return workspace.original_bytes(project, workspace.find(project_id, address))
    except NotFoundError:
        if "//" in address:
            raise
    # A file that no layout describes is no item of the catalogue yet.
    source = workshop_sources(workspace, project_id, address, None)["main"]
    return source.read(0, source.size)
