"""Packed maps taken apart and put together."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra import numpy as arrays

from brae.core.assets.texture.channels import LETTERS, Part, compose, split
from brae.core.errors import FormatError

pictures = st.sampled_from([np.uint8, np.uint16]).flatmap(
    lambda kind: arrays.arrays(kind, st.tuples(st.integers(1, 6), st.integers(1, 6), st.just(4)))
)


@given(pictures)
def test_what_was_split_composes_again(picture: np.ndarray) -> None:
    parts = split(picture)
    assert all((one[..., 3] == np.iinfo(picture.dtype).max).all() for one in parts.values())
    assert np.array_equal(compose({letter: Part(one) for letter, one in parts.items()}), picture)


@given(pictures, st.sampled_from(LETTERS))
def test_inverting_twice_changes_nothing_and_others_stay(picture: np.ndarray, letter: str) -> None:
    once = compose({letter: Part(picture, letter, inverted=True)}, picture)
    others = [LETTERS.index(other) for other in LETTERS if other != letter]
    assert np.array_equal(once[..., others], picture[..., others])
    assert np.array_equal(compose({letter: Part(once, letter, inverted=True)}, once), picture)


def test_what_cannot_be_composed_is_refused() -> None:
    small, large = np.zeros((2, 2, 4), np.uint8), np.zeros((4, 4, 4), np.uint8)
    with pytest.raises(FormatError, match="different dimensions"):
        compose({"r": Part(small), "g": Part(large)})
    with pytest.raises(FormatError, match="'x'"):
        compose({"x": Part(small)})
    with pytest.raises(FormatError):
        compose({})
    alone = compose({"g": Part(np.full((1, 1, 4), 7, np.uint8))})
    assert alone[0, 0].tolist() == [0, 7, 0, 255]
