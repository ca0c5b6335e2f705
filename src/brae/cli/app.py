"""The command itself, and the options that several of its words have."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from brae import __version__

app = typer.Typer(
    no_args_is_help=True, add_completion=False, help="Change the pictures, texts and sounds of games."
)

HomeOption = Annotated[
    Path | None, typer.Option("--home", help="Brae's own folder; without it, the system's usual place.")
]
LayoutOption = Annotated[str | None, typer.Option("--layout", help="A layout's identifier, or a layout file.")]
JsonOption = Annotated[bool, typer.Option("--json", help="Answer as JSON.")]
FileArgument = Annotated[
    str,
    typer.Argument(help="The file (of an index and data pair the index); FILE//MEMBER//... for what lies inside."),
]
PathArgument = Annotated[Path, typer.Argument(help="The file; of an index and data pair the index.")]


@app.callback(invoke_without_command=True)
def version(show: Annotated[bool, typer.Option("--version", help="Show the version.")] = False) -> None:
    """Change the pictures, texts and sounds of games."""
    if show:
        typer.echo(__version__)
        raise typer.Exit
