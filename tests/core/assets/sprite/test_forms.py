"""Sprites in rarer forms, each by a writer of its own: shared, trimmed, turned, differences, four bits, grids."""

from __future__ import annotations

import struct

import numpy as np
import pytest

from brae.core.assets.base import Context, Version
from brae.core.assets.sprite import matching
from brae.core.assets.sprite.described import SpriteFile
from brae.core.assets.sprite.kind import KIND
from brae.core.errors import BraeError, NotFoundError
from brae.core.layouts.library import Library
from brae.core.layouts.load import parse
from tests.core.assets.sprite.test_sprite import COLOURS, SHAPES, ids, matched, png, sent


def opened(layout: str, data: bytes, **others: bytes) -> SpriteFile:
    def fetch(name: str) -> bytes:
        if name not in others:
            raise NotFoundError(f"no {name}")
        return others[name]

    context = Context(Library(), "figures/a.spr", fetch, parse(layout))
    file = KIND.read(data, context)
    assert KIND.rebuild(file) == data
    _, encoded = KIND.match(file, Version(KIND.send(file)), KIND.recipe(file).model_dump())
    assert encoded.data == data, "what goes out and comes back untouched is the original"
    return file


def painted(file: SpriteFile, number: int, colour: tuple[int, ...], part: tuple[slice, slice]) -> SpriteFile:
    """One frame painted on, as it comes back."""
    cells = matching.split(file, sent(file))
    cells[number][part] = colour
    _, again = matched(file, png(matching.arranged(file, cells)))
    return again


HEAD = """
layout: test-form
title: Forms
kind: sprite
parts:
  - {field: magic, type: string, length: 4, value: FORM}
  - {field: count, type: u16, is: count(list)}
"""
LIST = """
  - table: list
    count: count
    record:
"""


def test_frames_that_share_their_data_share_it_until_one_is_painted() -> None:
    layout = HEAD + "  - {bytes: colours, size: 768}" + LIST + """
      - {field: at, type: u32, role: offset}
      - {field: w, type: u8, role: frame-width}
      - {field: h, type: u8, role: frame-height}
  - {frames: all, of: list, base: 776 + 6 * count, facts: {format: index8}, palette: {of: colours, format: rgb8}}
"""  # fmt: skip
    one, two = (np.random.default_rng(k).integers(1, 9, (6, 5)).astype(np.uint8) for k in (1, 2))
    block = one.tobytes() + b"--" + two.tobytes()
    rows = b"".join(struct.pack("<IBB", at, 5, 6) for at in (0, 32, 0, 0))
    data = b"FORM" + struct.pack("<H", 4) + COLOURS.tobytes() + rows + block
    data = data[:6] + data[6:]
    file = opened(layout.replace("776", "774"), data)
    assert np.array_equal(file.sprite.frames[0].picture, file.sprite.frames[3].picture)
    again = painted(file, 2, (*COLOURS[200], 255), (slice(2, 4), slice(1, 3)))
    assert np.array_equal(again.sprite.frames[0].picture, file.sprite.frames[0].picture)
    assert np.array_equal(again.sprite.frames[3].picture, file.sprite.frames[3].picture)
    assert (again.sprite.frames[2].picture[2:4, 1:3, :3] == COLOURS[200]).all()
    assert again.stored[0].start == again.stored[3].start != again.stored[2].start
    assert again.size == file.size + 30


