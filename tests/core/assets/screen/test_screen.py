"""Screens: rectangles read, moved, added, taken away and written again; what a game would not take is told."""

from __future__ import annotations

import io
import json
import struct
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from brae.core.assets.base import Around, Context, ExchangeFile, Head, Version, Viewed
from brae.core.assets.said import check
from brae.core.assets.screen.kind import KIND, LearntQuery, LearntView
from brae.core.assets.screen.matching import new_ones
from brae.core.assets.screen.screen import Area, ScreenFile, from_json, to_json
from brae.core.assets.sheet import MatchSheet
from brae.core.errors import BraeError, FormatError
from brae.core.layouts.library import Library
from brae.core.layouts.load import parse

WIDTH, HEIGHT = 40, 30
#: x, y, right, bottom, action, label, cursor down, two bytes that nobody knows
BUTTONS = [
    (2, 2, 14, 8, 7, b"ROW", 1, 0xAA01),
    (2, 10, 14, 16, 9, b"MAIL", 2, 0xAA02),
    (2, 18, 14, 24, 7, b"TEA", 0, 0xAA03),
]


def menu(buttons: list[tuple[int, int, int, int, int, bytes, int, int]]) -> bytes:
    """A big-endian screen, written by struct alone: RGB pixels first, the rectangles behind them. Invented."""
    y, x = np.mgrid[0:HEIGHT, 0:WIDTH]
    pixels = np.stack([x * 6, y * 8, (x + y) * 3], axis=-1).astype(np.uint8)
    rows = b"".join(struct.pack(">hhhhB6sBH", *one[:5], one[5], *one[6:]) for one in buttons)
    return struct.pack(">4sHHB", b"MENU", WIDTH, HEIGHT, len(buttons)) + pixels.tobytes() + rows + b"end"


LAYOUT = """
layout: test-menu
title: Menus
kind: screen
endian: big
match: {names: ["*.men"]}
parts:
  - {field: magic, type: string, length: 4, value: MENU}
  - {field: width, type: u16}
  - {field: height, type: u16}
  - {field: count, type: u8, is: count(buttons)}
  - {pixels: picture, size: 3 * width * height, facts: {width: width, height: height, format: rgb8}}
  - table: buttons
    count: count
    record:
      - {field: x, type: i16, role: area-x}
      - {field: y, type: i16, role: area-y}
      - {field: right, type: i16, role: area-right}
      - {field: bottom, type: i16, role: area-bottom}
      - {field: does, type: u8, role: action, values: {7: opens, 9: reads}}
      - {field: words, type: string, length: 6, role: name}
      - {field: down, type: u8, role: cursor-down}
      - {field: spare, type: u16}
  - {areas: rectangles, of: buttons, grid: 2, least: 4}
  - {bytes: tail, size: 3}
"""
FILE = menu(BUTTONS)


def opened(data: bytes = FILE, layout: str = LAYOUT) -> ScreenFile:
    return KIND.read(data, Context(Library(), "a.men", layout=parse(layout)))


def matched(
    file: ScreenFile, areas: list[Area] | None, *remedies: str, picture: ExchangeFile | None = None
) -> tuple[MatchSheet, ScreenFile, bytes]:
    beside = {} if areas is None else {"areas": ExchangeFile("areas.json", to_json(areas))}
    version = Version(picture or KIND.send(file), remedies, {}, beside)
    sheet, encoded = KIND.match(file, version, KIND.recipe(file).model_dump())
    return sheet, KIND.again(file, encoded), encoded.data


def told(sheet: MatchSheet) -> dict[str, str]:
    return {one.id: one.title for one in sheet.findings}


def test_what_the_layout_says_is_known() -> None:
    assert list(check(parse(LAYOUT))) == []


def test_rectangles_are_what_the_writer_meant() -> None:
    file = opened()
    assert [(a.x, a.y, a.right, a.bottom) for a in file.areas] == [one[:4] for one in BUTTONS]
    assert [a.numbers for a in file.areas] == [{"action": one[4], "cursor_down": one[6]} for one in BUTTONS]
    assert [a.label for a in file.areas] == ["ROW", "MAIL", "TEA"]
    assert file.meaning("action") == {7: "opens", 9: "reads"}
    assert KIND.rebuild(file) == FILE
    _, _, data = matched(file, None)
    assert data == FILE
    _, _, data = matched(file, list(file.areas))
    assert data == FILE


