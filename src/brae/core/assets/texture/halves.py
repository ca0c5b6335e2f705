"""Textures of which only the small levels are here, and no layout says so: where the others are.

The other half is told by its size, which is that of the missing levels to the byte, by its name, and by its
picture: its smallest level, made half as large, is the largest one that is here. Where many textures share a larger
file, a number of the header says where in it theirs begin: every one that may be is tried, and the picture decides.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from rapidfuzz import fuzz

from brae.core.addresses import stretch
from brae.core.assets.texture import formats
from brae.core.assets.texture.joining import pattern_of
from brae.core.assets.texture.stub import Stub
from brae.core.assets.texture.texture import Header
from brae.core.errors import BraeError
from brae.core.layouts.expressions import evaluate
from brae.core.layouts.hashes import NameHash
from brae.core.layouts.pixels import beside

#: items of the right size that are looked at, those that are called most alike, and that are told
_BY_PICTURE, _SHOWN = 24, 8
#: larger items that are looked into, and what a number that says where counts: bytes, or blocks of so many
_LARGER, _UNITS = 8, (1, 2048, 4096, 512, 16, 4, 1024, 32768, 65536, 256, 128, 64, 32, 8, 2)
#: the same of what only its small size lets one think of: there are many such
_LARGER_OF_ENDS, _UNITS_OF_ENDS = 2, 5
#: likeness from which a place in a larger item is believed
_THERE = 0.5
#: how sure a half of such a file has to be, and may be at most
_CLEAR, _SUREST = 0.75, 0.95
#: letters that tell one name from another
_TELLING = 3
#: mean difference, in levels of 255, from which two pictures are not alike
_UNLIKE = 48.0
#: standard deviation of a picture's colours from which it can be told at any place
_FLAT = 6.0
_HASHES = [
    NameHash(kind=kind, case=case, slash=slash)
    for kind in ("crc32", "fnv1a32", "fnv1a64", "fnv1-32", "fnv1-64", "djb2", "djb2a")
    for case in ("as-is", "lower", "upper")
    for slash in ("/", "\\")
]


@dataclass(frozen=True)
class Half:
    """An item that may hold the larger levels (or the first of them), how sure that is (0 to 1), and why."""

    name: str
    #: how that name is made of the texture's; with {level} there is an item for each level
    pattern: str
    sure: float
    why: tuple[str, ...] = field(default=())
    smallest_first: bool = False
    #: where in that item they begin, as a sum over the header's fields; "" where they are all of it
    at: str = ""


def halves(stub: Stub, others: Sequence[tuple[str, int]], fetch: Callable[[str], bytes]) -> list[Half]:
    """Items that may hold the larger levels of a texture, the likeliest first.

    ``others``: names and sizes of the items of the game; ``fetch`` gives the bytes of one.
    """
    right = [name for name, size in others if size == stub.missing and name != stub.name]
    hashed = _hashes_of(stub.name)
    named = sorted(((_named(stub.name, name, hashed), name) for name in right), key=lambda one: -one[0][0])
    shown = _largest_here(stub)
    found = []
    for (alike, words), name in named[:_BY_PICTURE]:
        lacking = "larger levels" if stub.above else "levels that are missing"
        why = [f"it has the {stub.missing:,} bytes of the {stub.away} {lacking}"]
        why += [words] if words else []
        sure, turned = 0.15 + 0.45 * alike, False
        if shown is not None:
            try:
                like, turned = max((_alike(stub, fetch(name), shown, turned), turned) for turned in (False, True))
            except BraeError:  # it cannot be read: nothing speaks for it
                continue
            sure = 0.1 + 0.3 * alike + 0.6 * min(1.0, 1.3 * like)
            if like > 0.5:
                why.append("its smallest level shows what the largest one here shows")
        found.append(Half(name, pattern_of(stub.name, name), round(sure, 2), tuple(why), turned))
    found += _one_each(stub, dict(others), hashed)
    if stub.above:
        # Nothing but these says that there is more.
        found = [replace(half, sure=min(half.sure, _SUREST)) for half in found if half.sure >= _CLEAR]
    return sorted(found, key=lambda one: -one.sure)[:_SHOWN]


def halves_within(stub: Stub, larger: Iterable[tuple[str, int]], fetch: Callable[[str], bytes]) -> list[Half]:
    """Places in larger items where the larger levels of a texture may lie, by its picture: the likeliest first.

    ``larger``: names and sizes of items; ``fetch`` gives a stretch of one.
    """
    if not tells(stub):
        return []
    hashed = _hashes_of(stub.name)
    right = [(name, size) for name, size in larger if size > stub.missing and name != stub.name]
    right.sort(key=lambda one: (-_named(stub.name, one[0], hashed)[0], -one[1]))
    items, units = (_LARGER, _UNITS) if not stub.above else (_LARGER_OF_ENDS, _UNITS[:_UNITS_OF_ENDS])
    said: dict[int, list[str]] = {}
    for unit in units:
        for number, value in stub.numbers.items():
            # A nought is at the beginning whatever it counts.
            if value or unit == 1:
                said.setdefault(value * unit, []).append(number if unit == 1 else f"{number} * {unit}")
    found = []
    for name, size in right[:items]:
        for at, sums in said.items():
            if at + stub.missing > size:
                continue
            for turned in (False, True):
                half = Half(name, pattern_of(stub.name, name), 0.0, at=sums[0], smallest_first=turned)
                if (there := placed(stub, half, fetch)) is not None:
                    found += [_said_by(there, one) for one in sums]
    return sorted(found, key=lambda one: -one.sure)


def tells(stub: Stub) -> bool:
    """Whether what is here of a texture shows enough to be told at any place."""
    shown = _largest_here(stub)
    return shown is not None and float(shown.std(axis=(0, 1)).max()) >= _FLAT


def placed(stub: Stub, half: Half, fetch: Callable[[str], bytes]) -> Half | None:
    """The same half for this texture, with how sure it is, where its picture lies there; None where it does not.

    None too where it cannot be read.
    """
    shown = _largest_here(stub)
    if shown is None:
        return None
    name, size = beside(half.pattern, stub.name), stub.header.level_size(stub.away - 1)
    try:
        at = evaluate(half.at, stub.numbers)
        begins = at if half.smallest_first else at + stub.missing - size
        like = _alike(stub, fetch(stretch(name, begins, size)), shown, half.smallest_first)
    except BraeError:
        return None
    if like <= _THERE:
        return None
    does = "begin with" if half.smallest_first else "end in"
    why = (f"the {stub.missing:,} bytes at {at:,} {does} what the largest level here shows",)
    sure = round(0.3 + 0.6 * min(1.0, 1.2 * like), 2)
    return _said_by(replace(half, name=name, sure=sure, why=why), half.at)


def _said_by(half: Half, at: str) -> Half:
    """A half at a place that another sum over the header's fields says as well."""
    return replace(half, at=at, why=(half.why[0], f"a number of its header says where ({at})"))


