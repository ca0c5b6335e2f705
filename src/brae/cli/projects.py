"""Words about projects: build, restore."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from brae.cli.app import HomeOption, JsonOption, LayoutOption, app
from brae.cli.output import bar, errors, readable, say, ticker

if TYPE_CHECKING:
    from brae.work import Workspace


ProjectArgument = Annotated[str, typer.Argument(help="The project's identifier.")]


@contextmanager
def open_workspace(home: Path | None) -> Iterator[Workspace]:
    """The store of a home, for one command."""
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

    with errors(as_json), open_workspace(home) as workspace, ticker() as watching:
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

    with errors(as_json), open_workspace(home) as workspace:
        result = builds.restore(workspace, project, file or None)
        lines = [f"{path}: as it was" for path in result["files"]]
        say(result, "\n".join(lines) or "Nothing was changed.", as_json)
        for one in result["left"]:
            typer.echo(f"brae: {one['path']} was left alone: {one['reason']}", err=True)
        if result["left"]:
            raise typer.Exit(1)


@app.command("import")
def import_(
    folder: Annotated[Path, typer.Argument(help="A folder that 'brae export' wrote.")],
    project: ProjectArgument,
    home: HomeOption = None,
    as_json: JsonOption = False,
) -> None:
    """Take back what differs in an exported folder: each changed file becomes an edit of its item."""
    from brae.work.sending import take_back

    with errors(as_json), open_workspace(home) as workspace, ticker() as watching:
        result = take_back(workspace, project, folder, watching)
        lines = [f"taken: {address}" for address in result["taken"]]
        lines += [f"no item of the game: {file}" for file in result["strangers"]]
        lines += [f"missing: {file}" for file in result["missing"]]
        lines.append(
            f"{len(result['taken'])} taken, {result['same']} equal to the original, {result['untouched']} untouched"
        )
        say(result, "\n".join(lines), as_json)
        tell_faults(result["faults"])


@app.command()
def export(
    what: Annotated[str, typer.Argument(help="A project, or an archive (inside others: FILE//MEMBER).")],
    out: Annotated[Path, typer.Option("-o", "--out", help="The folder.")],
    find: Annotated[
        str, typer.Option(help="Only what fits: words of the path, conditions such as kind=texture width>=512.")
    ] = "",
    layout: LayoutOption = None,
    home: HomeOption = None,
    as_json: JsonOption = False,
) -> None:
    """Send items to a folder as pictures, texts and sounds of open formats, with mirrored paths.

    What is there already stays, so an interrupted export goes on; files that you changed are left alone.
    """
    with errors(as_json):
        result = _export_project(what, out, find, home) or _export_archive(what, out, find, layout, home)
        words = f"{result['written']} written, {result['there']} there already, {result['left_out']} of other kinds"
        lines = [f"left alone, because you changed it: {file}" for file in result["changed"]]
        say(result, "\n".join([*lines, words]), as_json)
        tell_faults(result["faults"])


def tell_faults(faults: list[dict[str, Any]]) -> None:
    """Each on a line of its own; then the command ends with 1."""
    for fault in faults:
        typer.echo(readable(f"brae: {fault.get('address', '')}: {fault['message']}"), err=True)
    if faults:
        raise typer.Exit(1)


def _export_project(what: str, out: Path, find: str, home: Path | None) -> dict[str, Any] | None:
    """The same for a project; None where there is none of that name."""
    from brae.cli.targets import names_project
    from brae.work.columns import Search
    from brae.work.sending import export as send

    if not names_project(what):
        return None
    with open_workspace(home) as workspace, ticker() as watching:
        return send(workspace, what, out, Search(find), watching)


def _export_archive(what: str, out: Path, find: str, layout: str | None, home: Path | None) -> dict[str, Any]:
    from brae.cli.targets import open_target
    from brae.core import addresses, catalogue
    from brae.core.assets.base import Context
    from brae.core.assets.sending import ToSend, send, stems
    from brae.work.columns import Columns, Search, row_of

    opened, library = open_target(what, layout, home)
    container = opened.container
    columns, items = Columns(), list(catalogue.catalogue(container, library))
    columns.extend([row_of(number, item.label, item) for number, item in enumerate(items)])
    paths = stems(container.labels)

    def item_at(place: int) -> ToSend:
        def read() -> tuple[bytes, Context]:
            return container.read(place), Context(
                library, items[place].name, container.read_named, said=container.said([place])[0]
            )

        address = addresses.join(Path(what).name, items[place].label)
        return ToSend(address, items[place].kind, paths[place], read)

    places = columns.ordered("name", columns.fitting(Search(find))).tolist()
    with bar("export", len(places)) as tick:
        return send(map(item_at, places), out, tick).as_dict()
