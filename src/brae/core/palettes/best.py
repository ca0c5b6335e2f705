"""The best palette for many pictures at once: weighted k-means over all their colours.

As seen, distances are those of Oklab with hue and colourfulness counting twice; for numbers (packed data) they are
those of the stored RGB. The colours begin by splitting along principal axes (X. Wu, "Efficient statistical
computations for optimal color quantization", 1991), and those that hardly anybody uses move to where the error is
largest. What was measured: docs/decisions/0022-palettes-as-the-eye-sees.md.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import Any, Literal

import numpy as np

from brae.core.errors import FormatError
from brae.core.recolour.space import from_lab, to_lab

Colours = np.ndarray[Any, np.dtype[np.uint8]]
Points = np.ndarray[Any, np.dtype[np.float32]]
Numbers = np.ndarray[Any, np.dtype[np.int64]]
Way = Literal["as seen", "numbers"]
#: what becomes of colours, uint8 (n, 3), when they are stored
Store = Callable[[Colours], Colours]

#: different colours that are worked on; more are merged to a grid of so many bits a channel, each with its mean
_MOST_POINTS, _GRID = 60_000, 6
_ROUNDS, _SETTLE = 30, 8
#: colours that move in one round, and how many times less error than the worst they have to stand for
_MOVING, _WORSE = 8, 4
#: rounds at the end that ask for what is off, not for its square; and what in the space is as good as nothing
_SOFTENED, _LEAST = 8, 2e-4
#: pairs of entries and colours of which the nearest are looked for
_MOST_PAIRS = 1 << 22
#: rounds in which colours that fell together are given to others
_FILLING = 12
#: Oklab's parts, so that a distance agrees with what CIEDE2000 says of small differences
_EYE = np.array([1, 2, 2], np.float32)
#: alpha from which a pixel counts as seen
SEEN = 128


@dataclass(frozen=True)
class Reserved:
    """Entries that the game keeps for itself: a colour where it may be used by pictures, None where not."""

    colours: Mapping[int, tuple[int, int, int] | None] = field(default_factory=dict)
    #: the entry of pixels that are not seen
    transparent: int | None = None

    def taken(self) -> set[int]:
        """Their indices."""
        return {*self.colours} | ({self.transparent} if self.transparent is not None else set())


@dataclass(frozen=True)
class Palette:
    """Colours by their indices, uint8 (entries, 3), and which of them pictures may use."""

    colours: Colours
    usable: np.ndarray[Any, np.dtype[np.bool_]]
    transparent: int | None = None

    def __len__(self) -> int:
        return len(self.colours)


def distinct(pictures: Sequence[Colours], weights: Sequence[float] | None = None) -> tuple[Colours, Points]:
    """All colours of pictures (uint8 RGB or RGBA) and how many pixels each has; what is not seen does not count."""
    keys, counts = [], []
    for number, picture in enumerate(pictures):
        flat = picture.reshape(-1, picture.shape[-1])
        if flat.shape[1] == 4:
            flat = flat[flat[:, 3] >= SEEN]
        found, count = np.unique(_packed(flat), return_counts=True)
        keys.append(found)
        counts.append(count * (1.0 if weights is None else weights[number]))
    packed = np.asarray(np.concatenate(keys or [np.empty(0, np.uint32)]), np.uint32)
    return merged(_unpacked(packed), np.concatenate(counts or [np.empty(0)]).astype(np.float32))


def merged(colours: Colours, weight: Points) -> tuple[Colours, Points]:
    """Colours (n, 3) of which some stand twice, each once with the sum of what it counts."""
    every, place = np.unique(_packed(colours), return_inverse=True)
    total = np.bincount(place.ravel(), weight, len(every))
    return _unpacked(every), total.astype(np.float32)


def _packed(flat: Colours) -> np.ndarray[Any, np.dtype[np.uint32]]:
    """Each colour as one number: sorting those is quicker than sorting rows."""
    return np.asarray(flat[:, 0].astype(np.uint32) << 16 | flat[:, 1].astype(np.uint32) << 8 | flat[:, 2])


def _unpacked(keys: np.ndarray[Any, np.dtype[np.uint32]]) -> Colours:
    return np.stack([keys >> 16, keys >> 8 & 255, keys & 255], axis=-1).astype(np.uint8)


def best(
    pictures: Sequence[Colours],
    entries: int,
    reserved: Reserved | None = None,
    *,
    way: Way = "as seen",
    weights: Sequence[float] | None = None,
    depth: tuple[int, int, int] = (8, 8, 8),
    store: Store | None = None,
) -> Palette:
    """The palette of so many entries with which pictures, uint8 (height, width, 3 or 4), lose least.

    ``weights``: how much a pixel of each picture counts. ``depth``: bits of each channel that the format stores; no
    other colour is proposed. ``store`` says the same by what becomes of colours. Where the colours are few enough
    it is exact. Raises FormatError where the entries, or the reserved ones, cannot be.
    """
    return best_of(*distinct(pictures, weights), entries, reserved, way=way, depth=depth, store=store)


def best_of(
    colours: Colours,
    weight: Points,
    entries: int,
    reserved: Reserved | None = None,
    *,
    way: Way = "as seen",
    depth: tuple[int, int, int] = (8, 8, 8),
    store: Store | None = None,
) -> Palette:
    """The same for colours, uint8 (n, 3), each of which counts so much; see ``best``."""
    reserved, store = reserved or Reserved(), store or partial(storable, depth=depth)
    if not 1 <= entries <= 65_536:
        raise FormatError(f"A palette of {entries:,} entries cannot be.", expected="1 to 65,536")
    if bad := sorted(index for index in reserved.taken() if not 0 <= index < entries):
        raise FormatError(f"Entry {bad[0]} cannot be reserved.", expected=f"0 to {entries - 1}")
    fixed = [colour for colour in reserved.colours.values() if colour is not None]
    free = [index for index in range(entries) if index not in reserved.taken()]
    there = _packed(np.array(fixed, np.uint8).reshape(-1, 3))
    wanted = np.setdiff1d(_packed(store(colours)), there)
    if len(wanted) <= len(free):
        chosen = _unpacked(wanted)
    else:
        chosen = _clustered(colours, weight, np.array(fixed, np.uint8).reshape(-1, 3), len(free), way, store)
    result, usable = np.zeros((entries, 3), np.uint8), np.zeros(entries, bool)
    for index, kept in reserved.colours.items():
        if kept is not None:
            result[index], usable[index] = kept, True
    places = free[: len(chosen)]
    result[places], usable[places] = chosen, True
    if reserved.transparent is not None:
        usable[reserved.transparent] = False
    return Palette(result, usable, reserved.transparent)


def mapped(picture: Colours, palette: Palette, way: Way = "as seen") -> Numbers:
    """Each pixel's nearest usable entry, (height, width); what is not seen gets the transparent one."""
    return Mapper(palette, way).mapped(picture)


