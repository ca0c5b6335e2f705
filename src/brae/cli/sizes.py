"""``brae sizes``: one picture in all the sizes that its siblings have."""

from __future__ import annotations

import re
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from brae.cli.app import HomeOption, JsonOption, app
from brae.cli.output import bar, errors, readable, say

if TYPE_CHECKING:
    from brae.core.recolour.space import Floats


@app.command()
def sizes(
    master: Annotated[Path, typer.Argument(help="The new picture, as large as the largest size or larger.")],
    like: Annotated[
        list[str],
        typer.Option(help="The originals of all sizes: folders, archives or pictures. May be said several times."),
    ],
    out: Annotated[Path, typer.Option("-o", "--out", help="The folder for a PNG of each size.")],
    shading: Annotated[
        Path | None, typer.Option(help="Also write what lies over each size, as pictures, to this folder.")
    ] = None,
    over: Annotated[
        Path | None, typer.Option(help="Pictures WIDTHxHEIGHT.png, each laid over that size instead.")
    ] = None,
    sharpen: Annotated[float, typer.Option(min=0, max=2, help="How much edges are raised in each size.")] = 0,
    middle: Annotated[
        str, typer.Option(help="X,Y of 0 to 1: around what it is cropped to another shape.")
    ] = "0.5,0.5",
    home: HomeOption = None,
    as_json: JsonOption = False,
) -> None:
    """One picture in every size of its siblings: with their mask, their frame and their shading."""
    from collections import Counter

    import numpy as np

    from brae.cli.targets import check_file, pictures_in
    from brae.core.assets.registry import kinds
    from brae.core.assets.texture.files import read_image, write_image
    from brae.core.atomic import write_atomically
    from brae.core.errors import BraeError, FormatError
    from brae.core.recolour.files import numbers
    from brae.core.sizes.families import ENOUGH, Sibling, make, sizes_of, told
    from brae.core.sizes.shading import covering

    def eight(picture: Floats) -> np.ndarray[Any, Any]:
        return np.asarray(np.round(np.clip(picture, 0, 1) * 255).astype(np.uint8))

    with errors(as_json):
        check_file(master)
        place = re.fullmatch(r"([01]|[01]?\.\d{1,6}),([01]|[01]?\.\d{1,6})", middle)
        if place is None or max(float(place[1]), float(place[2])) > 1:
            raise FormatError(f"--middle {middle} is not known.", expected="X,Y of 0 to 1, such as 0.5,0.3")
        around = (float(place[1]), float(place[2]))
        art = numbers(read_image(master.read_bytes(), master.name).picture)
        items = pictures_in(like, home, out)
        siblings, faults = [], []
        of_size: Counter[tuple[int, ...]] = Counter()
        with bar("look at", len(items)) as tick:
            for one, _ in items:
                tick()
                try:
                    kind = kinds()[one.item.kind]
                    sent = kind.send(kind.read(*one.read()))
                    picture = read_image(sent.data, sent.name).picture
                    of_size[picture.shape] += 1
                    if of_size[picture.shape] <= ENOUGH:  # more of them would fill the memory, and tell no more
                        siblings.append(Sibling(one.address, numbers(picture)))
                except BraeError as error:
                    faults.append(error.at(one.address).as_dict())
        found = sizes_of(siblings)
        made: list[dict[str, Any]] = []
        pictures = []
        for size, line in zip(found, told(found), strict=True):
            made_of = make(art, size, sharpen=sharpen, middle=around)
            laid = over / f"{size.name}.png" if over is not None else None
            if laid is not None and laid.is_file():
                cover = numbers(read_image(laid.read_bytes(), laid.name).picture)
                if cover.shape != made_of.shape:
                    raise FormatError(f"{laid} has {cover.shape[1]} x {cover.shape[0]} pixels.", expected=size.name)
                made_of = make(art, size, covering(cover), sharpen=sharpen, middle=around)
            pictures.append(made_of)
            made.append({**line, "file": str(out / f"{master.stem}_{size.name}.png")})
        # All of them are known before the first is written.
        for size, made_of, line in zip(found, pictures, made, strict=True):
            write_atomically(Path(line["file"]), write_image(eight(made_of), "png"))
            if shading is not None:
                white = np.ones((size.height, size.width, 4), np.float32)
                black = np.dstack([white[..., :3] * 0, white[..., 3]])
                for name, ground in (("light", black), ("dark", white)):
                    shown = size.shading.on(ground)
                    write_atomically(shading / f"{size.name}_{name}.png", write_image(eight(shown), "png"))
        words = [
            f"{line['file']}: like {line['siblings']:,} originals"
            + (f", {line['pairs']:,} of them beside the same in a larger size" if line["pairs"] else "")
            for line in made
        ]
        say({"sizes": made, "faults": faults}, readable("\n".join(words)), as_json)
        for fault in faults:
            typer.echo(readable(f"brae: {fault['address']}: {fault['message']}"), err=True)
