"""Sprites written by hand, with struct alone: they share nothing with what reads them. Invented formats."""

from __future__ import annotations

import struct
from dataclasses import dataclass

import numpy as np


@dataclass
class Shape:
    """A frame: palette indices (0 is not drawn), and its anchor."""

    indices: np.ndarray
    anchor: tuple[int, int]
    ticks: int


def palette(rng: np.random.Generator) -> np.ndarray:
    """256 different colours, the first one loud."""
    colours = rng.permutation(1 << 15)[:256]
    found = np.stack([colours & 31, colours >> 5 & 31, colours >> 10 & 31], axis=1).astype(np.uint8) * 8
    found[0] = (255, 0, 255)
    return found


def walker(rng: np.random.Generator, count: int = 8) -> list[Shape]:
    """A round body with a hat that walks: of another size in each frame, seen through around it."""
    shapes = []
    for number in range(count):
        height, width = 20 + number % 3, 16 + number % 2
        y, x = np.mgrid[0:height, 0:width]
        body = np.hypot((x - width / 2) / (width / 2), (y - height * 0.6) / (height * 0.4)) < 1
        indices = np.where(body, 20 + (x + 2 * y + number) % 9, 0)
        hat = (y < 6) & (abs(x - width // 2) < 4)
        indices[hat] = 60 + number % 2
        noise = rng.random((height, width)) < 0.15
        indices[body & noise] = 100 + rng.integers(0, 8)
        shapes.append(Shape(indices.astype(np.uint8), (width // 2, height - 1), 3 + number % 2))
    return shapes


def puff(shapes: list[Shape], colours: np.ndarray) -> bytes:
    """Table of places, each frame with its own head, rows of runs: 1..127 copy, 128..255 skip 1.., 0 ends a row."""
    heads, bodies = b"", []
    for shape in shapes:
        height, width = shape.indices.shape
        body = struct.pack("<HHhhB", width, height, *shape.anchor, shape.ticks)
        for row in shape.indices:
            at = 0
            while at < width:
                run = 1
                while at + run < width and (row[at + run] == 0) == (row[at] == 0):
                    run += 1
                run = min(run, 127)
                body += bytes([127 + run]) if row[at] == 0 else bytes([run]) + row[at : at + run].tobytes()
                at += run
            body += b"\0"
        bodies.append(body)
    start = 8 + 768 + 8 * len(shapes)
    for body in bodies:
        heads += struct.pack("<II", start, len(body))
        start += len(body)
    return b"PUFF" + struct.pack("<HH", len(shapes), 0) + colours.tobytes() + heads + b"".join(bodies)


PUFF = """
layout: test-puff
title: Puff sprites
kind: sprite
match: {names: ["*.puf"]}
parts:
  - {field: magic, type: string, length: 4, value: PUFF}
  - {field: count, type: u16, is: count(list)}
  - {field: spare, type: u16}
  - {bytes: colours, size: 768}
  - table: list
    count: count
    record:
      - {field: at, type: u32, role: offset}
      - {field: bytes, type: u32, role: stored-size}
  - frames: shapes
    of: list
    tick: 20
    head:
      - {field: width, type: u16, role: frame-width}
      - {field: height, type: u16, role: frame-height}
      - {field: anchor_x, type: i16, role: anchor-x}
      - {field: anchor_y, type: i16, role: anchor-y}
      - {field: ticks, type: u8, role: duration}
    facts: {format: index8}
    palette: {of: colours, format: rgb8}
    runs:
      codes:
        - {from: 0, end: row}
        - {from: 1, to: 127, copy: code}
        - {from: 128, to: 255, skip: code - 127}
"""


def gull(shapes: list[Shape], colours: np.ndarray) -> bytes:
    """Big-endian, 5:6:5 colours, one record each, runs over the whole frame: top bit fill, else copy; names."""
    packed = (colours[:, 0].astype(int) >> 3) << 11 | (colours[:, 1].astype(int) >> 2) << 5 | colours[:, 2] >> 3
    records, bodies, at = b"", b"", 0
    for shape in shapes:
        height, width = shape.indices.shape
        flat, body, x = packed[shape.indices.reshape(-1)].tolist(), b"", 0
        while x < len(flat):
            run = 1
            while x + run < len(flat) and flat[x + run] == flat[x] and run < 128:
                run += 1
            if run > 1:
                body += struct.pack(">BH", 127 + run, flat[x])
            else:
                while x + run < len(flat) and run < 127 and flat[x + run] != flat[x + run - 1]:
                    run += 1
                body += bytes([run - 1]) + b"".join(struct.pack(">H", one) for one in flat[x : x + run])
            x += run
        records += struct.pack(">IHHhh", at, width, height, *shape.anchor)
        bodies += body + bytes(-len(body) % 4)
        at += len(body) + -len(body) % 4
    names = b"".join(name.ljust(8, b"\0") + struct.pack(">HH", first, many) for name, first, many in
                     ((b"walk", 0, 6), (b"rest", 6, 2)))  # fmt: skip
    head = struct.pack(">4sHHI", b"GULL", len(shapes), 2, len(bodies))
    return head + records + names + bodies + b"end of gull"


GULL = """
layout: test-gull
title: Gull sprites
kind: sprite
endian: big
match: {names: ["*.gul"]}
parts:
  - {field: magic, type: string, length: 4, value: GULL}
  - {field: count, type: u16, is: count(list)}
  - {field: walks, type: u16, is: count(walks_of)}
  - {field: bytes, type: u32, is: size(shapes)}
  - table: list
    count: count
    record:
      - {field: at, type: u32, role: offset}
      - {field: width, type: u16, role: frame-width}
      - {field: height, type: u16, role: frame-height}
      - {field: anchor_x, type: i16, role: anchor-x}
      - {field: anchor_y, type: i16, role: anchor-y}
  - table: walks_of
    count: walks
    record:
      - {field: name, type: string, length: 8, role: name}
      - {field: first, type: u16, role: first-frame}
      - {field: many, type: u16, role: frame-count}
  - frames: shapes
    of: list
    size: bytes
    base: 12 + 12 * count + 12 * walks
    align: 4
    facts: {format: rgb565-be, duration: 80}
    runs:
      codes:
        - {from: 0, to: 127, copy: code + 1}
        - {from: 128, to: 255, fill: code - 127}
    sequences: {of: walks_of}
  - {bytes: tail, size: file_size - bytes - 12 - 12 * count - 12 * walks}
"""


def sheet(shapes: list[Shape], colours: np.ndarray) -> bytes:
    """A sheet of 8-bit indices with a table of rectangles, anchors and times, and steps of sequences."""
    width, at, places, row = 64, (0, 0), [], 0
    for shape in shapes:
        h, w = shape.indices.shape
        x, y = at
        if x + w > width:
            x, y, row = 0, y + row, 0
        places.append((x, y))
        row = max(row, h)
        at = (x + w, y)
    height = at[1] + row
    picture = np.zeros((height, width), np.uint8)
    for (x, y), shape in zip(places, shapes, strict=True):
        picture[y : y + shape.indices.shape[0], x : x + shape.indices.shape[1]] = shape.indices
    steps = [0, 1, 2, 1]
    head = struct.pack("<4sHHHHH", b"SHEE", width, height, len(shapes), 1, len(steps))
    rectangles = b"".join(
        struct.pack("<HHHHhhH", x, y, *shape.indices.shape[::-1], *shape.anchor, 10 * shape.ticks)
        for (x, y), shape in zip(places, shapes, strict=True)
    )
    walks = struct.pack("<HHB", 0, len(steps), 0)
    return (
        head + rectangles + walks + struct.pack(f"<{len(steps)}H", *steps) + colours.tobytes() + picture.tobytes()
    )


SHEET = """
layout: test-sheet
title: Sheets with rectangles
kind: sprite
match: {names: ["*.she"]}
parts:
  - {field: magic, type: string, length: 4, value: SHEE}
  - {field: width, type: u16}
  - {field: height, type: u16}
  - {field: count, type: u16, is: count(list)}
  - {field: walks, type: u16, is: count(walks_of)}
  - {field: steps, type: u16, is: count(steps_of)}
  - table: list
    count: count
    record:
      - {field: x, type: u16, role: frame-x}
      - {field: y, type: u16, role: frame-y}
      - {field: w, type: u16, role: frame-width}
      - {field: h, type: u16, role: frame-height}
      - {field: ax, type: i16, role: anchor-x}
      - {field: ay, type: i16, role: anchor-y}
      - {field: ms, type: u16, role: duration}
  - table: walks_of
    count: walks
    record:
      - {field: first, type: u16, role: first-step}
      - {field: many, type: u16, role: step-count}
      - {field: loops, type: u8, role: loop}
  - table: steps_of
    count: steps
    record: [{field: frame, type: u16, role: frame}]
  - {bytes: colours, size: 768}
  - pixels: picture
    facts: {width: width, height: height, format: index8}
    palette: {of: colours, format: rgb8, clear: 0}
  - frames: shapes
    of: list
    sheet: picture
    sequences: {of: walks_of, steps: steps_of}
"""
