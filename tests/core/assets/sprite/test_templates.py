"""One sprite's frames laid over another's; the sprites are put together by hand."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from brae.core.assets.sprite.described import SpriteFile
from brae.core.assets.sprite.sprite import Frame, Run, Sprite, Step
from brae.core.assets.sprite.templates import laid
from tests.core.assets.sprite.test_sprite import opened


def _frame(shade: int, width: int, height: int, x: int, y: int) -> Frame:
    picture = np.full((height, width, 4), shade, np.uint8)
    picture[..., 3] = 255
    return Frame(picture, x, y)


def _of(like: SpriteFile, frames: list[Frame], *runs: tuple[str, list[int]]) -> SpriteFile:
    """A sprite with these frames and sequences, as if its file had them."""
    sequences = tuple(Run(name, tuple(Step(number, 100) for number in steps)) for name, steps in runs)
    return replace(like, sprite=Sprite(tuple(frames), sequences))


@pytest.fixture(scope="module")
def pair() -> tuple[SpriteFile, SpriteFile]:
    like = opened("puff")
    original = _of(
        like, [_frame(10 + n, 4, 6, -2, -6) for n in range(4)], ("walk", [0, 1]), ("stand", [2]), ("rare", [3])
    )
    template = _of(
        like, [_frame(100 + n, 4 + 4 * (n == 2), 6, -2 - 2 * (n == 2), -6) for n in range(3)],
        ("Stand", [0]), ("walk", [2, 1]),
    )  # fmt: skip
    return original, template


def test_by_numbers(pair: tuple[SpriteFile, SpriteFile]) -> None:
    original, template = pair
    found = laid(original, template)
    assert [int(cell.max(axis=(0, 1))[0]) for cell in found.cells] == [100, 101, 102, 13]
    assert found.missing == (3,)
    assert found.cut == (2,), "the wider frame does not fit"
    assert np.array_equal(found.cells[3], original.cells[3])


def test_by_the_names_of_sequences(pair: tuple[SpriteFile, SpriteFile]) -> None:
    original, template = pair
    found = laid(original, template, "name")
    assert [int(cell.max(axis=(0, 1))[0]) for cell in found.cells] == [102, 101, 100, 13]
    assert found.missing == (3,)


def test_anchors_lie_on_each_other(pair: tuple[SpriteFile, SpriteFile]) -> None:
    original, _ = pair
    moved = _of(original, [_frame(200, 2, 2, 0, -6)], ("walk", [0]))
    cell = laid(original, moved).cells[0]
    seen = np.argwhere(cell[..., 0] == 200)
    assert seen.min(axis=0).tolist() == [0, 2]
    assert seen.max(axis=0).tolist() == [1, 3]
