"""Sprites: frames of other writers read, taken out, brought back and rebuilt; findings and what puts them right."""

from __future__ import annotations

import io
import struct

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image
from pydantic import ValidationError

from brae.core.assets.base import Context, ExchangeFile, NoWords, Version, Viewed
from brae.core.assets.said import check
from brae.core.assets.sheet import MatchSheet
from brae.core.assets.sprite import matching
from brae.core.assets.sprite.described import SpriteFile
from brae.core.assets.sprite.kind import KIND
from brae.core.assets.sprite.looking import SpriteQuery, frames_of
from brae.core.assets.sprite.runs import Coding
from brae.core.assets.sprite.settling import AreaQuery, Settling, followed, settle
from brae.core.errors import BraeError, FormatError, LimitError, NotFoundError
from brae.core.layouts.frames import Code, Runs
from brae.core.layouts.library import Library
from brae.core.layouts.load import parse
from tests.core.assets.sprite import writers

RNG = np.random.default_rng(17)
COLOURS = writers.palette(RNG)
SHAPES = writers.walker(RNG)
LAYOUTS = {name: parse(getattr(writers, name.upper())) for name in ("puff", "gull", "sheet")}
FILES = {name: getattr(writers, name)(SHAPES, COLOURS) for name in LAYOUTS}


def opened(name: str, data: bytes | None = None) -> SpriteFile:
    context = Context(Library(), f"a.{name[:3]}", layout=LAYOUTS[name])
    return KIND.read(FILES[name] if data is None else data, context)


def png(picture: np.ndarray) -> ExchangeFile:
    stream = io.BytesIO()
    Image.fromarray(picture).save(stream, "PNG")
    return ExchangeFile("sprite.png", stream.getvalue())


def sent(file: SpriteFile) -> np.ndarray:
    return np.asarray(Image.open(io.BytesIO(KIND.send(file).data)).convert("RGBA")).copy()


def matched(file: SpriteFile, came: ExchangeFile, *remedies: str) -> tuple[MatchSheet, SpriteFile]:
    recipe = KIND.recipe(file).model_dump()
    sheet, encoded = KIND.match(file, Version(came, remedies), recipe)
    return sheet, KIND.again(file, encoded)


def ids(sheet: MatchSheet) -> set[str]:
    return {one.id for one in sheet.findings}


def true_colours(shape: writers.Shape, name: str) -> np.ndarray:
    """What the writer meant, worked out here: 8 bits, clear where nothing is drawn."""
    rgb = COLOURS[shape.indices].astype(int)
    if name == "gull":  # 5:6:5 by repeating the high bits (the Khronos data format specification's expansion)
        five = [(rgb[..., k] >> 3) * 255 / 31 for k in (0, 2)]
        rgb = np.rint(np.stack([five[0], (rgb[..., 1] >> 2) * 255 / 63, five[1]], axis=-1)).astype(int)
    alpha = np.full(shape.indices.shape, 255) if name == "gull" else np.where(shape.indices == 0, 0, 255)
    return np.dstack([rgb, alpha]).astype(np.uint8)


@pytest.mark.parametrize("name", LAYOUTS)
def test_what_the_layouts_say_is_known(name: str) -> None:
    assert list(check(LAYOUTS[name])) == []
    wrong = parse(writers.PUFF.replace("format: index8", "format: index9"))
    assert ["format" in place for place, _, _ in check(wrong)] == [True]


@pytest.mark.parametrize("name", LAYOUTS)
def test_frames_are_what_the_writer_meant(name: str) -> None:
    file = opened(name)
    assert len(file.sprite.frames) == len(SHAPES)
    for frame, shape in zip(file.sprite.frames, SHAPES, strict=True):
        wanted = true_colours(shape, name)
        seen = wanted[..., 3] > 0
        assert np.array_equal(frame.picture[..., 3] > 0, seen)
        assert np.abs(frame.picture[seen].astype(int) - wanted[seen]).max() <= 1
        assert (frame.x, frame.y) == (-shape.anchor[0], -shape.anchor[1])


