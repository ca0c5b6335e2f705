"""The pictures of Skerry Post, drawn by code from a seed."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np
from PIL import Image, ImageDraw, ImageFilter, ImageFont

Colour = tuple[int, ...]
Rng = np.random.Generator
#: everything is drawn this much larger and averaged down
_FINE = 3

PEAT, SLATE, FOAM, SAND = (58, 46, 40), (84, 98, 110), (226, 238, 236), (214, 190, 150)
HEATHER, GORSE, DEEP, SHALLOW = (150, 108, 150), (238, 184, 42), (22, 62, 78), (62, 128, 132)
OXBLOOD, CREAM, MOSS, TAR = (158, 58, 46), (246, 236, 210), (96, 122, 74), (34, 30, 34)


class Sheet:
    """A canvas in units of final pixels, drawn finely."""

    def __init__(self, width: int, height: int, ground: Colour = (0, 0, 0, 0)) -> None:
        self.size = (width, height)
        self.image = Image.new("RGBA", (width * _FINE, height * _FINE), ground)
        self.draw = ImageDraw.Draw(self.image)

    def _scaled(self, points: Sequence[tuple[float, float]]) -> list[tuple[float, float]]:
        return [(x * _FINE, y * _FINE) for x, y in points]

    def polygon(self, points: Sequence[tuple[float, float]], fill: Colour) -> None:
        self.draw.polygon(self._scaled(points), fill=fill)

    def line(self, points: Sequence[tuple[float, float]], fill: Colour, width: float = 1) -> None:
        self.draw.line(self._scaled(points), fill=fill, width=max(1, round(width * _FINE)), joint="curve")

    def box(self, x0: float, y0: float, x1: float, y1: float, fill: Colour, radius: float = 0) -> None:
        self.draw.rounded_rectangle(self._scaled([(x0, y0), (x1, y1)]), radius * _FINE, fill=fill)

    def disc(self, x: float, y: float, rx: float, fill: Colour, ry: float | None = None) -> None:
        ry = rx if ry is None else ry
        self.draw.ellipse(self._scaled([(x - rx, y - ry), (x + rx, y + ry)]), fill=fill)

    def text(self, x: float, y: float, words: str, size: float, fill: Colour, anchor: str = "mm") -> None:
        font = ImageFont.load_default(size * _FINE)
        self.draw.text((x * _FINE, y * _FINE), words, fill=fill, font=font, anchor=anchor)

    def done(self) -> np.ndarray[Any, Any]:
        """The picture in final pixels, R, G, B, A (premultiplied averaging keeps edges clean)."""
        fine = np.asarray(self.image).astype(np.float32)
        fine[..., :3] *= fine[..., 3:] / 255
        width, height = self.size
        mean = fine.reshape(height, _FINE, width, _FINE, 4).mean(axis=(1, 3))
        mean[..., :3] /= np.maximum(mean[..., 3:], 0.5) / 255
        return np.clip(np.rint(mean), 0, 255).astype(np.uint8)


def noise(rng: Rng, width: int, height: int, cells: int, octaves: int = 4) -> np.ndarray[Any, Any]:
    """Smooth noise from 0 to 1 that repeats at its edges."""
    total = np.zeros((height, width), np.float32)
    weight, scale = 1.0, 0.0
    for octave in range(octaves):
        n = cells * 2**octave
        grid = rng.random((n, n), dtype=np.float32)
        tiled = np.pad(grid, 2, mode="wrap")
        zoom = Image.fromarray(tiled, "F").resize(
            (width * (n + 4) // n, height * (n + 4) // n), Image.Resampling.BICUBIC
        )
        x, y = width * 2 // n, height * 2 // n
        total += weight * np.asarray(zoom)[y : y + height, x : x + width]
        scale += weight
        weight *= 0.5
    total /= scale
    return (total - total.min()) / max(float(np.ptp(total)), 1e-6)


def _mix(a: Colour, b: Colour, t: np.ndarray[Any, Any]) -> np.ndarray[Any, Any]:
    a3, b3 = np.array(a[:3], np.float32), np.array(b[:3], np.float32)
    return a3 + (b3 - a3) * np.clip(t, 0, 1)[..., None]


def _opaque(colour: np.ndarray[Any, Any]) -> np.ndarray[Any, Any]:
    picture = np.full((*colour.shape[:2], 4), 255, np.uint8)
    picture[..., :3] = np.clip(np.rint(colour), 0, 255)
    return picture


def grain(picture: np.ndarray[Any, Any], rng: Rng, strength: float = 10, cells: int = 8) -> np.ndarray[Any, Any]:
    """A picture with a little unevenness, as paper, cloth and wood have."""
    height, width = picture.shape[:2]
    wave = (noise(rng, width, height, cells) - 0.5) * 2 * strength
    result = picture.astype(np.float32)
    result[..., :3] += wave[..., None]
    return np.clip(np.rint(result), 0, 255).astype(np.uint8)


def water(rng: Rng, side: int, phase: float = 0.0) -> np.ndarray[Any, Any]:
    field = noise(rng, side, side, 4)
    y, x = np.mgrid[0:side, 0:side] / side
    ripple = np.sin(2 * np.pi * (3 * y + phase + 0.5 * field + 0.15 * np.sin(2 * np.pi * 2 * x)))
    colour = _mix(DEEP, SHALLOW, 0.45 + 0.35 * ripple * field + 0.2 * field)
    glint = np.clip((ripple * field - 0.55) * 5, 0, 1)
    return _opaque(_mix((0, 0, 0), FOAM, glint) * glint[..., None] * 0.6 + colour * (1 - 0.5 * glint[..., None]))


def rock(rng: Rng, side: int, tint: Colour = SLATE) -> np.ndarray[Any, Any]:
    height = noise(rng, side, side, 3, 5)
    slope = np.roll(height, 1, 1) - height + 0.6 * (np.roll(height, 1, 0) - height)
    colour = _mix(PEAT, tint, 0.35 + 0.8 * height) + slope[..., None] * 900
    lichen = noise(rng, side, side, 6)
    return _opaque(np.where((lichen > 0.72)[..., None], 0.55 * colour + 0.45 * np.array(GORSE), colour))


def planks(rng: Rng, side: int) -> np.ndarray[Any, Any]:
    y, x = np.mgrid[0:side, 0:side]
    width = side // 4
    board = x // width
    shade = rng.random(4)[board] * 30
    fibre = noise(rng, side, side, 2, 3)
    lines = np.sin(y / side * 2 * np.pi * 2 + fibre * 14 + board) * 8
    colour = np.array((142, 116, 88), np.float32) + (shade + lines)[..., None] - 14
    gap = (x % width < 2) | (x % width >= width - 1)
    colour[gap] *= 0.45
    nails = ((x % width - width // 2) ** 2 + (y % (side // 2) - side // 8) ** 2) < (side / 80) ** 2 + 1
    colour[nails] = (60, 56, 54)
    return _opaque(colour)


def sky(rng: Rng, width: int, height: int) -> np.ndarray[Any, Any]:
    y = np.linspace(0, 1, height, dtype=np.float32)[:, None] * np.ones((1, width), np.float32)
    clouds = noise(rng, width, height, 3, 5)
    colour = _mix((96, 122, 150), (240, 206, 170), y**1.3)
    colour = (
        colour
        + (_mix((150, 130, 150), (255, 232, 205), y) - colour) * np.clip((clouds - 0.5) * 2.4, 0, 0.85)[..., None]
    )
    x = np.mgrid[0:height, 0:width][1] / width
    sun = np.exp(-(((x - 0.72) * 2.2) ** 2 + ((y - 0.86) * 3) ** 2) * 9)
    return _opaque(colour + sun[..., None] * np.array((70, 46, 4)))


def swell_directions(rng: Rng, side: int) -> np.ndarray[Any, Any]:
    """A normal map of small waves: directions, x as red, y as green, 128 in the middle."""
    height = noise(rng, side, side, 8) * 9
    slope_y, slope_x = (np.roll(height, -1, axis) - np.roll(height, 1, axis) for axis in (0, 1))
    directions = np.dstack([-slope_x, -slope_y, np.full_like(height, 2.0)])
    directions /= np.linalg.norm(directions, axis=2, keepdims=True)
    return _opaque((directions + 1) * 127.5)


def heights(rng: Rng, side: int) -> np.ndarray[Any, Any]:
    """How high the rock stands, as grey."""
    return _opaque(np.repeat(noise(rng, side, side, 6)[..., None] * 255, 3, axis=2))


def hull_wear(rng: Rng, width: int, height: int) -> np.ndarray[Any, Any]:
    """A packed map of the hull: roughness in red, metal in green, shadow in corners in blue."""
    rough = 120 + 110 * noise(rng, width, height, 10)
    metal = np.zeros((height, width))
    metal[:: max(1, height // 8), :: max(1, width // 16)] = 255
    metal = np.maximum(metal, np.roll(metal, 1, axis=1))
    shade = np.broadcast_to(np.linspace(250, 120, height)[:, None], (height, width))
    return _opaque(np.dstack([rough, metal, shade]))


def noon(rng: Rng, width: int, height: int) -> np.ndarray[Any, Any]:
    """A sky of light (floats): blue that is brighter towards the horizon, clouds, and a sun far beyond white."""
    y, x = np.mgrid[0:height, 0:width]
    low = (y / height)[..., None]
    blue = np.array([0.10, 0.22, 0.55]) * (1 - low) + np.array([0.75, 0.85, 1.0]) * low
    cloud = np.clip(noise(rng, width, height, 5) * 2.2 - 1.1, 0, 1)[..., None]
    light = blue * (1 - cloud) + 1.6 * cloud
    away = np.hypot(x - width * 0.7, y - height * 0.3) / height
    light += (60 * np.exp(-((away / 0.045) ** 2)) + 1.2 * np.exp(-away * 7))[..., None] * np.array(
        [1.0, 0.93, 0.78]
    )
    return np.dstack([light, np.ones((height, width))]).astype(np.float32)


def lighthouse(width: int, height: int) -> np.ndarray[Any, Any]:
    sheet = Sheet(width, height)
    cx, top, foot = width / 2, height * 0.24, height * 0.97

    def edge(y: float) -> float:
        return width * (0.15 + 0.13 * (y - top) / (foot - top))

    bands = 7
    for band in range(bands):
        y0, y1 = top + (foot - top) * band / bands, top + (foot - top) * (band + 1) / bands
        for strip in range(24):
            a, b = -1 + strip / 12, -1 + (strip + 1) / 12
            light = 0.62 + 0.38 * math.cos((a + 0.45) * 1.3)
            base = OXBLOOD if band % 2 == 0 else CREAM
            fill = (*tuple(round(c * light) for c in base), 255)
            sheet.polygon(
                [
                    (cx + a * edge(y0), y0),
                    (cx + b * edge(y0), y0),
                    (cx + b * edge(y1), y1),
                    (cx + a * edge(y1), y1),
                ],
                fill,
            )
    for y in (0.42, 0.6, 0.78):
        sheet.box(cx - 6, height * y, cx + 5, height * y + height * 0.04, (*TAR, 255), 3)
        sheet.box(cx - 4, height * y + 2, cx + 1, height * y + height * 0.03, (*GORSE, 255), 1)
    gallery = width * 0.22
    sheet.box(cx - gallery, top - 6, cx + gallery, top + 3, (*TAR, 255), 2)
    sheet.box(cx - width * 0.12, height * 0.12, cx + width * 0.12, top - 6, (250, 226, 140, 255))
    for k in range(-2, 3):
        x = cx + k * width * 0.055
        sheet.line([(x, height * 0.12), (x, top - 6)], (*TAR, 255), 2)
    sheet.polygon(
        [(cx - width * 0.16, height * 0.125), (cx, height * 0.05), (cx + width * 0.16, height * 0.125)],
        (*OXBLOOD, 255),
    )
    sheet.disc(cx, height * 0.045, 4, (*TAR, 255))
    sheet.polygon(
        [
            (cx - width * 0.09, foot),
            (cx - width * 0.09, foot - 34),
            (cx, foot - 46),
            (cx + width * 0.09, foot - 34),
            (cx + width * 0.09, foot),
        ],
        (*PEAT, 255),
    )
    return sheet.done()


def hull(width: int, height: int) -> np.ndarray[Any, Any]:
    sheet = Sheet(width, height)
    w, h = width, height
    for strake in range(7):
        t0, t1 = strake / 7, (strake + 1) / 7
        top = [
            (w * (0.02 + 0.05 * t0), h * (0.30 + 0.5 * t0)),
            (w * 0.5, h * (0.46 + 0.44 * t0)),
            (w * (0.98 - 0.09 * t0), h * (0.22 + 0.54 * t0)),
        ]
        low = [
            (w * (0.98 - 0.09 * t1), h * (0.22 + 0.54 * t1)),
            (w * 0.5, h * (0.46 + 0.44 * t1)),
            (w * (0.02 + 0.05 * t1), h * (0.30 + 0.5 * t1)),
        ]
        shade = 1 - 0.08 * strake
        base = (44, 92, 112) if strake else GORSE
        sheet.polygon(_curve(top) + _curve(low), (*tuple(round(c * shade) for c in base), 255))
        sheet.line(_curve(low), (18, 34, 42, 255), 1.2)
    sheet.text(w * 0.24, h * 0.60, "SKERRY  POST", h * 0.085, (*CREAM, 255))
    sheet.disc(w * 0.8, h * 0.56, h * 0.055, (*CREAM, 255))
    sheet.disc(w * 0.8, h * 0.56, h * 0.04, (44, 92, 112, 255))
    return sheet.done()


def _curve(points: Sequence[tuple[float, float]]) -> list[tuple[float, float]]:
    (x0, y0), (x1, y1), (x2, y2) = points
    steps = [k / 16 for k in range(17)]
    return [
        (
            (1 - t) ** 2 * x0 + 2 * t * (1 - t) * x1 + t * t * x2,
            (1 - t) ** 2 * y0 + 2 * t * (1 - t) * y1 + t * t * y2,
        )
        for t in steps
    ]


def post_mark(sheet: Sheet, x: float, y: float, size: float, fill: Colour) -> None:
    """The post's own sign: a letter in a round field, above three waves."""
    sheet.disc(x, y, size, fill)
    left, right, top, foot = x - size * 0.62, x + size * 0.62, y - size * 0.40, y + size * 0.42
    sheet.box(left, top, right, foot, (*CREAM, 255), size * 0.06)
    for corner in (left, right):
        sheet.line([(corner, top), (x, y + size * 0.1)], fill, size * 0.09)
        sheet.line([(corner, foot), (x + (corner - x) * 0.32, y)], fill, size * 0.05)
    for k in range(3):
        wave = [
            (x - size + t * size / 6, y + size * (1.22 + 0.24 * k) + math.sin(t * 1.6) * size * 0.07)
            for t in range(13)
        ]
        sheet.line(wave, fill, size * 0.09)


