"""Test colours of sprites: which frame the game shows when, and where its anchor is."""

from __future__ import annotations

import numpy as np
from PIL import Image, ImageDraw, ImageFont

from brae.core.assets.sprite.described import SpriteFile
from brae.core.assets.sprite.matching import arranged
from brae.core.assets.sprite.ora import written
from brae.core.assets.sprite.sprite import Picture
from brae.core.assets.texture.layers import Layer

MARKS = {"frames": "each frame as a rectangle with its number, sequences in colours of their own"}
#: far apart for most eyes, light and dark by turns
_COLOURS = ((230, 70, 60), (40, 90, 200), (250, 210, 60), (110, 40, 130), (120, 220, 200), (130, 70, 20))


def marked(original: SpriteFile) -> Picture:
    """The picture that goes out to an editor, every frame a numbered rectangle with its anchor as a cross."""
    own: dict[int, tuple[int, int, int]] = {}
    for number, run in enumerate(original.sprite.sequences):
        for step in run.steps:
            own.setdefault(step.frame, _COLOURS[number % len(_COLOURS)])
    canvas = original.sprite.canvas
    cells = []
    for number, (cell, frame) in enumerate(zip(original.cells, original.sprite.frames, strict=True)):
        image = Image.fromarray(np.zeros_like(cell))
        draw = ImageDraw.Draw(image)
        x, y = (0, 0) if original.sheet is not None else (frame.x - canvas.left, frame.y - canvas.top)
        if frame.width and frame.height:
            box = (x, y, x + frame.width - 1, y + frame.height - 1)
            draw.rectangle(box, fill=(*own.get(number, _COLOURS[0]), 255), outline=(255, 255, 255, 255))
            size = max(8, min(frame.height // 2, frame.width // 2))
            draw.text((x + 2, y + 1), str(number), fill=(255, 255, 255, 255), font=ImageFont.load_default(size))
            _cross(draw, x - frame.x, y - frame.y, (0, 0, 0))
        # A number or a cross that does not fit on the frame is cut off at its border.
        picture = np.zeros_like(cell)
        inside = np.s_[y : y + frame.height, x : x + frame.width]
        picture[inside] = np.asarray(image)[inside]
        cells.append(picture)
    return arranged(original, cells)


def _cross(draw: ImageDraw.ImageDraw, x: int, y: int, colour: tuple[int, int, int]) -> None:
    """An anchor."""
    draw.line((x - 2, y, x + 2, y), fill=(*colour, 255))
    draw.line((x, y - 2, x, y + 2), fill=(*colour, 255))


def layered(original: SpriteFile) -> bytes:
    """The picture that goes out to an editor as a layered file: the sheet, the frames' borders, the anchors."""
    sheet = arranged(original, original.cells)
    height, width = sheet.shape[:2]
    borders, anchors = (Image.fromarray(np.zeros_like(sheet)) for _ in range(2))
    lines, crosses = ImageDraw.Draw(borders), ImageDraw.Draw(anchors)
    canvas = original.sprite.canvas
    for number, frame in enumerate(original.sprite.frames):
        if original.sheet is not None:
            x, y, wide, high, turned = original.places[number]
            wide, high = (high, wide) if turned else (wide, high)
            left, top = x - frame.x, y - frame.y
        else:
            column, row = number % original.sprite.columns, number // original.sprite.columns
            left, top = column * canvas.width - canvas.left, row * canvas.height - canvas.top
            x, y, wide, high = left + frame.x, top + frame.y, frame.width, frame.height
            turned = False
        if wide and high:
            lines.rectangle((x, y, x + wide - 1, y + high - 1), outline=(*_COLOURS[1], 255))
        if not turned:
            _cross(crosses, left, top, _COLOURS[0])
    layers = [
        Layer("anchors", np.asarray(anchors)), Layer("borders", np.asarray(borders), opacity=0.5),
        Layer("sheet", sheet),
    ]  # fmt: skip
    return written(layers, width, height)