def test_times_and_sequences() -> None:
    assert [one.ms for one in opened("puff").sprite.frames] == [20 * shape.ticks for shape in SHAPES]
    gull = opened("gull").sprite.sequences
    assert [(run.name, [step.frame for step in run.steps]) for run in gull] == [
        ("walk", [0, 1, 2, 3, 4, 5]),
        ("rest", [6, 7]),
    ]
    assert {step.ms for run in gull for step in run.steps} == {80}
    (run,) = opened("sheet").sprite.sequences
    assert [step.frame for step in run.steps] == [0, 1, 2, 1]
    assert not run.loop
    assert [step.ms for step in run.steps] == [10 * SHAPES[n].ticks for n in (0, 1, 2, 1)]


@pytest.mark.parametrize("name", LAYOUTS)
def test_unchanged_is_the_same_to_the_byte(name: str) -> None:
    file = opened(name)
    assert KIND.rebuild(file) == FILES[name]
    sheet, encoded = KIND.match(file, Version(KIND.send(file)), KIND.recipe(file).model_dump())
    assert encoded.data == FILES[name]
    assert not sheet.open_findings


@pytest.mark.parametrize("name", LAYOUTS)
def test_one_painted_frame_changes_that_frame_alone(name: str) -> None:
    file = opened(name)
    picture = sent(file)
    cells = matching.split(file, picture)
    one = file.sprite.frames[3]
    x, y = (0, 0) if file.sheet is not None else (one.x - file.sprite.canvas.left, one.y - file.sprite.canvas.top)
    colour = (*COLOURS[60], 255) if name != "gull" else tuple(one.picture[8, 8])
    cells[3][y + 9 : y + 12, x + 5 : x + 9] = colour
    sheet, again = matched(file, png(matching.arranged(file, cells)))
    assert not {"drift", "spilt", "outside-palette"} & ids(sheet)
    for number, (before, after) in enumerate(zip(file.sprite.frames, again.sprite.frames, strict=True)):
        if number == 3:
            assert (after.picture[9:12, 5:9] == colour).all()
        else:
            assert np.array_equal(before.picture, after.picture)
            if file.stored:
                old, new = file.stored[number], again.stored[number]
                assert (
                    file.parsed.content("shapes")[old.start : old.end]
                    == again.parsed.content("shapes")[new.start : new.end]
                )


def test_an_index_that_is_clear_is_no_change() -> None:
    clear = parse(writers.PUFF.replace("format: rgb8}", "format: rgb8, clear: 0}"))
    shapes = [writers.Shape(shape.indices.copy(), shape.anchor, shape.ticks) for shape in SHAPES]
    data = writers.puff(shapes, COLOURS)
    file = KIND.read(data, Context(Library(), "a.puf", layout=clear))
    assert not file.sprite.frames[0].picture[0, 0].any()
    _, encoded = KIND.match(file, Version(KIND.send(file)), KIND.recipe(file).model_dump())
    assert encoded.data == data
    cells = matching.split(file, sent(file))
    cells[2][9:11, 6:8] = (*COLOURS[60], 255)
    _, again = matched(file, png(matching.arranged(file, cells)))
    kept = [old.raw.tobytes() == new.raw.tobytes() for old, new in zip(file.stored, again.stored, strict=True)]
    assert kept == [number != 2 for number in range(len(shapes))]


def test_indices_that_stand_twice_are_kept() -> None:
    colours = COLOURS.copy()
    colours[21] = colours[20]
    data = writers.puff(SHAPES, colours)
    file = opened("puff", data)
    cells = matching.split(file, sent(file))
    cells[0][10, 10] = (*colours[61], 255)
    _, again = matched(file, png(matching.arranged(file, cells)))
    old, new = file.stored[0].raw[..., 0], again.stored[0].raw[..., 0]
    assert (old == 21).any()
    assert (old != new).sum() == 1


