"""What maps are for, by the ends of their names (common practice, no source)."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from brae.core.textures.roles import USUAL, MapRule, map_name


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
