"""Textures in two or more files: the small levels here, the large ones elsewhere in the game."""

from __future__ import annotations

import struct

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from brae.core.assets.texture import described, formats
from brae.core.assets.texture.encode import encode_levels, encode_like
from brae.core.assets.texture.texture import Header, TextureFile
from brae.core.errors import BraeError, FormatError, LayoutError, NotFoundError
from brae.core.layouts.load import parse

LAYOUT = """\
layout: stub
title: A stub
kind: texture
parts:
  - {{field: magic, type: bytes, length: 4, value: "STUB"}}
  - {{field: width, type: u16}}
  - {{field: height, type: u16}}
  - {{field: levels, type: u8}}
  - {{field: here, type: u8}}
  - {{field: away, type: u32}}
  - pixels: pixels
    facts: {{width: width, height: height, format: {pixel_format}, mips: levels}}
    elsewhere: {elsewhere}
{more}
"""
NAME = "walls/brick.stub"
ONE = '{name: "{folder}/large/{stem}.rest", here: here, stored: away}'
EACH = '{name: "{path}.{level}", here: here, stored: away}'
BACKWARDS = '{name: "rest", smallest_first: true, here: here, stored: away}'


def _written(
    side: int, pixel_format: str, here: int, elsewhere: str, *, smallest_first: bool = False
) -> tuple[bytes, dict[str, bytes]]:
    """A stub and its other files, by hand."""
    rng = np.random.default_rng(side)
    header = Header("stub", formats.get(pixel_format), side, side, formats.full_chain(side, side))
    levels, _, _ = encode_levels(rng.integers(0, 256, (side, side, 4), np.uint8), header)
    away, kept = levels[:-here], levels[-here:]
    files = {
        ONE: {"walls/large/brick.rest": b"".join(away)},
        EACH: {f"walls/brick.{level}": data for level, data in enumerate(away)},
        BACKWARDS: {"rest": b"".join(reversed(away))},
    }[elsewhere]
    head = struct.pack("<4sHHBBI", b"STUB", side, side, len(levels), here, sum(map(len, away)))
    return head + b"".join(reversed(kept) if smallest_first else kept), files if away else {}


def _read(data: bytes, files: dict[str, bytes], pixel_format: str, elsewhere: str, more: str = "") -> TextureFile:
    layout = parse(LAYOUT.format(pixel_format=pixel_format, elsewhere=elsewhere, more=more))

    def fetch(name: str) -> bytes:
        if name not in files:
            raise NotFoundError(f"There is no {name}.")
        return files[name]

    return described.read(layout, data, NAME, fetch)


@given(
    st.sampled_from(["bc1", "bc7", "rgba8", "rgb565", "l8"]),
    st.integers(0, 6),
    st.sampled_from([ONE, EACH, BACKWARDS]),
    st.booleans(),
)
def test_read_whole_and_divided_again_as_it_was(
    pixel_format: str, power: int, elsewhere: str, smallest_first: bool
) -> None:
    side = 1 << power
    for here in range(1, power + 2):
        data, files = _written(side, pixel_format, here, elsewhere, smallest_first=smallest_first)
        more = "    smallest_first: true\n" if smallest_first else ""
        texture = _read(data, files, pixel_format, elsewhere, more)
        assert [len(level) for level in texture.levels] == [
            texture.header.level_size(level) for level in range(power + 1)
        ]
        assert texture.size == len(data) + sum(map(len, files.values()))
        assert texture.divide is not None
        assert texture.rewrite(texture.header, texture.levels) == data
        assert texture.divide(texture.header, texture.levels) == files
        same = encode_like(texture.picture(), texture, texture.recipe())
        assert (same.data, same.elsewhere, same.kept) == (data, files, same.blocks)


ABOVE = '{{name: "{{path}}.big", above: {above}}}'
OWN = LAYOUT.replace(
    "{{field: here, type: u8}}\n  - {{field: away, type: u32}}", "{{field: unknown, type: u8}}"
)  # fmt: skip


