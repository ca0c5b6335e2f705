"""``brae look``: what lies in a file that nobody has described."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from brae.cli.app import HomeOption, JsonOption, PathArgument, app
from brae.cli.output import bar, errors, readable, say
from brae.core.errors import NotFoundError, ReadOnlyError, storage_error

if TYPE_CHECKING:
    from brae.core.catalogue import Item
    from brae.core.containers.scattered import Scattered


@app.command()
def look(
    file: PathArgument,
    out: Annotated[
        Path | None, typer.Option("-o", "--out", help="A folder for the files; with --from the new file.")
    ] = None,
    source: Annotated[
        Path | None, typer.Option("--from", help="Such a folder, whose changed files are put back in place.")
    ] = None,
    home: HomeOption = None,
    as_json: JsonOption = False,
) -> None:
    """Files of open formats in a file that nobody has described, found by their signs."""
    from brae.cli.targets import check_file, library_for
    from brae.core.catalogue import catalogue
    from brae.core.containers.scattered import Scattered
    from brae.core.signs.scan import WINDOW
    from brae.core.sources import FileSource

    with errors(as_json):
        check_file(file)
        if source is not None and out is None:
            raise NotFoundError("There is no name for the new file.", remedy="Name it with -o.")
        with FileSource(file) as whole:
            with bar("look", -(-whole.size // WINDOW)) as tick:
                found = Scattered.of(whole, lambda amount: tick())
            if source is not None and out is not None:
                _put_back(file, found, source, out, as_json)
                return
            items = list(catalogue(found, library_for(file, home)))
            if out is not None:
                _write(found, out)
            told = [_told(found, number, item) for number, item in enumerate(items)]
            lines = [
                f"{one['offset']:>12,}  {one['length']:>12,} bytes  {one['kind']:<8} {one['format'] or 'data'}"
                + (f", packed as {one['packed']}" if one["packed"] else "")
                for one in told
            ]
            lines.append(f"{len(told):,} files found by their signs" + (f", in {out}" if out is not None else ""))
            said = {"file": str(file), "size": whole.size, "found": told, "left_out": found.left_out}
            say(said, "\n".join([*lines, *found.left_out]), as_json)


def _told(found: Scattered, number: int, item: Item) -> dict[str, Any]:
    hit = found.hits[number]
    return {
        "offset": hit.offset,
        "length": hit.length,
        "kind": item.kind,
        "format": found.formats[number] or item.container,
        "packed": hit.packed,
        "real": hit.real,
        "name": found.names[number],
    }


def _write(found: Scattered, out: Path) -> None:
    from brae.core.assets.folders import unpack

    with bar("write", len(found)) as tick:
        for fault in unpack(found, out, tick):
            typer.echo(readable(f"brae: {fault}"), err=True)


def _put_back(file: Path, found: Scattered, source: Path, out: Path, as_json: bool) -> None:
    """The file with what differs in a folder; nothing moves, and nothing is written where one does not fit."""
    from brae.core.assets.folders import member_paths
    from brae.core.atomic import replace
    from brae.core.layouts.edits import Edits
    from brae.core.layouts.segments import write_beside
    from brae.core.sources import MAIN

    if not source.is_dir():
        raise NotFoundError(f"There is no folder {source}.")
    if out.exists() and out.samefile(file):
        raise ReadOnlyError("The original is never overwritten.", address=str(out), remedy="Choose another name.")
    changes = {}
    for number, path in enumerate(member_paths(found.names)):
        edited = source / path
        if edited.is_file() and (data := edited.read_bytes()) != found.read(number):
            changes[number] = found.pack(number, data, found.packing_level(number))
    composed = found.patch(Edits(changed=changes))
    draft = out.with_name(f".{out.name}.brae-new")
    try:
        out.parent.mkdir(parents=True, exist_ok=True)
        write_beside(composed, MAIN, draft)
        replace(draft, out)
    except OSError as error:
        raise storage_error(error, "write", out) from error
    finally:
        draft.unlink(missing_ok=True)
    names = [found.names[number] for number in changes]
    say({"changed": names, "file": str(out)}, f"{len(names)} of {len(found):,} files changed: {out}", as_json)
