"""Who walks about in the harbour of the disc edition: figures of palette indices, and the colours they share.

The writers are the game's own: they share nothing with the layouts by which Brae reads these files.
"""

from __future__ import annotations

import struct
from collections.abc import Callable
from typing import Any

import numpy as np
from PIL import Image, ImageDraw

from brae.demo import art

Indices = np.ndarray[Any, Any]
DIRECTIONS = ("south", "west", "north", "east")
FRAMES = 8
#: what is not drawn, and the shadow under a figure
_CLEAR, _SHADOW = 0, 1
#: where the colours of the ground begin
_GROUND = 64
_COAT, _SKIN, _HAIR, _BAG, _FEATHER, _FUR, _MOSS = 16, 24, 28, 32, 40, 48, 56
#: light to dark, as many of each
_RAMPS: dict[int, tuple[tuple[int, int, int], int]] = {
    _COAT: ((206, 66, 54), 8),
    _SKIN: ((236, 192, 160), 4),
    _HAIR: ((96, 62, 40), 4),
    _BAG: ((186, 142, 84), 8),
    _FEATHER: ((240, 240, 236), 8),
    _FUR: ((150, 104, 62), 8),
    _MOSS: ((96, 134, 84), 8),
}
BACKDROP = (256, 72)


def _fifteen(colours: Indices) -> Indices:
    """Colours as the game stores them: red in the lowest five bits, the top bit set."""
    wide = colours.astype(np.uint16)
    return wide[..., 0] >> 3 | wide[..., 1] >> 3 << 5 | wide[..., 2] >> 3 << 10 | 0x8000


def _ground() -> Indices:
    """The harbour behind everybody, R, G, B."""
    rng = np.random.default_rng(61)
    width, height = BACKDROP
    picture = np.zeros((height, width, 3), np.uint8)
    picture[:36] = art.sky(rng, width, 64)[:36, :, :3]
    picture[36:52] = np.tile(art.water(rng, 128, 0.3)[:16, :, :3], (1, 2, 1))
    picture[52:] = np.tile(art.planks(rng, 128)[:20, :, :3], (1, 2, 1))
    return picture


def colours() -> tuple[Indices, Indices]:
    """The palette (256 x 3), and the backdrop in it: those colours of the ground that come oftest."""
    palette = np.zeros((256, 3), np.uint8)
    palette[_CLEAR], palette[_SHADOW] = (248, 0, 248), (40, 40, 56)
    for first, (colour, many) in _RAMPS.items():
        shades = np.linspace(1.0, 0.45, many)[:, None] * np.array(colour)
        palette[first : first + many] = shades.astype(np.uint8)
    ground = _ground() >> 3 << 3
    keys, counts = np.unique(ground.reshape(-1, 3), axis=0, return_counts=True)
    common = keys[np.argsort(-counts, kind="stable")][: 256 - _GROUND]
    palette[_GROUND : _GROUND + len(common)] = common
    away = (ground.reshape(-1, 1, 3).astype(int) - common[None].astype(int)) ** 2
    backdrop = (_GROUND + away.sum(axis=2).argmin(axis=1)).astype(np.uint8).reshape(ground.shape[:2])
    return palette, backdrop


def _canvas() -> tuple[Image.Image, ImageDraw.ImageDraw]:
    image = Image.new("P", (40, 48), _CLEAR)
    return image, ImageDraw.Draw(image)


def _shadow(draw: ImageDraw.ImageDraw, half: int) -> None:
    draw.ellipse((20 - half, 41, 20 + half, 45), fill=_SHADOW)


