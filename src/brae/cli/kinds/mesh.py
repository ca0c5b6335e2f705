"""Words about models: overlay."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from brae.cli.app import HomeOption, JsonOption, LayoutOption, app
from brae.cli.output import errors, say


@app.command()
def overlay(
    model: Annotated[str, typer.Argument(help="A model (inside an archive: ARCHIVE//MEMBER).")],
    texture: Annotated[str, typer.Option("--texture", help="The picture or texture that lies on it.")],
    out: Annotated[Path, typer.Option("-o", "--out", help="The drawing: .svg or .png.")],
    layout: LayoutOption = None,
    home: HomeOption = None,
    as_json: JsonOption = False,
) -> None:
    """Where a texture lies on a model: its triangles over the picture, for an image editor."""
    import io
    from dataclasses import replace

    from PIL import Image

    from brae.cli.targets import kind_of, read_target
    from brae.core.assets.mesh.overlay import edges, to_png, to_svg
    from brae.core.assets.registry import kinds
    from brae.core.assets.texture.files import write_image
    from brae.core.atomic import write_atomically
    from brae.core.errors import FormatError

    with errors(as_json):
        if out.suffix.lower() not in (".svg", ".png"):
            raise FormatError(f"'{out.name}' is no drawing.", expected="a name with .svg or .png")
        target = read_target(model, home)
        context = target.context
        if layout is not None:
            named = kind_of(layout, context.library)
            context = replace(context, layout=context.library.get(named or layout))
        mesh = kinds()["mesh"].read(target.data, context).near
        picture = read_target(texture, home)
        image = kinds()["texture"].read(picture.data, picture.context)
        png = write_image(image.picture(), "png")
        width, height = Image.open(io.BytesIO(png)).size
        data = to_svg(mesh, png, width, height) if out.suffix.lower() == ".svg" else to_png(mesh, png)
        write_atomically(out, data)
        lines = sum(len(one) for one in edges(mesh))
        words = f"{len(mesh.corners):,} triangles, {lines:,} lines over {width} × {height}: {out}"
        say({"file": str(out), "triangles": len(mesh.corners), "lines": lines}, words, as_json)
