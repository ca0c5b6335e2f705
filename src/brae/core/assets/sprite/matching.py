"""A sprite that came back beside its original: what an editor changed by itself, and what puts it right."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from brae.core.assets.base import Encoded, ExchangeFile, Version, fetching
from brae.core.assets.sheet import Finding, MatchSheet, Property, Remedy
from brae.core.assets.sprite import files
from brae.core.assets.sprite.described import SpriteFile, cut, paste, read
from brae.core.assets.sprite.files import Moving
from brae.core.assets.sprite.sprite import Frame, Picture, box_of, cells_of, sheet_of
from brae.core.assets.sprite.writing import rewrite
from brae.core.assets.texture import formats
from brae.core.assets.texture.files import read_raw, write_image
from brae.core.assets.texture.formats.indexed import nearest_entries
from brae.core.assets.texture.images import ImageFile
from brae.core.assets.texture.metrics import ciede_map
from brae.core.assets.texture.remedies import REMEDIES as TEXTURE_REMEDIES
from brae.core.assets.texture.sheet import match as texture_match
from brae.core.assets.texture.texture import Header, TextureFile
from brae.core.sprites.drift import MOST, Drift
from brae.core.sprites.drift import drift as drift_of

#: CIEDE2000 of a difference that somebody sees who looks for it
_SEEN = 1.0
OWN_REMEDIES: dict[str, str] = {
    "settle": "Move the frames that jump back",
    "restore-empty": "Take the empty frames from the original",
    "take-times": "Take the new times",
}
REMEDIES: dict[str, str] = {**{str(name): words for name, words in TEXTURE_REMEDIES.items()}, **OWN_REMEDIES}


def match(original: SpriteFile, version: Version, recipe: Mapping[str, Any]) -> tuple[MatchSheet, Encoded]:
    """The match sheet of an edit, and the edit encoded like its original with the remedies applied."""
    findings: list[Finding] = []
    remedies = version.remedies
    came = files.read(version.file.data, version.file.name)
    cells, times, image = _cells(original, came, findings)
    file = version.file
    if cells is not None:
        cells = _put_right(original, cells, remedies, findings)
        picture = arranged(original, cells)
        if image is None or not np.array_equal(image.picture, picture):
            file = ExchangeFile(f"{file.name.rpartition('.')[0]}.png", write_image(picture))
    target = among(original, version.others)
    like = texture_of(original)
    goal = like if target is original else texture_of(target)
    own = tuple(name for name in remedies if name not in OWN_REMEDIES)
    sheet, made = texture_match(
        files.still(file), like, like.recipe(), own, file.name,
        target=goal if target is not original else None,
    )  # fmt: skip
    outside = _outside_palette(target, cells, findings)
    findings[:0] = [one for one in sheet.findings if not outside or one.id != "outside-palette"]
    new_times = _times(original, times, remedies, findings)
    if original.sheet is not None:
        data = made.data
        properties = sheet.properties
    else:
        result = goal.again(made.data, made.elsewhere).picture()
        frames = _frames(target, split(original, result), findings)
        data = rewrite(target, frames)
        properties = []
    if new_times is not None:
        again = read(original.layout, data, original.name, target.fetch)
        data = rewrite(again, [replace(one, ms=ms) for one, ms in zip(again.sprite.frames, new_times, strict=True)])
    changed = (
        0 if cells is None else sum(not np.array_equal(a, b) for a, b in zip(cells, original.cells, strict=True))
    )
    lines = [
        Property.of(
            "Frames", str(len(original.sprite.frames)), _came(came, original), str(len(original.sprite.frames))
        ),
        Property.of("Frames painted on", "0", str(changed), str(changed), matters=False),
    ]
    return MatchSheet(properties=[*lines, *properties], findings=findings), Encoded(
        data, made.elsewhere, version.others
    )


def among(original: SpriteFile, others: Mapping[str, bytes]) -> SpriteFile:
    """An original as it looks among other items as they will be: its palette may have other colours."""
    if not others:
        return original
    data = rewrite(original, original.sprite.frames)
    return read(original.layout, data, original.name, fetching(original.fetch, others))


def painted(original: SpriteFile, came: ImageFile | Moving) -> list[Picture]:
    """All frames as a file that came back has them; those that it has not are the original's."""
    cells, _, image = _cells(original, came, [])
    if cells is not None:
        return cells
    return [formats.as_precision(image.picture, "8")] if image is not None else list(original.cells)


def as_painted(original: SpriteFile, version: Version) -> list[Picture]:
    """The same with what the sprite's own remedies put right."""
    cells = painted(original, files.read(version.file.data, version.file.name))
    if len(cells) != len(original.cells):
        return cells
    return _put_right(original, cells, version.remedies, [])