def _person(frame: int, way: str, coat: int, scarf: int | None, bag: bool) -> Indices:
    """Somebody on foot; the whole step is ``FRAMES`` frames."""
    image, draw = _canvas()
    _shadow(draw, 8)
    phase = np.sin(2 * np.pi * frame / FRAMES)
    bob, swing = round(abs(phase)), round(3 * phase)
    side = way in ("west", "east")
    top = 8 - bob
    for sign in (-1, 1):  # legs
        x = 20 + (sign * swing if side else 3 * sign)
        lift = max(0, sign * swing) if not side else 0
        draw.line((20 + (0 if side else 3 * sign), 33, x, 42 - lift), fill=_HAIR + 3, width=3)
    draw.polygon([(15, top + 12), (25, top + 12), (28, 35 - bob), (12, 35 - bob)], fill=coat + 1)
    draw.line((20, top + 13, 20, 34 - bob), fill=coat + 4)
    for sign in (-1, 1):  # arms
        hand = 20 + sign * 8 + (swing * sign if side else 0)
        draw.line(
            (20 + 5 * sign, top + 14, hand, top + 24 + (0 if side else -sign * swing)), fill=coat + 3, width=3
        )
        draw.point((hand, top + 25 + (0 if side else -sign * swing)), fill=_SKIN)
    draw.ellipse((15, top, 25, top + 11), fill=_SKIN if way != "north" else _HAIR)
    draw.pieslice((14, top - 1, 26, top + 11), 180, 360, fill=_HAIR + 1)
    if way == "south":
        draw.point([(18, top + 6), (22, top + 6)], fill=_HAIR + 3)
    elif side:
        draw.point((17 if way == "west" else 23, top + 6), fill=_HAIR + 3)
    draw.rectangle((14, top - 2, 26, top), fill=coat)  # the brim
    draw.rectangle((16, top - 5, 24, top - 2), fill=coat + 2)
    if scarf is not None:
        draw.rectangle((15, top + 11, 25, top + 13), fill=scarf)
    if bag:
        x = 24 if way != "west" else 10
        draw.line((15, top + 12, 26, 28), fill=_BAG + 5)
        draw.rectangle((x, 26 - bob, x + 7, 33 - bob), fill=_BAG + 1, outline=_BAG + 6)
    return np.asarray(image)


def _postwoman(frame: int, way: str) -> Indices:
    return _person(frame, way, _COAT, None, bag=True)


def _bystander(frame: int, way: str) -> Indices:
    # The scarf has the colours of the postwoman's coat: who changes those changes both.
    return _person(frame, way, _MOSS, _COAT + 1, bag=False)


def _dog(frame: int, way: str) -> Indices:
    image, draw = _canvas()
    _shadow(draw, 9)
    swing = round(2 * np.sin(2 * np.pi * frame / FRAMES))
    wag = round(2 * np.cos(4 * np.pi * frame / FRAMES))
    if way in ("west", "east"):
        for x, sign in ((13, 1), (16, -1), (24, 1), (27, -1)):
            draw.line((x, 34, x + sign * swing, 42), fill=_FUR + 4, width=2)
        draw.ellipse((11, 26, 29, 37), fill=_FUR + 1)
        draw.ellipse((25, 20, 33, 29), fill=_FUR)
        draw.rectangle((31, 25, 35, 28), fill=_FUR + 2)
        draw.point((30, 23), fill=_HAIR + 3)
        draw.line((11, 29, 7, 24 + wag), fill=_FUR + 2, width=2)
        if way == "west":
            return np.ascontiguousarray(np.asarray(image)[:, ::-1])
        return np.asarray(image)
    for x, sign in ((16, 1), (24, -1)):
        draw.line((x, 34, x, 42 - max(0, sign * swing)), fill=_FUR + 4, width=3)
    draw.ellipse((13, 24, 27, 38), fill=_FUR + 1)
    draw.ellipse((15, 17, 25, 28), fill=_FUR + (0 if way == "south" else 2))
    draw.polygon([(15, 19), (13, 14), (18, 18)], fill=_FUR + 5)
    draw.polygon([(25, 19), (27, 14), (22, 18)], fill=_FUR + 5)
    if way == "south":
        draw.point([(18, 22), (22, 22), (20, 25)], fill=_HAIR + 3)
    else:
        draw.line((20, 32, 20 + wag, 24), fill=_FUR + 3, width=2)
    return np.asarray(image)


