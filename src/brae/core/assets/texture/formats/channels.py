"""Plain pixels: 8-bit channels in some order, and channels of a few bits packed into one number."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from brae.core.assets.texture.formats.base import DEFAULT, Alpha, Blocks, How, Picture, exact, register
from brae.core.assets.texture.formats.precision import as_precision

#: weights of R, G and B in the luma of a colour (ITU-R BT.709), in 65536ths
_LUMA = (13933, 46871, 4732)


def grey_of(picture: Picture) -> np.ndarray[Any, np.dtype[np.uint8]]:
    """One value a pixel; exact where the picture is grey already."""
    total = np.full(picture.shape[:2], 1 << 15, np.uint32)
    for channel, part in enumerate(_LUMA):
        total += picture[..., channel].astype(np.uint32) * np.uint32(part)
    return (total >> np.uint32(16)).astype(np.uint8)


def _picture(height: int, width: int, holds: str) -> Picture:
    """What a format shows of channels that it does not hold: no colour, or white under an alpha alone; opaque."""
    result = np.zeros((height, width, 4), np.uint8)
    result[..., 3] = 255
    if holds == "a":
        result[..., :3] = 255
    return result


@dataclass(eq=False)
class Channels(Blocks):
    """8-bit channels; ``order`` names those of a pixel's bytes: R, G, B, A, L (grey), X (unused)."""

    name: str
    title: str
    order: str

    @property
    def block_bytes(self) -> int:  # type: ignore[override]
        return len(self.order)

    @property
    def alpha(self) -> Alpha:
        return "full" if "A" in self.order else "none"

    @property
    def holds(self) -> str:
        return "".join(channel for channel in "rgbla" if channel.upper() in self.order)

    def masks(self) -> tuple[int, tuple[int, int, int, int]]:
        """Bits of a pixel and the masks of R, G, B, A in its little-endian number (grey counts as R)."""
        places = [self.order.find(channel) for channel in ("L" if "L" in self.order else "R", "G", "B", "A")]
        red, green, blue, alpha = (0xFF << 8 * place if place >= 0 else 0 for place in places)
        return 8 * len(self.order), (red, green, blue, alpha)

    def decode(self, data: bytes, width: int, height: int) -> Picture:
        stored = np.frombuffer(exact(self, data, width, height), np.uint8).reshape(height, width, -1)
        picture = _picture(height, width, self.holds)
        for place, channel in enumerate(self.order):
            if channel == "L":
                picture[..., :3] = stored[..., place : place + 1]
            elif channel != "X":
                picture[..., "RGBA".index(channel)] = stored[..., place]
        return picture

    def encode(self, picture: Picture, how: How = DEFAULT) -> bytes:
        picture = as_precision(picture, "8")
        stored = np.full((*picture.shape[:2], len(self.order)), 255, np.uint8)
        kept = how.kept(stored)
        for place, channel in enumerate(self.order):
            if channel == "L":
                stored[..., place] = grey_of(picture)
            elif channel == "X":
                # What is said to be unused a game may read all the same: it stays, also where colours changed.
                stored[..., place] = 255 if kept is None else kept[..., place]
            else:
                stored[..., place] = picture[..., "RGBA".index(channel)]
        return how.mixed(stored).tobytes()