def test_one_that_is_moved_changes_its_own_record_alone() -> None:
    file = opened()
    moved = file.areas[1].model_copy(update={"x": 20, "y": 12})
    sheet, again, data = matched(file, [file.areas[0], moved, file.areas[2]])
    assert not sheet.open_findings
    assert again.areas[1] == moved
    expected = [BUTTONS[0], (20, 12, 32, 18, *BUTTONS[1][4:]), BUTTONS[2]]
    assert data == menu(expected)


def test_more_and_fewer_are_written_with_their_count() -> None:
    file = opened()
    copy = file.areas[0].model_copy(update={"x": 24, "label": "NEW", "numbers": {"action": 9, "cursor_down": 0}})
    sheet, _, data = matched(
        file, [*file.areas[:2], file.areas[2].model_copy(update={"numbers": {"action": 7, "cursor_down": 3}}), copy]
    )
    assert not sheet.open_findings
    last = (*BUTTONS[2][:4], 7, b"TEA", 3, 0xAA03)
    assert data == menu([*BUTTONS[:2], last, (24, 2, 36, 8, 9, b"NEW", 0, 0xAA01)])
    fresh = Area(x=20, y=20, width=8, height=8, numbers={"action": 7, "cursor_down": 0}, label="")
    _, again, data = matched(file, [file.areas[2], fresh])
    assert len(again.areas) == 2
    assert data[-3:] == b"end"
    # What all records have in common is what a new one gets; the bytes that differ in each are zero.
    assert data[-5:-3] == b"\0\0"


def test_the_picture_is_exchanged_and_the_rectangles_stay() -> None:
    file = opened()
    stream = io.BytesIO()
    Image.new("RGB", (WIDTH, HEIGHT), (9, 90, 200)).save(stream, "PNG")
    sheet, again, data = matched(file, None, picture=ExchangeFile("new.png", stream.getvalue()))
    assert [line.same for line in sheet.properties if line.name == "Dimensions"] == [True]
    assert again.areas == file.areas
    assert data[9 : 9 + 3] == bytes([9, 90, 200])
    assert data[9 + 3 * WIDTH * HEIGHT :] == FILE[9 + 3 * WIDTH * HEIGHT :]


@pytest.mark.parametrize(
    ("changes", "finding", "remedy"),
    [
        ({"x": 34}, "outside", "inside"),
        ({"y": -4}, "outside", "inside"),
        ({"x": 3}, "off-grid", "on-grid"),
        ({"width": 2}, "small", None),
        ({"y": 4}, "overlap", None),
        ({"numbers": {"action": 7, "cursor_down": 1}}, "unreachable", None),
    ],
)
def test_what_a_game_would_not_take_is_told(changes: dict[str, object], finding: str, remedy: str | None) -> None:
    file = opened()
    areas = [file.areas[0], file.areas[1].model_copy(update=changes), file.areas[2]]
    sheet, _, _ = matched(file, areas)
    assert set(told(sheet)) == {finding}
    assert "1" in told(sheet)[finding] or finding == "unreachable"
    if remedy is not None:
        sheet, again, _ = matched(file, areas, remedy)
        assert not [one for one in sheet.open_findings if one.id == finding]
        place = again.areas[1]
        assert 0 <= place.x <= WIDTH - place.width
        assert 0 <= place.y <= HEIGHT - place.height
        assert place.x % 2 == 0


def test_a_label_that_does_not_fit_its_box_is_told() -> None:
    """Letters of six pixels but for a narrow one: counted by hand."""
    layout = LAYOUT.replace("least: 4}", "least: 4, font: {advance: 6, height: 6, widths: {'IL': 2}}}")
    file = opened(layout=layout)
    first = file.areas[0]
    assert (first.label, first.width, first.height) == ("ROW", 12, 6)
    assert file.part.font is not None
    assert file.part.font.size("ILLS") == (2 + 2 + 2 + 6, 6)
    told = matched(file, [first.model_copy(update={"label": "OARS"}), *file.areas[1:]])[0]
    assert [(one.id, "24 x 6" in one.title) for one in told.findings] == [("label", True)]
    assert matched(file, [first.model_copy(update={"label": "ILL"}), *file.areas[1:]])[0].findings == []
    low = matched(file, [first.model_copy(update={"label": "ILL", "height": 4}), *file.areas[1:]])[0]
    assert [one.id for one in low.findings] == ["label"]


