"""What people do to a picture on purpose, and what editors and converters do to it behind their backs.

The pictures are those that scikit-image ships; clear ones are cut out of them, normal maps are made of their light.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import skimage.data
from PIL import Image, ImageChops, ImageDraw, ImageEnhance, ImageFilter
from scipy import ndimage

Picture = np.ndarray
PHOTOS = ("astronaut", "chelsea", "coffee", "rocket", "retina", "immunohistochemistry", "hubble_deep_field", "logo")
SURFACES = ("brick", "grass", "gravel", "moon", "coins", "cell")
SIDE = 192


def _piece(name: str, chance: np.random.Generator) -> Picture:
    picture = getattr(skimage.data, name)()
    colour = np.repeat(picture[..., None], 3, axis=2) if picture.ndim == 2 else picture[..., :3]
    height, width = colour.shape[:2]
    part = min(height, width, int(chance.integers(SIDE, 2 * SIDE)))
    top, left = int(chance.integers(0, height - part + 1)), int(chance.integers(0, width - part + 1))
    small = Image.fromarray(colour[top : top + part, left : left + part]).resize((SIDE, SIDE), Image.LANCZOS)
    return np.dstack([np.asarray(small), np.full((SIDE, SIDE), 255, np.uint8)])


def photo(chance: np.random.Generator) -> Picture:
    """A piece of a photograph, opaque."""
    return _piece(str(chance.choice(PHOTOS)), chance)


def sprite(chance: np.random.Generator) -> Picture:
    """A shape cut out of one, its edges soft, half of them with a glow."""
    picture = photo(chance)
    y, x = np.mgrid[0:SIDE, 0:SIDE] - SIDE / 2
    turn = np.arctan2(y, x)
    shape = 60 + sum(chance.uniform(2, 14) * np.sin(k * turn + chance.uniform(0, 6)) for k in range(2, 6))
    soft = chance.choice([1.5, 12.0])
    picture[..., 3] = np.clip((shape - np.hypot(x, y)) / soft + 0.5, 0, 1) * 255
    return picture


def normal_map(chance: np.random.Generator) -> Picture:
    """Directions of a surface's light taken as heights."""
    heights = ndimage.gaussian_filter(_piece(str(chance.choice(SURFACES)), chance)[..., 0].astype(float), 1.2)
    down, across = np.gradient(heights / 255 * chance.uniform(6, 14))
    return _pack(-across, down)


def _pack(x: Picture, y: Picture) -> Picture:
    directions = np.dstack([x, y, np.ones_like(x)])
    directions /= np.linalg.norm(directions, axis=2, keepdims=True)
    return np.dstack([np.rint((directions + 1) * 127.5), np.full(x.shape, 255)]).astype(np.uint8)


def _unpack(picture: Picture) -> tuple[Picture, Picture]:
    directions = picture[..., :3].astype(float) / 127.5 - 1
    z = np.maximum(directions[..., 2], 0.05)
    return directions[..., 0] / z, directions[..., 1] / z


MAKERS: dict[str, Callable[[np.random.Generator], Picture]] = {
    "photo": photo,
    "sprite": sprite,
    "normal": normal_map,
}
Edit = Callable[[Picture, np.random.Generator], Picture]


def _pillow(change: Callable[[Image.Image, np.random.Generator], Image.Image]) -> Edit:
    def edit(picture: Picture, chance: np.random.Generator) -> Picture:
        changed = change(Image.fromarray(picture[..., :3]), chance).convert("RGB")
        return np.dstack([np.asarray(changed), picture[..., 3]])

    return edit


def _strokes(image: Image.Image, chance: np.random.Generator) -> Image.Image:
    pen = ImageDraw.Draw(image)
    for _ in range(int(chance.integers(1, 12))):
        points = [tuple(map(int, chance.integers(0, SIDE, 2))) for _ in range(4)]
        pen.line(points, fill=tuple(map(int, chance.integers(0, 256, 3))), width=int(chance.integers(1, 14)))
    return image


