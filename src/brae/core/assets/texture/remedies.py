"""What puts an edit right, applied to the picture before it is encoded."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Literal

import numpy as np
from PIL import Image

from brae.core.assets.texture import formats
from brae.core.assets.texture.formats import Picture, precision_of
from brae.core.assets.texture.texture import TextureFile

RemedyId = Literal[
    "flip", "mirror", "turn-around", "turn-left", "turn-right", "resize", "shift-back", "swap-red-blue",
    "flip-red", "flip-green", "from-heights", "match-strength", "normalise", "unmultiply", "undo-gamma",
    "restore-colour", "invert-alpha", "restore-alpha", "make-opaque", "restore-hidden", "convert", "make-mips",
]  # fmt: skip

#: an edit and its original, and what becomes of the edit
Action = Callable[[Picture, Picture], Picture]
#: slopes that are more than the coarseness of 8 bits; pixels that are needed to tell
_LEANS, _ENOUGH = 0.06, 64
#: pixels by which a picture may have been moved, and of which it is told
_FARTHEST, _MIDDLE, _FEW = 2, 256, 512

REMEDIES: dict[RemedyId, str] = {
    "flip": "Turn it upside down",
    "mirror": "Exchange left and right",
    "turn-around": "Turn it half round",
    "turn-left": "Turn it a quarter to the left",
    "turn-right": "Turn it a quarter to the right",
    "resize": "Resize to the original's dimensions",
    "shift-back": "Move it back to where the original is",
    "swap-red-blue": "Exchange red and blue",
    "flip-red": "Turn the red direction round",
    "flip-green": "Turn the green direction round",
    "from-heights": "Take it as heights, and make directions of them",
    "match-strength": "Make the slopes as steep as the original's",
    "normalise": "Make every direction one long",
    "unmultiply": "Divide the colour by its alpha",
    "undo-gamma": "Take the gamma out",
    "restore-colour": "Take the colours from the original",
    "invert-alpha": "Turn the transparency round",
    "restore-alpha": "Take the transparency from the original",
    "make-opaque": "Make every pixel opaque",
    "restore-hidden": "Take the colour of clear pixels from the original",
}


def _back(values: np.ndarray, like: Picture) -> Picture:
    """Floats as a picture of the same depth."""
    if like.dtype == np.float32:
        return values.astype(np.float32)
    return np.rint(values.clip(0, formats.white_of(like))).astype(like.dtype)


def resize(picture: Picture, width: int, height: int) -> Picture:
    """Another size by a Lanczos filter; colour is weighted by alpha so that edges do not darken."""
    if picture.shape[:2] == (height, width):
        return picture
    most = formats.white_of(picture)
    alpha = picture[..., 3].astype(np.float32) / np.float32(most)

    def channel(values: np.ndarray) -> np.ndarray:
        image = Image.fromarray(np.ascontiguousarray(values, np.float32), "F")
        return np.asarray(image.resize((width, height), Image.Resampling.LANCZOS))

    new_alpha = channel(alpha)
    result = np.empty((height, width, 4), np.float32)
    for index in range(3):
        values = picture[..., index].astype(np.float32)
        weighted, plain = channel(values * alpha), channel(values)
        result[..., index] = np.where(new_alpha > 1 / 512, weighted / np.maximum(new_alpha, 1 / 512), plain)
    result[..., 3] = new_alpha * most
    return _back(np.maximum(result, 0), picture)


def filled_white(picture: Picture, before: Picture) -> bool:
    """Whether areas that were clear came back as opaque white (8-bit pictures)."""
    clear = before[..., 3] == 0
    if picture.shape != before.shape or not clear.any():
        return False
    here = picture[clear]
    return bool(((here[:, :3] >= 250).all(axis=1) & (here[:, 3] == 255)).mean() > 0.9)


def _fitting(before: Picture, picture: Picture) -> Picture:
    """The original in the sides and the depth of the edit."""
    if before.shape != picture.shape:
        before = resize(before, picture.shape[1], picture.shape[0])
    return formats.as_precision(before, precision_of(picture))


def _restore_alpha(picture: Picture, before: Picture) -> Picture:
    before, picture = _fitting(before, picture), picture.copy()
    # Where the original is wholly clear its colour comes back too: white there would bleed into the edges.
    if filled_white(formats.shown(picture), formats.shown(before)):
        clear = before[..., 3] == 0
        picture[clear] = before[clear]
    picture[..., 3] = before[..., 3]
    return picture


def _make_opaque(picture: Picture, before: Picture) -> Picture:
    picture = picture.copy()
    picture[..., 3] = formats.white_of(picture)
    return picture


def _restore_hidden(picture: Picture, before: Picture) -> Picture:
    before, picture = _fitting(before, picture), picture.copy()
    hidden = (picture[..., 3] == 0) & (before[..., 3] == 0)
    picture[hidden, :3] = before[hidden, :3]
    return picture


def _swap(picture: Picture, before: Picture) -> Picture:
    return picture[..., [2, 1, 0, 3]]


def few(picture: Picture) -> Picture:
    """Every so many pixels, 512 a side at most: of large pictures they tell as much as all."""
    step = max(1, -(-max(picture.shape[:2]) // _FEW))
    return picture[::step, ::step]


def _inverted(channel: int) -> Action:
    def invert(picture: Picture, before: Picture) -> Picture:
        picture = picture.copy()
        picture[..., channel] = formats.white_of(picture) - picture[..., channel]
        return picture

    return invert


def _slopes(picture: Picture) -> np.ndarray:
    """Of 8-bit directions x / z and y / z; where they nearly lie down they are as steep as can be told."""
    directions = picture[..., :3].astype(np.float32) / 127.5 - 1
    return directions[..., :2] / np.maximum(directions[..., 2:], 0.05)


def slope_ratio(picture: Picture, before: Picture) -> float:
    """How many times as steep a normal map's slopes are as the original's (8-bit pictures of the same sides).

    The median over pixels that lean by more than their coarseness, so that what was painted anew counts little.
    """
    now, then = (np.linalg.norm(_slopes(few(one)), axis=2) for one in (picture, before))
    leans = (then > _LEANS) & (now > _LEANS / 4)
    return float(np.median(now[leans] / then[leans])) if leans.sum() > _ENOUGH else 1.0


def _match_strength(picture: Picture, before: Picture) -> Picture:
    before = _fitting(before, picture)
    times = slope_ratio(formats.shown(picture), formats.shown(before))
    most = formats.white_of(picture)
    directions = picture[..., :3].astype(np.float64) / most * 2 - 1
    directions[..., :2] /= times
    return _with_directions(picture, directions)


def _from_heights(picture: Picture, before: Picture) -> Picture:
    """Directions of a grey picture taken as heights, as steep on the whole as the original's."""
    before = _fitting(before, picture)
    heights = picture[..., 1].astype(np.float64) / formats.white_of(picture)
    # Central differences; the picture repeats, as most surfaces do.
    down, across = ((np.roll(heights, -1, axis) - np.roll(heights, 1, axis)) / 2 for axis in (0, 1))
    steep, wanted = np.hypot(down, across).mean(), np.linalg.norm(_slopes(formats.shown(before)), axis=2).mean()
    scale = wanted / steep if steep > 1e-9 else 0.0
    slopes = np.stack([across * scale, down * scale, np.ones_like(heights)], axis=2)
    # Which way round red and green go is as in the original, as far as that was made of the same heights.
    then = before[..., :2].astype(np.float64) / formats.white_of(before) - 0.5
    signs = [1 if (slopes[..., axis] * then[..., axis]).sum() > 0 else -1 for axis in range(2)]
    slopes[..., :2] *= signs
    return _with_directions(picture, slopes)


