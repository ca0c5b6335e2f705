"""Textures whose levels were made by Pillow and numpy, in ways that are known, and packed by etcpak."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import etcpak
import numpy as np
import skimage.data
from PIL import Image

from brae.core.assets.texture import formats
from brae.core.assets.texture.files import read_raw
from brae.core.assets.texture.mips import Filter
from brae.core.assets.texture.texture import Header, TextureFile

NAMES = (
    "astronaut",
    "brick",
    "chelsea",
    "coffee",
    "grass",
    "gravel",
    "hubble_deep_field",
    "rocket",
    "retina",
    "camera",
)
#: Pillow's filters by our names
FILTERS: dict[Filter, Image.Resampling] = {
    "box": Image.Resampling.BOX,
    "triangle": Image.Resampling.BILINEAR,
    "cubic": Image.Resampling.BICUBIC,
    "lanczos": Image.Resampling.LANCZOS,
}
_SIDE = 256


@dataclass(frozen=True)
class Chained:
    """A texture and how its levels were made."""

    name: str
    form: str
    filter: Filter
    linear: bool
    texture: TextureFile


def _light(values: np.ndarray) -> np.ndarray:
    """IEC 61966-2-1."""
    return np.where(values <= 0.04045, values / 12.92, ((values + 0.055) / 1.055) ** 2.4)


def _stored(light: np.ndarray) -> np.ndarray:
    light = light.clip(0, 1)
    return np.where(light <= 0.0031308, light * 12.92, 1.055 * light ** (1 / 2.4) - 0.055)


def _halved(picture: np.ndarray, filter_: Filter, linear: bool) -> np.ndarray:
    values = picture[..., :3] / 255
    planes = (_light(values) if linear else values).astype(np.float32)
    side = picture.shape[1] // 2, picture.shape[0] // 2
    small = np.stack(
        [np.asarray(Image.fromarray(planes[..., c]).resize(side, FILTERS[filter_])) for c in range(3)], axis=-1
    )
    result = np.full((*small.shape[:2], 4), 255, np.uint8)
    result[..., :3] = np.rint((_stored(small) if linear else small.clip(0, 1)) * 255)
    return result


def _packed(picture: np.ndarray, form: str) -> bytes:
    height, width = picture.shape[:2]
    if form == "rgba8":
        return picture.tobytes()
    bgra = np.ascontiguousarray(picture[..., [2, 1, 0, 3]]).tobytes()
    if form == "bc7":
        settings = etcpak.BC7CompressBlockParams()
        settings.init_linear_weights()
        return bytes(etcpak.compress_bc7(picture.tobytes(), width, height, settings))
    return bytes((etcpak.compress_bc1 if form == "bc1" else etcpak.compress_bc3)(bgra, width, height))


def chained(count: int, seed: int) -> Iterator[Chained]:
    """So many of them, of three levels each."""
    rng = np.random.default_rng(seed)
    for number in range(count):
        name = NAMES[number % len(NAMES)]
        whole = np.asarray(Image.fromarray(getattr(skimage.data, name)()).convert("RGBA"))
        top, left = (int(rng.integers(0, side - _SIDE + 1)) for side in whole.shape[:2])
        picture = np.ascontiguousarray(whole[top : top + _SIDE, left : left + _SIDE])
        form = ("bc1", "bc3", "bc7", "rgba8")[number % 4]
        filter_, linear = list(FILTERS)[int(rng.integers(4))], bool(rng.integers(2))
        levels = [picture]
        for _ in range(2):
            levels.append(_halved(levels[-1], filter_, linear))
        data = b"".join(_packed(level, form) for level in levels)
        header = Header("raw", formats.get(form), _SIDE, _SIDE, 3)
        yield Chained(name, form, filter_, linear, read_raw(data, header))