def _gull(frame: int, way: str) -> Indices:
    image, draw = _canvas()
    _shadow(draw, 5)
    flap = round(7 * np.sin(2 * np.pi * frame / FRAMES))
    y = 20 - flap // 4
    for sign in (-1, 1):
        reach = 13 if way in ("south", "north") else 9
        draw.polygon(
            [(20, y), (20 + sign * reach, y - flap), (20 + sign * 4, y + 4)], fill=_FEATHER + (1 if sign > 0 else 2)
        )
        draw.line((20 + sign * reach, y - flap, 20 + sign * (reach - 3), y - flap + 1), fill=_HAIR + 3)
    draw.ellipse((16, y - 2, 24, y + 6), fill=_FEATHER)
    head = {"south": (20, y + 6), "north": (20, y - 4), "west": (14, y + 1), "east": (26, y + 1)}[way]
    draw.ellipse((head[0] - 3, head[1] - 3, head[0] + 3, head[1] + 3), fill=_FEATHER + 1)
    draw.point(head, fill=_BAG)
    return np.asarray(image)


FIGURES: dict[str, Callable[[int, str], Indices]] = {
    "POSTWOM.STR": _postwoman,
    "BYSTAND.STR": _bystander,
    "DOG.STR": _dog,
    "GULL.STR": _gull,
}
#: where a figure stands on its canvas
_FOOT = (20, 43)


def _runs(row: bytes) -> bytes:
    """A row: 1 to 127 copies, 128 to 191 skips, 192 to 255 fills, 0 ends it."""
    made, at = b"", 0
    end = len(row.rstrip(b"\0"))
    while at < end:
        run = 1
        if row[at] == _CLEAR:
            while run < 64 and row[at + run] == _CLEAR:
                run += 1
            made += bytes([127 + run])
        else:
            while at + run < end and row[at + run] == row[at] and run < 65:
                run += 1
            if run >= 2:
                made += bytes([190 + run, row[at]])
            else:
                made += bytes([1, row[at]])
        at += run
    return made + b"\0"


def stroller(draw: Callable[[int, str], Indices]) -> bytes:
    """A figure's file: its walks, where each frame lies, and the frames, each cut down to what is drawn of it."""
    frames = []
    for way in DIRECTIONS:
        for frame in range(FRAMES):
            indices = draw(frame, way)
            rows, columns = np.flatnonzero(indices.any(axis=1)), np.flatnonzero(indices.any(axis=0))
            x, y = int(columns[0]), int(rows[0])
            part = indices[y : rows[-1] + 1, x : columns[-1] + 1]
            head = struct.pack("<HHhhBB", *part.shape[::-1], _FOOT[0] - x, _FOOT[1] - y, 4, 0)
            frames.append(head + b"".join(_runs(row.tobytes()) for row in part))
    walks = b"".join(
        struct.pack("<12sBB", f"walk {way}".encode(), number * FRAMES, FRAMES)
        for number, way in enumerate(DIRECTIONS)
    )
    at = 8 + len(walks) + 8 * len(frames)
    table, body = b"", b""
    for data in frames:
        data += bytes(-len(data) % 4)
        table += struct.pack("<II", at + len(body), len(data))
        body += data
    return b"STR1" + struct.pack("<HH", len(frames), len(DIRECTIONS)) + walks + table + body


def harbour() -> list[tuple[str, bytes]]:
    """The files of the harbour: colours, backdrop, figures."""
    palette, backdrop = colours()
    found = [("HARBOUR.COL", b"COL1" + struct.pack("<HH", 256, 2) + _fifteen(palette).astype("<u2").tobytes())]
    height, width = backdrop.shape
    found.append(("HARBOUR.BKD", b"BKD1" + struct.pack("<HH", width, height) + backdrop.tobytes()))
    return found + [(name, stroller(draw)) for name, draw in FIGURES.items()]