def test_a_frame_grows_where_it_can_say_so_and_is_cut_where_it_cannot() -> None:
    file = opened("puff")
    cells = matching.split(file, sent(file))
    small = min(range(len(SHAPES)), key=lambda n: file.sprite.frames[n].width)
    cells[small][0:2, -1] = (*COLOURS[60], 255)
    sheet, again = matched(file, png(matching.arranged(file, cells)))
    assert "spilt" not in ids(sheet)
    grown = again.sprite.frames[small]
    assert grown.width > file.sprite.frames[small].width
    assert np.array_equal(again.sprite.on_canvas(small), cells[small])
    # Without fields for its sides the frame stays as large as it was.
    fixed = parse(
        writers.PUFF.replace(", role: frame-width", "")
        .replace(", role: frame-height", "")
        .replace("facts: {format: index8}", "facts: {format: index8, width: 16, height: 20}")
    )
    shapes = [writers.Shape(shape.indices[:20, :16], shape.anchor, shape.ticks) for shape in SHAPES]
    shapes[2].anchor = (4, 10)
    data = writers.puff(shapes, COLOURS)
    file = KIND.read(data, Context(Library(), "a.puf", layout=fixed))
    cells = matching.split(file, sent(file))
    cells[2][0:2, 0:2] = (*COLOURS[60], 255)
    sheet, again = matched(file, png(matching.arranged(file, cells)))
    assert "spilt" in ids(sheet)
    assert [one.picture.shape for one in again.sprite.frames] == [one.picture.shape for one in file.sprite.frames]


def test_a_hat_that_jumps_in_one_frame_is_found_and_put_back() -> None:
    shapes = [writers.Shape(SHAPES[0].indices, SHAPES[0].anchor, 5) for _ in range(12)]
    file = opened("puff", writers.puff(shapes, COLOURS))
    before = matching.split(file, sent(file))
    band = (*COLOURS[70], 255)
    wanted = [cell.copy() for cell in before]
    for cell in wanted:
        cell[3:5, 4:12] = band
        cell[1:3, 6:10] = (*COLOURS[71], 255)
    painted = [cell.copy() for cell in wanted]
    painted[7] = before[7].copy()
    painted[7][4:6, 4:12] = band
    painted[7][2:4, 6:10] = (*COLOURS[71], 255)
    came = png(matching.arranged(file, painted))
    sheet, _ = matched(file, came)
    found = next(one for one in sheet.findings if one.id == "drift")
    assert "Frame 7" in found.title
    assert "1.0 pixels" in found.title
    sheet, again = matched(file, came, "settle")
    assert not [one for one in sheet.open_findings if one.id == "drift"]
    assert np.array_equal(again.sprite.on_canvas(7), again.sprite.on_canvas(6))
    assert np.array_equal(again.sprite.on_canvas(7), wanted[7])
    steady, _ = matched(file, png(matching.arranged(file, wanted)))
    assert "drift" not in ids(steady)


def _with_a_hat(wrong: dict[int, int]) -> tuple[SpriteFile, SpriteFile, list[np.ndarray]]:
    """Twelve frames with a band on the head, in some too low; the file, its edit, what was meant."""
    shapes = [writers.Shape(SHAPES[0].indices, SHAPES[0].anchor, 5) for _ in range(12)]
    file = opened("puff", writers.puff(shapes, COLOURS))
    before = matching.split(file, sent(file))
    meant, painted = [], []
    for number, cell in enumerate(before):
        for found, down in ((meant, 0), (painted, wrong.get(number, 0))):
            one = cell.copy()
            one[3 + down : 5 + down, 4:12] = (*COLOURS[70], 255)
            one[1 + down : 3 + down, 6:10] = (*COLOURS[71], 255)
            found.append(one)
    _, edit = matched(file, png(matching.arranged(file, painted)))
    return file, edit, meant


