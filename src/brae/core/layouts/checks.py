"""What the parts of a layout need of each other, kind by kind. All raise ValueError, in the words of the layout."""

from __future__ import annotations

from collections.abc import Collection, Mapping

from brae.core.layouts import expressions
from brae.core.layouts.areas import AreasPart, check_areas
from brae.core.layouts.fields import BytesPart, FieldPart, near
from brae.core.layouts.frames import FramesPart, Sequences, check_frames
from brae.core.layouts.geometry import IndicesPart, SkeletonPart, VerticesPart, check_skeleton
from brae.core.layouts.materials import MaterialPart
from brae.core.layouts.parts import ChunksPart, MembersPart, Part, TablePart
from brae.core.layouts.pixels import ColoursPart, PaletteOf, PixelsPart
from brae.core.layouts.records import Fact, Said
from brae.core.layouts.swaps import SwapsPart, check_swaps
from brae.core.layouts.tracks import TrackPart, check_track

#: the parts of which a kind has one each; ``archive`` has either of two, and ``mesh`` may have several buffers
_ONE: dict[str, tuple[type[Part], ...]] = {
    "texture": (PixelsPart,), "sprite": (FramesPart,), "screen": (AreasPart, PixelsPart), "palette": (ColoursPart,),
    "material": (MaterialPart,), "track": (TrackPart,), "sound": (TrackPart,),
    "swap": (SwapsPart,),
}  # fmt: skip
_KEYS = {
    PixelsPart: "pixels",
    FramesPart: "frames",
    AreasPart: "areas",
    ColoursPart: "colours",
    MaterialPart: "material",
    TrackPart: "track",
    SwapsPart: "swaps",
}
Known = Mapping[str, Part]


def check_kind(kind: str, known: Known, values: Collection[str]) -> None:
    """``known``: all parts by name; ``values``: the fields that can be read."""
    if kind == "archive" and sum(isinstance(part, MembersPart | ChunksPart) for part in known.values()) != 1:
        raise ValueError("a layout of kind 'archive' has one part 'members' or 'chunks'")
    wanted = _ONE.get(kind, ())
    if any(sum(isinstance(part, one) for part in known.values()) != 1 for one in wanted):
        words = " and ".join(f"one part '{_KEYS[one]}'" for one in wanted)
        raise ValueError(f"a layout of kind '{kind}' has {words}")
    if kind == "mesh":
        _check_mesh(known)
    for part in known.values():
        if isinstance(part, SkeletonPart):
            table = known.get(part.of)
            check_skeleton(part, table if isinstance(table, TablePart) else None)
        if isinstance(part, PixelsPart):
            _check_pixels(part, known, values)
        if isinstance(part, FramesPart):
            _check_frames(part, known, values)
        if isinstance(part, MaterialPart) and part.text is None:
            fields = _fields(known)
            for key in sorted({*part.keys()} - fields):
                raise ValueError(f"'{part.name}' speaks of '{key}', which no field says{near(key, fields)}")
        if isinstance(part, AreasPart):
            table = known.get(part.of)
            if not isinstance(table, TablePart):
                raise ValueError(f"'{part.name}' needs the table '{part.of}'{near(part.of, known)}")
            check_areas(part, table)
        if isinstance(part, SwapsPart) and part.of is not None:
            table = known.get(part.of)
            check_swaps(part, table if isinstance(table, TablePart) else None)
        if isinstance(part, TrackPart) and bool(part.cues or part.chunk) != (kind == "sound"):
            raise ValueError("words of a layout of kind 'sound' are in its 'cues' or a 'chunk', and only there")
        if isinstance(part, TrackPart) and part.of is not None:
            table = known.get(part.of)
            if not isinstance(table, TablePart):
                raise ValueError(f"'{part.name}' needs the table '{part.of}'{near(part.of, known)}")
            check_track(part, table)
            if isinstance(part.per_second, str) and part.per_second not in values:
                raise ValueError(f"'per_second' reads '{part.per_second}', which no field says")


def check_reads(facts: Mapping[str, Fact], fields: Collection[str], values: Collection[str]) -> None:
    """What facts are sums of has to be there."""
    numbers = {*values, *fields}
    for name, one in facts.items():
        if not isinstance(one, Said) or one.of is None or one.of in fields:
            continue
        for read in sorted(expressions.field_names(one.of) - numbers):
            raise ValueError(f"'{name}' reads '{read}', which no field says{near(read, numbers)}")


