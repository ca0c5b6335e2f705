"""``brae frames`` and ``brae drift``: a sheet's frames as a moving file, and how far those of an edit moved."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from brae.cli.app import HomeOption, JsonOption, app
from brae.cli.output import errors, readable, say
from brae.core.errors import FormatError

if TYPE_CHECKING:
    from collections.abc import Sequence

    from brae.core.assets.sprite.described import SpriteFile
    from brae.core.assets.sprite.sprite import Step
    from brae.core.sprites.drift import Drift
    from brae.core.sprites.frames import Frame, Picture

#: a grid that fits less is not taken without being asked for
_LIKELY = 0.6
CellOption = Annotated[str | None, typer.Option("--cell", help="The size of a frame in a grid, such as 32x48.")]
FramesOption = Annotated[
    Path | None,
    typer.Option("--frames", help='Rectangles as JSON: {"frames": [{"x", "y", "width", "height", "ms"}]}.'),
]


@app.command()
def frames(
    sheet: Annotated[
        str,
        typer.Argument(help="A sheet: a picture or a texture (FILE//MEMBER); or a folder of numbered PNGs."),
    ],
    out: Annotated[
        Path,
        typer.Option("-o", "--out", help="A .gif or .apng; without an ending a folder; of a folder a sheet."),
    ],
    like: Annotated[
        str | None, typer.Option(help="Of a folder: the sheet or sprite in which its frames are put back.")
    ] = None,
    cell: CellOption = None,
    rectangles: FramesOption = None,
    ms: Annotated[int | None, typer.Option(min=1, max=655_350, help="Milliseconds of every frame.")] = None,
    sequence: Annotated[
        str | None, typer.Option("--sequence", help="Of a sprite that a layout describes: by name or number.")
    ] = None,
    home: HomeOption = None,
    as_json: JsonOption = False,
) -> None:
    """A sheet's frames as a GIF, an APNG, or numbered pictures; and numbered pictures as a sheet again."""
    from brae.core.assets.texture.files import write_image
    from brae.core.atomic import write_atomically
    from brae.core.sprites.frames import same_size
    from brae.core.sprites.moving import gif_times, written

    with errors(as_json):
        if Path(sheet).is_dir():
            _put_together(Path(sheet), out, like, cell, rectangles, sequence, home, as_json)
            return
        if like is not None:
            raise FormatError("--like is for a folder of numbered pictures.")
        sprite = _sprite(sheet, home) if cell is None and rectangles is None else None
        if sprite is not None:
            steps = _steps(sprite, sequence)
            pictures = [sprite.sprite.on_canvas(step.frame) for step in steps]
            times = [step.ms if ms is None else ms for step in steps]
        else:
            picture = _sheet(sheet, home)
            found = _frames(picture, cell, rectangles)
            times = [one.ms if ms is None else ms for one in found]
            pictures = same_size(found, picture) if out.suffix else [one.of(picture) for one in found]
        if out.suffix:
            write_atomically(out, written(pictures, times, out.suffix.lower()))
            if out.suffix.lower() == ".gif":
                times = gif_times(times)
        else:
            for number, one in enumerate(pictures):
                write_atomically(out / f"{number:04}.png", write_image(one, "png"))
        seconds = sum(times) / 1000
        say(
            {"file": str(out), "frames": len(pictures), "milliseconds": times},
            f"{out}: {len(pictures)} frames, {seconds:.2f} s",
            as_json,
        )


def _put_together(
    folder: Path, out: Path, like: str | None, cell: str | None, rectangles: Path | None, sequence: str | None,
    home: Path | None, as_json: bool,
) -> None:  # fmt: skip
    """Numbered pictures in their places; frames that are not among them stay as they are."""
    from brae.core.assets.sprite.matching import arranged
    from brae.core.assets.texture.files import write_image
    from brae.core.atomic import write_atomically
    from brae.core.sprites.frames import numbered, put_back

    if like is None:
        raise FormatError("Say with --like in which sheet or sprite the frames belong.")
    pictures = numbered(folder)
    sprite = _sprite(like, home) if cell is None and rectangles is None else None
    if sprite is None:
        sheet = _sheet(like, home)
        frames = _frames(sheet, cell, rectangles)
        made, count = put_back(sheet, frames, pictures), len(frames)
    else:
        steps = _steps(sprite, sequence)
        cells, canvas, count = list(sprite.cells), sprite.sprite.canvas, len(steps)
        for number, picture in pictures.items():
            if number >= count:
                raise FormatError(f"There is no step {number}.", expected=f"0 to {count - 1}")
            if picture.shape[:2] != (canvas.height, canvas.width):
                raise FormatError(
                    f"Picture {number} has {picture.shape[1]} x {picture.shape[0]} pixels.",
                    expected=f"{canvas.width} x {canvas.height}",
                )
            frame = sprite.sprite.frames[steps[number].frame]
            if sprite.sheet is not None:  # its frames lie in the sheet by themselves
                left, top = frame.x - canvas.left, frame.y - canvas.top
                picture = picture[top : top + frame.height, left : left + frame.width]
            cells[steps[number].frame] = picture
        made = arranged(sprite, cells)
    write_atomically(out, write_image(made, out.suffix[1:].lower() or "png"))
    missing = [number for number in range(count) if number not in pictures]
    words = f"{out}: {len(pictures)} of {count} frames put back"
    say({"file": str(out), "frames": len(pictures), "missing": missing}, words, as_json)


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
    from brae.core.sprites.drift import drift as drift_of

    with errors(as_json):
        sprite = _sprite(original, home) if cell is None and rectangles is None else None
        if sprite is not None:
            _say_drift(_drift_of(sprite, edit, home), as_json)
            return
        before, after = _sheet(original, home), _sheet(edit, home)
        if before.shape != after.shape:
            sides = [f"{one.shape[1]} x {one.shape[0]}" for one in (after, before)]
            raise FormatError(
                f"The edit has {sides[0]} pixels, the original {sides[1]}.", remedy="Resize it first."
            )
        found = _frames(before, cell, rectangles)
        told = drift_of([one.of(before) for one in found], [one.of(after) for one in found])
        _say_drift(told, as_json)