class Mapper:
    """Pictures in the colours of a palette; each colour is looked for once, however many pictures have it."""

    def __init__(self, palette: Palette, way: Way = "as seen") -> None:
        self._palette, self._way = palette, way
        #: the indices of entries that pictures may use
        self.usable = np.flatnonzero(palette.usable)
        if not len(self.usable):
            raise FormatError("No entry of this palette may be used by a picture.")
        #: the same as points, float32 (entries, 3)
        self.entries = _points(palette.colours[self.usable], way)
        #: one more than the entry of each colour, by its packed number; 0 where it is not known yet
        self._known = np.zeros(1 << 24, np.int32)

    def mapped(self, picture: Colours) -> Numbers:
        """Each pixel's nearest usable entry, (height, width); what is not seen gets the transparent one."""
        flat = picture.reshape(-1, picture.shape[-1])
        keys = _packed(flat)
        found = self._known[keys]
        if not found.all():
            new = np.unique(keys[found == 0])
            nearest, _ = _nearest(_points(_unpacked(new), self._way), self.entries)
            self._known[new] = self.usable[nearest] + 1
            found = self._known[keys]
        found = found - 1
        if flat.shape[1] == 4 and self._palette.transparent is not None:
            found = np.where(flat[:, 3] < SEEN, self._palette.transparent, found)
        return np.asarray(found.reshape(picture.shape[:2]), np.int64)

    def points(self, picture: Colours) -> Points:
        """A picture's colours as points, float32 (height, width, 3)."""
        return _points(picture[..., :3], self._way)

    def nearest(self, points: Points) -> Numbers:
        """The place among ``entries`` that is nearest to each point, of any shape (..., 3)."""
        found, _ = _nearest(points.reshape(-1, 3), self.entries)
        return found.reshape(points.shape[:-1])

    def places(self, indices: Numbers) -> Numbers:
        """The places among ``entries`` of indices; of the transparent one any."""
        return np.minimum(np.searchsorted(self.usable, indices), len(self.usable) - 1)