def sail(rng: Rng, width: int, height: int) -> np.ndarray[Any, Any]:
    sheet = Sheet(width, height)
    w, h = width, height
    sheet.polygon(
        [
            (w * 0.08, h * 0.97),
            (w * 0.10, h * 0.03),
            *_curve([(w * 0.10, h * 0.03), (w * 0.95, h * 0.34), (w * 0.94, h * 0.90)]),
        ],
        (*CREAM, 255),
    )
    for k in range(1, 6):
        y = h * (0.06 + 0.155 * k)
        sheet.line([(w * 0.085, y + h * 0.02), (w * (0.28 + 0.125 * k), y - h * 0.005)], (206, 190, 156, 255), 1.6)
    post_mark(sheet, w * 0.40, h * 0.56, w * 0.15, (*OXBLOOD, 255))
    sheet.line([(w * 0.10, h * 0.03), (w * 0.08, h * 0.97)], (120, 92, 64, 255), 5)
    return grain(sheet.done(), rng, 12, 4)


def pennant(width: int, height: int) -> np.ndarray[Any, Any]:
    sheet = Sheet(width, height)
    w, h = width, height
    wave = [(w * t / 20, h * 0.18 + math.sin(t / 20 * 6) * h * 0.08) for t in range(21)]
    low = [(x, h - y + math.sin(x / w * 6) * h * 0.12) for x, y in reversed(wave)]
    sheet.polygon([*wave, (w * 0.8, h * 0.5), *low], (*HEATHER, 255))
    sheet.polygon([(0, h * 0.42), (w * 0.84, h * 0.46), (w * 0.84, h * 0.56), (0, h * 0.62)], (*CREAM, 255))
    sheet.disc(w * 0.2, h * 0.51, h * 0.16, (*GORSE, 255))
    return sheet.done()


