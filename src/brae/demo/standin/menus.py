"""The menus as somebody walks them: from a screen to those that its rectangles lead to, with the game's cursor."""

from __future__ import annotations

from collections.abc import Callable

from PIL import Image

from brae.demo.standin.report import BadTexture, Menu, Refusal, Report, png

#: what a press on a rectangle does, by its number
ACTIONS = {0: "opens", 1: "goes back", 2: "sails"}
OPENS = 0
#: screens that are walked to at most, from the first on
_MOST = 40
Box = tuple[int, ...]
#: the cursor's four ways: which side of a rectangle's middle the next one's lies
_WAYS = {"up": (0, -1), "down": (0, 1), "left": (-1, 0), "right": (1, 0)}


def ways(boxes: list[Box]) -> list[dict[str, int]]:
    """Where the cursor goes from each rectangle: to the nearest whose middle lies more that way than aside."""
    middles = [(x + w / 2, y + h / 2) for x, y, w, h, *_ in boxes]
    found: list[dict[str, int]] = []
    for x, y in middles:
        own: dict[str, int] = {}
        for way, (right, down) in _WAYS.items():
            ahead = [
                (abs(ox - x) + abs(oy - y), number)
                for number, (ox, oy) in enumerate(middles)
                if (ox - x) * right + (oy - y) * down > 0
                and abs((ox - x) * right + (oy - y) * down) >= abs((ox - x) * down + (oy - y) * right)
            ]
            if ahead:
                own[way] = min(ahead)[1]
        found.append(own)
    return found


def walk(first: int, screen: Callable[[int], tuple[Image.Image, list[Box]]], report: Report) -> None:
    """All screens that are reached from one, the nearest first."""
    waiting, known = [first], {first}
    while waiting and len(report.menus) < _MOST:
        number = waiting.pop(0)
        try:
            picture, boxes = screen(number)
        except (BadTexture, Refusal) as reason:
            report.trace.append(f"the way to screen {number} ends: {reason}")
            continue
        ground = Image.new("RGB", picture.size, (24, 22, 22))
        ground.paste(picture, (0, 0), picture)
        report.menus[number] = Menu(
            png(ground),
            [tuple(box[:4]) for box in boxes],
            [box[4] for box in boxes],
            [ACTIONS[box[5]] for box in boxes],
            ways(boxes),
        )
        for box in boxes:
            if box[5] == OPENS and box[4] not in known:
                known.add(box[4])
                waiting.append(box[4])
    report.first_menu = first
    leads = sum(len(menu.boxes) for menu in report.menus.values())
    report.trace.append(f"menus: {len(report.menus)} screens from {first:04} on, {leads} rectangles")