def placed(before: Colours, new: Colours) -> Colours:
    """New colours in the places of those before, (entries, 3), so that each entry changes as little as can be.

    What is drawn with the entries and not re-mapped looks nearly as before. At most as many new colours as entries
    are given; those that get none keep theirs.
    """
    result = before.copy()
    open_, left = np.ones(len(before), bool), np.ones(len(new), bool)
    # What stands there already stays where it stands first.
    places = {key: place for place, key in reversed(list(enumerate(_packed(before).tolist())))}
    for colour, key in enumerate(_packed(new).tolist()):
        place = places.get(key)
        if place is not None and open_[place]:
            open_[place] = left[colour] = False
    entries, colours = np.flatnonzero(open_), np.flatnonzero(left)
    if not len(colours):
        return result
    if len(entries) * len(colours) > _MOST_PAIRS:
        result[entries[: len(colours)]] = new[colours]
        return result
    one, other = _points(before[entries], "as seen"), _points(new[colours], "as seen")
    apart = ((one[:, None] - other[None]) ** 2).sum(axis=-1)
    # The nearest pairs first; each entry gets one colour.
    free, wanted = np.ones(len(entries), bool), np.ones(len(colours), bool)
    for flat in np.argsort(apart, axis=None, kind="stable"):
        entry, colour = divmod(int(flat), len(colours))
        if free[entry] and wanted[colour]:
            result[entries[entry]] = new[colours[colour]]
            free[entry] = wanted[colour] = False
            if not wanted.any():
                break
    return result


def storable(colours: np.ndarray[Any, Any], depth: tuple[int, int, int]) -> Colours:
    """The nearest colours that a format of so many bits a channel has, widened to 8 bits each."""
    most = np.array([(1 << bits) - 1 for bits in depth], np.float64)
    steps = np.round(np.clip(colours, 0, 255) / 255 * most)
    return np.asarray(np.round(steps / most * 255), np.uint8)


def _points(colours: np.ndarray[Any, Any], way: Way) -> Points:
    numbers = np.asarray(colours, np.float32) / np.float32(255)
    return to_lab(numbers) * _EYE if way == "as seen" else numbers


def _colours(points: Points, way: Way, store: Store) -> Colours:
    numbers = from_lab(points / _EYE) if way == "as seen" else points
    return store(np.clip(np.round(numbers * 255), 0, 255).astype(np.uint8))


def _clustered(colours: Colours, weight: Points, fixed: Colours, count: int, way: Way, store: Store) -> Colours:
    if not count:
        return np.empty((0, 3), np.uint8)
    points, weight = _merged(colours, weight, way)
    kept = _points(fixed, way)
    centres = np.concatenate([kept, _split(points, weight, count)])
    first, last = len(kept), np.inf
    for number in range(_ROUNDS):
        nearest, distance = _nearest(points, centres)
        errors = np.bincount(nearest, weight * distance, len(centres))
        total = float(errors.sum())
        shares = np.bincount(nearest, weight, len(centres))
        sums = np.stack(
            [np.bincount(nearest, weight * points[:, part], len(centres)) for part in range(3)], axis=-1
        )
        used = shares > 0
        used[:first] = False
        centres[used] = (sums[used] / shares[used, None]).astype(np.float32)
        if number < _ROUNDS - _SETTLE and number % 3 == 2:
            _move(centres, points, weight, nearest, distance, errors, first)
        elif last - total < 1e-5 * total and number >= _SETTLE:
            break
        last = total
    if way == "as seen":
        _soften(points, weight, centres, first)
    return _filled(_colours(centres[first:], way, store), fixed, points, weight, way, store)


def _soften(points: Points, weight: Points, centres: Points, first: int) -> None:
    """What is a little off everywhere is seen as well as what is far off: a few rounds without the square."""
    for _ in range(_SOFTENED):
        nearest, distance = _nearest(points, centres)
        less = weight / (np.sqrt(distance) + _LEAST)
        shares = np.bincount(nearest, less, len(centres))
        sums = np.stack([np.bincount(nearest, less * points[:, part], len(centres)) for part in range(3)], axis=-1)
        used = shares > 0
        used[:first] = False
        centres[used] = (sums[used] / shares[used, None]).astype(np.float32)