def parcel(rng: Rng, side: int, paper: Colour, string: Colour) -> np.ndarray[Any, Any]:
    sheet = Sheet(side, side, (*paper, 255))
    s = side
    sheet.polygon(
        [(0, 0), (s, 0), (s * 0.55, s * 0.16), (s * 0.45, s * 0.16)], (*tuple(round(c * 0.9) for c in paper), 255)
    )
    sheet.polygon([(0, s), (s, s), (s * 0.5, s * 0.82)], (*tuple(round(c * 0.82) for c in paper), 255))
    sheet.line([(s * 0.5, 0), (s * 0.5, s)], (*string, 255), s * 0.035)
    sheet.line([(0, s * 0.48), (s, s * 0.48)], (*string, 255), s * 0.035)
    for k in (-1, 1):
        sheet.disc(s * (0.5 + k * 0.07), s * 0.42, s * 0.06, (*string, 255), s * 0.04)
    angle = float(rng.uniform(-0.05, 0.05))
    sheet.polygon(
        [
            (s * 0.58, s * (0.60 + angle)),
            (s * 0.94, s * (0.60 - angle)),
            (s * 0.94, s * 0.90),
            (s * 0.58, s * 0.90),
        ],
        (*CREAM, 255),
    )
    for k in range(3):
        sheet.line(
            [(s * 0.62, s * (0.68 + 0.07 * k)), (s * (0.86 - 0.06 * k), s * (0.68 + 0.07 * k))],
            (*TAR, 255),
            s * 0.014,
        )
    return grain(sheet.done(), rng, 9, 6)


