"""Textures of which only the small levels are here, and no layout says so: where the others are, as data.

A header that says more levels than there are bytes for is the sign; or a file of a kilobyte or less, whole by its
own header, which may be the small end of a picture. The other half is told by its size, which is
that of the missing levels to the byte, by its name, and by its picture: its smallest level, made half as large, is
the largest one that is here.
"""

from __future__ import annotations

import glob
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
import yaml
from rapidfuzz import fuzz

from brae.core.assets.texture import dds, described, formats
from brae.core.assets.texture.texture import Header, TextureFile, split_levels
from brae.core.errors import BraeError, FormatError
from brae.core.layouts.hashes import NameHash
from brae.core.layouts.library import Library
from brae.core.layouts.pixels import PixelsPart, beside

#: items of the right size that are looked at, those that are called most alike, and that are told
_BY_PICTURE, _SHOWN = 24, 8
#: bytes of pixels that may be the small end of a picture, of a file with its header, levels that may lie above it,
#: and the longest side of these
_END, LARGEST_END, _ABOVE, _LONGEST = 1024, 1024 + 256, 8, 16384
#: how sure a half of such a file has to be, and may be at most
_CLEAR, _SUREST = 0.75, 0.95
#: letters that tell one name from another
_TELLING = 3
#: mean difference, in levels of 255, from which two pictures are not alike
_UNLIKE = 48.0
_HASHES = [
    NameHash(kind=kind, case=case, slash=slash)
    for kind in ("crc32", "fnv1a32", "fnv1a64", "fnv1-32", "fnv1-64", "djb2", "djb2a")
    for case in ("as-is", "lower", "upper")
    for slash in ("/", "\\")
]


@dataclass(frozen=True)
class Stub:
    """A texture without its larger levels: its name, what its header says, and the bytes of its own levels."""

    name: str
    header: Header
    held: bytes
    #: levels that only its small size lets one think of: its header says nothing of them
    above: int = 0

    @property
    def away(self) -> int:
        """How many levels are elsewhere."""
        return self.header.lacks(len(self.held))

    @property
    def missing(self) -> int:
        """Bytes of those levels."""
        return sum(self.header.level_size(level) for level in range(self.away))


@dataclass(frozen=True)
class Half:
    """An item that may hold the larger levels (or the first of them), how sure that is (0 to 1), and why."""

    name: str
    #: how that name is made of the texture's; with {level} there is an item for each level
    pattern: str
    sure: float
    why: tuple[str, ...] = field(default=())
    smallest_first: bool = False


def stub_of(data: bytes, name: str, library: Library) -> Stub | None:
    """What a texture is that says it has more levels than it has bytes for; None where it is no such texture."""
    stub = _begun(data, name, library)
    return stub if stub is not None and stub.away else None


def ends_of(data: bytes, name: str, library: Library) -> list[Stub]:
    """What a small texture that is whole may be the small end of: with one larger level, with two, and so on."""
    stub = _begun(data, name, library) if len(data) <= LARGEST_END else None
    if stub is None or stub.away or stub.header.data_size > min(_END, len(stub.held)):
        return []
    grown = (replace(stub, header=stub.header.grown(above), above=above) for above in range(1, _ABOVE + 1))
    return [one for one in grown if max(one.header.width, one.header.height) <= _LONGEST]


def _begun(data: bytes, name: str, library: Library) -> Stub | None:
    """A texture's header and what follows it; None where a layout already says where its levels are."""
    if library.joining(name, data[:512], len(data)) is not None:
        return None
    if data[: len(dds.MAGIC)] == dds.MAGIC:
        found = dds.read_header(data, len(data))
        header, start = found.header, len(found.raw)
    else:
        layout = library.recognise(name, data[:512], "texture", size=len(data))
        if layout is None or layout.streamed or layout.only(PixelsPart) is None:
            return None
        header, begins = described.begun(layout, data)
        if begins is None:
            return None
        start = begins
    return Stub(name, header, data[start:])


def small_levels(data: bytes, stub: Stub) -> TextureFile | None:
    """The levels that are here, to be looked at; None where none is."""
    header, away = stub.header, stub.away
    if away == header.levels:
        return None
    small = header.without(away)
    levels, _ = split_levels(small, stub.held, 0)
    return TextureFile(small, levels, len(data), lambda *_: data, lambda *_: _refused(stub), beyond=away)