@given(st.sampled_from(["bc1", "bc7", "rgba8", "l8"]), st.integers(1, 6), st.booleans())
def test_a_header_of_its_own_levels_alone_is_one_of_more(pixel_format: str, power: int, square: bool) -> None:
    """What is cut off above is read again, divided as it was, and other sides are said by the small header."""
    width, height = 1 << power, 1 << (power if square else max(1, power - 1))
    rng = np.random.default_rng(power)
    whole = Header("stub", formats.get(pixel_format), width, height, formats.full_chain(width, height))
    levels, _, _ = encode_levels(rng.integers(0, 256, (height, width, 4), np.uint8), whole)
    for above in range(1, min(power, whole.levels)):
        small = whole.without(above)
        if small.grown(above) != whole:
            continue
        head = struct.pack("<4sHHBB", b"STUB", small.width, small.height, small.levels, 77)
        data, files = head + b"".join(levels[above:]), {"walls/brick.big": b"".join(levels[:above])}
        layout = parse(OWN.format(pixel_format=pixel_format, elsewhere=ABOVE.format(above=above), more=""))
        texture = described.read(layout, data, NAME, files.__getitem__)
        sniffed = described.sniff(layout, data)
        assert (texture.header.width, texture.header.levels, texture.levels) == (width, whole.levels, levels)
        assert (sniffed.width, sniffed.height, sniffed.levels) == (width, height, whole.levels)
        assert described.parts_of(layout, data, NAME, len(data)) == list(files)
        assert texture.divide is not None
        assert texture.rewrite(texture.header, texture.levels) == data
        assert texture.divide(texture.header, texture.levels) == files
        made = encode_like(np.full((2 * height, 2 * width, 4), 200, np.uint8), texture, texture.recipe())
        assert struct.unpack_from("<HHBB", made.data, 4) == (
            2 * small.width,
            2 * small.height,
            small.levels + 1,
            77,
        )
        again = texture.again(made.data, made.elsewhere)
        assert (again.header.width, again.header.levels) == (2 * width, whole.levels + 1)


def test_above_and_here_do_not_go_together() -> None:
    with pytest.raises(LayoutError, match="one of them does"):
        parse(LAYOUT.format(pixel_format="bc1", elsewhere='{name: "a", above: 2, here: here}', more=""))


def test_an_edit_reaches_every_file_and_nothing_else() -> None:
    data, files = _written(64, "bc1", 3, EACH)
    texture = _read(data, files, "bc1", EACH)
    picture = texture.picture().copy()
    picture[:4, :4, :3] = 255 - picture[:4, :4, :3]
    made = encode_like(picture, texture, texture.recipe())
    assert len(made.data) == len(data)
    for name, before in files.items():
        after = made.elsewhere[name]
        changed = np.flatnonzero(np.frombuffer(before, np.uint8) != np.frombuffer(after, np.uint8))
        assert len(changed)
        assert changed.max() < 8, "only the first block differs"
    again = texture.again(made.data, made.elsewhere)
    assert formats.shown(again.picture())[0, 0].tolist() != formats.shown(texture.picture())[0, 0].tolist()


def test_other_sides_keep_as_many_levels_here() -> None:
    data, files = _written(32, "rgba8", 3, ONE)
    texture = _read(data, files, "rgba8", ONE)
    made = encode_like(np.full((64, 64, 4), 200, np.uint8), texture, texture.recipe())
    assert len(made.data) == len(data)
    assert len(made.elsewhere["walls/large/brick.rest"]) == sum(4 * side * side for side in (64, 32, 16, 8))
    again = texture.again(made.data, made.elsewhere)
    assert (again.header.width, again.header.levels) == (64, 7)
    each_data, each = _written(32, "rgba8", 3, EACH)
    one = _read(each_data, each, "rgba8", EACH)
    larger = np.full((64, 64, 4), 200, np.uint8)
    with pytest.raises(FormatError, match="lie in other files"):
        encode_like(larger, one, one.recipe())


def test_what_is_missing_or_of_another_size_is_named() -> None:
    data, files = _written(32, "bc1", 2, ONE)
    with pytest.raises(NotFoundError, match="walls/large/brick.rest"):
        _read(data, {}, "bc1", ONE)
    with pytest.raises(FormatError, match="brick.rest has"):
        _read(data, {name: part[:-1] for name, part in files.items()}, "bc1", ONE)
    layout = parse(LAYOUT.format(pixel_format="bc1", elsewhere=ONE, more=""))
    with pytest.raises(NotFoundError, match="only this file is known"):
        described.read(layout, data, NAME)
    assert described.parts_of(layout, data, NAME) == list(files)
    too_many = bytearray(data)
    too_many[9] = 9
    with pytest.raises(FormatError, match="9 of 6 levels"):
        _read(bytes(too_many), files, "bc1", ONE)


@given(st.integers(0, 200), st.integers(0, 255))
def test_any_damage_is_an_error_or_read(place: int, byte: int) -> None:
    data, files = _written(16, "bc1", 2, ONE)
    damaged = bytearray(data)
    damaged[place % len(damaged)] = byte
    try:
        texture = _read(bytes(damaged), files, "bc1", ONE)
    except BraeError:
        return
    assert texture.rewrite(texture.header, texture.levels) == bytes(damaged)


def test_the_language_wants_to_know_how_many_are_here() -> None:
    text = LAYOUT.format(pixel_format="bc1", elsewhere=ONE, more="")
    with pytest.raises(LayoutError, match="reads 'hera', which no field says; did you mean 'here'"):
        parse(text.replace("here: here", "here: hera"))
    with pytest.raises(LayoutError, match="not known"):
        parse(text.replace("{stem}", "{house}"))