def test_frames_one_after_the_other_with_their_size_in_front() -> None:
    layout = (HEAD + "  - {bytes: colours, size: 768}" + LIST + """
      - {field: x, type: i8, role: canvas-x}
      - {field: y, type: i8, role: canvas-y}
  - frames: all
    of: list
    align: 4
    head:
      - {field: bytes, type: u16, role: stored-size}
      - {field: w, type: u8, role: frame-width}
      - {field: h, type: u8, role: frame-height}
    facts: {format: index8, anchor_x: 3, anchor_y: 4}
    palette: {of: colours, format: rgb8}
    runs: {row_offsets: u16, codes: [{from: 0, to: 127, copy: code + 1}, {from: 128, to: 255, skip: code - 127}]}
""").replace("kind: sprite", "kind: sprite\nendian: big")  # fmt: skip
    bodies = b""
    start = 6 + 768 + 2 * len(SHAPES)
    for shape in SHAPES:
        rows = []
        for row in shape.indices:
            made, at = b"", 0
            while at < len(row):
                run = 1
                while at + run < len(row) and (row[at + run] == 0) == (row[at] == 0) and run < 128:
                    run += 1
                made += bytes([127 + run]) if row[at] == 0 else bytes([run - 1]) + row[at : at + run].tobytes()
                at += run
            rows.append(made)
        table = 2 * len(rows)
        offsets = [table + sum(map(len, rows[:n])) for n in range(len(rows))]
        pixels = struct.pack(f">{len(rows)}H", *offsets) + b"".join(rows)
        body = struct.pack(">HBB", len(pixels), *shape.indices.shape[::-1]) + pixels
        bodies += bytes(-(start + len(bodies)) % 4) + body
    places = b"".join(struct.pack("bb", n % 3 - 1, n % 2) for n in range(len(SHAPES)))
    data = b"FORM" + struct.pack(">H", len(SHAPES)) + COLOURS.tobytes() + places + bodies
    file = opened(layout, data)
    assert [(one.x, one.y) for one in file.sprite.frames] == [(n % 3 - 1 - 3, n % 2 - 4) for n in range(8)]
    for shape, frame in zip(SHAPES, file.sprite.frames, strict=True):
        assert np.array_equal(frame.picture[..., 3] > 0, shape.indices > 0)
        assert np.array_equal(frame.picture[shape.indices > 0][:, :3], COLOURS[shape.indices[shape.indices > 0]])
    canvas = file.sprite.canvas
    y, x = file.sprite.frames[4].y - canvas.top, file.sprite.frames[4].x - canvas.left
    again = painted(file, 4, (*COLOURS[33], 255), (slice(y + 8, y + 12), slice(x + 4, x + 9)))
    for number in range(8):
        same = np.array_equal(again.sprite.frames[number].picture, file.sprite.frames[number].picture)
        assert same == (number != 4)
    # What grows to the left and above has its place moved by as much.
    cells = matching.split(file, sent(file))
    lowest = max(range(8), key=lambda n: file.sprite.frames[n].y)
    cells[lowest][0, 0] = (*COLOURS[33], 255)
    sheet, grown = matched(file, png(matching.arranged(file, cells)))
    assert "spilt" not in ids(sheet)
    assert np.array_equal(grown.sprite.on_canvas(lowest), cells[lowest])


def test_frames_that_draw_only_what_changed() -> None:
    layout = HEAD + "  - {bytes: colours, size: 768}" + LIST + """
      - {field: bytes, type: u16, role: stored-size}
  - frames: all
    of: list
    over: frame before
    facts: {format: index8, width: 16, height: 20}
    palette: {of: colours, format: rgb8}
    runs:
      codes:
        - {from: 0, end: frame}
        - {from: 1, skip: next + 1, next: u8}
        - {from: 2, to: 255, copy: code - 1}
"""  # fmt: skip
    whole = [np.random.default_rng(3).integers(1, 5, (20, 16)).astype(np.uint8)]
    for number in range(1, 5):
        following = whole[-1].copy()
        following[number : number + 3, 2 : 4 + number] = 40 + number
        whole.append(following)
    bodies = []
    for number, picture in enumerate(whole):
        flat = picture.reshape(-1)
        drawn = np.ones(flat.shape, bool) if number == 0 else flat != whole[number - 1].reshape(-1)
        made, at = b"", 0
        while at < len(flat):
            run = 1
            while at + run < len(flat) and drawn[at + run] == drawn[at] and run < 250:
                run += 1
            made += bytes([run + 1]) + flat[at : at + run].tobytes() if drawn[at] else bytes([1, run - 1])
            at += run
        bodies.append(made + b"\0")
    rows = b"".join(struct.pack("<H", len(body)) for body in bodies)
    data = b"FORM" + struct.pack("<H", len(whole)) + COLOURS.tobytes() + rows + b"".join(bodies)
    file = opened(layout, data)
    for picture, frame in zip(whole, file.sprite.frames, strict=True):
        assert np.array_equal(frame.picture[..., :3], COLOURS[picture])
    again = painted(file, 2, (*COLOURS[99], 255), (slice(10, 12), slice(3, 6)))
    for number, (before, after) in enumerate(zip(file.sprite.frames, again.sprite.frames, strict=True)):
        # The next frame draws what it needs anew, so that it is as it was.
        assert np.array_equal(before.picture, after.picture) == (number != 2)
    cells = matching.split(file, sent(file))
    cells[3][5, 5] = 0
    with pytest.raises(BraeError, match="clear where the frame before is not"):
        matched(file, png(matching.arranged(file, cells)))


