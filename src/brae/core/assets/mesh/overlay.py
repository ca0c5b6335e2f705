"""Where a texture lies on a model: the triangles over the picture, as lines."""

from __future__ import annotations

import base64
import io

import numpy as np

from brae.core.assets.mesh.mesh import Mesh
from brae.core.errors import FormatError

#: the longer side that a picture of lines has at least, so that they can be told apart
_SIDE = 1024
#: lines of a part that are drawn on the page at most
_MOST_LINES = 40_000
_COLOURS = ("#e0457b", "#2f7ed8", "#3aa655", "#d98f1f", "#8a5cd6", "#1fa5a5")


def edges(mesh: Mesh) -> list[np.ndarray]:
    """Each part's edges over the texture, once each: float32, shape (edges, 2, 2), 0 to 1 from the top left."""
    if "TEXCOORD_0" not in mesh.attributes:
        raise FormatError("This model has no texture coordinates, so no texture lies on it.")
    at = mesh.attributes["TEXCOORD_0"][:, :2]
    found = []
    for part in mesh.parts:
        corners = mesh.corners_of(part)
        pairs = np.concatenate([corners[:, [0, 1]], corners[:, [1, 2]], corners[:, [2, 0]]])
        lines = np.sort(np.round(at[pairs], 6).view("f4,f4")[..., 0], axis=1)
        unique = np.unique(lines, axis=0)
        found.append(unique.view(np.float32).reshape(-1, 2, 2))
    return found


def lines_svg(mesh: Mesh, part: int | None = None) -> bytes:
    """The lines alone as an SVG over a picture of any sides, a group for each part; what repeats is left out."""
    out = io.StringIO()
    out.write('<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 1000 1000" preserveAspectRatio="none">\n')
    for number, lines in enumerate(edges(mesh)):
        if part not in (None, number):
            continue
        path = "".join(
            f"M{a[0] * 1000:.1f} {a[1] * 1000:.1f}L{b[0] * 1000:.1f} {b[1] * 1000:.1f}"
            for a, b in lines[:_MOST_LINES].tolist()
        )
        way = f'<path id="part-{number}" d="{path}" fill="none" stroke="{_COLOURS[number % len(_COLOURS)]}"'
        out.write(f'{way} vector-effect="non-scaling-stroke"/>\n')
    out.write("</svg>\n")
    return out.getvalue().encode()


def to_svg(mesh: Mesh, picture: bytes, width: int, height: int) -> bytes:
    """The lines over a picture (PNG) as an SVG, a group for each part."""
    out, sides = io.StringIO(), f'width="{width}" height="{height}"'
    out.write(
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {width} {height}" {sides}>\n'
        f'<image {sides} href="data:image/png;base64,{base64.b64encode(picture).decode()}"/>\n'
    )
    for number, (part, lines) in enumerate(zip(mesh.parts, edges(mesh), strict=True)):
        path = "".join(
            f"M{a[0] * width:.3f} {a[1] * height:.3f}L{b[0] * width:.3f} {b[1] * height:.3f}"
            for a, b in lines.tolist()
        )
        name = (part.material or f"part {number}").replace("&", "&amp;").replace('"', "&quot;").replace("<", "&lt;")
        colour = _COLOURS[number % len(_COLOURS)]
        out.write(f'<g id="{name}" fill="none" stroke="{colour}" stroke-width="1"><path d="{path}"/></g>\n')
    out.write("</svg>\n")
    return out.getvalue().encode()


def to_png(mesh: Mesh, picture: bytes) -> bytes:
    """The same as a PNG, enlarged by a whole number where the picture is small."""
    from PIL import Image, ImageDraw

    image = Image.open(io.BytesIO(picture)).convert("RGBA")
    times = max(1, _SIDE // max(image.size))
    image = image.resize((image.width * times, image.height * times), Image.Resampling.NEAREST)
    draw = ImageDraw.Draw(image)
    for number, lines in enumerate(edges(mesh)):
        for a, b in lines.tolist():
            ends = [(x * image.width, y * image.height) for x, y in (a, b)]
            draw.line(ends, fill=_COLOURS[number % len(_COLOURS)], width=1)
    found = io.BytesIO()
    image.save(found, "PNG")
    return found.getvalue()