def _words(image: Image.Image, chance: np.random.Generator) -> Image.Image:
    pen = ImageDraw.Draw(image)
    for _ in range(int(chance.integers(1, 6))):
        pen.text(tuple(map(int, chance.integers(0, SIDE - 60, 2))), "Harbour Inn", fill=(240, 220, 60))
    return image


def _hue(image: Image.Image, chance: np.random.Generator) -> Image.Image:
    bands = list(image.convert("HSV").split())
    by = int(chance.integers(10, 240))
    bands[0] = bands[0].point(lambda value: (value + by) % 256)
    return Image.merge("HSV", bands).convert("RGB")


def _pasted(image: Image.Image, chance: np.random.Generator) -> Image.Image:
    other = Image.fromarray(photo(chance)[..., :3])
    part = other.crop((0, 0, int(chance.integers(20, SIDE)), int(chance.integers(20, SIDE))))
    image.paste(part, tuple(map(int, chance.integers(0, SIDE // 2, 2))))
    return image


def _sky(image: Image.Image, chance: np.random.Generator) -> Image.Image:
    ramp = np.linspace(0, 1, SIDE)[:, None, None] * np.array([90, 140, 230.0])
    sky = Image.fromarray(np.repeat(ramp, SIDE, axis=1).astype(np.uint8))
    return Image.blend(image, sky, chance.uniform(0.1, 0.7))


def _closer(image: Image.Image, chance: np.random.Generator) -> Image.Image:
    edge = int(chance.integers(6, 40))
    return image.crop((edge, edge, SIDE - edge, SIDE - edge)).resize((SIDE, SIDE), Image.LANCZOS)


def _enhanced(kind: type, low: float, high: float) -> Edit:
    return _pillow(lambda image, chance: kind(image).enhance(chance.uniform(low, high)))


def _noise(picture: Picture, chance: np.random.Generator) -> Picture:
    changed = picture.copy()
    noise = chance.normal(0, chance.uniform(1, 14), picture[..., :3].shape)
    changed[..., :3] = np.clip(picture[..., :3] + noise, 0, 255)
    return changed


def _alpha(change: Callable[[Picture, np.random.Generator], Picture]) -> Edit:
    def edit(picture: Picture, chance: np.random.Generator) -> Picture:
        changed = np.clip(change(picture[..., 3].astype(float), chance), 0, 255)
        return np.dstack([picture[..., :3], changed.astype(np.uint8)])

    return edit


def _slopes(change: Callable[[Picture, Picture, np.random.Generator], tuple[Picture, Picture]]) -> Edit:
    return lambda picture, chance: _pack(*change(*_unpack(picture), chance))


def _bump(x: Picture, y: Picture, chance: np.random.Generator) -> tuple[Picture, Picture]:
    row, column = np.mgrid[0:SIDE, 0:SIDE].astype(float)
    for _ in range(int(chance.integers(1, 8))):
        top, left, wide = chance.uniform(20, SIDE - 20), chance.uniform(20, SIDE - 20), chance.uniform(5, 25)
        hill = np.exp(-((row - top) ** 2 + (column - left) ** 2) / wide**2)
        x, y = x + hill * (column - left) / wide, y - hill * (row - top) / wide
    return x, y


def _sepia(image: Image.Image, chance: np.random.Generator) -> Image.Image:
    grey = image.convert("L")
    return Image.merge("RGB", [grey.point([int(v * part) for v in range(256)]) for part in (1, 0.85, 0.6)])


def _curve(image: Image.Image, chance: np.random.Generator) -> Image.Image:
    power = chance.uniform(0.7, 1.45)
    return image.point([int(255 * (v / 255) ** power) for v in range(256)] * 3)


def _corners(image: Image.Image, chance: np.random.Generator) -> Image.Image:
    dark = Image.radial_gradient("L").resize((SIDE, SIDE)).point([255 - v // 2 for v in range(256)])
    return ImageChops.multiply(image, dark.convert("RGB"))


def _blurred(image: Image.Image, chance: np.random.Generator) -> Image.Image:
    return image.filter(ImageFilter.GaussianBlur(chance.uniform(0.4, 3)))


def _sharpened(image: Image.Image, chance: np.random.Generator) -> Image.Image:
    return image.filter(ImageFilter.UnsharpMask(2, int(chance.integers(40, 200))))


def _hole(alpha: Picture, chance: np.random.Generator) -> Picture:
    return alpha * (np.hypot(*(np.mgrid[0:SIDE, 0:SIDE] - chance.uniform(60, 130))) > 20)


def _scaled(x: Picture, y: Picture, chance: np.random.Generator) -> tuple[Picture, Picture]:
    by = chance.uniform(0.75, 1.35)
    return x * by, y * by


def _smoother(x: Picture, y: Picture, chance: np.random.Generator) -> tuple[Picture, Picture]:
    wide = chance.uniform(0.3, 1.2)
    return ndimage.gaussian_filter(x, wide), ndimage.gaussian_filter(y, wide)


def _flat_in_part(x: Picture, y: Picture, chance: np.random.Generator) -> tuple[Picture, Picture]:
    left = np.arange(SIDE)[:, None] > chance.uniform(20, 90)
    return x * left, y * left


COLOUR: dict[str, Edit] = {
    "strokes": _pillow(_strokes),
    "words": _pillow(_words),
    "other hue": _pillow(_hue),
    "pasted": _pillow(_pasted),
    "other sky": _pillow(_sky),
    "closer": _pillow(_closer),
    "brightness": _enhanced(ImageEnhance.Brightness, 0.7, 1.35),
    "contrast": _enhanced(ImageEnhance.Contrast, 0.6, 1.6),
    "saturation": _enhanced(ImageEnhance.Color, 0.3, 2.0),
    "blurred": _pillow(_blurred),
    "sharpened": _pillow(_sharpened),
    "another picture": lambda picture, chance: np.dstack([photo(chance)[..., :3], picture[..., 3]]),
    "grain": _noise,
    "sepia": _pillow(_sepia),
    "a curve": _pillow(_curve),
    "darker corners": _pillow(_corners),
}
#: what people do on purpose, and what nobody should be told anything about
HARMLESS: dict[str, dict[str, Edit]] = {
    "photo": COLOUR,
    "sprite": COLOUR
    | {
        "a hole": _alpha(_hole),
        "fainter": _alpha(lambda alpha, chance: alpha * chance.uniform(0.5, 0.95)),
        "a softer edge": _alpha(lambda alpha, chance: ndimage.gaussian_filter(alpha, chance.uniform(1, 5))),
        "larger": _alpha(lambda alpha, chance: ndimage.grey_dilation(alpha, size=int(chance.integers(3, 15)))),
    },
    "normal": {
        "bumps": _slopes(_bump),
        "a little stronger": _slopes(_scaled),
        "smoother": _slopes(_smoother),
        "flat in part": _slopes(_flat_in_part),
        "another surface": lambda picture, chance: normal_map(chance),
    },
}


def _mapped(table: Callable[[Picture], Picture]) -> Edit:
    def edit(picture: Picture, chance: np.random.Generator) -> Picture:
        values = np.clip(np.rint(table(np.arange(256) / 255) * 255), 0, 255).astype(np.uint8)
        return np.dstack([values[picture[..., :3]], picture[..., 3]])

    return edit


def _moved(picture: Picture, chance: np.random.Generator) -> Picture:
    by = chance.choice([(0, 1), (1, 0), (0, -1), (-1, 0), (1, 1), (-1, 1), (2, 0), (0, -2)])
    return np.roll(picture, tuple(by), axis=(0, 1))


def _grey(picture: Picture, chance: np.random.Generator) -> Picture:
    luma = np.rint(picture[..., :3] @ np.array([0.299, 0.587, 0.114])).astype(np.uint8)
    return np.dstack([luma, luma, luma, picture[..., 3]])


def _channel(channel: int, change: Callable[[Picture], Picture]) -> Edit:
    def edit(picture: Picture, chance: np.random.Generator) -> Picture:
        changed = picture.copy()
        changed[..., channel] = change(picture[..., channel])
        return changed

    return edit


@dataclass(frozen=True)
class Damage:
    """Something that happens to a picture: what is to be found, and with which remedy it is put right."""

    of: str
    finding: str
    remedy: str
    edit: Edit
    #: levels of 255 by which the mended picture may differ from the original, on the average
    off: float = 0.0


#: the sRGB curve (IEC 61966-2-1), and the other way round
def _to_srgb(v: Picture) -> Picture:
    return np.where(v <= 0.0031308, v * 12.92, 1.055 * np.maximum(v, 1e-9) ** (1 / 2.4) - 0.055)


def _to_light(v: Picture) -> Picture:
    return np.where(v <= 0.04045, v / 12.92, ((v + 0.055) / 1.055) ** 2.4)


_RED = _channel(0, lambda values: 255 - values)
_GREEN = _channel(1, lambda values: 255 - values)
_TWICE = _slopes(lambda x, y, chance: (2 * x, 2 * y))
_HALF = _slopes(lambda x, y, chance: (x / 2, y / 2))
_HARD = _channel(3, lambda alpha: (alpha > 127) * np.uint8(255))
_ALMOST = _channel(3, lambda alpha: np.full_like(alpha, 254))
DAMAGES = {
    "alpha all 0": Damage("sprite", "alpha-empty", "restore-alpha", _channel(3, np.zeros_like)),
    "alpha all 0, opaque": Damage("photo", "alpha-empty", "make-opaque", _channel(3, np.zeros_like)),
    "alpha all 254": Damage("photo", "alpha-almost", "make-opaque", _ALMOST),
    "alpha turned round": Damage("sprite", "alpha-inverted", "invert-alpha", _channel(3, lambda a: 255 - a)),
    "soft to hard": Damage("sprite", "alpha-hard", "restore-alpha", _HARD),
    "grey": Damage("photo", "colours-gone", "restore-colour", _grey, 8),
    "mirrored": Damage("photo", "mirrored", "mirror", lambda picture, chance: picture[:, ::-1]),
    "upside down": Damage("photo", "orientation", "flip", lambda picture, chance: picture[::-1]),
    "half round": Damage("photo", "turned", "turn-around", lambda picture, chance: picture[::-1, ::-1]),
    "a quarter right": Damage("photo", "turned", "turn-left", lambda picture, chance: np.rot90(picture, -1)),
    "a quarter left": Damage("photo", "turned", "turn-right", lambda picture, chance: np.rot90(picture)),
    "moved": Damage("photo", "shifted", "shift-back", _moved),
    "moved, clear": Damage("sprite", "shifted", "shift-back", _moved),
    "light taken for sRGB": Damage("photo", "gamma-applied", "undo-gamma", _mapped(_to_srgb), 6),
    "sRGB taken for light": Damage("photo", "gamma-applied", "undo-gamma", _mapped(_to_light), 6),
    "a gamma of 2.2": Damage("photo", "gamma-applied", "undo-gamma", _mapped(lambda v: v**2.2), 6),
    "red the other way": Damage("normal", "red-direction", "flip-red", _RED),
    "green the other way": Damage("normal", "green-direction", "flip-green", _GREEN),
    "twice as strong": Damage("normal", "normals-strength", "match-strength", _TWICE, 3),
    "half as strong": Damage("normal", "normals-strength", "match-strength", _HALF, 3),
    "grey normals": Damage("normal", "normals-grey", "from-heights", _grey, 60),
}
