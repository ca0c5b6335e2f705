"""What maps are for, by the ends of their names (common practice, no source) or by their formats."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from brae.core.assets.said import check
from brae.core.assets.texture import described
from brae.core.errors import LayoutError
from brae.core.layouts.load import parse
from brae.core.layouts.roles import USUAL, MapRule, MapUse, map_name, map_names


@pytest.mark.parametrize(
    ("name", "surface", "role"),
    [
        ("walls/brick.dds", "walls/brick", "colour"),
        ("walls/brick_n.dds", "walls/brick", "normal"),
        ("walls/Brick_NORMAL.dds", "walls/brick", "normal"),
        ("brick_ao.png", "brick", "occlusion"),
        ("brick_rough.png", "brick", "roughness"),
        ("brick_gloss.png", "brick", "smoothness"),
        ("a.b/brick_e", "a.b/brick", "emission"),
        ("_n.dds", "_n", "colour"),
        ("sign.dds", "sign", "colour"),
    ],
)
def test_usual_ends(name: str, surface: str, role: str) -> None:
    found = map_name(name)
    assert (found.surface, found.role) == (surface, role)


@given(st.text("abc_/", min_size=1, max_size=12), st.sampled_from(USUAL))
def test_an_end_is_taken_off_and_nothing_else(stem: str, rule: MapRule) -> None:
    found = map_name(f"{stem}x{rule.ends}.tex")
    assert found.surface == f"{stem}x"
    assert found.role == rule.role


def test_a_games_own_rules_come_first() -> None:
    packed = MapRule(ends="_n", channels={"r": "occlusion", "g": "roughness"})
    found = map_name("hull_n.tex", [packed])
    assert (found.role, found.channels) == (None, {"r": "occlusion", "g": "roughness"})
    assert map_name("hull_s.tex", [packed]).role == "specular"
    with pytest.raises(ValidationError, match="a role, or channels"):
        MapRule(ends="_x")


LAYOUT = """
layout: made-up
title: Made up
kind: texture
parts:
  - {field: side, type: u8}
  - {field: height, type: u8}
  - {field: use, type: u8, values: {0: colour, 1: normal, 2: "r=occlusion a=smoothness", 3: height}}
  - {pixels: pixels, facts: {width: side, height: height, format: rgba8, map: use}}
"""


@pytest.mark.parametrize(
    ("number", "role", "channels", "content"),
    [
        (0, "colour", {}, "colour"),
        (1, "normal", {}, "normal"),
        (2, None, {"r": "occlusion", "a": "smoothness"}, "data"),
        (3, "height", {}, "data"),
    ],
)
def test_a_layout_says_what_a_texture_is_for(
    number: int, role: str | None, channels: dict[str, str], content: str
) -> None:
    pixels = np.random.default_rng(number).integers(0, 256, 4 * 4 * 4, np.uint8).tobytes()
    texture = described.read(parse(LAYOUT), bytes((4, 4, number)) + pixels)
    assert texture.header.use == MapUse(role=role, channels=channels)
    assert texture.recipe().content == content, "mip levels and findings go by it, not by what the pixels look like"


def test_a_number_without_a_meaning_and_a_layout_without_a_word_say_nothing() -> None:
    assert described.read(parse(LAYOUT), bytes((1, 1, 9)) + bytes(4)).header.use is None
    plain = LAYOUT.replace(", map: use", "")
    assert described.read(parse(plain), bytes((1, 1, 1)) + bytes(4)).header.use is None
    for word, written in (("roughness", "roughness"), ("height", "{is: height}")):  # one is a field's name, too
        always = parse(LAYOUT.replace("map: use", f"map: {written}"), check=check)
        assert described.read(always, bytes((1, 1, 1)) + bytes(4)).header.use == MapUse(role=word)


@pytest.mark.parametrize(
    ("old", "new", "message"),
    [
        ("1: normal", "1: shiny", "'shiny' is nothing that a map is for; known are colour, normal"),
        ("r=occlusion", "r=shine", "'r=shine a=smoothness' is nothing that a map is for"),
        ("map: use", "rows: upwards", "'rows' cannot be so: 'upwards' is not known here"),
        ("map: use", "maps: use", "'maps' is nothing of a texture; did you mean 'map'"),
        ("format: rgba8", "format: rgba9", "there is no pixel format 'rgba9'; did you mean 'rgba8'"),
        ("map: use", "mips: 40", "'mips' cannot be so: 40 is too large; the limit is 17"),
        ("map: use", "map: {is: use, of: use}", "a fact is 'of' a field, or it 'is' something for all"),
        ("map: use", "map: {of: uses}", "'map' reads 'uses', which no field says; did you mean 'use'"),
        ("height: height, ", "", "'facts' of 'pixels' do not say the texture's height"),
    ],
)
def test_wrong_words_in_a_layout(old: str, new: str, message: str) -> None:
    with pytest.raises(LayoutError, match=message) as caught:
        parse(LAYOUT.replace(old, new), check=check)
    assert caught.value.line in (8, 9), "the field's line, or that of the facts"


def test_what_a_format_says_comes_before_the_name() -> None:
    names = map_names(
        {
            "walls/brick.tex": None,
            "walls/brick_n.tex": MapUse(role="height"),
            "walls/brick_q7.tex": MapUse(channels={"r": "metallic"}),
            "walls/slate_q7.tex": MapUse(role="normal"),
            "walls/brick_two.tex": MapUse(role="colour"),
        }
    )
    surfaces = {name.removeprefix("walls/"): (one.surface, one.role) for name, one in names.items()}
    assert surfaces == {
        "brick.tex": ("walls/brick", "colour"),
        "brick_n.tex": ("walls/brick", "height"),
        "brick_q7.tex": ("walls/brick", None),
        "slate_q7.tex": ("walls/slate_q7", "normal"),
        "brick_two.tex": ("walls/brick_two", "colour"),
    }
    assert names["walls/brick_q7.tex"].channels == {"r": "metallic"}
