"""Pixels without a header, from pictures that are not ours, as many programs would leave them.

Blocks of BC1 and BC3 are made by a library that shares nothing with Brae (etcpak), plain pixels by numpy alone,
palettes by Pillow's median cut. Which picture gets which form is drawn from a seed.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

import etcpak
import numpy as np
import skimage.data
from PIL import Image

from brae.core.assets.texture import formats
from brae.core.assets.texture.guess import Guess

#: scikit-image's pictures (licences in its data/README.txt): what the rules were tuned on, what is only measured
TUNED_ON = (
    "astronaut", "brick", "chelsea", "clock", "coins", "grass", "hubble_deep_field", "motorcycle_left",
)  # fmt: skip
MEASURED = (
    "camera",
    "cat",
    "coffee",
    "gravel",
    "immunohistochemistry",
    "moon",
    "motorcycle_right",
    "page",
    "retina",
    "rocket",
)
#: forms, the commoner ones more than once
FORMS = (
    "bc1", "bc1", "bc3", "bc3", "bc7", "bc7", "bc2", "bc4", "bc5", "rgba8", "rgba8", "bgra8", "bgra8", "rgb8",
    "bgr8", "rgb565", "argb1555", "argb4444", "l8", "la8", "index8", "index8", "index8", "index4",
)  # fmt: skip
_SIDES = (32, 64, 128, 256, 256, 512, 512, 1024)
_ODD = ((320, 240), (640, 480), (200, 120), (100, 100), (300, 168), (48, 96), (160, 144))


@dataclass(frozen=True)
class Bare:
    """What the bytes are."""

    form: str
    width: int
    height: int
    levels: int
    #: where a palette is: "", "before", "behind" or "elsewhere"
    palette: str
    data: bytes
    #: the first level as any reader shows it
    seen: np.ndarray

    def fits(self, guess: Guess) -> bool:
        """Whether a guess shows the same: sides, levels, and the very pixels; greys for a palette elsewhere."""
        if (guess.width, guess.height, guess.levels) != (self.width, self.height, self.levels):
            return False
        if guess.format == self.form and not self.palette:
            return True
        head = guess.header(self.data)
        size = head.level_size(0)
        shown = formats.shown(head.format.decode(self.data[guess.offset : guess.offset + size], *head.sides(0)))
        return bool(np.array_equal(shown, self.seen))


def photographs(names: tuple[str, ...]) -> dict[str, np.ndarray]:
    """RGBA pictures of scikit-image."""
    found = {}
    for name in names:
        if name.startswith("motorcycle"):
            picture = skimage.data.stereo_motorcycle()[name.endswith("right")]
        else:
            picture = np.asarray(getattr(skimage.data, name)())
        picture = np.repeat(picture[..., None], 3, axis=2) if picture.ndim == 2 else picture
        rgba = np.full((*picture.shape[:2], 4), 255, np.uint8)
        rgba[..., : picture.shape[2]] = picture
        found[name] = rgba
    return found


def _shows_something(picture: np.ndarray) -> bool:
    """Whether a twentieth of it at least is seen, and is not all the same."""
    seen = picture[..., 3] > 127
    return bool(seen.mean() > 0.05 and picture[seen][:, :3].std(axis=0).max() > 8)


def _part(picture: np.ndarray, width: int, height: int, rng: np.random.Generator) -> np.ndarray:
    """A part of a picture at these sides; some with the corners cut out, some with soft alpha."""
    share = rng.uniform(0.5, 1)
    rows, columns = (max(1, int(side * share)) for side in picture.shape[:2])
    top, left = (
        int(rng.integers(0, side - part + 1)) for side, part in zip(picture.shape, (rows, columns), strict=False)
    )
    part = Image.fromarray(picture[top : top + rows, left : left + columns])
    result = np.asarray(part.resize((width, height), Image.Resampling.LANCZOS)).copy()
    if (result[..., 3] == 255).all() and rng.random() < 0.35:
        y, x = np.mgrid[-1 : 1 : height * 1j, -1 : 1 : width * 1j]
        far = np.hypot(x, y)
        soft = np.clip((1 - far) * rng.choice([4.0, 400.0]), 0, 1) * 255
        result[..., 3] = soft.astype(np.uint8)
        if rng.random() < 0.5:
            result[result[..., 3] == 0] = 0
    return result


def _chain(picture: np.ndarray, levels: int) -> list[np.ndarray]:
    height, width = picture.shape[:2]
    image = Image.fromarray(picture)
    sides = [(max(1, width >> k), max(1, height >> k)) for k in range(levels)]
    return [picture, *(np.asarray(image.resize(side, Image.Resampling.BOX)) for side in sides[1:])]


def _blocks(picture: np.ndarray, form: str) -> bytes:
    rows, columns = (-(-side // 4) * 4 for side in picture.shape[:2])
    whole = np.pad(picture, ((0, rows - picture.shape[0]), (0, columns - picture.shape[1]), (0, 0)), "edge")
    if form in ("bc1", "bc3"):
        bgra = np.ascontiguousarray(whole[..., [2, 1, 0, 3]])
        make = etcpak.compress_bc1 if form == "bc1" else etcpak.compress_bc3
        return bytes(make(bgra.tobytes(), columns, rows))
    return formats.get(form).encode(np.ascontiguousarray(whole), formats.How(effort="fast"))


def _plain(picture: np.ndarray, form: str) -> bytes:
    r, g, b, a = (picture[..., k].astype(np.uint16) for k in range(4))
    if form in ("rgba8", "bgra8", "rgb8", "bgr8"):
        return np.ascontiguousarray(picture[..., ["rgba".index(one) for one in form[:-1]]]).tobytes()
    if form in ("l8", "la8"):
        grey = np.asarray(Image.fromarray(picture[..., :3]).convert("L"))
        return (grey if form == "l8" else np.dstack([grey, picture[..., 3]])).tobytes()
    number = {
        "rgb565": (r >> 3) << 11 | (g >> 2) << 5 | b >> 3,
        "argb1555": (a >> 7) << 15 | (r >> 3) << 10 | (g >> 3) << 5 | b >> 3,
        "argb4444": (a >> 4) << 12 | (r >> 4) << 8 | (g >> 4) << 4 | b >> 4,
    }[form]
    return number.astype("<u2").tobytes()


def _palette(colours: np.ndarray, kind: str) -> bytes:
    """Entries as bytes: R, G, B, A or B, G, R, A, three bytes, or 1:5:5:5 bits."""
    if kind == "argb1555":
        return _plain(colours[None], kind)
    return np.ascontiguousarray(colours[:, ["rgba".index(one) for one in kind[:-1]]]).tobytes()


def indexed(picture: np.ndarray, form: str, levels: int, place: str, kind: str) -> tuple[bytes, np.ndarray]:
    """Indices of colours by median cut, a palette of this kind beside them or elsewhere; and what is seen."""
    many = 256 if form == "index8" else 16
    image = Image.fromarray(picture[..., :3]).quantize(many, Image.Quantize.MEDIANCUT, dither=Image.Dither.NONE)
    colours = np.zeros((many, 4), np.uint8)
    given = np.array(image.getpalette(), np.uint8).reshape(-1, 3)[:many]
    colours[: len(given), :3], colours[:, 3] = given, 255
    if kind == "argb1555":
        colours[:, :3] = (colours[:, :3] >> 3).astype(np.uint16) * 255 // 31
    numbers = np.asarray(image)
    data = b""
    for level in range(levels):
        some = numbers[:: 1 << level, :: 1 << level][
            : max(1, numbers.shape[0] >> level), : max(1, numbers.shape[1] >> level)
        ]
        data += (
            some.tobytes() if form == "index8" else (some[:, ::2] | some[:, 1::2] << 4).astype(np.uint8).tobytes()
        )
    if place == "elsewhere":
        grey = np.repeat((numbers * (255 // (many - 1)))[..., None], 4, axis=2).astype(np.uint8)
        grey[..., 3] = 255
        return data, grey
    entries = _palette(colours, kind)
    return (entries + data if place == "before" else data + entries), colours[numbers]


def bare(pictures: Mapping[str, np.ndarray], count: int, seed: int) -> Iterator[Bare]:
    """So many of them."""
    rng = np.random.default_rng(seed)
    names = sorted(pictures)
    for number in range(count):
        form = FORMS[number % len(FORMS)]
        if rng.random() < 0.75:
            width = int(rng.choice(_SIDES))
            height = int(np.clip(width * 2.0 ** int(rng.integers(-1, 2)), 32, 1024))
        else:
            width, height = _ODD[int(rng.integers(len(_ODD)))]
        powers = width & (width - 1) == 0 and height & (height - 1) == 0
        levels = max(width, height).bit_length() if powers and rng.random() < 0.5 else 1
        picture = _part(pictures[names[int(rng.integers(len(names)))]], width, height, rng)
        while not _shows_something(picture):
            picture = _part(pictures[names[int(rng.integers(len(names)))]], width, height, rng)
        if form.startswith("index"):
            place = str(rng.choice(["before", "behind", "elsewhere"]))
            kind = str(rng.choice(["rgba8", "bgra8", "rgb8", "argb1555"]))
            data, seen = indexed(picture, form, 1 if form == "index4" else levels, place, kind)
            yield Bare(form, width, height, 1 if form == "index4" else levels, place, data, seen)
            continue
        make = _blocks if form.startswith("bc") else _plain
        data = b"".join(make(np.ascontiguousarray(one), form) for one in _chain(picture, levels))
        pixel_format = formats.get(form)
        first = data[: pixel_format.size(width, height)]
        seen = formats.shown(pixel_format.decode(first, width, height))
        yield Bare(form, width, height, levels, "", data, seen)
