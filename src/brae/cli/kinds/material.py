"""Words about materials: check."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from brae.cli.app import HomeOption, JsonOption, LayoutOption, app
from brae.cli.output import errors, readable, say

#: the exit code where something leads nowhere, or breaks a rule
WRONG = 3


@app.command()
def check(
    file: Annotated[str, typer.Argument(help="A material (inside an archive: ARCHIVE//MEMBER), or a text.")],
    game: Annotated[Path, typer.Option("--game", help="The folder (or archive) in which its names have to be.")],
    layout: LayoutOption = None,
    home: HomeOption = None,
    as_json: JsonOption = False,
) -> None:
    """The paths of a material that lead nowhere, and what of it breaks the game's rules. Nothing is changed."""
    from dataclasses import replace

    from brae.cli.targets import kind_of, library_for, read_target, split_target
    from brae.core.assets.material.matching import findings
    from brae.core.assets.material.material import Material
    from brae.core.assets.registry import kinds
    from brae.core.errors import BraeError, NotFoundError
    from brae.core.find.folder import items_in
    from brae.core.find.graph import with_archives
    from brae.core.find.links import Names
    from brae.work.naming import wrong_in

    with errors(as_json):
        if not game.exists():
            raise NotFoundError(f"There is no {game}.")
        target = read_target(file, home)
        library = library_for(game, home)
        path, labels = split_target(file)
        name = target.context.name
        if not labels and path.resolve().is_relative_to(game.resolve()):
            name = path.resolve().relative_to(game.resolve()).as_posix()
        context = replace(target.context, library=library, name=name)
        if layout is not None:
            context = replace(context, layout=context.library.get(kind_of(layout, context.library) or layout))
        known = kinds()
        try:
            kind = known["material"]
            asset = kind.read(target.data, context)
        except BraeError:
            if layout is not None:
                raise
            kind = known["text"]
            asset = kind.read(target.data, context)
        named = with_archives({one.address: one.item.name for one in items_in(game, library)})
        found = wrong_in(kind, asset, None, Names(named.items()), named)
        if isinstance(asset, Material):
            found = [*findings(None, asset), *found]
        lines = [f"{one.title}: {one.in_game}" + (f" {one.remedy.label}." if one.remedy else "") for one in found]
        content: dict[str, object] = {"kind": kind.id, "findings": [one.model_dump() for one in found]}
        if isinstance(asset, Material):
            content["textures"] = asset.textures()
        say(content, readable("\n".join(lines) or "All that it names is there."), as_json)
        if found:
            raise typer.Exit(WRONG)