def _came(came: ImageFile | Moving, original: SpriteFile) -> str:
    return str(len(came.pictures)) if isinstance(came, Moving) else str(len(original.sprite.frames))


def sides_of(original: SpriteFile) -> tuple[int, int]:
    """The height and width of the picture that goes out to an editor."""
    if original.sheet is not None:
        width, height = original.sheet.header.sides(0)
        return height, width
    canvas, columns = original.sprite.canvas, original.sprite.columns
    return -(-len(original.cells) // columns) * canvas.height, columns * canvas.width


def texture_of(original: SpriteFile) -> TextureFile:
    """What goes out to an editor, as a texture: the sheet, or all frames side by side in their own pixel format."""
    if original.sheet is not None:
        return original.sheet
    picture = original.sprite.sheet()
    pixel_format: Any = original.format
    palette = original.palette
    clear = bool((picture[..., 3] == 0).any()) or any(not one.drawn.all() for one in original.stored)
    if palette is not None and palette[:, 3].min() == 0:
        pixel_format = pixel_format.with_palette(np.where(palette[:, 3:] == 0, 0, palette).astype(np.uint8))
    elif clear and palette is not None:
        # What is not drawn has no number; here it needs one.
        none = np.zeros((1, 4), np.uint8)
        pixel_format = formats.get("index8").with_palette(np.concatenate([palette[:255], none]))  # type: ignore[attr-defined]
        if len(palette) > 255:
            pixel_format = formats.get("rgba8")
    elif clear and pixel_format.alpha == "none":
        pixel_format = formats.get("rgba8")
    header = Header("raw", pixel_format, picture.shape[1], picture.shape[0], 1)
    return read_raw(pixel_format.encode(picture), header)


def arranged(original: SpriteFile, cells: Sequence[Picture]) -> Picture:
    """Frames as the picture that goes out to an editor."""
    if original.sheet is None:
        return sheet_of(cells, original.sprite.columns)
    picture = formats.as_precision(original.sheet.picture(), "8").copy()
    for cell, place in zip(cells, original.places, strict=True):
        paste(picture, place, original.part.turned, cell)
    return picture


def split(original: SpriteFile, picture: Picture) -> list[Picture]:
    """The inverse, of a picture of the right size."""
    if original.sheet is not None:
        return [cut(picture, place, original.part.turned) for place in original.places]
    canvas, sprite = original.sprite.canvas, original.sprite
    return cells_of(picture, sprite.columns, canvas.width, canvas.height, len(sprite.frames))


def _cells(
    original: SpriteFile, came: ImageFile | Moving, findings: list[Finding]
) -> tuple[list[Picture] | None, tuple[int | None, ...], ImageFile | None]:
    """The frames of an edit, their times, and the sheet; no frames where the sheet has another size."""
    count = len(original.sprite.frames)
    if not isinstance(came, Moving):
        if came.picture.shape[:2] != sides_of(original) or came.picture.dtype != np.uint8:
            return None, (None,) * count, came
        return split(original, came.picture), (None,) * count, came
    before = original.cells
    numbers = _meant(original, len(came.pictures))
    cells, times = list(before), [None] * count
    wrong = 0
    for number, picture, ms in zip(numbers, came.pictures, came.milliseconds, strict=False):
        if picture.shape != before[number].shape:
            wrong += 1
            continue
        cells[number] = picture
        times[number] = ms  # type: ignore[call-overload]
    if wrong:
        one = before[numbers[0]]
        sides, like = (
            f"{came.pictures[0].shape[1]} x {came.pictures[0].shape[0]}",
            f"{one.shape[1]} x {one.shape[0]}",
        )
        findings.append(
            Finding(
                id="frame-size", severity="stops",
                title=f"{_many(wrong, 'frame')} of {sides} pixels, where the original's have {like}",
                in_game="These frames stay as the original has them. Save the file with the original's dimensions.",
            )
        )  # fmt: skip
    if len(came.pictures) != len(numbers) or len(numbers) < count:
        more = len(came.pictures) - len(numbers)
        words = f"{_many(len(came.pictures), 'frame')} came back for {count}"
        kept = f"The last {more} are left out. " if more > 0 else ""
        findings.append(
            Finding(
                id="frame-count", severity="shows", title=words,
                in_game=f"{kept}Frames that did not come back stay as the original has them.",
            )
        )  # fmt: skip
    return cells, tuple(times), None


def _meant(original: SpriteFile, came: int) -> list[int]:
    """Which frames a moving file shows: all, or those of the first sequence that has as many."""
    count = len(original.sprite.frames)
    if came != count:
        for run in original.sprite.sequences:
            if len(run.steps) == came:
                return [step.frame for step in run.steps]
    return list(range(min(came, count)))


def _many(count: int, what: str) -> str:
    return f"{count} {what}" if count == 1 else f"{count} {what}s"


def _put_right(
    original: SpriteFile, cells: list[Picture], remedies: Sequence[str], findings: list[Finding]
) -> list[Picture]:
    """Findings on single frames, and those frames as the remedies leave them."""
    before = original.cells

    def remedy(name: str) -> Remedy:
        return Remedy(id=name, label=OWN_REMEDIES[name], applied=name in remedies)

    empty = [n for n, cell in enumerate(cells) if not cell[..., 3].any() and before[n][..., 3].any()]
    if empty:
        findings.append(
            Finding(
                id="empty-frames", severity="shows", remedy=remedy("restore-empty"),
                title=f"{_listed(empty)} {'is' if len(empty) == 1 else 'are'} empty, and the original's is not",
                in_game="The figure flickers: for these frames nothing is drawn.",
            )
        )  # fmt: skip
        if "restore-empty" in remedies:
            cells = [before[n] if n in empty else cell for n, cell in enumerate(cells)]
    found = [one for one in drifts(original, cells) if one.jumps]
    if found:
        far = max(float(np.hypot(*one.off)) for one in found)
        findings.append(
            Finding(
                id="drift", severity="shows", sure="likely", remedy=remedy("settle"),
                title=f"{_listed([one.frame for one in found])} {'jumps' if len(found) == 1 else 'jump'} by "
                f"{'' if len(found) == 1 else 'up to '}{far:.1f} pixels",
                in_game="What was painted shakes while the sequence plays.",
            )
        )  # fmt: skip
        if "settle" in remedies:
            cells = list(cells)
            for one in found:
                cells[one.frame] = settled(before[one.frame], cells[one.frame], one)
    return cells


def _outside_palette(original: SpriteFile, cells: Sequence[Picture] | None, findings: list[Finding]) -> bool:
    """Tell which colours of an edit the palette has not, where, and what taking the nearest ones costs."""
    palette = original.palette
    if palette is None or cells is None:
        return False
    known = np.ascontiguousarray(palette[palette[:, 3] > 0][:, :3])
    if not len(known):
        return False
    keys = _keys(known)
    colours, frames, many, seen = [], [], 0, 0
    for number, (cell, before) in enumerate(zip(cells, original.cells, strict=True)):
        drawn = cell[..., 3] > 0
        seen += int(drawn.sum())
        painted = drawn & (cell != before).any(axis=-1)
        some = cell[painted][:, :3]
        other = some[~np.isin(_keys(some), keys)]
        if len(other):
            frames.append(number)
            colours.append(other)
            many += len(other)
    if not frames:
        return False
    found = np.concatenate(colours)
    opaque = np.full((len(found), 1), 255, np.uint8)
    nearest = palette[nearest_entries(np.hstack([found, opaque]), palette)]
    apart = ciede_map(np.hstack([found, opaque])[None], nearest[None])[0]
    different = len(np.unique(_keys(found)))
    findings.append(
        Finding(
            id="outside-palette", severity="shows" if float(apart.max()) > _SEEN else "note",
            title=f"{_many(different, 'colour')} of {_listed(frames).lower()} not in the palette of {len(palette)} "
            f"({many / max(1, seen):.1%} of the pixels)",
            in_game="Each becomes the nearest colour there is: CIEDE2000 "
            f"{float(apart.mean()):.1f} in the mean, {float(apart.max()):.1f} at most.",
        )
    )  # fmt: skip
    return True


def _keys(colours: Picture) -> np.ndarray[Any, Any]:
    """Colours (n x 3) as numbers."""
    wide = colours.astype(np.int64)
    return wide[:, 0] << 16 | wide[:, 1] << 8 | wide[:, 2]


def _listed(numbers: Sequence[int]) -> str:
    words = ", ".join(map(str, numbers[:8])) + (" ..." if len(numbers) > 8 else "")
    return f"Frame {words}" if len(numbers) == 1 else f"Frames {words}"


def drifts(original: SpriteFile, cells: Sequence[Picture]) -> list[Drift]:
    """How far each frame moved, told by the other frames of its sequence; empty where nothing was painted."""
    before = original.cells
    if len(cells) > MOST or all(np.array_equal(a, b) for a, b in zip(before, cells, strict=True)):
        return []
    found: dict[int, Drift] = {}
    for run in original.sprite.sequences:
        numbers = list(dict.fromkeys(step.frame for step in run.steps))
        fits = {before[number].shape for number in numbers}
        if len(numbers) < 2 or len(fits) != 1 or all(np.array_equal(before[n], cells[n]) for n in numbers):
            continue
        told = drift_of([before[n] for n in numbers], [cells[n] for n in numbers])
        for number, one in zip(numbers, told, strict=True):
            if number not in found or (one.jumps and not found[number].jumps):
                found[number] = replace(one, frame=number)
    return [found[number] for number in sorted(found)]


def settled(before: Picture, after: Picture, one: Drift) -> Picture:
    """A frame moved back by whole pixels: all of it, or only what was painted, over the original's own pixels."""
    right, down = -round(one.off[0]), -round(one.off[1])
    if one.all_of_it:
        return _shifted(after, right, down)
    return painted_back(before, after, right, down)


def painted_back(
    before: Picture, after: Picture, right: int, down: int, box: tuple[int, int, int, int] | None = None
) -> Picture:
    """What was painted on a frame, in a ``box`` (x, y, width, height), moved over the original's own pixels."""
    if not right and not down:
        return after
    painted = (before != after).any(axis=-1)
    if box is not None:
        x, y, width, height = box
        inside = np.zeros(painted.shape, bool)
        inside[y : y + height, x : x + width] = True
        painted &= inside
    layer = np.where((painted & (after[..., 3] > 0))[..., None], after, 0).astype(np.uint8)
    moved = _shifted(layer, right, down)
    base = np.where((painted & (after[..., 3] > 0))[..., None], before, after)
    return np.ascontiguousarray(np.where((moved[..., 3] > 0)[..., None], moved, base))


def _shifted(picture: Picture, right: int, down: int) -> Picture:
    height, width = picture.shape[:2]
    found = np.zeros_like(picture)
    x, y = max(0, right), max(0, down)
    part = picture[max(0, -down) : height - y, max(0, -right) : width - x]
    found[y : y + part.shape[0], x : x + part.shape[1]] = part
    return found


def _times(
    original: SpriteFile, times: tuple[int | None, ...], remedies: Sequence[str], findings: list[Finding]
) -> list[int] | None:
    """New times of all frames, where they are to be taken."""
    frames = original.sprite.frames
    # A GIF counts in hundredths of a second.
    differ = [n for n, ms in enumerate(times) if ms is not None and abs(ms - frames[n].ms) > 10]
    if not differ:
        return None
    can = original.can_say("duration")
    label = OWN_REMEDIES["take-times"]
    findings.append(
        Finding(
            id="times", severity="note", title=f"{_listed(differ)}: other times than the original's",
            in_game="The original's times are kept." if can else "This file has no time of its own for each frame.",
            remedy=Remedy(id="take-times", label=label, applied="take-times" in remedies) if can else None,
        )
    )  # fmt: skip
    if not can or "take-times" not in remedies:
        return None
    return [one.ms if ms is None else ms for ms, one in zip(times, frames, strict=True)]


def _frames(original: SpriteFile, cells: Sequence[Picture], findings: list[Finding]) -> list[Frame]:
    """The frames to be stored: as large as before, or larger where something was drawn beyond."""
    canvas = original.sprite.canvas
    grows = all(
        original.can_say(f"frame-{side}")
        and (original.can_say(f"canvas-{axis}") or original.can_say(f"anchor-{axis}"))
        for axis, side in (("x", "width"), ("y", "height"))
    )
    found: list[Frame] = []
    spilt: dict[int, int] = {}
    for number, (one, cell) in enumerate(zip(original.sprite.frames, cells, strict=True)):
        if np.array_equal(cell, original.cells[number]):
            found.append(one)
            continue
        x, y = one.x - canvas.left, one.y - canvas.top
        right, below = x + one.width, y + one.height
        box = box_of(cell)
        if box is not None and (box[0] < x or box[1] < y or box[2] > right or box[3] > below):
            if grows:
                if one.width and one.height:
                    x, y, right, below = min(x, box[0]), min(y, box[1]), max(right, box[2]), max(below, box[3])
                else:
                    x, y, right, below = box
            else:
                inside = int((cell[y:below, x:right, 3] > 0).sum())
                spilt[number] = int((cell[..., 3] > 0).sum()) - inside
        picture = np.ascontiguousarray(cell[y:below, x:right])
        found.append(replace(one, picture=picture, x=x + canvas.left, y=y + canvas.top))
    if spilt:
        findings.append(
            Finding(
                id="spilt", severity="shows",
                title=f"{_listed(list(spilt))}: {sum(spilt.values()):,} pixels lie outside the frame",
                in_game="They are cut off: this file cannot say a larger frame.",
            )
        )  # fmt: skip
    return found
