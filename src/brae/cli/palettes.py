"""``brae palette``: the best palette for many pictures at once."""

from __future__ import annotations

import re
from fnmatch import fnmatch
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from brae.cli.app import HomeOption, JsonOption, app
from brae.cli.output import errors, readable, say
from brae.core.errors import FormatError

if TYPE_CHECKING:
    from brae.core.palettes.best import Colours, Reserved

_RESERVE = re.compile(r"(\d{1,5})(?:=(#[0-9a-fA-F]{6}|transparent))?")
_NUMBER = re.compile(r"\d{1,7}(\.\d{1,6})?")
_DEPTHS = {"888": (8, 8, 8), "565": (5, 6, 5), "555": (5, 5, 5), "444": (4, 4, 4), "666": (6, 6, 6)}


@app.command()
def palette(
    files: Annotated[list[str], typer.Argument(help="Pictures, textures, folders or archives (FILE//MEMBER).")],
    out: Annotated[Path, typer.Option("-o", "--out", help="The palette: .pal (RIFF), .png or .json.")],
    colours: Annotated[int, typer.Option(help="Entries, with the reserved ones.")] = 256,
    reserve: Annotated[
        list[str] | None,
        typer.Option(help="An entry that is kept: INDEX (not used), INDEX=#rrggbb, INDEX=transparent."),
    ] = None,
    depth: Annotated[
        str, typer.Option(help="Bits of each channel that the game stores: 888 565 555 444 666.")
    ] = "888",
    way: Annotated[
        str, typer.Option("--for", help="pictures (as the eye sees) or numbers (packed data).")
    ] = "pictures",
    weight: Annotated[
        list[str] | None,
        typer.Option(help="How much pixels of some files count: PATTERN=NUMBER, as 'hero*=5'; others 1."),
    ] = None,
    dither: Annotated[
        str, typer.Option(help="Of --remap: none, ordered (a fixed pattern) or diffused (Floyd-Steinberg).")
    ] = "none",
    remap: Annotated[
        Path | None, typer.Option(help="A folder: every picture as an indexed PNG in these colours.")
    ] = None,
    home: HomeOption = None,
    as_json: JsonOption = False,
) -> None:
    """The best palette for all of some pictures at once; how much each of them loses is told."""
    import numpy as np

    from brae.core.assets.folders import check_link
    from brae.core.atomic import write_atomically
    from brae.core.palettes.best import best
    from brae.core.palettes.dither import Ditherer
    from brae.core.palettes.files import described, indexed, written
    from brae.core.palettes.loss import loss

    with errors(as_json):
        if depth not in _DEPTHS:
            raise FormatError(f"--depth {depth} is not known.", expected=", ".join(_DEPTHS))
        if way not in ("pictures", "numbers"):
            raise FormatError(f"--for {way} is not known.", expected="pictures or numbers")
        if dither not in ("none", "ordered", "diffused"):
            raise FormatError(f"--dither {dither} is not known.", expected="none, ordered or diffused")
        how: Any = "numbers" if way == "numbers" else "as seen"
        pictures = _pictures(files, home, remap)
        found = best(
            [picture for _, picture in pictures],
            colours,
            _reserved(reserve or []),
            way=how,
            weights=_weights(weight or [], [path for path, _ in pictures]),
            depth=_DEPTHS[depth],
        )
        write_atomically(out, written(found, out.suffix.lower()))
        told: list[dict[str, Any]] = []
        mapper = Ditherer(found, dither, how)  # type: ignore[arg-type]
        for path, picture in pictures:
            indices = mapper.mapped(picture)
            told.append({"file": path} | loss(picture, found.colours[indices]))
            if remap is not None:
                # Its whole name is kept: a.dds and a.png are two.
                target = remap / (path if path.lower().endswith(".png") else f"{path}.png")
                check_link(target)
                write_atomically(target, indexed(indices, found))
        used = int(np.count_nonzero(found.usable))
        lines = [f"{line['mean']:>7.2f} {line['p95']:>7.2f}  {line['file']}" for line in told]
        lines = ["   mean     95%  CIEDE2000", *lines, f"{out}: {used} of {colours} entries in use"]
        content = {"file": str(out), "used": used, "entries": described(found), "pictures": told}
        say(content, readable("\n".join(lines)), as_json)


def _pictures(files: list[str], home: Path | None, out: Path | None) -> list[tuple[str, Colours]]:
    """Each picture, uint8 (height, width, 4), with the path for its copy."""
    import numpy as np

    from brae.cli.targets import pictures_in
    from brae.core.assets.registry import kinds
    from brae.core.assets.texture.files import read_image

    found = []
    for one, path in pictures_in(files, home, out):
        kind = kinds()[one.item.kind]
        sent = kind.send(kind.read(*one.read()))
        picture = read_image(sent.data, sent.name).picture
        if picture.dtype.kind == "f":
            raise FormatError("Pictures that hold light (HDR) have no palette.", address=one.address)
        shift = 8 * (picture.dtype.itemsize - 1)
        found.append((path, np.asarray(picture >> shift if shift else picture, np.uint8)))
    return found


def _weights(words: list[str], paths: list[str]) -> list[float]:
    """How much a pixel of each file counts; of several patterns that fit the last."""
    weights = [1.0] * len(paths)
    for word in words:
        pattern, _, number = word.rpartition("=")
        if not pattern or not _NUMBER.fullmatch(number) or not 0 < float(number) <= 1e6:
            raise FormatError(f"--weight {word} is not known.", expected="PATTERN=NUMBER, such as 'hero*=5'")
        found = [at for at, path in enumerate(paths) if fnmatch(path, pattern) or fnmatch(Path(path).name, pattern)]
        if not found:
            raise FormatError(f"--weight {word}: none of the files is called so.", expected=paths[0])
        for at in found:
            weights[at] = float(number)
    return weights


def _reserved(words: list[str]) -> Reserved:
    from brae.core.palettes.best import Reserved
    from brae.core.recolour.steps import numbers_of

    colours: dict[int, tuple[int, int, int] | None] = {}
    transparent: int | None = None
    for word in words:
        found = _RESERVE.fullmatch(word)
        if found is None:
            raise FormatError(
                f"--reserve {word} is not known.", expected="INDEX, INDEX=#rrggbb or INDEX=transparent"
            )
        index, value = int(found[1]), found[2]
        if value == "transparent":
            transparent = index
        elif value is None:
            colours[index] = None
        else:
            red, green, blue = (round(float(part) * 255) for part in numbers_of(value))
            colours[index] = (red, green, blue)
    return Reserved(colours, transparent)
