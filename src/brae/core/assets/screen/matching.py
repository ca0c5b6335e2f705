"""A screen that came back beside its original: its picture as a texture, its rectangles one by one."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from brae.core.assets.base import Encoded, Version, fetching
from brae.core.assets.screen.screen import Area, ScreenFile, from_json, read
from brae.core.assets.sheet import Finding, MatchSheet, Property, Remedy
from brae.core.assets.texture.kind import KIND as TEXTURE
from brae.core.assets.texture.remedies import REMEDIES as TEXTURE_REMEDIES
from brae.core.layouts.areas import LabelFont

#: the file beside an edit that holds its rectangles
PART = "areas"
OWN_REMEDIES: dict[str, str] = {
    "inside": "Move them inside, cut what is too large",
    "on-grid": "Move them to the game's grid",
}
REMEDIES: dict[str, str] = {**{str(name): words for name, words in TEXTURE_REMEDIES.items()}, **OWN_REMEDIES}
_TOLD = 6


def match(original: ScreenFile, version: Version, recipe: Mapping[str, Any]) -> tuple[MatchSheet, Encoded]:
    """The match sheet of an edit, and the edit encoded like its original with the remedies applied."""
    own = tuple(name for name in version.remedies if name not in OWN_REMEDIES)
    beside = {part: file for part, file in version.beside.items() if part != PART}
    sheet, made = TEXTURE.match(
        original.picture,
        Version(version.file, own, version.choices, beside, version.others),
        original.picture.recipe().model_dump(),
    )
    file = version.beside.get(PART)
    wanted = original.areas if file is None else from_json(file.data, file.name)
    fetch = fetching(original.fetch, version.others)
    head = TEXTURE.again(original.picture, made).header
    areas, findings = put_right(original, wanted, version.remedies, head.width, head.height)
    data = made.data
    if areas != original.areas:
        data = read(original.layout, data, original.name, fetch).rewrite(areas)
    changed = len(new_ones(original, areas)) + max(0, len(original.areas) - len(areas))
    lines = [
        Property.of("Rectangles", str(len(original.areas)), str(len(wanted)), str(len(areas)), matters=False),
        Property.of("Rectangles changed", "0", str(changed), str(changed), matters=False),
    ]
    properties = [*sheet.properties, *lines]
    return sheet.model_copy(update={"properties": properties, "findings": [*sheet.findings, *findings]}), Encoded(
        data, made.elsewhere, version.others
    )


def put_right(
    original: ScreenFile, areas: Sequence[Area], remedies: Sequence[str], width: int, height: int
) -> tuple[tuple[Area, ...], list[Finding]]:
    """Findings on rectangles of a screen of these sides, and the rectangles as the remedies leave them."""
    findings: list[Finding] = []

    def tell(
        name: str, severity: Any, which: Sequence[int], words: str, in_game: str, remedy: str | None = None
    ) -> None:
        if which:
            put = Remedy(id=remedy, label=OWN_REMEDIES[remedy], applied=remedy in remedies) if remedy else None
            findings.append(
                Finding(id=name, severity=severity, title=f"{_listed(which)} {words}", in_game=in_game, remedy=put)
            )

    grid, least = original.part.grid, original.part.least
    # What the game itself has is no finding.
    new = new_ones(original, areas)
    off = [n for n in new if any(side % grid for side in _sides(areas[n]))]
    tell(
        "off-grid",
        "shows",
        off,
        f"not on the grid of {grid} pixels",
        "The game rounds it, or does not draw it.",
        "on-grid",
    )
    if "on-grid" in remedies:
        areas = [_snapped(area, grid) if n in off else area for n, area in enumerate(areas)]
    out = [n for n in new if not _is_inside(areas[n], width, height)]
    tell("outside", "stops", out, f"outside the screen of {width} x {height}", "The game may stop there.", "inside")
    if "inside" in remedies:
        areas = [_inside(area, width, height) if n in out else area for n, area in enumerate(areas)]
    small = [n for n in new if min(areas[n].width, areas[n].height) < least]
    tell("small", "shows", small, f"less than {least} pixels wide or high", "The cursor does not meet it.")
    over = sorted({n for pair in _overlapping(areas) if not set(pair).isdisjoint(new) for n in pair})
    tell("overlap", "shows", over, "lie over each other", "Where they do, only one of them acts.")
    meant = original.meaning("action")
    if meant:
        # What does not say its action has the one that all of the original's have in common.
        findings += unknown(areas, [n for n in new if areas[n].numbers.get("action", min(meant)) not in meant])
    font = original.part.font
    if font is not None:
        wide = [n for n in new if _sticks_out(areas[n], font)]
        need = max((font.size(areas[n].label or "") for n in wide), default=(0, 0))
        tell(
            "label", "shows", wide, f"too small for what stands in it: it needs {need[0]} x {need[1]} pixels",
            "The label is cut off, or goes on over its neighbours.",
        )  # fmt: skip
    lost = _unreachable(areas)
    before = _unreachable(original.areas)
    tell(
        "unreachable",
        "shows",
        lost if lost != before else [],
        "that the cursor does not come to",
        "It cannot be chosen.",
    )
    return tuple(areas), findings


def new_ones(original: ScreenFile, areas: Sequence[Area]) -> list[int]:
    """Which rectangles are not as the original has one."""
    known = {area.key for area in original.areas}
    return [number for number, area in enumerate(areas) if area.key not in known]


def unknown(areas: Sequence[Area], which: Sequence[int]) -> list[Finding]:
    """Rectangles with an action that screens of this game do not have."""
    return _of_number(areas, which, "action", ("does", "do"), "which no screen of this game does")


def astray(areas: Sequence[Area], which: Sequence[int]) -> list[Finding]:
    """Rectangles that lead to a screen that is not there."""
    return _of_number(areas, which, "target", ("leads to", "lead to"), "which is no screen")


def _of_number(
    areas: Sequence[Area], which: Sequence[int], role: str, verbs: tuple[str, str], why: str
) -> list[Finding]:
    if not which:
        return []
    numbers = ", ".join(map(str, dict.fromkeys(areas[n].numbers[role] for n in which)))
    return [
        Finding(
            id=role, severity="stops", title=f"{_listed(which)} {verbs[len(which) > 1]} {numbers}, {why}",
            in_game="Nothing happens, or the game stops there.",
        )
    ]  # fmt: skip


def _listed(numbers: Sequence[int]) -> str:
    words = ", ".join(map(str, numbers[:_TOLD])) + (" ..." if len(numbers) > _TOLD else "")
    return f"Rectangle {words}" if len(numbers) == 1 else f"Rectangles {words}"


def _sticks_out(area: Area, font: LabelFont) -> bool:
    """Whether a label is larger than its rectangle."""
    width, height = font.size(area.label or "")
    return width > area.width or height > area.height


def _sides(area: Area) -> tuple[int, int, int, int]:
    return area.x, area.y, area.width, area.height


def _snapped(area: Area, grid: int) -> Area:
    x, y = (round(side / grid) * grid for side in (area.x, area.y))
    width, height = (max(grid, round(side / grid) * grid) for side in (area.width, area.height))
    return area.model_copy(update={"x": x, "y": y, "width": width, "height": height})


def _is_inside(area: Area, width: int, height: int) -> bool:
    return area.x >= 0 and area.y >= 0 and area.right <= width and area.bottom <= height


def _inside(area: Area, width: int, height: int) -> Area:
    wide, high = min(area.width, width), min(area.height, height)
    x, y = min(max(area.x, 0), width - wide), min(max(area.y, 0), height - high)
    return area.model_copy(update={"x": x, "y": y, "width": wide, "height": high})


def _overlapping(areas: Sequence[Area]) -> list[tuple[int, int]]:
    """Pairs of rectangles that share a pixel."""
    if len(areas) < 2:
        return []
    box = np.array([(area.x, area.y, area.right, area.bottom) for area in areas], np.int64)
    found: list[tuple[int, int]] = []
    order = np.argsort(box[:, 0], kind="stable")
    sorted_ = box[order]
    for place in range(len(order)):
        # Only those that begin before this one ends.
        end = int(np.searchsorted(sorted_[:, 0], sorted_[place, 2]))
        rest = sorted_[place + 1 : end]
        meets = (rest[:, 1] < sorted_[place, 3]) & (rest[:, 3] > sorted_[place, 1])
        found += [(int(order[place]), int(order[place + 1 + other])) for other in np.flatnonzero(meets)]
    return found


def _unreachable(areas: Sequence[Area]) -> list[int]:
    """Rectangles that no way of the cursor leads to from the first; none where nothing says its ways."""
    ways = ("cursor_up", "cursor_down", "cursor_left", "cursor_right")
    if not areas or not any(name in area.numbers for area in areas for name in ways):
        return []
    seen, todo = {0}, [0]
    while todo:
        at = areas[todo.pop()].numbers
        following = {at[name] for name in ways if 0 <= at.get(name, -1) < len(areas)} - seen
        seen |= following
        todo += following
    return [number for number in range(len(areas)) if number not in seen]