@pytest.mark.parametrize("way", ["right", "left"])
def test_turned_rectangles_of_a_sheet_are_upright(way: str) -> None:
    layout = (
        HEAD
        + f"""
  - {{bytes: colours, size: 768}}
  - table: list
    count: count
    record:
      - {{field: x, type: u8, role: frame-x}}
      - {{field: y, type: u8, role: frame-y}}
      - {{field: w, type: u8, role: frame-width}}
      - {{field: h, type: u8, role: frame-height}}
      - {{field: turned, type: u8, role: frame-turned}}
  - {{pixels: sheet, facts: {{width: 40, height: 30, format: index8}}, palette: {{of: colours, format: rgb8}}}}
  - {{frames: all, of: list, sheet: sheet, turned: {way}}}
"""
    )
    upright = SHAPES[0].indices
    height, width = upright.shape
    sheet = np.zeros((30, 40), np.uint8)
    sheet[:height, :width] = upright
    # Turned to the right: what was above is on the right.
    sheet[2 : 2 + width, 18 : 18 + height] = np.rot90(upright, -1 if way == "right" else 1)
    rows = struct.pack("<5B", 0, 0, width, height, 0) + struct.pack("<5B", 18, 2, width, height, 1)
    file = opened(layout, b"FORM" + struct.pack("<H", 2) + COLOURS.tobytes() + rows + sheet.tobytes())
    assert np.array_equal(file.sprite.frames[0].picture, file.sprite.frames[1].picture)
    again = painted(file, 1, (*COLOURS[222], 255), (slice(0, 2), slice(0, 9)))
    assert (again.sprite.frames[1].picture[0:2, 0:9, :3] == COLOURS[222]).all()
    assert np.array_equal(again.sprite.frames[0].picture, file.sprite.frames[0].picture)


def test_cells_of_a_grid_with_a_margin_and_four_bits() -> None:
    layout = HEAD.replace(", is: count(list)", "") + """
  - {bytes: colours, size: 32}
  - pixels: sheet
    facts: {width: 46, height: 31, format: index4}
    palette: {of: colours, format: xbgr1555, clear: 0}
  - frames: all
    sheet: sheet
    grid: {columns: 3, rows: 2, width: 12, height: 12, count: count, margin: 3, spacing: 2}
"""  # fmt: skip
    rng = np.random.default_rng(8)
    cells = [rng.integers(0, 16, (12, 12)).astype(np.uint8) for _ in range(5)]
    sheet = np.full((31, 46), 15, np.uint8)
    for number, cell in enumerate(cells):
        y, x = 3 + number // 3 * 14, 3 + number % 3 * 14
        sheet[y : y + 12, x : x + 12] = cell
    packed = sheet[:, ::2] | sheet[:, 1::2] << 4
    values = [(3 * n % 32) | (5 * n % 32) << 5 | (7 * n % 32) << 10 for n in range(16)]
    data = b"FORM" + struct.pack("<H16H", 5, *values) + packed.astype(np.uint8).tobytes()
    file = opened(layout, data)
    assert len(file.sprite.frames) == 5
    for cell, frame in zip(cells, file.sprite.frames, strict=True):
        assert np.array_equal(frame.picture[..., 3] > 0, cell > 0)
    again = painted(file, 4, tuple(file.palette[9]), (slice(0, 12), slice(0, 12)))  # type: ignore[index]
    assert (again.sprite.frames[4].picture == file.palette[9]).all()  # type: ignore[index]
    assert np.array_equal(again.sprite.frames[3].picture, file.sprite.frames[3].picture)