def _filled(chosen: Colours, fixed: Colours, points: Points, weight: Points, way: Way, store: Store) -> Colours:
    """Colours that became the same once stored stand for one: the others go to where most is lost."""
    count, found = len(chosen), np.unique(chosen, axis=0)
    for _ in range(_FILLING):
        if len(found) == count:
            break
        _, distance = _nearest(points, _points(np.concatenate([fixed, found]), way))
        lost = weight * distance
        worst = np.argsort(-lost, kind="stable")[: 4 * (count - len(found))]
        more = _colours(points[worst[lost[worst] > 0]], way, store)
        known = {*map(tuple, found.tolist()), *map(tuple, fixed.tolist())}
        new = list(dict.fromkeys(one for one in map(tuple, more.tolist()) if one not in known))
        if not new:
            break
        # Half of them at a time: each takes errors from its neighbours.
        some = new[: max((count - len(found) + 1) // 2, 1)]
        found = np.concatenate([found, np.array(some, np.uint8)])
    return found


def _merged(colours: Colours, weight: Points, way: Way) -> tuple[Points, Points]:
    """Very many colours by a grid, each cell with the mean of its colours."""
    points = _points(colours, way)
    if len(points) <= _MOST_POINTS:
        return points, weight
    cells = colours.astype(np.int64) >> (8 - _GRID)
    _, place = np.unique(cells @ np.array([1 << 2 * _GRID, 1 << _GRID, 1]), return_inverse=True)
    place = place.ravel()
    share = np.bincount(place, weight)
    means = np.stack([np.bincount(place, weight * points[:, part]) / share for part in range(3)], axis=-1)
    return means.astype(np.float32), share.astype(np.float32)


def _nearest(points: Points, centres: Points) -> tuple[Numbers, Points]:
    """Each point's nearest centre, and the square of how far it is."""
    from brae.core.palettes.kernels import nearest_of

    nearest, distance = np.empty(len(points), np.int64), np.empty(len(points), np.float32)
    order = np.argsort(centres[:, 0], kind="stable")
    nearest_of(
        np.ascontiguousarray(points, np.float32), np.ascontiguousarray(centres[order]), order, nearest, distance
    )
    return nearest, distance


def _split(points: Points, weight: Points, count: int) -> Points:
    """So many means: the group with the largest error is halved again and again, where that gains most."""
    groups, errors = [np.arange(len(points))], [np.inf]
    while len(groups) < count:
        worst = int(np.argmax(errors))
        if len(groups[worst]) < 2 or errors[worst] <= 0:
            break
        for part, group in enumerate(_halves(points, weight, groups[worst])):
            spread = points[group] - np.average(points[group], axis=0, weights=weight[group])
            error = float((spread**2 * weight[group, None]).sum()) if len(group) > 1 else 0.0
            if part:
                groups.append(group)
                errors.append(error)
            else:
                groups[worst], errors[worst] = group, error
    means = [np.average(points[group], axis=0, weights=weight[group]) for group in groups]
    return np.asarray(means, np.float32)


def _halves(points: Points, weight: Points, group: Numbers) -> tuple[Numbers, Numbers]:
    here, share = points[group].astype(np.float64), weight[group].astype(np.float64)
    spread = here - np.average(here, axis=0, weights=share)
    axis = np.linalg.eigh((spread * share[:, None]).T @ spread)[1][:, -1]
    along = spread @ axis
    order = np.argsort(along, kind="stable")
    shares, sums = np.cumsum(share[order]), np.cumsum((share * along)[order])
    rest = np.maximum(shares[-1] - shares[:-1], 1e-12)
    gain = sums[:-1] ** 2 / shares[:-1] + (sums[-1] - sums[:-1]) ** 2 / rest
    at = int(np.argmax(gain)) + 1
    return group[order[:at]], group[order[at:]]


def _move(
    centres: Points,
    points: Points,
    weight: Points,
    nearest: Numbers,
    distance: Points,
    errors: np.ndarray[Any, Any],
    first: int,
) -> None:
    """The colours that stand for least go to the worst pixel of those that stand for most error."""
    idle = np.argsort(errors[first:], kind="stable")[:_MOVING] + first
    worst = np.argsort(-errors, kind="stable")[:_MOVING]
    for one, other in zip(idle.tolist(), worst.tolist(), strict=False):
        if one != other and errors[other] > _WORSE * errors[one]:
            here = np.flatnonzero(nearest == other)
            if len(here) > 1:
                centres[one] = points[here[np.argmax(weight[here] * distance[here])]]