def fits(stub: Stub, pattern: str, sizes: Mapping[str, int], at: str = "") -> bool:
    """Whether the items that are called by a pattern are as large as what is missing of a texture.

    ``at``: where in that item they begin; it is to be large enough then.
    """
    if at:
        begins = evaluate(at, stub.numbers)
        return 0 <= begins <= sizes.get(beside(pattern, stub.name), -1) - stub.missing
    if "{level}" not in pattern:
        return sizes.get(beside(pattern, stub.name)) == stub.missing
    levels = range(stub.away)
    return all(
        sizes.get(beside(pattern, stub.name, level=level)) == stub.header.level_size(level) for level in levels
    )


def _one_each(stub: Stub, sizes: Mapping[str, int], hashed: Mapping[str, str]) -> Iterator[Half]:
    """An item for each level: as large as that, called alike but for the level's number."""
    stem = stub.name.rpartition("/")[2].partition(".")[0]
    first = [name for name, size in sizes.items() if size == stub.header.level_size(0) and stem in name]
    for name in first if stub.away > 1 else ():
        pattern = pattern_of(stub.name, name)
        for digit in re.finditer(r"(?<![0-9])0(?![0-9])", pattern):
            numbered = f"{pattern[: digit.start()]}{{level}}{pattern[digit.end() :]}"
            if fits(stub, numbered, sizes):
                why = (
                    f"there is one for each of the {stub.away} levels, of just its bytes",
                    "they are called alike",
                )
                yield Half(name, numbered, 0.9, why)


def _hashes_of(name: str) -> dict[str, str]:
    """Hashes of a path, its stem, with and without ending, as hexadecimal digits: and how each is called."""
    path = name.rpartition(".")[0] or name
    texts = list(dict.fromkeys([name, path, name.rpartition("/")[2], path.rpartition("/")[2]]))
    found: dict[str, str] = {}
    for spec in _HASHES:
        digits = 16 if spec.kind.endswith("64") else 8
        for text, value in zip(texts, spec.of(texts).tolist(), strict=True):
            found.setdefault(f"{value:0{digits}x}", f"its name is the {spec.kind} hash of {text}")
    return found


def _named(own: str, other: str, hashed: Mapping[str, str]) -> tuple[float, str]:
    """How alike two names are, and in words why."""
    stem, its = (name.rpartition("/")[2].partition(".")[0].lower() for name in (own, other))
    if its in hashed:
        return 1.0, hashed[its]
    if stem == its:
        return 1.0, f"it is called {its} as well"
    if min(len(stem), len(its)) >= _TELLING and (stem in its or its in stem):
        return 0.8, f"its name has {min(stem, its, key=len)} in it"
    return float(fuzz.ratio(stem, its)) / 200, ""


def _level(header: Header, level: int, data: bytes) -> np.ndarray:
    """A level's first picture: float32 (height, width, 4), 0 to 255."""
    width, height = header.sides(level)
    shown = formats.shown(header.format.decode(data[: header.format.size(width, height)], width, height))
    return np.asarray(shown, np.float32)


def _largest_here(stub: Stub) -> np.ndarray | None:
    """The largest level that is here; None where none is, or where it says nothing."""
    level = stub.away
    if level >= stub.header.levels or min(stub.header.sides(level)) < 2:
        return None
    size = sum(stub.header.level_size(one) for one in range(level, stub.header.levels))
    data = stub.held[:size] if len(stub.held) >= size else b""
    return _level(stub.header, level, data) if data else None


def _alike(stub: Stub, data: bytes, shown: np.ndarray, smallest_first: bool) -> float:
    """How alike its smallest level, half as large, and the largest one here are: 0 to 1."""
    header, level = stub.header, stub.away - 1
    size = header.level_size(level)
    own = _level(header, level, data[:size] if smallest_first else data[-size:])
    height, width = shown.shape[:2]
    if own.shape[0] < 2 * height or own.shape[1] < 2 * width:
        return 0.0
    half = own[: 2 * height, : 2 * width].reshape(height, 2, width, 2, 4).mean((1, 3))
    spread = float(np.abs(shown - shown.mean((0, 1))).mean())
    apart = float(np.abs(half - shown).mean())
    # A picture of one colour is like every other of that colour: it says little.
    return max(0.0, 1 - apart / min(_UNLIKE, max(spread, 4.0) * 2))