def _refused(stub: Stub) -> TextureFile:
    raise FormatError("Only its small levels are here.", address=stub.name)


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


def fits(stub: Stub, pattern: str, sizes: Mapping[str, int]) -> bool:
    """Whether the items that are called by a pattern are as large as what is missing of a texture."""
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


# ---- as data ------------------------------------------------------------------------------------------------


def pattern_of(own: str, other: str) -> str:
    """How the name of the other half is made of a texture's name; the name itself where nothing of it is in it."""
    path = own.rpartition(".")[0] if "." in own.rpartition("/")[2] else own
    folder, _, stem = path.rpartition("/")
    escaped = other.replace("{", "{{").replace("}", "}}")
    if path in escaped:
        return escaped.replace(path, "{path}", 1)
    if folder and folder in escaped and stem in escaped.replace(folder, "", 1):
        return escaped.replace(folder, "{folder}", 1).replace(stem, "{stem}", 1)
    at = escaped.rfind(stem)
    return escaped if at < 0 or not stem else escaped[:at] + "{stem}" + escaped[at + len(stem) :]


def joining_layout(
    data: bytes, stub: Stub, library: Library, identifier: str, names: Sequence[str], pattern: str, *,
    smallest_first: bool = False,
) -> str:  # fmt: skip
    """A layout for textures of those names whose larger levels lie in ``pattern``, as YAML text.

    Raises FormatError for a file type of which no layout can be made.
    """
    elsewhere: dict[str, object] = {"name": pattern}
    if smallest_first:
        elsewhere["smallest_first"] = True
    if stub.above:
        elsewhere["above"] = stub.above
    if data[: len(dds.MAGIC)] == dds.MAGIC:
        parts = list(_dds_parts(data, stub.header, elsewhere))
        title, more = "DDS with its larger levels elsewhere", {}
    else:
        layout = library.recognise(stub.name, data[:512], "texture", size=len(data))
        if layout is None:
            raise FormatError("No layout describes this texture.", address=stub.name)
        kept = layout.model_dump(mode="json", by_alias=True, exclude_unset=True)
        title = f"{layout.title}, its larger levels elsewhere"
        parts = kept["parts"]
        for part in parts:
            if "pixels" in part:
                part["elsewhere"] = elsewhere
        more = {
            key: value for key, value in kept.items() if key not in ("layout", "title", "kind", "match", "parts")
        }
    whole = {
        "layout": identifier, "title": title, "kind": "texture",
        "match": {"names": [glob.escape(name) for name in names]}, **more, "parts": parts,
    }  # fmt: skip
    return str(yaml.safe_dump(whole, sort_keys=False, allow_unicode=True, width=110))


def _dds_parts(data: bytes, header: Header, elsewhere: dict[str, object]) -> Iterator[dict[str, object]]:
    """A DDS header (DDS_HEADER, Microsoft) in the words of the layout language."""
    longer = data[84:88] == b"DX10"
    yield {"field": "magic", "type": "bytes", "length": 4, "value": "DDS "}
    yield {"field": "begin", "type": "bytes", "length": 8}
    yield {"field": "height", "type": "u32"}
    yield {"field": "width", "type": "u32"}
    yield {"field": "pitch", "type": "bytes", "length": 8}
    yield {"field": "levels", "type": "u32"}
    yield {"field": "rest", "type": "bytes", "length": 96 + (20 if longer else 0)}
    facts = {"width": "width", "height": "height", "format": header.format.name, "mips": "levels"}
    if header.colour is not None:
        facts["colour"] = header.colour
    yield {"pixels": "pixels", "facts": facts, "elsewhere": elsewhere}


def same_layout(data: bytes, header: Header, like: bytes, like_header: Header) -> bool:
    """Whether one layout made for a texture reads another one as well: the same file type, and pixel format."""
    is_dds = data[:4] == dds.MAGIC
    if is_dds != (like[:4] == dds.MAGIC):
        return False
    if not is_dds:
        return header.container == like_header.container
    return header.format.name == like_header.format.name and (data[84:88] == b"DX10") == (like[84:88] == b"DX10")
