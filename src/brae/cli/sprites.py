"""``brae frames`` and ``brae drift``: a sheet's frames as a moving file, and how far those of an edit moved."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from brae.cli.app import HomeOption, JsonOption, app
from brae.cli.output import errors, readable, say
from brae.core.errors import FormatError

if TYPE_CHECKING:
    from brae.core.sprites.frames import Frame, Picture

CellOption = Annotated[str | None, typer.Option("--cell", help="The size of a frame in a grid, such as 32x48.")]
FramesOption = Annotated[
    Path | None,
    typer.Option("--frames", help='Rectangles as JSON: {"frames": [{"x", "y", "width", "height", "ms"}]}.'),
]


@app.command()
def frames(
    sheet: Annotated[str, typer.Argument(help="A sheet: a picture or a texture (inside archives: FILE//MEMBER).")],
    out: Annotated[Path, typer.Option("-o", "--out", help="A .gif or .apng; without an ending a folder of PNGs.")],
    cell: CellOption = None,
    rectangles: FramesOption = None,
    ms: Annotated[int | None, typer.Option(min=1, max=655_350, help="Milliseconds of every frame.")] = None,
    home: HomeOption = None,
    as_json: JsonOption = False,
) -> None:
    """A sheet's frames as a GIF, an APNG, or numbered pictures."""
    from brae.core.assets.texture.files import write_image
    from brae.core.atomic import write_atomically
    from brae.core.sprites.frames import same_size
    from brae.core.sprites.moving import gif_times, written

    with errors(as_json):
        picture = _sheet(sheet, home)
        found = _frames(picture, cell, rectangles)
        times = [one.ms if ms is None else ms for one in found]
        if out.suffix:
            write_atomically(out, written(same_size(found, picture), times, out.suffix.lower()))
            if out.suffix.lower() == ".gif":
                times = gif_times(times)
        else:
            for number, one in enumerate(found):
                write_atomically(out / f"{number:04}.png", write_image(one.of(picture), "png"))
        seconds = sum(times) / 1000
        say(
            {"file": str(out), "frames": len(found), "milliseconds": times},
            f"{out}: {len(found)} frames, {seconds:.2f} s",
            as_json,
        )


@app.command()
def drift(
    original: Annotated[str, typer.Argument(help="The sheet as the game has it.")],
    edit: Annotated[str, typer.Argument(help="The sheet as it came back.")],
    cell: CellOption = None,
    rectangles: FramesOption = None,
    home: HomeOption = None,
    as_json: JsonOption = False,
) -> None:
    """How far each frame of an edit moved, and what was painted on it; frames that jump are told."""
    from dataclasses import asdict

    from brae.core.sprites.drift import drift as drift_of

    with errors(as_json):
        before, after = _sheet(original, home), _sheet(edit, home)
        if before.shape != after.shape:
            sides = [f"{one.shape[1]} x {one.shape[0]}" for one in (after, before)]
            raise FormatError(
                f"The edit has {sides[0]} pixels, the original {sides[1]}.", remedy="Resize it first."
            )
        found = _frames(before, cell, rectangles)
        told = drift_of([one.of(before) for one in found], [one.of(after) for one in found])
        lines = [f"{'frame':>5} {'dx':>7} {'dy':>7} {'sure':>6}   what was painted"]
        for one in told:
            part = "-" if one.painted is None else f"{one.painted.dx:+.2f} {one.painted.dy:+.2f}"
            mark = "   jumps" if one.jumps else ""
            numbers = f"{one.whole.dx:>+7.2f} {one.whole.dy:>+7.2f} {one.whole.sure:>6.2f}"
            lines.append(f"{one.frame:>5} {numbers}   {part}{mark}")
        say({"frames": [_flat(asdict(one)) for one in told]}, readable("\n".join(lines)), as_json)


def _flat(told: dict[str, object]) -> dict[str, object]:
    """``dx``, ``dy`` and ``sure`` of the whole frame beside its number."""
    whole = told.pop("whole")
    assert isinstance(whole, dict)
    return {"frame": told["frame"], **whole, "painted": told["painted"], "jumps": told["jumps"]}


def _sheet(target: str, home: Path | None) -> Picture:
    import numpy as np

    from brae.cli.targets import read_target
    from brae.core.assets.texture.files import read_image

    found = read_target(target, home)
    if found.kind is None or not found.kind.pictured:
        raise FormatError("This is no picture.", address=target)
    sent = found.kind.send(found.kind.read(found.data, found.context))
    picture = read_image(sent.data, sent.name).picture
    if picture.dtype != np.uint8:
        raise FormatError("Sheets of more than 8 bits are not read yet.", address=target)
    return picture


def _frames(sheet: Picture, cell: str | None, rectangles: Path | None) -> list[Frame]:
    from brae.core.sprites.frames import grid, listed

    if (cell is None) == (rectangles is None):
        raise FormatError("Say either --cell WxH or --frames FILE.")
    return grid(sheet, cell) if cell is not None else listed(rectangles or Path(), sheet)