def test_what_the_game_itself_has_is_no_finding() -> None:
    file = opened(menu([(1, 1, 60, 9, 7, b"WIDE", 1, 0), (3, 3, 5, 5, 9, b"TINY", 0, 0)]))
    sheet, _, _ = matched(file, list(file.areas))
    assert not sheet.findings


def test_screens_are_told_with_their_facts() -> None:
    library = Library()
    library.add(parse(LAYOUT))
    (found,) = KIND.sniff([Head(FILE[:512], "x.men", len(FILE))], library)
    assert found is not None
    assert found.facts == {"width": WIDTH, "height": HEIGHT}
    (whole,) = KIND.sniff([Head(FILE, "x.men", len(FILE))], library)
    assert whole is not None
    assert whole.facts == {"width": WIDTH, "height": HEIGHT, "areas": 3, "actions": "7 9"}


@pytest.mark.parametrize(
    ("said", "words"),
    [
        ("{", "no JSON"),
        ("[]", "no rectangles"),
        ('{"areas": [{"x": 1}]}', "Rectangle 0"),
        ('{"areas": [{"x": 1, "y": 1, "width": -3, "height": 2}]}', "too small"),
        ('{"areas": [{"x": 70000, "y": 1, "width": 3, "height": 2}]}', "cannot be 70000"),
        ('{"areas": [{"x": 1, "y": 1, "width": 3, "height": 2, "numbers": {"target": 4}}]}', "no target"),
        ('{"areas": [{"x": 1, "y": 1, "width": 3, "height": 2, "label": "FAR TOO LONG"}]}', "too long"),
    ],
)
def test_rectangles_that_cannot_be_are_refused(said: str, words: str) -> None:
    with pytest.raises(BraeError, match=words):
        KIND.check_beside(opened(), None, "areas", ExchangeFile("areas.json", said.encode()))


def test_a_screen_of_a_fixed_number_of_rectangles_keeps_it() -> None:
    file = opened(layout=LAYOUT.replace("count: count\n", "count: 3\n"))
    with pytest.raises(FormatError, match="always has 3"):
        matched(file, list(file.areas[:2]))
    with pytest.raises(FormatError, match="no part 'x'"):
        KIND.check_beside(file, None, "x", None)


@settings(max_examples=100, deadline=None)
@given(seed=st.integers(0, 1 << 30))
def test_damaged_screens_give_clear_errors_or_screens(seed: int) -> None:
    rng = np.random.default_rng(seed)
    data = bytearray(FILE)
    for _ in range(int(rng.integers(1, 5))):
        at = int(rng.integers(12)) if rng.random() < 0.5 else int(rng.integers(len(data)))
        data[at] = int(rng.integers(256))
    try:
        file = opened(bytes(data[: len(data) - int(rng.integers(2) * rng.integers(80))]))
    except BraeError:
        return
    assert from_json(to_json(file.areas)) == file.areas
    assert json.loads(to_json(file.areas))["areas"] is not None


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        ("role: area-y", "role: target", "area-y"),
        ("role: area-right", "role: target", "area-width and area-right"),
        ("of: buttons, grid", "of: button, grid", "button"),
        ("  - {areas: rectangles, of: buttons, grid: 2, least: 4}\n", "", "one part 'areas'"),
        ("grid: 2,", 'target: "../{number}",', "leads out"),
        ("grid: 2,", 'target: "{page}",', "page"),
    ],
)
def test_layouts_that_cannot_be_are_refused(old: str, new: str, words: str) -> None:
    assert old in LAYOUT
    with pytest.raises(BraeError, match=words):
        parse(LAYOUT.replace(old, new))


