"""Roughness that follows the normal map: in closed form on slopes of known spread."""

from __future__ import annotations

import numpy as np
import pytest

from brae.core.assets.base import ExchangeFile, Version
from brae.core.assets.texture import dds, formats, mips
from brae.core.assets.texture.encode import encode_new
from brae.core.assets.texture.files import write_image
from brae.core.assets.texture.kind import KIND
from brae.core.assets.texture.roughen import Roughening, roughened, roughened_levels, scatter
from brae.core.errors import FormatError, UnknownFormatError


def bumps(spread: float, side: int = 256) -> np.ndarray:
    """Directions whose slopes vary by ``spread`` about nothing, each pixel by itself (16 bits)."""
    rng = np.random.default_rng(9)
    x, y = rng.normal(0, spread, (2, side, side))
    directions = np.dstack([-x, -y, np.ones_like(x)])
    directions /= np.linalg.norm(directions, axis=2, keepdims=True)
    packed = np.rint((directions + 1) * 32767.5)
    return np.dstack([packed, np.full((side, side), 65535)]).astype(np.uint16)


@pytest.mark.parametrize("spread", [0.05, 0.1, 0.2])
def test_what_is_scattered_is_the_spread_of_the_slopes(spread: float) -> None:
    """Beckmann (1963): alpha squared is twice the variance of a slope; small slopes, so the lobes agree."""
    grown = scatter(bumps(spread), 1, 1)
    assert grown[0, 0] == pytest.approx(2 * spread**2, rel=0.12)


def test_a_flat_surface_stays_as_smooth_as_it_was() -> None:
    level = np.full((8, 8, 4), 60, np.uint8)
    flat = np.full((16, 16, 4), 128, np.uint8)
    flat[..., 2] = 255
    assert np.abs(roughened(level, flat, Roughening(channel="g")).astype(int) - level).max() <= 1


def test_roughness_grows_and_smoothness_shrinks_alike() -> None:
    normals = bumps(0.2, 64)
    level = np.full((8, 8, 4), 51, np.uint8)
    rough = roughened(level, normals, Roughening(channel="g"))
    assert (rough[..., 1] > 100).all()
    assert (rough[..., [0, 2, 3]] == 51).all(), "other channels are left alone"
    smooth = roughened(255 - level, normals, Roughening(channel="g", holds="smoothness"))
    assert np.abs(smooth[..., 1].astype(int) - (255 - rough[..., 1])).max() <= 1


def test_levels_follow_the_picture_as_it_is_and_levels_by_hand_stay() -> None:
    packed = np.random.default_rng(2).integers(40, 90, (32, 32, 4), dtype=np.uint8)
    packed[..., 3] = 255
    original = dds.read(encode_new(packed, formats.RGBA8, None, rule=mips.MipRule("data")))
    recipe = KIND.recipe(original).model_copy(update={"content": "data"}).model_dump()
    normals = ExchangeFile("hull_n.png", write_image(formats.as_precision(bumps(0.3, 32), "8")))
    own = ExchangeFile("far.png", write_image(np.full((8, 8, 4), 200, np.uint8)))
    for painted in (packed, packed // 2):
        painted = np.dstack([painted[..., :3], packed[..., 3]])
        file = ExchangeFile("hull.png", write_image(painted))
        _, made = KIND.match(original, Version(file, beside={"r:roughness": normals, "2": own}), recipe)
        again = original.again(made.data)
        plain = mips.make_levels(painted, 6, mips.MipRule("data", recipe["filter"]))
        assert np.array_equal(again.picture(), painted)
        assert (again.picture(1)[..., 0] > plain[1][..., 0]).all()
        assert np.array_equal(again.picture(1)[..., 1:], plain[1][..., 1:])
        assert (again.picture(2) == 200).all()


def test_two_channel_normal_maps_get_their_third() -> None:
    whole = formats.as_precision(bumps(0.2, 64), "8")
    two = whole.copy()
    two[..., 2] = 0
    flat = np.full((64, 64, 4), 80, np.uint8)
    rule, meant = mips.MipRule("data"), Roughening("r")
    levels = [roughened_levels(flat, 5, rule, {meant: one})[3].astype(int) for one in (whole, two)]
    assert np.abs(levels[0] - levels[1]).max() <= 3
    assert roughened_levels(flat, 5, rule, {}) == {}


def test_what_cannot_follow_is_refused_in_words() -> None:
    flat = np.full((8, 8, 4), 90, np.uint8)
    single, chain = (dds.read(encode_new(flat, formats.RGBA8, count)) for count in (1, None))
    given = ExchangeFile("n.png", write_image(flat))
    with pytest.raises(FormatError, match="no mip levels"):
        KIND.check_beside(single, None, "r:roughness", given)
    with pytest.raises(FormatError, match="no part"):
        KIND.check_beside(chain, None, "r:gloss", given)
    with pytest.raises(UnknownFormatError, match=r"n\.png"):
        KIND.check_beside(chain, None, "r:roughness", ExchangeFile("n.png", b"no picture"))
    assert KIND.check_beside(chain, None, "g:smoothness", given) == "smoothness in G follows"