def _settled(file: SpriteFile, edit: SpriteFile, **query: object) -> tuple[list[np.ndarray], str]:
    made, words = settle(Viewed(file, edit), Settling.model_validate(query), None)
    sheet = np.asarray(Image.open(io.BytesIO(made.data)).convert("RGBA"))
    return matching.split(file, sheet), words


def test_single_frames_are_moved_back_or_all_that_jump() -> None:
    file, edit, meant = _with_a_hat({7: 1, 9: 2})
    cells, words = _settled(file, edit, frames="7")
    assert words == "frame 7 moved back"
    assert np.array_equal(cells[7], meant[7])
    assert not np.array_equal(cells[9], meant[9])
    cells, words = _settled(file, edit)
    assert words == "2 frames moved back"
    assert all(np.array_equal(a, b) for a, b in zip(cells, meant, strict=True))
    with pytest.raises(NotFoundError):
        _settled(*_with_a_hat({})[:2])
    with pytest.raises(NotFoundError, match="no edit"):
        settle(Viewed(file), Settling(), None)


def test_what_an_area_shows_is_followed_and_moved_back() -> None:
    file, edit, meant = _with_a_hat({7: 1})
    area = {"frame": 0, "x": 3, "y": 0, "width": 10, "height": 6}
    found = followed(Viewed(file, edit), AreaQuery.model_validate(area), None)
    assert [one.frame for one in found if one.jumps] == [7]
    assert next(one for one in found if one.frame == 7).dy == pytest.approx(1, abs=0.1)
    cells, _ = _settled(file, edit, **area)
    assert np.array_equal(cells[7], meant[7])
    for wrong, words in (({"x": 900}, "followed"), ({"frame": 50}, "no frame 50")):
        with pytest.raises(BraeError, match=words):
            followed(Viewed(file, edit), AreaQuery.model_validate(area | wrong), None)


def test_empty_frames_are_told_and_taken_from_the_original() -> None:
    file = opened("sheet")
    cells = matching.split(file, sent(file))
    cells[4][...] = 0
    came = png(matching.arranged(file, cells))
    sheet, again = matched(file, came)
    assert "empty-frames" in ids(sheet)
    assert not again.sprite.frames[4].picture[..., 3].any()
    _, again = matched(file, came, "restore-empty")
    assert np.array_equal(again.sprite.frames[4].picture, file.sprite.frames[4].picture)


@pytest.mark.parametrize("suffix", [".gif", ".apng"])
@pytest.mark.parametrize("name", ["puff", "sheet"])
def test_a_sequence_goes_out_and_comes_back(name: str, suffix: str) -> None:
    file = opened(name)
    moving = ExchangeFile(f"walk{suffix}", KIND.saved(file, suffix))
    with Image.open(io.BytesIO(moving.data)) as image:
        assert image.n_frames == len(file.sprite.sequences[0].steps)
    if name == "sheet":
        return  # its frames have different sides, so a moving file cannot be laid on them
    sheet, again = matched(file, moving)
    assert not {"frame-size", "frame-count", "times"} & ids(sheet)
    for before, after in zip(file.sprite.frames, again.sprite.frames, strict=True):
        assert np.array_equal(before.picture[..., 3], after.picture[..., 3])
        seen = before.picture[..., 3] > 0
        assert np.array_equal(before.picture[seen], after.picture[seen])


def test_other_times_are_taken_when_that_is_wished() -> None:
    file = opened("puff")
    frames = [Image.fromarray(file.sprite.on_canvas(n)) for n in range(len(SHAPES))]
    stream = io.BytesIO()
    frames[0].save(stream, "PNG", save_all=True, append_images=frames[1:], duration=200, disposal=1, blend=0)
    came = ExchangeFile("walk.png", stream.getvalue())
    sheet, again = matched(file, came)
    assert "times" in ids(sheet)
    assert [one.ms for one in again.sprite.frames] == [one.ms for one in file.sprite.frames]
    _, again = matched(file, came, "take-times")
    assert {one.ms for one in again.sprite.frames} == {200}
    assert np.array_equal(again.sprite.frames[2].picture, file.sprite.frames[2].picture)