def _say_drift(told: Sequence[Drift], as_json: bool) -> None:
    """A line for each frame."""
    from dataclasses import asdict

    lines = [f"{'frame':>5} {'dx':>7} {'dy':>7} {'sure':>6}   what was painted"]
    for one in told:
        part = "-" if one.painted is None else f"{one.painted.dx:+.2f} {one.painted.dy:+.2f}"
        mark = "   jumps" if one.jumps else ""
        numbers = f"{one.whole.dx:>+7.2f} {one.whole.dy:>+7.2f} {one.whole.sure:>6.2f}"
        lines.append(f"{one.frame:>5} {numbers}   {part}{mark}")
    if not told:
        lines = ["nothing was painted"]
    say({"frames": [_flat(asdict(one)) for one in told]}, readable("\n".join(lines)), as_json)


def _flat(told: dict[str, object]) -> dict[str, object]:
    """``dx``, ``dy`` and ``sure`` of the whole frame beside its number."""
    whole = told.pop("whole")
    assert isinstance(whole, dict)
    return {"frame": told["frame"], **whole, "painted": told["painted"], "jumps": told["jumps"]}


def _sprite(target: str, home: Path | None) -> SpriteFile | None:
    """A sprite that a layout describes; None where the target is none."""
    from brae.cli.targets import read_target
    from brae.core.assets.sprite.described import SpriteFile

    found = read_target(target, home)
    if found.kind is None or found.kind.id != "sprite":
        return None
    asset = found.kind.read(found.data, found.context)
    assert isinstance(asset, SpriteFile)
    return asset


def _steps(sprite: SpriteFile, sequence: str | None) -> Sequence[Step]:
    """The steps of a sequence by its name or number; without one, of the first."""
    runs = sprite.sprite.sequences
    named = [run for number, run in enumerate(runs) if sequence in (None, run.name, str(number))]
    if not named or not named[0].steps:
        raise FormatError(
            f"There is no sequence '{sequence}'." if sequence else "This sprite has no frames.",
            expected=", ".join(run.name for run in runs) or None,
        )
    return named[0].steps


def _drift_of(sprite: SpriteFile, edit: str, home: Path | None) -> Sequence[Drift]:
    """The drift of an edit (a sheet, or a sprite's file) of a sprite, sequence by sequence."""
    from brae.core.assets.sprite.looking import as_shown
    from brae.core.assets.sprite.matching import drifts, sides_of, split

    other = _sprite(edit, home)
    if other is not None:
        return drifts(sprite, as_shown(sprite, other))
    sheet = _sheet(edit, home)
    wanted = sides_of(sprite)
    if sheet.shape[:2] != wanted:
        raise FormatError(
            f"The edit has {sheet.shape[1]} x {sheet.shape[0]} pixels.", expected=f"{wanted[1]} x {wanted[0]}"
        )
    return drifts(sprite, split(sprite, sheet))


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
    from brae.core.sprites.gridding import proposed

    if cell is not None and rectangles is not None:
        raise FormatError("Say either --cell WxH or --frames FILE.")
    if cell is None and rectangles is None:
        likely = proposed(sheet)
        if not likely or likely[0].fit < _LIKELY:
            near = ", ".join(one.words for one in likely)
            raise FormatError(
                "Where the frames lie is not clear: say --cell WxH or --frames FILE.", expected=near or None
            )
        cell = likely[0].words
    return grid(sheet, cell) if cell is not None else listed(rectangles or Path(), sheet)
