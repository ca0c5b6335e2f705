"""``brae recolour``: one change of colours over many pictures."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from brae.cli.app import HomeOption, JsonOption, app
from brae.cli.output import bar, errors, readable, say

if TYPE_CHECKING:
    from brae.core.find.folder import HeldItem


@app.command()
def recolour(
    steps: Annotated[Path, typer.Argument(help="The steps, as YAML (docs/recolour.md).")],
    files: Annotated[list[str], typer.Argument(help="Pictures, textures, folders or archives (FILE//MEMBER).")],
    out: Annotated[Path, typer.Option("-o", "--out", help="The folder for the new ones, under their own paths.")],
    home: HomeOption = None,
    as_json: JsonOption = False,
) -> None:
    """Change the colours of many pictures by the same steps; each is written like it was."""
    import os
    from concurrent.futures import ThreadPoolExecutor

    from brae.cli.targets import check_file, pictures_in
    from brae.core.assets.folders import check_link
    from brae.core.assets.registry import kinds
    from brae.core.atomic import write_atomically
    from brae.core.errors import BraeError, StorageError
    from brae.core.recolour.files import Changer, beside, recoloured, steps_in

    with errors(as_json):
        check_file(steps)
        change, load = steps_in(steps), beside(steps)
        for name in change.named():  # what is missing is told before anything is written
            load(name)
        items, changer = pictures_in(files, home, out), Changer(change, load)

        def work(item: tuple[HeldItem, str]) -> dict[str, Any]:
            one, path = item
            try:
                data, sheet = recoloured(kinds()[one.item.kind], *one.read(), changer)
                check_link(out / path)
                write_atomically(out / path, data)
            except StorageError:
                raise
            except BraeError as error:
                return {"address": one.address, "fault": error.at(one.address).as_dict()}
            told = [finding.model_dump() for finding in sheet.open_findings]
            return {"address": one.address, "file": str(out / path), "bytes": len(data), "findings": told}

        with ThreadPoolExecutor(os.cpu_count()) as pool, bar("recolour", len(items)) as tick:
            made = []
            for answer in pool.map(work, items):
                made.append(answer)
                tick()
        failed = [one["fault"] for one in made if "fault" in one]
        done = [one for one in made if "fault" not in one]
        lines = [f"{one['file']}: {one['bytes']:,} bytes" for one in done]
        lines.append(f"{len(done):,} of {len(made):,} recoloured")
        say({"recoloured": done, "failed": failed}, readable("\n".join(lines)), as_json)
        for fault in failed:
            typer.echo(readable(f"brae: {fault['address']}: {fault['message']}"), err=True)
        if failed:
            raise typer.Exit(1)