def test_another_number_of_frames_and_other_sides_are_told() -> None:
    file = opened("puff")
    frames = [Image.fromarray(file.sprite.on_canvas(n)) for n in range(5)]
    for extra, wanted in ((0, "frame-count"), (2, "frame-size")):
        stream = io.BytesIO()
        some = [one.resize((one.width + extra, one.height)) for one in frames]
        some[0].save(stream, "PNG", save_all=True, append_images=some[1:], duration=100)
        sheet, again = matched(file, ExchangeFile("walk.png", stream.getvalue()))
        assert wanted in ids(sheet)
        assert np.array_equal(again.sprite.frames[7].picture, file.sprite.frames[7].picture)


def test_colours_outside_the_palette_are_told() -> None:
    file = opened("puff")
    cells = matching.split(file, sent(file))
    cells[1][8:14, 4:10] = (1, 254, 3, 255)
    sheet, again = matched(file, png(matching.arranged(file, cells)))
    (found,) = (one for one in sheet.findings if one.id == "outside-palette")
    assert "1 colour of frame 1" in found.title
    allowed = {tuple(colour) for colour in COLOURS.tolist()}
    seen = again.sprite.frames[1].picture
    assert {tuple(colour) for colour in seen[seen[..., 3] > 0][:, :3].tolist()} <= allowed


