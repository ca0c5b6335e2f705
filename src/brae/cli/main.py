"""The words of the command line: demo and serve here, the others where their subject is."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from brae.cli import archives, find, kinds, layouts, look, palettes, projects, recolour, sizes, sprites, voices
from brae.cli.app import HomeOption, app
from brae.cli.output import errors
from brae.core.errors import storage_error

if TYPE_CHECKING:
    from brae.jobs import Ticker
    from brae.work import Workspace


@app.command()
def demo(
    port: Annotated[int | None, typer.Option(help="The port on 127.0.0.1.")] = None,
    no_browser: Annotated[bool, typer.Option("--no-browser", help="Do not open the page.")] = False,
    into: Annotated[Path | None, typer.Option(help="Make the demo games' files in this folder.")] = None,
    no_start: Annotated[bool, typer.Option("--no-start", help="Only make the files.")] = False,
    home: HomeOption = None,
) -> None:
    """Make the demo game Skerry Post, in both editions, and start Brae with it."""
    from brae.cli.server import serve as start
    from brae.demo import DESKTOP, DISC
    from brae.jobs import Silent
    from brae.store import Home
    from brae.work.opening import begin, open_game

    with errors():
        folder = into or Home(home).games
        game = folder / DESKTOP
        if not (game / "skerry.cfg").is_file():  # written last, so it tells that all the rest is there
            typer.echo(f"Making Skerry Post in {game} ...")
            from brae.demo import desktop

            try:
                desktop.generate(folder)
            except OSError as error:
                raise storage_error(error, "make the demo game in", folder) from error

        def make_disc(ticker: Ticker) -> Path:
            if not (folder / DISC / "skerry.cue").is_file():
                from brae.demo import disc

                try:
                    disc.generate(folder, ticker=ticker)
                except OSError as error:
                    raise storage_error(error, "make the demo game in", folder) from error
            return folder / DISC

        if no_start:
            make_disc(Silent())
            typer.echo(f"Skerry Post is in {game} and {folder / DISC}")
            return

        def open_demo(workspace: Workspace) -> None:
            name = "Skerry Post"
            workspace.jobs.start(
                "open",
                f"Opening {name}",
                lambda job: open_game(workspace, game, job, name),
                project=(first := begin(workspace, game, name)),
                queue=first,
                path=str(game),
            )
            # The disc takes some seconds to make; the desktop edition can be looked at meanwhile.
            workspace.jobs.start(
                "open",
                f"Making and opening the disc edition of {name}",
                lambda job: open_game(workspace, make_disc(job), job, f"{name}, disc edition"),
            )

        start(home, port, not no_browser, demo=game, started=open_demo)


@app.command()
def serve(
    port: Annotated[int | None, typer.Option(help="The port on 127.0.0.1.")] = None,
    no_browser: Annotated[bool, typer.Option("--no-browser", help="Do not open the page.")] = False,
    home: HomeOption = None,
) -> None:
    """Start Brae."""
    from brae.cli.server import serve as start

    with errors():
        start(home, port, not no_browser)


__all__ = [
    "app",
    "archives",
    "find",
    "kinds",
    "layouts",
    "look",
    "palettes",
    "projects",
    "recolour",
    "sizes",
    "sprites",
    "voices",
]


def window() -> None:
    """Start Brae for a click: no console, the page opens by itself and can end it again."""
    app(["serve"], standalone_mode=False)