def test_frames_of_four_bits_and_odd_sides_with_colours_in_another_file() -> None:
    layout = HEAD + LIST + """
      - {field: at, type: u16, role: offset}
      - {field: w, type: u8, role: frame-width}
      - {field: h, type: u8, role: frame-height}
  - frames: all
    of: list
    facts: {format: index4-high}
    palette: {file: "{folder}/day.col", at: 4, format: bgr8, entries: 16}
"""  # fmt: skip
    rng = np.random.default_rng(9)
    shapes = [(7, 5), (3, 9), (1, 1), (8, 8)]
    rows, block = b"", b""
    start = 6 + 4 * len(shapes)
    frames = []
    for height, width in shapes:
        indices = rng.integers(0, 16, (height, width)).astype(np.uint8)
        frames.append(indices)
        wide = np.pad(indices, ((0, 0), (0, width % 2)))
        rows += struct.pack("<HBB", start + len(block), width, height)
        block += (wide[:, ::2] << 4 | wide[:, 1::2]).astype(np.uint8).tobytes()
    data = b"FORM" + struct.pack("<H", len(shapes)) + rows + block
    colours = rng.permutation(256)[:48].astype(np.uint8).reshape(16, 3)
    others = {"figures/day.col": b"DAYC" + colours.tobytes() + b"more colours of the night"}
    file = opened(layout, data, **others)
    for indices, frame in zip(frames, file.sprite.frames, strict=True):
        assert np.array_equal(frame.picture[..., :3], colours[indices][..., ::-1])
    canvas = file.sprite.canvas
    assert (canvas.width, canvas.height) == (9, 8)
    again = painted(file, 1, (*colours[7][::-1], 255), (slice(0, 3), slice(0, 9)))
    assert (again.stored[1].raw[:, :-1] == 0x77).all()
    for name, other in (("figures/a.spr", "figures/day.col"), ("a.spr", "day.col"), ("x/y/b.spr", "x/y/day.col")):
        assert file.layout.others(name) == [other]
        assert file.layout.may_need(other)
    assert not file.layout.may_need("figures/night.col")
    same = [
        np.array_equal(a.picture, b.picture) for a, b in zip(file.sprite.frames, again.sprite.frames, strict=True)
    ]
    assert same == [True, False, True, True]
    with pytest.raises(NotFoundError, match=r"figures/day\.col"):
        opened(layout, data)


def test_a_frame_without_pixels_begins_where_the_next_one_does() -> None:
    layout = HEAD + "  - {bytes: colours, size: 768}" + LIST + """
      - {field: at, type: u32, role: offset}
      - {field: bytes, type: u16, role: stored-size}
      - {field: w, type: u8, role: frame-width}
      - {field: h, type: u8, role: frame-height}
      - {field: x, type: i8, role: canvas-x}
      - {field: y, type: i8, role: canvas-y}
  - {frames: all, of: list, facts: {format: index8}, palette: {of: colours, format: rgb8, clear: 0}}
"""  # fmt: skip
    one, two = (np.random.default_rng(k).integers(1, 9, (4, 4)).astype(np.uint8) for k in (4, 5))
    start = 774 + 10 * 4
    rows = b"".join(
        struct.pack("<IHBBbb", start + at, size, side, side, 0, 0)
        for at, size, side in ((0, 0, 0), (0, 16, 4), (16, 0, 0), (16, 16, 4))
    )
    data = b"FORM" + struct.pack("<H", 4) + COLOURS.tobytes() + rows + one.tobytes() + two.tobytes()
    file = opened(layout, data)
    again = painted(file, 1, (*COLOURS[7], 255), (slice(0, 1), slice(0, 4)))
    assert again.size == file.size
    assert [(a.start, a.end) for a in again.stored] == [(a.start, a.end) for a in file.stored]
    # Something is drawn where nothing was: the frame gets its sides, its place and its pixels.
    drawn = painted(file, 2, (*COLOURS[7], 255), (slice(1, 3), slice(2, 4)))
    assert drawn.size == file.size + 4
    new = drawn.sprite.frames[2]
    assert (new.width, new.height, new.x, new.y) == (2, 2, 2, 1)
    for number in (1, 3):
        assert np.array_equal(drawn.sprite.frames[number].picture, file.sprite.frames[number].picture)
