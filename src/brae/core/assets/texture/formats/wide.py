"""Channels of more than 8 bits: 16-bit integers, half and single floats, small floats packed into 32 bits."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from brae.core.assets.texture.formats.base import (
    DEFAULT,
    Alpha,
    Blocks,
    How,
    Picture,
    Precision,
    exact,
    get,
    register,
)
from brae.core.assets.texture.formats.precision import as_precision


@dataclass(eq=False)
class WideChannels(Blocks):
    """Channels of 16 bits (unsigned, 0 to 1), half floats or single floats, in the order of ``order``."""

    name: str
    title: str
    order: str
    #: numpy's name of a channel, such as "<u2"
    type: str

    @property
    def block_bytes(self) -> int:  # type: ignore[override]
        return len(self.order) * np.dtype(self.type).itemsize

    @property
    def precision(self) -> Precision:  # type: ignore[override]
        return "16" if "u" in self.type else "float"

    @property
    def alpha(self) -> Alpha:
        return "full" if "A" in self.order else "none"

    @property
    def holds(self) -> str:
        return "".join(channel for channel in "rgbla" if channel.upper() in self.order)

    def decode(self, data: bytes, width: int, height: int) -> Picture:
        stored = np.frombuffer(exact(self, data, width, height), self.type).reshape(height, width, -1)
        picture = np.zeros((height, width, 4), np.uint16 if self.precision == "16" else np.float32)
        picture[..., 3] = 65535 if self.precision == "16" else 1
        for place, channel in enumerate(self.order):
            if channel == "L":
                picture[..., :3] = stored[..., place : place + 1]
            else:
                picture[..., "RGBA".index(channel)] = stored[..., place]
        return picture

    def encode(self, picture: Picture, how: How = DEFAULT) -> bytes:
        picture = as_precision(picture, self.precision)
        stored = np.empty((*picture.shape[:2], len(self.order)), np.float64)
        for place, channel in enumerate(self.order):
            if channel == "L":
                stored[..., place] = picture[..., :3] @ [0.2126, 0.7152, 0.0722]
            else:
                stored[..., place] = picture[..., "RGBA".index(channel)]
        if self.precision == "16":
            stored = np.rint(stored)
        elif "2" in self.type:
            # A half float reaches to 65,504; what is brighter stays the brightest there is.
            stored = np.nan_to_num(stored, nan=0.0).clip(-65504, 65504)
        packed = np.ascontiguousarray(stored.astype(self.type))
        return how.mixed(packed.view(np.uint8).reshape(*picture.shape[:2], -1)).tobytes()


def _small_float(bits: np.ndarray[Any, Any], mantissa: int) -> np.ndarray[Any, np.dtype[np.float32]]:
    """Values of floats of 5 bits of exponent (bias 15) and no sign."""
    exponent, rest = bits >> mantissa, bits & ((1 << mantissa) - 1)
    fraction = rest / np.float32(1 << mantissa)
    value = np.where(exponent == 0, fraction * 2.0**-14, (1 + fraction) * np.exp2(exponent.astype(np.float32) - 15))
    special = np.where(rest == 0, np.inf, np.nan)
    result: np.ndarray[Any, np.dtype[np.float32]] = np.where(exponent == 31, special, value).astype(np.float32)
    return result


def _to_small_float(value: np.ndarray[Any, Any], mantissa: int) -> np.ndarray[Any, np.dtype[np.uint32]]:
    """The nearest bits of such a float; negative values become 0, too great ones the greatest finite."""
    most = np.float32((2 - 2.0**-mantissa) * 2.0**15)
    value = np.nan_to_num(value, nan=0.0).clip(0, most).astype(np.float32)
    # A half float of the same exponent has ten bits behind it; rounding those off may carry into the exponent.
    half = value.astype(np.float64).view(np.uint64)
    exponent = (half >> np.uint64(52)).astype(np.int64) - 1023 + 15
    scaled = np.where(exponent < 1, value * 2.0 ** (14 + mantissa), 0)
    # Below the least normal number the scale would be beyond all bounds, and is not used.
    normal = value.astype(np.float64) * np.exp2(mantissa + 15.0 - np.maximum(exponent, 1))
    bits = np.where(exponent < 1, np.rint(scaled), np.rint(normal) + ((np.maximum(exponent, 1) - 1) << mantissa))
    return bits.clip(0, (31 << mantissa) - 1).astype(np.uint32)


@dataclass(eq=False)
class SmallFloats(Blocks):
    """Three floats without a sign in 32 bits: 11, 11 and 10, R in the lowest (DXGI_FORMAT_R11G11B10_FLOAT)."""

    name: str
    title: str
    block_bytes: int = 4
    alpha: Alpha = "none"
    holds: str = "rgb"
    precision: Precision = "float"

    def decode(self, data: bytes, width: int, height: int) -> Picture:
        bits = np.frombuffer(exact(self, data, width, height), "<u4").reshape(height, width)
        picture = np.ones((height, width, 4), np.float32)
        picture[..., 0] = _small_float(bits & 0x7FF, 6)
        picture[..., 1] = _small_float(bits >> 11 & 0x7FF, 6)
        picture[..., 2] = _small_float(bits >> 22, 5)
        return picture

    def encode(self, picture: Picture, how: How = DEFAULT) -> bytes:
        light = as_precision(picture, "float")
        bits = _to_small_float(light[..., 0], 6) | (_to_small_float(light[..., 1], 6) << np.uint32(11))
        bits |= _to_small_float(light[..., 2], 5) << np.uint32(22)
        return how.mixed(bits.astype("<u4").view(np.uint8).reshape(*light.shape[:2], 4)).tobytes()


@dataclass(eq=False)
class SharedExponent(Blocks):
    """Three mantissas of 9 bits and one exponent of 5, R in the lowest bits (DXGI_FORMAT_R9G9B9E5_SHAREDEXP).

    Source: Khronos, EXT_texture_shared_exponent, whose encoding this is (bias 15, 9 bits, greatest value 65,408).
    """

    name: str
    title: str
    block_bytes: int = 4
    alpha: Alpha = "none"
    holds: str = "rgb"
    precision: Precision = "float"

    def decode(self, data: bytes, width: int, height: int) -> Picture:
        bits = np.frombuffer(exact(self, data, width, height), "<u4").reshape(height, width)
        scale = np.exp2((bits >> 27).astype(np.float32) - 24)
        picture = np.ones((height, width, 4), np.float32)
        for c in range(3):
            picture[..., c] = (bits >> (9 * c) & 511) * scale
        return picture

    def encode(self, picture: Picture, how: How = DEFAULT) -> bytes:
        light = np.nan_to_num(as_precision(picture, "float")[..., :3], nan=0.0).clip(0, 65408).astype(np.float64)
        greatest = light.max(axis=2)
        exponent = np.maximum(-16, np.floor(np.log2(np.maximum(greatest, 1e-38)))).astype(np.int64) + 16
        rounded = np.floor(greatest / np.exp2(exponent - 24.0) + 0.5)
        exponent += rounded == 512
        mantissa = np.floor(light / np.exp2(exponent - 24.0)[..., None] + 0.5).astype(np.uint32)
        bits = mantissa[..., 0] | (mantissa[..., 1] << np.uint32(9)) | (mantissa[..., 2] << np.uint32(18))
        bits |= exponent.astype(np.uint32) << np.uint32(27)
        return how.mixed(bits.astype("<u4").view(np.uint8).reshape(*light.shape[:2], 4)).tobytes()


for _order in ("RGBA", "RGB", "RG", "R", "L", "LA"):
    _name = _order.lower()
    register(WideChannels(f"{_name}16", f"{_order} 16-bit", _order, "<u2"))
    register(WideChannels(f"{_name}16f", f"{_order} half float", _order, "<f2"))
    if _order in ("RGBA", "RGB", "RG", "R"):
        register(WideChannels(f"{_name}32f", f"{_order} float", _order, "<f4"))
R11G11B10F = register(SmallFloats("r11g11b10f", "RGB float 11:11:10"))
RGB9E5 = register(SharedExponent("rgb9e5", "RGB 9:9:9 with shared exponent"))
RGBA16F = get("rgba16f")