def _fields(known: Known) -> set[str]:
    return {part.field for part in known.values() if isinstance(part, FieldPart)}


def _check_palette(palette: PaletteOf | None, known: Known) -> None:
    if palette is not None and palette.of is not None and not isinstance(known.get(palette.of), BytesPart):
        raise ValueError(f"'{palette.of}' holds a palette, but is no part 'bytes'")


def _check_pixels(part: PixelsPart, known: Known, values: Collection[str]) -> None:
    _check_palette(part.palette, known)
    for name in (part.elsewhere.here, part.elsewhere.stored) if part.elsewhere is not None else ():
        if name is not None and name not in values:
            raise ValueError(f"'elsewhere' reads '{name}', which no field says{near(name, values)}")
    at = part.elsewhere.at if part.elsewhere is not None else None
    for name in sorted(expressions.field_names(at) - set(values)) if at is not None else ():
        raise ValueError(f"'elsewhere' begins at '{name}', which no field says{near(name, values)}")
    check_reads(part.facts, _fields(known), values)


def _check_frames(part: FramesPart, known: Known, values: Collection[str]) -> None:
    _check_palette(part.palette, known)
    if part.sheet is not None and not isinstance(known.get(part.sheet), PixelsPart):
        raise ValueError(f"'{part.name}' are cut out of '{part.sheet}', which is no part 'pixels'")
    told = part.sequences or Sequences(of=part.name)
    tables: list[TablePart | None] = []
    for name, wanted in ((part.of, True), (told.of, part.sequences is not None), (told.steps, True)):
        table = known.get(name) if name is not None and wanted else None
        if name is not None and wanted and not isinstance(table, TablePart):
            raise ValueError(f"'{part.name}' speaks of the table '{name}', which there is not{near(name, known)}")
        tables.append(table if isinstance(table, TablePart) else None)
    check_frames(part, *tables)
    for key in ("columns", "rows", "width", "height", "count") if part.grid is not None else ():
        said = getattr(part.grid, key)
        for name in sorted(expressions.field_names(said) - set(values)) if said is not None else ():
            raise ValueError(f"the grid reads '{name}', which no field says{near(name, values)}")
    check_reads(part.facts, _fields(known), values)


def _check_mesh(known: Known) -> None:
    streams = [part for part in known.values() if isinstance(part, VerticesPart)]
    names = [name for part in streams for name in part.places]
    if "POSITION" not in names:
        raise ValueError("a layout of kind 'mesh' has a part 'vertices' with POSITION")
    if twice := next((name for name in names if names.count(name) > 1), None):
        raise ValueError(f"two buffers of vertices have '{twice}'")
    if len({(part.axes, part.metres, part.origin) for part in streams}) > 1:
        raise ValueError("all buffers of vertices have the same axes, metres and origin")
    if sum(isinstance(part, SkeletonPart) for part in known.values()) > 1:
        raise ValueError("a layout of kind 'mesh' has one part 'skeleton' at most")
    faces = [part for part in known.values() if isinstance(part, IndicesPart)]
    if len(faces) > 1:
        raise ValueError("a layout of kind 'mesh' has one part 'indices' at most")
    for part in faces:
        table = known.get(part.parts or "")
        if part.parts is not None and not isinstance(table, TablePart):
            raise ValueError(f"'{part.parts}' is no table of parts{near(part.parts, known)}")
        if isinstance(table, TablePart) and table.column("index-count") is None:
            raise ValueError(f"'{part.parts}' tells the model's parts, and needs the role index-count")
    floats = {part.field for part in known.values() if isinstance(part, FieldPart) and part.type == "f32"}
    for stream in streams:
        wanted = [*(stream.box.least + stream.box.most if stream.box else [])]
        wanted += [*stream.sphere.centre, stream.sphere.radius] if stream.sphere else []
        if lost := next((name for name in wanted if name not in floats), None):
            raise ValueError(
                f"'{lost}' says where the vertices are, and is no field of type f32{near(lost, floats)}"
            )