def _with_directions(picture: Picture, directions: np.ndarray) -> Picture:
    """A picture that holds these directions, made one long."""
    length = np.sqrt((directions**2).sum(axis=2, keepdims=True))
    result = picture.copy()
    result[..., :3] = _back((directions / np.maximum(length, 1e-6) + 1) / 2 * formats.white_of(picture), picture)
    return result


def _seen(picture: Picture) -> np.ndarray:
    """The middle of an 8-bit picture, 256 pixels a side at most, as it is seen over black."""
    height, width = picture.shape[:2]
    top, left = max(0, height - _MIDDLE) // 2, max(0, width - _MIDDLE) // 2
    part = picture[top : top + _MIDDLE, left : left + _MIDDLE].astype(np.float32)
    return part[..., :3] * (part[..., 3:] / 255)


def shift_between(picture: Picture, before: Picture) -> tuple[int, int] | None:
    """Rows and columns by which everything is moved (8-bit pictures of the same sides); None where nothing is."""
    if picture.shape != before.shape or min(picture.shape[:2]) < 4 * _FARTHEST:
        return None
    now, then = _seen(picture), _seen(before)
    edge, (height, width) = _FARTHEST, now.shape[:2]
    inner = now[edge : height - edge, edge : width - edge]

    def off(down: int, right: int) -> float:
        top, left = edge - down, edge - right
        return float(np.abs(inner - then[top : top + inner.shape[0], left : left + inner.shape[1]]).mean())

    straight = off(0, 0)
    if straight < 1:
        return None
    steps = range(-edge, edge + 1)
    best, moved = min((off(down, right), (down, right)) for down in steps for right in steps)
    return moved if moved != (0, 0) and best < 0.3 * straight else None


