"""Words about menu screens: screen."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from brae.cli.app import HomeOption, JsonOption, LayoutOption, app
from brae.cli.output import errors, readable, say


@app.command()
def screen(
    file: Annotated[str, typer.Argument(help="A screen (inside an archive: ARCHIVE//MEMBER).")],
    source: Annotated[
        Path | None, typer.Option("--from", help="Rectangles as JSON, as this command tells them with --json.")
    ] = None,
    out: Annotated[Path | None, typer.Option("-o", "--out", help="The screen with those rectangles.")] = None,
    anyway: Annotated[bool, typer.Option("--anyway", help="Write it also where the game would refuse it.")] = False,
    layout: LayoutOption = None,
    home: HomeOption = None,
    as_json: JsonOption = False,
) -> None:
    """The rectangles of a menu screen, what each does; or a screen with others."""
    from dataclasses import replace

    from brae.cli.targets import kind_of, read_target
    from brae.cli.writing import spare
    from brae.core.assets.registry import kinds
    from brae.core.assets.screen.matching import put_right
    from brae.core.assets.screen.screen import ScreenFile, from_json
    from brae.core.assets.sheet import Finding
    from brae.core.atomic import write_atomically
    from brae.core.errors import FormatError, storage_error

    with errors(as_json):
        if (source is None) != (out is None):
            raise FormatError("--from FILE and -o FILE go together.")
        target = read_target(file, home)
        context = target.context
        if layout is not None:
            named = kind_of(layout, context.library)
            context = replace(context, layout=context.library.get(named or layout))
        found = kinds()["screen"].read(target.data, context)
        assert isinstance(found, ScreenFile)
        head = found.picture.header
        areas = found.areas
        findings: list[Finding] = []
        if source is not None and out is not None:
            try:
                areas = from_json(source.read_bytes(), str(source))
            except OSError as error:
                raise storage_error(error, "read", source) from error
            areas, findings = put_right(found, areas, (), head.width, head.height)
            spare([Path(file)], [out])
            stops = [one for one in findings if one.severity == "stops"]
            if stops and not anyway:
                say({"findings": [one.model_dump() for one in findings]}, stops[0].title, as_json)
                raise typer.Exit(3)
            write_atomically(out, found.rewrite(areas))
        lines = [f"{head.width} x {head.height}, {len(areas)} rectangles"]
        for number, area in enumerate(areas):
            said = ", ".join(
                f"{role} {found.meaning(role).get(value, value)}" for role, value in area.numbers.items()
            )
            place = f"{area.x:>5},{area.y:>5} {area.width:>5} x {area.height:<5}"
            lines.append(f"{number:>4} {place} {area.label or ''}  {said}")
        lines += [f"      {one.title}: {one.in_game}" for one in findings]
        content = {
            "width": head.width,
            "height": head.height,
            "areas": [area.model_dump(exclude_none=True) for area in areas],
            "findings": [one.model_dump() for one in findings],
        }
        say(content, readable("\n".join(lines)), as_json)