def test_a_screen_without_rectangles_gets_some_and_loses_them_again() -> None:
    empty = opened(menu([]))
    fresh = Area(x=2, y=4, width=8, height=6, numbers={"action": 9, "cursor_down": 0}, label="GO", like=7)
    sheet, again, data = matched(empty, [fresh])
    assert not sheet.open_findings
    assert data == menu([(2, 4, 10, 10, 9, b"GO", 0, 0)])
    _, none, data = matched(again, [])
    assert none.areas == ()
    assert data == menu([])


def among(file: ScreenFile, areas: list[Area], around: Around) -> dict[str, str]:
    _, again, _ = matched(file, areas)
    return {one.id: one.title for one in KIND.among(file, again, around)}


#: what a target is in these: the number of a screen
LEADING = LAYOUT.replace("role: cursor-down", "role: target").replace(
    "least: 4}", 'least: 4, target: "{number:02}.men", leads: [7]}'
)
FOLDER = Around(
    "00.men",
    list,
    places=lambda: {"00.men": "m//00.men", "01.men": "m//01.men", "02.men": "m//02.men"},
    values=lambda fact: {
        "actions": [("7 9", "m//00.men"), ("7", "m//01.men")],
        "targets": [("1 0", "m//00.men"), ("0 2", "m//01.men"), ("77", "m//02.men")],
    }[fact],
)


def test_targets_that_are_not_there_and_actions_of_no_screen_are_told() -> None:
    file = opened(layout=LEADING)
    first, second, third = file.areas
    assert [file.part.follows(area.numbers) for area in file.areas] == [True, False, True]
    astray = first.model_copy(update={"numbers": {"action": 7, "target": 40}})
    assert among(file, [astray, second, third], FOLDER) == {"target": "Rectangle 0 leads to 40, which is no screen"}
    reading = first.model_copy(update={"numbers": {"action": 9, "target": 40}})
    assert among(file, [reading, second, third], FOLDER) == {}, "its action leads nowhere"
    assert among(file, [first.model_copy(update={"x": 4}), second, third], FOLDER) == {}
    odd = second.model_copy(update={"numbers": {"action": 3, "target": 0}})
    sheet, _, _ = matched(file, [first, odd, third])
    assert told(sheet) == {"action": "Rectangle 1 does 3, which no screen of this game does"}
    silent = second.model_copy(update={"numbers": {}, "x": 4})
    assert told(matched(file, [first, silent, third])[0]) == {}
    assert among(file, [first, silent, third], FOLDER) == {}
    # Where the layout names no actions, those of all other screens count.
    file = opened(layout=LEADING.replace(", values: {7: opens, 9: reads}", ""))
    assert not matched(file, [first, odd, third])[0].findings
    assert list(among(file, [first, odd, third], FOLDER)) == ["action"]
    two = [one.model_copy(update={"numbers": {"action": 7, "target": 40 + n}}) for n, one in enumerate(file.areas)]
    assert among(file, two, FOLDER)["target"] == "Rectangles 0, 1, 2 lead to 40, 41, 42, which is no screen"


def test_what_all_screens_do_is_offered_with_an_example() -> None:
    file = opened(layout=LEADING)
    asked = KIND.questions["learnt"]

    def learnt(starts: str = "") -> LearntView:
        found = asked.ask(Viewed(file), LearntQuery(starts=starts), FOLDER)
        assert isinstance(found, LearntView)
        return found

    found = learnt()
    assert [(one.number, one.words, one.screens, one.example) for one in found.actions] == [
        (7, "opens", 2, "m//00.men"),
        (9, "reads", 1, "m//00.men"),
    ]
    # Of a target the screen is shown to which it leads; 77 leads nowhere.
    assert [(one.number, one.screens, one.example) for one in found.targets] == [
        (0, 2, "m//00.men"),
        (1, 1, "m//01.men"),
        (2, 1, "m//02.men"),
    ]
    assert [one.number for one in learnt("2").targets] == [2]


def test_ten_thousand_rectangles_are_compared_at_once() -> None:
    """By what they are, not each with each: hundreds of them moved in a full screen take no minute."""
    file = opened()
    many = [file.areas[0].model_copy(update={"x": n, "like": None}) for n in range(10_000)]
    full = replace(file, areas=tuple(many))
    moved = [one.model_copy(update={"y": 9}) for one in many[-3:]]
    assert new_ones(full, [*many[:-3], *moved]) == [9997, 9998, 9999]
