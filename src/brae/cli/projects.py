"""Words about projects: build, restore."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from brae.cli.app import HomeOption, JsonOption, app
from brae.cli.output import errors, say, ticker

if TYPE_CHECKING:
    from brae.work import Workspace


ProjectArgument = Annotated[str, typer.Argument(help="The project's identifier.")]


@contextmanager
def _workspace(home: Path | None) -> Iterator[Workspace]:
    # Imported here: the commands that need no database start faster without it.
    from brae.store import Home
    from brae.work import Workspace

    workspace = Workspace(Home(home))
    try:
        yield workspace
    finally:
        workspace.close()


@app.command()
def build(
    project: ProjectArgument,
    way: Annotated[
        str | None, typer.Option(help="archive, loose or add-on, as the game's profile allows; remembered.")
    ] = None,
    may_grow: Annotated[
        bool, typer.Option("--may-grow", help="Agree that a file of the game becomes much larger.")
    ] = False,
    home: HomeOption = None,
    as_json: JsonOption = False,
) -> None:
    """Put the edits of a project into its game."""
    from brae.work import builds
    from brae.work.projects import choose

    with errors(as_json), _workspace(home) as workspace, ticker() as watching:
        if way is not None:
            choose(workspace, project, way=way)
        result = builds.build(workspace, project, watching, may_grow=may_grow)
        lines = [f"{file['path']}: {file['way']}, {file['why']}" for file in result["files"]]
        say(result, "\n".join(lines) or "The game's files are as the edits want them.", as_json)


@app.command()
def restore(
    project: ProjectArgument,
    file: Annotated[list[str] | None, typer.Option(help="Only this file (may be repeated).")] = None,
    home: HomeOption = None,
    as_json: JsonOption = False,
) -> None:
    """Put the game's own files back."""
    from brae.work import builds

    with errors(as_json), _workspace(home) as workspace:
        result = builds.restore(workspace, project, file or None)
        lines = [f"{path}: as it was" for path in result["files"]]
        say(result, "\n".join(lines) or "Nothing was changed.", as_json)
        for one in result["left"]:
            typer.echo(f"brae: {one['path']} was left alone: {one['reason']}", err=True)
        if result["left"]:
            raise typer.Exit(1)
