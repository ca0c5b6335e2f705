"""A sheet with its frames' borders and anchors as layers: OpenRaster 0.0.3 (freedesktop.org, "Baseline Intent").

A zip with ``mimetype`` first and stored, ``stack.xml``, the layers as PNGs, ``mergedimage.png`` and a thumbnail.
"""

from __future__ import annotations

import io
import zipfile
from collections.abc import Sequence
from xml.etree import ElementTree

import numpy as np
from PIL import Image

from brae.core.assets.sprite.sprite import Picture
from brae.core.assets.texture.files import read_image, write_image
from brae.core.assets.texture.layers import Layer, flattened
from brae.core.errors import BraeError, FormatError, LimitError

MIME = b"image/openraster"
#: layers that show where frames are; they do not come back
GUIDES = ("borders", "anchors")
_THUMBNAIL = 256
_MOST_LAYERS, _MOST_BYTES, _LARGEST = 200, 1 << 28, 16_384


def written(layers: Sequence[Layer], width: int, height: int) -> bytes:
    """Layers, the topmost first, as a file; the same bytes every time."""
    image = ElementTree.Element("image", version="0.0.3", w=str(width), h=str(height))
    stack = ElementTree.SubElement(image, "stack")
    files: list[tuple[str, bytes, int]] = [("mimetype", MIME, zipfile.ZIP_STORED)]
    for number, layer in enumerate(layers):
        source = f"data/layer{number}.png"
        ElementTree.SubElement(
            stack, "layer", {
                "name": layer.name, "src": source, "x": str(layer.x), "y": str(layer.y),
                "opacity": f"{layer.opacity:g}", "visibility": "visible", "composite-op": "svg:src-over",
            },
        )  # fmt: skip
        files.append((source, write_image(layer.picture), zipfile.ZIP_STORED))
    merged = flattened(layers, width, height)
    text = ElementTree.tostring(image, "utf-8", xml_declaration=True)
    files += [
        ("stack.xml", text, zipfile.ZIP_DEFLATED),
        ("mergedimage.png", write_image(merged), zipfile.ZIP_STORED),
        ("Thumbnails/thumbnail.png", write_image(_thumbnail(merged)), zipfile.ZIP_STORED),
    ]
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w") as archive:
        for name, data, how in files:
            archive.writestr(zipfile.ZipInfo(name), data, how)
    return stream.getvalue()


def _thumbnail(picture: Picture) -> Picture:
    image = Image.fromarray(picture)
    image.thumbnail((_THUMBNAIL, _THUMBNAIL), Image.Resampling.BOX)
    return np.ascontiguousarray(np.asarray(image))


def read(data: bytes, name: str = "") -> Picture:
    """The picture that a file's layers make, without those of ``GUIDES``. Raises FormatError where it is none."""
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            if archive.read("mimetype").strip() != MIME:
                raise FormatError("This is no OpenRaster file.", address=name)
            width, height, layers = _layers(archive, name)
    except (zipfile.BadZipFile, KeyError, ElementTree.ParseError, NotImplementedError, RuntimeError) as error:
        raise FormatError(f"The layered file is damaged: {error}", address=name) from error
    return flattened([one for one in layers if one.name not in GUIDES], width, height)


def _layers(archive: zipfile.ZipFile, name: str) -> tuple[int, int, list[Layer]]:
    if sum(one.file_size for one in archive.infolist()) > _MOST_BYTES:
        raise LimitError("The layered file is too large.", address=name, expected=f"at most {_MOST_BYTES:,} bytes")
    text = archive.read("stack.xml")
    if b"<!" in text.replace(b"<!--", b""):
        raise FormatError("The list of layers declares entities, which it never needs.", address=name)
    image = ElementTree.fromstring(text)
    try:
        width, height = int(image.get("w", "0")), int(image.get("h", "0"))
        if not (1 <= width <= _LARGEST and 1 <= height <= _LARGEST):
            raise LimitError(f"The picture has {width} x {height} pixels.", address=name)
        found = []
        for layer in image.iter("layer"):
            if layer.get("visibility", "visible") == "hidden":
                continue
            source = layer.get("src", "")
            picture = read_image(archive.read(source), source).picture
            place = int(layer.get("x", "0")), int(layer.get("y", "0"))
            opacity = min(1.0, max(0.0, float(layer.get("opacity", "1"))))
            if picture.dtype != np.uint8:
                raise FormatError(f"The layer '{layer.get('name')}' has more than 8 bits.", address=name)
            found.append(Layer(layer.get("name", ""), picture, *place, opacity))
            if len(found) > _MOST_LAYERS:
                raise LimitError("The file has too many layers.", address=name, expected=f"{_MOST_LAYERS}")
    except ValueError as error:
        if isinstance(error, BraeError):
            raise
        raise FormatError(f"The list of layers is damaged: {error}", address=name) from error
    return width, height, found