def test_what_the_page_plays() -> None:
    file = opened("gull")
    view = frames_of(Viewed(file), NoWords(), None)
    assert [run.name for run in view.sequences] == ["walk", "rest"]
    cells = KIND.preview(Viewed(file), SpriteQuery(view="cells"))
    with Image.open(io.BytesIO(cells.data)) as image:
        rows = -(-len(view.frames) // view.columns)
        assert image.size == (view.width * view.columns, view.height * rows)
    playing = KIND.preview(Viewed(file), SpriteQuery(view="play", sequence=1))
    with Image.open(io.BytesIO(playing.data)) as image:
        assert image.n_frames == 2
    with pytest.raises(BraeError):
        KIND.preview(Viewed(file), SpriteQuery(view="frame", frame=99))


def test_test_colours_number_every_frame() -> None:
    for name in LAYOUTS:
        file = opened(name)
        _, again = matched(file, KIND.mark(file, "frames").file)
        for before, after in zip(file.sprite.frames, again.sprite.frames, strict=True):
            assert not np.array_equal(before.picture, after.picture)


# ---- runs -------------------------------------------------------------------------------------------------

CODES = {
    "rows": [{"from": 0, "end": "row"}, {"from": 1, "to": 127, "copy": "code"},
             {"from": 128, "to": 255, "skip": "code - 127"}],
    "fill": [{"from": 0, "to": 127, "copy": "code + 1"}, {"from": 128, "to": 191, "fill": "code - 126"},
             {"from": 192, "to": 255, "skip": "code - 191"}],
    "next": [{"from": 0, "copy": "next", "next": "u16"}, {"from": 1, "skip": "next + 1", "next": "u8"},
             {"from": 2, "fill": "next + 2", "next": "u8"}, {"from": 3, "end": "frame"}],
}  # fmt: skip


@settings(max_examples=60, deadline=None)
@given(
    codes=st.sampled_from(sorted(CODES)),
    rows=st.sampled_from(
        [{}, {"row_length": "u16"}, {"row_length": "u8", "row_length_counts": True}, {"row_offsets": "u16"}]
    ),
    height=st.integers(1, 9),
    width=st.integers(1, 40),
    step=st.integers(1, 4),
    big=st.booleans(),
    seed=st.integers(0, 1 << 30),
)
def test_runs_come_back_as_they_went(
    codes: str, rows: dict[str, object], height: int, width: int, step: int, big: bool, seed: int
) -> None:
    if codes == "next" and rows:
        return  # a code that ends the frame is for frames that are one long run
    coding = Coding.of(Runs.model_validate({"codes": CODES[codes], **rows}))
    rng = np.random.default_rng(seed)
    pixels = rng.integers(0, 3, (height, width, step)).astype(np.uint8)
    drawn = rng.random((height, width)) < rng.choice([0.0, 0.3, 0.9, 1.0])
    pixels[~drawn] = 0
    data = np.frombuffer(b"xx" + coding.encode(pixels, drawn, big) + b"behind", np.uint8)
    again, seen, end = coding.decode(data, 2, height, width, step, big)
    assert end == len(data) - 6
    assert np.array_equal(seen, drawn)
    assert np.array_equal(again, pixels)


def test_runs_are_as_short_as_they_can_be_said() -> None:
    coding = Coding.of(Runs.model_validate({"codes": CODES["fill"]}))
    pixels = np.zeros((1, 200, 1), np.uint8)
    assert coding.encode(pixels, np.zeros((1, 200), bool), False) == bytes([255, 255, 255, 199])
    assert coding.encode(pixels, np.ones((1, 200), bool), False) == bytes([191, 0, 191, 0, 191, 0, 131, 0])


@pytest.mark.parametrize(
    "codes",
    [
        [{"from": 0, "to": 9, "copy": "code"}, {"from": 9, "skip": 1}],
        [{"from": 0, "skip": 1}],
        [{"from": 5, "to": 2, "copy": "code"}],
        [{"from": 0, "copy": "codes"}],
        [{"from": 0, "copy": "next"}],
        [{"from": 0, "copy": "code - 5"}],
        [{"from": 0, "copy": 1, "skip": 1}],
    ],
)
def test_codes_that_cannot_be_are_refused(codes: list[dict[str, object]]) -> None:
    with pytest.raises(ValidationError):
        Runs.model_validate({"codes": codes})
    assert Code.model_validate({"from": 3, "copy": "code"}).last == 3


# ---- bad input --------------------------------------------------------------------------------------------


@pytest.mark.parametrize("name", LAYOUTS)
@settings(max_examples=80, deadline=None)
@given(seed=st.integers(0, 1 << 30))
def test_damaged_files_give_clear_errors_or_sprites(name: str, seed: int) -> None:
    rng = np.random.default_rng(seed)
    data = bytearray(FILES[name])
    for _ in range(int(rng.integers(1, 6))):
        data[int(rng.integers(len(data)))] = int(rng.integers(256))
    if rng.random() < 0.3:
        data = data[: int(rng.integers(len(data)))]
    try:
        file = opened(name, bytes(data))
    except BraeError:
        return
    assert KIND.rebuild(file) == bytes(data)


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        ("sequences: {of: walks_of}", "sequences: {of: nothing}", "table 'nothing'"),
        ("role: frame-width", "role: canvas-x", "frame-width"),
        ("role: frame-count", "role: loop", "frame-count"),
        ("facts: {format: rgb565-be, duration: 80}", "facts: {duration: 80}", "format"),
        ("facts: {format: rgb565-be, duration: 80}", "facts: {format: rgb565-be, speed: 80}", "speed"),
        ("of: list\n    size", "of: lists\n    size", "lists"),
    ],
)
def test_layouts_that_cannot_be_are_refused(old: str, new: str, words: str) -> None:
    assert old in writers.GULL
    with pytest.raises(BraeError, match=words):
        parse(writers.GULL.replace(old, new))


def test_frames_outside_the_sheet_are_refused() -> None:
    data = bytearray(FILES["sheet"])
    data[14:16] = (60).to_bytes(2, "little")
    with pytest.raises(FormatError, match="outside the sheet"):
        opened("sheet", bytes(data))


