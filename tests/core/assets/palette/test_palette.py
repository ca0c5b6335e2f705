"""Palettes: entries out and back in three forms, reserved ones, colours that the hardware cannot show."""

from __future__ import annotations

import io
import struct

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image, ImagePalette
from pydantic import ValidationError

from brae.core.assets.base import Context, ExchangeFile, Head, NoWords, Version, Viewed
from brae.core.assets.palette.kind import KIND, ColourChange, PaletteQuery
from brae.core.assets.palette.palette import PaletteFile, swatches, written
from brae.core.assets.sheet import MatchSheet
from brae.core.errors import BraeError, FormatError, NotFoundError
from brae.core.layouts.library import Library
from brae.core.layouts.load import parse
from brae.core.layouts.pixels import PaletteOf

#: 40 colours of 15 bits, by hand: red in the low bits, the top bit set in odd ones (nobody knows why)
VALUES = [(n * 7 % 32) | (n * 3 % 32) << 5 | (n * 11 % 32) << 10 | (n % 2) << 15 for n in range(40)]
FILE = b"PALT" + struct.pack(">H", len(VALUES)) + struct.pack(f">{len(VALUES)}H", *VALUES) + b"rest"
LAYOUT = """
layout: test-colours
title: Colours
kind: palette
endian: big
match: {names: ["*.clr"]}
parts:
  - {field: magic, type: string, length: 4, value: PALT}
  - {field: count, type: u16}
  - {colours: entries, size: 2 * count, format: xbgr1555-be, reserved: {0: not drawn, 39: the frame}}
  - {bytes: rest, size: 4}
"""


def opened(data: bytes = FILE) -> PaletteFile:
    return KIND.read(data, Context(Library(), "a.clr", layout=parse(LAYOUT)))


def matched(file: PaletteFile, came: ExchangeFile, *remedies: str) -> tuple[MatchSheet, bytes]:
    sheet, encoded = KIND.match(file, Version(came, remedies), KIND.recipe(file).model_dump())
    return sheet, encoded.data


def true_colours() -> np.ndarray:
    """Five bits as eight by their own high bits again (the Khronos data format specification's expansion)."""
    fives = np.array([[value & 31, value >> 5 & 31, value >> 10 & 31] for value in VALUES])
    return np.rint(fives * 255 / 31).astype(int)


def test_which_palette_goes_by_folder_scene_and_number() -> None:
    of = PaletteOf.model_validate(
        {
            "format": "xbgr1555",
            "cases": [
                {"names": "scenes/{scene}/*", "file": "colours/{scene}.pal"},
                {"names": "*_p{number}.spr", "file": "{folder}/pal{number}.pal"},
            ],
        }
    )
    assert of.item("Scenes/quay/gull.spr") == "colours/quay.pal"
    assert of.item("figures/dog_p07.spr") == "figures/pal07.pal"
    assert of.item("figures/dog.spr") is None
    assert of.model_copy(update={"file": "common.pal"}).item("figures/dog.spr") == "common.pal"
    assert all(of.form.fullmatch(name) for name in ("colours/quay.pal", "figures/pal07.pal"))
    assert not of.form.fullmatch("colours/quay.txt")
    for case in (
        {"names": "{a}/{a}", "file": "x"}, {"names": "*", "file": "{b}.pal"}, {"names": "*", "file": "../x.pal"},
    ):  # fmt: skip
        with pytest.raises(ValidationError):
            PaletteOf.model_validate({"format": "xbgr1555", "cases": [case]})
    with pytest.raises(ValidationError, match="of"):
        PaletteOf.model_validate({"format": "xbgr1555"})


def test_entries_are_what_the_writer_meant() -> None:
    file = opened()
    assert np.abs(file.entries[:, :3].astype(int) - true_colours()).max() <= 1
    assert KIND.rebuild(file) == FILE
    assert dict(KIND.recipe(file).reserved) == {0: "not drawn", 39: "the frame"}


@pytest.mark.parametrize("suffix", [".png", ".pal", ".txt"])
def test_out_and_back_is_no_change(suffix: str) -> None:
    file = opened()
    data = KIND.saved(file, suffix)
    sheet, again = matched(file, ExchangeFile(f"colours{suffix}", data))
    assert again == FILE
    assert not sheet.findings
    assert KIND.convert(ExchangeFile("c.txt", KIND.saved(file, ".txt")), ".pal") == KIND.saved(file, ".pal")


