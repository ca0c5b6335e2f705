"""Layouts that are given to others and taken from them, and which of them know a game."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from brae.cli.app import HomeOption, JsonOption, app
from brae.cli.output import errors, say
from brae.core.errors import FormatError, NotFoundError, ReadOnlyError


@app.command()
def share(
    layout: Annotated[Path, typer.Argument(help="A layout's file.")],
    files: Annotated[list[Path], typer.Argument(help="Archives that it is proved on: its test.")],
    out: Annotated[Path, typer.Option("-o", "--out", help="The file to give away (NAME.shared.yaml).")],
    version: Annotated[str, typer.Option(help="Of the description, such as 1.2.")] = "1",
    author: Annotated[str, typer.Option(help="Who made it.")] = "",
    licence: Annotated[str, typer.Option(help="An SPDX identifier, such as CC0-1.0.")] = "",
    as_json: JsonOption = False,
) -> None:
    """A layout with its author, licence, names and test in one file, to give to others."""
    from brae.core.assets.said import check
    from brae.core.atomic import write_atomically
    from brae.core.containers.shared import Shared, as_test, write_shared
    from brae.core.layouts.load import parse

    with errors(as_json):
        if not layout.is_file():
            raise NotFoundError(f"There is no file {layout}.")
        if out.exists():
            raise ReadOnlyError("There is a file already, and it is not replaced.", address=str(out))
        text = layout.read_text(encoding="utf-8")
        described = parse(text, layout.name, check)
        beside = layout.with_name(f"{described.layout}.names.txt")
        names = beside.read_text(encoding="utf-8", errors="surrogateescape") if beside.is_file() else ""
        lines = [line.strip() for line in names.splitlines() if line.strip()]
        tests = [as_test(described, lines, file) for file in files]
        says = Shared(
            shared=1, version=version, author=author, licence=licence, tested=tests, names=names, layout=text
        )
        write_atomically(out, write_shared(says).encode())
        words = f"{described.title}, version {version}, tested on {len(tests)} files: {out}"
        say(
            {"layout": described.layout, "version": version, "tested": len(tests), "file": str(out)}, words, as_json
        )


@app.command()
def adopt(
    file: Annotated[Path, typer.Argument(help="A shared layout.")],
    files: Annotated[list[Path] | None, typer.Argument(help="Archives of your own to try it on.")] = None,
    home: HomeOption = None,
    anyway: Annotated[bool, typer.Option("--anyway", help="Also where it is not proved on all of them.")] = False,
    as_json: JsonOption = False,
) -> None:
    """Take a layout that somebody shared: it is tried on your files first, then used for every game."""
    from brae.core.assets.said import check
    from brae.core.containers.shared import read_shared, tried
    from brae.core.places import layouts_in, usual_place
    from brae.work.layouts import keep, use

    with errors(as_json):
        if not file.is_file():
            raise NotFoundError(f"There is no file {file}.")
        text = file.read_text(encoding="utf-8")
        given = read_shared(text, check)
        trials = [tried(given, one, str(one)) for one in files or []]
        lines = [f"{one.path}: {one.outcome}, {one.members:,} members {one.words}".rstrip() for one in trials]
        wrong = [one for one in trials if one.outcome != "proved"]
        if wrong and not anyway:
            raise FormatError(
                f"It is not proved on {len(wrong)} of {len(trials)} files: {wrong[0].path}: {wrong[0].words}",
                remedy="It is not used. Look at the file, or take it with --anyway.",
            )
        own = layouts_in(home or usual_place())
        version = keep(own, given, text)
        use(own, given.layout.layout, version)
        result = {
            "layout": given.layout.layout, "version": version, "author": given.says.author,
            "licence": given.says.licence, "trials": [vars(one) for one in trials],
        }  # fmt: skip
        say(result, "\n".join([*lines, f"{given.layout.title}, version {version}, is used now."]), as_json)