def test_frames_far_apart_and_more_than_a_sprite_has_are_refused() -> None:
    shapes = [writers.Shape(shape.indices, shape.anchor, 3) for shape in SHAPES]
    shapes[0].anchor, shapes[1].anchor = (-32_000, -32_000), (32_000, 32_000)
    with pytest.raises(LimitError, match="far apart"):
        opened("puff", writers.puff(shapes, COLOURS))
    count = 9_000
    rectangles = struct.pack("<HHHHhhH", 0, 0, 200, 200, 0, 0, 1) * count
    head = struct.pack("<4sHHHHH", b"SHEE", 200, 200, count, 0, 0)
    with pytest.raises(LimitError, match="more pixels"):
        opened("sheet", head + rectangles + COLOURS.tobytes() + bytes(200 * 200))


def test_what_is_painted_has_all_frames_though_a_moving_file_has_some() -> None:
    file = opened("puff")
    pictures = [Image.fromarray(file.sprite.on_canvas(number)) for number in range(3)]
    stream = io.BytesIO()
    pictures[0].save(stream, "PNG", save_all=True, append_images=pictures[1:])
    found = KIND.painted(file, ExchangeFile("a.apng", stream.getvalue()))
    assert len(pictures) < len(file.cells)
    assert len(found) == len(file.cells)
    assert all(np.array_equal(a, b) for a, b in zip(found, file.cells, strict=True))


def test_sequences_play_backwards_there_and_back_and_one_after_the_other() -> None:
    """The high bytes of the walks' numbers say it, which are 0 as the writer leaves them."""
    layout = parse(
        writers.GULL.replace(
            "- {field: first, type: u16, role: first-frame}",
            "- {field: after, type: u8, role: next-sequence}\n      - {field: first, type: u8, role: first-frame}",
        ).replace(
            "- {field: many, type: u16, role: frame-count}",
            "- {field: way, type: u8, role: direction}\n      - {field: many, type: u8, role: frame-count}",
        )
    )
    plain = opened("gull").sprite.sequences
    data, walks = bytearray(FILES["gull"]), len(plain)
    places = [data.index(run.name.encode().ljust(8, b"\0")) + 8 for run in plain]
    ways = [1, 2, 0, 0][:walks]
    for number, place in enumerate(places):
        data[place], data[place + 2] = (number + 1 if number + 1 < walks else 200), ways[number]
    file = KIND.read(bytes(data), Context(Library(), "a.gul", layout=layout))
    for number, (run, before) in enumerate(zip(file.sprite.sequences, plain, strict=True)):
        frames = [step.frame for step in before.steps]
        wanted = {0: frames, 1: frames[::-1], 2: [*frames, *frames[-2:0:-1]]}[ways[number]]
        assert [step.frame for step in run.steps] == wanted
        assert run.next == (number + 1 if number + 1 < walks else None)
    assert KIND.rebuild(file) == bytes(data)
    data[places[0] + 2] = 9
    with pytest.raises(FormatError, match="direction 9"):
        KIND.read(bytes(data), Context(Library(), "a.gul", layout=layout))


def test_a_frame_moved_back_keeps_colours_that_the_palette_has_not() -> None:
    """Else a palette that is made for them later would never see them."""
    file, _, _ = _with_a_hat({})
    before = matching.split(file, sent(file))
    painted = []
    for number, cell in enumerate(before):
        one = cell.copy()
        one[3 + (number == 7) : 5 + (number == 7), 4:12] = (1, 254, 3, 255)
        painted.append(one)
    came = png(matching.arranged(file, painted))
    _, edit = matched(file, came)
    made, _ = settle(Viewed(file, edit, Version(came)), Settling(frames="7"), None)
    cells = matching.split(file, np.asarray(Image.open(io.BytesIO(made.data)).convert("RGBA")))
    assert (cells[7][3:5, 4:12] == (1, 254, 3, 255)).all()
    assert np.array_equal(cells[6], painted[6])
