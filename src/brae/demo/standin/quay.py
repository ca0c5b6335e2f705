"""The harbour of the disc edition: figures that walk in front of a backdrop, all in one palette of 256 colours."""

from __future__ import annotations

import struct
from collections.abc import Callable

from PIL import Image

from brae.demo.standin.report import BadTexture, Refusal

BACKDROP = (256, 72)
FIGURES = ("POSTWOM.STR", "BYSTAND.STR", "DOG.STR", "GULL.STR")
#: where each figure walks (its anchor), which walk, and at which frame of it the scene begins
_PLACES = {
    "POSTWOM.STR": (60, 66, 0, 0),
    "BYSTAND.STR": (132, 60, 1, 5),
    "DOG.STR": (96, 68, 3, 0),
    "GULL.STR": (200, 40, 1, 1),
}
_LARGEST, _WALKS, _FRAMES = (40, 48), 4, 32


def read_colours(data: bytes) -> list[tuple[int, int, int]]:
    """The harbour's palette. Without it there is no harbour, and the game stops."""
    if data[:4] != b"COL1" or len(data) != 8 + 512 or struct.unpack_from("<H", data, 4)[0] != 256:
        raise Refusal("HARBOUR.COL is no palette of 256 colours")
    found = []
    for value in struct.unpack_from("<256H", data, 8):
        if not value & 0x8000:
            raise Refusal("HARBOUR.COL has a colour without its top bit")
        red, green, blue = ((value >> shift & 31) * 255 // 31 for shift in (0, 5, 10))
        found.append((red, green, blue))
    return found


def read_backdrop(data: bytes, colours: list[tuple[int, int, int]]) -> Image.Image:
    """The ground; BadTexture where it is not exactly as the game expects."""
    width, height = BACKDROP
    if data[:4] != b"BKD1" or struct.unpack_from("<HH", data, 4) != BACKDROP or len(data) != 8 + width * height:
        raise BadTexture(f"HARBOUR.BKD is no BKD1 picture of {width} x {height}")
    return Image.frombytes("RGB", BACKDROP, b"".join(bytes(colours[index]) for index in data[8:]))


class Figure:
    """A figure: its walks and frames, unpacked pixel by pixel as the game does."""

    def __init__(self, data: bytes, name: str) -> None:
        if data[:4] != b"STR1":
            raise BadTexture(f"{name} is no STR1 figure")
        count, walks = struct.unpack_from("<HH", data, 4)
        if (count, walks) != (_FRAMES, _WALKS):
            raise BadTexture(f"{name} has {count} frames in {walks} walks; wanted {_FRAMES} in {_WALKS}")
        self.walks = [struct.unpack_from("<BB", data, 8 + 14 * number + 12) for number in range(walks)]
        table = struct.unpack_from(f"<{2 * count}I", data, 8 + 14 * walks)
        self.frames = [self._frame(data[at : at + size], f"{name}, frame {n}") for n, (at, size) in
                       enumerate(zip(table[::2], table[1::2], strict=True))]  # fmt: skip
        for first, many in self.walks:
            if first + many > count or not many:
                raise BadTexture(f"{name} has a walk from {first} on, {many} frames")

    @staticmethod
    def _frame(data: bytes, name: str) -> tuple[int, int, list[list[int | None]]]:
        """Where the anchor is, and rows of palette indices; None where nothing is drawn."""
        if len(data) < 10:
            raise BadTexture(f"{name} is cut short")
        width, height, x, y = struct.unpack_from("<HHhh", data)
        if width > _LARGEST[0] or height > _LARGEST[1]:
            raise BadTexture(f"{name} is {width} x {height}, more than {_LARGEST[0]} x {_LARGEST[1]}")
        at, rows = 10, []
        for _ in range(height):
            row: list[int | None] = []
            while True:
                if at >= len(data):
                    raise BadTexture(f"{name} ends within a row")
                code = data[at]
                at += 1
                if code == 0:
                    break
                if code < 128:
                    row += data[at : at + code]
                    at += code
                elif code < 192:
                    row += [None] * (code - 127)
                else:
                    row += [data[at]] * (code - 190)
                    at += 1
            if len(row) > width:
                raise BadTexture(f"{name} has a row of {len(row)} pixels")
            rows.append(row)
        return x, y, rows


def draw(
    read: Callable[[str], bytes], trace: Callable[[str], None], replaced: Callable[[str, BadTexture], None]
) -> list[Image.Image]:
    """The harbour, one picture for each step of the walks; ``read`` gives a file of the volume."""
    colours = read_colours(read("HARBOUR.COL"))
    trace("HARBOUR.COL: 256 colours")
    ground = Image.new("RGB", BACKDROP, (60, 66, 76))
    try:
        ground = read_backdrop(read("HARBOUR.BKD"), colours)
    except BadTexture as reason:
        replaced("HARBOUR.BKD", reason)
    figures = {}
    for name in FIGURES:
        try:
            figures[name] = Figure(read(name), name)
            trace(f"{name}: walks")
        except BadTexture as reason:
            replaced(name, reason)
    steps = []
    for step in range(8):
        scene = ground.copy()
        for name, figure in figures.items():
            x, y, walk, begin = _PLACES[name]
            first, many = figure.walks[walk]
            left, top, rows = figure.frames[first + (begin + step) % many]
            for down, row in enumerate(rows):
                for right, index in enumerate(row):
                    place = (x - left + right, y - top + down)
                    if index is not None and 0 <= place[0] < BACKDROP[0] and 0 <= place[1] < BACKDROP[1]:
                        scene.putpixel(place, colours[index])
        steps.append(scene)
    return steps