def test_the_picture_is_one_square_for_each_entry() -> None:
    file = opened()
    image = Image.open(io.BytesIO(KIND.send(file).data)).convert("RGB")
    assert image.size == (128, 24)
    assert [image.getpixel((n % 16 * 8 + 3, n // 16 * 8 + 3)) for n in range(40)] == [
        tuple(colour) for colour in file.entries[:, :3].tolist()
    ]
    small = KIND.preview(Viewed(file), PaletteQuery(side=1))
    assert Image.open(io.BytesIO(small.data)).size == (16, 3)


def test_one_colour_changes_its_own_two_bytes() -> None:
    file = opened()
    made, words = KIND.changes["colour"].make(Viewed(file), ColourChange(index=20, colour="#f80000"), None)
    assert words == "entry 20 is #f80000"
    sheet, again = matched(file, made)
    differ = [at for at, (a, b) in enumerate(zip(FILE, again, strict=True)) if a != b]
    assert set(differ) <= {6 + 40, 6 + 41}
    # 0xf8 is 30.15 of 31: the nearest that five bits have is 0xf7.
    assert struct.unpack(">H", again[46:48])[0] & 0x7FFF in (30, 30 << 10)
    assert [one.id for one in sheet.findings] == ["rounded"]
    assert not sheet.open_findings
    edit = KIND.again(file, KIND.match(file, Version(made), {})[1])
    told = KIND.questions["entries"].ask(Viewed(file, edit), NoWords(), None)
    assert [n for n, one in enumerate(told) if one.colour != one.edit] == [20]
    assert told[39].reserved == "the frame"
    assert told[20].edit in ("#f60000", "#f70000")  # thirty thirty-firsts of 255, cut or rounded
    with pytest.raises(NotFoundError, match="no entry 40"):
        KIND.changes["colour"].make(Viewed(file), ColourChange(index=40, colour="#000000"), None)


def test_reserved_entries_are_told_and_kept() -> None:
    file = opened()
    entries = file.entries.copy()
    entries[39, :3], entries[5, :3] = (0, 0, 0), (255, 255, 255)
    came = ExchangeFile("c.png", written(entries, ".png"))
    sheet, _ = matched(file, came)
    (found,) = sheet.open_findings
    assert (found.id, found.title) == ("reserved", "Entry 39: reserved (the frame)")
    sheet, again = matched(file, came, "keep-reserved")
    assert not sheet.open_findings
    assert again[6 + 78 :] == FILE[6 + 78 :]
    assert again[6 + 10 : 6 + 12] != FILE[6 + 10 : 6 + 12]


def test_squares_of_several_colours_and_other_numbers_of_entries_are_told() -> None:
    file = opened()
    picture = swatches(file.entries)
    picture[0:2, 8:10] = (1, 2, 3, 255)
    stream = io.BytesIO()
    Image.fromarray(picture).save(stream, "PNG")
    sheet, again = matched(file, ExchangeFile("c.png", stream.getvalue()))
    assert [one.title for one in sheet.findings] == ["Entry 1: a square of several colours"]
    assert again == FILE
    fewer = "".join(f"#{n:02x}0000\n" for n in range(10)).encode()
    sheet, again = matched(file, ExchangeFile("c.txt", fewer))
    assert "10 entries came back for 40" in [one.title for one in sheet.findings]
    assert again[6 + 20 :] == FILE[6 + 20 :]


def test_a_riff_palette_of_another_writer() -> None:
    """Pillow knows no RIFF palettes, so the bytes are by the published form: data chunk, version 0x300, count."""
    file = opened()
    colours = ImagePalette.wedge("RGB").palette[:120]
    entries = b"".join(bytes(colours[n : n + 3]) + b"\0" for n in range(0, 120, 3))
    data = struct.pack("<HH", 0x300, 40) + entries
    riff = b"RIFF" + struct.pack("<I", 4 + 8 + len(data)) + b"PAL data" + struct.pack("<I", len(data)) + data
    _, again = matched(file, ExchangeFile("c.pal", riff), "keep-reserved")
    shown = opened(again).entries[1:39, :3].astype(int)
    # Half a step of five bits, and one for rounding.
    assert np.abs(shown - np.frombuffer(bytes(colours), np.uint8).reshape(-1, 3)[1:39]).max() <= 5


def test_told_by_its_beginning() -> None:
    library = Library()
    library.add(parse(LAYOUT))
    (found,) = KIND.sniff([Head(FILE[:20], "x.clr", len(FILE))], library)
    assert found is not None
    assert found.facts == {"entries": 40, "entry": "xbgr1555-be"}


@pytest.mark.parametrize(
    ("name", "data", "words"),
    [
        ("c.png", b"nothing", "picture"),
        ("c.txt", b"#12345\n", "Line 1"),
        ("c.txt", b"\n\n", "no colours"),
        ("c.pal", b"RIFF1234WAVE", "no RIFF palette"),
    ],
)
def test_files_that_are_no_colours_are_refused(name: str, data: bytes, words: str) -> None:
    with pytest.raises(BraeError, match=words):
        KIND.check_file(ExchangeFile(name, data))


def test_pictures_of_other_sides_are_refused() -> None:
    stream = io.BytesIO()
    Image.new("RGB", (100, 24)).save(stream, "PNG")
    with pytest.raises(FormatError, match="100 x 24"):
        matched(opened(), ExchangeFile("c.png", stream.getvalue()))


@settings(max_examples=60, deadline=None)
@given(st.binary(max_size=60))
def test_damaged_palettes_give_clear_errors_or_palettes(tail: bytes) -> None:
    for data in (b"PALT" + tail, FILE[: len(tail)], tail):
        try:
            file = opened(data)
        except BraeError:
            continue
        assert KIND.rebuild(file) == data
