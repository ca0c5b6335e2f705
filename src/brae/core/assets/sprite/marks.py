"""Test colours of sprites: which frame the game shows when, and where its anchor is."""

from __future__ import annotations

import numpy as np
from PIL import Image, ImageDraw, ImageFont

from brae.core.assets.sprite.described import SpriteFile
from brae.core.assets.sprite.matching import arranged, shown
from brae.core.assets.sprite.ora import Layer, written
from brae.core.assets.sprite.sprite import Picture

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
    for number, (cell, frame) in enumerate(zip(shown(original), original.sprite.frames, strict=True)):
        image = Image.fromarray(np.zeros_like(cell))
        draw = ImageDraw.Draw(image)
        x, y = (0, 0) if original.sheet is not None else (frame.x - canvas.left, frame.y - canvas.top)
        if frame.width and frame.height:
            box = (x, y, x + frame.width - 1, y + frame.height - 1)
            draw.rectangle(box, fill=(*own.get(number, _COLOURS[0]), 255), outline=(255, 255, 255, 255))
            size = max(8, min(frame.height // 2, frame.width // 2))
            draw.text((x + 2, y + 1), str(number), fill=(255, 255, 255, 255), font=ImageFont.load_default(size))
            left, top = (-frame.x, -frame.y) if original.sheet is not None else (-canvas.left, -canvas.top)
            draw.line((left - 2, top, left + 2, top), fill=(0, 0, 0, 255))
            draw.line((left, top - 2, left, top + 2), fill=(0, 0, 0, 255))
            outside = np.ones(cell.shape[:2], bool)
            outside[y : y + frame.height, x : x + frame.width] = False
            picture = np.asarray(image).copy()
            picture[outside] = 0
            cells.append(picture)
        else:
            cells.append(np.asarray(image))
    return arranged(original, cells)


def layered(original: SpriteFile) -> bytes:
    """The picture that goes out to an editor as a layered file: the sheet, the frames' borders, the anchors."""
    sheet = arranged(original, shown(original))
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
            crosses.line((left - 2, top, left + 2, top), fill=(*_COLOURS[0], 255))
            crosses.line((left, top - 2, left, top + 2), fill=(*_COLOURS[0], 255))
    layers = [
        Layer("anchors", np.asarray(anchors)), Layer("borders", np.asarray(borders), opacity=0.5),
        Layer("sheet", sheet),
    ]  # fmt: skip
    return written(layers, width, height)