def _shift_back(picture: Picture, before: Picture) -> Picture:
    """What was moved out of the picture comes from the original."""
    before = _fitting(before, picture)
    moved = shift_between(formats.shown(picture), formats.shown(before))
    if moved is None:
        return picture
    result = before.copy()
    (height, width), (down, right) = picture.shape[:2], moved
    result[max(0, -down) : height - max(0, down), max(0, -right) : width - max(0, right)] = picture[
        max(0, down) : height - max(0, -down), max(0, right) : width - max(0, -right)
    ]
    return result


def gamma_between(picture: Picture, before: Picture) -> float | None:
    """The exponent that makes of the original what came back, near 2.2 or 1 / 2.2 (8 bits, the same sides).

    None where another change explains it as well, or where the exponent is one that a person may have chosen.
    """
    picture, before = few(picture), few(before)
    seen = (picture[..., 3] > 0) & (before[..., 3] > 0)
    now, then = picture[seen][:, :3].astype(np.float64), before[seen][:, :3].astype(np.float64)
    tells = (then > 16) & (then < 240) & (now > 2) & (now < 254)
    if tells.sum() < _ENOUGH:
        return None
    now, then = now[tells] / 255, then[tells] / 255
    x, y = np.log(then), np.log(now)
    gamma = float((x * y).sum() / (x * x).sum())
    straight, left = np.abs(now - then).mean(), np.abs(now - then**gamma).mean()
    near = 0.8 < abs(np.log(gamma)) / np.log(2.2) < 1.25 if gamma > 0 else False
    return gamma if near and straight > 8 / 255 and left < 0.2 * straight else None


def _undo_gamma(picture: Picture, before: Picture) -> Picture:
    gamma = gamma_between(formats.shown(picture), formats.shown(_fitting(before, picture)))
    if gamma is None:
        return picture
    most, result = formats.white_of(picture), picture.copy()
    result[..., :3] = _back((picture[..., :3] / most) ** (1 / gamma) * most, picture)
    return result


def _restore_colour(picture: Picture, before: Picture) -> Picture:
    """The edit's brightness, the original's colour differences (luma of Rec. ITU-R BT.709)."""
    before, result = _fitting(before, picture), picture.copy()
    luma = np.array([0.2126, 0.7152, 0.0722])
    now, then = picture[..., :3].astype(np.float64) @ luma, before[..., :3].astype(np.float64)
    result[..., :3] = _back(now[..., None] + then - (then @ luma)[..., None], picture)
    return result


def _normalise(picture: Picture, before: Picture) -> Picture:
    most = formats.white_of(picture)
    directions = picture[..., :3].astype(np.float64) / most * 2 - 1
    length = np.sqrt((directions**2).sum(axis=2, keepdims=True))
    straight = np.array([0.0, 0.0, 1.0])
    directions = np.where(length > 1e-3, directions / np.maximum(length, 1e-3), straight)
    result = picture.copy()
    result[..., :3] = _back((directions + 1) / 2 * most, picture)
    return result


def _unmultiply(picture: Picture, before: Picture) -> Picture:
    alpha = picture[..., 3:].astype(np.float64) / formats.white_of(picture)
    result = picture.copy()
    colour = picture[..., :3] / np.maximum(alpha, 1e-6)
    result[..., :3] = np.where(alpha > 0, _back(colour, picture), picture[..., :3])
    return result


#: in the order in which they are applied, whatever order they were chosen in
_ACTIONS: dict[RemedyId, Action] = {
    "flip": lambda picture, before: picture[::-1],
    "mirror": lambda picture, before: picture[:, ::-1],
    "turn-around": lambda picture, before: picture[::-1, ::-1],
    "turn-left": lambda picture, before: np.rot90(picture),
    "turn-right": lambda picture, before: np.rot90(picture, -1),
    "resize": lambda picture, before: resize(picture, before.shape[1], before.shape[0]),
    "shift-back": _shift_back,
    "swap-red-blue": _swap,
    "flip-red": _inverted(0),
    "flip-green": _inverted(1),
    "from-heights": _from_heights,
    "match-strength": _match_strength,
    "normalise": _normalise,
    "unmultiply": _unmultiply,
    "undo-gamma": _undo_gamma,
    "restore-colour": _restore_colour,
    "invert-alpha": _inverted(3),
    "restore-alpha": _restore_alpha,
    "make-opaque": _make_opaque,
    "restore-hidden": _restore_hidden,
}


def apply_remedies(picture: Picture, original: TextureFile, remedies: Sequence[str]) -> Picture:
    """The edit with its remedies applied, always in the same order."""
    before = original.picture()
    for remedy, action in _ACTIONS.items():
        if remedy in remedies:
            picture = action(picture, before)
    return np.ascontiguousarray(picture)
