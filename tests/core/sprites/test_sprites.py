"""Registration of frames against known shifts (scikit-image's own beside it), moving files read by Pillow."""

from __future__ import annotations

import io
import json
from pathlib import Path

import numpy as np
import pytest
import skimage.data
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image
from scipy import ndimage
from skimage.registration import phase_cross_correlation

from brae.core.errors import FormatError
from brae.core.sprites.drift import drift, follow, shift
from brae.core.sprites.frames import Frame, grid, listed, same_size
from brae.core.sprites.gridding import proposed
from brae.core.sprites.moving import gif_times, written
from brae.demo import strollers

SIDE = 64
SHIFTS = [(0, 0), (1, 0), (-2, 3), (0.4, -0.7), (2.3, 1.6), (-0.5, -0.5)]


def _figure(turn: float = 0.0) -> np.ndarray:
    """A cut-out of the horse that scikit-image ships, with the texture of its gravel."""
    horse = ~skimage.data.horse()[20:308, 40:328]
    small = np.asarray(Image.fromarray((horse * 255).astype(np.uint8)).resize((40, 40), Image.Resampling.BOX))
    alpha = np.zeros((SIDE, SIDE))
    alpha[12:52, 12:52] = small
    alpha = np.clip(ndimage.rotate(alpha, turn, reshape=False, order=1), 0, 255)
    grain = skimage.data.gravel()[:SIDE, :SIDE]
    return np.dstack([grain, grain // 2, grain // 3, alpha.astype(np.uint8)]).astype(np.uint8)


def _moved(picture: np.ndarray, dx: float, dy: float) -> np.ndarray:
    layers = [ndimage.shift(picture[..., k].astype(float), (dy, dx), order=3) for k in range(4)]
    return np.clip(np.round(np.dstack(layers)), 0, 255).astype(np.uint8)


@pytest.mark.parametrize(("dx", "dy"), SHIFTS)
def test_known_shifts_to_a_tenth_of_a_pixel(dx: float, dy: float) -> None:
    figure = _figure()
    found = shift(figure, _moved(figure, dx, dy))
    assert (found.dx, found.dy) == (pytest.approx(dx, abs=0.1), pytest.approx(dy, abs=0.1))
    assert found.sure > 0.85
    # the reference library, on alpha alone
    other, _, _ = phase_cross_correlation(
        _moved(figure, dx, dy)[..., 3], figure[..., 3], upsample_factor=50, normalization=None
    )
    assert np.hypot(found.dx - other[1], found.dy - other[0]) < 0.25


def test_frames_that_moved_and_one_that_jumps() -> None:
    originals = [_figure(turn) for turn in np.linspace(-20, 20, 12)]
    edits = [_moved(one, 0.3, 0) for one in originals]
    edits[5] = _moved(originals[5], 2.3, 0)
    found = drift(originals, edits)
    assert [one.frame for one in found if one.jumps] == [5]
    assert found[5].whole.dx == pytest.approx(2.3, abs=0.15)
    assert np.median([one.whole.dx for one in found]) == pytest.approx(0.3, abs=0.1)


def test_what_was_painted_on_and_jumps_by_one_pixel() -> None:
    """The figure moves by itself; a hat painted on it goes along, but for one frame of twelve."""
    originals = [_moved(_figure(), 3 * np.sin(number / 2), number / 4) for number in range(12)]
    edits = []
    for number, one in enumerate(originals):
        hat = np.zeros((SIDE, SIDE, 4), np.uint8)
        hat[8:15, 20:36] = (200, 30, 40, 255)
        hat[4:8, 24:32] = (240, 220, 60, 255)
        hat = _moved(hat, 3 * np.sin(number / 2) + (1 if number == 7 else 0), number / 4)
        over = hat[..., 3:] / 255
        edits.append(np.round(one * (1 - over) + hat * over).astype(np.uint8))
    found = drift(originals, edits)
    assert [one.frame for one in found if one.jumps] == [7]
    assert found[7].painted is not None
    assert abs(found[7].painted.dx) == pytest.approx(1, abs=0.35)


def _hatted(wrong: int, by: tuple[int, int]) -> tuple[list[np.ndarray], list[np.ndarray]]:
    """A figure that walks, painted all over, with a hat that sits elsewhere in one frame."""
    originals, edits = [], []
    for number in range(12):
        x, y = round(3 * np.sin(number / 2)), number // 4
        one = np.roll(_figure(), (y, x), axis=(0, 1))
        originals.append(one)
        edit = one[..., [2, 0, 1, 3]].copy()
        edit[..., :3] = np.where(edit[..., 3:] > 0, 255 - edit[..., :3] // 2, 0)
        right, down = by if number == wrong else (0, 0)
        edit[8 + y + down : 15 + y + down, 20 + x + right : 36 + x + right] = (200, 30, 40, 255)
        edit[4 + y + down : 8 + y + down, 24 + x + right : 32 + x + right] = (240, 220, 60, 255)
        edits.append(edit)
    return originals, edits


@pytest.mark.parametrize("by", [(1, 0), (0, -1), (2, 2)])
def test_an_area_is_followed_through_all_frames(by: tuple[int, int]) -> None:
    originals, edits = _hatted(7, by)
    found = follow(originals, edits, 0, (18, 3, 20, 13))
    assert [one.frame for one in found] == list(range(12))
    assert [one.frame for one in found if one.jumps] == [7]
    assert found[7].off == (pytest.approx(by[0], abs=0.1), pytest.approx(by[1], abs=0.1))
    assert all(np.hypot(*one.off) < 0.1 for one in found if one.frame != 7)
    assert (found[7].x, found[7].y) == (18 + round(3 * np.sin(3.5)) + by[0], 3 + 1 + by[1])


def test_what_was_painted_on_some_frames_is_not_looked_for_on_others() -> None:
    """A rectangle around a hat, of which a third of the frames has none, has more than the hat in it."""
    originals = [np.roll(_figure(), number // 3, axis=0) for number in range(12)]
    edits = [one.copy() for one in originals]
    for number in range(8):
        y = number // 3 + (number == 5)
        edits[number][14 + y : 17 + y, 22:38] = (240, 240, 240, 255)
    found = follow(originals, edits, 0, (18, 8, 26, 20))
    assert [one.frame for one in found] == list(range(8))
    assert [one.frame for one in found if one.jumps] == [5]
    assert found[5].off == (pytest.approx(0, abs=0.1), pytest.approx(1, abs=0.1))


def test_an_area_that_is_nowhere_or_empty() -> None:
    originals, edits = _hatted(7, (1, 0))
    edits[3][...] = 0
    assert [one.frame for one in follow(originals, edits, 0, (18, 3, 20, 13))] == [*range(3), *range(4, 12)]
    for box in ((60, 60, 9, 9), (-1, 0, 4, 4), (0, 0, 0, 4)):
        with pytest.raises(ValueError, match="outside"):
            follow(originals, edits, 0, box)
    with pytest.raises(ValueError, match="nothing"):
        follow(originals, edits, 0, (0, 0, 3, 3))


def test_an_unchanged_animation_does_not_drift() -> None:
    originals = [_figure(turn) for turn in (0, 10, 20)]
    found = drift(originals, originals)
    assert all((one.whole.dx, one.whole.dy, one.painted, one.jumps) == (0, 0, None, False) for one in found)
    empty = np.zeros((8, 8, 4), np.uint8)
    assert drift([empty], [empty])[0].whole.sure == 0
    assert drift([], []) == []


@given(st.integers(1, 9), st.integers(1, 9), st.integers(1, 4), st.integers(1, 4))
def test_a_grid_is_read_row_by_row(width: int, height: int, columns: int, rows: int) -> None:
    sheet = np.full((rows * height, columns * width, 4), 255, np.uint8)
    frames = grid(sheet, f"{width}x{height}")
    assert len(frames) == rows * columns
    assert [(one.y, one.x) for one in frames] == sorted((one.y, one.x) for one in frames)
    assert all(one.of(sheet).shape == (height, width, 4) for one in frames)


def test_what_is_no_grid_or_list_is_refused(tmp_path: Path) -> None:
    sheet = np.zeros((8, 8, 4), np.uint8)
    for cell in ("3x3", "0x4", "x", "4", "99999x1"):
        with pytest.raises(FormatError):
            grid(sheet, cell)
    assert len(grid(sheet, "4x4")) == 1, "what is clear at the end is no frame"
    file = tmp_path / "frames.json"
    for text in ("", "[]", '{"frames": []}', '{"frames": [{"x": 0, "y": 0, "width": 9, "height": 1}]}', '{"a": 1}'):
        file.write_text(text)
        with pytest.raises(FormatError):
            listed(file, sheet)
    file.write_text(json.dumps({"frames": [{"x": 1, "y": 2, "width": 3, "height": 4, "ms": 40}]}))
    assert listed(file, sheet) == [Frame(1, 2, 3, 4, 40)]


@given(st.lists(st.integers(1, 500), min_size=1, max_size=30))
def test_times_of_a_gif_keep_the_whole(times: list[int]) -> None:
    """GIF89a counts hundredths: the whole is off by one at most, unless frames are shorter than two."""
    found = gif_times(times)
    assert all(one % 10 == 0 and one >= 20 for one in found)
    if min(times) >= 20:
        assert abs(sum(found) - sum(times)) <= 10


@pytest.mark.parametrize("ending", [".gif", ".apng"])
def test_a_sequence_as_one_file(ending: str) -> None:
    sheet = np.concatenate([_figure(turn) for turn in (0, 30, 60)], axis=1)
    sheet[..., 3] = np.where(sheet[..., 3] > 127, 255, 0)
    frames = grid(sheet, f"{SIDE}x{SIDE}")
    data = written(same_size(frames, sheet), [40, 70, 110], ending)
    image = Image.open(io.BytesIO(data))
    assert (image.n_frames, image.size, image.info["loop"]) == (3, (SIDE, SIDE), 0)
    for number, frame in enumerate(frames):
        image.seek(number)
        shown = np.asarray(image.convert("RGBA"))
        assert (shown[..., 3] == frame.of(sheet)[..., 3]).all()
        assert image.info["duration"] == (40, 70, 110)[number]
        if ending == ".apng":
            assert (shown == frame.of(sheet)).all()


@pytest.mark.parametrize("way", strollers.DIRECTIONS)
@pytest.mark.parametrize("name", ["POSTWOM.STR", "BYSTAND.STR"])
def test_other_colours_on_a_figure_that_nods_are_no_drift(name: str, way: str) -> None:
    """A scarf moves with the head, which moves against the feet."""
    palette, _ = strollers.colours()
    blue = palette.copy()
    blue[16:24] = blue[16:24][:, ::-1]
    frames = [strollers.FIGURES[name](frame, way) for frame in range(strollers.FRAMES)]

    def shown(colours: np.ndarray) -> list[np.ndarray]:
        alphas = [np.where(one == 0, 0, 255).astype(np.uint8) for one in frames]
        return [np.dstack([colours[one], alpha]) for one, alpha in zip(frames, alphas, strict=True)]

    told = drift(shown(palette), shown(blue))
    assert any(one.painted is not None for one in told)
    assert not [one.frame for one in told if one.jumps]


@pytest.mark.parametrize(("columns", "count"), [(4, 8), (8, 32), (2, 7), (5, 25)])
@pytest.mark.parametrize("ground", [None, (248, 0, 248)])
@pytest.mark.parametrize("name", sorted(strollers.FIGURES))
def test_the_grid_of_a_sheet_is_among_the_first_proposals(
    name: str, columns: int, count: int, ground: tuple[int, int, int] | None
) -> None:
    palette, _ = strollers.colours()
    frames = [strollers.FIGURES[name](n % 8, strollers.DIRECTIONS[n // 8 % 4]) for n in range(count)]
    rows = -(-count // columns)
    sheet = np.zeros((rows * 48, columns * 40), np.uint8)
    for number, frame in enumerate(frames):
        y, x = number // columns * 48, number % columns * 40
        sheet[y : y + 48, x : x + 40] = frame
    picture = np.dstack([palette[sheet], np.where(sheet == 0, 0, 255).astype(np.uint8)])
    if ground is not None:
        picture[sheet == 0] = (*ground, 255)
    told = proposed(np.ascontiguousarray(picture))
    assert "40x48" in [one.words for one in told[:3]]
    assert told[0].fit <= 1


def test_photographs_have_no_likely_grid() -> None:
    for name in ("astronaut", "coffee", "chelsea", "rocket"):
        picture = getattr(skimage.data, name)()
        alpha = np.full((*picture.shape[:2], 1), 255, np.uint8)
        assert all(one.fit < 0.6 for one in proposed(np.concatenate([picture, alpha], axis=2)))
    assert proposed(np.zeros((4, 4, 4), np.uint8)) == []
