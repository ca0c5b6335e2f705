"""Pictures in groups of one size, which of them show the same, and a new one for every group."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from PIL import Image

from brae.core.errors import FormatError, NotFoundError
from brae.core.sizes.shading import FEWEST, Floats, Shading, beside, common

#: filters that pictures are made smaller by
FILTERS = {
    "box": Image.Resampling.BOX, "bilinear": Image.Resampling.BILINEAR, "bicubic": Image.Resampling.BICUBIC,
    "lanczos": Image.Resampling.LANCZOS,
}  # fmt: skip
#: siblings of one size from which on more tell nothing new
ENOUGH = 400
#: pictures that are tried to tell the filter
_TRIED = 12
#: where less of the art is seen, the larger picture tells nothing of it
_SEEN = 0.3
#: how much two pictures have to be alike to be the same in two sizes (correlation of their small likenesses)
_ALIKE, _LIKENESS = 0.9, 12
#: the same where the names say so: what is called alike and looks otherwise is another picture
_NAMED = 0.5
_SIZE_WORDS = re.compile(
    r"([_\-. ]|^)(xs|s|m|l|xl|small|medium|large|tiny|big|icon|thumb|\d+x\d+|@\d+x)(?=[_\-. ]|$)", re.I
)


@dataclass(frozen=True)
class Sibling:
    """An original: its address, and its picture (height, width, 4), 0 to 1."""

    address: str
    picture: Floats

    @property
    def key(self) -> str:
        """What it shows, as far as its name tells."""
        return named(self.address)[0]


def named(address: str) -> tuple[str, str]:
    """What an item shows as far as its name tells, without folder, ending and words for sizes; and those words."""
    name = address.rpartition("/")[2].partition(".")[0].lower()
    words = "".join(found[2] for found in _SIZE_WORDS.finditer(name))
    return _SIZE_WORDS.sub("", name), words


@dataclass
class Size:
    """A group of one size, and what was worked out of it."""

    width: int
    height: int
    siblings: list[Sibling]
    shading: Shading = field(init=False)
    filter: str = "box"
    #: siblings of which the same was found in a larger size
    pairs: int = 0

    @property
    def name(self) -> str:
        return f"{self.width}x{self.height}"


def sizes_of(siblings: Sequence[Sibling]) -> list[Size]:
    """The groups, the largest first, with what lies over each. NotFoundError where there are no pictures."""
    if not siblings:
        raise NotFoundError("There are no pictures to make it like.")
    groups: dict[tuple[int, int], list[Sibling]] = defaultdict(list)
    for one in siblings:
        height, width = one.picture.shape[:2]
        groups[width, height].append(one)
    found = [Size(width, height, some) for (width, height), some in groups.items()]
    found.sort(key=lambda size: -size.width * size.height)
    for number, size in enumerate(found):
        _work_out(size, found[:number])
    return found


def _work_out(size: Size, larger: Sequence[Size]) -> None:
    pictures = [one.picture for one in size.siblings]
    size.shading = common(pictures)
    for other in larger:
        # Only of the same shape: another crop shows other things at a place.
        if abs(other.width * size.height - other.height * size.width) > max(other.width, other.height):
            continue
        pairs = _pairs(size.siblings, other.siblings)
        if len(pairs) < FEWEST:
            continue
        arts = [other.shading.off(second.picture) for _, second in pairs]
        here = [first.picture for first, _ in pairs]
        size.filter, made = _best_filter(here, arts, size)
        shading = beside(here, made)
        seen = resized(np.dstack([other.shading.gain] * 4), size.width, size.height, "box")[..., 0] >= _SEEN
        alone = size.shading
        size.shading = Shading(
            np.where(seen[..., None], shading.gain, alone.gain),
            np.where(seen[..., None], shading.offset, alone.offset),
            alone.alpha,
            len(pictures),
        )
        size.pairs = len(pairs)
        return


def _pairs(some: Sequence[Sibling], others: Sequence[Sibling]) -> list[tuple[Sibling, Sibling]]:
    """The same picture in two sizes: by their names, else by what they look like."""
    by_key: dict[str, list[Sibling]] = defaultdict(list)
    for one in others:
        by_key[one.key].append(one)
    here, there = _likenesses(some), _likenesses(others)
    table = here @ there.T
    place_of = {id(one): place for place, one in enumerate(others)}
    named = {
        place: place_of[id(by_key[one.key][0])]
        for place, one in enumerate(some)
        if len(by_key.get(one.key, ())) == 1
    }
    if len(set(named.values())) == len(named) >= FEWEST:
        return [(some[place], others[other]) for place, other in named.items() if table[place, other] > _NAMED]
    nearest, back = table.argmax(axis=1), table.argmax(axis=0)
    return [
        (one, others[nearest[place]])
        for place, one in enumerate(some)
        if back[nearest[place]] == place and table[place, nearest[place]] >= _ALIKE
    ]


def _likenesses(some: Sequence[Sibling]) -> np.ndarray[Any, Any]:
    """Rows of length one: small pictures without what they have in common, which is what lies over them."""
    small = np.stack([resized(one.picture, _LIKENESS, _LIKENESS, "box")[..., :3].ravel() for one in some])
    small = small - small.mean(axis=0)
    length = np.linalg.norm(small, axis=1, keepdims=True)
    return np.asarray(small / np.maximum(length, 1e-6))


def _best_filter(here: Sequence[Floats], arts: Sequence[Floats], size: Size) -> tuple[str, list[Floats]]:
    def left(name: str) -> float:
        made = [resized(art, size.width, size.height, name) for art in arts[:_TRIED]]
        shading = beside(here[:_TRIED], made)
        return float(
            np.mean(
                [np.abs(shading.on(one) - other)[..., :3].mean() for one, other in zip(made, here, strict=False)]
            )
        )

    best = min(FILTERS, key=left)
    return best, [resized(art, size.width, size.height, best) for art in arts]


def resized(picture: Floats, width: int, height: int, how: str) -> Floats:
    """Another size; colours under clear pixels do not bleed into what is seen."""
    if picture.shape[:2] == (height, width):
        return picture
    alpha = picture[..., 3:]
    bands = np.concatenate([picture[..., :3] * alpha, alpha], axis=2).astype(np.float32)
    made = np.dstack(
        [np.asarray(Image.fromarray(bands[..., band]).resize((width, height), FILTERS[how])) for band in range(4)]
    )
    seen = np.maximum(made[..., 3:], 1e-4)
    return np.asarray(np.clip(np.dstack([made[..., :3] / seen, made[..., 3]]), 0, 1), np.float32)


def cropped(picture: Floats, width: int, height: int, middle: tuple[float, float] = (0.5, 0.5)) -> Floats:
    """The part of a picture around its ``middle`` (x, y; 0 to 1) that has the shape of a size."""
    rows, columns = picture.shape[:2]
    if columns * height > rows * width:
        wanted = max(round(rows * width / height), 1)
        start = round((columns - wanted) * middle[0])
        return picture[:, start : start + wanted]
    wanted = max(round(columns * height / width), 1)
    start = round((rows - wanted) * middle[1])
    return picture[start : start + wanted]


def sharpened(picture: Floats, amount: float) -> Floats:
    """A picture with its edges raised: what a blur over its neighbours takes away is added, ``amount`` times."""
    if not amount:
        return picture
    import cv2

    alpha = picture[..., 3:]
    bands = np.ascontiguousarray(np.concatenate([picture[..., :3] * alpha, alpha], axis=2))
    soft = np.asarray(cv2.GaussianBlur(bands, (0, 0), 0.8, borderType=cv2.BORDER_REPLICATE))
    around = soft[..., :3] / np.maximum(soft[..., 3:], 1e-4)
    colour = np.clip(picture[..., :3] + amount * (picture[..., :3] - around), 0, 1)
    return np.concatenate([np.where(alpha > 0, colour, picture[..., :3]), alpha], axis=2).astype(np.float32)


def make(
    master: Floats,
    size: Size,
    over: Shading | None = None,
    *,
    sharpen: float = 0,
    middle: tuple[float, float] = (0.5, 0.5),
) -> Floats:
    """The master in a size, with what lies over its siblings (or ``over``).

    ``sharpen``: 0 to 2, after it was made smaller; ``middle``: around what it is cropped (x, y; 0 to 1).
    """
    rows, columns = master.shape[:2]
    if rows < size.height and columns < size.width:
        raise FormatError(
            f"The master has {columns} x {rows} pixels, and {size.name} is larger.",
            remedy="Give a picture that is at least as large as the largest size.",
        )
    art = resized(cropped(master, size.width, size.height, middle), size.width, size.height, size.filter)
    return (over or size.shading).on(sharpened(art, sharpen))


def told(sizes: Sequence[Size]) -> list[dict[str, Any]]:
    """For JSON: what was found of each size."""
    return [
        {
            "size": size.name, "siblings": len(size.siblings), "pairs": size.pairs, "filter": size.filter,
            "shared_alpha": size.shading.alpha is not None,
            "darkest": round(float(size.shading.seen("gain").min(initial=1)), 3),
            "lightest": round(float(size.shading.seen("offset").max(initial=0)), 3),
        }
        for size in sizes
    ]  # fmt: skip