@dataclass(eq=False)
class PackedBits(Blocks):
    """Channels of a few bits in one number; ``fields`` names them from the highest bit down (X is unused).

    A value of n bits stands for value / (2^n - 1) (UNORM, Direct3D 11 functional specification, 3.2.3.5); as one of
    8 bits it is rounded down, as Pillow does, and encodes to the same value again.
    """

    name: str
    title: str
    fields: tuple[tuple[str, int], ...]
    big: bool = False

    @property
    def block_bytes(self) -> int:  # type: ignore[override]
        return sum(bits for _, bits in self.fields) // 8

    @property
    def alpha(self) -> Alpha:
        bits = dict(self.fields).get("A", 0)
        return "none" if bits == 0 else "binary" if bits == 1 else "full"

    @property
    def holds(self) -> str:
        return "".join(channel for channel in "rgbla" if channel.upper() in dict(self.fields))

    def masks(self) -> tuple[int, tuple[int, int, int, int]] | None:
        """Bits of a pixel and the masks of R, G, B, A; None where the number is big-endian."""
        if self.big:
            return None
        found = {channel: ((1 << bits) - 1) << shift for channel, bits, shift in self.shifts()}
        return 8 * self.block_bytes, (
            found.get("R", found.get("L", 0)),
            found.get("G", 0),
            found.get("B", 0),
            found.get("A", 0),
        )

    def shifts(self) -> list[tuple[str, int, int]]:
        shift, result = 0, []
        for channel, bits in reversed(self.fields):
            if channel != "X":
                result.append((channel, bits, shift))
            shift += bits
        return result

    @property
    def _dtype(self) -> np.dtype[Any]:
        return np.dtype(f"{'>' if self.big else '<'}u{self.block_bytes}")

    def decode(self, data: bytes, width: int, height: int) -> Picture:
        numbers = np.frombuffer(exact(self, data, width, height), self._dtype).reshape(height, width)
        picture = _picture(height, width, self.holds)
        for channel, bits, shift in self.shifts():
            most = (1 << bits) - 1
            value = (numbers >> shift & most).astype(np.uint32)
            wide = (value * 255 // most).astype(np.uint8)
            if channel == "L":
                picture[..., :3] = wide[..., None]
            else:
                picture[..., "RGBA".index(channel)] = wide
        return picture

    def encode(self, picture: Picture, how: How = DEFAULT) -> bytes:
        picture = as_precision(picture, "8")
        numbers = np.zeros(picture.shape[:2], np.uint32)
        for channel, bits, shift in self.shifts():
            most = (1 << bits) - 1
            wide = grey_of(picture) if channel == "L" else picture[..., "RGBA".index(channel)]
            if channel == "A" and bits == 1 and not how.clear:
                wide = np.full_like(wide, 255)
            # The nearest of few steps; the first of many that is shown as the same value.
            near = wide.astype(np.uint32) * most
            numbers |= ((near + 254) // 255 if bits > 8 else (near * 2 + 255) // 510) << np.uint32(shift)
        packed = numbers.astype(self._dtype)
        kept, used = how.kept(packed), sum(((1 << bits) - 1) << shift for _, bits, shift in self.shifts())
        if kept is not None and (unused := (1 << 8 * self.block_bytes) - 1 - used):
            packed |= kept & np.array(unused, self._dtype)
        stored = packed.view(np.uint8).reshape(*picture.shape[:2], -1)
        return how.mixed(stored).tobytes()


RGBA8 = register(Channels("rgba8", "RGBA 8-bit", "RGBA"))
BGRA8 = register(Channels("bgra8", "BGRA 8-bit", "BGRA"))
RGB8 = register(Channels("rgb8", "RGB 24-bit", "RGB"))
BGR8 = register(Channels("bgr8", "BGR 24-bit", "BGR"))
for _order in ("ARGB", "ABGR", "RGBX", "BGRX", "XRGB", "XBGR"):
    register(Channels(f"{_order.lower()}8", f"{_order} 8-bit", _order))
register(Channels("l8", "Grey 8-bit", "L"))
register(Channels("la8", "Grey and alpha 8-bit", "LA"))
register(Channels("a8", "Alpha 8-bit", "A"))
register(Channels("r8", "R 8-bit", "R"))
register(Channels("rg8", "RG 8-bit", "RG"))


def _packed(name: str, bits: tuple[int, ...]) -> None:
    fields = tuple(zip(name.upper(), bits, strict=True))
    number = "".join(str(width) for width in bits)
    title = f"{name.upper()} {':'.join(str(width) for width in bits)}"
    register(PackedBits(f"{name}{number}", title, fields))
    register(PackedBits(f"{name}{number}-be", f"{title}, big-endian", fields, big=True))


for _name in ("rgb", "bgr"):
    _packed(_name, (5, 6, 5))
    _packed(f"x{_name}", (1, 5, 5, 5))
    _packed(f"a{_name}", (1, 5, 5, 5))
    _packed(f"{_name}a", (5, 5, 5, 1))
    _packed(f"a{_name}", (4, 4, 4, 4))
    _packed(f"x{_name}", (4, 4, 4, 4))
    _packed(f"{_name}a", (4, 4, 4, 4))
    _packed(f"a{_name}", (2, 10, 10, 10))
    _packed(f"{_name}a", (10, 10, 10, 2))
register(PackedBits("rgb332", "RGB 3:3:2", (("R", 3), ("G", 3), ("B", 2))))
register(PackedBits("argb8332", "ARGB 8:3:3:2", (("A", 8), ("R", 3), ("G", 3), ("B", 2))))
register(PackedBits("al44", "Alpha and grey 4:4", (("A", 4), ("L", 4))))