def label(rng: Rng, width: int, height: int) -> np.ndarray[Any, Any]:
    sheet = Sheet(width, height)
    w, h = width, height
    sheet.box(2, 2, w - 2, h - 2, (*CREAM, 255), 10)
    sheet.box(8, 8, w - 8, h * 0.25, (*OXBLOOD, 255), 5)
    sheet.text(w / 2, h * 0.165, "PARCEL BY BOAT", h * 0.10, (*CREAM, 255))
    for k, words in enumerate(
        ("To: the keeper, Outer Skerry", "From: Mossbay harbour shop", "Contents: one kettle, wool")
    ):
        sheet.text(w * 0.06, h * (0.37 + 0.13 * k), words, h * 0.075, (*TAR, 255), "lm")
        sheet.line([(w * 0.06, h * (0.42 + 0.13 * k)), (w * 0.78, h * (0.42 + 0.13 * k))], (190, 176, 150, 255), 1)
    for k in range(34):
        x = w * 0.06 + k * w * 0.014
        if (k * 7 + k // 3) % 5 < 3:
            sheet.line([(x, h * 0.80), (x, h * 0.93)], (*TAR, 255), 1.6)
    post_mark(sheet, w * 0.87, h * 0.62, w * 0.06, (44, 92, 112, 255))
    return grain(sheet.done(), rng, 5, 8)


def stamp(rng: Rng, side: int, number: int) -> np.ndarray[Any, Any]:
    sheet = Sheet(side, side)
    s = side
    hues = [OXBLOOD, (44, 92, 112), MOSS, HEATHER, (196, 128, 60), SLATE]
    base = hues[number % len(hues)]
    sheet.box(s * 0.05, s * 0.05, s * 0.95, s * 0.95, (*CREAM, 255))
    for k in range(10):
        t = s * (0.05 + 0.1 * k)
        for x, y in ((t, s * 0.05), (t, s * 0.95), (s * 0.05, t), (s * 0.95, t), (s * 0.95, s * 0.95)):
            sheet.disc(x, y, s * 0.028, (0, 0, 0, 0))
    sheet.box(s * 0.13, s * 0.13, s * 0.87, s * 0.87, (*base, 255))
    dark = (*tuple(round(c * 0.6) for c in base), 255)
    pale = (*tuple(round(c + (255 - c) * 0.6) for c in base), 255)
    motif = number % 6
    sheet.polygon(
        [
            (s * 0.13, s * 0.70),
            *[(s * (0.13 + 0.074 * k), s * (0.66 + 0.03 * math.sin(k * 1.9 + number))) for k in range(11)],
            (s * 0.87, s * 0.87),
            (s * 0.13, s * 0.87),
        ],
        dark,
    )
    if motif == 0:
        sheet.polygon(
            [(s * 0.44, s * 0.68), (s * 0.47, s * 0.30), (s * 0.53, s * 0.30), (s * 0.56, s * 0.68)], pale
        )
        sheet.disc(s * 0.5, s * 0.28, s * 0.05, (*GORSE, 255))
    elif motif == 1:
        sheet.polygon(_curve([(s * 0.24, s * 0.56), (s * 0.5, s * 0.80), (s * 0.78, s * 0.54)]), pale)
        sheet.polygon([(s * 0.48, s * 0.24), (s * 0.48, s * 0.56), (s * 0.70, s * 0.54)], (*CREAM, 255))
    elif motif == 2:
        _bird(sheet, s * 0.5, s * 0.44, s * 0.26, 0.25, pale)
    elif motif == 3:
        post_mark(sheet, s * 0.5, s * 0.42, s * 0.15, dark)
    elif motif == 4:
        sheet.disc(s * 0.6, s * 0.4, s * 0.11, (*GORSE, 255))
        sheet.polygon([(s * 0.13, s * 0.70), (s * 0.34, s * 0.36), (s * 0.55, s * 0.70)], pale)
    else:
        for k in range(3):
            sheet.disc(s * (0.34 + 0.16 * k), s * (0.54 - 0.08 * (k % 2)), s * 0.09, pale, s * 0.05)
    sheet.text(s * 0.74, s * 0.22, str(1 + number % 9), s * 0.13, (*CREAM, 255))
    sheet.text(s * 0.5, s * 0.80, "SKERRY POST", s * 0.075, (*CREAM, 255))
    return grain(sheet.done(), rng, 7, 6)


def _bird(sheet: Sheet, x: float, y: float, size: float, flap: float, body: Colour) -> None:
    for side in (-1, 1):
        tip = (x + side * size, y - size * (0.1 + flap))
        middle = (x + side * size * 0.45, y - size * (0.25 + 0.9 * flap))
        sheet.polygon(
            [
                *_curve([(x, y - size * 0.06), middle, tip]),
                *_curve([tip, (middle[0], middle[1] + size * 0.26), (x, y + size * 0.14)]),
            ],
            body,
        )
        sheet.line([tip, (x + side * size * 0.86, y - size * (0.12 + flap))], (*TAR, 255), size * 0.06)
    sheet.disc(x, y + size * 0.02, size * 0.16, body, size * 0.13)
    sheet.disc(x, y - size * 0.1, size * 0.1, body)
    sheet.polygon(
        [(x - size * 0.05, y - size * 0.08), (x + size * 0.05, y - size * 0.08), (x, y + size * 0.06)],
        (*GORSE, 255),
    )


def seabird(side: int, kind: int, frame: int) -> np.ndarray[Any, Any]:
    sheet = Sheet(side, side)
    body = [(*FOAM, 255), (92, 100, 112, 255), (240, 222, 186, 255), (70, 62, 66, 255)][kind]
    _bird(sheet, side / 2, side * 0.55, side * 0.42, 0.28 * math.sin(frame / 6 * 2 * math.pi), body)
    return sheet.done()


def sign(rng: Rng, width: int, height: int, words: str, board: Colour) -> np.ndarray[Any, Any]:
    sheet = Sheet(width, height)
    w, h = width, height
    sheet.box(w * 0.46, h * 0.5, w * 0.54, h, (92, 70, 50, 255))
    sheet.polygon(
        [
            (w * 0.05, h * 0.14),
            (w * 0.86, h * 0.10),
            (w * 0.97, h * 0.33),
            (w * 0.86, h * 0.58),
            (w * 0.05, h * 0.56),
        ],
        (*board, 255),
    )
    sheet.line([(w * 0.08, h * 0.18), (w * 0.85, h * 0.14)], (*tuple(min(255, c + 40) for c in board), 255), 3)
    for x, y in ((0.09, 0.21), (0.09, 0.49), (0.84, 0.17), (0.84, 0.52)):
        sheet.disc(w * x, h * y, 2.4, (*TAR, 255))
    sheet.text(w * 0.47, h * 0.35, words, min(h * 0.17, w * 1.35 / max(len(words), 1)), (*CREAM, 255))
    return grain(sheet.done(), rng, 10, 4)


def weather(side: int, kind: int) -> np.ndarray[Any, Any]:
    sheet = Sheet(side, side)
    s = side
    if kind % 4 == 0:
        for k in range(8):
            a = k * math.pi / 4
            sheet.line(
                [
                    (s * (0.5 + 0.28 * math.cos(a)), s * (0.5 + 0.28 * math.sin(a))),
                    (s * (0.5 + 0.42 * math.cos(a)), s * (0.5 + 0.42 * math.sin(a))),
                ],
                (*GORSE, 255),
                s * 0.06,
            )
        sheet.disc(s * 0.5, s * 0.5, s * 0.2, (*GORSE, 255))
    else:
        cloud = (*FOAM, 255) if kind % 4 == 1 else (*SLATE, 255)
        for x, y, r in ((0.34, 0.5, 0.16), (0.52, 0.42, 0.2), (0.68, 0.52, 0.15)):
            sheet.disc(s * x, s * y, s * r, cloud)
        sheet.box(s * 0.32, s * 0.5, s * 0.7, s * 0.66, cloud, s * 0.08)
        for k in range(4 if kind % 4 >= 2 else 0):
            x = s * (0.34 + 0.11 * k)
            end = (x - s * 0.05, s * 0.88) if kind % 4 == 2 else (x, s * 0.8)
            sheet.line([(x, s * 0.72), end], (150, 200, 214, 255), s * 0.03 * (1 + kind % 3))
    if kind >= 8:
        sheet.line([(s * 0.1, s * 0.2), (s * 0.45, s * 0.2), (s * 0.5, s * 0.12)], (*FOAM, 255), s * 0.03)
    return sheet.done()


def chart(rng: Rng, side: int) -> np.ndarray[Any, Any]:
    """The map of the islets that the game shows small, without mip levels."""
    land = noise(rng, side, side, 3, 5)
    y, x = np.mgrid[0:side, 0:side] / side
    land = land - 0.55 * np.hypot(x - 0.5, y - 0.5)
    colour = np.where(
        (land > 0.34)[..., None],
        _mix(SAND, MOSS, (land - 0.34) * 5),
        _mix((176, 204, 204), (222, 232, 222), land * 2.5),
    )
    shore = np.abs(land - 0.34) < 0.012
    colour[shore] = PEAT
    lines = (np.arange(side) % (side // 8)) == 0
    colour[lines] = colour[lines] * 0.9
    colour[:, lines] = colour[:, lines] * 0.9
    image = Image.fromarray(np.clip(colour, 0, 255).astype(np.uint8))
    draw = ImageDraw.Draw(image)
    for k in range(7):
        px, py = (rng.uniform(0.2, 0.8, 2) * side).astype(int)
        draw.ellipse([px - 4, py - 4, px + 4, py + 4], fill=OXBLOOD, outline=CREAM)
        draw.text((px + 6, py - 6), "ABCDEFG"[k], fill=TAR, font=ImageFont.load_default(12))
    return _opaque(np.asarray(image).astype(np.float32))


def letter(side: int, character: str) -> np.ndarray[Any, Any]:
    """A glyph of the harbour's painted alphabet."""
    sheet = Sheet(side, side)
    sheet.text(side / 2 + 2, side / 2 + 2, character, side * 0.7, (*TAR, 120))
    sheet.text(side / 2, side / 2, character, side * 0.7, (*CREAM, 255))
    return sheet.done()


def shop(rng: Rng, width: int, height: int, wall: Colour) -> np.ndarray[Any, Any]:
    sheet = Sheet(width, height)
    w, h = width, height
    sheet.box(w * 0.08, h * 0.36, w * 0.92, h * 0.98, (*wall, 255))
    sheet.polygon([(w * 0.02, h * 0.40), (w * 0.5, h * 0.06), (w * 0.98, h * 0.40)], (66, 58, 62, 255))
    for k in range(12):
        y = h * (0.42 + 0.05 * k)
        sheet.line([(w * 0.08, y), (w * 0.92, y)], (*tuple(round(c * 0.86) for c in wall), 255), 1)
    sheet.box(w * 0.42, h * 0.62, w * 0.60, h * 0.98, (*PEAT, 255), 3)
    for x in (0.16, 0.68):
        sheet.box(w * x, h * 0.56, w * (x + 0.17), h * 0.76, (*CREAM, 255), 2)
        sheet.box(w * (x + 0.015), h * 0.575, w * (x + 0.155), h * 0.745, (*GORSE, 255), 1)
        sheet.line([(w * (x + 0.085), h * 0.56), (w * (x + 0.085), h * 0.76)], (*CREAM, 255), 2)
    sheet.box(w * 0.7, h * 0.10, w * 0.78, h * 0.26, (*OXBLOOD, 255))
    return grain(sheet.done(), rng, 8, 6)


def soften(picture: np.ndarray[Any, Any], radius: float) -> np.ndarray[Any, Any]:
    """A blurred copy (for shadows)."""
    return np.asarray(Image.fromarray(picture).filter(ImageFilter.GaussianBlur(radius)))
